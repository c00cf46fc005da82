"""Where something is missing. Times of readings in; which of them stand behind a gap, and the usual spacing, out."""

from __future__ import annotations

import math

import numpy as np

from common_bench.model.block import Bools, Floats

SPACING_FROM = 32  # readings whose median distance is the usual spacing
FEW = 16  # readings
GAP_FACTOR = 4.0  # a distance of so many usual spacings is a gap


class GapFinder:
    """Knows the usual spacing in s (nan before it is known). What it finds depends on the times alone, not on
    how they were cut into blocks. watch_uneven: says in `uneven` whether readings come unevenly."""

    def __init__(self, spacing: float, last_t: float, *, watch_uneven: bool) -> None:
        self.spacing = spacing
        self.uneven = False
        self._watch_uneven = watch_uneven
        self._from = last_t
        self._steps: list[float] = []

    def forget_steps(self) -> None:
        self._steps.clear()

    def before(self, t: Floats, *, held: bool) -> Bools:
        """(n,) whether the distance to the reading before is more than GAP_FACTOR usual spacings. held: the usual
        spacing stands still."""
        gaps = np.zeros(len(t), bool)
        if not len(t):
            return gaps
        from_ = float(t[0]) if math.isnan(self._from) else self._from
        self._from = float(t[-1])
        if len(t) <= FEW and len(self._steps) + len(t) < SPACING_FROM:
            # A handful of readings: the same without setting arrays up.
            limit = GAP_FACTOR * self.spacing
            for row, at in enumerate(t.tolist()):
                if at - from_ > limit:
                    gaps[row] = True
                if not held or math.isnan(self.spacing):
                    self._steps.append(at - from_)
                from_ = at
            return gaps
        steps = np.empty(len(t))
        steps[0] = t[0] - from_
        np.subtract(t[1:], t[:-1], out=steps[1:])
        start = 0
        while start < len(t):
            stop = min(len(t), start + SPACING_FROM - len(self._steps))
            if held and not math.isnan(self.spacing):
                stop = len(t)
            else:
                self._steps.extend(steps[start:stop].tolist())
            if not math.isnan(self.spacing):
                gaps[start:stop] = steps[start:stop] > GAP_FACTOR * self.spacing
            if len(self._steps) >= SPACING_FROM:
                self._settle()
            start = stop
        return gaps

    def _settle(self) -> None:
        ordered = sorted(self._steps)
        usual = (ordered[SPACING_FROM // 2 - 1] + ordered[SPACING_FROM // 2]) / 2
        if self._watch_uneven:
            self.uneven = ordered[SPACING_FROM * 85 // 100] > GAP_FACTOR * usual
        self.spacing = usual if usual > 0 else self.spacing
        self._steps.clear()
