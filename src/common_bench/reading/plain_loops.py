"""The loop that reads plain rows of numbers, compiled to machine code. Bytes in; a table filled.

Kept apart, so that a program that reads a few lines does not wait for the compiler's library.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from common_bench.model.block import Floats

MOST_DIGITS = 15  # of a whole number that a float64 holds exactly, whatever they are
MOST_DECIMALS = 22  # up to which ten to that power is exact too, so that one division rounds correctly
_TENS = np.array([float(10**power) for power in range(MOST_DECIMALS + 1)])
_MINUS, _PLUS, _POINT, _ZERO, _NINE, _LF, _CR = b"-+.09\n\r"


@njit(cache=True, nogil=True, error_model="numpy", forceinline=True)  # type: ignore[untyped-decorator]
def number_at(data: Any, at: int, end: int, point: int) -> tuple[float, int, int]:
    """The number that begins at a byte, where it ends, and how many digits it has: 0 with nan where none stands there, -1 where
    it is written otherwise, or needs more than one correctly rounded division of two exact numbers (Clinger, SIGPLAN Not. 25(6),
    92 (1990))."""
    negative = data[at] == _MINUS
    signed = negative or data[at] == _PLUS
    if signed:
        at += 1
    whole = np.int64(0)
    digits = decimals = seen = 0
    after_point = False
    while at < end:
        byte = data[at]
        if _ZERO <= byte <= _NINE:
            seen += 1
            if digits > 0 or byte != _ZERO:
                digits += 1
            if digits > MOST_DIGITS:
                return 0.0, at, -1
            whole = whole * 10 + np.int64(byte - _ZERO)
            if after_point:
                decimals += 1
        elif byte == point and not after_point:
            after_point = True
        else:
            break
        at += 1
    if decimals > MOST_DECIMALS or (seen == 0 and (signed or after_point)):
        return 0.0, at, -1
    if seen == 0:
        return np.nan, at, 0
    value = whole / _TENS[decimals]
    return -value if negative else value, at, seen


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def plain_numbers(data: Any, mark: int, found: Floats) -> bool:
    """Fills (n, columns) numbers from n lines of digits, points, signs and one separator. data: (m,) uint8; mark: the
    separator. False where anything is written otherwise than `number_at` reads it; `found` then says nothing."""
    count, columns = found.shape
    size = len(data)
    at = row = column = 0
    while at < size:
        value, at, seen = number_at(data, at, size, _POINT)
        if seen <= 0 or column >= columns or row >= count or at >= size:
            return False
        found[row, column] = value
        column += 1
        byte = data[at]
        if byte == mark:
            at += 1
            if at >= size:
                return False
            byte = data[at]
            if byte != _LF and byte != _CR:
                continue
        if (byte != _LF and byte != _CR) or column != columns:
            return False
        at += 1
        if byte == _CR and at < size and data[at] == _LF:
            at += 1
        row, column = row + 1, 0
    return row == count and column == 0
