"""The window while no lesson is open: the path without a state, the shelf, the place for messages."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QKeySequence, QShortcut, QShowEvent
from PyQt6.QtWidgets import QApplication, QFrame, QHBoxLayout, QMainWindow, QVBoxLayout, QWidget

from common_bench.desk.look import sheet
from common_bench.desk.look.labels import label
from common_bench.desk.look.messages import HEIGHT, MessagePlace
from common_bench.desk.look.palette import PAPER, PROJECTOR
from common_bench.desk.look.pieces import vbox
from common_bench.desk.look.sheet import px, wear
from common_bench.desk.shelf.shelf import Shelf
from common_bench.desk.shell.benches import Benches
from common_bench.desk.shell.faults import FaultPanel, Faults
from common_bench.desk.shell.keys import Keyboard
from common_bench.desk.shell.stage import Keys
from common_bench.desk.shell.sweeper import Sweeper
from common_bench.lesson.words import STAGES

if TYPE_CHECKING:
    from common_bench.desk.shell.house import House

LOOK = 1000  # ms between looks for kits and changed books


class ShelfWindow(QMainWindow):
    """Shows the shelf; closing it ends the program."""

    def __init__(self, house: House, faults: Faults | None = None) -> None:
        """faults: what nobody caught, which is shown here."""
        super().__init__()
        self._house = house
        self.fault_panel = FaultPanel(faults.show_once() if faults is not None else "")
        if faults is not None:
            faults.found.connect(self.fault_panel.show_fault)
        self.setWindowTitle("Common Bench")
        self.resize(1280, 800)
        self.setMinimumSize(1024, 640)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.messages = MessagePlace(self.setFocus)
        self._build()
        self._looks = QTimer(self)
        self._looks.timeout.connect(lambda: self.shelf.look())
        self._looks.start(LOOK)
        self._keyboard = Keyboard(self, self.keys, self.escape)
        self._sweeper = Sweeper(self)
        for key, act in (("F9", self.change_theme), ("F11", self._full_screen)):
            QShortcut(QKeySequence(key), self).activated.connect(act)

    def _build(self) -> None:
        central = QWidget()
        central.setObjectName("paper")
        self.shelf = Shelf(self._house, self.messages, px(Benches.WIDTH))
        self.messages.setFixedHeight(px(HEIGHT))
        self.messages.say_quietly("Choose a class and a plan, and begin. Arrow keys choose a plan, Enter begins.")
        column = QVBoxLayout(central)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._path())
        column.addWidget(self.shelf, 1)
        column.addWidget(self.fault_panel)
        column.addWidget(self.messages)
        self.setCentralWidget(central)
        self.shelf.refresh()

    def _path(self) -> QFrame:
        path = QFrame()
        path.setObjectName("path")
        path.setFixedHeight(px(60))
        row = QHBoxLayout(path)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        head = QFrame()
        head.setFixedWidth(px(Benches.WIDTH))
        words = vbox(label("Common Bench", "title"), label("no lesson open", "small"), spacing=2)
        words.setContentsMargins(px(15), px(8), px(6), px(8))
        head.setLayout(words)
        row.addWidget(head)
        for number, (_, name) in enumerate(STAGES, 1):
            step = QFrame()
            step.setObjectName("step")
            step.setEnabled(False)
            inside = vbox(label(f"{number} {name}", "soft"), None, spacing=2)
            inside.setContentsMargins(px(12), px(9), px(8), px(7))
            step.setLayout(inside)
            row.addWidget(step, 1)
        return path

    def keys(self) -> Keys:
        return self.shelf.keys()

    def escape(self) -> bool:
        if self.messages.asks:
            self.messages.question.leave()
            return True
        if self.fault_panel.isVisible():
            self.fault_panel.hide()
            return True
        return self.shelf.escape()

    def change_theme(self) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        shown = self.fault_panel.isVisible()
        self.messages.setParent(self)
        self.fault_panel.setParent(self)
        wear(app, PROJECTOR if sheet.palette() is PAPER else PAPER)
        self._build()
        self.fault_panel.setVisible(shown)
        self.setFocus()

    def _full_screen(self) -> None:
        self.showNormal() if self.isFullScreen() else self.showFullScreen()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.setFocus()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        assert event is not None
        self._looks.stop()
        self._sweeper.stop()
        if self._house.window is self:
            self._house.close()
        event.accept()
