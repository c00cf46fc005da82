"""How much readings scatter about the smooth course of their quantity, and how much each resembles its neighbours.

From second differences over 1, 2, 4 and 8 readings, which no straight course enters: of errors of standard deviation σ with
likeness φ^k to the k-th neighbour they have the mean squares σ²(6 − 8φ^k + 2φ^2k), and a course that bends adds c²k⁴. σ, φ and
c are found by least squares of their ratios (after von Neumann, Ann. Math. Stat. 12, 367 (1941)).
"""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Bools, Floats, Ints

OVER = (1, 2, 4, 8)  # readings
LIKES = np.concatenate([[0.0], np.linspace(0.1, 0.98, 45)])
LEAST = 2 * OVER[-1] + 8
BLOCK, BLOCKS = 64, 16  # readings after which the scatter is told anew, and so many of them by which it is told

_K = np.array(OVER, float)
_NOISE = 6 - 8 * LIKES[:, None] ** _K + 2 * LIKES[:, None] ** (2 * _K)  # (likeness, k), of σ²
_BEND = _K**4


def noise_of(v: Floats) -> tuple[float, float]:
    """σ and φ of (n,) values at even distances; 0 where there are too few."""
    if len(v) < LEAST:
        return 0.0, 0.0
    return _told(np.array([float(_squares(v, k).mean()) for k in OVER]), len(v))


def _squares(v: Floats, over: int) -> Floats:
    return np.asarray((v[: -2 * over] - 2 * v[over:-over] + v[2 * over :]) ** 2)


def _told(squares: Floats, count: int) -> tuple[float, float]:
    """squares: (k,) mean squares over so many readings each, from so many readings."""
    if not squares[0] > 0.0:
        return 0.0, 0.0
    noise, bend = _NOISE / squares, _BEND / squares
    nn, nb, bb = (noise**2).sum(axis=1), noise @ bend, float(bend @ bend)
    n1, b1 = noise.sum(axis=1), float(bend.sum())
    determinant = nn * bb - nb**2
    with np.errstate(all="ignore"):
        sigma2 = np.where(determinant > 1e-12 * nn * bb, (n1 * bb - b1 * nb) / determinant, 0.0)
        bends = np.where(determinant > 1e-12 * nn * bb, (b1 * nn - n1 * nb) / determinant, 0.0)
    alone = n1 / nn
    sigma2, bends = np.where(bends < 0, alone, np.maximum(sigma2, 0.0)), np.maximum(bends, 0.0)
    off = ((sigma2[:, None] * noise + bends[:, None] * bend - 1) ** 2).sum(axis=1)
    best = int(np.argmin(off))
    if off[0] - off[best] < 8.0 * len(OVER) / count:  # not to be told from none
        best = 0
    return float(np.sqrt(sigma2[best])), float(LIKES[best])


def in_sums(alike: float) -> float:
    """By which factor the variance of a sum of many such readings exceeds that of independent ones."""
    return (1 + alike) / (1 - alike)


class NoiseSoFar:
    """σ and φ as the readings before each one tell them, in blocks, so that they do not depend on how readings are cut;
    nothing is told in the first block."""

    def __init__(self) -> None:
        self._values: Floats = np.empty(0)
        self._stretches: Ints = np.empty(0, np.int64)
        self._lead = 0  # of the values held, those of the block before
        self._sums: list[Floats] = []
        self._now = (0.0, 0.0)

    def add(self, values: Floats, stretches: Ints) -> tuple[Floats, Floats]:
        """(n,) further known values with the numbers of their stretches -> (n,) σ and φ at each."""
        sigma, alike = np.empty(len(values)), np.empty(len(values))
        start = 0
        while start < len(values):
            free = BLOCK - (len(self._values) - self._lead)
            stop = min(len(values), start + free)
            sigma[start:stop], alike[start:stop] = self._now
            self._values = np.concatenate([self._values, values[start:stop]])
            self._stretches = np.concatenate([self._stretches, stretches[start:stop]])
            if stop - start == free:
                self._block()
            start = stop
        return sigma, alike

    def _block(self) -> None:
        of = self._stretches
        same: list[Bools] = [of[: -2 * k] == of[2 * k :] for k in OVER]
        if same[-1].sum() >= BLOCK // 2:
            found = np.array(
                [float(_squares(self._values, k)[each].mean()) for k, each in zip(OVER, same, strict=True)]
            )
            self._sums = [*self._sums, found][-BLOCKS:]
            self._now = _told(np.mean(self._sums, axis=0), BLOCK * len(self._sums))
        self._lead = 2 * OVER[-1]
        self._values, self._stretches = self._values[-self._lead :], self._stretches[-self._lead :]
