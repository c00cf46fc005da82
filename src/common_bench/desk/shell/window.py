"""The window: path, benches, stage and tape, with one clock that asks the core what to draw."""

from __future__ import annotations

import time

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QApplication,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QPlainTextEdit,
    QSpinBox,
    QStackedWidget,
    QTableWidget,
    QVBoxLayout,
    QWidget,
)

from common_bench.desk.calibrate.stage import CalibrateStage
from common_bench.desk.look import sheet
from common_bench.desk.look.palette import PAPER, PROJECTOR
from common_bench.desk.look.pieces import Card, rich, vbox
from common_bench.desk.look.sheet import px, wear
from common_bench.desk.plan.stage import PlanStage
from common_bench.desk.plug.stage import PlugStage
from common_bench.desk.pool.stage import PoolStage
from common_bench.desk.record.stage import RecordStage
from common_bench.desk.shell.benches import Benches
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.path import Path
from common_bench.desk.shell.stage import StageView
from common_bench.desk.shell.tape import Tape
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson.words import STAGES

FRAME = 33  # ms
BREATH = 200  # ms
LOOK = 1000  # ms between looks for new kits
AFTER_A_CABLE = 15.0  # s in which a restart belongs to a cable that came back
TYPING = (QLineEdit, QPlainTextEdit, QSpinBox, QComboBox)


class Bench(QMainWindow):
    """Watches and commands; computes nothing. Closing it ends runs and keeps everything."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.hub = hub
        self._back: dict[int | None, float] = {}
        self.setWindowTitle(f"{hub.lesson.plan.name} · Common Bench")
        self.resize(1280, 800)
        self.setMinimumSize(1024, 640)
        self._build()
        hub.selected.connect(lambda _: self.refresh())
        hub.staged.connect(lambda _: self._show_stage())
        hub.book_changed.connect(self.refresh)
        hub.told.connect(self._tell)
        self._frames, self._breaths, self._looks = (QTimer(self) for _ in range(3))
        self._frames.timeout.connect(self._draw)
        self._breaths.timeout.connect(self.breathe)
        self._looks.timeout.connect(lambda: hub.try_to(hub.look_for_kits))
        self._frames.start(FRAME)
        self._breaths.start(BREATH)
        self._looks.start(LOOK)
        self._shortcuts()
        self.refresh()
        for sentence in hub.lesson.told:
            self._tell(sentence, "amber")

    def _build(self) -> None:
        central = QWidget()
        central.setObjectName("paper")
        self.path = Path(self.hub, px(Benches.WIDTH))
        self.benches = Benches(self.hub)
        self.tape = Tape(self.hub)
        self.stages: dict[str, StageView] = {
            "plan": PlanStage(self.hub),
            "plug": PlugStage(self.hub),
            "calibrate": CalibrateStage(self.hub, self.benches.stand_ins.choose),
            "record": RecordStage(self.hub),
            "work": WorkStage(self.hub),
            "pool": PoolStage(self.hub),
        }
        self.stack = QStackedWidget()
        for stage in self.stages.values():
            self.stack.addWidget(stage)
        self.help = Card("Keys")
        self.help_words = rich()
        self.help.add(self.help_words)
        self.help.hide()
        middle = QHBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addWidget(self.benches)
        right = vbox(self.stack, self.help, spacing=0)
        right.setStretch(0, 1)
        middle.addLayout(right, 1)
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.path)
        column.addLayout(middle, 1)
        column.addWidget(self.tape)
        self.setCentralWidget(central)
        self.stack.setCurrentWidget(self.stages[self.hub.stage])

    @property
    def stage(self) -> StageView:
        return self.stages[self.hub.stage]

    # keys

    def _shortcuts(self) -> None:
        undo, redo = self.hub.undo_stack.undo, self.hub.undo_stack.redo
        for key, act in (
            ("Ctrl+Z", lambda: self._step(undo, "Undone")),
            ("Ctrl+Shift+Z", lambda: self._step(redo, "Done again")),
            ("Ctrl+Y", lambda: self._step(redo, "Done again")),
            ("F11", self._full_screen),
            ("F9", self.change_theme),
            ("F1", self.toggle_help),
        ):
            shortcut = QShortcut(QKeySequence(key), self)
            shortcut.activated.connect(act)

    def _step(self, act: object, words: str) -> None:
        stack = self.hub.undo_stack
        name = stack.undoText() if words == "Undone" else stack.redoText()
        if name and self.hub.try_to(act):
            self._tell(f"{words}: {name}.", "good")

    def general_keys(self) -> dict[str, tuple[str, object]]:
        keys = {
            str(n): (f"stage {n}, {name}", lambda s=stage: self.hub.go(s)) for n, (stage, name) in enumerate(STAGES, 1)
        }
        keys["Down"] = ("next bench", lambda: self.hub.step(1))
        keys["Up"] = ("previous bench", lambda: self.hub.step(-1))
        keys["T"] = ("open or close the tape", self.tape.toggle)
        for command in self.hub.lesson.plan.commands:
            if command.key:
                keys[command.key] = (command.name, lambda c=command: self.hub.command(c))
        keys["H"] = ("hang it on the stand-in kits", self.benches.stand_ins.hang_it)
        return keys

    def keyPressEvent(self, event: QKeyEvent) -> None:
        focus = QApplication.focusWidget()
        if isinstance(focus, TYPING) or event.modifiers() & (
            Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier
        ):
            super().keyPressEvent(event)
            return
        name = QKeySequence(event.key()).toString()
        if isinstance(focus, QTableWidget) and name in ("Up", "Down"):
            super().keyPressEvent(event)
            return
        keys = {**self.general_keys(), **self.stage.keys()}
        if name in keys:
            keys[name][1]()
        else:
            super().keyPressEvent(event)

    def toggle_help(self) -> None:
        keys = {**self.stage.keys(), **self.general_keys()}
        listed = [f"<b>{key}</b>&nbsp;{words}" for key, (words, _) in keys.items()]
        listed += [
            "<b>Ctrl+Z</b>&nbsp;undo",
            "<b>Ctrl+Y</b>&nbsp;do again",
            "<b>F9</b>&nbsp;projector theme",
            "<b>F11</b>&nbsp;full screen",
            "<b>F1</b>&nbsp;these keys",
        ]
        self.help_words.setText(" &nbsp;·&nbsp; ".join(listed))
        self.help.setVisible(not self.help.isVisible())

    def _full_screen(self) -> None:
        self.showNormal() if self.isFullScreen() else self.showFullScreen()

    def change_theme(self) -> None:
        """Paper for a screen, dark with larger type for a projector."""
        wear(QApplication.instance(), PROJECTOR if sheet.palette() is PAPER else PAPER)
        self._build()
        self.refresh()

    # showing

    def _tell(self, words: str, tone: str) -> None:
        self.stage.notice.tell(words, tone=tone)

    def _show_stage(self) -> None:
        self.stage.refresh()
        self.stack.setCurrentWidget(self.stage)
        self.setFocus()
        self.breathe()

    def refresh(self) -> None:
        self.benches.rebuild()
        self.path.refresh()
        self.tape.refresh()
        self.stage.refresh()

    def breathe(self) -> None:
        happened = self.hub.lesson.happenings()
        for each in happened:
            group = self.hub.lesson.group_at(each.kit)
            alias = self.hub.lesson.group(group).alias if group else "A kit"
            if each.what == "lost":
                self._tell(
                    f"{alias}: {each.words} Plug it in again; it connects by itself, and what is missing is kept as a gap.",
                    "red",
                )
            elif each.what == "back":
                self._back[each.kit] = time.monotonic()
                self._tell(f"{alias} is connected again; what is missing is kept as a gap.", "good")
            elif each.what == "restarted":
                self._tell(self._words_of_restart(each.kit, alias), "amber")
        if any(each.what.startswith(("run-", "format")) for each in happened):
            self.stage.refresh()
        self.path.refresh()
        self.benches.refresh()
        self.tape.refresh()
        self.stage.breathe()

    def _words_of_restart(self, kit: int | None, alias: str) -> str:
        """A kit that lost its power with its cable starts anew: the one notice then says both."""
        if time.monotonic() - self._back.pop(kit, -AFTER_A_CABLE) < AFTER_A_CABLE:
            return f"{alias} is connected again; what is missing is kept as a gap. It has restarted; its clock begins a new stretch."
        return f"{alias} has restarted; its clock begins a new stretch."

    def _draw(self) -> None:
        self.stage.draw()

    def closeEvent(self, event: QCloseEvent) -> None:
        for timer in (self._frames, self._breaths, self._looks):
            timer.stop()
        self.hub.lesson.close()
        event.accept()
