"""What all six stages have in common: a head with title, words and actions, and a body."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QStandardPaths
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtWidgets import QGraphicsView, QMenu, QSizePolicy, QVBoxLayout, QWidget

from common_bench.desk.graphs.on_paper import OnPaper, copy, keep
from common_bench.desk.look.labels import BesideLabel, ShortLabel
from common_bench.desk.look.messages import Question
from common_bench.desk.look.pieces import Card, hbox
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
        self.subtitle = BesideLabel("", "soft")
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
        self, words: str, yes: str, then: Callable[[str], object], *, hint: str = "", text: str = "", offers: Sequence[str] = (),
        left: Callable[[], object] | None = None,
    ) -> None:  # fmt: skip
        """Asks in the place for messages; `then` takes the answer and may raise a Trouble; left: called when it was answered or left."""
        self.hub.messages.ask(words, yes, then, hint=hint, text=text, offers=offers, left=left)

    def refresh(self) -> None: ...

    def tick(self) -> object:
        """Looks at what may have changed; True where more of it is left for the next look."""

    def draw(self) -> None: ...

    def keys(self) -> Keys:
        """What keys do while this stage is shown."""
        return {}

    def chosen(self) -> object:
        """What is chosen in it besides the bench, to be chosen again after it was built anew."""
        return None

    def choose_again(self, what: object) -> None:
        """Takes what `chosen` gave."""

    # graphs on paper

    def on_paper(self) -> tuple[str, str]:
        """Title of a picture of this stage's graphs, and whose it is."""
        return self.store.plan.name, self.hub.alias

    def picture(self, only: QGraphicsView | None = None) -> OnPaper | None:
        """All graphs that are seen, or one of them; None where there is none."""
        seen = [each for each in self.findChildren(QGraphicsView) if each.isVisible() and only in (None, each)]
        if not seen:
            return None
        title, whose = self.on_paper()
        class_name = self.store.class_name
        when = time.strftime("%-d %b %Y, %H:%M")
        under = " · ".join(each for each in (whose, f"class {class_name}" if class_name else "", when) if each)
        return OnPaper(title, under, [(_name_of(each), each) for each in seen])

    def copy_picture(self, only: QGraphicsView | None = None) -> None:
        """The graphs that are seen, on the clipboard."""
        shown = self.picture(only)
        if shown is None:
            self.hub.tell("There is no graph here to copy.", "amber")
            return
        copy(shown)
        self.hub.tell(f"Copied: {shown.title}, {shown.under}.", "good")

    def keep_picture(self, only: QGraphicsView | None = None) -> None:
        """The graphs that are seen, as a file; asks for its name."""
        shown = self.picture(only)
        if shown is None:
            self.hub.tell("There is no graph here to keep.", "amber")
            return
        folder = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.PicturesLocation)
        place = Path(folder if Path(folder).is_dir() else Path.home()) / f"{shown.file_name}.png"

        def keep_at(text: str) -> None:
            kept = keep(shown, Path(text.strip() or place))
            self.hub.tell(f"The picture is {kept}", "good")

        self.ask(
            "Keep the graph as PNG, SVG or PDF:",
            "Keep",
            keep_at,
            text=str(place),
            hint="a name that ends in .png, .svg or .pdf",
        )

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        widget = self.childAt(event.pos()) if event is not None else None
        while widget is not None and not isinstance(widget, QGraphicsView):
            widget = widget.parentWidget()
        if event is None or widget is None:
            return
        menu = QMenu(self)
        for words, act in (
            ("Copy the picture (Ctrl+C)", self.copy_picture),
            ("Keep the picture… (Ctrl+P)", self.keep_picture),
        ):
            chosen = menu.addAction(words)
            assert chosen is not None
            chosen.triggered.connect(lambda _, act=act, only=widget: act(only))
        menu.popup(event.globalPos())

    def escape(self) -> bool:
        """Leaves a panel of the stage, where one is open. Whether one was."""
        return False


def _name_of(graph: QGraphicsView) -> str:
    """What stands over a graph: its own name, or the heading of its card."""
    own = graph.property("paper_name")
    parent = graph.parentWidget()
    while not own and parent is not None and not isinstance(parent, Card):
        parent = parent.parentWidget()
    return str(own or (parent.heading.text() if isinstance(parent, Card) else ""))
