"""Two groups whose conditions were swapped: places in, the pair out, where swapping them back explains what is seen clearly better than
anything else. Looked for among all pairs, also where one group besides is at fault."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import msgspec
import numpy as np

from common_bench.model.block import Floats
from common_bench.model.class_line import GroupPlace
from common_bench.model.trouble import CalibrationTrouble
from common_bench.pool.places import FittedLines

LEAST_GROUPS = 5  # of four, two of which are swapped, the other two lie on a line whatever they found
BY_CHANCE = 0.02  # share of classes without a swap in which one is named
LOOKED_AT = 40  # pairs that are best without leaving anybody out, with which it is tried to leave one out
ROUNDS = 3  # of weighting by the slope, which then no longer changes
CLEARLY = 4.0  # times as much misfit that the next best pair must leave


class Swap(NamedTuple):
    """The groups whose conditions were swapped, and the one besides that is left out of the judgement; 0 where none is."""

    pair: tuple[int, int]
    besides: int
    places: list[GroupPlace]  # all, with the conditions of the pair swapped back


def swapped_pair(places: Sequence[GroupPlace], lines: FittedLines) -> Swap | None:
    """The pair whose swapping back makes the misfit of the class line fall by more than chance would let any pair do; None where
    there is none, or where two pairs explain what is seen nearly as well.

    Misfits (sums of squares over stated variances, at least one for each degree of freedom, so that a line that fits better
    than the groups state wins nothing) are compared by Fisher's F with the degrees of freedom that both leave, at a level that
    is divided among all pairs (Bonferroni).
    """
    from scipy.special import fdtri

    used = [place for place in places if not place.aside]
    groups = [place.group for place in used]
    if len(groups) < LEAST_GROUPS or len(set(groups)) != len(used):
        return None
    try:
        known = Coordinates(*lines.coordinates(used)[:4], lines.powers)
    except CalibrationTrouble:
        return None
    now = known.least_misfit(range(len(used)))
    pairs = list(itertools.combinations(range(len(used)), 2))
    one_out = len(used) > LEAST_GROUPS  # one more may be left out, which takes a degree of freedom
    dof = len(used) - len(lines.powers) - one_out
    limit = float(fdtri(dof, dof, 1 - BY_CHANCE / len(pairs)))
    if not known.is_known or now[0] <= limit:
        return None  # no pair could explain so much more
    quick = sorted((known.swapped(pair).misfit(), pair) for pair in pairs if known.x[pair[0]] != known.x[pair[1]])
    found = sorted(
        (*known.swapped(pair).least_misfit([each for each in range(len(used)) if each not in pair]), pair)
        for _, pair in quick[:LOOKED_AT]
    )
    if not found or now[0] <= limit * found[0][0] or (len(found) > 1 and found[1][0] < CLEARLY * found[0][0]):
        return None
    _, besides, (one, other) = found[0]
    pair = groups[one], groups[other]
    return Swap(pair, groups[besides] if besides >= 0 else 0, swapped_back(places, pair))


class Coordinates(NamedTuple):
    """Places where the class line is straight. x, y: (n,); u_x: (n,) standard uncertainty; v_y: (n,) variance; powers: of x in the
    line."""

    x: Floats
    y: Floats
    u_x: Floats
    v_y: Floats
    powers: tuple[int, ...]

    @property
    def is_known(self) -> bool:
        """Whether every place knows its uncertainty."""
        variance = self.v_y + self.u_x**2
        return bool(np.isfinite(variance).all() and (variance > 0).all())

    def swapped(self, pair: tuple[int, int]) -> Coordinates:
        order = np.arange(len(self.x))
        order[list(pair)] = order[list(pair)[::-1]]
        return self._replace(x=self.x[order], u_x=self.u_x[order])

    def misfit(self, without: int = -1) -> float:
        """Sum of squares about the line over stated variances, for each degree of freedom, at least 1; without: one of the places.
        The variance of x counts by the line's slope (effective variance: Orear 1982)."""
        kept = np.arange(len(self.x)) != without
        x, y, u_x, v_y = (each[kept] for each in self[:4])
        dof = len(x) - len(self.powers)
        if dof < 1:
            return math.inf
        columns = np.stack([x**power for power in self.powers], 1)
        weights = 1 / np.maximum(v_y, np.finfo(float).tiny) if (v_y > 0).all() else np.ones(len(x))
        for _ in range(ROUNDS):
            root = np.sqrt(weights)
            found = np.linalg.lstsq(columns * root[:, None], y * root, rcond=None)[0]
            steep = sum(
                power * each * x ** (power - 1) for power, each in zip(self.powers, found, strict=True) if power
            )
            weights = 1 / np.maximum(v_y + (steep * u_x) ** 2, np.finfo(float).tiny)
        return max(1.0, float(np.sum(weights * (y - columns @ found) ** 2)) / dof)

    def least_misfit(self, besides: Iterable[int]) -> tuple[float, int]:
        """The misfit of the line through all, or through all but one of `besides` where that is clearly less; and which one, −1
        where none is left out."""
        whole = self.misfit()
        if len(self.x) <= LEAST_GROUPS:  # too few are left without one
            return whole, -1
        least, place = min(((self.misfit(each), each) for each in besides), default=(math.inf, -1))
        return (least, place) if CLEARLY * least < whole else (whole, -1)


def swapped_back(places: Sequence[GroupPlace], pair: tuple[int, int]) -> list[GroupPlace]:
    """The places with the conditions of two groups exchanged."""
    x = {place.group: place.x for place in places}
    other = {pair[0]: pair[1], pair[1]: pair[0]}
    return [msgspec.structs.replace(p, x=x[other[p.group]]) if p.group in other else p for p in places]
