"""The loop that reads plain rows of numbers, compiled to machine code. Bytes in; a table filled.

Kept apart, so that a program that reads a few lines does not wait for the compiler's library.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import carray, njit, types
from numba.extending import intrinsic

from common_bench.model.block import Floats

MOST_DIGITS = 15  # of a whole number that a float64 holds exactly, whatever they are
MOST_DECIMALS = 22  # up to which ten to that power is exact too, so that one division rounds correctly
_TENS = np.array([float(10**power) for power in range(MOST_DECIMALS + 1)])
_MINUS, _PLUS, _POINT, _ZERO, _LF, _CR = b"-+.0\n\r"


@intrinsic  # type: ignore[untyped-decorator]
def _pointer_to(typing: Any, address: Any) -> Any:
    def made(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        return builder.inttoptr(given[0], context.get_value_type(signature.return_type))

    return types.CPointer(types.uint8)(types.uintp), made


@njit(forceinline=True, error_model="numpy")  # type: ignore[untyped-decorator]
def uncounted(data: Any) -> Any:
    """The same bytes, (n,) uint8 that lie one after the other, for as long as the caller holds them. Handing an array to a function inside a loop costs two
    steps that all cores agree on, to count who holds it: as much as reading a number does."""
    return carray(_pointer_to(data.ctypes.data), (len(data),))


@njit(forceinline=True, error_model="numpy")  # type: ignore[untyped-decorator]
def _counting(data: Any, at: int, end: int) -> int:
    """How many digits there are from the first on that is no zero."""
    count = 0
    for place in range(at, end):
        if np.uint8(data[place] - _ZERO) <= 9 and (count > 0 or data[place] != _ZERO):
            count += 1
    return count


@njit(forceinline=True, error_model="numpy")  # type: ignore[untyped-decorator]
def number_at(data: Any, at: int, end: int, point: int) -> tuple[float, int, int]:
    """The number that begins at a byte, where it ends, and how many digits it has: 0 with nan where none stands there, -1 where
    it is written otherwise, or needs more than one correctly rounded division of two exact numbers (Clinger, SIGPLAN Not. 25(6),
    92 (1990))."""
    negative = data[at] == _MINUS
    signed = negative or data[at] == _PLUS
    if signed:
        at += 1
    first = at
    whole = np.int64(0)
    while at < end and np.uint8(data[at] - _ZERO) <= 9:
        whole = whole * 10 + np.int64(data[at] - _ZERO)
        at += 1
    seen, decimals = at - first, 0
    has_point = at < end and data[at] == point
    if has_point:
        at += 1
        after = at
        while at < end and np.uint8(data[at] - _ZERO) <= 9:
            whole = whole * 10 + np.int64(data[at] - _ZERO)
            at += 1
        decimals = at - after
        seen += decimals
    if seen > MOST_DIGITS and (decimals > MOST_DECIMALS or _counting(data, first, at) > MOST_DIGITS):
        return 0.0, at, -1  # `whole` may have overflown
    if seen == 0:
        return (0.0, at, -1) if signed or has_point else (np.nan, at, 0)
    value = whole / _TENS[decimals]
    return -value if negative else value, at, seen


@njit(cache=True, error_model="numpy")  # type: ignore[untyped-decorator]
def plain_numbers(data: Any, mark: int, found: Floats) -> bool:
    """Fills (n, columns) numbers from n lines of digits, points, signs and one separator. data: (m,) uint8; mark: the
    separator. False where anything is written otherwise than `number_at` reads it; `found` then says nothing."""
    count, columns = found.shape
    data = uncounted(data)
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
