"""Loops over the bytes of a long file of plain rows, compiled to machine code: rows to numbers, cells to keys, rows to lines."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar

import numpy as np
from numba import njit

from common_bench.model.block import Bools, Floats, Ints
from common_bench.reading.plain_loops import number_at

MOST_KEYED = 8  # bytes of a cell that fit into a key
DECIMALS = 6  # of the time in a line
_P = ParamSpec("_P")
_R = TypeVar("_R")
_MINUS, _ZERO, _LF, _CR, _POINT, _NEXT = b"-0\n\r.;"


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
def keys_of_cells(data: Any, starts: Ints, mark: int, column: int, keys: Any) -> bool:
    """Fills keys (n,) uint64, alike for cells of one text alone, from a column of rows. False where one has more bytes than fit."""
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
            return False
        keys[row] = key
    return True


@loop
def sizes_of_lines(data: Any, starts: Ints, mark: int, wanted: Bools, numbers: Ints, t: Floats, sizes: Ints) -> None:
    """Fills sizes (n,): the bytes of each line that `lines_of_rows` makes."""
    for row in range(len(starts)):
        size = _digits(numbers[row]) + 1 + _time_size(t[row])
        at = starts[row]
        for column in range(len(wanted)):
            begin = at
            while data[at] != mark and data[at] != _LF and data[at] != _CR:
                at += 1
            if wanted[column]:
                size += 1 + at - begin
            at += 1
        sizes[row] = size + 1


@loop
def lines_of_rows(
    data: Any, starts: Ints, mark: int, point: int, wanted: Bools, numbers: Ints, t: Floats, out: Any
) -> None:
    """Fills out (m,) uint8 with a line `12;3.500000;271044;21.4` for each row: its number, its time in s, and its cells as they
    stand there with decimal points. wanted: (columns,) those that are put there."""
    to = 0
    for row in range(len(starts)):
        to = _put_whole(out, to, numbers[row], 1)
        out[to] = _NEXT
        to += 1
        scaled = np.int64(np.rint(np.abs(t[row]) * 10.0**DECIMALS))
        if t[row] < 0 and scaled > 0:
            out[to] = _MINUS
            to += 1
        to = _put_whole(out, to, scaled // 10**DECIMALS, 1)
        out[to] = _POINT
        to = _put_whole(out, to + 1, scaled % 10**DECIMALS, DECIMALS)
        at = starts[row]
        for column in range(len(wanted)):
            if wanted[column]:
                out[to] = _NEXT
                to += 1
            while data[at] != mark and data[at] != _LF and data[at] != _CR:
                if wanted[column]:
                    out[to] = _POINT if data[at] == point else data[at]
                    to += 1
                at += 1
            at += 1
        out[to] = _LF
        to += 1


@loop
def _digits(number: int) -> int:
    size = 1
    while number >= 10:
        number //= 10
        size += 1
    return size


@loop
def _time_size(t: float) -> int:
    scaled = np.int64(np.rint(np.abs(t) * 10.0**DECIMALS))
    return int(_digits(scaled // 10**DECIMALS) + 1 + DECIMALS + (1 if t < 0 and scaled > 0 else 0))


@loop
def _put_whole(out: Any, to: int, number: int, least: int) -> int:
    """Puts digits of a whole number, at least so many, there; gives where they end."""
    size = max(least, _digits(number))
    for place in range(to + size - 1, to - 1, -1):
        out[place] = _ZERO + number % 10
        number //= 10
    return int(to + size)
