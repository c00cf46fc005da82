"""Formulas that are straight in their parameters, solved in numbers of more digits than the readings have: a polynomial's powers may
run so close together that those are needed. A problem in; parameters, what they leave and how they are known, out."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.workings.fit_problem import Problem, sizes_of

MOST_LONG = 1_000_000  # numbers, beyond which a straight formula is solved like any other
SAME_SLOPE = 1e-12
ROUNDS = 2  # of taking out what columns have in common: as good as exact (Giraud, Langou, Rozložník, Comput. Math. Appl. 50, 1069 (2005))


class LongFit(NamedTuple):
    """values: (p,) of the parameters; residuals: (n,) of the readings; weighed by the weights, the columns of the parameters, each over
    its `scaling` (p,), are q (n, p) times the inverse of `undone` (p, p); closeness: how near they come to being one another (condition)."""

    values: Floats
    residuals: Floats
    scaling: Floats
    q: Floats
    undone: Floats
    closeness: float


def in_long_numbers(problem: Problem, weights: Floats, p: Floats) -> LongFit | None:
    """The minimum of the squares, by orthogonal columns. weights: (n,); p: (p,) near it. None where the formula is not straight in all
    parameters, or the readings are too many for it."""
    n, count = len(problem.y), len(p)
    if n * count > MOST_LONG or n < count:
        return None
    at, elsewhere = (problem.gradient(each, sizes_of(problem, each)) for each in (p, 1.5 * p + sizes_of(problem, p)))
    if not (np.isfinite(at).all() and np.allclose(at, elsewhere, rtol=SAME_SLOPE, atol=0.0)):
        return None
    found = problem.straight_columns()
    if found is None:
        return None
    columns, constant = found
    weighed = columns * weights[:, None]
    scaling = np.sqrt((weighed**2).sum(axis=0))
    wanted = problem.y.values.astype(np.longdouble) - constant
    if not ((scaling > 0).all() and np.isfinite(scaling).all() and np.isfinite(wanted).all()):
        return None
    parted = _orthogonal(weighed / scaling)
    if parted is None:
        return None
    q, r = parted
    undone = _undone(r)
    along = q.T @ (wanted * weights)
    along = along + q.T @ (wanted * weights - q @ along)
    values = undone @ along / scaling
    residuals = wanted - columns @ values
    if not (np.isfinite(values).all() and np.isfinite(residuals).all()):
        return None
    values, residuals, scaling, q, undone = (np.asarray(x, float) for x in (values, residuals, scaling, q, undone))
    return LongFit(values, residuals, scaling, q, undone, float(np.linalg.cond(r.astype(float))))


def _orthogonal(columns: Any) -> tuple[Any, Any] | None:
    """(n, p) columns as orthogonal ones of size 1 times a triangle (p, p); None where one is made of those before it."""
    q, r = columns.copy(), np.zeros((columns.shape[1],) * 2, np.longdouble)
    for at in range(columns.shape[1]):
        for _ in range(ROUNDS):
            common = q[:, :at].T @ q[:, at]
            q[:, at] -= q[:, :at] @ common
            r[:at, at] += common
        r[at, at] = np.sqrt((q[:, at] ** 2).sum())
        if not r[at, at] > 0:
            return None
        q[:, at] /= r[at, at]
    return q, r


def _undone(r: Any) -> Any:
    """The inverse of an upper triangle (p, p)."""
    found = np.zeros_like(r)
    for at in range(len(r) - 1, -1, -1):
        found[at] = -(r[at, at + 1 :] @ found[at + 1 :])
        found[at, at] += 1
        found[at] /= r[at, at]
    return found
