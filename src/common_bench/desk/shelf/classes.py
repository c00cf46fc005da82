"""Classes and their lessons, in the place where the benches are while a lesson is open."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QFrame, QMenu, QVBoxLayout, QWidget

from common_bench.desk.look.labels import ShortLabel, label, set_tip
from common_bench.desk.look.pieces import button, emptied, say, scrolled, set_property
from common_bench.desk.look.sheet import px
from common_bench.lesson.lessons import BookEntry, LessonEntry


def day_words(lesson: LessonEntry) -> str:
    """`24 Nov`"""
    return f"{lesson.held_on.day} {lesson.held_on:%b}"


class Row(QFrame):
    """A name with a line under it, to be chosen with the mouse, or with Tab and Enter."""

    def __init__(
        self, name: str, line: str, act: Callable[[], object], *, tip: str = "", tone: str = "small",
        remove: Callable[[], object] | None = None,
    ) -> None:  # fmt: skip
        """remove: what the Delete key and the right mouse button ask for."""
        super().__init__()
        self._remove = remove
        self.setObjectName("bench")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        set_tip(self, tip)
        self._act = act
        column = QVBoxLayout(self)
        column.setContentsMargins(px(8), px(5), px(6), px(5))
        column.setSpacing(px(1))
        column.addWidget(ShortLabel(name, "name" if line else ""))
        if line:
            column.addWidget(ShortLabel(line, tone))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._act()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is None or self._remove is None:
            return
        menu = QMenu(self)
        chosen = menu.addAction("Remove for good…")
        assert chosen is not None
        chosen.triggered.connect(self._remove)
        menu.popup(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Delete and self._remove is not None:
            self._remove()
            return
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self._act()
        else:
            super().keyPressEvent(event)


class ClassColumn(QFrame):
    """The classes, newest first; the lessons of the chosen one; what can be done with it."""

    def __init__(
        self, choose: Callable[[BookEntry], object], go_on: Callable[[LessonEntry], object],
        remove: Callable[[BookEntry, LessonEntry], object],
        acts: Sequence[tuple[str, Callable[[], object], bool]],
    ) -> None:  # fmt: skip
        """acts: (words, what is done, whether it needs a class)."""
        super().__init__()
        self.setObjectName("benches")
        self._choose, self._go_on, self._remove = choose, go_on, remove
        self._classes, self._lessons, self._acts = QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        for box in (self._classes, self._lessons, self._acts):
            box.setSpacing(px(2))
        self._heading = label("", "heading")
        self._hint = label("", "small", wrap=True)
        self._needing: list[QWidget] = []
        column = QVBoxLayout()
        column.setContentsMargins(px(8), px(12), px(8), px(8))
        column.setSpacing(px(4))
        title = label("CLASSES", "heading")
        for each in (title, self._heading, self._hint):
            each.setContentsMargins(px(8), 0, 0, 0)
        column.addWidget(title)
        column.addLayout(self._classes)
        for words, act, needs in acts:
            made = button(words, act, role="link")
            (self._acts if needs else column).addWidget(made)
            if needs:
                self._needing.append(made)
        column.addSpacing(px(10))
        column.addWidget(self._heading)
        column.addLayout(self._lessons)
        column.addWidget(self._hint)
        column.addLayout(self._acts)
        column.addStretch(1)
        area = scrolled(column)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area)

    def show_books(self, books: Sequence[BookEntry], chosen: BookEntry | None, open_lesson: int | None) -> None:
        """open_lesson: the lesson of the chosen class that is open now, None where none is."""
        emptied(self._classes)
        emptied(self._lessons)
        for book in books:
            if book.trouble is not None:
                line, tone = "cannot be opened", "red"
            else:
                line, tone = _last_words(book), "small"
            row = Row(book.name, line, partial(self._choose, book), tip=str(book.path), tone=tone)
            set_property(row, "chosen", chosen is not None and book.path == chosen.path)
            self._classes.addWidget(row)
        if not books:
            empty = label("No class yet. Make one, or open a bench book.", "soft", wrap=True)
            empty.setContentsMargins(px(8), 0, 0, 0)
            self._classes.addWidget(empty)
        lessons = chosen.lessons if chosen is not None else ()
        self._heading.setVisible(bool(lessons))
        self._hint.setVisible(bool(lessons))
        if chosen is not None:
            say(self._heading, f"LESSONS OF {chosen.name.upper()}"[:34])
            say(
                self._hint,
                "Open one to go on with it, or begin the next at the right. Groups, kits and calibrations come along.",
            )
        for lesson in lessons:
            words = f"{day_words(lesson)} · {lesson.name}"
            is_open = lesson.id == open_lesson
            row = Row(
                words,
                "open now: go back to it" if is_open else "",
                partial(self._go_on, lesson),
                tip=f"{words} (the right button, or Delete, removes it for good)",
                remove=partial(self._remove, chosen, lesson) if chosen is not None else None,
            )
            self._lessons.addWidget(row)
        for each in self._needing:
            each.setVisible(chosen is not None and chosen.trouble is None)


def _last_words(book: BookEntry) -> str:
    if not book.lessons:
        return "no lesson yet"
    return f"{book.lessons[0].name} · {day_words(book.lessons[0])}"
