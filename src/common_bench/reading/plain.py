"""Reading many plain rows at once: lines that hold nothing but digits, signs and one separator. Lines in; a table out."""

from __future__ import annotations

import sys
from functools import cache

import numpy as np

from common_bench.model.block import Bools, Floats, Ints, NumberColumns
from common_bench.model.stream import StreamFormat
from common_bench.reading.lines import CR, LF, Lines
from common_bench.reading.values import numbers_of

COMPILED = "common_bench.reading.plain_loops"
MANY_LINES = 64  # from which arrays are quicker than a loop over lines
PLAIN = {sep: b"0123456789.+-eE\r\n " + sep.encode() for sep in (";", ",", "\t", "|", " ")}
SPLITTING = {sep: bytes.maketrans(sep.encode(), b" ") for sep in (";", ",", "\t", "|", " ")}


def could_be_plain(format: StreamFormat) -> bool:
    """Whether lines of this format can be read many at once: plain numbers in a row."""
    if format.dialect != "separated" or format.decimal_comma or format.start or format.end or format.kit_mark:
        return False
    return format.separator in PLAIN and all(column.kind == "number" for column in format.columns)


@cache
def _plain_bytes(separator: str) -> Bools:
    found = np.zeros(256, bool)
    found[list(PLAIN[separator])] = True
    return found


def lines_with_other_bytes(piece: Lines, separator: str) -> Ints:
    """Which lines hold bytes that no line of plain numbers does, as words between the rows."""
    other = np.flatnonzero(~_plain_bytes(separator)[np.frombuffer(piece.data, np.uint8)])
    return np.unique(np.searchsorted(piece.ends, other))


def plain_table(piece: Lines, format: StreamFormat) -> Floats | NumberColumns | None:
    """(n, columns) numbers, where every line of the piece is plain: digits and separators, no field empty.

    None where any line is not, so that it is read one by one instead; both ways give equal bits,
    since both convert each field with the same correctly rounded conversion.
    """
    if piece.numbers is not None:
        return None if piece.numbers.holds(list(numbers_of(frozenset(format.no_value)))) else piece.numbers
    data, count, columns, separator = piece.data, len(piece), len(format.columns), format.separator
    table = _at_once(data, separator, count, columns)
    if table is not None:
        return None if _says_no_value(table, format) else table
    if data.translate(None, PLAIN[separator]):
        return None
    mark = separator.encode()
    if separator != " ":
        if b" " in data or b"\t" in data:
            for spaced in (mark + b" ", b" " + mark):
                while spaced in data:
                    data = data.replace(spaced, mark)
            if any(b" " in line.strip() for line in data.splitlines()):
                return None
        for end in (b"\n", b"\r"):
            data = data.replace(mark + end, end)
    lines = data.splitlines()
    if len(lines) != count:
        return None
    if not _as_many(lines, data, mark, columns):
        return None
    fields = data.translate(SPLITTING[separator]).split()
    if len(fields) != count * columns:
        return None
    try:
        flat = np.fromiter(map(float, fields), np.float64, len(fields))
    except ValueError:
        return None
    if np.count_nonzero(np.isfinite(flat)) < len(flat) or _says_no_value(flat, format):
        return None
    return flat.reshape(count, columns)


def _at_once(data: bytes, separator: str, count: int, columns: int) -> Floats | None:
    """The same by compiled code, where a piece is worth it or the code is there already; None where that cannot."""
    if count < MANY_LINES and COMPILED not in sys.modules:
        return None
    from common_bench.reading.plain_loops import plain_numbers

    found = np.empty((count, columns))
    return found if plain_numbers(np.frombuffer(data, np.uint8), ord(separator), found) else None


def _says_no_value(numbers: Floats, format: StreamFormat) -> bool:
    """Whether one of them stands for "no value"."""
    no_value = numbers_of(frozenset(format.no_value)) if format.no_value else ()
    return bool(no_value) and bool(np.isin(numbers, list(no_value)).any())


def _as_many(lines: list[bytes], data: bytes, mark: bytes, columns: int) -> bool:
    """Whether each line holds as many fields as there are columns."""
    if mark == b" ":
        return all(len(line.split()) == columns for line in lines)
    if len(lines) < MANY_LINES:
        return all(line.count(mark) == columns - 1 for line in lines)
    if columns == 1:
        return mark not in data
    array = np.frombuffer(data, np.uint8)
    ends = np.flatnonzero((array == LF) | (array == CR))
    so_far = np.searchsorted(np.flatnonzero(array == mark[0]), ends)
    so_far = so_far[np.diff(so_far, prepend=-1) > 0]
    return np.array_equal(so_far, np.arange(1, len(lines) + 1) * (columns - 1))
