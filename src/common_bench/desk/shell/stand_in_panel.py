"""Hands for stand-in kits: hang a mass, let the bottle go, pull a cable. Shown only while a stand-in class runs."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QFrame

from common_bench.desk.look.pieces import button, hbox, label, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.standins.control import order
from common_bench.standins.stand_in_class import BATHS

FAULTS = (
    ("a fault…", ""), ("pull the cable", "unplug"), ("plug it in again", "plug"), ("fall silent", "silent"),
    ("speak again", "talk"), ("press reset", "restart"), ("noise on the line", "noise"), ("clean line", "no noise"),
    ("a line of a megabyte", "long line"), ("bytes that are no text", "no text"),
)  # fmt: skip
BOTTLE = "bottle, let go"


class StandInPanel(QFrame):
    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("wash")
        self._hub = hub
        self.who = QComboBox()
        self.who.addItems(["every bench", "this bench"])
        self.what = QComboBox()
        self.hang = button("Hang (H)", self.hang_it)
        self.fault = QComboBox()
        self.fault.addItems([words for words, _ in FAULTS])
        self.fault.activated.connect(self._make_fault)
        column = vbox(
            label("STAND-IN KITS", "heading"),
            self.what,
            hbox(self.hang, self.who, spacing=4),
            self.fault,
            spacing=4,
        )
        column.setContentsMargins(px(10), px(8), px(10), px(8))
        self.setLayout(column)
        self.who.setMinimumContentsLength(11)
        for box in (self.who, self.what, self.fault):
            box.setMinimumWidth(px(60))
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self._looked = 0
        self._notices: list = []

    def refresh(self) -> None:
        self._looked -= 1
        if self._looked <= 0:
            self._notices = self._hub.stand_ins()
            self._looked = 10
        self.setVisible(bool(self._notices))
        sensor = self._hub.lesson.sensor()
        wanted = [point.label for point in sensor.points] if sensor else ["nothing", "100 g", "200 g"]
        baths = any(notice.world == BATHS for notice in self._notices)
        self.hang.setText("Hold in (H)" if baths else "Hang (H)")
        if not baths:
            wanted.append(BOTTLE)
        if [self.what.itemText(at) for at in range(self.what.count())] != wanted:
            self.what.clear()
            self.what.addItems(wanted)

    def choose(self, what: str) -> None:
        """Offers what the stage needs next."""
        at = self.what.findText(what)
        if at >= 0:
            self.what.setCurrentIndex(at)

    def hang_it(self) -> None:
        text = self.what.currentText()
        what = "bottle" if text == BOTTLE else text
        if self._order(hang=what):
            where = "every bench" if self.who.currentIndex() == 0 else self._hub.lesson.group(self._hub.group).alias
            self._hub.tell(f"Now on {where}: {text}.", "good")

    def _make_fault(self, at: int) -> None:
        name = FAULTS[at][1]
        if name:
            self._order(fault=name)
        self.fault.setCurrentIndex(0)

    def _order(self, **asked: str) -> bool:
        kits: object = "all"
        if self.who.currentIndex() == 1 or "fault" in asked:
            kit = self._hub.lesson.kit_of(self._hub.group)
            identity = self._hub.lesson.kits[kit].identity if kit is not None else ""
            kits = [identity.removeprefix("stand-in-")]
        return all(self._hub.try_to(lambda n=notice: order(n.control, kits=kits, **asked)) for notice in self._notices)
