"""Long files whose rows hold more than plain numbers: kept as columns of text and read in arrays, to the same numbers as line by
line."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from common_bench.exchange.column_rows import ColumnRows, RowLines
from common_bench.exchange.logged import NOTHING
from common_bench.exchange.plain_rows import LETTERS_OF_NUMBERS
from common_bench.model.block import Floats, Ints

pa.set_memory_pool(pa.system_memory_pool())  # what is let go goes back at once
PLAIN = b"0123456789.,+-eE\r\n"  # of which numbers consist
FIRST_LOOK = 1 << 13  # rows by which most columns show that they hold no ids
AT_ONCE = 1 << 16  # rows that are made lists of at one time


class CellColumns(ColumnRows):
    """Rows of cells as text, kept as columns."""

    def __init__(self, columns: Sequence[Any], numbers: Mapping[tuple[int, bool], Floats | None] | None = None) -> None:
        """columns: arrow arrays of strings, of one length; numbers: what is known of them, by place and decimal commas."""
        self.columns = list(columns)
        self._numbers: dict[tuple[int, bool], Floats | None] = dict(numbers or {})
        self._plain: dict[tuple[int, bool], Any] = {}

    def __len__(self) -> int:
        return len(self.columns[0]) if self.columns else 0

    def _row(self, at: int) -> list[str]:
        return [each[at].as_py() for each in self.columns]

    def _some(self, rows: range) -> list[list[str]]:
        places = pa.array(rows, pa.int64())
        return [list(row) for row in zip(*(each.take(places).to_pylist() for each in self.columns), strict=True)]

    def __iter__(self) -> Iterator[list[str]]:
        for low in range(0, len(self), AT_ONCE):
            yield from self[low : low + AT_ONCE]

    def column(self, at: int) -> list[str]:
        found: list[str] = self.columns[at].to_pylist()
        return found

    def taken(self, rows: Sequence[int]) -> CellColumns:
        places = pa.array(rows, pa.int64())
        return CellColumns([each.take(places) for each in self.columns])

    def between(self, low: int, high: int) -> CellColumns:
        known = {(at, comma): None if own is None else own[low:high] for (at, comma), own in self._numbers.items()}
        return CellColumns([each.slice(low, high - low) for each in self.columns], known)

    def only(self, columns: Sequence[int]) -> CellColumns:
        places = {at: place for place, at in enumerate(columns)}
        known = {(places[at], comma): found for (at, comma), found in self._numbers.items() if at in places}
        return CellColumns([self.columns[at] for at in columns], known)

    def counts(self, at: int, most: int) -> dict[str, int] | None:
        for looked in (self.columns[at].slice(0, FIRST_LOOK), self.columns[at]):
            if pc.count_distinct(looked).as_py() > most:
                return None
        return {each["values"]: each["counts"] for each in pc.value_counts(self.columns[at]).to_pylist()}

    @property
    def known(self) -> Mapping[tuple[int, bool], Floats | None]:
        """The numbers that have been read, by place and decimal commas."""
        return self._numbers

    def numbers(self, at: int, *, comma: bool) -> Floats | None:
        if (at, comma) not in self._numbers:
            self._numbers[at, comma] = _numbers(self.plain(at, comma=comma))
        return self._numbers[at, comma]

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> RowLines:
        times = pa.array(t).cast(pa.decimal128(24, 6), safe=False).cast(pa.string())
        parts = [pa.array(numbers).cast(pa.string()), times]
        for at in columns:
            cells = self.plain(at, comma=comma)
            parts.append(cells.combine_chunks() if isinstance(cells, pa.ChunkedArray) else cells)
        whole = pc.binary_join_element_wise(pc.binary_join_element_wise(*parts, ";"), "\n", "")
        whole = whole.combine_chunks() if isinstance(whole, pa.ChunkedArray) else whole
        _, ends, data = whole.buffers()
        wide = "<i8" if pa.types.is_large_string(whole.type) else "<i4"
        places = np.frombuffer(ends, wide)[whole.offset : whole.offset + len(whole) + 1]
        return RowLines(bytes(data[int(places[0]) : int(places[-1])]), np.diff(places))

    def plain(self, at: int, *, comma: bool) -> Any:
        """A column's cells with decimal points, empty where they say that there is no value."""
        if (at, comma) not in self._plain:
            text = self.columns[at]
            text = pc.replace_substring(text, ",", ".") if comma else text
            if self._numbers.get((at, comma)) is not None:  # all of it has been read: numbers, or nothing
                self._plain[at, comma] = text
                return text
            nothing = pc.is_in(pc.utf8_lower(text), value_set=pa.array(sorted(NOTHING - {""})))
            self._plain[at, comma] = pc.if_else(nothing, "", text) if pc.any(nothing).as_py() else text
        return self._plain[at, comma]


def read_rows(data: memoryview, mark: str, wide: int, *, comma: bool, numeric: Sequence[bool]) -> CellColumns | None:
    """All lines as rows; None where one is not like the others: another count of cells, or no number where the column has
    numbers. numeric: of each column, whether it has."""
    plain = not bytes(data).translate(None, PLAIN + mark.encode())
    try:
        table = csv.read_csv(
            pa.BufferReader(pa.py_buffer(data)),
            read_options=csv.ReadOptions(column_names=[str(at) for at in range(wide)], block_size=1 << 22),
            parse_options=csv.ParseOptions(delimiter=mark, quote_char=False, escape_char=False, ignore_empty_lines=False),
            convert_options=csv.ConvertOptions(
                column_types={str(at): pa.string() for at in range(wide)}, strings_can_be_null=False, check_utf8=True
            ),
        )  # fmt: skip
    except pa.ArrowInvalid:
        return None
    if not plain or mark == " ":
        return _with_numbers([_trimmed(each) for each in table.columns], comma, numeric)
    quick = {(at, comma): found for at, has in enumerate(numeric) if has and (found := _quickly(table.columns[at], comma)) is not None}  # fmt: skip
    return _with_numbers(table.columns, comma, numeric, quick)


def _with_numbers(
    columns: Sequence[Any], comma: bool, numeric: Sequence[bool], known: Mapping[tuple[int, bool], Floats | None] | None = None
) -> CellColumns | None:  # fmt: skip
    rows = CellColumns(columns, known)
    for at, has in enumerate(numeric):
        if has and rows.numbers(at, comma=comma) is None:
            return None
    return rows


def _quickly(text: Any, comma: bool) -> Floats | None:
    """Numbers of cells that hold nothing but letters of numbers; None where one is read otherwise, or is none."""
    text = pc.replace_substring(text, ",", ".") if comma else text
    empty = pc.equal(text, "")
    try:
        found = pc.cast(pc.if_else(empty, None, text) if pc.any(empty).as_py() else text, pa.float64())
    except pa.ArrowInvalid:
        return None
    made = np.array(found.to_numpy(), float)
    made[~np.isfinite(made)] = np.nan
    return made


def with_head(head: Sequence[list[str]], rest: CellColumns, last: Sequence[list[str]]) -> CellColumns:
    """Rows that were read line by line, those after them, and those at the end that were read line by line too."""
    ends = [
        [pa.array([row[at] for row in rows], pa.string()) for at in range(len(rest.columns))] for rows in (head, last)
    ]
    known: dict[tuple[int, bool], Floats | None] = {}
    for (at, comma), found in rest.known.items():
        around = [CellColumns([each[at]]).numbers(0, comma=comma) for each in ends]
        if found is not None and around[0] is not None and around[1] is not None:
            known[at, comma] = np.concatenate([around[0], found, around[1]])
    columns = [
        pa.chunked_array([first, *_chunks(each), after])
        for first, each, after in zip(ends[0], rest.columns, ends[1], strict=True)
    ]
    return CellColumns(columns, known)


def _trimmed(column: Any) -> Any:
    spaced = pc.match_substring_regex(column, r"^\s|\s$")
    return pc.utf8_trim_whitespace(column) if pc.any(spaced).as_py() else column


def _chunks(column: Any) -> list[Any]:
    return list(column.chunks) if isinstance(column, pa.ChunkedArray) else [column]


def _numbers(text: Any) -> Floats | None:
    if not len(text):
        return np.empty(0)
    empty = pc.equal(text, "")
    if not pc.all(pc.or_(empty, pc.match_substring_regex(text, LETTERS_OF_NUMBERS))).as_py():
        return None
    numbers = pc.cast(pc.if_else(empty, None, text), pa.float64()).to_numpy(zero_copy_only=False)
    found = np.array(numbers, float)
    found[~np.isfinite(found)] = np.nan
    return found
