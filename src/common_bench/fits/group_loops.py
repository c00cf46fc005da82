"""The sum that a line through groups is fitted by, compiled to machine code: it is asked for some hundred times for each class."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats, Ints
from common_bench.workings.loops import short_loop


@short_loop
def residual_squares(both: Floats, spread: Floats, between: float, member: Ints, count: int) -> float:
    """Sum of squares of the residuals over their covariance, of the line by least squares.

    both: (n, p + 1) the powers of x and y; spread: (n,) variances; between: of the groups' offsets; member: (n,) 0 to count - 1,
    whose each place is. Products as in Sherman, Morrison, Ann. Math. Stat. 21, 124 (1950), solved by elimination.
    """
    n, q = both.shape
    all_, of_groups, weights = np.zeros((q, q)), np.zeros((count, q)), np.zeros(count)
    for i in range(n):
        weight = 1.0 / spread[i]
        weights[member[i]] += weight
        for j in range(q):
            weighed = weight * both[i, j]
            of_groups[member[i], j] += weighed
            for k in range(q):
                all_[j, k] += weighed * both[i, k]
    if between > 0:
        for g in range(count):
            share = between / (1.0 + between * weights[g])
            for j in range(q):
                for k in range(q):
                    all_[j, k] -= share * of_groups[g, j] * of_groups[g, k]
    for j in range(q - 1):
        if all_[j, j] > 0:
            for k in range(j + 1, q):
                part = all_[k, j] / all_[j, j]
                for i in range(j, q):
                    all_[k, i] -= part * all_[j, i]
    found: float = all_[q - 1, q - 1]
    return found
