"""The readings of a quantity that are still needed. Pieces in; what is held of them, which belong together, what they scatter out."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import NO_FLOATS, Floats, Ints, Series, joined
from common_bench.workings.missing import Absences
from common_bench.workings.noise import NoiseSoFar


class Held:
    """The readings that a window may still need, and which of them belong together."""

    def __init__(self, *, scatter: bool = False) -> None:
        """scatter: `noise` is asked for."""
        self._absences = Absences()
        self.series: Series | None = None
        self._stretches: Ints = np.empty(0, np.int64)
        self._begins: Floats = NO_FLOATS
        self._stretch = 0
        self._noise_so_far = NoiseSoFar() if scatter else None
        self._noise: tuple[Floats, Floats] = (NO_FLOATS, NO_FLOATS)
        self._began = np.nan  # when the stretch under way had its first value

    def add(self, series: Series) -> None:
        rows = series.rows
        assert rows is not None
        gaps = self._absences.gaps(series.values, rows.gap_before)
        stretches = self._stretch + np.cumsum(gaps)
        known = np.isfinite(series.values)
        begins = np.full(len(series), np.nan)
        for each in np.unique(stretches):
            of = stretches == each
            if each != self._stretch:
                self._stretch, self._began = int(each), np.nan
            at = np.flatnonzero(of & known)
            if len(at) and np.isnan(self._began):
                self._began = float(series.t[at[0]])
            begins[of] = self._began
        self.series = series if self.series is None else joined([self.series, series])
        self._stretches = np.concatenate([self._stretches, stretches])
        self._begins = np.concatenate([self._begins, begins])
        if self._noise_so_far is None:
            return
        noise = np.zeros(len(series)), np.zeros(len(series))
        for each, told in zip(noise, self._noise_so_far.add(series.values[known], stretches[known]), strict=True):
            each[known] = told
        self._noise = np.concatenate([self._noise[0], noise[0]]), np.concatenate([self._noise[1], noise[1]])

    @property
    def noise(self) -> tuple[Floats, Floats]:
        """(n,) how much readings scatter about their course, and their likeness to their neighbours, as far as those
        before tell it; 0 before."""
        return self._noise

    @property
    def stretch(self) -> int:
        """The number of the stretch under way."""
        return self._stretch

    @property
    def stretches(self) -> Ints:
        """(n,) which readings belong together: no gap lies between two of one number."""
        return self._stretches

    @property
    def begins(self) -> Floats:
        """(n,) s, when the first value of a reading's stretch came; nan before it."""
        return self._begins

    def drop(self, count: int) -> None:
        """Forgets the first readings."""
        if count > 0 and self.series is not None:
            self.series = self.series.part(count, len(self.series))
            self._stretches, self._begins = self._stretches[count:], self._begins[count:]
            self._noise = self._noise[0][count:], self._noise[1][count:]
