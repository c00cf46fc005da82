"""The readings of a quantity that are still needed. Pieces in; what is held of them, which belong together, what they scatter out."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import NO_FLOATS, Floats, Ints, Series
from common_bench.workings.course import Course


class Held:
    """The readings that a window may still need, and which of them belong together. All that look at one quantity hold the
    same readings, each from where it needs them."""

    def __init__(self, course: Course, *, scatter: bool = False) -> None:
        """course: of the quantity; scatter: `noise` is asked for."""
        self._course = course
        self._hold = course.hold(scatter=scatter)
        self.series: Series | None = None
        self.stretches: Ints = np.empty(0, np.int64)
        """(n,) which readings belong together: no gap lies between two of one number."""
        self.begins: Floats = NO_FLOATS
        """(n,) s, when the first value of a reading's stretch came; nan before it."""
        self.noise: tuple[Floats, Floats] = (NO_FLOATS, NO_FLOATS)
        """(n,) how much readings scatter about their course, and their likeness to their neighbours, as far as those before
        tell it; 0 before."""

    def add(self, series: Series) -> None:
        self.series, self.stretches, self.begins, self.noise = self._course.held(series, self._hold)

    @property
    def stretch(self) -> int:
        """The number of the stretch under way."""
        return self._course.stretch

    def drop(self, count: int) -> None:
        """Forgets the first readings, once the next come."""
        self._hold.start += max(0, count)
