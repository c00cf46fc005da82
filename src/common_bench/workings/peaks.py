"""Peaks and dips of a quantity over time. Blocks in, events out, the same for every way of cutting blocks."""

from __future__ import annotations

import itertools

import numpy as np

from common_bench.model.block import NO_FLOATS, Bools, Events, Floats, Series, Source

FIT_SHARE = 8.0  # the top of a peak is fitted over 1/8 of "apart" to either side
PEAK_TIME = Source("time of each peak", False)
CLOCK_RATE = Source("kit's clock", True)
LEAST_FOR_SCATTER = 4  # readings; a parabola uses three


class PeakFinder:
    """A peak is a reading above the level that no other within `apart` on either side exceeds.

    It is told once the time `apart` after it has been heard, so its value never changes. Where a gap
    interrupts that time, it is not known whether there was a higher one, and no peak is told; the
    next one is marked `fresh`, so that nobody measures a distance across the gap.
    Its time is the vertex of the least-squares parabola through the readings around it.
    """

    def __init__(self, level: float, apart: float, *, sign: float = 1.0) -> None:
        self._level, self._apart, self._sign = level, apart, sign
        self._t: Floats = np.empty(0)  # readings that a peak may still need
        self._v: Floats = np.empty(0)
        self._u: Floats = np.empty(0)
        self._candidate: tuple[float, float] | None = None
        self._last = -np.inf
        self._fresh = True
        self._missing = 0
        self._origin = np.nan

    def push(self, series: Series, gap_before: Bools, clock_u: Floats) -> Events:
        """series: (n,) with gap_before (n,) and the clock's relative rate uncertainty (n,)."""
        times: list[float] = []
        spreads: list[float] = []
        rates: list[float] = []
        fresh: list[bool] = []
        known = np.isfinite(series.values)
        breaks = np.flatnonzero(gap_before)
        starts = [0, *breaks.tolist(), len(series)]
        for start, stop in itertools.pairwise(starts):
            if (start and start in breaks) or (start == 0 and len(breaks) and breaks[0] == 0):
                self._interrupt()
            if start == stop:
                continue
            keep = known[start:stop]
            for t, u, rate, first in self._stretch(
                series.t[start:stop][keep], self._sign * series.values[start:stop][keep], clock_u[start:stop][keep]
            ):
                times.append(t)
                spreads.append(u)
                rates.append(rate)
                fresh.append(first)
        at = np.array(times)
        if not times:
            return Events(NO_FLOATS, np.empty(0, bool), {PEAK_TIME: NO_FLOATS})
        if len(at) and np.isnan(self._origin):
            self._origin = float(at[0])
        parts = {PEAK_TIME: np.array(spreads)}
        if any(rates):
            parts[CLOCK_RATE] = np.array(rates) * (at - self._origin)
        return Events(at, np.array(fresh, bool), parts)

    def _interrupt(self) -> None:
        self._t, self._v, self._u = np.empty(0), np.empty(0), np.empty(0)
        self._candidate = None
        self._fresh = True

    def _stretch(self, t: Floats, v: Floats, u: Floats) -> list[tuple[float, float, float, bool]]:
        """Readings without a gap among them, in order after those before."""
        if not len(t):
            return []
        held = len(self._t)
        t, v, u = np.concatenate([self._t, t]), np.concatenate([self._v, v]), np.concatenate([self._u, u])
        first = max(1, held - 1)
        tops = first + np.flatnonzero(
            (v[first:-1] > self._level) & (v[first:-1] > v[first - 1 : -2]) & (v[first:-1] >= v[first + 1 :])
        )
        found = []
        for at in tops.tolist():
            when, height = float(t[at]), float(v[at])
            if self._candidate is not None and when - self._candidate[0] >= self._apart:
                found.append(self._tell(t, v, u))
            if self._candidate is None:
                if when - self._last >= self._apart:
                    self._candidate = (when, height)
            elif height > self._candidate[1]:
                self._candidate = (when, height)
        if self._candidate is not None and t[-1] - self._candidate[0] >= self._apart:
            found.append(self._tell(t, v, u))
        since = (self._candidate[0] if self._candidate else float(t[-1])) - self._apart
        cut = min(max(0, int(np.searchsorted(t, since))), max(0, len(t) - 2))
        self._t, self._v, self._u = t[cut:], v[cut:], u[cut:]
        return found

    def _tell(self, t: Floats, v: Floats, u: Floats) -> tuple[float, float, float, bool]:
        assert self._candidate is not None
        when = self._candidate[0]
        at = int(np.searchsorted(t, when))
        reach = self._apart / FIT_SHARE
        low = min(int(np.searchsorted(t, when - reach)), max(0, at - 1))
        high = max(int(np.searchsorted(t, when + reach, side="right")), at + 2)
        moment, spread = _vertex(t[low:high] - when, v[low:high])
        fresh = self._fresh
        self._last, self._candidate, self._fresh = when, None, False
        return when + moment, spread, float(u[at]), fresh


def _vertex(t: Floats, v: Floats) -> tuple[float, float]:
    """Time of the highest point of the parabola through (n,) readings about a peak, and its standard
    uncertainty in s (from the scatter about the parabola; from the reading spacing where too few)."""
    usual = float(t[-1] - t[0]) / max(1, len(t) - 1)
    fallback = 0.0, usual / 12**0.5
    if len(t) < 3 or t[1] <= t[0] or t[-1] <= t[-2]:
        return fallback
    scale = max(abs(float(t[0])), float(t[-1]))
    design = np.vander(t / scale, 3)
    (a, b, _), *_ = np.linalg.lstsq(design, v, rcond=None)
    if a >= 0:
        return fallback
    vertex = -b / (2 * a)
    if not t[0] / scale <= vertex <= t[-1] / scale:
        return fallback
    if len(t) < LEAST_FOR_SCATTER:
        return vertex * scale, usual / 12**0.5
    left = v - design @ np.linalg.lstsq(design, v, rcond=None)[0]
    covariance = np.linalg.pinv(design.T @ design) * float(left @ left) / (len(t) - 3)
    gradient = np.array([b / (2 * a * a), -1 / (2 * a), 0.0])
    return float(vertex * scale), float(np.sqrt(max(0.0, gradient @ covariance @ gradient)) * scale)


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
