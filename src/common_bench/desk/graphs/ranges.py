"""Ends of axes, the round values on them, and where lines break. Numbers in, numbers out."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from common_bench.model.block import Bools, Floats
from common_bench.model.measured import plain

MOST_TOLD, GAP_ROOM = 6, 0.12  # gaps whose lengths are written at one time, and the share of an axis that each takes


def step_of(spread: float, most: int) -> float:
    """1, 2 or 5 times a power of ten, so that at most so many steps go into a range."""
    size = 10 ** math.floor(math.log10(spread / most))
    return float(next(each * size for each in (1, 2, 5, 10) if each * size >= spread / most * (1 - 1e-9)))


def ticks(low: float, high: float, most: int) -> list[tuple[float, str]]:
    """At most so many round values between two, each as it is written."""
    step = step_of(high - low, most)
    decimals = max(0, math.ceil(-math.log10(step) - 1e-9))
    values = np.arange(math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9) + 1) * step
    return [(float(each), plain(float(each), decimals)) for each in values]


def whole_steps(low: float, high: float) -> tuple[float, float]:
    """Ends at whole steps of a tenth of the size of the range, with some room."""
    spread = (high - low) or abs(high) * 0.01 or 1.0
    step = step_of(spread, 8)
    return math.floor((low - 0.04 * spread) / step) * step, math.ceil((high + 0.08 * spread) / step) * step


def calm_range(kept: tuple[float, float], values: Floats) -> tuple[float, float]:
    """The range of an axis that holds values, with some room: the one before, unless they leave it or it is twice too wide."""
    return calm_ends(kept, float(values.min()), float(values.max())) if len(values) else kept


def calm_ends(kept: tuple[float, float], low: float, high: float) -> tuple[float, float]:
    """The same by the smallest and the largest of the values."""
    margin = max((high - low) * 0.15, abs(high) * 1e-4, 1e-9)
    fits = kept[0] <= low and high <= kept[1] and (high - low + 2 * margin) >= 0.5 * (kept[1] - kept[0])
    return kept if fits else (low - margin, high + margin)


def told_gaps(gaps: Sequence[tuple[float, float]], apart: float) -> list[int]:
    """Those of many gaps whose lengths are written: the longest, no two closer to each other than `apart`, which a number takes."""
    told: list[int] = []
    for at in sorted(range(len(gaps)), key=lambda at: gaps[at][0] - gaps[at][1]):
        middle = sum(gaps[at]) / 2
        if all(abs(sum(gaps[other]) / 2 - middle) >= apart for other in told):
            told.append(at)
        if len(told) == MOST_TOLD:
            break
    return told


def gaps_in(t: Floats, known: Bools, left: float) -> list[tuple[float, float]]:
    """Where a line breaks between two values, or between one that is not seen any more and the first that is. left: s from which on it is
    seen. Several without a value in a row are no gap: they were heard."""
    there = np.flatnonzero(known)
    before = there[np.flatnonzero(np.diff(there) == 2)]
    found = [(max(left, float(t[at])), float(t[at + 1])) for at in before if t[at + 1] > max(t[at], left)]
    if len(there) and there[0] == 1 and t[1] - t[0] < t[0] - left:  # the break stands where the gap ends
        found.insert(0, (left, float(t[1])))
    return found


def gap_words(gap: tuple[float, float], left: float) -> str:
    """left: as before; how long a gap is that began before is not seen."""
    begin, end = gap
    return f"gap {end - begin:.1f} s" if begin > left else "gap"
