"""Traces of the recent past, kept for drawing. Readings in, thinned pictures out."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from common_bench.model.block import Bools, Floats
from common_bench.workings.thinning import extremes, moved_on

MOST_READINGS = 1 << 13  # per trace: over two minutes at 50 per second; what is drawn is far shorter


class Picture(NamedTuple):
    """What to draw: t (n,) s and values (n,), nan where the line breaks."""

    t: Floats
    values: Floats


class Trace:
    """The last MOST_READINGS of one quantity; memory is taken once and never grows."""

    def __init__(self) -> None:
        # Filled, not empty: pages that are touched one by one later look like a leak for ten minutes.
        self._t = np.full(2 * MOST_READINGS, np.nan)
        self._v = np.full(2 * MOST_READINGS, np.nan)
        self._end = 0
        self.count = 0  # of all that were ever added, breaks among them

    def add(self, t: Floats, values: Floats, gap_before: Bools | None = None) -> None:
        t, values = _with_breaks(t, values, gap_before)
        self.count += len(t)
        t, values = t[-MOST_READINGS:], values[-MOST_READINGS:]
        if self._end + len(t) > len(self._t):
            keep = slice(self._end - MOST_READINGS, self._end)
            self._t[:MOST_READINGS], self._v[:MOST_READINGS] = self._t[keep].copy(), self._v[keep].copy()
            self._end = MOST_READINGS
        stop = self._end + len(t)
        self._t[self._end : stop], self._v[self._end : stop] = t, values
        self._end = stop

    def since(self, start: float) -> Picture:
        """All that is kept from s on."""
        first = max(0, self._end - MOST_READINGS)
        low = first + int(np.searchsorted(self._t[first : self._end], start))
        return Picture(self._t[low : self._end].copy(), self._v[low : self._end].copy())

    def after(self, number: int) -> Picture:
        """What is kept of all that came after so many; not copied."""
        low = max(0, self._end - MOST_READINGS, self._end - (self.count - number))
        return Picture(self._t[low : self._end], self._v[low : self._end])


def _with_breaks(t: Floats, values: Floats, gap_before: Bools | None) -> tuple[Floats, Floats]:
    """A value that is none stands in each gap."""
    if gap_before is None or not np.count_nonzero(gap_before):
        return t, values
    at = np.flatnonzero(gap_before)
    return np.insert(t, at, t[at]), np.insert(values, at, np.nan)


class Reach:
    """Smallest and largest of all values, nan before the first, and the smallest step between neighbours, inf before there was one."""

    def __init__(self) -> None:
        self.ends = np.nan, np.nan
        self.smallest, self._last = np.inf, np.nan

    def add(self, values: Floats) -> None:
        if not len(values):
            return
        steps = np.abs(np.diff(values, prepend=self._last))
        self.smallest = min(self.smallest, float(np.min(steps, where=steps > 0, initial=np.inf)))
        self._last = float(values[-1])
        low, high = self.ends
        self.ends = float(np.fmin(low, np.fmin.reduce(values))), float(np.fmax(high, np.fmax.reduce(values)))


def thinned(picture: Picture, pixels: int, width: float) -> Picture:
    """At most two points a pixel, the smallest and the largest in it at their own times, so that no
    spike is lost and no step is drawn that was not there.

    `width`: s that the pixels show. Pixels sit at fixed times, so that a moving picture does not
    shimmer. Breaks stay breaks.
    """
    t, values = picture
    if len(t) <= 2 * pixels or width <= 0:
        return picture
    keep = np.zeros(len(t), bool)
    extremes(t, values, pixels / width, keep)
    return Picture(t[keep], values[keep])


_moved_on = moved_on.compiled  # type: ignore[attr-defined]  # all that is given is of the live window's own making


class MovingPicture:
    """A thinned picture that goes on: pixels sit at fixed times, so that those that are full never change, and only what has
    come since is looked at. per_second: pixels in a second."""

    def __init__(self, per_second: float) -> None:
        self._per_second = per_second
        self._seen = 0  # readings of the trace before those of the pixel that is open
        self._t = self._v = np.empty(0)  # of full pixels

    def of(self, trace: Trace, start: float) -> Picture:
        """All of a trace from s on."""
        t, values = trace.after(self._seen)
        count = trace.count
        if count - self._seen > len(t):  # not all that came since is kept
            self._t = self._v = np.empty(0)
        all_t, all_values, whole, full = _moved_on(t, values, self._per_second, self._t, self._v, start)
        self._t, self._v = all_t[:whole], all_values[:whole]
        self._seen = count - (len(t) - full)
        return Picture(all_t, all_values)
