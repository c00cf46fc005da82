"""Rows of a long file that holds nothing but numbers: left as the bytes that they are, with a table of their numbers beside them, so
that tens of megabytes come in at once and in little room."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Sequence
from itertools import accumulate

import numpy as np

from common_bench.exchange.column_rows import Buffer, ColumnRows
from common_bench.exchange.logged import NOTHING
from common_bench.exchange.row_loops import keys_of_cells, lines_of_rows, numbers_in_rows, sizes_of_lines
from common_bench.model.block import Floats, Ints
from common_bench.model.long_task import LongTask

LETTERS_OF_NUMBERS = r"^\s*[+\-]?(\d+\.?\d*|\.\d+)([eE][+\-]?\d+)?\s*$"
NUMBER = re.compile(LETTERS_OF_NUMBERS)
PIECE = 1 << 24  # bytes that are read at one time
FIRST_LOOK = 1 << 13  # rows by which most columns show that they hold no ids


class PlainRows(ColumnRows):
    """`found` holds what the bytes say; a cell's text is cut out of them when it is asked for."""

    def __init__(
        self, data: bytes, starts: Ints, mark: str, found: Floats, columns: Sequence[int], *, comma: bool
    ) -> None:
        """starts: (n,) byte at which each row begins; found: (all columns, n) its numbers, nan where a cell is empty; columns:
        those that are shown; comma: decimal commas."""
        self._data, self._starts, self._mark, self._found = data, starts, mark, found
        self._columns, self._comma = list(columns), comma

    def __len__(self) -> int:
        return len(self._starts)

    def _row(self, at: int) -> list[str]:
        start = int(self._starts[at])
        cells = self._data[start : self._data.index(b"\n", start)].rstrip(b"\r").decode().split(self._mark)
        return [cells[each] for each in self._columns]

    def is_empty_from(self, column: int) -> bool:
        """Whether nothing stands in the columns from one on."""
        return not np.isfinite(self._found[column:]).any()

    def counts(self, at: int, most: int) -> dict[str, int] | None:
        column = self._columns[at]
        if len(np.unique(self._found[column, :FIRST_LOOK])) > most + 1:  # which counts each nan alone or all as one
            return None
        keys = np.empty(len(self), np.uint64)
        if not keys_of_cells(self._bytes, self._starts, ord(self._mark), column, keys):
            return self._counted(at, most)
        _, first, count = np.unique(keys, return_index=True, return_counts=True)
        if len(first) > most:
            return None
        return {self._row(int(first[each]))[at]: int(count[each]) for each in np.argsort(first)}

    def _counted(self, at: int, most: int) -> dict[str, int] | None:
        found: dict[str, int] = {}
        for cell in self.column(at):
            found[cell] = found.get(cell, 0) + 1
            if len(found) > most:
                return None
        return found

    def only(self, columns: Sequence[int]) -> PlainRows:
        return PlainRows(self._data, self._starts, self._mark, self._found, [self._columns[each] for each in columns], comma=self._comma)  # fmt: skip

    def taken(self, rows: Sequence[int]) -> PlainRows:
        places = np.array(rows, int)
        return PlainRows(self._data, self._starts[places], self._mark, self._found[:, places], self._columns, comma=self._comma)  # fmt: skip

    def between(self, low: int, high: int) -> PlainRows:
        return PlainRows(self._data, self._starts[low:high], self._mark, self._found[:, low:high], self._columns, comma=self._comma)  # fmt: skip

    def numbers(self, at: int, *, comma: bool) -> Floats | None:
        own: Floats = self._found[self._columns[at]]
        return None if self._comma and not comma else own  # a cell with a comma is no number where there are none

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> tuple[Buffer, Ints]:
        wanted = np.zeros(len(self._found), bool)
        places = [self._columns[at] for at in columns]
        assert places == sorted(places), "cells are taken in their order"
        wanted[places] = True
        sizes = np.empty(len(self), np.int64)
        mark, numbers = ord(self._mark), np.ascontiguousarray(numbers, np.int64)
        sizes_of_lines(self._bytes, self._starts, mark, wanted, numbers, t, sizes)
        out = np.empty(int(sizes.sum()), np.uint8)
        point = ord("," if self._comma else ".")
        lines_of_rows(self._bytes, self._starts, mark, point, wanted, numbers, t, out)
        return memoryview(out.data), sizes

    @property
    def _bytes(self) -> np.ndarray:
        return np.frombuffer(self._data, np.uint8)


class ListedRows(ColumnRows):
    """A few rows of text, as those at the beginning of a long file."""

    def __init__(self, rows: Sequence[list[str]]) -> None:
        self._rows = list(rows)

    def __len__(self) -> int:
        return len(self._rows)

    def _row(self, at: int) -> list[str]:
        return self._rows[at]

    def counts(self, at: int, most: int) -> dict[str, int] | None:
        found: dict[str, int] = {}
        for row in self._rows:
            found[row[at]] = found.get(row[at], 0) + 1
        return found if len(found) <= most else None

    def only(self, columns: Sequence[int]) -> ListedRows:
        return ListedRows([[row[at] for at in columns] for row in self._rows])

    def taken(self, rows: Sequence[int]) -> ListedRows:
        return ListedRows([self._rows[at] for at in rows])

    def between(self, low: int, high: int) -> ListedRows:
        return ListedRows(self._rows[low:high])

    def numbers(self, at: int, *, comma: bool) -> Floats | None:
        cells = [self._plain(row[at], comma=comma) for row in self._rows]
        if not all(cell == "" or NUMBER.match(cell) for cell in cells):
            return None
        found = np.array([float(cell or "nan") for cell in cells], float)
        found[~np.isfinite(found)] = np.nan
        return found

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> tuple[Buffer, Ints]:
        told = []
        for row, number, at in zip(self._rows, np.asarray(numbers).tolist(), t.tolist(), strict=True):
            cells = ";".join(self._plain(row[each], comma=comma) for each in columns)
            told.append(f"{number};{at:.6f};{cells}\n".encode())
        return b"".join(told), np.array([len(each) for each in told], np.int64)

    @staticmethod
    def _plain(cell: str, *, comma: bool) -> str:
        cell = cell.strip()
        return "" if cell.lower() in NOTHING else cell.replace(",", ".") if comma else cell


class StackedRows(ColumnRows):
    """Rows of several kinds, one after the other."""

    def __init__(self, parts: Sequence[ColumnRows]) -> None:
        self._parts = [each for each in parts if len(each)]
        self._ends = list(accumulate(map(len, self._parts)))
        self._numbers: dict[tuple[int, bool], Floats | None] = {}

    def __len__(self) -> int:
        return self._ends[-1] if self._ends else 0

    def _row(self, at: int) -> list[str]:
        part = bisect_right(self._ends, at)
        return self._parts[part][at - (self._ends[part - 1] if part else 0)]

    def counts(self, at: int, most: int) -> dict[str, int] | None:
        found: dict[str, int] = {}
        for part in self._parts:
            own = part.counts(at, most)
            if own is None:
                return None
            for cell, count in own.items():
                found[cell] = found.get(cell, 0) + count
        return found if len(found) <= most else None

    def only(self, columns: Sequence[int]) -> StackedRows:
        return StackedRows([each.only(columns) for each in self._parts])

    def taken(self, rows: Sequence[int]) -> ColumnRows:
        places = np.array(rows, int)
        begins = [0, *self._ends[:-1]]
        if (np.diff(places) < 0).any():
            return ListedRows([self._row(each) for each in places.tolist()])
        inside = [places[(places >= begin) & (places < end)] - begin for begin, end in zip(begins, self._ends, strict=True)]  # fmt: skip
        return StackedRows([part.taken(own.tolist()) for part, own in zip(self._parts, inside, strict=True)])

    def between(self, low: int, high: int) -> StackedRows:
        begins = [0, *self._ends[:-1]]
        inside = [(max(low - begin, 0), min(high, end) - begin) for begin, end in zip(begins, self._ends, strict=True)]
        return StackedRows(
            [part.between(*own) for part, own in zip(self._parts, inside, strict=True) if own[1] > own[0]]
        )

    def numbers(self, at: int, *, comma: bool) -> Floats | None:
        if (at, comma) not in self._numbers:
            found = [each.numbers(at, comma=comma) for each in self._parts]
            known = [each for each in found if each is not None]
            one = known[0] if len(known) == 1 else np.concatenate(known) if known else None
            self._numbers[at, comma] = one if len(known) == len(found) else None
        return self._numbers[at, comma]

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> tuple[Buffer, Ints]:
        begins = [0, *self._ends[:-1]]
        told = [part.lines(numbers[begin:end], t[begin:end], columns, comma=comma) for part, begin, end in zip(self._parts, begins, self._ends, strict=True)]  # fmt: skip
        return b"".join(data for data, _ in told), np.concatenate([sizes for _, sizes in told])


def plain_rows(
    data: bytes, begin: int, end: int, mark: str, wide: int, *, comma: bool, progress: LongTask | None = None
) -> PlainRows | None:
    """All lines of data[begin:end] as rows; None where one holds anything but numbers and empty cells, or has another count of
    them. Raises what `progress` does."""
    count = data.count(b"\n", begin, end)
    found, starts = np.empty((wide, count)), np.empty(count, np.int64)
    point = ord("," if comma else ".")
    seen, at, row = np.frombuffer(data, np.uint8), begin, 0
    while at < end:
        stop = end if end - at <= PIECE else data.rfind(b"\n", at, at + PIECE) + 1
        if stop <= at or (row := numbers_in_rows(seen, at, stop, ord(mark), point, row, found, starts)) < 0:
            return None
        at = stop
        if progress is not None:
            progress.tell((at - begin) / (end - begin))
    if row != count:
        return None
    return PlainRows(data, starts, mark, found, range(wide), comma=comma)
