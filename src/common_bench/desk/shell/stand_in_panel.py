"""Hands for stand-in kits: hang a mass, let the bottle go, pull a cable. Shown only while a stand-in class runs."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QComboBox, QFrame

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import button, choice, hbox, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.words import Stage
from common_bench.model.bench import StandInNotice
from common_bench.standins.control import order
from common_bench.standins.world import MAIN, World, world_of, worlds

FAULTS = (
    ("a fault…", ""), ("pull the cable", "unplug"), ("plug it in again", "plug"), ("fall silent", "silent"),
    ("speak again", "talk"), ("press reset", "restart"), ("noise on the line", "noise"), ("clean line", "no noise"),
    ("a line of a megabyte", "long line"), ("bytes that are no text", "no text"),
)  # fmt: skip


class StandInPanel(QFrame):
    """What a person would do with real kits, done to stand-ins."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("wash")
        self._hub = hub
        self.who = choice(["all benches", "this bench"])
        self.what = choice()
        self.hang = button("Hang (H)", self.hang_it)
        self.fault = choice([words for words, _ in FAULTS])
        self.fault.activated.connect(self._make_fault)
        both = hbox(self.hang, self.who, spacing=4)
        both.setStretch(1, 1)
        column = vbox(label("STAND-IN KITS", "heading"), self.what, both, self.fault, spacing=4)
        column.setContentsMargins(px(10), px(8), px(10), px(8))
        self.setLayout(column)
        for box in (self.who, self.what, self.fault):
            box.setMinimumWidth(px(60))
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._looked = 0
        self._world: World = world_of(MAIN)
        self._notices: list[StandInNotice] = []
        hub.staged.connect(self._offer_for)

    def _offer_for(self, stage: Stage) -> None:
        """What is recorded is not what one calibrates with."""
        sensor = self._hub.lesson.store.sensor()
        known = [point.label for point in sensor.points] if sensor else []
        more = [words for words, _ in self._world.hands if words not in known]
        if stage == "record" and more and self.what.currentText() in known:
            self.choose(more[0])

    def refresh(self) -> None:
        self._looked -= 1
        if self._looked <= 0:
            self._notices = self._hub.stand_ins()
            self._looked = 10
        self.setVisible(bool(self._notices))
        sensor = self._hub.lesson.store.sensor()
        wanted = [point.label for point in sensor.points] if sensor else ["nothing", "100 g", "200 g"]
        running = [notice.world for notice in self._notices if notice.world in worlds()]
        self._world = world_of(running[0] if running else MAIN)
        self.hang.setText(f"{self._world.hang} (H)")
        wanted += [words for words, _ in self._world.hands if words not in wanted]
        if [self.what.itemText(at) for at in range(self.what.count())] != wanted:
            chosen = self.what.currentText()
            self.what.clear()
            self.what.addItems(wanted)
            self.choose(chosen)

    @property
    def is_there(self) -> bool:
        """Whether stand-in kits run."""
        return bool(self._notices)

    @property
    def what_h_does(self) -> str:
        return f"{self._world.hang.lower()} it on the stand-in kits"

    def choose(self, what: str) -> None:
        """Offers what the stage needs next."""
        at = self.what.findText(what)
        if at >= 0:
            self.what.setCurrentIndex(at)

    def hang_it(self) -> None:
        text = self.what.currentText()
        what = dict(self._world.hands).get(text, text)
        if self._order(hang=what):
            where = (
                "every bench" if self.who.currentIndex() == 0 else self._hub.lesson.store.group(self._hub.group).alias
            )
            self._hub.tell(f"Now on {where}: {text}.", "good")

    def _make_fault(self, at: int) -> None:
        name = FAULTS[at][1]
        if name:
            self._order(fault=name)
        self.fault.setCurrentIndex(0)

    def _order(self, **asked: str) -> bool:
        kits: str | list[str] = "all"
        if self.who.currentIndex() == 1 or "fault" in asked:
            kit = self._hub.lesson.store.kit_of(self._hub.group)
            identity = self._hub.lesson.store.kits[kit].identity if kit is not None else ""
            kits = [identity.removeprefix("stand-in-")]
        worked = [self._hub.try_to(partial(order, each.control, kits=kits, **asked)) for each in self._notices]
        return all(worked)
