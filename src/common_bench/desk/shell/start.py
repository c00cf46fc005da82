"""The start: what to do first when there is no book."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMainWindow, QWidget

from common_bench.desk.look.messages import MessagePlace
from common_bench.desk.look.pieces import Card, Field, button, hbox, label, vbox
from common_bench.desk.look.sheet import px
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan_file import shipped_plan
from common_bench.model.trouble import Trouble


class StartWindow(QMainWindow):
    """Makes a book or opens one; says why where it cannot."""

    def __init__(self, opened: Callable[[OpenLesson], QMainWindow]) -> None:
        """opened: makes the window of a lesson."""
        super().__init__()
        self._opened = opened
        self.setWindowTitle("Common Bench")
        self.resize(1280, 800)
        self.messages = MessagePlace(self.setFocus)
        self.class_name = Field()
        self.class_name.setPlaceholderText("class, as 9B")
        self.groups = Field("Basalt, Chalk, Flint, Gneiss, Marble, Slate")
        card = Card("Begin", name=True)
        card.setFixedWidth(px(620))
        card.add(
            label(
                "A bench book holds a class: its lessons, groups, kits, calibrations, runs and findings, in one file.",
                "soft",
                wrap=True,
            )
        )
        card.body.addLayout(hbox(label("Class"), self.class_name))
        card.body.addLayout(hbox(label("Groups"), self.groups))
        card.body.addLayout(
            hbox(
                button("New book with “Swinging bottles”…", self.new_book, role="main"),
                button("Open a book…", self.open_book),
                None,
            )
        )
        card.add(label("To try everything without kits: close this and run  common-bench demo", "small", wrap=True))
        central = QWidget()
        central.setObjectName("paper")
        column = vbox(None, hbox(None, card, None), None, self.messages)
        column.setContentsMargins(px(20), px(20), px(20), px(20))
        central.setLayout(column)
        self.setCentralWidget(central)
        self._desk: QMainWindow | None = None

    def new_book(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self,
            "New bench book",
            str(Path.home() / "class.benchbook"),
            "Bench books (*.benchbook)",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )
        if path:
            self.make_book(Path(path))

    def make_book(self, path: Path) -> None:
        named = path if path.suffix == ".benchbook" else path.with_suffix(".benchbook")
        aliases = list(dict.fromkeys(alias.strip() for alias in self.groups.text().split(",") if alias.strip()))
        class_name = self.class_name.text().strip()
        self._show(lambda: OpenLesson.make(named, shipped_plan("swinging-bottles"), class_name, aliases))

    def open_book(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Open a bench book", str(Path.home()), "Bench books (*.benchbook);;All files (*)"
        )
        if path:
            self.open_path(Path(path))

    def open_path(self, path: Path) -> None:
        self._show(lambda: OpenLesson.open(path))

    def _show(self, make: Callable[[], OpenLesson]) -> None:
        try:
            self._desk = self._opened(make())
        except Trouble as trouble:
            self.messages.tell(trouble.sentence, "red")
            return
        self._desk.setGeometry(self.geometry())
        self._desk.show()
        self.close()
