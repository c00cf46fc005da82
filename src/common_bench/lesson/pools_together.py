"""The pools that are looked at together: this lesson's, those of other lessons with the same plan, packages, other books, a
department's. Nothing of it is kept in the book: what somebody else has sent stays theirs."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from common_bench.book.book import Book
from common_bench.lesson.pool_state import OPEN
from common_bench.lesson.sharing import pool_from, shared_pool
from common_bench.lesson.store import LessonStore
from common_bench.model.shared_pool import SharedPool
from common_bench.model.trouble import PoolTrouble
from common_bench.pool.department import Department

Source = tuple[str, SharedPool]
"""Where a pool comes from, in words, and what is in it."""


class PoolsTogether:
    """Guarantees that a sealed pool stays sealed: another lesson's counts here only where it has been opened, and this one's too.

    What reads a pool takes its time; `own`, `of_lessons`, `of_file` and `of_department` give functions that a worker may call.
    """

    def __init__(self, store: LessonStore) -> None:
        self._store = store
        self.added: list[Source] = []  # packages, books and departments that somebody has added

    def lessons(self) -> list[int]:
        """The other lessons of this book whose plan has the same name, whose pool is open and holds something."""
        found = []
        for row in self._store.rows("lesson"):
            if row["id"] == self._store.id or row["pool_open"] != OPEN:
                continue
            other = LessonStore(self._store.book, int(row["id"]))
            if other.plan.name == self._store.plan.name and other.pooled():
                found.append(other.id)
        return found

    def own(self) -> Callable[[], SharedPool]:
        """Raises PoolTrouble where it is sealed or empty."""
        if not self._store.pool_open or not self._store.pooled():
            raise PoolTrouble("pool-of-nothing-yet")
        book, id = self._store.book, self._store.id
        return lambda: shared_pool(LessonStore(book, id))

    def of_lessons(self) -> Callable[[], list[Source]]:
        book, ids = self._store.book, self.lessons()
        return lambda: [_of_lesson(book, id) for id in ids]

    def of_file(self, path: Path) -> Callable[[], Source]:
        return lambda: (path.name, pool_from(path))

    def of_department(self, address: str) -> Callable[[], Source]:
        name = self._store.plan.name

        def asked() -> Source:
            with closing(Department(address)) as department:
                return department.name, department.pool_of(name)

        return asked


def _of_lesson(book: Book, id: int) -> Source:
    store = LessonStore(book, id)
    return f"the lesson of {store.row['held_on']}", shared_pool(store)
