"""Tables that sort: a click on a head sorts by its column, another one the other way round, a third as it was."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from common_bench.desk.look.pieces import Cell, Table
from common_bench.model.measured import NO_VALUE

NUMBER = re.compile(r"^[^\w+\-−]*([+\-−]?\d[\d\s]*(?:[.,]\d+)?(?:[eE][+\-]?\d+)?)")


class Sorting:
    """Which column a table is sorted by, if any, and how."""

    def __init__(self, table: Table, changed: Callable[[], object]) -> None:
        """changed: told that the rows are to be shown anew."""
        self._table, self._changed = table, changed
        self.column, self.falls = -1, False
        table.heads.setSectionsClickable(True)
        table.heads.sectionClicked.connect(self.by)

    def by(self, column: int) -> None:
        """By a column, rising; then falling; then as they were."""
        if column != self.column:
            self.column, self.falls = column, False
        elif not self.falls:
            self.falls = True
        else:
            self.column = -1
        self._changed()

    def heads(self, words: Sequence[str]) -> list[str]:
        """What stands above the columns, with a mark on the one that it is sorted by."""
        mark = "▾" if self.falls else "▴"
        return [f"{each} {mark}" if at == self.column else each for at, each in enumerate(words)]

    def next(self) -> None:
        """By the next column that is seen, for those without a mouse; after the last as they were."""
        seen = [at for at in range(self._table.columnCount()) if not self._table.isColumnHidden(at)]
        later = [at for at in seen if at > self.column]
        if later:
            self.by(later[0])
        else:
            self.falls = True
            self.by(self.column)

    def order(self, rows: Sequence[Sequence[Cell]]) -> list[int]:
        """Places of the rows in the order in which they are to be shown; what has no value comes last."""
        places = list(range(len(rows)))
        if not 0 <= self.column < self._table.columnCount():
            return places
        keys = [_key(row[self.column]) for row in rows]
        known = sorted((at for at in places if keys[at] is not None), key=lambda at: keys[at], reverse=self.falls)  # type: ignore[arg-type,return-value]
        return [*known, *(at for at in places if keys[at] is None)]


def _key(cell: Cell) -> tuple[int, float, str] | None:
    text = cell[0] if isinstance(cell, tuple) else cell
    if not text or text == NO_VALUE:
        return None
    found = NUMBER.match(text)
    if found is None:
        return 1, 0.0, text.lower()
    digits = re.sub(r"\s", "", found[1]).replace("−", "-").replace(",", ".")
    return 0, float(digits), text.lower()
