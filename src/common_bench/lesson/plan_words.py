"""A plan read aloud: what each kit sends, what is calibrated, what groups do, what the class finds. A plan in, words out."""

from __future__ import annotations

from common_bench.calibrate.curves import curve_name
from common_bench.lesson.plan_checking import checked
from common_bench.lesson.plan_details import against_line
from common_bench.model.measured import plain
from common_bench.model.plan import Condition, Plan, SensorPlan
from common_bench.workings.evaluate import Workings

Section = tuple[str, str]
"""(heading, words)"""


def sections(plan: Plan) -> list[Section]:
    """The plan in four short paragraphs, as they stand beside a card of the shelf."""
    return [
        ("Each kit sends", sends_words(plan)),
        ("To calibrate", calibrate_words(plan)),
        ("Each group", group_words(plan)),
        ("The class finds", class_words(plan)),
    ]


def _listed(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def sends_words(plan: Plan) -> str:
    """`a voltage, in a column called a0`"""
    if not plan.sensors:
        return "nothing that this plan uses yet"
    return _listed(
        [f"{article(each.quantity)} {each.quantity}, in a column called {each.channel}" for each in plan.sensors]
    )


def article(word: str) -> str:
    """`a` or `an`, by the letter."""
    return "an" if word[:1].lower() in "aeiou" else "a"


def calibrate_words(plan: Plan) -> str:
    """What has to be done before the numbers mean anything."""
    return "; ".join(_calibration(each) for each in plan.sensors) or "nothing"


def _calibration(sensor: SensorPlan) -> str:
    if sensor.curve == "as-it-comes":
        return f"{sensor.quantity}: nothing, it comes as it is{f' in {sensor.unit}' if sensor.unit else ''}"
    if sensor.curve == "formula":
        return f"{sensor.quantity}: by the data sheet, {sensor.formula} ± {sensor.u:g} {sensor.unit}".rstrip()
    points = [each.label for each in sensor.points if not each.check]
    tests = [each.label for each in sensor.points if each.check]
    held = f" at {_listed(points)}" if points else ""
    tested = f", tested at {_listed(tests)}" if tests else ""
    return f"{sensor.quantity}: a {curve_name(sensor.curve)}{held}{tested}"


def group_words(plan: Plan) -> str:
    """`sets a length, records 3 runs of 20 s`"""
    sets = [condition_words(each) for each in plan.conditions if not each.same_for_all]
    runs = f"records {plan.runs_per_group} run{'s' if plan.runs_per_group != 1 else ''}"
    by_hand = plan.rule.ends_with == "by hand"
    how_long = (
        f" of {plan.rule.seconds:g} s"
        if plan.rule.seconds and not plan.rule.ends
        else ", each ended by hand"
        if by_hand
        else ""
    )
    told = (f"sets {_listed(sets)}, " if sets else "") + runs + how_long
    shared = [condition_words(each) for each in plan.conditions if each.same_for_all]
    return told + (f"; the class sets {_listed(shared)}" if shared else "")


def condition_words(condition: Condition) -> str:
    """`a resistance in kΩ`, `a soil (sand, clay or peat)`"""
    if condition.kind == "choice":
        return f"{article(condition.name)} {condition.name} ({', '.join(condition.choices)})"
    moved = " for each run" if condition.per_run else ""
    visited = ", ".join(f"{each:g}" for each in condition.values)
    unit = f" in {condition.unit}" if condition.unit else ""
    return f"{article(condition.name)} {condition.name}{unit}{f' ({visited})' if visited else ''}{moved}"


def class_words(plan: Plan) -> str:
    """`capacitance = slope of tau against resistance, expected 470 ± 94 µF`"""
    graph = plan.graph
    if graph is None:
        return f"{_listed(list(plan.findings))}, as a table and a strip of values" if plan.findings else "nothing yet"
    drawn = f"{graph.y} against {graph.x}" if graph.x else f"{graph.y}, compared between the groups"
    found = f"{graph.finding}, from {drawn}" if graph.finding else drawn
    return found + (f"; expected {graph.accepted}" if graph.accepted else "")


def read_aloud(plan: Plan) -> list[str]:
    """The whole plan as lines of text."""
    lines = [plan.name, *([plan.about] if plan.about else []), ""]
    lines += [f"{heading}: {words}." for heading, words in sections(plan)]
    lines += ["", "Measured, worked out and found, in the order in which they follow:"]
    lines += [f"  {kind:<9}{name} = {how}" for kind, name, how in plan_lines(plan)]
    for sensor in plan.sensors:
        lines += [f"  {sensor.quantity} {words}" for words in sensor_notes(sensor)]
    if plan.conditions:
        lines += ["", "Conditions:"]
        lines += [f"  {condition_words(each)}{f': {each.about}' if each.about else ''}" for each in plan.conditions]
    lines += ["", f"A run: {rule_words(plan)}."]
    lines += [f"On the tiles, {stage}: “{words}”" for stage, words in plan.tiles.items()]
    if plan.remarks:
        lines.append(f"Remarks proposed for moments: {', '.join(plan.remarks)}.")
    return lines


def rule_words(plan: Plan) -> str:
    """`begins at once and ends after 20 s; 3 runs of each group`"""
    runs = f"{plan.runs_per_group} run{'s' if plan.runs_per_group != 1 else ''} of each group"
    begins, _, ends = plan.rule.words.partition(" · ")
    return f"{begins} and {ends}; {runs}"


def plan_lines(plan: Plan, workings: Workings | None = None) -> list[tuple[str, str, str]]:
    """(kind, name, how) of each line: measured, worked, events or finding; `off` for those switched off."""
    kinds = (workings or checked(plan)).kinds
    lines = [("measured", each.quantity, _measured(each)) for each in plan.sensors]
    for text in plan.workings:
        off = text.lstrip().startswith("#")
        name, _, how = text.lstrip("# ").partition("=")
        kind = kinds.get(name.strip())
        what = "off" if off else "worked"
        if not off and name.strip() in plan.findings:
            what = "finding"
        elif not off and kind is not None and kind.shape == "events":
            what = "events"
        lines.append((what, name.strip(), how.strip()))
    return lines


def _measured(sensor: SensorPlan) -> str:
    """`from a0 through a straight line, in V`"""
    unit = f", in {sensor.unit}" if sensor.unit else ""
    if sensor.curve == "as-it-comes":
        return f"from {sensor.channel} as it comes{unit}"
    if sensor.curve == "formula":
        return f"from {sensor.channel} by a formula{unit}"
    return f"from {sensor.channel} through {article(curve_name(sensor.curve))} {curve_name(sensor.curve)}{unit}"


def sensor_notes(sensor: SensorPlan) -> list[str]:
    """What the plan says of a measured quantity besides, one sentence each."""
    unit = f" {sensor.unit}" if sensor.unit else ""
    notes = []
    if sensor.also:
        notes.append(f"is also taken from {', '.join(sensor.also)}")
    if sensor.believed is not None:
        low, high = (f"{each:g}".replace("-", "−") for each in sensor.believed)
        notes.append(f"is believed from {low} to {high}{unit}; beyond it is a guess")
    for each in sensor.warn:
        side = f"above {each.above:g}{unit}" if each.above is not None else f"below {plain(each.below or 0.0, 3)}{unit}"
        notes.append(f"{side} turns a tile amber: “{each.words}”")
    if sensor.steps:
        notes.append(f"before the curve: {'; '.join(sensor.steps)}")
    if against_line(sensor):
        notes.append(f"its points share an error, held against {against_line(sensor)}")
    if sensor.old_after:
        notes.append(f"asks for a new calibration after {sensor.old_after} days")
    return notes
