"""Where a quantity has no value for longer than it usually has: a gap like one without lines. Values in; gaps out."""

from __future__ import annotations

import math

import numpy as np

from common_bench.model.block import Bools, Floats, Ints

FIRST_KNOWN, KNOWN = 8, 32  # values whose median distance in rows is the usual one, at first and from then on
GAP_FACTOR = 4.0  # usual distances, beyond which something is missing


class Absences:
    """Knows how many rows there usually are from one value to the next, as 1, or 10 for a slow column among faster ones.
    What it finds depends on the values alone, not on how they were cut into blocks."""

    def __init__(self) -> None:
        self._usual = math.nan
        self._steps: list[int] = []
        self._wanted = FIRST_KNOWN
        self._since = 0  # rows without a value since the last one
        self._begun = False

    def gaps(self, values: Floats, gap_before: Bools) -> Bools:
        """(n,) `gap_before`, and whether too many values are missing before one that is there."""
        there = np.isfinite(values)
        if self._begun and not self._since and len(self._steps) + len(values) < self._wanted and there.all():
            self._steps.extend([1] * len(values))  # a few readings, each with a value
            return gap_before
        known = np.flatnonzero(there)
        if not len(known):
            self._since += len(values)
            return gap_before
        first = int(known[0]) + 1 + self._since if self._begun else 1
        steps = np.diff(known, prepend=known[0] - first)
        self._since, self._begun = len(values) - 1 - int(known[-1]), True
        found, start = gap_before.copy(), 0
        while start < len(steps):
            if not self._steps and self._wanted == KNOWN and len(steps) - start >= 2 * KNOWN:
                start += self._many(steps[start:], known[start:], found)
                continue
            stop = min(len(steps), start + self._wanted - len(self._steps))
            some = steps[start:stop]
            if not math.isnan(self._usual):
                found[known[start:stop]] |= some > GAP_FACTOR * self._usual
            self._steps.extend(some.tolist())
            if len(self._steps) >= self._wanted:
                self._usual, self._wanted = float(_middle(np.array(self._steps, float)[None, :])[0]), KNOWN
                self._steps.clear()
            start = stop
        return found

    def _many(self, steps: Ints, known: Ints, found: Bools) -> int:
        """As many whole rounds as there are, at once; gives how many steps these were."""
        rounds = len(steps) // KNOWN
        some = steps[: rounds * KNOWN].reshape(rounds, KNOWN)
        middles = _middle(some.astype(float))
        usual = np.concatenate([[self._usual], middles[:-1]])
        with np.errstate(invalid="ignore"):
            found[known[: rounds * KNOWN]] |= (some > GAP_FACTOR * usual[:, None]).ravel()
        self._usual = float(middles[-1])
        return rounds * KNOWN


def _middle(steps: Floats) -> Floats:
    """(n,) medians of rows."""
    if (steps == steps[:, :1]).all():
        return np.asarray(steps[:, 0])
    return np.asarray(np.median(steps, axis=1))
