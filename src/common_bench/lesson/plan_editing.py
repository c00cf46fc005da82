"""A plan changed line by line, as text: lines read and written, moved, switched off, copied, renamed everywhere at once.

Every function takes a plan and gives another; nothing is kept here. What cannot be read raises Trouble with its place.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar

import msgspec

from common_bench.calibrate.curves import curve_name, find_curve
from common_bench.lesson.plan_checking import checked, faults_of
from common_bench.lesson.plan_library import quantity_name
from common_bench.model.measured import number, plain
from common_bench.model.plan import OFF, Plan, SensorPlan
from common_bench.model.trouble import PlanTrouble, Trouble, WorkingTrouble
from common_bench.model.units import two_ways
from common_bench.record.rules import renamed_in_rule
from common_bench.workings.reading import renamed_in, renamed_in_expression
from common_bench.workup.span_rule import renamed_in_spans

Item = TypeVar("Item")
MEASURED = re.compile(
    r"""^\s*(?P<name>[^=]*?)\s*=\s*from\s+(?:"(?P<quoted>[^"]+)"|(?P<channel>\S+))\s+
    (?P<how>as\s+it\s+comes|through\s+an?\s+(?P<curve>.+?)|by\s+(?P<formula>.+?)\s*(?:±|\+-)\s*(?P<u>[\d.,eE+-]+))
    \s*(?:,\s*in\s+(?P<unit>\S+))?\s*$""",
    re.VERBOSE,
)


@dataclass(frozen=True)
class PlanLine:
    """One line of a plan: measured, worked, events, fit, finding or off; at: which sensor, or which working; trouble: what is
    wrong with it."""

    kind: str
    at: int
    name: str
    text: str
    trouble: Trouble | None = None

    @property
    def is_measured(self) -> bool:
        return self.kind == "measured"


def lines_of(plan: Plan) -> list[PlanLine]:
    """All lines in the order in which they follow, each with what is wrong with it."""
    workings = checked(plan)
    faults, kinds = faults_of(plan, workings), workings.kinds
    lines = []
    for at, sensor in enumerate(plan.sensors):
        wrong = next((each.trouble for each in faults if (each.part, each.at) == ("measured", at)), None)
        lines.append(PlanLine("measured", at, sensor.quantity, sensor_text(sensor), wrong))
    for at, text in enumerate(plan.workings):
        off = text.lstrip().startswith(OFF)
        name = text.lstrip(f"{OFF} ").partition("=")[0].strip()
        wrong = next((each.trouble for each in faults if (each.part, each.at) == ("working", at)), None)
        kind = "off" if off else "worked"
        if not off and name in plan.findings:
            kind = "finding"
            place = plan.findings.index(name)
            wrong = wrong or next((f.trouble for f in faults if (f.part, f.at) == ("finding", place)), None)
        elif not off and name in kinds and kinds[name].shape in ("events", "fit"):
            kind = kinds[name].shape
        lines.append(PlanLine(kind, at, name, text, wrong))
    return lines


# measured quantities as text


def sensor_text(sensor: SensorPlan) -> str:
    """`voltage = from a0 through a straight line, in V`; `read_sensor` reads it again."""
    channel = sensor.channel if re.fullmatch(r"[^\s\"]+", sensor.channel) else f'"{sensor.channel}"'
    unit = f", in {sensor.unit}" if sensor.unit else ""
    if sensor.curve == "as-it-comes":
        how = "as it comes"
    elif sensor.curve == "formula":
        how = f"by {sensor.formula.partition('=')[2].strip() or 'reading'} ± {sensor.u:g}"
    else:
        how = f"through a {curve_name(sensor.curve)}"
    return f"{sensor.quantity} = from {channel} {how}{unit}"


def read_sensor(text: str, before: SensorPlan | None = None) -> SensorPlan:
    """A measured line as it is typed; what the line does not say stays as it was. Raises Trouble."""
    found = MEASURED.match(text)
    if not found:
        raise WorkingTrouble("not-measured", end=len(text))
    name, channel, unit = found["name"].strip(), found["quoted"] or found["channel"], found["unit"] or ""
    kept = before or SensorPlan(channel, name, unit)
    if unit != kept.unit and kept.points:
        kept = msgspec.structs.replace(kept, points=())  # references in another unit mean something else
    changes: dict[str, object] = {"quantity": name, "channel": channel, "unit": unit}
    if found["formula"]:
        changes |= {"curve": "formula", "formula": f"{name} = {found['formula'].strip()}", "u": number(found["u"])}
    elif found["curve"]:
        changes |= {"curve": find_curve(found["curve"]), "formula": ""}
    else:
        changes |= {"curve": "as-it-comes", "formula": ""}
    return msgspec.structs.replace(kept, **changes)


# lines


def with_line(plan: Plan, line: PlanLine | None, text: str) -> Plan:
    """The plan with a line put in the place of another, or added at the end (None). A line that says `from` is measured.
    A line that is renamed is renamed everywhere. Raises Trouble where a measured line cannot be read."""
    typed = " ".join(text.split())
    if line is None:
        return _added(plan, typed)
    new_name = typed.lstrip(f"{OFF} ").partition("=")[0].strip()
    if line.is_measured:
        sensor = read_sensor(typed, plan.sensors[line.at])
        changed = msgspec.structs.replace(plan, sensors=_put(plan.sensors, line.at, sensor))
    else:
        changed = msgspec.structs.replace(plan, workings=_put(plan.workings, line.at, typed))
    if new_name and new_name != line.name and new_name.isidentifier() and line.name.isidentifier():
        return renamed(changed, line.name, new_name)
    return changed


def _added(plan: Plan, typed: str) -> Plan:
    if MEASURED.match(typed) or re.match(r"^\s*\w*\s*=\s*from\s", typed):
        return msgspec.structs.replace(plan, sensors=(*plan.sensors, read_sensor(typed)))
    return msgspec.structs.replace(plan, workings=(*plan.workings, typed))


def _put(items: Sequence[Item], at: int, item: Item) -> tuple[Item, ...]:
    return (*items[:at], item, *items[at + 1 :])


def looked_over(plan: Plan, line: PlanLine | None, text: str) -> Trouble | None:
    """What would be wrong with a line as it stands while it is typed; None where nothing is, or nothing can be said yet."""
    if "=" not in text:
        return None
    try:
        tried = with_line(plan, line, text)
    except Trouble as trouble:
        return trouble
    lines = lines_of(tried)
    if line is None:
        measured = len(tried.sensors) > len(plan.sensors)
        return lines[len(tried.sensors) - 1 if measured else -1].trouble or _two_ways(text)
    own = next((each.trouble for each in lines if (each.is_measured, each.at) == (line.is_measured, line.at)), None)
    return own or _two_ways(text)


def _two_ways(text: str) -> Trouble | None:
    """A question about a unit that reads two ways, as C, which is no degree; what is kept is read as it stands."""
    for found in re.finditer(r"(?:\b(?:in|as)|\d) (\w+)(?![\w/·*^²³])", text):
        if found[1] in two_ways():
            read, near = two_ways()[found[1]]
            return WorkingTrouble(
                "unit-reads-two-ways", start=found.start(1), end=found.end(1), text=found[1], read=read, near=near
            )
    return None


def with_lines(plan: Plan, texts: Sequence[str]) -> Plan:
    """The plan with lines added at the end."""
    for text in texts:
        plan = with_line(plan, None, text)
    return plan


def without_line(plan: Plan, line: PlanLine) -> Plan:
    """Takes a line off, and out of the findings and of what is shown."""
    if line.is_measured:
        plan = msgspec.structs.replace(plan, sensors=plan.sensors[: line.at] + plan.sensors[line.at + 1 :])
    else:
        plan = msgspec.structs.replace(plan, workings=plan.workings[: line.at] + plan.workings[line.at + 1 :])
    return _without_name(plan, line.name)


def _without_name(plan: Plan, name: str) -> Plan:
    findings = tuple(each for each in plan.findings if each != name)
    show = tuple(each for each in plan.show if each != name)
    return msgspec.structs.replace(plan, findings=findings, show=show)


def moved(plan: Plan, line: PlanLine, by: int) -> Plan:
    """A line further up or down, among its own."""
    items: tuple[object, ...] = plan.sensors if line.is_measured else plan.workings
    to = min(len(items) - 1, max(0, line.at + by))
    rest = [*items[: line.at], *items[line.at + 1 :]]
    rest.insert(to, items[line.at])
    return msgspec.structs.replace(plan, **{"sensors" if line.is_measured else "workings": tuple(rest)})


def switched(plan: Plan, line: PlanLine) -> Plan:
    """A working switched off, or on again. Raises PlanTrouble for a measured one."""
    if line.is_measured:
        raise PlanTrouble("measured-stays-on", name=line.name)
    text = line.text.lstrip(f"{OFF} ") if line.kind == "off" else f"{OFF} {line.text}"
    changed = msgspec.structs.replace(plan, workings=_put(plan.workings, line.at, text))
    return changed if line.kind == "off" else _without_name(changed, line.name)


def copied(plan: Plan, line: PlanLine) -> Plan:
    """A line once more, behind itself, under another name."""
    taken = {each.name.lower() for each in lines_of(plan)} | {each.name.lower() for each in plan.conditions}
    name = quantity_name(line.name or "copy", taken)
    if line.is_measured:
        sensor = msgspec.structs.replace(plan.sensors[line.at], quantity=name)
        return msgspec.structs.replace(
            plan, sensors=(*plan.sensors[: line.at + 1], sensor, *plan.sensors[line.at + 1 :])
        )
    text = f"{name} = {line.text.lstrip(f'{OFF} ').partition('=')[2].strip()}"
    return msgspec.structs.replace(plan, workings=(*plan.workings[: line.at + 1], text, *plan.workings[line.at + 1 :]))


def as_finding(plan: Plan, line: PlanLine, *, found: bool) -> Plan:
    """Makes a line a finding, or no longer one."""
    findings = tuple(each for each in plan.findings if each != line.name)
    return msgspec.structs.replace(plan, findings=(*findings, line.name) if found else findings)


def shown_first(plan: Plan, line: PlanLine) -> Plan:
    """Has a line shown on the tiles, before all others."""
    return msgspec.structs.replace(plan, show=(line.name, *(each for each in plan.shown if each != line.name)))


def renamed(plan: Plan, old: str, new: str) -> Plan:
    """A name replaced wherever it stands as a name: in lines, findings, what is shown, the axes of the class graph, the rule. A unit
    that is spelt alike stays a unit, and the class finding, which is made of the class line alone, stays as it is."""

    def listed(of: Sequence[str]) -> tuple[str, ...]:
        return tuple(new if each == old else each for each in of)

    sensors = tuple(
        msgspec.structs.replace(each, quantity=new, formula=renamed_in(each.formula, old, new))
        if each.quantity == old
        else each
        for each in plan.sensors
    )
    conditions = tuple(
        msgspec.structs.replace(each, name=new) if each.name == old else each for each in plan.conditions
    )
    graph, rule = plan.graph, plan.rule
    if graph is not None:
        drawn = {axis: renamed_in_expression(getattr(graph, axis), old, new) for axis in ("y", "x")}
        graph = msgspec.structs.replace(graph, **drawn)
    rule = msgspec.structs.replace(
        rule, begins=renamed_in_rule(rule.begins, old, new, ends=False), ends=renamed_in_rule(rule.ends, old, new, ends=True),
        used=renamed_in_spans(rule.used, old, new), points=new if rule.points == old else rule.points,
    )  # fmt: skip
    return msgspec.structs.replace(
        plan, sensors=sensors, workings=tuple(renamed_in(each, old, new) for each in plan.workings), findings=listed(plan.findings),
        show=listed(plan.show), conditions=conditions, graph=graph, rule=rule,
    )  # fmt: skip


# a level and a pause that can be dragged

NUMBER_AT = r"(?P<number>[−-]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?)(?:\s(?P<unit>[^\s,]+))?"
LEVEL = re.compile(r"\b(?:above|below|through)\s+" + NUMBER_AT)
PAUSE = re.compile(r",\s*(?P<number>\d+(?:[.,]\d+)?)\s(?P<unit>m?s)\s+apart")
LOOKED_AT = re.compile(r"\b(?:(?:peaks|dips)\s+in|(?:rises|falls|changes)\s+of|time\s+when)\s+([^\W\d]\w*)\b")


@dataclass(frozen=True)
class NumberIn:
    """A number in the text of a line: value in unit, from column start to end."""

    value: float
    unit: str
    start: int
    end: int


def level_in(text: str) -> NumberIn | None:
    """The level at which a line looks for events."""
    return _number_in(LEVEL, text)


def pause_in(text: str) -> NumberIn | None:
    """The time in which no other event counts."""
    return _number_in(PAUSE, text)


def _number_in(pattern: re.Pattern[str], text: str) -> NumberIn | None:
    found = pattern.search(text)
    if not found:
        return None
    return NumberIn(number(found["number"]), found["unit"] or "", found.start("number"), found.end("number"))


def looked_at(text: str) -> str:
    """The quantity in which a line looks for events; empty where it is none by a name."""
    found = LOOKED_AT.search(text)
    return found[1] if found else ""


def with_number(text: str, old: NumberIn, value: float, decimals: int) -> str:
    """The line with another number in the place of one."""
    shown = plain(value, decimals).replace("−", "-").replace("\u202f", "")
    return text[: old.start] + shown + text[old.end :]
