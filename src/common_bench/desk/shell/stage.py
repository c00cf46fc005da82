"""What all six stages have in common: a head with title, words and actions, and a body."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from common_bench.desk.look.labels import ShortLabel
from common_bench.desk.look.messages import Question
from common_bench.desk.look.pieces import hbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.store import LessonStore

Keys = dict[str, tuple[str, Callable[[], object]]]
"""Key -> (what it does in words, the action)."""


class StageView(QWidget):
    """`refresh` after the book, the selection or the theme changed; `tick` a few times a second while
    visible; `draw` about thirty times a second while visible."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.hub = hub
        self.title = ShortLabel("", "title")
        self.subtitle = ShortLabel("", "soft")
        self.subtitle.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # has what is left
        self.head = hbox(self.title, self.subtitle, spacing=10)
        self.head.setStretch(1, 1)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(px(14), px(12), px(14), px(4))
        self.column.setSpacing(px(11))
        self.column.addLayout(self.head)

    @property
    def lesson(self) -> OpenLesson:
        return self.hub.lesson

    @property
    def store(self) -> LessonStore:
        return self.hub.lesson.store

    @property
    def question(self) -> Question:
        return self.hub.messages.question

    def ask(
        self, words: str, yes: str, then: Callable[[str], object], *, hint: str = "", text: str = "", offers: Sequence[str] = ()
    ) -> None:  # fmt: skip
        """Asks in the place for messages; `then` takes the answer and may raise a Trouble."""
        self.hub.messages.ask(words, yes, then, hint=hint, text=text, offers=offers)

    def refresh(self) -> None: ...

    def tick(self) -> None: ...

    def draw(self) -> None: ...

    def keys(self) -> Keys:
        """What keys do while this stage is shown."""
        return {}

    def chosen(self) -> object:
        """What is chosen in it besides the bench, to be chosen again after it was built anew."""
        return None

    def choose_again(self, what: object) -> None:
        """Takes what `chosen` gave."""

    def escape(self) -> bool:
        """Leaves a panel of the stage, where one is open. Whether one was."""
        return False
