"""The class line against simulated classes: share of 95% intervals that hold the truth, scatter beside the best linear
estimator that knows the variances, and how often somebody stands out where nobody does.

Run by `make bench`, or alone as `python bench/measure.py pool`.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from itertools import product

import numpy as np

from common_bench.fits.group_line import group_line
from common_bench.model.class_line import GroupPlace
from common_bench.model.measured import Measured
from common_bench.model.plan import ClassGraph
from common_bench.model.uncertainty import coverage_factor
from common_bench.pool.judging import judged_in_turn
from common_bench.pool.places import FittedLines
from simulated import KINDS_OF_CLASS, KindOfClass, class_places

CLASSES = 3000  # of each kind
GRAPH = ClassGraph("y", "x", "s = slope")
GROUPS, RUNS = (4, 6, 8, 12, 16, 32), (1, 2, 3)
HELD, WIDER, FALSE = (0.93, 0.97), 1.15, 0.05
BY_CHANCE = 2.5  # standard deviations of a share from so many classes
Told = Callable[[str, str, str, bool], None]


def of_kind(asked: tuple[KindOfClass, int, int]) -> tuple[float, float, float]:
    """Share held, scatter over the best one's, share of classes in which somebody stands out."""
    kind, groups, runs = asked
    dice = np.random.default_rng(groups * 10 + runs)
    inside, off, out = 0, [], 0
    for _ in range(CLASSES):
        each = class_places(dice, kind, groups=groups, runs=runs)
        line = group_line(each.x, each.y, each.u_x, each.v, each.groups)
        inside += abs(line.slope - each.slope) <= coverage_factor(line.u_dof) * line.covariance[1, 1] ** 0.5
        off.append((line.slope - each.slope) / each.best_u)
        places = [
            GroupPlace(int(g), str(g), runs, Measured(float(x), float(u), ""), Measured(float(y), float(v) ** 0.5, ""), float("nan"), float("nan"), "")
            for g, x, u, y, v in zip(each.groups, each.x, each.u_x, each.y, each.v, strict=True)
        ]  # fmt: skip
        out += any(place.stands_out for place in judged_in_turn(places, GRAPH, (), FittedLines(GRAPH)))
    return inside / CLASSES, float(np.sqrt(np.mean(np.square(off)))), out / CLASSES


def class_lines(told: Told) -> None:
    asked = list(product(KINDS_OF_CLASS, GROUPS, RUNS))
    with ProcessPoolExecutor(os.cpu_count()) as workers:
        found = dict(zip(asked, workers.map(of_kind, asked), strict=True))
    chance = BY_CHANCE * (0.05 * 0.95 / CLASSES) ** 0.5
    for kind, groups in product(KINDS_OF_CLASS, GROUPS):
        own = [found[kind, groups, runs] for runs in RUNS]
        held, wide, out = [each[0] for each in own], max(each[1] for each in own), max(each[2] for each in own)
        good = all(HELD[0] - chance <= each <= HELD[1] + chance for each in held) and wide <= WIDER + 0.03
        words = f"{min(held):.1%} to {max(held):.1%}, {wide:.2f} ×, {out:.1%} out"
        told(f"{kind.name}, {groups} groups", words, "93 to 97%, 1.15 ×, 5%", good and out <= FALSE + 2.5 * (0.05 * 0.95 / CLASSES) ** 0.5)  # fmt: skip
