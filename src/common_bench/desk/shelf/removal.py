"""A lesson removed for good from the chosen class."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from common_bench.desk.look.messages import MessagePlace
from common_bench.desk.shelf.classes import day_words
from common_bench.lesson.lessons import BookEntry, LessonEntry
from common_bench.lesson.removing import remove_lesson_of
from common_bench.model.trouble import BookTrouble

REMOVED = "remove"  # what has to be typed


class LessonRemoval:
    """Asks before, as nothing brings it back."""

    def __init__(
        self, open_now: Callable[[], tuple[Path, int] | None], messages: MessagePlace, changed: Callable[[], object]
    ) -> None:
        """open_now: the book and the lesson that are open; changed: told that a lesson is gone."""
        self._open_now, self._messages, self._changed = open_now, messages, changed

    def ask(self, book: BookEntry, lesson: LessonEntry) -> None:
        open_now = self._open_now()
        if open_now is not None and open_now[0] == book.path:
            self._messages.tell("This class has a lesson open: leave it first.", "amber")
            return

        def remove(typed: str) -> None:
            if typed.strip() != REMOVED:
                raise BookTrouble("removal-not-typed", word=REMOVED)
            told = remove_lesson_of(book.path, lesson.id)
            self._changed()
            self._messages.tell(told, "amber")

        self._messages.ask(
            f"{lesson.name}, {day_words(lesson)}: gone for good, bytes and all. Type {REMOVED}:", "Remove for good", remove,
            hint="nothing brings it back",
        )  # fmt: skip
