"""Forms that look at the readings about each reading: rates, smoothing, running medians, delays. Pieces of a quantity in,
pieces of what is made of it out, the same for every way of cutting them.

A window that a gap interrupts, or that lies over the beginning or the end, gives what is not known.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from msgspec.structs import replace

from common_bench.model.block import Block, Bools, Floats, Ints, Series, Source, Spread
from common_bench.model.units import counts_from_own_zero, degree_of, interval_of, product
from common_bench.workings.averaging import averaged
from common_bench.workings.course import Course
from common_bench.workings.held import Held
from common_bench.workings.peaks import moved_by_clock
from common_bench.workings.spreads import Fold, next_alike, roots_of, spread_from, weights_of, whole_spread
from common_bench.workings.streams import nothing
from common_bench.workings.window_loops import NEARLY, even_weights, medians, parabolas

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
        if held.spreads:  # which say how much values resemble their neighbours
            sigma, alike = np.zeros(len(t)), np.zeros(len(t))
        values, own, others = parabolas(
            t, known.of(held.values), known.of(self._held.stretches), known.of(self._held.begins), sigma, alike,
            known.shares(held.parts),
            commons(held.parts), first, stop, self._half, rate, step,
        )  # fmt: skip
        unit = product(interval_of(held.unit), "s", -1.0) if rate else held.unit
        found = self._made.told(
            held, known, (values, own, others), (self._done, ready), unit, lambda row: self._weights(t, row, rate)
        )
        if rate:
            found = moved_by_clock(found, -1)
        needed = held.t[ready] - self._half if ready < len(held) else last - 2 * self._half
        keep = min(int(np.searchsorted(held.t, needed)), ready)
        self._held.drop(keep)
        self._done = ready - keep
        return found

    def _weights(self, t: Floats, row: int, rate: bool) -> Floats:
        """Of a window of as many readings at even distances."""
        inside = np.searchsorted(t, [t[row] - self._half, t[row] + self._half * (1 + NEARLY)], side="right")
        return even_weights(rate, max(1, int(inside[1] - inside[0]) // 2))


def commons(parts: Mapping[Source, Floats]) -> Bools:
    """(s,) which of the sources move all readings together."""
    return np.fromiter((source.common for source in parts), bool, len(parts))


class Made:
    """What a form over several readings makes of those that are known, as a piece of a quantity."""

    def __init__(self, name: str, *, shrinks: bool = False) -> None:
        """name: of the place in the working, by which what is averaged here is told apart; shrinks: what comes out scatters
        at most as much as what goes in."""
        self._name, self._shrinks = name, shrinks
        self._averaged: dict[Source, Source] = {}
        self._spreads: dict[Source, Spread] = {}
        self._window: Floats | None = None  # weights of the first whole window

    def told(
        self, held: Series, known: Known, made: tuple[Floats, Floats, Floats], rows: tuple[int, int], unit: str,
        window: Callable[[int], Floats],
    ) -> Series:  # fmt: skip
        """made: (m,) values of the known ones among the rows from and to; (s, m) their own shares, and what others bring;
        window: the weights about the known one at a place."""
        start, stop = rows
        if stop <= start:
            return nothing(held, unit)
        piece, (values, own, others) = held.part(start, stop), made
        first, last = known.place(start), known.place(stop)
        whole = np.flatnonzero(np.isfinite(values))
        if self._window is None and len(whole):
            self._window = window(first + int(whole[0]))
        parts: dict[Source, Floats] = {}
        at = {source: place for place, source in enumerate(held.parts)}
        for source in held.parts:
            if source.common:
                parts[source] = known.spread(own[at[source]], start, stop, 0.0)
        for source, spread in roots_of(held).items():
            if source not in self._averaged:
                self._averaged[source] = averaged(source, self._name)
            its = [each for each in (source, *spread) if each in at]
            shares = np.array([known.of(held.parts[each])[first:last] for each in its])
            mine, theirs = own[[at[each] for each in its]], others[[at[each] for each in its]]
            if spread and self._window is not None:
                one, other = self._folded(held, source, spread, shares, (mine, theirs), whole)
            else:
                one, other = mine[0], np.copysign(theirs[0], shares[0])
                if self._window is not None and source not in self._spreads:
                    self._spreads[source] = spread_from(source, self._window)
            parts[source] = known.spread(one, start, stop, 0.0)
            parts[self._averaged[source]] = known.spread(other, start, stop, 0.0)
        spreads = {self._averaged[source]: spread for source, spread in self._spreads.items()}
        values = known.spread(values, start, stop, np.nan)
        return Series(piece.t, values, unit, parts, piece.guess, None, False, piece.rows, spreads)

    def _folded(
        self, held: Series, source: Source, spread: list[Source], shares: Floats, made: tuple[Floats, Floats], whole: Ints
    ) -> tuple[Floats, Floats]:  # fmt: skip
        """(m,) the own share and that of the others, of a source whose errors neighbouring values have in common."""
        assert self._window is not None
        fold = Fold(self._window, [weights_of(held, each) for each in spread])
        sizes = np.copysign(np.sqrt((made[0] ** 2 + made[1] ** 2) / float(self._window @ self._window)), shares)
        if len(sizes) == len(spread):  # nothing of its own
            sizes, shares = (np.vstack([np.zeros(each.shape[1]), each]) for each in (sizes, shares))
        one, variance = fold.of(sizes)
        if self._shrinks:
            before = Fold(np.ones(1), [weights_of(held, each) for each in spread])
            variance = np.minimum(variance, before.of(shares)[1])
        if source not in self._spreads and len(whole):
            self._spreads[source] = spread_from(source, fold.weights(sizes[:, whole[0]]))
        return one, np.sqrt(np.maximum(variance - one * one, 0.0))


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
        self._made = Made(name, shrinks=True)
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
        count = self._before + self._after + 1
        found = self._made.told(
            held, known, made, (self._done, ready), held.unit, lambda _: np.full(2 * (count // 2) + 1, 1.0 / count)
        )
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
        spreads = {
            averaged(source, self._name): whole_spread(held, source, spread, int(known[0]))
            for source, spread in roots_of(held).items()
            if spread and len(known)
        }
        return replace(piece, values=values, parts=parts, edges=False, spreads=spreads)


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
    roots, row = roots_of(held), int(low[np.argmax(inside)]) if inside.any() else 0
    for source, share in held.parts.items():
        one, two = (1 - part) * share[low], part * share[high]
        if source.common:
            parts[source] = np.where(inside, one + two, 0.0)
    for source, spread in roots.items():
        squares = np.zeros(len(t))
        alike = next_alike(held, source, spread, row) if spread else 0.0
        for each in (source, *spread):
            if each in held.parts:
                one, two = (1 - part) * held.parts[each][low], part * held.parts[each][high]
                squares += one * one + two * two + 2 * alike * one * two
        parts[averaged(source, name)] = np.where(inside, np.sqrt(np.maximum(squares, 0.0)), 0.0)
    return values, parts
