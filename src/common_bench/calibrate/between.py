"""How far a table may be wrong between its points. Points in, the size of that error at any reading out."""

from __future__ import annotations

import numpy as np

from common_bench.calibrate.curves import TABLE
from common_bench.model.block import Floats, Ints
from common_bench.model.calibration import Frame

LOOKED_AT = 16  # places in each interval
NEIGHBOURS = 4  # points through which the neighbouring cubic goes
WITHOUT_ONE = (
    0.3  # of the error at a point left out that is believed for the intervals beside it, which are half as wide
)
SIZE, MORE_OF_FEW = 0.72, 0.75  # of the difference to other orders, with n - 2 degrees of freedom: see docs/trust.md
LEAST = 3  # points, through which any smooth curve passes: the straight lines between them are then the other order


class Between:
    """Compares the table with a cubic spline and with cubics through four neighbours, which are of a higher order, and
    with tables that leave out one point each. The largest difference in an interval is its height; the error is taken
    to vanish at the points and to be largest in the middle."""

    def __init__(self, values: Floats, frame: Frame) -> None:
        """values: (k,) at the k knots of the frame, in order."""
        self._knots = np.array(frame.knots)
        size = SIZE * (1.0 + MORE_OF_FEW / max(1, len(values) - LEAST))
        self._heights = size * _heights(self._knots, values, frame)
        self.dof = float(max(1, len(values) - 2))

    def at(self, x: Floats) -> tuple[Floats, Floats]:
        """(n,) what the table takes -> (n,) standard uncertainties that belong to every second interval from the first,
        and those from the second: what neighbouring intervals do to one another is not known."""
        place: Ints = np.clip(np.searchsorted(self._knots, x, side="right") - 1, 0, len(self._knots) - 2)
        size = self._heights[place] * _bump(x, self._knots, place)
        odd = place % 2 == 1
        return np.where(odd, 0.0, size), np.where(odd, size, 0.0)


def _bump(x: Floats, knots: Floats, place: Ints) -> Floats:
    """1 in the middle of an interval, 0 at its ends and outside all."""
    low, high = knots[place], knots[place + 1]
    return np.asarray(np.maximum(0.0, 4.0 * (x - low) * (high - x) / (high - low) ** 2))


def _heights(knots: Floats, values: Floats, frame: Frame) -> Floats:
    from scipy.interpolate import CubicSpline

    widths = np.diff(knots)
    inside = (np.arange(LOOKED_AT) + 0.5) / LOOKED_AT
    at = knots[:-1, None] + widths[:, None] * inside
    own = TABLE.value(values, at.ravel(), frame).reshape(at.shape)
    if len(knots) <= LEAST:
        return np.asarray(np.abs(own - np.interp(at, knots, values)).max(axis=1))
    scale = knots[-1] - knots[0]
    others = [
        CubicSpline((knots - knots[0]) / scale, values)((at - knots[0]) / scale),
        _by_neighbours(knots, values, at),
    ]
    heights = np.max([np.abs(own - other).max(axis=1) for other in others], axis=0)
    return np.asarray(np.maximum(heights, WITHOUT_ONE * _left_out(knots, values)))


def _by_neighbours(knots: Floats, values: Floats, at: Floats) -> Floats:
    """Cubics through the four points about each interval."""
    found = np.empty_like(at)
    for row in range(len(at)):
        first = min(max(0, row - 1), len(knots) - NEIGHBOURS)
        four = slice(first, first + NEIGHBOURS)
        low, width = knots[first], knots[first + NEIGHBOURS - 1] - knots[first]
        powers = np.polyfit((knots[four] - low) / width, values[four], NEIGHBOURS - 1)
        found[row] = np.polyval(powers, (at[row] - low) / width)
    return found


def _left_out(knots: Floats, values: Floats) -> Floats:
    """By how much a table without one inner point misses it, brought to the width of each interval beside it: the error
    grows with the third power of the width."""
    sizes = np.zeros(len(knots))
    for one in range(1, len(knots) - 1):
        rest = np.arange(len(knots)) != one
        frame = Frame(knots=tuple(knots[rest].tolist()))
        missed = values[one] - float(TABLE.value(values[rest], knots[one : one + 1], frame)[0])
        width = knots[one + 1] - knots[one - 1]
        bump = 4.0 * (knots[one] - knots[one - 1]) * (knots[one + 1] - knots[one]) / width**2
        sizes[one] = abs(missed) / bump / width**3
    sizes[0], sizes[-1] = sizes[1], sizes[-2]
    return np.asarray(np.maximum(sizes[:-1], sizes[1:]) * np.diff(knots) ** 3)
