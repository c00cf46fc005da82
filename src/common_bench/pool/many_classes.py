"""Several classes in one pool: each run once, in the plan's units; each class by itself, and what scatters between classes as one
more level."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from common_bench.fits.group_line import group_line
from common_bench.model.class_line import ClassResult
from common_bench.model.measured import Measured
from common_bench.model.plan import Plan
from common_bench.model.run import PoolRow
from common_bench.model.shared_pool import SharedRun
from common_bench.model.trouble import Trouble
from common_bench.pool.class_line import class_result
from common_bench.workings.evaluate import check

LEAST_CLASSES = 2  # whose findings can scatter


@dataclass(frozen=True)
class OneClass:
    """A class of the pool: how it is called here, its rows, and what it finds; None where it finds nothing, with why."""

    name: str
    rows: tuple[PoolRow, ...]
    result: ClassResult | None
    why: str = ""


@dataclass(frozen=True)
class ManyClasses:
    """whole: all groups of all classes as one; classes: each by itself; finding: the mean of what classes find, each weighted by its
    own uncertainty and by what classes scatter; between: that scatter, nan where it cannot be told; told: what was left out, in
    words."""

    whole: ClassResult
    classes: tuple[OneClass, ...]
    finding: Measured | None
    between: float
    told: tuple[str, ...]


def merged(plan: Plan, pools: Sequence[Sequence[SharedRun]]) -> tuple[dict[str, list[PoolRow]], list[str]]:
    """class id -> its rows, of all pools; each run once, as it was sent last. What contradicts is told."""
    last: dict[str, SharedRun] = {}
    told: list[str] = []
    units = units_of(plan)
    for run in (run for pool in pools for run in pool):
        before = last.get(run.id)
        if before is not None and (before.findings, before.conditions) != (run.findings, run.conditions):
            later = max(before, run, key=lambda each: each.sent_at)
            told.append(f"{run.group} run {run.number} is told in two ways: as it was sent {later.sent_at[:16].replace('T', ' ')} counts.")  # fmt: skip
        if before is None or run.sent_at >= before.sent_at:
            last[run.id] = run
    groups = {key: at for at, key in enumerate(dict.fromkeys((each.class_id, each.group) for each in last.values()))}
    called = class_names([each.class_id for each in last.values()])
    classes_of = Counter(alias for _, alias in groups)
    found: dict[str, list[PoolRow]] = {}
    for count, run in enumerate(last.values()):
        try:
            findings = {name: _in_unit(each.measured, units.get(name)) for name, each in run.findings.items()}
            conditions = {name: _in_unit(each.measured, units.get(name)) for name, each in run.conditions.items()}
        except Trouble as trouble:
            told.append(f"{run.group} run {run.number} is left out: {trouble.sentence}")
            continue
        alias = f"{run.group}, {called[run.class_id]}" if classes_of[run.group] > 1 else run.group
        row = PoolRow(
            count, groups[run.class_id, run.group], alias, run.number, conditions, findings, run.aside, "", run.words
        )
        found.setdefault(run.class_id, []).append(row)
    return found, told


def units_of(plan: Plan) -> dict[str, str]:
    """Condition or finding -> its unit in the plan."""
    kinds = check(plan.in_use, plan.channels, plan.raw).kinds
    return {each.name: each.unit for each in plan.conditions} | {n: kinds[n].unit for n in plan.findings if n in kinds}


def class_names(ids: Sequence[str]) -> dict[str, str]:
    """`class 1` and so on, in the order in which they come."""
    return {id: f"class {at}" for at, id in enumerate(dict.fromkeys(ids), 1)}


def _in_unit(value: Measured, unit: str | None) -> Measured:
    return value if unit is None or value.unit == unit else value.to(unit)


def many_classes(plan: Plan, pools: Sequence[Sequence[SharedRun]]) -> ManyClasses:
    """Raises PoolTrouble where the plan has no finding."""
    by_class, told = merged(plan, pools)
    called = class_names(list(by_class))
    classes = []
    for id, rows in by_class.items():
        try:
            result = class_result(plan, rows)
            classes.append(OneClass(called[id], tuple(rows), result, result.why_no_line))
        except Trouble as trouble:
            classes.append(OneClass(called[id], tuple(rows), None, trouble.sentence))
    whole = class_result(plan, [row for rows in by_class.values() for row in rows])
    finding, between = mean_of_classes([each.result.finding for each in classes if each.result is not None and each.result.finding is not None])  # fmt: skip
    return ManyClasses(whole, tuple(classes), finding, between, tuple(told))


def mean_of_classes(found: Sequence[Measured]) -> tuple[Measured | None, float]:
    """The mean of what classes find, each weighted by its own uncertainty and by what they scatter beyond it (Paule, Mandel), and
    that scatter; None and nan where fewer than two know theirs."""
    known = [each for each in found if math.isfinite(each.value) and math.isfinite(each.u) and each.u > 0]
    if len(known) < LEAST_CLASSES:
        return None, math.nan
    y, u = (np.array([getattr(each, what) for each in known]) for what in ("value", "u"))
    n = len(y)
    line = group_line(np.zeros(n), y, np.zeros(n), u**2, np.arange(n), (0,))
    stated = (
        float(np.sum(1 / (u**2 + line.between))) ** -0.5
    )  # never less, however near to each other they lie by chance
    u_mean = max(float(line.covariance[0, 0]) ** 0.5, stated)
    return Measured(float(line.coefficients[0]), u_mean, known[0].unit, line.u_dof), (line.between * line.scale) ** 0.5
