"""Rows of a long file that holds nothing but numbers: left as the bytes that they are, with a table of their numbers beside them, so
that tens of megabytes come in at once and in little room."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate, pairwise

import numpy as np

from common_bench.book.file_keeping import StampedRows
from common_bench.book.file_pieces import FilePieces
from common_bench.book.row_lines import RowsAsLines
from common_bench.exchange.column_rows import ColumnRows, RowLines
from common_bench.exchange.logged import NOTHING
from common_bench.exchange.row_loops import MOST_COUNTED, counts_of_cells, how_many, numbers_in_rows
from common_bench.exchange.steps import are_known
from common_bench.model.block import Floats, Ints, NumberColumns
from common_bench.model.long_task import LongTask

LETTERS_OF_NUMBERS = r"^\s*[+\-]?(\d+\.?\d*|\.\d+)([eE][+\-]?\d+)?\s*$"
NUMBER = re.compile(LETTERS_OF_NUMBERS)
PIECE = 1 << 22  # bytes that are read at one time
READERS = 2  # threads that read
LF = ord("\n")


class NumbersTable:
    """The numbers of all rows of a file, which take as much room as the file: they may be let go, and are read again where they are
    asked for after that."""

    def __init__(self, found: Floats, known: Sequence[bool], read: Callable[[], Floats | None]) -> None:
        """known: of each column, whether no number in it is missing."""
        self._found: Floats | None = found
        self.known = known
        self._read = read

    @property
    def found(self) -> Floats:
        """(all columns, n), nan where a cell is empty. Safe from any thread."""
        found = self._found
        if found is None:
            self._found = found = self._read()
            assert found is not None, "the same bytes were read before"
        return found

    def let_go(self) -> None:
        self._found = None


class PlainRows(ColumnRows):
    """`table` holds what the bytes say; a cell's text is cut out of them when it is asked for."""

    def __init__(
        self, data: bytes, starts: Ints, mark: str, wide: int, table: NumbersTable, columns: Sequence[int], *, comma: bool,
        rows: slice | Ints | None = None,
    ) -> None:  # fmt: skip
        """starts: (n,) byte at which each row begins; wide: how many columns there are; columns: those that are shown; comma: decimal
        commas; rows: those of the table that these are, all where it is None."""
        self._data, self._starts, self._mark, self._wide, self._table = data, starts, mark, wide, table
        self._columns, self._comma = list(columns), comma
        self._rows = slice(0, len(starts)) if rows is None else rows

    def __len__(self) -> int:
        return len(self._starts)

    def _row(self, at: int) -> list[str]:
        start = int(self._starts[at])
        cells = self._data[start : self._data.index(b"\n", start)].rstrip(b"\r").decode().split(self._mark)
        return [cells[each] for each in self._columns]

    def is_empty_from(self, column: int) -> bool:
        """Whether nothing stands in the columns from one on."""
        return not np.isfinite(self._table.found[column:, self._rows]).any()

    def counts(self, at: int, most: int) -> dict[str, int] | None:
        column = self._columns[at]
        first, count = np.empty(MOST_COUNTED, np.int64), np.empty(MOST_COUNTED, np.int64)
        asked = min(most, MOST_COUNTED)
        found = counts_of_cells(self._bytes, self._starts, ord(self._mark), column, asked, first, count)
        if found >= 0:
            return {self._row(row)[at]: each for row, each in zip(first[:found].tolist(), count.tolist(), strict=False)}
        return None if found == -1 and asked == most else self._counted(at, most)

    def _counted(self, at: int, most: int) -> dict[str, int] | None:
        found: dict[str, int] = {}
        for cell in self.column(at):
            found[cell] = found.get(cell, 0) + 1
            if len(found) > most:
                return None
        return found

    def only(self, columns: Sequence[int]) -> PlainRows:
        return self._like(self._starts, self._rows, [self._columns[each] for each in columns])

    def taken(self, rows: Sequence[int]) -> PlainRows:
        places = np.array(rows, int)
        own = self._rows
        return self._like(
            self._starts[places], places + own.start if isinstance(own, slice) else own[places], self._columns
        )

    def between(self, low: int, high: int) -> PlainRows:
        own = self._rows
        rows = slice(own.start + low, own.start + high) if isinstance(own, slice) else own[low:high]
        return self._like(self._starts[low:high], rows, self._columns)

    def _like(self, starts: Ints, rows: slice | Ints, columns: Sequence[int]) -> PlainRows:
        return PlainRows(self._data, starts, self._mark, self._wide, self._table, columns, comma=self._comma, rows=rows)

    def let_go(self) -> None:
        self._table.let_go()

    def are_known(self, at: int, *, comma: bool) -> bool:
        return self.are_numbers(at, comma=comma) and self._table.known[self._columns[at]]

    def are_numbers(self, at: int, *, comma: bool) -> bool:
        return comma or not self._comma  # a cell with a comma is no number where there are none

    def numbers(self, at: int, *, comma: bool) -> Floats | None:
        found: Floats = self._table.found[self._columns[at], self._rows]
        return found if self.are_numbers(at, comma=comma) else None

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> RowLines:
        if not len(self):
            return RowLines(b"", np.empty(0, np.int64))
        assert (np.diff(self._starts) > 0).all(), "rows are taken in their order"
        rows = memoryview(self._data)[int(self._starts[0]) : self._end]
        data, sizes = self._made(columns, 0).lines_of(rows, self._starts - self._starts[0], numbers, t)
        return RowLines(data, sizes)

    def in_pieces(self, data: bytes, pieces: FilePieces) -> list[int] | None:
        """With which row each piece of a file begins, and how many there are; None where they do not lie one after the other in these bytes,
        or not in every piece, so that they cannot stand for lines."""
        if self._data is not data or not isinstance(self._rows, slice):
            return None
        rows = [0, *np.searchsorted(self._starts, pieces.bounds[1:-1]).tolist(), len(self)]
        return rows if all(low < high for low, high in pairwise(rows)) else None

    def standing(
        self, pieces: FilePieces, rows: Sequence[int], low: int, high: int, first: int, t: Floats, columns: Sequence[int]
    ) -> StampedRows:  # fmt: skip
        """The rows in pieces low to high (exclusive) as they stand for lines. rows: with which each piece begins; first: number of the first of
        all rows in its file; t: (n,) s of these."""
        begin, stop = pieces.bounds[low], pieces.bounds[high]
        own = slice(rows[low], rows[high])
        starts = self._starts[own] - begin
        made = self._made(columns, first + own.start, int(starts[0]))
        data = memoryview(self._data)[begin:stop]
        sizes, seconds = made.sizes(data, starts, min(stop, self._end) - begin, t)
        table = self.between(own.start, own.stop)._table_of(made.first, seconds, columns)
        parts = [(pieces.bounds[at] - begin, rows[at] - own.start, pieces.packed(at)) for at in range(low, high)]
        return StampedRows(t, sizes, data, starts, made, parts, table)

    def _made(self, columns: Sequence[int], first: int, skip: int = 0) -> RowsAsLines:
        places = [self._columns[at] for at in columns]
        assert places == sorted(places), "cells are taken in their order"
        wanted = tuple(at in places for at in range(self._wide))
        return RowsAsLines(self._mark, self._comma, wanted, first, skip)

    def _table_of(self, first: int, seconds: Floats, columns: Sequence[int]) -> NumberColumns | None:
        """The numbers in their lines; None where one is missing."""
        if not (are_known(seconds) and all(self._table.known[self._columns[at]] for at in columns)):
            return None
        own = [self._table.found[self._columns[at], self._rows] for at in columns]
        return NumberColumns([np.arange(first, first + len(self), dtype=float), seconds, *own])

    @property
    def _end(self) -> int:
        """The byte after the last row."""
        return self._data.index(b"\n", int(self._starts[-1])) + 1

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

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> RowLines:
        told = []
        for row, number, at in zip(self._rows, np.asarray(numbers).tolist(), t.tolist(), strict=True):
            cells = ";".join(self._plain(row[each], comma=comma) for each in columns)
            told.append(f"{number};{at:.6f};{cells}\n".encode())
        return RowLines(b"".join(told), np.array([len(each) for each in told], np.int64))

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

    @property
    def parts(self) -> Sequence[ColumnRows]:
        return self._parts

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
        if len(self._parts) == 1:
            return self._parts[0].numbers(at, comma=comma)
        if (at, comma) not in self._numbers:
            found = [each.numbers(at, comma=comma) for each in self._parts]
            known = [each for each in found if each is not None]
            one = known[0] if len(known) == 1 else np.concatenate(known) if known else None
            self._numbers[at, comma] = one if len(known) == len(found) else None
        return self._numbers[at, comma]

    def let_go(self) -> None:
        self._numbers.clear()
        for part in self._parts:
            part.let_go()

    def are_numbers(self, at: int, *, comma: bool) -> bool:
        return all(part.are_numbers(at, comma=comma) for part in self._parts)

    def are_known(self, at: int, *, comma: bool) -> bool:
        return all(part.are_known(at, comma=comma) for part in self._parts)

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> RowLines:
        begins = [0, *self._ends[:-1]]
        told = [part.lines(numbers[begin:end], t[begin:end], columns, comma=comma) for part, begin, end in zip(self._parts, begins, self._ends, strict=True)]  # fmt: skip
        if len(told) == 1:
            return told[0]
        return RowLines(b"".join(each.data for each in told), np.concatenate([each.sizes for each in told]))


def plain_rows(
    data: bytes, begin: int, end: int, mark: str, wide: int, *, comma: bool, progress: LongTask | None = None
) -> PlainRows | None:
    """All lines of data[begin:end] as rows; None where one holds anything but numbers and empty cells, or has another count of
    them. Raises what `progress` does."""
    seen, point = np.frombuffer(data, np.uint8), ord("," if comma else ".")
    cuts = [begin]
    while cuts[-1] < end:
        at = cuts[-1]
        cuts.append(end if end - at <= PIECE else data.rfind(b"\n", at, at + PIECE) + 1)
        if cuts[-1] <= at:
            return None
    with ThreadPoolExecutor(READERS) as readers:
        counts = list(readers.map(lambda low, high: how_many(seen[low:high], LF), cuts[:-1], cuts[1:]))
    firsts = [0, *accumulate(counts)]
    starts = np.empty(firsts[-1], np.int64)

    empty = np.zeros((len(counts), wide), np.int64)

    def read(telling: LongTask | None = None) -> Floats | None:
        found = np.empty((wide, firsts[-1]))
        with ThreadPoolExecutor(READERS) as readers:
            rows = readers.map(lambda low, high, first, none: numbers_in_rows(seen, low, high, ord(mark), point, first, found, starts, none), cuts[:-1], cuts[1:], firsts[:-1], empty)  # fmt: skip
            for high, after, row in zip(cuts[1:], firsts[1:], rows, strict=True):
                if row != after:
                    return None
                if telling is not None:
                    telling.tell((high - begin) / (end - begin))
        return found

    found = read(progress)
    if found is None:
        return None
    known = (empty.sum(axis=0) == 0).tolist()
    return PlainRows(data, starts, mark, wide, NumbersTable(found, known, read), range(wide), comma=comma)
