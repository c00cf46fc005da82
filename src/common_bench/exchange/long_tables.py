"""Long files of plain rows, millions of them: kept as columns and read in arrays, to the same numbers as line by line."""

from __future__ import annotations

import codecs
import re
from array import array
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, overload

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from common_bench.exchange.logged import (
    NOTHING,
    TAPE,
    ColumnRows,
    Logged,
    by_lines,
)
from common_bench.model.block import Floats, Ints
from common_bench.model.trouble import FileTrouble

pa.set_memory_pool(pa.system_memory_pool())  # what is let go goes back at once
LETTERS_OF_NUMBERS = r"^\s*[+\-]?(\d+\.?\d*|\.\d+)([eE][+\-]?\d+)?\s*$"
PLAIN_NUMBER = re.compile(r"[+\-]?(\d+\.?\d*|\.\d+)([eE][+\-]?\d+)?")
PLAIN = b"0123456789.,+-eE\r\n"  # of which numbers consist
BEGINNING = 1 << 17  # bytes of a long file that are looked at line by line all the same
FIRST_LOOK = 1 << 13  # rows by which most columns show that they hold no ids
AT_ONCE = 1 << 16  # rows that are made lists of at one time


class CellColumns(ColumnRows):
    """Rows of cells as text, kept as columns; looks like a list of lists, each made when it is asked for."""

    def __init__(self, columns: Sequence[Any], numbers: Mapping[tuple[int, bool], Floats | None] | None = None) -> None:
        """columns: arrow arrays of strings, of one length; numbers: what is known of them, by place and decimal commas."""
        self.columns = list(columns)
        self._numbers: dict[tuple[int, bool], Floats | None] = dict(numbers or {})
        self._plain: dict[tuple[int, bool], Any] = {}

    def __len__(self) -> int:
        return len(self.columns[0]) if self.columns else 0

    @overload
    def __getitem__(self, at: int) -> list[str]: ...
    @overload
    def __getitem__(self, at: slice) -> list[list[str]]: ...
    def __getitem__(self, at: int | slice) -> list[str] | list[list[str]]:
        if isinstance(at, slice):
            rows = pa.array(range(*at.indices(len(self))), pa.int64())
            return [list(row) for row in zip(*(each.take(rows).to_pylist() for each in self.columns), strict=True)]
        place = range(len(self))[at]
        return [each[place].as_py() for each in self.columns]

    def __iter__(self) -> Iterator[list[str]]:
        for low in range(0, len(self), AT_ONCE):
            yield from self[low : low + AT_ONCE]

    def column(self, at: int) -> list[str]:
        found: list[str] = self.columns[at].to_pylist()
        return found

    def taken(self, rows: Sequence[int]) -> CellColumns:
        places = pa.array(rows, pa.int64())
        return CellColumns([each.take(places) for each in self.columns])

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

    def lines(self, numbers: Ints, t: Floats, columns: Sequence[int], *, comma: bool) -> tuple[bytes, Ints]:
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
        return bytes(data[int(places[0]) : int(places[-1])]), np.diff(places)

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


def joined_rows(parts: Sequence[Sequence[list[str]]]) -> Sequence[list[str]]:
    """Rows of several files, one after the other."""
    if all(isinstance(each, CellColumns) for each in parts):
        columns = zip(*(each.columns for each in parts if isinstance(each, CellColumns)), strict=True)
        return CellColumns(
            [pa.chunked_array([chunk for each in own for chunk in _chunks(each)], pa.string()) for own in columns]
        )
    return [row for each in parts for row in each]


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


def long_file(path: Path, data: bytes) -> Logged | None:
    """A long file of plain rows: what is made of its beginning holds for the rest, whose rows are cut in arrays. None where the
    rest has anything but rows like those before it; it is then looked at line by line."""
    cut = data.find(b"\n", BEGINNING) + 1
    begin = len(codecs.BOM_UTF8) if data.startswith(codecs.BOM_UTF8) else 0
    odd = b'"' in data or b"\x00" in data or data.count(b"\r") not in (0, data.count(b"\n"))
    if not cut or odd or data.startswith((TAPE, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE, b"PK")):
        return None
    end = data.rfind(b"\n") + 1
    tail = data[end:]
    if end <= cut or data.find(b"\n\n", cut - 1, end) >= 0 or data.find(b"\n\r\n", cut - 1, end) >= 0:
        return None
    try:
        head = data[begin:cut].decode()
        made, mark, wide = by_lines(
            path, data, head + tail.decode()
        )  # the last line, maybe cut off, stands there for now
    except (UnicodeDecodeError, FileTrouble):
        return None
    lines = head.count("\n")
    first = [row for row, number in zip(made.rows, made.numbers, strict=True) if number <= lines]
    last = made.rows[len(first) :]
    if mark == " " or not first or made.numbers[len(first) - 1] != lines or len(last) > 1:
        return None
    kept = len(made.names)
    numeric = [at < kept and _holds_numbers(made, at) for at in range(wide)]
    rows = read_rows(memoryview(data)[cut:end], mark, wide, comma=made.comma, numeric=numeric) if any(numeric) else None
    if rows is None or any(rows.counts(at, 1) != {"": len(rows)} for at in range(kept, wide)):
        return None
    numbers = array("q", made.numbers[: len(first)])
    numbers.extend(range(lines + 1, lines + 1 + len(rows) + len(last)))
    whole = with_head(first, rows.only(range(kept)), last)
    return replace(made, rows=whole, numbers=numbers)


def _holds_numbers(made: Logged, at: int) -> bool:
    """Whether a column has a number in every row so far that has anything there."""
    cells = [row[at] for row in made.rows if row[at].lower() not in NOTHING]
    return bool(cells) and all(PLAIN_NUMBER.fullmatch(cell.replace(",", ".") if made.comma else cell) for cell in cells)
