"""The lessons of a book: begun with a plan, listed, gone on with. Kits, benches, groups and calibrations come along."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from common_bench.book.book import Book
from common_bench.book.book_file import now
from common_bench.book.changes import RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.register import Register
from common_bench.lesson.roster import Roster
from common_bench.lesson.store import LessonStore
from common_bench.model.bench import Group
from common_bench.model.measured import Measured
from common_bench.model.plan import Plan
from common_bench.model.plan_file import plan_to_text
from common_bench.model.trouble import Trouble

NO_PLAN = "no plan yet"  # what the lesson is called in which a class was made


def begin_lesson(book: Book, plan: Plan, *, origin: str = "", class_name: str = "") -> int:
    """Adds the next lesson of a class; gives its id. Each group of the class has the kit that it had the last time.

    origin: the library's plan that it is a copy of; class_name: of a new book, the last lesson's otherwise. Raises
    BookTrouble where the book refuses it.
    """
    lessons = book.rows("lesson")
    name = lessons[-1]["class_name"] if lessons else class_name
    plan_row = book.added("plan", name=plan.name, text=plan_to_text(plan), kept_at=now(), origin=origin)
    lesson = book.added("lesson", plan=plan_row.id, class_name=name, held_on=date.today().isoformat(), pool_open=0)
    rows: list[RowChange] = [plan_row, lesson]
    kits = _kits_of_last(book, [row["id"] for row in lessons])
    for group in book.rows("group"):
        if not group["gone"]:
            rows.append(book.added("bench", lesson=lesson.id, group=group["id"], kit=kits.get(group["id"])))
    book.apply("Begin a lesson", rows)
    return lesson.id


def _kits_of_last(book: Book, lessons: Sequence[int]) -> dict[int, int]:
    """Group -> the kit that it had in the newest lesson in which it had one; each kit once."""
    found: dict[int, int] = {}
    benches = book.rows("bench")
    for lesson in reversed(lessons):
        for row in benches:
            free = row["group"] not in found and row["kit"] not in found.values()
            if row["lesson"] == lesson and row["kit"] is not None and free:
                found[row["group"]] = row["kit"]
    return found


def make_class(path: Path, name: str, aliases: Sequence[str]) -> None:
    """A new book with the groups of a class and no lesson yet. Raises Trouble where it cannot be made."""
    book = Book.make(path)
    try:
        lesson = begin_lesson(book, Plan(NO_PLAN), class_name=name)
        store = LessonStore(book, lesson)
        book.apply("Name the groups", store.group_rows(aliases))
    finally:
        book.close()


@contextmanager
def class_register(path: Path) -> Iterator[Register]:
    """The register of a class whose book is not open; the book is let go afterwards. Raises BookTrouble."""
    book = Book.open(path)
    try:
        store = LessonStore(book)
        changes = Changes(store)
        yield Register(store, changes, Roster(store, changes, None))
    finally:
        book.close()


@dataclass(frozen=True)
class LessonEntry:
    """A lesson as it stands in a list. finding: what the class has found, where its pool is open; not_worked: benches with
    runs that have no finding yet."""

    id: int
    name: str
    held_on: date
    runs: int
    groups: int
    pool_open: bool
    finding_name: str = ""
    finding: Measured | None = None
    not_worked: tuple[str, ...] = ()


@dataclass(frozen=True)
class BookEntry:
    """A bench book as it stands on the shelf. lessons: newest first; trouble: why it cannot be opened."""

    path: Path
    name: str
    lessons: tuple[LessonEntry, ...] = ()
    groups: tuple[Group, ...] = ()
    kits_known: frozenset[int] = frozenset()
    trouble: Trouble | None = None


def book_entry(path: Path) -> BookEntry:
    """What a book holds, read without changing it; never raises."""
    try:
        book = Book.open(path, readonly=True)
    except Trouble as trouble:
        return BookEntry(path, path.stem, trouble=trouble)
    try:
        found = [_lesson_entry(book, row["id"]) for row in book.rows("lesson")]
        if not found:
            return BookEntry(path, path.stem)
        lessons = tuple(reversed([each for each in found if each.name != NO_PLAN or each.runs]))
        store = LessonStore(book)
        kits = frozenset(group.id for group in store.groups if store.kit_of(group.id) is not None)
        return BookEntry(path, store.class_name or path.stem, lessons, tuple(store.groups), kits)
    except Trouble as trouble:
        return BookEntry(path, path.stem, trouble=trouble)
    finally:
        book.close()


def _lesson_entry(book: Book, lesson: int) -> LessonEntry:
    store = LessonStore(book, lesson)
    runs = store.kept_runs()
    found = {row["run"] for row in store.rows("finding")}
    waiting = [store.group(run.group).alias for run in runs if run.id not in found and store.plan.findings]
    finding_name, finding = "", None
    if store.pool_open:
        try:
            result = store.class_result()
            finding_name, finding = result.finding_name, result.finding
        except Trouble:
            pass  # a plan without a finding has none to tell
    return LessonEntry(
        lesson, store.plan.name, date.fromisoformat(store.row["held_on"]), len(runs), len({run.group for run in runs}),
        store.pool_open, finding_name, finding, tuple(dict.fromkeys(waiting)),
    )  # fmt: skip
