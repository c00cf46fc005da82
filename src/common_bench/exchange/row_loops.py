"""Loops over the bytes of a long file of plain rows, compiled to machine code: rows to numbers, cells to keys."""

from __future__ import annotations

from typing import Any

import numpy as np

from common_bench.book.row_loops import loop
from common_bench.model.block import Floats, Ints
from common_bench.reading.plain_loops import number_at, uncounted

STRETCH = 1 << 15  # bytes that stay at hand
MOST_KEYED = 8  # bytes of a cell that fit into a key
MOST_COUNTED = 128  # texts of a column that are counted
SLOT_BITS = 9  # of the place of a key, of which there are four times as many as keys
_SPREAD = np.uint64(0x9E3779B97F4A7C15)  # by which keys are spread over their places (Knuth, TAOCP 3, 6.4)
_LF, _CR = b"\n\r"


@loop
def numbers_in_rows(
    data: Any, begin: int, end: int, mark: int, point: int, first: int, found: Floats, starts: Ints, empty: Ints
) -> int:
    """Fills found (columns, n), nan where a cell is empty, starts (n,), the byte at which each row begins, and empty (columns,), how many
    cells are, from the row `first` on, from the rows of numbers in data[begin:end], (m,) uint8, each ended by LF or CRLF; gives the row after the last.
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
        if filled < columns:
            for each in range(columns):
                empty[each] += np.isnan(found[each, row])
        row += 1
    return int(row)


@loop
def how_many_of(data: Any, bytes_: Any, count: Ints) -> None:
    """Fills count (k,), how often each of (k,) bytes stands in (m,) uint8, a stretch at a time, so that it is read once."""
    data = uncounted(data)
    for low in range(0, len(data), STRETCH):
        part = data[low : low + STRETCH]
        for place in range(len(bytes_)):
            byte, found = bytes_[place], 0
            for at in range(len(part)):
                if part[at] == byte:
                    found += 1
            count[place] += found


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
def steps_in(values: Floats) -> tuple[float, float, int, int]:
    """The smallest and the largest step of (n,) values, how many rise and how many fall; nan and 0 where there are none, or a value
    is no number."""
    low, high, rising, falling = np.inf, -np.inf, 0, 0
    known = len(values) > 1
    for at in range(1, len(values)):
        step = values[at] - values[at - 1]
        known &= np.isfinite(step)
        low, high = min(low, step), max(high, step)
        rising += step > 0
        falling += step < 0
    return (low, high, rising, falling) if known else (np.nan, np.nan, 0, 0)
