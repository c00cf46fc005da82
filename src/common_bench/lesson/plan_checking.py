"""A plan looked at as a whole: what in it cannot be, each at its place. A plan in; what is wrong out."""

from __future__ import annotations

import difflib
import math
import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import msgspec

from common_bench.calibrate.curves import find_curve
from common_bench.model.class_line import MEAN, SCATTER
from common_bench.model.measured import read_measured
from common_bench.model.plan import Condition, Plan, SensorPlan, measured_line
from common_bench.model.trouble import PlanTrouble, Trouble, WorkingTrouble
from common_bench.model.units import interval_of, product, same_kind, unit
from common_bench.record.rules import OWN, rule_of
from common_bench.workings.evaluate import Workings, check
from common_bench.workings.formula import Formula
from common_bench.workings.kinds import kind_of
from common_bench.workings.reading import WORDS, read_working
from common_bench.workings.shapes import NO_UNIT, Kind
from common_bench.workup.span_rule import check_span, spans_in

LONGEST_RUN = 14 * 86_400.0  # s
MOST_RUNS = 99
MOST_DIGITS = 9
LONGEST_WORDS = 200  # characters on a tile


@dataclass(frozen=True)
class PlanFault:
    """What is wrong at one place. part: measured, working, finding, condition, rule, graph, tiles or plan; at: which of
    them; field: which entry of it."""

    part: str
    at: int
    field: str
    trouble: Trouble

    @property
    def sentence(self) -> str:
        return self.trouble.sentence


def checked(plan: Plan) -> Workings:
    """The plan's workings as they are worked out, each with its kind or its trouble."""
    return check(plan.in_use, plan.channels, plan.raw)


def watching(plan: Plan, workings: Workings) -> Workings:
    """What kits are worked out by: the plan's lines, checked already, and those by which its rule watches for levels. Raises
    PlanTrouble where the rule cannot be read."""
    own = rule_of(plan, workings.kinds).lines
    return check((*plan.in_use, *own), plan.channels, plan.raw) if own else workings


def faults_of(plan: Plan, workings: Workings | None = None) -> list[PlanFault]:
    """All that is wrong with a plan; empty where a class can run it. workings: the plan's, where they are checked
    already."""
    workings = workings or checked(plan)
    return [
        *_of_plan(plan, workings),
        *_of_sensors(plan, workings),
        *_of_workings(plan, workings),
        *_of_findings(plan, workings),
        *_of_conditions(plan, workings),
        *_of_graph(plan, workings),
    ]


def refuse_unusable(plan: Plan) -> None:
    """Raises the trouble of the first fault of a plan, where it has one."""
    faults = faults_of(plan)
    if faults:
        raise faults[0].trouble


def _attempt(part: str, at: int, field: str, act: Callable[[], object]) -> Iterator[PlanFault]:
    try:
        act()
    except Trouble as trouble:
        yield PlanFault(part, at, field, trouble)


def _fault(part: str, at: int, field: str, code: str, **fields: Any) -> PlanFault:
    return PlanFault(part, at, field, PlanTrouble(code, **fields))


def _of_plan(plan: Plan, workings: Workings) -> Iterator[PlanFault]:
    if not plan.name.strip():
        yield _fault("plan", 0, "name", "plan-without-name")
    if not (math.isfinite(plan.rule.seconds) and 0 <= plan.rule.seconds <= LONGEST_RUN):
        yield _fault("rule", 0, "seconds", "rule-out-of-range", days=round(LONGEST_RUN / 86_400))
    try:
        for line in watching(plan, workings).lines[len(plan.in_use) :]:
            if line.trouble is not None:
                yield PlanFault("rule", 0, "begins" if line.name == f"{OWN}begins" else "ends", line.trouble)
    except PlanTrouble as trouble:
        yield PlanFault("rule", 0, "begins", trouble)
    events = [name for name, kind in workings.kinds.items() if kind.shape in ("events", "at events")]
    yield from _attempt("rule", 0, "used", lambda: check_span(plan.rule.used, events))
    if not 1 <= plan.runs_per_group <= MOST_RUNS:
        yield _fault("rule", 0, "runs_per_group", "runs-out-of-range", most=MOST_RUNS)
    for stage, words in plan.tiles.items():
        if stage not in STAGE_KEYS:
            near = difflib.get_close_matches(stage, STAGE_KEYS, 1)
            yield _fault("tiles", 0, stage, "no-such-stage", stage=stage, near=near[0] if near else "", known=", ".join(STAGE_KEYS))  # fmt: skip
        elif len(words) > LONGEST_WORDS:
            yield _fault("tiles", 0, stage, "words-too-long", most=LONGEST_WORDS)


STAGE_KEYS = ("plug", "calibrate", "record", "work", "pool")


def _of_sensors(plan: Plan, workings: Workings) -> Iterator[PlanFault]:
    refused = {line.text: line.trouble for line in workings.lines if line.trouble}
    channels: set[str] = set()
    quantities: set[str] = set()
    for at, sensor in enumerate(plan.sensors):
        if not sensor.channel.strip():
            yield _fault("measured", at, "channel", "sensor-without-channel", quantity=sensor.quantity)
        elif sensor.channel in channels:
            yield _fault("measured", at, "channel", "channel-twice", channel=sensor.channel)
        channels.add(sensor.channel)
        if sensor.quantity.lower() in quantities:
            yield _fault(
                "measured", at, "quantity", "name-taken", name=sensor.quantity, other=sensor.quantity, case="again"
            )
        else:
            yield from _attempt("measured", at, "quantity", lambda sensor=sensor: _name(sensor.quantity))  # type: ignore[misc]
            trouble = refused.get(measured_line(sensor))
            if trouble is not None and trouble.code not in ("no-such-unit", "name-taken"):
                yield PlanFault("measured", at, "channel", trouble)
        quantities.add(sensor.quantity.lower())
        yield from _attempt("measured", at, "unit", lambda sensor=sensor: unit(sensor.unit))  # type: ignore[misc]
        yield from _attempt("measured", at, "raw_unit", lambda sensor=sensor: unit(sensor.raw_unit))  # type: ignore[misc]
        yield from _of_curve(at, sensor)
        yield from _of_limits(at, sensor)


def _of_curve(at: int, sensor: SensorPlan) -> Iterator[PlanFault]:
    yield from _attempt("measured", at, "curve", lambda: find_curve(sensor.curve))
    if sensor.steps:
        yield from _attempt("measured", at, "steps", lambda: Formula(sensor.steps, "", ""))
    if sensor.curve == "formula":
        if not sensor.formula:
            yield _fault("measured", at, "formula", "formula-missing", quantity=sensor.quantity)
        elif not sensor.u > 0:
            yield _fault("measured", at, "u", "formula-without-uncertainty", unit=sensor.unit)
        else:
            yield from _attempt(
                "measured", at, "formula", lambda: Formula((*sensor.steps, sensor.formula), "", sensor.unit)
            )
    labels: set[str] = set()
    for point in sensor.points:
        if not point.label.strip() or point.label.lower() in labels:
            yield _fault("measured", at, "points", "point-name-taken", label=point.label)
        labels.add(point.label.lower())
        if not (math.isfinite(point.value) and math.isfinite(point.u) and point.u >= 0):
            yield _fault("measured", at, "points", "number-not-finite", what=point.label)


def _of_limits(at: int, sensor: SensorPlan) -> Iterator[PlanFault]:
    for field, ends in (("believed", sensor.believed), ("scale", sensor.scale)):
        if ends is not None and not ends[0] < ends[1]:
            yield _fault("measured", at, field, "range-turned-round", quantity=sensor.quantity)
    limits = (sensor.steady_drift, sensor.steady_scatter, float(sensor.old_after))
    numbers = (sensor.u, sensor.common_u, sensor.common_share, *limits)
    if not all(math.isfinite(each) and each >= 0 for each in numbers):
        yield _fault("measured", at, "u", "number-not-finite", what=sensor.quantity)
    if sensor.digits is not None and not 0 <= sensor.digits <= MOST_DIGITS:
        yield _fault("measured", at, "digits", "digits-out-of-range", most=MOST_DIGITS)
    for each in sensor.warn:
        if (each.above is None and each.below is None) or not each.words.strip():
            yield _fault("measured", at, "warn", "threshold-says-nothing", quantity=sensor.quantity)


def _name(text: str) -> None:
    """Raises WorkingTrouble for what cannot be the name of a quantity."""
    if not text.isidentifier() or text.startswith("_") or text in WORDS:
        raise WorkingTrouble("no-name", end=len(text), name=text)
    read_working(f"{text} = 1")


def _of_workings(plan: Plan, workings: Workings) -> Iterator[PlanFault]:
    measured = {measured_line(sensor) for sensor in plan.sensors}
    by_text = {line.text: line for line in workings.lines}
    spans: list[str] = []
    with suppress(PlanTrouble):  # told beside the rule
        spans = [name for name in spans_in(plan.rule.used) if name]
    for at, text in enumerate(plan.workings):
        line = by_text.get(text)
        if line is not None and line.trouble is not None and text not in measured:
            yield PlanFault("working", at, "", line.trouble)
        elif line is not None and line.read is not None and line.read.during not in ("", *spans):
            known = ", ".join(spans) or "none"
            yield _fault("working", at, "", "no-such-span", name=line.read.during, known=known)


def _of_findings(plan: Plan, workings: Workings) -> Iterator[PlanFault]:
    kinds = workings.kinds
    refused = {line.name for line in workings.lines if line.trouble}
    for at, name in enumerate(plan.findings):
        kind = kinds.get(name)
        if kind is None:
            if name not in refused:
                near = difflib.get_close_matches(name, kinds, 1)
                yield _fault("finding", at, "", "finding-nowhere", name=name, near=near[0] if near else "", case="near" if near else "")  # fmt: skip
        elif kind.shape == "events":
            yield _fault("finding", at, "", "finding-is-events", name=name)
        elif kind.shape != "number":
            yield _fault("finding", at, "", "finding-no-number", name=name)
        elif not kind.late:
            yield _fault("finding", at, "", "finding-constant", name=name)
    if len(set(plan.findings)) < len(plan.findings):
        yield _fault("finding", 0, "", "finding-twice")
    for name in plan.show:
        if name not in kinds and name not in refused:
            yield _fault("plan", 0, "show", "shown-nowhere", name=name)


def _of_conditions(plan: Plan, workings: Workings) -> Iterator[PlanFault]:
    taken = {line.name.lower() for line in workings.lines}
    if plan.visited is not None:
        taken.discard(plan.visited.name.lower())  # a line by its name is made of it
    if plan.rule.points and plan.visited is None:
        yield _fault("rule", 0, "points", "no-such-condition", name=plan.rule.points)
    elif plan.visited is not None and len(set(plan.visited.values)) < 2:
        yield _fault("rule", 0, "points", "points-without-values", name=plan.visited.name)
    for at, condition in enumerate(plan.conditions):
        if condition.name.lower() in taken:
            yield _fault("condition", at, "name", "condition-twice", name=condition.name)
        else:
            yield from _attempt("condition", at, "name", lambda condition=condition: _name(condition.name))  # type: ignore[misc]
        taken.add(condition.name.lower())
        yield from _of_condition(at, condition)


def _of_condition(at: int, condition: Condition) -> Iterator[PlanFault]:
    yield from _attempt("condition", at, "unit", lambda: unit(condition.unit))
    if condition.kind == "choice" and len(set(condition.choices)) < 2:
        yield _fault("condition", at, "choices", "choices-missing", name=condition.name)
    if condition.kind != "number" and (condition.values or condition.u or condition.unit):
        yield _fault("condition", at, "kind", "words-without-unit", name=condition.name)
    if not all(math.isfinite(each) for each in (condition.u, *condition.values)) or condition.u < 0:
        yield _fault("condition", at, "u", "number-not-finite", what=condition.name)


# what the class finds


LINES = {
    "straight": "a line", "through-zero": "a line through zero", "parabola": "a parabola", "power": "a power",
    "exponential": "an exponential", "none": "no line",
}  # fmt: skip
"""The kinds of class line, as they are chosen."""


def pool_names(plan: Plan, workings: Workings) -> dict[str, Kind]:
    """What the class graph may be made of: findings and conditions that are numbers."""
    found = {name: workings.kinds[name] for name in plan.findings if name in workings.kinds}
    found |= {each.name: Kind("number", each.unit) for each in plan.stated if each.kind == "number"}
    return {name: Kind("number", kind.unit) for name, kind in found.items() if kind.shape == "number"}


def parameters_of(plan: Plan, x_unit: str, y_unit: str) -> dict[str, Kind]:
    """What the class finding may be made of, with units."""
    if plan.graph is not None and plan.graph.has_line:
        slope = product(interval_of(y_unit), interval_of(x_unit), -1.0)
        bent = {"factor": Kind("number", y_unit)}
        form = plan.graph.line
        if form == "power":
            return bent | {"exponent": Kind("number", "")}
        if form == "exponential":
            return bent | {"rate": Kind("number", product("", interval_of(x_unit), -1.0))}
        straight = {"slope": Kind("number", slope), "intercept": Kind("number", y_unit)}
        bend = product(slope, interval_of(x_unit), -1.0)
        return straight | ({"bend": Kind("number", bend)} if form == "parabola" else {})
    return {MEAN: Kind("number", y_unit), SCATTER: Kind("number", interval_of(y_unit))}


def choice_that_gives(plan: Plan, name: str) -> str:
    """The choice of class line by which a class finding may be made of a name, `a power` for `exponent`; empty where none gives it."""
    if plan.graph is None or not name:
        return ""
    for line, words in LINES.items():
        graph = msgspec.structs.replace(plan.graph, line=line)
        if name in parameters_of(msgspec.structs.replace(plan, graph=graph), "", ""):
            return words if graph.x or line == "none" else f"{words}, against a condition"
    return ""


def _expression(text: str, names: Mapping[str, Kind]) -> Kind:
    """Raises WorkingTrouble where it is no single number over these names."""
    read = read_working(text if "=" in text else f"value = {text}")
    kind = kind_of(read, names, {})
    if kind.shape != "number" or kind.late:
        raise WorkingTrouble("not-one-number", start=0, end=len(text))
    return kind


def _of_graph(plan: Plan, workings: Workings) -> Iterator[PlanFault]:
    graph = plan.graph
    if graph is None:
        return
    refused = {line.name for line in workings.lines if line.trouble}
    names = pool_names(plan, workings)
    units: dict[str, str] = {}
    for field, text in (("y", graph.y), ("x", graph.x)):
        if text or field == "y":
            try:
                units[field] = _expression(text, names).unit
            except Trouble as trouble:
                if trouble.fields.get("name") not in refused:  # what a refused line gives is not known yet
                    yield PlanFault("graph", 0, field, trouble)
    moving = [each.name for each in plan.conditions if each.per_run and re.search(rf"\b{each.name}\b", graph.x)]
    if moving and graph.point == "group":
        yield _fault("graph", 0, "point", "one-point-of-many-conditions", name=moving[0])
    if "y" not in units or ("x" not in units and graph.x):
        return
    yield from _of_class_finding(plan, units)


def _of_class_finding(plan: Plan, units: Mapping[str, str]) -> Iterator[PlanFault]:
    graph = plan.graph
    assert graph is not None
    found_unit = units["y"]
    if graph.finding:
        name, sign, _ = graph.finding.partition("=")
        if not sign or not name.strip().isidentifier():
            yield _fault("graph", 0, "finding", "class-finding-without-name")
            return
        try:
            found_unit = _expression(graph.finding, parameters_of(plan, units.get("x", ""), units["y"])).unit
        except Trouble as trouble:
            if choice := choice_that_gives(plan, str(trouble.fields.get("name", ""))):
                now = LINES[graph.line if graph.x else "none"]
                trouble = PlanTrouble("name-of-another-line", name=trouble.fields["name"], choice=choice, now=now)
            yield PlanFault("graph", 0, "finding", trouble)
            return
    if graph.accepted:
        try:
            accepted = read_measured(graph.accepted)
            if not same_kind(accepted.unit, found_unit):
                wanted = found_unit or NO_UNIT
                raise PlanTrouble("accepted-of-another-kind", accepted=accepted.unit or NO_UNIT, unit=wanted)
        except Trouble as trouble:
            yield PlanFault("graph", 0, "accepted", trouble)
