"""How far a group must be off before it stands out: what the judging of a class can see. Judged places in, a size out."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from common_bench.model.class_line import GroupPlace
from common_bench.model.measured import Measured

SEEN = 0.9  # share of such groups that stand out
BEYOND = 1.2816  # standard deviations, which a normal variable exceeds downwards in one of ten cases


def seen_from(places: Sequence[GroupPlace]) -> Measured | None:
    """By how much (in y) a group's mean must be off to stand out in nine of ten classes; the median over the groups that are in.
    None where nobody is judged. By the normal approximation to the noncentral t distribution (Johnson, Welch, Biometrika 31,
    362 (1940))."""
    from scipy.special import ndtr, stdtrit

    sizes = []
    for place in places:
        told = place.from_line
        if place.aside or told is None or not math.isfinite(place.away) or not told.u > 0:
            continue
        rare = 1.0 - float(ndtr(place.limit))
        limit = place.limit if not math.isfinite(told.dof) else float(stdtrit(max(told.dof, 1.0), 1.0 - rare))
        spread = 1.0 if not math.isfinite(told.dof) else math.sqrt(1 + limit**2 / (2 * max(told.dof, 1.0)))
        sizes.append(told.u * (limit + BEYOND * spread))
    if not sizes:
        return None
    return Measured(float(np.median(sizes)), 0.0, next(place.y.unit for place in places))


def power_words(found: Measured | None) -> str:
    """In one sentence; empty where nobody is judged."""
    if found is None:
        return ""
    return "Off by " + f"{_rounded(found.value)} {found.unit}".strip() + ", a group would stand out in 9 of 10 classes."


def _rounded(value: float) -> str:
    """To two digits: what it is an estimate of is known no better."""
    digits = 1 - math.floor(math.log10(value)) if value > 0 else 0
    return f"{value:.{max(0, digits)}f}" if digits >= 0 else f"{round(value, digits):.0f}"
