"""Traces that are new thirty times a second: thinned to the pixels and laid out on them, compiled. Arrays in, arrays out or filled."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Bools, Floats
from common_bench.workings.loops import short_loop


@short_loop
def extremes(t: Floats, values: Floats, per_second: float, keep: Bools) -> None:
    """Marks in `keep` (n,) the first of the smallest, of the largest and of the values that are no numbers in each pixel, of
    which there are so many in a second of t (n,) s, rising."""
    begin, count = 0, len(t)
    while begin < count:
        place = np.floor(t[begin] * per_second)
        low, high, broken, at = -1, -1, -1, begin
        while at < count and np.floor(t[at] * per_second) == place:
            value = values[at]
            if np.isnan(value):
                if broken < 0:
                    broken = at
            else:
                if low < 0 or value < values[low]:
                    low = at
                if high < 0 or value > values[high]:
                    high = at
            at += 1
        for each in (low, high, broken):
            if each >= 0:
                keep[each] = True
        begin = at


_extremes = extremes.compiled  # type: ignore[attr-defined]


@short_loop
def moved_on(
    t: Floats, values: Floats, per_second: float, full_t: Floats, full_values: Floats, start: float
) -> tuple[Floats, Floats, int, int]:
    """A thinned picture that goes on: full_t, full_values (m,) of pixels that are full, from `start` on, and after them what
    `extremes` marks of (n,) readings that have come since. Gives the two together, how many of these belong to pixels that
    are full by now, and with which of the readings the pixel begins that is not."""
    count = len(t)
    keep = np.zeros(count, np.bool_)
    _extremes(t, values, per_second, keep)
    full = 0
    if count:
        last = np.floor(t[count - 1] * per_second)
        while np.floor(t[full] * per_second) < last:
            full += 1
    low = int(np.searchsorted(full_t, start))
    before = len(full_t) - low
    size = int(before + np.sum(keep))
    all_t, all_values = np.empty(size), np.empty(size)
    for at in range(before):  # not as slices, which are compiled with all that may be wrong with them
        all_t[at], all_values[at] = full_t[low + at], full_values[low + at]
    place = whole = before
    for at in range(count):
        if keep[at]:
            all_t[place], all_values[place] = t[at], values[at]
            place += 1
        if at == full - 1:
            whole = place
    return all_t, all_values, whole, full


@short_loop
def spread(values: Floats) -> tuple[float, float, int]:
    """The smallest and the largest of (n,) values, nan where none is a number, and how many are numbers."""
    low, high, known = np.nan, np.nan, 0
    for value in values:
        if np.isfinite(value):
            low = value if known == 0 or value < low else low
            high = value if known == 0 or value > high else high
            known += 1
    return low, high, known


@short_loop
def laid_out(
    t: Floats, values: Floats, right: float, across: float, floor: float, low: float, up: float, points: Floats
) -> None:
    """Where (n,) values at t s lie on the pixels, written into `points` (n, 2): `across` px are a second, `right` px is 0 s; `up` px
    are one of the values, `low` of which lies at `floor` px."""
    for at in range(len(t)):
        points[at, 0] = right + t[at] * across
        points[at, 1] = floor - (values[at] - low) * up
