"""Forms that look at the readings about each reading: rates, smoothing, running medians, delays. Pieces of a quantity in,
pieces of what is made of it out, the same for every way of cutting them.

A window that a gap interrupts, or that lies over the beginning or the end, gives what is not known.
"""

from __future__ import annotations

import itertools
from dataclasses import replace
from functools import lru_cache
from typing import Literal

import numpy as np
from scipy.ndimage import correlate1d

from common_bench.model.block import Block, Floats, Ints, Series, Source
from common_bench.model.units import counts_from_own_zero, degree_of, interval_of, product
from common_bench.workings.held import Held
from common_bench.workings.in_order import added, averaged, come_evenly
from common_bench.workings.streams import nothing

LEAST = 3  # readings at different times, that a parabola needs
AT_ONCE = 8192  # readings whose windows are worked out together
ALIKE = 2.0  # noises, within which readings count for a median as one another's equals


class Polynomial:
    """The local parabola about each reading, by least squares on the true times of the readings less than half a window
    away (Savitzky and Golay, Anal. Chem. 36, 1627 (1964)): its slope or its height at the reading's own time.

    What is independent from reading to reading enters by the squares of its weights; the share of the reading itself stays
    its own, so that a quantity and what is smoothed of it know of each other.
    """

    def __init__(self, gives: Literal["rate", "height"], seconds: float, name: str) -> None:
        """name: of the place in the working, by which what is averaged here is told apart."""
        self._gives, self._half, self._name = gives, seconds / 2, name
        self._held, self._done = Held(scatter=True), 0

    def push(self, series: Series, _: Block) -> Series:
        self._held.add(series)
        held = self._held.series
        assert held is not None
        stretches, begins = self._held.stretches, self._held.begins
        there = np.isfinite(held.values)
        known = np.flatnonzero(there)
        tk, of = held.t[known], stretches[known]
        last = tk[-1] if len(known) else -np.inf
        waits = np.flatnonzero(there & (stretches == self._held.stretch) & ~(held.t + self._half < last))
        ready = max(self._done, int(waits[0]) if len(waits) else len(held))
        at = np.arange(self._done, ready)
        at = at[there[at]]
        ends = tk[np.searchsorted(of, stretches[at], side="right") - 1]  # of the last value of each reading's stretch
        inside = (begins[at] <= held.t[at] - self._half) & (ends >= held.t[at] + self._half)
        values = np.full(ready - self._done, np.nan)
        parts: dict[Source, Floats] = {}
        chosen = at[inside]
        for start in range(0, len(chosen), AT_ONCE):
            rows = chosen[start : start + AT_ONCE]
            self._fit(held, known, rows, values, parts, self._done)
        found = self._told(held, values, parts, self._done, ready)
        needed = held.t[ready] - self._half if ready < len(held) else last - 2 * self._half
        keep = min(int(np.searchsorted(held.t, needed)), ready)
        self._held.drop(keep)
        self._done = ready - keep
        return found

    def _told(self, held: Series, values: Floats, parts: dict[Source, Floats], start: int, stop: int) -> Series:
        unit = self._unit(held.unit)
        if stop <= start:
            return nothing(held, unit)
        piece = held.part(start, stop)
        return Series(piece.t, values, unit, parts, piece.guess, None, False, piece.rows)

    def _unit(self, unit: str) -> str:
        return product(interval_of(unit), "s", -1.0) if self._gives == "rate" else unit

    def _fit(
        self, held: Series, known: Ints, rows: Ints, values: Floats, parts: dict[Source, Floats], first: int
    ) -> None:
        """Fills `values` and `parts`, which begin at row `first`, at these rows."""
        place = np.searchsorted(known, rows)
        even = self._even(held.t[known], self._held.stretches[known], place)
        for half in np.unique(even).tolist():
            mine = even == half
            if half:
                self._fit_even(held, known, place[mine], half, values, parts, first)
            else:
                self._fit_uneven(held, known, rows[mine], values, parts, first)

    def _even(self, tk: Floats, of: Ints, place: Ints) -> Ints:
        """(n,) how many readings a window reaches to each side where they come at even distances, 0 where not."""
        steps = np.diff(tk)
        step = steps[np.minimum(place, len(steps) - 1)] if len(steps) else np.zeros(len(place))
        with np.errstate(all="ignore"):
            reach = np.where(step > 0, np.floor(self._half * (1 + 1e-9) / step), 0.0).astype(np.int64)
        low, high = np.maximum(place - reach, 0), np.minimum(place + reach, len(tk) - 1)
        good = (low == place - reach) & (high == place + reach) & (of[low] == of[high]) & (reach > 0)
        good &= come_evenly(tk, low, high)
        return np.where(good, reach, 0)

    def _fit_even(
        self, held: Series, known: Ints, place: Ints, half: int, values: Floats, parts: dict[Source, Floats], first: int
    ) -> None:
        """The same for windows of so many readings to each side, all at even distances: with weights that need no fit."""
        whole = len(known) == len(held)
        low, high = int(place.min()) - half, int(place.max()) + half + 1
        mine = place - low

        def seen(of: Floats) -> Floats:
            return (of if whole else of[known])[low:high]

        tk, vk = seen(held.t), seen(held.values)
        weights = _weights_of(self._gives, half)
        own, at = (place if whole else known[place]), (place if whole else known[place]) - first
        scale = np.ones(len(place))
        if self._gives == "rate":
            step = degree_of(held.unit) if counts_from_own_zero(held.unit) else 1.0
            scale = step * (2 * half) / (tk[mine + half] - tk[mine - half])
        values[at] = scale * _weighed(weights, vk)[mine]
        grown = self._larger(held, own) * _likeness(self._gives, half, self._held.noise[1][own])
        for source, share in held.parts.items():
            share = seen(share)
            if source.common:
                _put(parts, source, len(values), at, scale * _weighed(weights, share)[mine])
                continue
            squares = scale * scale * _weighed(weights * weights, share * share)[mine]
            alone = scale * weights[half] * share[mine]
            others = np.sqrt(np.maximum(0.0, squares * grown - alone * alone))
            _put(parts, source, len(values), at, alone)
            _put(parts, averaged(source, self._name), len(values), at, others)

    def _fit_uneven(
        self, held: Series, known: Ints, rows: Ints, values: Floats, parts: dict[Source, Floats], first: int
    ) -> None:
        tk, vk = held.t[known], held.values[known]
        of = self._held.stretches
        t, reach = held.t[rows], self._half * (1 + 1e-9)
        low = np.maximum(np.searchsorted(tk, t - reach), np.searchsorted(of[known], of[rows]))
        high = np.minimum(
            np.searchsorted(tk, t + reach, side="right"), np.searchsorted(of[known], of[rows], side="right")
        )
        counts = high - low
        step = degree_of(held.unit) if self._gives == "rate" and counts_from_own_zero(held.unit) else 1.0
        for count in np.unique(counts).tolist():
            if count < LEAST:
                continue
            mine = np.flatnonzero(counts == count)
            index = low[mine][None, :] + np.arange(count)[:, None]
            own = rows[mine]
            weights = self._weights((tk[index] - t[mine]) / self._half)
            if self._gives == "rate":
                weights = weights * (step / self._half)
            centre = held.values[own]
            found = added(weights * (vk[index] - centre))
            values[own - first] = found if self._gives == "rate" else centre + found
            itself = known[index] == own
            grown = self._grown(held, own, weights)
            for source, share in held.parts.items():
                there = weights * share[known][index]
                if source.common:
                    _put(parts, source, len(values), own - first, added(there))
                    continue
                alone = added(np.where(itself, there, 0.0))
                others = np.sqrt(np.maximum(0.0, added(there * there) * grown - alone * alone))
                _put(parts, source, len(values), own - first, alone)
                _put(parts, averaged(source, self._name), len(values), own - first, others)

    def _grown(self, held: Series, own: Ints, weights: Floats) -> Floats:
        """(n,) by which the variance grows since readings scatter by more than is stated of them, or resemble their
        neighbours: Σ w_j w_k φ^|j−k| beside Σ w²."""
        larger, alike = self._larger(held, own), self._held.noise[1][own]
        if not alike.any():
            return larger
        squares, carried = weights[0] ** 2, np.zeros(len(own))
        total = squares.copy()
        for before, weight in itertools.pairwise(weights):
            carried = alike * (carried + before)
            squares = squares + weight**2
            total += weight**2 + 2 * weight * carried
        with np.errstate(all="ignore"):
            return larger * np.where(squares > 0, np.maximum(total, 0.0) / squares, 1.0)

    def _larger(self, held: Series, own: Ints) -> Floats:
        """(n,) by which the variance grows since readings scatter by more than is stated of them."""
        sigma = self._held.noise[0][own]
        stated = np.sqrt(sum((share[own] ** 2 for s, share in held.parts.items() if not s.common), np.zeros(len(own))))
        with np.errstate(all="ignore"):
            return np.asarray(np.where((sigma > stated) & (stated > 0), sigma / stated, 1.0) ** 2)

    def _weights(self, x: Floats) -> Floats:
        """(k, n) weights of k readings at x = (t − own t) / half a window, for the slope per x or the height at 0."""
        x2 = x * x
        s0, s1, s2 = float(len(x)), added(x), added(x2)
        s3, s4 = added(x2 * x), added(x2 * x2)
        a, b, c = s2 * s4 - s3 * s3, s2 * s3 - s1 * s4, s1 * s3 - s2 * s2
        determinant = s0 * a + s1 * b + s2 * c
        with np.errstate(all="ignore"):
            whole = np.where(np.abs(determinant) > 1e-9 * s0 * s0 * s0, determinant, np.nan)
            if self._gives == "height":
                return np.asarray((a + b * x + c * x2) / whole)
            d, e = s0 * s4 - s2 * s2, s1 * s2 - s0 * s3
            return np.asarray((b + d * x + e * x2) / whole)


@lru_cache(maxsize=256)
def _weights_of(gives: str, half: int) -> Floats:
    """(2 half + 1,) of readings at even distances, for the slope of the parabola in its middle, per distance, or its height
    there (Savitzky and Golay, as above); one reading to each side gives itself."""
    j = np.arange(-half, half + 1, dtype=float)
    if gives == "rate":
        return np.asarray(j / float(j @ j))
    m = float(half)
    return np.asarray(3 * (3 * m * m + 3 * m - 1 - 5 * j * j) / ((2 * m - 1) * (2 * m + 1) * (2 * m + 3)))


def _likeness(gives: str, half: int, alike: Floats) -> Floats:
    """(n,) by which the variance grows where readings resemble their neighbours: Σ w_j w_k φ^|j−k| beside Σ w²."""
    if not alike.any():
        return np.ones(len(alike))
    found = np.empty(len(alike))
    for each in np.unique(alike).tolist():
        found[alike == each] = _grown_by(gives, half, each)
    return found


@lru_cache(maxsize=4096)
def _grown_by(gives: str, half: int, alike: float) -> float:
    weights = _weights_of(gives, half)
    together = np.correlate(weights, weights, "full")[len(weights) - 1 :]
    total = together[0] + 2 * float(together[1:] @ alike ** np.arange(1, len(weights)))
    return max(0.0, float(total / together[0]))


def _weighed(weights: Floats, of: Floats) -> Floats:
    """(n,) weighted sums of each value and its neighbours, each the same whatever stands beside them; what lies nearer to
    the ends than a window reaches is void."""
    return np.asarray(correlate1d(of, weights, mode="constant"))


def _put(parts: dict[Source, Floats], source: Source, size: int, at: Ints, share: Floats) -> None:
    parts.setdefault(source, np.zeros(size))[at] = share


class Middle:
    """The median of each reading and its neighbours, so many in all; an outlier among them does not enter."""

    def __init__(self, readings: int, name: str) -> None:
        self._before, self._after = readings // 2, readings - 1 - readings // 2
        self._count, self._name = readings, name
        self._held, self._done = Held(), 0

    def push(self, series: Series, _: Block) -> Series:
        self._held.add(series)
        held, of = self._held.series, self._held.stretches
        assert held is not None
        there = np.isfinite(held.values)
        known = np.flatnonzero(there)
        place = np.searchsorted(known, np.arange(len(held)))  # among the known ones
        waits = np.flatnonzero(there & (of == self._held.stretch) & (place + self._after >= len(known)))
        ready = max(self._done, int(waits[0]) if len(waits) else len(held))
        values = np.full(ready - self._done, np.nan)
        parts = {source: np.zeros(len(values)) for source in held.parts}
        rows = np.arange(self._done, ready)
        rows = rows[np.isfinite(held.values[rows])]
        low, high = place[rows] - self._before, place[rows] + self._after
        fits = (low >= 0) & (high < len(known))
        rows, low, high = rows[fits], low[fits], high[fits]
        within = of[known[low]] == of[known[high]]
        rows, low = rows[within], low[within]
        if len(rows):
            self._fill(held, known, rows, low, values, parts)
        piece = held.part(self._done, ready)
        found = replace(piece, values=values, parts=parts, edges=False)
        next_ = int(place[ready]) if ready < len(held) else len(known)
        first = max(0, next_ - self._before)
        keep = min(int(known[first]), ready) if first < len(known) else ready
        self._held.drop(keep)
        self._done = ready - keep
        return found

    def _fill(
        self, held: Series, known: Ints, rows: Ints, low: Ints, values: Floats, parts: dict[Source, Floats]
    ) -> None:
        index = low[:, None] + np.arange(self._count)[None, :]
        around = held.values[known][index]
        order = np.argsort(around, axis=1, kind="stable")
        middle = order[:, (self._count - 1) // 2]
        chosen = known[low + middle]
        at = rows - self._done
        values[at] = held.values[chosen]
        noise = np.sqrt(
            sum((share[chosen] ** 2 for source, share in held.parts.items() if not source.common), np.zeros(1))
        )
        near = np.abs(around - values[at][:, None]) <= ALIKE * noise[:, None] if noise.shape == chosen.shape else None
        equals = near.sum(axis=1) if near is not None else np.ones(len(rows))
        shrink = np.sqrt((np.pi / 2) / (equals + np.pi / 2 - 1))  # of the median of so many, within 1 of 100
        for source, share in held.parts.items():
            if source.common:
                parts[source][at] = share[chosen]
                continue
            itself = chosen == rows
            parts[source][at] = np.where(itself & (equals == 1), share[chosen], 0.0)
            _put(
                parts, averaged(source, self._name), len(values), at,
                np.where(itself & (equals == 1), 0.0, np.abs(share[chosen]) * shrink),
            )  # fmt: skip


class Delayed:
    """What a quantity was so long before each reading, on the straight line between two readings."""

    def __init__(self, seconds: float, name: str) -> None:
        self._by, self._name = seconds, name
        self._held = Held()

    def push(self, series: Series, _: Block) -> Series:
        before = 0 if self._held.series is None else len(self._held.series)
        self._held.add(series)
        held, of = self._held.series, self._held.stretches
        assert held is not None
        known = np.flatnonzero(np.isfinite(held.values))
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
