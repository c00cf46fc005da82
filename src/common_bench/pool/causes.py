"""Why a group may stand out: mistakes that classes make, tried one after the other on its own numbers. Its places, its runs and
the others' line in; a cause out, where one explains what is seen clearly better than the others.

A mistake without a free number, as a period counted double, explains a place if the place then lies where the others have it.
One with a free number, as a condition off by a fixed amount, explains any single place; it is told only from several.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import msgspec
import numpy as np

from common_bench.fits.group_line import LineOfGroups
from common_bench.model.class_line import GroupPlace
from common_bench.model.measured import Measured, plain
from common_bench.model.plan import ClassGraph
from common_bench.model.run import PoolRow
from common_bench.model.trouble import CalibrationTrouble
from common_bench.model.uncertainty import as_normal
from common_bench.model.units import same_kind
from common_bench.pool.places import FittedLines, away_from, places_of, point_of, stands_in

NEAR = 3.0  # uncertainties, as rare as of a normal distribution, within which a place lies where the others have it
CLEARLY = 6.0  # of chi-square, by which one explanation must be better than the next
EXPLAINS = 4.0  # of chi-square a place, up to which one explains what is seen
OTHER_UNITS = {
    10.0: "ten times too large", 0.1: "a tenth", 100.0: "a hundred times too large", 0.01: "a hundredth",
    1000.0: "a thousand times too large", 0.001: "a thousandth", 2.54: "2.54 times too large", 1 / 2.54: "too small by 2.54",
}  # fmt: skip
MOST_AWAY = 1e6  # uncertainties; what lies farther explains nothing either


class Tried(NamedTuple):
    """One mistake: its name and words, and the sum of squares over their uncertainties that it leaves."""

    cause: str
    words: str
    left: float


def cause_of(
    own: Sequence[GroupPlace], others: Sequence[GroupPlace], all_: Sequence[GroupPlace], graph: ClassGraph,
    rows: Sequence[PoolRow], lines: FittedLines,
) -> tuple[str, str]:  # fmt: skip
    """own: the group's places; others: those of the groups that are trusted; all_: everybody's; rows: of the pool. Gives the
    cause and its sentence; both empty where none explains it clearly better than the rest."""
    try:
        line = lines.through(others)
    except CalibrationTrouble:
        return "", ""
    mine = [row for row in rows if row.group == own[0].group and not row.aside] or [
        row for row in rows if row.group == own[0].group
    ]
    found = [
        each
        for each in (*_without_number(mine, line, graph), *_swapped(own, others, all_, graph, lines))
        if each.left <= NEAR**2 * len(own)
    ]
    if len(found) == 1:
        return found[0].cause, found[0].words
    if found or len({place.x.value for place in own}) < 2:
        return "", ""
    told = sorted(_with_number(own, line, graph), key=lambda each: each.left)
    if told[0].left <= EXPLAINS * (len(own) - 1) and told[1].left - told[0].left > CLEARLY:
        return told[0].cause, told[0].words
    return "", ""


def _left(rows: Sequence[PoolRow], line: LineOfGroups, graph: ClassGraph) -> float:
    """What is left where a group's rows were these."""
    points = [point for row in rows if (point := point_of(graph, row)) is not None]
    places = places_of(points, each_run=False)
    if not places:
        return float("inf")
    return sum(_ratio(place, line) ** 2 for place in places)


def _ratio(place: GroupPlace, line: LineOfGroups) -> float:
    difference, u = away_from(place, line)
    found = as_normal(difference / u, line.judged_dof) if u > 0 else MOST_AWAY
    return min(max(found, -MOST_AWAY), MOST_AWAY)


def _without_number(mine: Sequence[PoolRow], line: LineOfGroups, graph: ClassGraph) -> Iterator[Tried]:
    """Conditions stated in another unit; what comes back counted twice or half."""
    conditions = {name: each for row in mine for name, each in row.conditions.items() if stands_in(name, graph)}
    findings = {name: each for row in mine for name, each in row.findings.items() if stands_in(name, graph)}
    for name in conditions:
        for factor, words in OTHER_UNITS.items():
            changed = [_scaled(row, "conditions", name, 1 / factor) for row in mine]
            yield Tried(
                "condition in another unit", f"its {name} seems to be stated in another unit ({words}).",
                _left(changed, line, graph),
            )  # fmt: skip
    for name, each in findings.items():
        if not (same_kind(each.unit, "s") or same_kind(each.unit, "Hz")):
            continue
        for factor, words in ((2.0, "double"), (0.5, "half")):
            changed = [_scaled(row, "findings", name, 1 / factor) for row in mine]
            yield Tried(
                f"{name} counted {words}", f"its {name} seems to be counted {words}.", _left(changed, line, graph)
            )


def _scaled(row: PoolRow, what: str, name: str, factor: float) -> PoolRow:
    values = dict(getattr(row, what))
    if name in values:
        old: Measured = values[name]
        values[name] = msgspec.structs.replace(old, value=old.value * factor, u=old.u * abs(factor))
    return msgspec.structs.replace(row, **{what: values})


def _swapped(
    own: Sequence[GroupPlace], others: Sequence[GroupPlace], all_: Sequence[GroupPlace], graph: ClassGraph,
    lines: FittedLines,
) -> Iterator[Tried]:  # fmt: skip
    """Another group's condition in the place of its own, and its own with that group: both must then lie right."""
    if len(own) != 1:
        return
    for other in all_:
        if other.group == own[0].group or not other.stands_out or sum(p.group == other.group for p in all_) != 1:
            continue
        rest = [place for place in others if place.group != other.group]
        try:
            line = lines.through(rest)
        except CalibrationTrouble:
            continue
        both = [msgspec.structs.replace(own[0], x=other.x), msgspec.structs.replace(other, x=own[0].x)]
        left = max(_ratio(place, line) ** 2 for place in both)
        yield Tried(
            f"condition swapped with {other.alias}",
            f"its {graph.x} and that of {other.alias} seem to be swapped.",
            left,
        )


def _with_number(own: Sequence[GroupPlace], line: LineOfGroups, graph: ClassGraph) -> list[Tried]:
    """Condition or finding off by a fixed amount, or by a factor, to first order."""
    x, y = (np.array([getattr(place, axis).value for place in own]) for axis in "xy")
    off = y - line.at(x)
    u = np.array([line.variance_of_new(p.x.value, p.x.u, p.y.u**2) for p in own]) ** 0.5
    step = 1e-4 * float(np.abs(x).max() or 1.0)
    steep = (line.at(x + step) - line.at(x - step)) / (2 * step)
    x_unit, y_unit = own[0].x.unit, own[0].y.unit
    tries: list[tuple[str, object, Callable[[float], str]]] = [
        (f"{graph.x} off by a fixed amount", -steep, lambda by: f"its {graph.x} seems to be stated {plain(abs(by), 3)} {x_unit} too {'large' if by > 0 else 'small'} each time."),
        (f"{graph.x} off by a factor", -steep * x, lambda by: f"its {graph.x} seems to be stated {abs(by):.1%} too {'large' if by > 0 else 'small'}."),
        (f"{graph.y} off by a fixed amount", np.ones(len(x)), lambda by: f"its {graph.y} comes out {plain(abs(by), 3)} {y_unit} too {'large' if by > 0 else 'small'} each time: its kit's calibration is off by a fixed amount?"),
        (f"{graph.y} off by a factor", y, lambda by: f"its {graph.y} comes out {abs(by):.1%} too {'large' if by > 0 else 'small'}: its kit's calibration is off by a factor?"),
    ]  # fmt: skip
    found = []
    for cause, moved, words in tries:
        along = np.asarray(moved, float) / u
        by = float(along @ (off / u)) / float(along @ along)
        found.append(Tried(cause, words(by), float(np.sum((off / u - by * along) ** 2))))
    return found
