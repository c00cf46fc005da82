"""Kits without a clock that send evenly. Arrival times in; times on an even grid, never later than they arrived, out."""

from __future__ import annotations

import math

import numpy as np

EVEN_FROM = 32  # arrivals that show whether a kit sends evenly
EVEN_STEPS, EVEN_SECONDS = 2.5, 0.06  # how far arrivals of an even kit lie apart from their line: steps or s
LATE_STEPS, LATE_SECONDS = 4.0, 0.08  # later than this is a gap
DRAWN = 0.05  # share of its lateness by which a reading is drawn towards its arrival


class EvenGrid:
    """Puts each reading one usual step after the one before and draws it slowly towards its arrival, so that
    what a bus adds by sending several lines at once is taken out; what comes late stands where it arrived.

    step: s, nan where the kit does not send evenly (then `uneven` once that is known).
    """

    def __init__(self, step: float) -> None:
        self.step = step
        self.uneven = False
        self._arrivals: list[float] = []

    def forget_arrivals(self) -> None:
        self._arrivals.clear()

    def times(self, arrivals: list[float], last: float, *, held: bool) -> list[float]:
        """Times of readings that arrived at these s, after one at `last` (nan: none). held: the step stands still."""
        step, found = self.step, []
        for arrival in arrivals:
            if not held:
                self._arrivals.append(arrival)
                if len(self._arrivals) >= EVEN_FROM:
                    self._look_at_arrivals()
                    step = self.step
            t = arrival
            if step == step and last == last:
                late = arrival - (last + step)
                if late <= 0:
                    t = max(arrival, last)
                elif late <= max(LATE_STEPS * step, LATE_SECONDS):
                    t = last + step + DRAWN * late
            last = t if last != last else max(t, last)
            found.append(last)
        return found

    def _look_at_arrivals(self) -> None:
        """Finds the usual step from the arrivals, nan where the kit does not send evenly."""
        seen = np.array(self._arrivals)
        self._arrivals.clear()
        place = np.arange(EVEN_FROM) - (EVEN_FROM - 1) / 2
        step = float(place @ seen / (place @ place))
        off = seen - seen.mean() - step * place
        even = step > 0 and float(np.ptp(off)) < max(EVEN_STEPS * step, EVEN_SECONDS)
        self.uneven = not even
        if not even:
            self.step = math.nan
        else:
            self.step = step if math.isnan(self.step) else 0.7 * self.step + 0.3 * step
