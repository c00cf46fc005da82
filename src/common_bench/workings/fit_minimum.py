"""From parameters to begin with to the nearest minimum of the squares, to the last digit that the readings have."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats
from common_bench.workings.fit_long import in_long_numbers
from common_bench.workings.fit_problem import Problem, left_by, sizes_of

MOST_LOOKS, FEW_LOOKS = 2000, 150  # at the formula on the way to a minimum
MANY = 20_000  # readings, from which on the formula's own derivatives are worth more than further looks at it
LOOKS_AT_MANY = 25  # at the formula of many readings: who comes here was put right by some of them
ENOUGH = 1e-10  # as TIGHT, of many readings: far less than the digits that they know
UNSEEN = 1e-6  # of a parameter's own uncertainty, by which a last step of many readings may be left out
TIGHT = 1e-15  # relative change of squares, or of parameters, with which a minimum is found
POLISHED = 12  # last steps by the linear equations of the minimum


def refined(problem: Problem, weights: Floats, start: Floats, looks: int = MOST_LOOKS) -> Floats | None:
    """The nearest minimum, or how far so many looks lead towards it; None where none is near."""
    from scipy.optimize import least_squares

    size = sizes_of(problem, start)

    def off(scaled: Floats) -> Floats:
        with np.errstate(all="ignore"):
            found = (problem.of((scaled * size).tolist()) - problem.y.values) * weights
        return np.where(np.isfinite(found), found, 1e12)

    many = len(problem.y) > MANY
    tight, most = (ENOUGH, min(looks, LOOKS_AT_MANY)) if many else (TIGHT, looks)

    def steepness(scaled: Floats) -> Floats:
        with np.errstate(all="ignore"):
            found = problem.gradient(scaled * size, sizes_of(problem, scaled * size)) * weights
        return np.where(np.isfinite(found), found, 0.0).T * size

    try:
        if problem.what.bounds:
            low, high = problem.ends
            inside = np.clip(start, low, high)
            told = least_squares(
                off, inside / size, bounds=(low / size, high / size), max_nfev=most, ftol=tight, xtol=tight, gtol=tight,
                jac=steepness if many else "2-point",
            )  # fmt: skip
        else:
            told = least_squares(
                off, start / size, method="lm" if len(problem.y) >= len(start) else "trf", max_nfev=most,
                ftol=tight, xtol=tight, gtol=tight, jac=steepness if many else "2-point",
            )  # fmt: skip
    except (ValueError, np.linalg.LinAlgError):
        return None
    found = np.asarray(told.x * size, float)
    if not (np.isfinite(found).all() and np.isfinite(told.cost) and told.cost < 1e20):
        return None
    if looks != MOST_LOOKS or problem.at_bounds(found):
        return found
    polished = _polished(problem, weights, found)
    return polished if problem.holds(polished) else found


def _polished(problem: Problem, weights: Floats, p: Floats) -> Floats:
    """Steps by the linear equations of the minimum (Gauss and Newton), for as long as they do not climb."""
    left = left_by(problem, weights, p)
    straight = in_long_numbers(problem, weights, p)
    if straight is not None and left_by(problem, weights, straight.values) <= left * (1 + 1e-9) + TIGHT:
        return straight.values
    for _ in range(POLISHED):
        gradient = problem.gradient(p, sizes_of(problem, p)) * weights
        off = (problem.y.values - problem.of(p.tolist())) * weights
        scaling = np.sqrt((gradient**2).sum(axis=1))
        if not (np.isfinite(gradient).all() and np.isfinite(off).all() and (scaling > 0).all()):
            return p
        step, *_ = np.linalg.lstsq((gradient / scaling[:, None]).T, off, rcond=1e-14)
        moved = p + step / scaling
        its = left_by(problem, weights, moved)
        if not its <= left * (1 + 1e-12):
            return p
        unseen = UNSEEN * (left / len(problem.y)) ** 0.5 / scaling if len(problem.y) > MANY else 0.0
        small = bool((np.abs(moved - p) <= np.maximum(TIGHT * np.abs(p), unseen)).all())
        p, left = moved, min(left, its)
        if small:
            return p
    return p
