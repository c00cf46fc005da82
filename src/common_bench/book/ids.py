"""Ids of rows that are to be added, for all threads that write to one book."""

from __future__ import annotations

import threading


class Ids:
    """Guarantees that no id is given twice, whoever asks and whether what it was given for is in the book yet."""

    def __init__(self) -> None:
        self._last: dict[str, int] = {}
        self._giving = threading.Lock()

    def after(self, table: str, largest: int) -> int:
        """The next of a table; largest: that the book holds."""
        with self._giving:
            self._last[table] = max(largest, self._last.get(table, 0)) + 1
            return self._last[table]
