"""How fast a kit's clock runs, from when its lines arrived. Clock values with arrival times in; how far its rate is off ours and how sure
that is, out.

A line's delay is never negative, but it need not stay the same: a busy machine or a full buffer makes all lines later and later, and
earlier again, which looks like a clock that runs too fast or too slow. So a rate is as sure as delays that wander allow, by how much
they are seen to; and what wanders too evenly to be seen is weighed against what clocks are worth.
"""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats
from common_bench.model.uncertainty import coverage_factor

RESONATOR = 5e-4  # relative; what an uncalibrated resonator is worth before anything is measured
BADLY_SET, BAD_SHARE = 2e-2, 0.3  # what a badly set one is worth, and how many are
ARRIVAL_JITTER = 2e-4  # s; one earliest arrival is never known better
CREEPS = (
    1e-3,
    0.3,
)  # s by which delays creep from the first arrival to the last, on a machine at rest, and on a busy one
BUSY_SHARE = 0.1  # of machines
LATE = 6.0  # times the usual distance from the line, beyond which what came late tells of a stall and of no clock
WANDERS = (
    0.0,
    0.03,
    0.3,
    3.0,
    30.0,
    1e3,
)  # variance of a delay's step from one arrival to the next over that of its own jitter
LEAST, FEW = 3, 8  # arrivals, from which on anything is said; and from which on some may be left out


def rate_seen(clock: Floats, arrival: Floats) -> tuple[float, float]:
    """How far a clock's rate is off as (n,) arrivals tell, n >= 3, and its standard uncertainty: the median of all slopes between
    them (Theil, Proc. K. Ned. Akad. Wet. 53 (1950); Sen, J. Am. Stat. Assoc. 63, 1379 (1968)), as sure as a delay allows that
    jitters and wanders, each as much as these arrivals make likely (restricted likelihood: Harville, J. Am. Stat. Assoc. 72,
    320 (1977))."""
    i, j = np.triu_indices(len(clock), 1)
    seen = float(np.median((arrival[j] - arrival[i]) / (clock[j] - clock[i]))) - 1.0
    rest = arrival - clock * (1.0 + seen)
    rest = rest - np.median(rest)
    usual = max(ARRIVAL_JITTER, float(np.median(np.abs(rest))))
    kept = rest < LATE * usual
    kept = kept if np.count_nonzero(kept) >= FEW else np.ones(len(rest), bool)
    x, y = clock[kept], rest[kept]
    count, step = len(x), float(np.ptp(x)) / (len(x) - 1)
    design = np.stack([np.ones(count), x - x.mean()], axis=1)
    walk = np.minimum.outer(x - x[0], x - x[0]) / step
    logs, slopes, squares = [], [], []
    for wanders in WANDERS:
        root = np.linalg.cholesky(np.eye(count) + wanders * walk)
        whole = np.linalg.solve(root, np.column_stack([design, y]))
        q, triangle = np.linalg.qr(whole[:, :2])
        left = whole[:, 2] - q @ (q.T @ whole[:, 2])
        left_over = float(left @ left) + (count - 2) * ARRIVAL_JITTER**2
        logs.append(-float(np.log(np.diag(root)).sum() + np.log(np.abs(np.diag(triangle))).sum() + (count - 2) / 2 * np.log(left_over)))  # fmt: skip
        slopes.append(float(q[:, 1] @ whole[:, 2] / triangle[1, 1]))
        squares.append(left_over / (count - 2) / float(triangle[1, 1]) ** 2)
    weight = np.exp(np.array(logs) - max(logs))
    weight /= weight.sum()
    u = float(np.sqrt(weight @ (np.array(squares) + np.array(slopes) ** 2)))
    return seen, u * coverage_factor(count - 2) / coverage_factor(np.inf)


def rate_believed(seen: float, u: float, seconds: float) -> tuple[float, float]:
    """How far a clock's rate is off and its standard uncertainty, from what was seen over so many s, known to u, from what clocks are
    worth, most a resonator's, some badly set, and from how delays creep (Bayes' theorem for a mixture of normal distributions)."""
    sizes = np.array([RESONATOR, BADLY_SET])[:, None] ** 2
    creeps = u * u + (np.array(CREEPS)[None, :] / seconds) ** 2
    often = np.outer([1 - BAD_SHARE, BAD_SHARE], [1 - BUSY_SHARE, BUSY_SHARE])
    squares = sizes + creeps
    logs = np.log(often) - 0.5 * (seen * seen / squares + np.log(squares))
    weight = np.exp(logs - logs.max())
    weight /= weight.sum()
    means, variances = seen * sizes / squares, creeps * sizes / squares
    off = float((weight * means).sum())
    return off, float(np.sqrt((weight * (variances + (means - off) ** 2)).sum()))
