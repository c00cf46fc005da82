"""Loops over the bytes of rows of a file, compiled to machine code: rows to lines `12;3.500000;271044;21.4`, and how long these are."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar

import numpy as np
from numba import njit

from common_bench.model.block import Bools, Floats, Ints

DECIMALS = 6  # of the time in a line
MOST_EXACT = 1e15  # parts of a second: so many digits are read exactly
LONGEST_START = 48  # bytes of the number and the time in a line, and of what ends it
_P = ParamSpec("_P")
_R = TypeVar("_R")
_TENS = np.array([10**power for power in range(20)], np.uint64)
_PARTS = np.uint64(10**DECIMALS)  # of a second
_MINUS, _ZERO, _LF, _CR, _POINT, _NEXT, _SPACE = b"-0\n\r.; "


def loop(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """Compiles it; it does not hold the interpreter."""
    made: Callable[_P, _R] = njit(cache=True, nogil=True, error_model="numpy")(function)
    return made


@loop
def lines_of_rows(
    data: Any, starts: Ints, mark: int, point: int, wanted: Bools, numbers: Ints, t: Floats, out: Any, sizes: Ints
) -> int:
    """Puts a line for each row of data, (m,) uint8, into out (at least m + n LONGEST_START,): its number, its time in s, and its cells as
    they stand there with decimal points; fills sizes (n,), the bytes of each, and gives those of all, -1 where data has fewer rows.
    wanted: (columns,) those that are put there; starts: (n,) byte at which each row begins, or (1,) where they lie one after the
    other."""
    to, at, whole = 0, 0, len(data)
    number = np.zeros(3, np.uint64)
    for row in range(len(numbers)):
        at = starts[row] if row < len(starts) else at
        begin = to
        scaled = np.uint64(np.rint(np.abs(t[row]) * 10.0**DECIMALS))
        number[0], number[1], number[2] = np.uint64(numbers[row]), scaled // _PARTS, scaled % _PARTS
        for part in range(3):
            if part == 1 and t[row] < 0 and scaled > np.uint64(0):
                out[to] = _MINUS
                to += 1
            size = DECIMALS if part == 2 else 1
            while size < len(_TENS) and number[part] >= _TENS[size]:
                size += 1
            for place in range(to + size - 1, to - 1, -1):
                out[place] = _ZERO + np.uint8(number[part] % np.uint64(10))
                number[part] //= np.uint64(10)
            to += size
            if part < 2:
                out[to] = _POINT if part else _NEXT
                to += 1
        for column in range(len(wanted)):
            keep = wanted[column]
            if keep:
                out[to] = _NEXT
                to += 1
            while True:
                if at >= whole:
                    return -1
                byte = data[at]
                at += 1
                if byte == mark or byte < _SPACE:
                    break
                if keep:
                    out[to] = _POINT if byte == point else byte
                    to += 1
        while data[at - 1] != _LF:  # after a CR
            if at >= whole:
                return -1
            at += 1
        out[to] = _LF
        to += 1
        sizes[row] = to - begin
    return to


@loop
def sizes_of_lines(
    data: Any, starts: Ints, end: int, mark: int, wanted: Bools, first: int, t: Floats, sizes: Ints, seconds: Floats
) -> None:
    """Fills sizes (n,), the bytes that `lines_of_rows` makes of each row, and seconds (n,), its time as it is read from there, nan where it has
    too many digits to be exact. end: the byte after the last row; first: number of the first."""
    kept = after = 0  # columns that are wanted; and those up to the last that is not
    for column in range(len(wanted)):
        if wanted[column]:
            kept += 1
        else:
            after = column + 1
    fixed = 1 + 1 + DECIMALS + kept + 1 - (len(wanted) - 1)
    digits = size = 1
    more, below, above = (
        10,
        0.0,
        10.0 * 10.0**DECIMALS,
    )  # of the number; and parts of a second with so many digits before the point
    mark_byte = np.uint8(mark)
    for row in range(len(starts)):
        rounded = np.rint(np.abs(t[row]) * 10.0**DECIMALS)
        while first + row >= more:
            digits += 1
            more *= 10
        while rounded >= above:  # powers of ten up to the 22nd are exact
            size += 1
            below, above = above, above * 10.0
        while rounded < below:
            size -= 1
            below, above = (below / 10.0 if size > 1 else 0.0), below
        minus = t[row] < 0 and rounded > 0
        told = rounded / 10.0**DECIMALS if rounded < MOST_EXACT else np.nan
        seconds[row] = -told if minus else told
        at = starts[row]
        stop = (starts[row + 1] if row + 1 < len(starts) else end) - 1
        if data[stop - 1] == _CR:
            stop -= 1
        cells = stop - at
        for column in range(after):
            begin = at
            while at < stop and data[at] != mark_byte:
                at += 1
            if not wanted[column]:
                cells -= at - begin
            at += 1
        sizes[row] = digits + size + cells + fixed + (1 if minus else 0)
