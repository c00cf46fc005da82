"""Peaks and dips of a quantity over time. Blocks in, events out, the same for every way of cutting blocks."""

from __future__ import annotations

import itertools

import numpy as np
from msgspec.structs import replace

from common_bench.model.block import NO_FLOATS, Block, Events, Floats, Ints, Rows, Series, Source
from common_bench.workings.spreads import scatter_of
from common_bench.workings.top_loops import peaks_among
from common_bench.workings.tops import tops_of

PEAK_TIME = Source("time of each peak", False)
CLOCK_RATE = Source("kit's clock", True)
NEAR = 2  # readings, by which a highest one may lie beside the top and still be the middle of what is fitted


class PeakFinder:
    """A peak is a reading above the level that no other less than `apart` away on either side exceeds; of equal ones the
    first counts.

    It is told once the time `apart` after it has been heard, so its value never changes. Where that time before it or
    after it has not been heard, as at the beginning, at the end and about a gap, it is not known whether there was a
    higher one, and no peak is told; the next one is marked `fresh`, so that nobody measures a distance across the gap.
    Its time is that of the top of a curve through the readings around it.
    """

    def __init__(self, level: float, apart: float, *, sign: float = 1.0, depth: float = 0.0) -> None:
        """level and depth in the quantity's unit, level times sign; depth: by which the lowest reading less than `apart`
        away must lie lower on each side."""
        self._level, self._apart, self._sign, self._depth = level, apart, sign, depth
        self._t: Floats = np.empty(0)  # readings that a peak may still need
        self._v: Floats = np.empty(0)
        self._u: Floats = np.empty((2, 0))  # of the clock's rate, and what single readings scatter at least
        self._from = -np.inf  # no peak before this time any more
        self._fresh = True

    def push(self, series: Series, rows: Rows) -> Events:
        """series: (n,) over readings, of which `rows` tells what is known."""
        found: list[tuple[Floats, Floats, Floats, list[bool]]] = []
        known = np.isfinite(series.values)
        u = np.stack([rows.clock_u, scatter_of(series)])
        breaks = np.flatnonzero(rows.gap_before).tolist()
        starts = [0, *(each for each in breaks if each), len(series)]
        for start, stop in itertools.pairwise(starts):
            if start or breaks[:1] == [0]:
                self._interrupt()
            keep: Ints | slice = slice(start, stop)
            if not known[keep].all():
                keep = start + np.flatnonzero(known[keep])
            t = series.t[keep]
            if len(t):
                told = self._stretch(t, self._sign * series.values[keep], u[:, keep])
                found += [told] if told is not None else []
        if not found:
            return Events(NO_FLOATS, np.empty(0, bool), {PEAK_TIME: NO_FLOATS})
        at, spreads, rates = (np.concatenate([each[k] for each in found]) for k in (0, 1, 2))
        fresh = [each for told in found for each in told[3]]
        parts = {PEAK_TIME: spreads}
        if rates.any():
            parts[CLOCK_RATE] = rates
        return Events(at, np.array(fresh, bool), parts)

    def _interrupt(self) -> None:
        self._t, self._v, self._u = np.empty(0), np.empty(0), np.empty((2, 0))
        self._from, self._fresh = -np.inf, True

    def _stretch(self, t: Floats, v: Floats, u: Floats) -> tuple[Floats, Floats, Floats, list[bool]] | None:
        """Readings without a gap among them, in order after those before."""
        if self._from == -np.inf:
            self._from = float(t[0]) + self._apart
        t, v, u = np.concatenate([self._t, t]), np.concatenate([self._v, v]), np.concatenate([self._u, u], axis=1)
        heard = float(t[-1]) - self._apart
        first = max(1, int(np.searchsorted(t, self._from)))
        last = min(len(t) - 1, int(np.searchsorted(t, heard, side="right")))
        low, tops, high = peaks_among(t, v, first, last, self._level, self._apart, self._depth)
        found = self._tell(t, v, u, low, tops, high) if len(tops) else None
        self._from = max(self._from, float(np.nextafter(heard, np.inf)))
        cut = max(0, int(np.searchsorted(t, self._from - self._apart)) - 2)
        self._t, self._v, self._u = t[cut:], v[cut:], u[:, cut:]
        return found

    def _tell(
        self, t: Floats, v: Floats, u: Floats, low: Ints, at: Ints, high: Ints
    ) -> tuple[Floats, Floats, Floats, list[bool]]:
        top = tops_of(t, v, low, at, high, least=u[1])
        nearest = np.searchsorted(t, top[0])
        before = np.maximum(nearest - 1, 0)
        nearest = np.minimum(nearest, len(t) - 1)
        nearer = np.clip(np.where(top[0] - t[before] <= t[nearest] - top[0], before, nearest), low, high - 1)
        again = np.flatnonzero(np.abs(nearer - at) > NEAR)  # the highest reading of a flat top may lie anywhere on it
        if len(again):
            top[:, again] = tops_of(t, v, low[again], nearer[again], high[again], least=u[1])
        fresh = [self._fresh, *([False] * (len(at) - 1))]
        self._fresh = False
        return top[0], top[2], u[0, at], fresh


def apart(source: Source, one: Floats, other: Floats, seconds: Floats) -> Floats:
    """(n,) s: what a source does to the time from one event to the other, which came so many s later."""
    if source == CLOCK_RATE:
        return other * seconds
    return other - one if source.common else np.sqrt(one**2 + other**2)


def moved_by_clock(series: Series, power: int) -> Series:
    """A quantity that goes with so high a power of the time, with what the pace of the kit's clock does to it; one that
    nothing is known of as it is."""
    if not series.parts or series.rows is None or not np.count_nonzero(series.rows.clock_u):
        return series
    moved = power * series.rows.clock_u * np.where(np.isfinite(series.values), series.values, 0.0)
    return replace(series, parts={**series.parts, CLOCK_RATE: series.parts.get(CLOCK_RATE, 0.0) + moved})


class GapsBetween:
    """The distances of one kind of event, as they come."""

    def __init__(self) -> None:
        self._last: Events | None = None

    def push(self, events: Events, _: Block) -> Series:
        found = gaps_between(events, self._last)
        if len(events):
            last = {source: share[-1:] for source, share in events.parts.items()}
            self._last = Events(events.t[-1:], events.fresh[-1:], last)
        return found


def gaps_between(events: Events, before: Events | None) -> Series:
    """Distances between neighbouring events, at the later one's time; none across what is not known.

    events: (n,) new ones; before: the last event told earlier, or None.
    """
    t, fresh = events.t, events.fresh
    if not len(t):
        return Series(NO_FLOATS, NO_FLOATS, "s", dict.fromkeys(events.parts, NO_FLOATS), None, NO_FLOATS)
    if before is not None and len(before):
        t, fresh = np.concatenate([before.t, t]), np.concatenate([before.fresh, fresh])
    parts: dict[Source, Floats] = {}
    pairs = np.flatnonzero(~fresh[1:]) + 1
    for source, share in events.parts.items():
        if before is not None and len(before):
            share = np.concatenate([before.parts.get(source, np.zeros(1)), share])
        parts[source] = apart(source, share[pairs - 1], share[pairs], t[pairs] - t[pairs - 1])
    return Series(t[pairs], t[pairs] - t[pairs - 1], "s", parts, None, t[pairs - 1])
