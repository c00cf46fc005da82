"""What all six stages have in common: a head with title, words and actions, a place for sentences, a body."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from common_bench.desk.look.pieces import Notice, Question, hbox, label
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub


class StageView(QWidget):
    """`refresh` after the book, the selection or the theme changed; `breathe` a few times a second while
    visible; `draw` about thirty times a second while visible."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.hub = hub
        self.title = label("", "title")
        self.subtitle = label("", "soft")
        self.head = hbox(self.title, self.subtitle, None, spacing=10)
        self.notice = Notice()
        self.question = Question()
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(px(14), px(12), px(14), px(10))
        self.column.setSpacing(px(11))
        self.column.addLayout(self.head)
        self.column.addWidget(self.notice)
        self.column.addWidget(self.question)

    @property
    def lesson(self) -> object:
        return self.hub.lesson

    def refresh(self) -> None: ...

    def breathe(self) -> None: ...

    def draw(self) -> None: ...

    def keys(self) -> dict[str, tuple[str, object]]:
        """Key -> (words, action) while this stage is shown."""
        return {}
