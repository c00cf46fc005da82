"""Where each group stands on the class graph, and the line through the places of some. Pool rows in, places and line out."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from common_bench.fits.group_line import LineOfGroups, group_line
from common_bench.model.block import Floats, Ints, Source
from common_bench.model.class_line import ClassPoint, GroupPlace
from common_bench.model.measured import Measured
from common_bench.model.plan import ClassGraph
from common_bench.model.run import PoolRow
from common_bench.model.trouble import CalibrationTrouble, Trouble
from common_bench.model.uncertainty import combined
from common_bench.workings.over import number_from

LEAST_GROUPS = 3
POWERS: dict[str, tuple[int, ...]] = {"through-zero": (1,), "parabola": (0, 1, 2)}  # others have (0, 1)
LOGS = {
    "power": (True, True),
    "exponential": (False, True),
}  # whether the line is straight over the logarithm of x, of y


def point_of(graph: ClassGraph, row: PoolRow) -> ClassPoint | None:
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


def places_of(points: Sequence[ClassPoint], *, each_run: bool) -> list[GroupPlace]:
    """One place for each value of x that a group has set, or one a run: a mean over different conditions means nothing."""
    keys = [(point.group, point.run if each_run else float(f"{point.x.value:.9g}")) for point in points]
    sets = [[p for p, its in zip(points, keys, strict=True) if its == key] for key in dict.fromkeys(keys)]
    used = [[p for p in own if not p.aside] or own for own in sets]
    beyond, dof = _repeated(used)
    return [
        GroupPlace(
            own[0].group, f"{own[0].alias} {own[0].number}" if each_run else own[0].alias, len(shown), _mean(shown, "x"),
            _mean_of_runs(shown, beyond, dof), float("nan"), float("nan"), own[0].aside if all(p.aside for p in own) else "",
            of=tuple(p.run for p in own),
        )
        for own, shown in zip(sets, used, strict=True)
    ]  # fmt: skip


def _repeated(sets: Sequence[Sequence[ClassPoint]]) -> tuple[float, float]:
    """By how much runs at one value scatter more than they state of their own, as a factor of variances, pooled over groups (ISO
    5725-2); and from how many degrees of freedom. Where nothing is stated, their variance itself; nan without repeated runs."""
    several = [[p.y.value for p in own] for own in sets if len(own) > 1]
    dof = sum(len(own) - 1 for own in several)
    if not dof:
        return math.nan, 0.0
    seen = sum(float(np.var(own)) * len(own) for own in several) / dof
    stated = [own_variance(p.y) for own in sets if len(own) > 1 for p in own]
    mean = float(np.mean(stated))
    return (max(1.0, seen / mean) if np.isfinite(mean) and mean > 0 else seen), float(dof)


def own_variance(value: Measured) -> float:
    """Of a run alone, without what all runs of its group share."""
    return max(0.0, value.u**2 - value.shared**2) if math.isfinite(value.u) else math.nan


def _mean(points: Sequence[ClassPoint], axis: str) -> Measured:
    """Of what is set once for all runs, so that its uncertainty does not shrink with them."""
    each: list[Measured] = [getattr(point, axis) for point in points]
    u = max(m.u for m in each) if all(np.isfinite(m.u) for m in each) else math.nan
    return Measured(float(np.mean([m.value for m in each])), u, each[0].unit, min(m.dof for m in each))


def _mean_of_runs(points: Sequence[ClassPoint], beyond: float, dof: float) -> Measured:
    """The mean of runs, whose own uncertainty shrinks with their number, but never below what all groups' runs scatter; what they
    share does not."""
    each = [point.y for point in points]
    n, value = len(each), float(np.mean([m.value for m in each]))
    stated = float(np.sum([own_variance(m) for m in each])) / n**2
    own = combined({Source("run", False, f"{k}", m.dof): m.u for k, m in enumerate(each)})[1]
    return place_of_runs(value, n, stated, beyond, dof, own, each[0].unit, float(np.mean([m.shared for m in each])))


def place_of_runs(
    value: float, n: int, stated: float, beyond: float, dof: float, own: float, unit: str, shared: float
) -> Measured:
    """A place from what its n runs come down to: their mean and its stated variance; beyond, dof: what runs scatter more than they
    state, as of all groups; own: degrees of freedom of the stated variance; shared: the part of their uncertainty that all of them
    have in common."""
    if np.isfinite(stated) and stated > 0:
        factor = beyond if np.isfinite(beyond) else 1.0
        runs, known = stated * factor, dof if factor > 1 else own
    elif np.isfinite(beyond) and beyond > 0:
        runs, known = beyond / n, dof
    else:
        runs, known = 0.0 if stated == 0 else math.nan, own if shared else 0.0
    if shared and np.isfinite(runs):
        known = combined({Source("runs", False, "", known): runs**0.5, Source("shared", True, "", own): shared})[1]
    return Measured(value, (runs + shared**2) ** 0.5, unit, known, shared)


def stands_in(name: str, graph: ClassGraph) -> bool:
    """Whether what is drawn upwards or to the right is worked out from this condition or finding."""
    return re.search(rf"(?<!\w){re.escape(name)}(?!\w)", f"{graph.x} {graph.y}") is not None


def away_from(place: GroupPlace, line: LineOfGroups) -> tuple[float, float]:
    """How far a place of another group lies from the line in y, and the standard uncertainty of that."""
    v, u_x = place.y.u**2, place.x.u if math.isfinite(place.x.u) else 0.0
    difference = place.y.value - float(line.at(place.x.value))
    return difference, math.sqrt(max(0.0, line.variance_of_new(place.x.value, u_x, v)))


class FittedLines:
    """FittedLines through the places of some groups; each is fitted once."""

    def __init__(self, graph: ClassGraph) -> None:
        self.powers, self._logs = POWERS.get(graph.line, (0, 1)), logs_of(graph)
        self._found: dict[tuple[tuple[int, float], ...], LineOfGroups | CalibrationTrouble] = {}

    @property
    def least(self) -> int:
        """Groups, from which there is a line."""
        return max(LEAST_GROUPS, len(self.powers) + 1)

    def through(self, places: Sequence[GroupPlace]) -> LineOfGroups:
        """Where a group does not know its uncertainty, all are taken from how they scatter about the line. Raises
        CalibrationTrouble for places that fix no line."""
        key = tuple((place.group, place.x.value) for place in places)
        if key not in self._found:
            try:
                self._found[key] = self._fitted(places)
            except CalibrationTrouble as trouble:
                self._found[key] = trouble
        found = self._found[key]
        if isinstance(found, CalibrationTrouble):
            raise found
        return found

    def coordinates(self, places: Sequence[GroupPlace]) -> tuple[Floats, Floats, Floats, Floats, Ints]:
        """x, y, u of x, variance of y of each, in which the line is straight; and whose it is. Raises CalibrationTrouble where a
        logarithm has none."""
        x, y, u_x, u_y = (
            np.array([getattr(getattr(place, axis), what) for place in places])
            for what in ("value", "u")
            for axis in "xy"
        )
        groups = np.array([place.group for place in places])
        (x, u_x), (y, u_y) = (
            _logarithms(each, u, places, axis) if log else (each, u)
            for each, u, axis, log in zip((x, y), (u_x, u_y), ("x", "y"), self._logs, strict=True)
        )
        return x, y, u_x, u_y * u_y, groups

    def _fitted(self, places: Sequence[GroupPlace]) -> LineOfGroups:
        return replace(group_line(*self.coordinates(places), self.powers), logs=self._logs)


def logs_of(graph: ClassGraph) -> tuple[bool, bool]:
    """Whether the class line is straight over the logarithm of x, of y."""
    return LOGS.get(graph.line, (False, False))


def _logarithms(each: Floats, u: Floats, places: Sequence[GroupPlace], axis: str) -> tuple[Floats, Floats]:
    """With their uncertainties. Raises CalibrationTrouble where there is none."""
    wrong = next((place for place, value in zip(places, each.tolist(), strict=True) if not value > 0), None)
    if wrong is not None:
        raise CalibrationTrouble("line-needs-above-zero", alias=wrong.alias, axis=axis)
    return np.log(each), u / each
