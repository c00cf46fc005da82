"""The path: six stages across the top, each with its state in words."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout

from common_bench.desk.look.labels import ShortLabel, markup, rich, set_tip
from common_bench.desk.look.pieces import say, set_property
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.words import STAGES, Stage, path_words


class Step(QFrame):
    """One stage of the path."""

    def __init__(self, hub: Hub, number: int, stage: Stage, name: str) -> None:
        super().__init__()
        self.setObjectName("step")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        set_tip(self, f"Stage {number}: key {number}")
        self._hub, self.stage, self._number, self._name = hub, stage, number, name
        self.title = rich("", "name")
        self.title.setWordWrap(False)
        self.state = ShortLabel("", "small")
        column = QVBoxLayout(self)
        column.setContentsMargins(px(12), px(9), px(8), px(7))
        column.setSpacing(px(2))
        column.addWidget(self.title)
        column.addWidget(self.state)

    def show_state(self, words: str, chosen: bool) -> None:
        set_property(self, "chosen", chosen)
        p = palette()
        colour = p.copper if chosen else p.ink
        text = markup(
            "<span style='color:{soft};font-size:{size}px'>{number}</span> <span style='color:{colour}'>{name}</span>",
            soft=p.verdigris, size=str(px(11)), number=str(self._number), colour=colour, name=self._name,
        )  # fmt: skip
        say(self.title, text)
        say(self.state, words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._hub.go(self.stage)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self._hub.go(self.stage)
        else:
            super().keyPressEvent(event)


class Head(QFrame):
    """The title at the upper left; it leads to the shelf."""

    def __init__(self, act: Callable[[], object] | None) -> None:
        super().__init__()
        self._act = act
        if act is not None:
            self.setObjectName("step")
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            set_tip(self, "The shelf: classes, lessons and plans (0)")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if self._act is not None:
            self._act()


class Path(QFrame):
    """Title, day and the six stages."""

    def __init__(self, hub: Hub, benches_width: int, shelf: Callable[[], object] | None = None) -> None:
        """shelf: what the title at the left leads to."""
        super().__init__()
        self.setObjectName("path")
        self.setFixedHeight(px(60))
        self._hub = hub
        self.away = False  # at the shelf, where no stage is shown
        head = Head(shelf)
        head.setFixedWidth(benches_width)
        self.title = ShortLabel("", "title")
        self.day = ShortLabel("", "small")
        column = QVBoxLayout(head)
        column.setContentsMargins(px(15), px(8), px(6), px(8))
        column.setSpacing(px(2))
        column.addWidget(self.title)
        column.addWidget(self.day)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(head)
        self.steps = [Step(hub, number, stage, name) for number, (stage, name) in enumerate(STAGES, 1)]
        for step in self.steps:
            row.addWidget(step, 1)

    def refresh(self) -> None:
        from datetime import date

        lesson = self._hub.lesson
        say(self.title, lesson.store.plan.name)
        held = date.fromisoformat(lesson.store.row["held_on"])
        class_name = f"Class {lesson.store.class_name} · " if lesson.store.class_name else ""
        say(self.day, f"{class_name}{held:%a} {held.day} {held:%b}")
        words = path_words(lesson)
        for step in self.steps:
            step.show_state(words[step.stage], step.stage == self._hub.stage and not self.away)
