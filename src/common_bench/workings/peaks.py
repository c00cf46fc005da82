"""Peaks and dips of a quantity over time. Blocks in, events out, the same for every way of cutting blocks."""

from __future__ import annotations

import itertools

import numpy as np

from common_bench.model.block import NO_FLOATS, Block, Events, Floats, Rows, Series, Source
from common_bench.workings.tops import top_of

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
        self._u: Floats = np.empty(0)
        self._from = -np.inf  # no peak before this time any more
        self._fresh = True
        self._origin = np.nan

    def push(self, series: Series, rows: Rows) -> Events:
        """series: (n,) over readings, of which `rows` tells what is known."""
        gap_before, clock_u = rows.gap_before, rows.clock_u
        found: list[tuple[float, float, float, bool]] = []
        known = np.isfinite(series.values)
        breaks = np.flatnonzero(gap_before)
        starts = [0, *breaks.tolist(), len(series)]
        for start, stop in itertools.pairwise(starts):
            if (start and start in breaks) or (start == 0 and len(breaks) and breaks[0] == 0):
                self._interrupt()
            keep = start + np.flatnonzero(known[start:stop])
            if len(keep):
                found += self._stretch(series.t[keep], self._sign * series.values[keep], clock_u[keep])
        if not found:
            return Events(NO_FLOATS, np.empty(0, bool), {PEAK_TIME: NO_FLOATS})
        times, spreads, rates, fresh = zip(*found, strict=True)
        at = np.array(times)
        if np.isnan(self._origin):
            self._origin = float(at[0])
        parts = {PEAK_TIME: np.array(spreads)}
        if any(rates):
            parts[CLOCK_RATE] = np.array(rates) * (at - self._origin)
        return Events(at, np.array(fresh, bool), parts)

    def _interrupt(self) -> None:
        self._t, self._v, self._u = np.empty(0), np.empty(0), np.empty(0)
        self._from, self._fresh = -np.inf, True

    def _stretch(self, t: Floats, v: Floats, u: Floats) -> list[tuple[float, float, float, bool]]:
        """Readings without a gap among them, in order after those before."""
        if self._from == -np.inf:
            self._from = float(t[0]) + self._apart
        t, v, u = np.concatenate([self._t, t]), np.concatenate([self._v, v]), np.concatenate([self._u, u])
        tops = 1 + np.flatnonzero((v[1:-1] > self._level) & (v[1:-1] > v[:-2]) & (v[1:-1] >= v[2:]))
        heard = float(t[-1]) - self._apart
        found = []
        place = int(np.searchsorted(t[tops], self._from))
        while place < len(tops) and t[tops[place]] <= heard:
            at = int(tops[place])
            low = min(at, int(np.searchsorted(t, t[at] - self._apart, side="right")))
            high = max(at + 1, int(np.searchsorted(t, t[at] + self._apart)))
            highest = low + int(np.argmax(v[low:high]))
            if highest == at and self._deep(v, low, at, high):
                found.append(self._tell(t[low:high], v[low:high], at - low, float(u[at])))
            # What lies less than `apart` behind the highest is no peak, nor is anything between here and it.
            self._from = float(t[highest]) + (0.0 if highest > at else self._apart)
            place = max(place + 1, int(np.searchsorted(t[tops], self._from)))
        cut = max(0, int(np.searchsorted(t, max(self._from, heard) - self._apart)) - 2)
        self._t, self._v, self._u = t[cut:], v[cut:], u[cut:]
        return found

    def _deep(self, v: Floats, low: int, at: int, high: int) -> bool:
        if self._depth <= 0:
            return True
        floor = v[at] - self._depth
        return bool(v[low:at].min(initial=np.inf) <= floor and v[at + 1 : high].min(initial=np.inf) <= floor)

    def _tell(self, t: Floats, v: Floats, at: int, rate: float) -> tuple[float, float, float, bool]:
        top = top_of(t, v, at)
        nearer = int(np.argmin(np.abs(t - top.t)))
        if abs(nearer - at) > NEAR:  # the highest reading of a flat top may lie anywhere on it
            top = top_of(t, v, nearer)
        fresh, self._fresh = self._fresh, False
        return top.t, top.u_t, rate, fresh


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
        one, other = share[pairs], share[pairs - 1]
        parts[source] = one - other if source.common else np.sqrt(one**2 + other**2)
    return Series(t[pairs], t[pairs] - t[pairs - 1], "s", parts, None, t[pairs - 1])
