"""Forms that look at the readings about each reading: rates, smoothing, running medians, delays. Pieces of a quantity in,
pieces of what is made of it out, the same for every way of cutting them.

A window that a gap interrupts, or that lies over the beginning or the end, gives what is not known.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from common_bench.model.block import Block, Bools, Floats, Ints, Series, Source
from common_bench.model.units import counts_from_own_zero, degree_of, interval_of, product
from common_bench.workings.averaging import averaged
from common_bench.workings.course import Course
from common_bench.workings.held import Held
from common_bench.workings.streams import nothing
from common_bench.workings.window_loops import medians, parabolas

ALIKE = 2.0  # noises, within which readings count for a median as one another's equals


class Polynomial:
    """The local parabola about each reading, by least squares on the true times of the readings less than half a window
    away (Savitzky and Golay, Anal. Chem. 36, 1627 (1964)): its slope or its height at the reading's own time.

    What is independent from reading to reading enters by the squares of its weights; the share of the reading itself stays
    its own, so that a quantity and what is smoothed of it know of each other.
    """

    def __init__(self, gives: Literal["rate", "height"], seconds: float, name: str, course: Course) -> None:
        """name: of the place in the working, by which what is averaged here is told apart; course: of the quantity."""
        self._gives, self._half, self._made = gives, seconds / 2, Made(name)
        self._held, self._done = Held(course, scatter=True), 0

    def push(self, series: Series, _: Block) -> Series:
        self._held.add(series)
        held = self._held.series
        assert held is not None
        known = Known(held)
        t, last = known.of(held.t), known.last(held.t)
        late = int(np.searchsorted(t, last - 2 * self._half))  # those before have all of their window
        open_ = (known.of(self._held.stretches)[late:] == self._held.stretch) & ~(t[late:] + self._half < last)
        waits = known.first(open_, late)
        ready = max(self._done, len(held) if waits is None else waits)
        first, stop = known.place(self._done), known.place(ready)
        rate = self._gives == "rate"
        step = degree_of(held.unit) if rate and counts_from_own_zero(held.unit) else 1.0
        sigma, alike = (known.of(each) for each in self._held.noise)
        values, own, others = parabolas(
            t, known.of(held.values), known.of(self._held.stretches), known.of(self._held.begins), sigma, alike,
            known.shares(held.parts),
            commons(held.parts), first, stop, self._half, rate, step,
        )  # fmt: skip
        unit = product(interval_of(held.unit), "s", -1.0) if rate else held.unit
        found = self._made.told(held, known, (values, own, others), self._done, ready, unit)
        needed = held.t[ready] - self._half if ready < len(held) else last - 2 * self._half
        keep = min(int(np.searchsorted(held.t, needed)), ready)
        self._held.drop(keep)
        self._done = ready - keep
        return found


def commons(parts: Mapping[Source, Floats]) -> Bools:
    """(s,) which of the sources move all readings together."""
    return np.fromiter((source.common for source in parts), bool, len(parts))


class Made:
    """What a form over several readings makes of those that are known, as a piece of a quantity."""

    def __init__(self, name: str) -> None:
        """name: of the place in the working, by which what is averaged here is told apart."""
        self._name = name
        self._averaged: dict[Source, Source] = {}

    def told(
        self, held: Series, known: Known, made: tuple[Floats, Floats, Floats], start: int, stop: int, unit: str
    ) -> Series:
        """made: (m,) values of the known ones among the rows `start` to `stop`; (s, m) their own shares, and what others
        bring."""
        if stop <= start:
            return nothing(held, unit)
        piece, (values, own, others) = held.part(start, stop), made
        parts: dict[Source, Floats] = {}
        for at, source in enumerate(held.parts):
            parts[source] = known.spread(own[at], start, stop, 0.0)
            if not source.common:
                if source not in self._averaged:
                    self._averaged[source] = averaged(source, self._name)
                parts[self._averaged[source]] = known.spread(others[at], start, stop, 0.0)
        values = known.spread(values, start, stop, np.nan)
        return Series(piece.t, values, unit, parts, piece.guess, None, False, piece.rows)


class Known:
    """Which readings of a quantity have a value: its arrays without the others, and back."""

    def __init__(self, series: Series) -> None:
        there = np.isfinite(series.values)
        self._rows: Ints | None = None if there.all() else np.flatnonzero(there)
        self._whole = len(series)

    def __len__(self) -> int:
        return self._whole if self._rows is None else len(self._rows)

    def of(self, array: npt.NDArray[Any]) -> npt.NDArray[Any]:
        return array if self._rows is None else array[self._rows]

    def last(self, t: Floats) -> float:
        """Of the last one; minus infinity where there is none."""
        return float(t[-1 if self._rows is None else self._rows[-1]]) if len(self) else -math.inf

    def place(self, row: int) -> int:
        """How many known ones lie before a row."""
        return row if self._rows is None else int(np.searchsorted(self._rows, row))

    def row(self, place: int) -> int:
        """Of the known one that so many lie before."""
        return place if self._rows is None else int(self._rows[place])

    def first(self, which: Bools, start: int) -> int | None:
        """The row of the first of the known ones, from `start` on, that are marked."""
        at = int(np.argmax(which)) if len(which) else 0
        if not len(which) or not which[at]:
            return None
        at += start
        return at if self._rows is None else int(self._rows[at])

    def shares(self, parts: Mapping[Source, Floats]) -> Floats:
        """(s, n) shares of an uncertainty."""
        found = np.empty((len(parts), len(self)))
        for at, share in enumerate(parts.values()):
            found[at] = self.of(share)
        return found

    def spread(self, made: Floats, start: int, stop: int, else_: float) -> Floats:
        """(stop − start,) what was made of the known ones among these rows, each in its row."""
        if self._rows is None:
            return made
        found = np.full(stop - start, else_)
        found[self._rows[self.place(start) : self.place(stop)] - start] = made
        return found


class Middle:
    """The median of each reading and its neighbours, so many in all; an outlier among them does not enter."""

    def __init__(self, readings: int, name: str, course: Course) -> None:
        self._before, self._after = readings // 2, readings - 1 - readings // 2
        self._made = Made(name)
        self._held, self._done = Held(course), 0

    def push(self, series: Series, _: Block) -> Series:
        self._held.add(series)
        held, of = self._held.series, self._held.stretches
        assert held is not None
        known = Known(held)
        stretches = known.of(of)
        late = max(0, len(known) - self._after)
        waits = known.first(stretches[late:] == self._held.stretch, late)
        ready = max(self._done, len(held) if waits is None else waits)
        first, stop = known.place(self._done), known.place(ready)
        made = medians(
            known.of(held.values), stretches, known.shares(held.parts), commons(held.parts), first, stop, self._before,
            self._after, ALIKE,
        )  # fmt: skip
        found = self._made.told(held, known, made, self._done, ready, held.unit)
        keep = self._needed(known, stop, ready)
        self._held.drop(keep)
        self._done = ready - keep
        return found

    def _needed(self, known: Known, stop: int, ready: int) -> int:
        """The first row that a later window may still need."""
        first = max(0, stop - self._before)
        return min(known.row(first), ready) if first < len(known) else ready


class Delayed:
    """What a quantity was so long before each reading, on the straight line between two readings."""

    def __init__(self, seconds: float, name: str, course: Course) -> None:
        self._by, self._name = seconds, name
        self._held = Held(course)

    def push(self, series: Series, _: Block) -> Series:
        self._held.add(series)
        held, of = self._held.series, self._held.stretches
        assert held is not None
        known = np.flatnonzero(np.isfinite(held.values))
        before = len(held) - len(series)
        rows = np.arange(before, len(held))
        found = between(held, known, of, held.t[rows] - self._by, of[rows], self._name)
        piece = held.part(before, len(held))
        oldest = held.t[-1] - self._by if len(held) else 0.0
        place = int(np.searchsorted(held.t[known], oldest, side="right")) - 2
        self._held.drop(int(known[place]) if place > 0 else 0)
        values, parts = found
        if piece.rows is not None and piece.rows.there is not None:
            values = np.where(piece.rows.there, values, np.nan)
        return replace(piece, values=values, parts=parts, edges=False)


def between(
    held: Series, known: Ints, of: Ints, t: Floats, stretch: Ints | None, name: str
) -> tuple[Floats, dict[Source, Floats]]:
    """(m,) a quantity at times t, interpolated between the readings at `known`, nan where a gap lies there; stretch: in
    which each must lie, None for any."""
    if not len(known) or not len(t):
        return np.full(len(t), np.nan), {source: np.zeros(len(t)) for source in held.parts}
    tk = held.t[known]
    after = np.searchsorted(tk, t)
    inside = (after < len(tk)) & ((after > 0) | (tk[np.minimum(after, len(tk) - 1)] == t))
    high = known[np.minimum(after, len(tk) - 1)]
    exact = held.t[high] == t
    low = np.where(exact, high, known[np.maximum(after - 1, 0)])
    inside &= of[low] == of[high]
    if stretch is not None:
        inside &= of[high] == stretch
    with np.errstate(all="ignore"):
        part = np.where(high == low, 0.0, (t - held.t[low]) / (held.t[high] - held.t[low]))
    values = np.where(inside, (1 - part) * held.values[low] + part * held.values[high], np.nan)
    parts: dict[Source, Floats] = {}
    for source, share in held.parts.items():
        one, two = (1 - part) * share[low], part * share[high]
        if source.common:
            parts[source] = np.where(inside, one + two, 0.0)
        else:
            whole = averaged(source, name)
            parts[whole] = np.where(inside, np.sqrt(one * one + two * two), 0.0)
    return values, parts
