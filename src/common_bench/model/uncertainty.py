"""Shares of uncertainties put together: their size, its degrees of freedom, and the intervals that follow."""

from __future__ import annotations

import math
from collections.abc import Mapping

from common_bench.model.block import Source

RECTANGULAR = 12**0.5  # a step over it is the standard deviation of what lies anywhere in it (JCGM 100, 4.3.7)
USUAL = 0.95  # of intervals, the share that shall hold the truth


def combined(parts: Mapping[Source, float]) -> tuple[float, float]:
    """Standard uncertainty of independent shares and its degrees of freedom (Welch, Satterthwaite; JCGM 100, G.4.1);
    (nan, 0) where a share is of unknown size. Parts of one estimate share its degrees of freedom."""
    squares: dict[Source, float] = {}
    for source, share in parts.items():
        if share == 0.0:
            continue
        if source.dof <= 0:
            return math.nan, 0.0
        one = source._replace(which=0) if isinstance(source.which, int) else source
        squares[one] = squares.get(one, 0.0) + share * share
    total = sum(squares.values())
    below = sum(square * square / source.dof for source, square in squares.items())
    return math.sqrt(total), total * total / below if below > 0 else math.inf


def coverage_factor(dof: float, share: float = USUAL) -> float:
    """By which a standard uncertainty is multiplied for an interval on both sides that holds the truth in this share of
    cases: Student's t (JCGM 100, G.3); infinite where nothing is known."""
    from scipy.special import ndtri, stdtrit

    if not dof > 0:
        return math.inf
    return float(ndtri((1 + share) / 2) if math.isinf(dof) else stdtrit(dof, (1 + share) / 2))


def as_normal(ratio: float, dof: float) -> float:
    """A difference over its uncertainty from few values, as the ratio that would be as rare if that were well known."""
    from scipy.special import ndtri, stdtr

    if math.isinf(dof) or not math.isfinite(ratio):
        return ratio
    if not dof > 0:
        return math.nan
    rare = float(stdtr(dof, -abs(ratio)))
    return math.copysign(-float(ndtri(rare)), ratio) if rare > 0 else ratio
