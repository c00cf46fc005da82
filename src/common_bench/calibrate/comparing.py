"""Benches beside each other: who disagrees with the class at a common point, and whether the bath has moved.

Each kit has a zero and a sensitivity of its own, so readings are compared by how much they change
from one common point to another, in units of how much they change for the class.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from common_bench.model.calibration import ReferencePoint

LEAST_BENCHES = 4  # fewer make no class to disagree with
FAR = 5.0  # robust standard deviations
SPREAD_AT_LEAST = 0.02  # of the change: kits of one kind differ by so much anyway
ROOMS = 3.0  # times what a steady reading may still move
DRIFTED = 4.0  # standard uncertainties by which most benches have moved together

Taken = Mapping[str, Mapping[str, ReferencePoint]]
"""alias -> label -> point"""


class Disagreement(NamedTuple):
    """share: the bench's change over the class's, 1 where they agree."""

    alias: str
    label: str
    share: float

    @property
    def words(self) -> str:
        return (
            f"{self.alias} disagrees with the class at “{self.label}”: look whether that is what was held there, "
            "and take it again."
        )


def disagreeing(taken: Taken, label: str) -> list[Disagreement]:
    """Benches whose reading at a common point lies far from what the class found, the farthest first."""
    others = {other for points in taken.values() for other in points} - {label}
    shares: dict[str, list[float]] = {}
    for other in sorted(others):
        changes = {
            alias: points[label].reading - points[other].reading
            for alias, points in taken.items()
            if label in points and other in points
        }
        if len(changes) < LEAST_BENCHES:
            continue
        middle = float(np.median(list(changes.values())))
        if middle:
            for alias, change in changes.items():
                shares.setdefault(alias, []).append(change / middle)
    if len(shares) < LEAST_BENCHES:
        return []
    middles = {alias: float(np.median(each)) for alias, each in shares.items()}
    spread = 1.4826 * float(np.median([abs(share - 1) for share in middles.values()]))
    limit = FAR * max(spread, SPREAD_AT_LEAST)
    far = [Disagreement(alias, label, share) for alias, share in middles.items() if abs(share - 1) > limit]
    return sorted(far, key=lambda each: -abs(each.share - 1))


class Reads(NamedTuple):
    """What a bench that has the point reads now, steady: mean with its u, and how far a steady reading may move."""

    mean: float
    u: float
    room: float = 0.0

    def away_from(self, point: ReferencePoint) -> bool:
        """Whether this is farther from a point than a steady reading may move and than chance would bring it."""
        least = max(DRIFTED * float(np.hypot(self.u, point.u_reading)), ROOMS * self.room)
        return abs(self.mean - point.reading) > least


def drifted(taken: Mapping[str, ReferencePoint], now: Mapping[str, Reads]) -> bool:
    """Whether what is common (a bath, a weight that all have hung) has moved since the point was taken: most benches
    that have it must have moved, farther than a steady reading may, and all of these one way."""
    both = [(reads, taken[alias]) for alias, reads in now.items() if alias in taken]
    far = [reads.mean - point.reading for reads, point in both if reads.away_from(point)]
    return len(both) >= 2 and 2 * len(far) > len(both) and (min(far) > 0 or max(far) < 0)
