"""How much readings scatter about the smooth course of their quantity, and how much each resembles its neighbours.

From second differences over 1, 2, 4 and 8 readings, which no straight course enters: of errors of standard deviation σ with
likeness φ^k to the k-th neighbour they have the mean squares σ²(6 − 8φ^k + 2φ^2k), and a course that bends adds c²k⁴. σ, φ and
c are found by least squares of their ratios (after von Neumann, Ann. Math. Stat. 12, 367 (1941)).
"""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats, Ints
from common_bench.workings.loops import OVER, in_rounds, noise_in_rounds, noise_told

LEAST = 2 * OVER[-1] + 8
BLOCK, BLOCKS = 128, 8  # readings after which the scatter is told anew, and so many of them by which it is told


def noise_of(v: Floats) -> tuple[float, float]:
    """σ and φ of (n,) values at even distances; 0 where there are too few."""
    if len(v) < LEAST:
        return 0.0, 0.0
    return noise_told(np.array([float(_squares(v, k).mean()) for k in OVER]), float(len(v)))


def _squares(v: Floats, over: int) -> Floats:
    return np.asarray((v[: -2 * over] - 2 * v[over:-over] + v[2 * over :]) ** 2)


def in_sums(alike: float) -> float:
    """By which factor the variance of a sum of many such readings exceeds that of independent ones."""
    return (1 + alike) / (1 - alike)


class NoiseSoFar:
    """σ and φ as the readings before each one tell them, in blocks, so that they do not depend on how readings are cut;
    nothing is told in the first block."""

    def __init__(self) -> None:
        self._values: Floats = np.empty(0)  # the last of the block before, then those of the one that is not yet full
        self._stretches: Ints = np.empty(0, np.int64)
        self._lead = 0  # of these, those of the block before
        self._means: Floats = np.zeros((BLOCKS - 1, len(OVER) + 1))  # of the last blocks; 0 in the last column: none
        self._now = (0.0, 0.0)

    def add(self, values: Floats, stretches: Ints) -> tuple[Floats, Floats]:
        """(n,) further known values with the numbers of their stretches -> (n,) σ and φ at each."""
        begun = len(self._values) - self._lead
        held, of = np.concatenate([self._values, values]), np.concatenate([self._stretches, stretches])
        rounds = (len(held) - self._lead) // BLOCK
        sigma, alike = np.empty(rounds + 1), np.empty(rounds + 1)
        sigma[0], alike[0] = self._now
        if rounds:
            sigma[1:], alike[1:], self._means = noise_in_rounds(held, of, self._lead, BLOCK, self._means)
            self._now = float(sigma[-1]), float(alike[-1])
            kept = self._lead + rounds * BLOCK
            self._lead = 2 * OVER[-1]
            held, of = held[kept - self._lead :], of[kept - self._lead :]
        self._values, self._stretches = held, of
        return in_rounds(sigma, begun, BLOCK, len(values)), in_rounds(alike, begun, BLOCK, len(values))
