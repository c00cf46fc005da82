"""The class line: one point a group, errors in both coordinates. Pool rows in, class result out.

Runs of one group share their conditions' errors, so the line goes through the groups' means; each
group is judged against the line through all the others.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.fits.straight_line import Line, straight_line
from common_bench.model.class_line import STANDS_OUT, ClassLine, ClassPoint, ClassResult, GroupPlace
from common_bench.model.measured import Measured, plain
from common_bench.model.plan import Plan
from common_bench.model.run import PoolRow
from common_bench.model.trouble import CalibrationTrouble, PoolTrouble, Trouble
from common_bench.workings.evaluate import number_from

LEAST_GROUPS = 3
PLACES_FROM = 0.5  # of a standard uncertainty: an error of x below this is not worth naming


def class_result(plan: Plan, rows: Sequence[PoolRow]) -> ClassResult:
    """The class dataset as points, line and finding. Raises PoolTrouble where the plan has no class graph."""
    graph = plan.graph
    if graph is None:
        raise PoolTrouble("no-class-graph")
    points = []
    for row in rows:
        names = {**row.conditions, **row.findings}
        try:
            x, y = number_from(graph.x, names), number_from(graph.y, names)
        except Trouble:
            continue  # a run without its condition is listed by the lesson as missing, not drawn
        points.append(ClassPoint(row.run, row.number, row.group, row.alias, x, y, row.aside))
    places = _places(points)
    used = [place for place in places if not place.aside]
    line = None
    why = ""
    if len(used) < LEAST_GROUPS:
        why = f"The class line needs {LEAST_GROUPS} groups; {len(used)} are in."
    else:
        try:
            line = _line(used)
        except CalibrationTrouble as trouble:
            why = f"There is no class line yet: {trouble.what}"
    finding_name, _, formula = graph.finding.partition("=")
    finding = None
    if line is not None and formula:
        finding = _class_finding(formula.strip(), line, used)
    judged = _judged_in_turn(places, graph.x)
    within, between = _scatter(points, line)
    runs = sum(place.runs for place in used)
    return ClassResult(
        graph.x, graph.y, tuple(points), judged, _kept(line, len(used), runs) if line else None, finding_name.strip(),
        finding, plan.accepted(), within, between, why,
    )  # fmt: skip


def _places(points: Sequence[ClassPoint]) -> list[GroupPlace]:
    places = []
    for group in dict.fromkeys(point.group for point in points):
        own = [point for point in points if point.group == group]
        used = [point for point in own if not point.aside]
        shown = used or own
        places.append(
            GroupPlace(
                group, own[0].alias, len(shown), _mean(shown, "x"), _mean(shown, "y"), float("nan"), float("nan"),
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
    return Measured(float(values.mean()), max(stated, seen), each[0].unit)


def _line(places: Sequence[GroupPlace]) -> Line:
    return straight_line(
        np.array([p.x.value for p in places]), np.array([p.y.value for p in places]),
        np.array([p.x.u for p in places]), np.array([p.y.u for p in places]),
    ).widened()  # fmt: skip


def _class_finding(formula: str, line: Line, places: Sequence[GroupPlace]) -> Measured | None:
    """The formula over slope and intercept; their correlation counts where both are used (by rotating
    to the centre of the points, the formula is evaluated with each moved by its own uncertainty)."""
    x_unit, y_unit = places[0].x.unit, places[0].y.unit
    unit = f"({y_unit})/({x_unit})" if x_unit else y_unit

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
    return Measured(centre.value, float(np.sqrt(gradient @ line.covariance @ gradient)), centre.unit)


def _judged_in_turn(places: Sequence[GroupPlace], x_name: str) -> tuple[GroupPlace, ...]:
    """Every place against the line through the other groups that are in and do not stand out.

    The one that lies farthest out is found first and no longer bends the line by which the others
    are judged; then the next, as long as groups enough are left. None is set aside by this: only a
    person does that.
    """
    trusted = [place for place in places if not place.aside]
    while True:
        judged = [_judged(p, [other for other in trusted if other.group != p.group], x_name) for p in places]
        out = [p for p in judged if p.stands_out and any(other.group == p.group for other in trusted)]
        if not out or len(trusted) - 1 < LEAST_GROUPS:
            return tuple(judged)
        worst = max(out, key=lambda place: abs(place.away))
        trusted = [place for place in trusted if place.group != worst.group]


def _judged(place: GroupPlace, others: Sequence[GroupPlace], x_name: str) -> GroupPlace:
    """The place against the line through the others: difference over all uncertainties that enter it."""
    if len(others) < LEAST_GROUPS:
        return place
    try:
        line = _line(others)
    except CalibrationTrouble:
        return place
    x, y = place.x, place.y
    difference = y.value - float(line.at(x.value))
    u = float(np.sqrt(y.u**2 + (line.slope * x.u) ** 2 + float(line.u_at(x.value)) ** 2))
    away, x_off = float(difference / u), float(-difference / line.slope)
    words = ""
    if abs(away) > STANDS_OUT and np.isfinite(x_off):
        side = "low" if difference < 0 else "high"
        stated = "large" if x_off > 0 else "small"
        off = plain(abs(x_off), 2 if abs(x_off) > 0.02 else 3)
        words = (
            f"{place.alias} sits {abs(away):.0f} uncertainties {side}, as if its {x_name} were stated "
            f"{off} {x.unit} too {stated}: measured to the wrong place?"
        )
    return GroupPlace(place.group, place.alias, place.runs, x, y, away, x_off, place.aside, words)


def _scatter(points: Sequence[ClassPoint], line: Line | None) -> tuple[float, float]:
    """Standard deviation of y within a group (pooled over groups), and between groups about the line
    beyond what that explains (one-way analysis of variance; ISO 5725-2 calls them repeatability and
    between-laboratory scatter)."""
    used = [point for point in points if not point.aside]
    groups = [[p for p in used if p.group == g] for g in dict.fromkeys(p.group for p in used)]
    repeated = [[p.y.value for p in own] for own in groups if len(own) > 1]
    dof = sum(len(own) - 1 for own in repeated)
    within = float(np.sqrt(sum(float(np.var(own)) * len(own) for own in repeated) / dof)) if dof else float("nan")
    if line is None or len(groups) < LEAST_GROUPS:
        return within, float("nan")
    off = [float(np.mean([p.y.value - float(line.at(p.x.value)) for p in own])) for own in groups]
    size = float(np.mean([len(own) for own in groups]))
    about = sum(each**2 for each in off) / max(1, len(off) - 2)
    return within, float(np.sqrt(max(0.0, about - (within**2 / size if within == within else 0.0))))


def _kept(line: Line, groups: int, runs: int) -> ClassLine:
    c = line.covariance
    covariance = ((float(c[0, 0]), float(c[0, 1])), (float(c[1, 0]), float(c[1, 1])))
    return ClassLine(line.intercept, line.slope, covariance, line.excess, groups, runs)
