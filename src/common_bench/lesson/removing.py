"""A run, a group or a lesson removed for good: what is asked, and what is said of it."""

from __future__ import annotations

from pathlib import Path

from common_bench.book.book import Book
from common_bench.book.removing import Removed, remove_group, remove_lesson, remove_run
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.trouble import BookTrouble, Trouble


def run_to_remove(lesson: OpenLesson, run: int) -> tuple[str, str]:
    """What has to be typed for a run, and for all of its group."""
    found = lesson.store.run(run)
    alias = lesson.store.group(found.group).alias
    return f"{alias} {found.number}", alias


def remove_as_typed(lesson: OpenLesson, run: int, typed: str) -> str:
    """Removes the run, or all of its group, by what was typed; gives what happened, in words. Raises Trouble where that is
    neither, or a run goes on. Nothing takes it back."""
    whole, alias = run_to_remove(lesson, run)
    group, words = lesson.store.run(run).group, " ".join(typed.split())
    if words not in (whole, alias):
        raise Trouble("not-removed", typed=words, run=whole, group=alias)
    if lesson.is_live:
        if lesson.roster.busy(group):
            raise BookTrouble("run-goes-on", where=str(lesson.book.path))
        lesson.replays.stop()
        if words == alias and (kit := lesson.store.kit_of(group)) is not None:
            lesson.roster.give_kit(kit, None)
        lesson.journal.flush()
    lesson.working_up.let_go(run)
    done = remove_run(lesson.book, run) if words == whole else remove_group(lesson.book, group)
    lesson.store.refresh()
    return removed_words(words, done)


def removed_words(what: str, done: Removed) -> str:
    """What was removed, and where it may still lie."""
    kept = f" Older copies of the book may still hold it: {', '.join(done.copies)}." if done.copies else ""
    return f"{what} is removed for good: {done.runs} run{'s' if done.runs != 1 else ''}, {done.bytes} bytes.{kept}"


def remove_lesson_of(path: Path, lesson: int) -> str:
    """Removes a lesson from a book that is not open; gives what happened, in words. Raises BookTrouble."""
    book = Book.open(path)
    try:
        return removed_words("The lesson", remove_lesson(book, lesson))
    finally:
        book.close()
