"""Changes of a lesson that a person makes and can take back, and who follows them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from common_bench.book.changes import Change, RowChange
from common_bench.lesson.store import LessonStore

Follower = Callable[[Change], None]
Watcher = Callable[[Change | None], None]


class Changes:
    """Guarantees that a change is in the book before anybody hears of it, that `followers` (the engine, what is
    computed) are brought in step with it before `watchers` look, and that a change taken back is followed alike.

    A watcher is told the change where it is new, None where one was taken back or done again.
    """

    def __init__(self, store: LessonStore) -> None:
        self._store = store
        self.followers: list[Follower] = []
        self.watchers: list[Watcher] = []

    def do(self, label: str, rows: Sequence[RowChange]) -> Change:
        """Makes a change, all of it or none. Raises BookTrouble where the book refuses it."""
        change = self._store.book.apply(label, rows)
        self._follow(change, change)
        return change

    def undo(self, change: Change) -> None:
        self._store.book.undo(change)
        self._follow(change, None)

    def redo(self, change: Change) -> None:
        self._store.book.redo(change)
        self._follow(change, None)

    def _follow(self, change: Change, new: Change | None) -> None:
        self._store.refresh(*{row.table for row in change.rows})
        for follow in self.followers:
            follow(change)
        self.tell_watchers(new)

    def tell_watchers(self, new: Change | None = None) -> None:
        """Has everybody look anew; of what is no change of rows too, as runs whose beginning was undone."""
        for tell in self.watchers:
            tell(new)
