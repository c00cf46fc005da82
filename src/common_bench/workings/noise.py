"""How much readings scatter about the smooth course of their quantity, and how much each resembles its neighbours.

From second differences over 1, 2, 4 and 8 readings, which no straight course enters: of errors of standard deviation σ with
likeness φ^k to the k-th neighbour they have the mean squares σ²(6 − 8φ^k + 2φ^2k), and a course that bends adds c²k⁴. σ, φ and
c are found by least squares of their ratios (after von Neumann, Ann. Math. Stat. 12, 367 (1941)).
"""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats, Ints

OVER = (1, 2, 4, 8)  # readings
LIKES = np.concatenate([[0.0], np.linspace(0.1, 0.98, 45)])
LEAST = 2 * OVER[-1] + 8
BLOCK, BLOCKS = 128, 8  # readings after which the scatter is told anew, and so many of them by which it is told

_K = np.array(OVER, float)
_NOISE = 6 - 8 * LIKES[:, None] ** _K + 2 * LIKES[:, None] ** (2 * _K)  # (likeness, k), of σ²
_BEND = _K**4


def noise_of(v: Floats) -> tuple[float, float]:
    """σ and φ of (n,) values at even distances; 0 where there are too few."""
    if len(v) < LEAST:
        return 0.0, 0.0
    sigma, alike = _told(np.array([[float(_squares(v, k).mean()) for k in OVER]]), np.array([float(len(v))]))
    return float(sigma[0]), float(alike[0])


def _squares(v: Floats, over: int) -> Floats:
    return np.asarray((v[: -2 * over] - 2 * v[over:-over] + v[2 * over :]) ** 2)


def _told(squares: Floats, count: Floats) -> tuple[Floats, Floats]:
    """squares: (n, k) mean squares over so many readings each, from `count` (n,) readings -> (n,) σ and φ."""
    with np.errstate(all="ignore"):
        noise, bend = _NOISE / squares[:, None, :], _BEND / squares[:, None, :]  # (n, likeness, k)
        nn, nb, bb = (noise**2).sum(axis=2), (noise * bend).sum(axis=2), (bend**2).sum(axis=2)
        n1, b1 = noise.sum(axis=2), bend.sum(axis=2)
        determinant = nn * bb - nb**2
        good = determinant > 1e-12 * nn * bb
        sigma2 = np.where(good, (n1 * bb - b1 * nb) / determinant, 0.0)
        bends = np.where(good, (b1 * nn - n1 * nb) / determinant, 0.0)
        sigma2 = np.where(bends < 0, n1 / nn, np.maximum(sigma2, 0.0))
        bends = np.maximum(bends, 0.0)
        off = ((sigma2[:, :, None] * noise + bends[:, :, None] * bend - 1) ** 2).sum(axis=2)
        off = np.where(np.isfinite(off), off, np.inf)
        best = np.argmin(off, axis=1)
        rows = np.arange(len(off))
        best[off[:, 0] - off[rows, best] < 8.0 * len(OVER) / count] = 0  # not to be told from none
        sigma = np.where(squares[:, 0] > 0.0, np.sqrt(sigma2[rows, best]), 0.0)
    return np.where(np.isfinite(sigma), sigma, 0.0), np.where(squares[:, 0] > 0.0, LIKES[best], 0.0)


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
            sigma[1:], alike[1:] = self._rounds(held, of, rounds)
            self._now = float(sigma[-1]), float(alike[-1])
            kept = self._lead + rounds * BLOCK
            self._lead = 2 * OVER[-1]
            held, of = held[kept - self._lead :], of[kept - self._lead :]
        self._values, self._stretches = held, of
        which = (begun + np.arange(len(values))) // BLOCK
        return sigma[which], alike[which]

    def _rounds(self, held: Floats, of: Ints, rounds: int) -> tuple[Floats, Floats]:
        """(rounds,) what is known after each full block."""
        means = np.zeros((rounds, len(OVER) + 1))
        means[:, -1] = 1.0
        stop = self._lead + rounds * BLOCK
        for column, k in enumerate(OVER):
            squares = np.zeros(rounds * BLOCK)
            same = np.zeros(rounds * BLOCK, bool)
            first = max(self._lead - 2 * k, 0)  # of three readings, where the first block has some before it
            some, its = held[first:stop], of[first:stop]
            place = slice(first + 2 * k - self._lead, None)
            squares[place], same[place] = _squares(some, k), its[: -2 * k] == its[2 * k :]
            squares[~same] = 0.0
            counts = same.reshape(rounds, BLOCK).sum(axis=1)
            means[:, column] = squares.reshape(rounds, BLOCK).sum(axis=1) / np.maximum(1, counts)
            means[counts < BLOCK // 2, -1] = 0.0
        means[means[:, -1] == 0.0] = 0.0
        all_ = np.concatenate([self._means, means])
        total = all_[BLOCKS - 1 :].copy()
        for back in range(1, BLOCKS):
            total += all_[BLOCKS - 1 - back : len(all_) - back]
        self._means = all_[-(BLOCKS - 1) :]
        count = total[:, -1]
        with np.errstate(all="ignore"):
            sigma, alike = _told(total[:, :-1] / count[:, None], BLOCK * count)
        return np.where(count > 0, sigma, 0.0), np.where(count > 0, alike, 0.0)
