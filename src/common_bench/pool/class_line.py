"""The class line: one place for each value of the condition that a group has set, errors in both coordinates, groups that
scatter by more than they state; or groups compared. Pool rows in, class result out.

Runs of one group at one value share their condition's error, so the line goes through their means; what runs scatter is pooled
over all groups (ISO 5725-2). Each group is judged against the line through all the others.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence

import msgspec
import numpy as np

from common_bench.fits.group_line import LineOfGroups
from common_bench.model.block import Floats, Source
from common_bench.model.class_line import (
    MEAN,
    SCATTER,
    ClassLevel,
    ClassLimits,
    ClassLine,
    ClassPoint,
    ClassResult,
    GroupPlace,
)
from common_bench.model.measured import Measured, digits
from common_bench.model.plan import ClassGraph, Plan
from common_bench.model.run import PoolRow, Share
from common_bench.model.trouble import CalibrationTrouble, PoolTrouble, Trouble, UnitTrouble
from common_bench.model.uncertainty import combined
from common_bench.model.units import counts_from_own_zero, interval_of, product
from common_bench.pool.judging import LEAST_JUDGED, judged_in_turn
from common_bench.pool.limits import shares_of_level, shares_of_line, what_limits, what_limits_level
from common_bench.pool.places import LEAST_GROUPS, FittedLines, away_from, places_of, point_of
from common_bench.pool.power import seen_from
from common_bench.workings.over import number_from

LEAST_COMPARED = 2
NAMES = ("intercept", "slope", "bend")  # of the coefficients, by which a class finding is worked out
LEAST_STEP = 1e-9  # of a coefficient, or of its unit, by which it is moved at least
TOO_ALIKE = 0.01  # of classes whose places are independent, which differ by so little
DISAGREES = 2.0  # standard uncertainties, from which on the robust line is told


CLEARLY_FARTHEST = 1.5  # times as far as the next


def class_graph_of(plan: Plan) -> ClassGraph | None:
    """The plan's class graph; its first finding compared between the groups where it draws none; None without a finding."""
    return plan.graph or (ClassGraph(plan.findings[0]) if plan.findings else None)


def class_result(plan: Plan, rows: Sequence[PoolRow]) -> ClassResult:
    """The class dataset as points, line or level, and finding. Raises PoolTrouble where the plan has no finding."""
    graph = class_graph_of(plan)
    if graph is None:
        raise PoolTrouble("no-class-graph")
    points = [point for row in rows if (point := point_of(graph, row)) is not None]
    places = places_of(points, each_run=graph.point == "run")
    used = [place for place in places if not place.aside]
    lines = FittedLines(graph)
    line, level, why = None, None, ""
    if graph.has_line:
        line, why = _line_or_why(used, lines)
    else:
        level = _level(used)
        why = "" if level is not None else f"Groups are compared from {LEAST_COMPARED} on; {len(used)} are in."
    finding_name, finding = _finding_of(graph, line, level, used)
    judged = [_without(place, used, graph, lines, finding) for place in judged_in_turn(places, graph, rows, lines)]
    within, between = _scatter(points, line, level)
    runs, groups = sum(place.runs for place in used), len({place.group for place in used})
    kept = _kept(line, used, groups, runs) if line is not None else None
    limits, made_of = None, tuple[Share, ...]()
    if line is not None and finding is not None:
        limits, made_of = _limits(graph, line, used, lines)
    elif level is not None and finding == level.mean:
        limits, made_of = what_limits_level(level, used), shares_of_level(level, used)
    return ClassResult(
        graph.x, graph.y, tuple(points), tuple(judged), kept, finding_name, finding, _accepted(plan, finding), within, between, why,
        level, _words(kept, groups, judged, lambda: _farthest(used, graph, lines)), limits, seen_from(judged), made_of,
    )  # fmt: skip


def _accepted(plan: Plan, finding: Measured | None) -> Measured | None:
    """The value to compare the class finding with; None where there is none, or none that can be compared: the plan's check
    says why."""
    try:
        accepted = plan.accepted()
        if accepted is not None and finding is not None:
            accepted.to(finding.unit)
    except UnitTrouble:
        return None
    return accepted


def finding_of_places(plan: Plan, places: Sequence[GroupPlace]) -> Measured | None:
    """What a class finds by a plan, from its places alone; None where it finds nothing."""
    graph = class_graph_of(plan)
    used = [place for place in places if not place.aside]
    if graph is None or not used:
        return None
    line = _line_or_why(used, FittedLines(graph))[0] if graph.has_line else None
    return _finding_of(graph, line, None if graph.has_line else _level(used), used)[1]


def _finding_of(
    graph: ClassGraph, line: LineOfGroups | None, level: ClassLevel | None, used: Sequence[GroupPlace]
) -> tuple[str, Measured | None]:
    name, _, formula = graph.finding.partition("=")
    if line is not None and formula:
        return name.strip(), _class_finding(formula.strip(), line, used)
    if level is not None:
        return _level_finding(name.strip(), formula.strip(), level)
    return name.strip(), None


def _without(
    place: GroupPlace, used: Sequence[GroupPlace], graph: ClassGraph, lines: FittedLines, finding: Measured | None
) -> GroupPlace:
    """With the class finding that there would be without this group."""
    others = [each for each in used if each.group != place.group]
    if finding is None or place.aside or not graph.has_line:
        return place
    line, _ = _line_or_why(others, lines)
    return msgspec.structs.replace(place, without=_finding_of(graph, line, None, others)[1])


def _limits(
    graph: ClassGraph, line: LineOfGroups, used: Sequence[GroupPlace], lines: FittedLines
) -> tuple[ClassLimits | None, tuple[Share, ...]]:
    """What limits the class finding, and what its uncertainty is made of."""
    found = _followed(graph.finding.partition("=")[2].strip(), line, used)
    if found is None:
        return None, ()
    constants = (Share("constants", found[0].u),) if found[0].u > 0 else ()
    made_of = (*shares_of_line(line, used, lines, found[1], graph.x), *constants)
    return what_limits(line, used, lines, found[1]), tuple(sorted(made_of, key=lambda each: -(each.u or 0.0)))


def _farthest(used: Sequence[GroupPlace], graph: ClassGraph, lines: FittedLines) -> str:
    """Which of few groups lies farthest from the line through the others, or from their mean; empty where that cannot be said."""
    found: list[tuple[float, GroupPlace, int]] = []
    for place in used:
        others = [each for each in used if each.group != place.group]
        if not graph.has_line:
            difference = place.y.value - float(np.mean([each.y.value for each in others])) if others else math.nan
        else:
            try:
                difference = away_from(place, lines.through(others))[0]
            except CalibrationTrouble:
                continue
        if math.isfinite(difference) and difference:
            found.append((difference, place, len({each.group for each in others})))
    if len(found) < 3:
        return ""
    found.sort(key=lambda each: -abs(each[0]))
    far, place, count = found[0]
    next_far = found[1][0]
    if abs(far) < CLEARLY_FARTHEST * abs(next_far):
        return "No group lies clearly farther out than the others."
    size = f"{digits(abs(far), 0.1 * abs(far))} {place.y.unit}".rstrip()
    where = "the line through" if graph.has_line else "the mean of"
    return f"{place.alias} lies farthest: {size} {'below' if far < 0 else 'above'} {where} the other {count}."


def _words(
    line: ClassLine | None, groups: int, judged: Sequence[GroupPlace], farthest: Callable[[], str]
) -> tuple[str, ...]:
    """What is to be known besides: who cannot be judged, where a line by medians differs, whose weight is large."""
    told = []
    if groups and groups < LEAST_JUDGED:
        far = farthest()
        told.append(
            f"With {groups} groups nobody can be judged, as a mistake and chance look alike. {f'{far} ' if far else ''}With {LEAST_JUDGED} "
            "or more, a group that stands out is named with its likely cause."
        )
    if line is not None and np.isfinite(line.robust):
        u = line.covariance[1][1] ** 0.5
        off = abs(line.robust - line.slope)
        if off > DISAGREES * u > 0 and line.slope:
            by = abs(line.robust / line.slope - 1)
            side = "steeper" if abs(line.robust) > abs(line.slope) else "flatter"
            how = f"{by:.1%} {side}" if by < 1 and line.robust * line.slope > 0 else "quite another"
            told.append(f"A line by medians, which single groups do not bend, is {how}: look at who pulls this one.")
    return tuple(told)


def _line_or_why(used: Sequence[GroupPlace], lines: FittedLines) -> tuple[LineOfGroups | None, str]:
    groups = len({place.group for place in used})
    if groups < lines.least:
        return None, f"The class line needs {lines.least} groups; {groups} are in."
    try:
        return lines.through(used), ""
    except CalibrationTrouble as trouble:
        return None, f"There is no class line yet: {trouble.what}"


def _level(used: Sequence[GroupPlace]) -> ClassLevel | None:
    n = len(used)
    if n < LEAST_COMPARED:
        return None
    y, unit = np.array([place.y.value for place in used]), used[0].y.unit
    scatter = float(np.std(y, ddof=1))
    common = _common(used, scatter**2)
    u, dof = combined({Source(SCATTER, True, "", n - 1.0): scatter / n**0.5, Source("common", True): common**0.5})
    return ClassLevel(
        Measured(float(y.mean()), u, unit, dof),
        Measured(scatter, scatter / (2 * (n - 1)) ** 0.5, "K" if counts_from_own_zero(unit) else unit, n - 1.0),
        n,
        sum(place.runs for place in used),
    )


def _common(used: Sequence[GroupPlace], scatter: float) -> float:
    """Variance that is common to all groups, as of the baths that all were calibrated in: what they state beyond what they differ by,
    as far as their runs share it, or all of it where they differ by far less than they state. scatter: variance of the places."""
    from scipy.special import chdtr

    stated = float(np.mean([place.y.u**2 for place in used]))
    if not np.isfinite(stated) or stated <= scatter:
        return 0.0
    too_alike = float(chdtr(len(used) - 1, (len(used) - 1) * scatter / stated)) < TOO_ALIKE
    shared = math.inf if too_alike else float(np.mean([place.y.shared**2 for place in used]))
    return min(stated - scatter, shared)


def _level_finding(name: str, formula: str, level: ClassLevel) -> tuple[str, Measured | None]:
    """The class finding over mean and scatter; the mean itself where the plan names none."""
    if not formula:
        return name or "mean of all groups", level.mean
    try:
        return name, number_from(formula, {MEAN: level.mean, SCATTER: level.scatter})
    except Trouble:
        return name, None


def _class_finding(formula: str, line: LineOfGroups, places: Sequence[GroupPlace]) -> Measured | None:
    """The formula over the line's coefficients, each moved by its own uncertainty; their correlations count."""
    found = _followed(formula, line, places)
    return _with_uncertainty(*found, line) if found is not None else None


def _followed(formula: str, line: LineOfGroups, places: Sequence[GroupPlace]) -> tuple[Measured, Floats] | None:
    """What the formula gives, and (p,) how it follows each coefficient; None where it cannot be worked out."""
    x_unit, y_unit = places[0].x.unit, places[0].y.unit
    units = [_unit_of(power, x_unit, y_unit) for power in (0, 1, 2)]

    def value(coefficients: Floats) -> Measured:
        known = dict(zip(line.powers, coefficients.tolist(), strict=True))
        names = {NAMES[k]: Measured(known.get(k, 0.0), 0.0, units[k]) for k in range(3)}
        if line.logs[1]:
            by = ("exponent", "") if line.logs[0] else ("rate", product("", interval_of(x_unit), -1.0))
            names = {"factor": Measured(math.exp(known[0]), 0.0, y_unit), by[0]: Measured(known[1], 0.0, by[1])}
        return number_from(formula, names)

    try:
        centre = value(line.coefficients)
        gradient: list[float] = []
        for at, own in enumerate(np.sqrt(np.diag(line.covariance))):
            u = max(
                float(own), LEAST_STEP * abs(float(line.coefficients[at])), LEAST_STEP
            )  # through places without a scatter
            step = np.zeros(len(line.powers))
            step[at] = u
            gradient.append((value(line.coefficients + step).value - value(line.coefficients - step).value) / (2 * u))
    except (Trouble, ZeroDivisionError):
        return None
    by = np.array(gradient)
    return centre, by


def _with_uncertainty(centre: Measured, by: Floats, line: LineOfGroups) -> Measured:
    u_line = float(np.sqrt(by @ line.covariance @ by))
    # The formula's own constants are the centre's u.
    u, dof = combined({Source("class line", True, "", line.u_dof): u_line, Source("constants", True): centre.u})
    return Measured(centre.value, u, centre.unit, dof)


def _unit_of(power: int, x_unit: str, y_unit: str) -> str:
    if not power:
        return y_unit
    return product(interval_of(y_unit), interval_of(x_unit), -float(power))


def _scatter(points: Sequence[ClassPoint], line: LineOfGroups | None, level: ClassLevel | None) -> tuple[float, float]:
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
    taken = len(line.powers) if line is not None else 1  # degrees of freedom

    def expected(x: float) -> float:
        return float(line.at(x)) if line is not None else level.mean.value if level is not None else float("nan")

    off = [float(np.mean([p.y.value - expected(p.x.value) for p in own])) for own in groups]
    size = float(np.mean([len(own) for own in groups]))
    about = sum(each**2 for each in off) / max(1, len(off) - taken)
    return within, float(np.sqrt(max(0.0, about - (within**2 / size if within == within else 0.0))))


def _kept(line: LineOfGroups, used: Sequence[GroupPlace], groups: int, runs: int) -> ClassLine:
    rows = [[0.0] * 3 for _ in range(3)]
    for i, one in enumerate(line.powers):
        for j, other in enumerate(line.powers):
            rows[one][other] = float(line.covariance[i, j])
    covariance = tuple(tuple(row) for row in rows)
    known = dict(zip(line.powers, line.coefficients.tolist(), strict=True))
    return ClassLine(
        line.intercept, line.slope, covariance, line.excess, groups, runs, line.u_dof, known.get(2, 0.0),  # type: ignore[arg-type]
        (line.scale * line.between) ** 0.5, _by_medians(used, line), line.logs,
    )  # fmt: skip


def _by_medians(used: Sequence[GroupPlace], line: LineOfGroups) -> float:
    """The median of the slopes between any two places of two groups (Theil; Sen, J. Am. Stat. Assoc. 63, 1379 (1968)); through
    zero, of those to each place."""
    if 2 in line.powers:
        return math.nan
    if line.powers == (1,):
        return float(np.median([place.y.value / place.x.value for place in used if place.x.value]))
    x, y = (
        [math.log(value) if log else value for value in (getattr(place, axis).value for place in used)]
        for axis, log in zip("xy", line.logs, strict=True)
    )
    slopes = [
        (y[b] - y[a]) / (x[b] - x[a])
        for a, b in itertools.combinations(range(len(used)), 2)
        if used[a].group != used[b].group and x[a] != x[b]
    ]
    return float(np.median(slopes)) if slopes else math.nan
