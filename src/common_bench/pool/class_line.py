"""The class line: one point a group or a run, errors in both coordinates; or groups compared. Pool rows in, class result out.

Runs of one group share their conditions' errors, so the line goes through the groups' means; each
group is judged against the line through all the others.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.fits.straight_line import Line, straight_line
from common_bench.model.block import Source
from common_bench.model.class_line import (
    MEAN,
    SCATTER,
    STANDS_OUT,
    ClassLevel,
    ClassLine,
    ClassPoint,
    ClassResult,
    GroupPlace,
)
from common_bench.model.measured import Measured, plain
from common_bench.model.plan import ClassGraph, Plan
from common_bench.model.run import PoolRow
from common_bench.model.trouble import CalibrationTrouble, PoolTrouble, Trouble
from common_bench.model.uncertainty import as_normal, combined
from common_bench.model.units import counts_from_own_zero, interval_of
from common_bench.workings.over import number_from

LEAST_GROUPS = 3
LEAST_COMPARED = 2
PLACES_FROM = 0.5  # of a standard uncertainty: an error of x below this is not worth naming


def class_graph_of(plan: Plan) -> ClassGraph | None:
    """The plan's class graph; its first finding compared between the groups where it draws none; None without a finding."""
    return plan.graph or (ClassGraph(plan.findings[0]) if plan.findings else None)


def class_result(plan: Plan, rows: Sequence[PoolRow]) -> ClassResult:
    """The class dataset as points, line or level, and finding. Raises PoolTrouble where the plan has no finding."""
    graph = class_graph_of(plan)
    if graph is None:
        raise PoolTrouble("no-class-graph")
    points = [point for row in rows if (point := _point(graph, row)) is not None]
    places = _places(points, each_run=graph.point == "run")
    used = [place for place in places if not place.aside]
    line, level, why = None, None, ""
    if graph.has_line:
        line, why = _line_or_why(used)
    else:
        level = _level(used)
        why = "" if level is not None else f"Groups are compared from {LEAST_COMPARED} on; {len(used)} are in."
    finding_name, _, formula = graph.finding.partition("=")
    finding = None
    if line is not None and formula:
        finding = _class_finding(formula.strip(), line, used)
    elif level is not None:
        finding_name, finding = _level_finding(finding_name.strip(), formula.strip(), level)
    judged = _judged_in_turn(places, graph)
    within, between = _scatter(points, line, level)
    runs = sum(place.runs for place in used)
    return ClassResult(
        graph.x, graph.y, tuple(points), judged, _kept(line, len({place.group for place in used}), runs) if line else None, finding_name.strip(),
        finding, plan.accepted(), within, between, why, level,
    )  # fmt: skip


def _point(graph: ClassGraph, row: PoolRow) -> ClassPoint | None:
    """A run on the class graph; None for one without its condition, which is listed by the lesson as missing."""
    names = {**row.conditions, **row.findings}
    try:
        x = number_from(graph.x, names) if graph.x else Measured(0.0, 0.0, "")
        y = number_from(graph.y, names)
    except Trouble:
        return None
    if not np.isfinite([x.value, y.value]).all():
        return None
    return ClassPoint(row.run, row.number, row.group, row.alias, x, y, row.aside)


def _line_or_why(used: Sequence[GroupPlace]) -> tuple[Line | None, str]:
    groups = len({place.group for place in used})
    if groups < LEAST_GROUPS:
        return None, f"The class line needs {LEAST_GROUPS} groups; {groups} are in."
    try:
        return _line(used), ""
    except CalibrationTrouble as trouble:
        return None, f"There is no class line yet: {trouble.what}"


def _level(used: Sequence[GroupPlace]) -> ClassLevel | None:
    n = len(used)
    if n < LEAST_COMPARED:
        return None
    y, unit = np.array([place.y.value for place in used]), used[0].y.unit
    scatter = float(np.std(y, ddof=1))
    stated = float(np.mean([place.y.u**2 for place in used]))
    # What the groups state beyond what they differ by is common to them, as the baths that all were calibrated in.
    common = max(0.0, stated - scatter**2) if np.isfinite(stated) else 0.0
    u, dof = combined({Source(SCATTER, True, "", n - 1.0): scatter / n**0.5, Source("common", True): common**0.5})
    return ClassLevel(
        Measured(float(y.mean()), u, unit, dof),
        Measured(scatter, scatter / (2 * (n - 1)) ** 0.5, "K" if counts_from_own_zero(unit) else unit, n - 1.0),
        n,
        sum(place.runs for place in used),
    )


def _level_finding(name: str, formula: str, level: ClassLevel) -> tuple[str, Measured | None]:
    """The class finding over mean and scatter; the mean itself where the plan names none."""
    if not formula:
        return name or "mean of all groups", level.mean
    try:
        return name, number_from(formula, {MEAN: level.mean, SCATTER: level.scatter})
    except Trouble:
        return name, None


def _places(points: Sequence[ClassPoint], *, each_run: bool) -> list[GroupPlace]:
    """One place for each value of x that a group has set, or one a run: a mean over different conditions means nothing."""
    places = []
    keys = [(point.group, point.run if each_run else float(f"{point.x.value:.9g}")) for point in points]
    for key in dict.fromkeys(keys):
        own = [point for point, its in zip(points, keys, strict=True) if its == key]
        group = key[0]
        used = [point for point in own if not point.aside]
        shown = used or own
        places.append(
            GroupPlace(
                group, f"{own[0].alias} {own[0].number}" if each_run else own[0].alias, len(shown), _mean(shown, "x"), _mean(shown, "y"), float("nan"), float("nan"),
                "" if used else own[0].aside,
            )
        )  # fmt: skip
    return places


def _mean(points: Sequence[ClassPoint], axis: str) -> Measured:
    """Mean over a group's runs. x is set once for all runs, so its uncertainty does not shrink; y's
    does, but never below what the scatter of the runs says."""
    each: list[Measured] = [getattr(point, axis) for point in points]
    values, us = np.array([m.value for m in each]), np.array([m.u for m in each])
    n = len(each)
    stated = float(us.max() if axis == "x" else np.sqrt(np.sum(us**2)) / n)
    seen = float(np.std(values, ddof=1)) / n**0.5 if n > 1 else 0.0
    if not np.isfinite(stated):  # of a single run nothing is known then, of several what they scatter
        known = n > 1 and axis == "y"
        return Measured(float(values.mean()), seen if known else np.nan, each[0].unit, n - 1.0 if known else 0.0)
    each_run = {Source("run", False, f"{k}", m.dof): m.u for k, m in enumerate(each)}
    own = min(m.dof for m in each) if axis == "x" else combined(each_run)[1]
    beyond = max(0.0, seen**2 - stated**2) ** 0.5  # only what goes beyond is told by the few runs
    u, dof = combined({Source("stated", False, "", own): stated, Source("beyond", False, "", n - 1.0): beyond})
    return Measured(float(values.mean()), u, each[0].unit, dof if u > 0 else own)


def _line(places: Sequence[GroupPlace]) -> Line:
    """Where a group does not know its uncertainty, all are taken from how the groups scatter about the line."""
    x, y, u_x, u_y = (
        np.array([getattr(getattr(place, axis), what) for place in places]) for what in ("value", "u") for axis in "xy"
    )
    if not np.isfinite([u_x, u_y]).all():
        u_x = u_y = np.zeros(len(x))
    return straight_line(x, y, u_x, u_y).widened()


def _class_finding(formula: str, line: Line, places: Sequence[GroupPlace]) -> Measured | None:
    """The formula over slope and intercept; their correlation counts where both are used (by rotating
    to the centre of the points, the formula is evaluated with each moved by its own uncertainty)."""
    x_unit, y_unit = places[0].x.unit, places[0].y.unit
    over = f"({interval_of(y_unit)})" if y_unit else "1"
    unit = f"{over}/({interval_of(x_unit)})" if x_unit else interval_of(y_unit)

    def value(intercept: float, slope: float) -> Measured:
        return number_from(
            formula, {"slope": Measured(slope, 0.0, unit), "intercept": Measured(intercept, 0.0, y_unit)}
        )

    try:
        centre = value(line.intercept, line.slope)
        u_a, u_b = float(line.covariance[0, 0]) ** 0.5, float(line.covariance[1, 1]) ** 0.5
        by_a = (value(line.intercept + u_a, line.slope).value - value(line.intercept - u_a, line.slope).value) / (
            2 * u_a
        )
        by_b = (value(line.intercept, line.slope + u_b).value - value(line.intercept, line.slope - u_b).value) / (
            2 * u_b
        )
    except (Trouble, ZeroDivisionError):
        return None
    gradient = np.array([by_a, by_b])
    u_line = float(np.sqrt(gradient @ line.covariance @ gradient))
    # The formula's own constants are the centre's u.
    u, dof = combined({Source("class line", True, "", line.u_dof): u_line, Source("constants", True): centre.u})
    return Measured(centre.value, u, centre.unit, dof)


def _judged_in_turn(places: Sequence[GroupPlace], graph: ClassGraph) -> tuple[GroupPlace, ...]:
    """Every place against the line through the other groups that are in and do not stand out.

    The one that lies farthest out is found first and no longer bends the line by which the others
    are judged; then the next, as long as groups enough are left. None is set aside by this: only a
    person does that.
    """
    trusted = [place for place in places if not place.aside]
    while True:
        judged = [_judged(p, [other for other in trusted if other.group != p.group], graph) for p in places]
        out = [p for p in judged if p.stands_out and any(other.group == p.group for other in trusted)]
        if not out or len(trusted) - 1 < LEAST_GROUPS:
            return tuple(judged)
        worst = max(out, key=lambda place: abs(place.away))
        trusted = [place for place in trusted if place.group != worst.group]


def _judged(place: GroupPlace, others: Sequence[GroupPlace], graph: ClassGraph) -> GroupPlace:
    """The place against the line through the others, or against their mean: difference over all uncertainties that enter
    it."""
    if len(others) < LEAST_GROUPS:
        return place
    if not graph.has_line:
        return _judged_by_level(place, others)
    try:
        line = _line(others)
    except CalibrationTrouble:
        return place
    x, y = place.x, place.y
    difference = y.value - float(line.at(x.value))
    u = float(np.sqrt(y.u**2 + (line.slope * x.u) ** 2 + float(line.u_at(x.value)) ** 2))
    if not (u > 0 and line.slope):
        return place
    of_line = float(line.u_at(x.value))
    _, dof = combined({
        Source("line", True, "", line.u_dof): of_line, Source("x", True, "", x.dof): line.slope * x.u,
        Source("y", True, "", y.dof): y.u,
    })  # fmt: skip
    away, x_off = as_normal(float(difference / u), dof), float(-difference / line.slope)
    words = ""
    if abs(away) > STANDS_OUT and np.isfinite(x_off):
        side = "low" if difference < 0 else "high"
        stated = "large" if x_off > 0 else "small"
        off = plain(abs(x_off), 2 if abs(x_off) > 0.02 else 3)
        words = (
            f"{place.alias} sits {abs(away):.0f} uncertainties {side}, as if its {graph.x} were stated "
            f"{off} {x.unit} too {stated}: measured to the wrong place?"
        )
    return GroupPlace(place.group, place.alias, place.runs, x, y, away, x_off, place.aside, words)


def _judged_by_level(place: GroupPlace, others: Sequence[GroupPlace]) -> GroupPlace:
    """Groups scatter by themselves, so the scatter of the others is part of what a group may differ by."""
    y = np.array([other.y.value for other in others])
    scatter = float(np.std(y, ddof=1))
    u = float(np.sqrt(place.y.u**2 + scatter**2 * (1 + 1 / len(y))))
    if not u > 0:
        return place
    difference = place.y.value - float(y.mean())
    _, dof = combined({Source(SCATTER, True, "", len(y) - 1.0): scatter, Source("y", True, "", place.y.dof): place.y.u})
    away, words = as_normal(float(difference / u), dof), ""
    if abs(away) > STANDS_OUT:
        side = "low" if difference < 0 else "high"
        words = (
            f"{place.alias} sits {abs(away):.0f} uncertainties {side} of the others: is its sensor where theirs are?"
        )
    return GroupPlace(
        place.group, place.alias, place.runs, place.x, place.y, away, float("nan"), place.aside, words
    )  # fmt: skip


def _scatter(points: Sequence[ClassPoint], line: Line | None, level: ClassLevel | None) -> tuple[float, float]:
    """Standard deviation of y within a group (pooled over groups), and between groups about the line
    beyond what that explains (one-way analysis of variance; ISO 5725-2 calls them repeatability and
    between-laboratory scatter)."""
    used = [point for point in points if not point.aside]
    groups = [[p for p in used if p.group == g] for g in dict.fromkeys(p.group for p in used)]
    repeated = [[p.y.value for p in own] for own in groups if len(own) > 1]
    dof = sum(len(own) - 1 for own in repeated)
    within = float(np.sqrt(sum(float(np.var(own)) * len(own) for own in repeated) / dof)) if dof else float("nan")
    if (line is None and level is None) or len(groups) < LEAST_GROUPS:
        return within, float("nan")
    taken = 2 if line is not None else 1  # degrees of freedom

    def expected(x: float) -> float:
        return float(line.at(x)) if line is not None else level.mean.value if level is not None else float("nan")

    off = [float(np.mean([p.y.value - expected(p.x.value) for p in own])) for own in groups]
    size = float(np.mean([len(own) for own in groups]))
    about = sum(each**2 for each in off) / max(1, len(off) - taken)
    return within, float(np.sqrt(max(0.0, about - (within**2 / size if within == within else 0.0))))


def _kept(line: Line, groups: int, runs: int) -> ClassLine:
    c = line.covariance
    covariance = ((float(c[0, 0]), float(c[0, 1])), (float(c[1, 0]), float(c[1, 1])))
    return ClassLine(line.intercept, line.slope, covariance, line.excess, groups, runs, line.u_dof)
