"""Loops over the bytes of a long file of plain rows, compiled to machine code: rows to numbers, cells to keys, rows to lines."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar

import numpy as np
from numba import njit

from common_bench.model.block import Bools, Floats, Ints
from common_bench.reading.plain_loops import MOST_DIGITS, number_at, uncounted

MOST_KEYED = 8  # bytes of a cell that fit into a key
MOST_COUNTED = 128  # texts of a column that are counted
SLOT_BITS = 9  # of the place of a key, of which there are four times as many as keys
DECIMALS = 6  # of the time in a line
LONGEST_START = 48  # bytes of the number and the time in a line, and of what ends it
_P = ParamSpec("_P")
_R = TypeVar("_R")
_SPREAD = np.uint64(0x9E3779B97F4A7C15)  # by which keys are spread over their places (Knuth, TAOCP 3, 6.4)
_TENS = np.array([10**power for power in range(20)], np.uint64)
_PARTS = np.uint64(10**DECIMALS)  # of a second
_TENTHS = 10.0**DECIMALS
_MOST_EXACT = np.uint64(10**MOST_DIGITS)  # parts of a second: so many digits are read exactly
_MINUS, _ZERO, _LF, _CR, _POINT, _NEXT, _SPACE = b"-0\n\r.; "


def loop(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """Compiles it; it does not hold the interpreter."""
    made: Callable[_P, _R] = njit(cache=True, nogil=True, error_model="numpy")(function)
    return made


@loop
def numbers_in_rows(
    data: Any, begin: int, end: int, mark: int, point: int, first: int, found: Floats, starts: Ints
) -> int:
    """Fills found (columns, n), nan where a cell is empty, and starts (n,), the byte at which each row begins, from the row
    `first` on, from the rows of numbers in data[begin:end], (m,) uint8, each ended by LF or CRLF; gives the row after the last.
    -1 where a row has another count of cells or no number at all, or a cell is written otherwise or with more digits than are
    exact; what was filled then says nothing."""
    columns, count = found.shape
    data = uncounted(data)
    at, row = begin, first
    while at < end:
        if row >= count:
            return -1
        starts[row] = at
        column = filled = 0
        while True:
            value, at, seen = number_at(data, at, end, point)
            if seen < 0 or at >= end or column >= columns:
                return -1
            found[column, row] = value
            filled += seen > 0
            column += 1
            byte = data[at]
            at += 1
            if byte == mark:
                if at >= end:
                    return -1
                continue
            if byte == _CR and at < end and data[at] == _LF:
                at += 1
            elif byte != _LF:
                return -1
            break
        if column != columns or filled == 0:
            return -1
        row += 1
    return int(row)


@loop
def how_many(data: Any, byte: int) -> int:
    """How often a byte stands in (m,) uint8."""
    data = uncounted(data)
    count = 0
    for at in range(len(data)):
        if data[at] == byte:
            count += 1
    return count


@loop
def counts_of_cells(data: Any, starts: Ints, mark: int, column: int, most: int, first: Ints, count: Ints) -> int:
    """How many texts stand in a column of rows, and fills first (m,), the row in which each stands first, and count (m,), in how
    many, in the order of their first. -1 where there are more than `most` < m, -2 where one has more bytes than fit into a key."""
    data = uncounted(data)
    slots = 1 << SLOT_BITS
    keys, places = np.empty(slots, np.uint64), np.full(slots, -1, np.int64)
    found = 0
    for row in range(len(starts)):
        at = starts[row]
        for _ in range(column):
            while data[at] != mark:
                at += 1
            at += 1
        key, size = np.uint64(0), 0
        while data[at] != mark and data[at] != _LF and data[at] != _CR:
            key = (key << np.uint64(8)) | np.uint64(data[at])
            size += 1
            at += 1
        if size > MOST_KEYED:
            return -2
        slot = np.int64((key * _SPREAD) >> np.uint64(64 - SLOT_BITS))
        while places[slot] >= 0 and keys[slot] != key:
            slot = (slot + 1) % slots
        if places[slot] < 0:
            if found >= most:
                return -1
            keys[slot], places[slot] = key, found
            first[found], count[found] = row, 0
            found += 1
        count[places[slot]] += 1
    return found


@loop
def lines_of_rows(
    data: Any,
    starts: Ints,
    mark: int,
    point: int,
    wanted: Bools,
    numbers: Ints,
    t: Floats,
    out: Any,
    sizes: Ints,
    table: Floats,
) -> int:
    """Puts a line `12;3.500000;271044;21.4` for each row into out (m,) uint8: its number, its time in s, and its cells as they
    stand there with decimal points; fills sizes (n,), their bytes, and table (n, numbers in a line), those numbers as they are read from
    there (nan where there is none, or too many digits to be exact), and gives the bytes of all. wanted: (columns,) those that are
    put there."""
    data, out = uncounted(data), uncounted(out)
    to = 0
    for row in range(len(starts)):
        begin = to
        to = _put_whole(out, to, np.uint64(numbers[row]), 1)
        out[to] = _NEXT
        to += 1
        scaled = np.uint64(np.rint(np.abs(t[row]) * 10.0**DECIMALS))
        if t[row] < 0 and scaled > np.uint64(0):
            out[to] = _MINUS
            to += 1
        seconds = scaled / _TENTHS if scaled < _MOST_EXACT else np.nan
        table[row, 0], table[row, 1] = numbers[row], -seconds if t[row] < 0 and scaled > np.uint64(0) else seconds
        to = _put_whole(out, to, scaled // _PARTS, 1)
        out[to] = _POINT
        to = _put_whole(out, to + 1, scaled % _PARTS, DECIMALS)
        at, place = starts[row], 2
        for column in range(len(wanted)):
            keep = wanted[column]
            if keep:
                out[to] = _NEXT
                to += 1
                value, _, seen = number_at(data, at, len(data), point)
                table[row, place] = value if seen > 0 else np.nan
                place += 1
            while True:
                byte = data[at]
                at += 1
                if byte == mark or byte < _SPACE:
                    break
                if keep:
                    out[to] = _POINT if byte == point else byte
                    to += 1
        out[to] = _LF
        to += 1
        sizes[row] = to - begin
    return to


@njit(forceinline=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _put_whole(out: Any, to: int, number: Any, least: int) -> int:
    """Puts digits of a whole number, at least so many, there; gives where they end."""
    size = least
    while size < len(_TENS) and number >= _TENS[size]:
        size += 1
    for place in range(to + size - 1, to - 1, -1):
        out[place] = _ZERO + np.uint8(number % np.uint64(10))
        number //= np.uint64(10)
    return to + size
