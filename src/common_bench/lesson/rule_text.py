"""The rule of a plan as it is typed, part by part, and what is proposed for each."""

from __future__ import annotations

import re
from typing import NamedTuple

import msgspec

from common_bench.lesson.plan_checking import MOST_RUNS, checked
from common_bench.model.measured import number
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.trouble import PlanTrouble
from common_bench.record.rules import rule_of
from common_bench.workup.span_rule import WHOLE, check_span

BY_POINTS = "point by point over"


class RuleText(NamedTuple):
    """begins: `at once`, `when force rises through 400 N`; before: s; ends: `after 20 s`; runs: of each group; used:
    `from let_go to 10 s after`."""

    begins: str
    before: str
    ends: str
    runs: str
    used: str = "all"


def rule_text(plan: Plan) -> RuleText:
    """The rule as it stands."""
    rule = plan.rule
    begins = f"{BY_POINTS} {rule.points}" if rule.points else rule.begins or "at once"
    ends = "with the last point" if rule.points else rule.ends_with
    return RuleText(begins, f"{rule.before:g}", ends, f"{plan.runs_per_group}", rule.used or "all")


def with_rule(plan: Plan, typed: RuleText) -> Plan:
    """The plan with a rule as it was typed; a bare number of seconds is understood. Raises PlanTrouble."""
    points = re.fullmatch(rf"{BY_POINTS}\s+(.+)", " ".join(typed.begins.split()), re.IGNORECASE)
    begins = (
        "" if points or typed.begins.strip().lower() in ("", "at once", "by hand") else " ".join(typed.begins.split())
    )
    ends, seconds = " ".join(typed.ends.split()), 0.0
    try:
        if points or ends.lower() == "with the last point":
            ends = "by hand"
        seconds, ends = number(ends.removeprefix("after ").removesuffix(" s")), ""
    except ValueError:
        ends = "" if ends.lower() in ("", "by hand", "never") else ends
    try:
        before, runs = number(typed.before or "0"), int(typed.runs)
    except ValueError:
        raise PlanTrouble("rule-numbers", most=MOST_RUNS) from None
    if seconds < 0 or not 1 <= runs <= MOST_RUNS:
        raise PlanTrouble("rule-numbers", most=MOST_RUNS)
    rule = RulePlan(points=_condition(plan, points[1])) if points else RulePlan(seconds, begins, before, ends)
    used = "" if typed.used.strip().lower() in WHOLE else " ".join(typed.used.split())
    check_span(used, [name for name, kind in checked(plan).kinds.items() if kind.shape in ("events", "at events")])
    changed = msgspec.structs.replace(plan, rule=msgspec.structs.replace(rule, used=used), runs_per_group=runs)
    rule_of(changed, checked(changed).kinds)
    return changed


def _condition(plan: Plan, name: str) -> str:
    """Raises PlanTrouble where the plan has no such condition, or it has no values to go through."""
    if len(set(plan.condition(name).values)) < 2:
        raise PlanTrouble("points-without-values", name=name)
    return name


def begin_offers(plan: Plan) -> list[str]:
    """Beginnings that fit the plan."""
    kinds = checked(plan).kinds
    levels = [f"when {each.quantity} rises through 1 {each.unit}".rstrip() for each in plan.sensors]
    events = [f"when {name}" for name, kind in kinds.items() if kind.shape == "events"]
    steady = [f"when {each.quantity} is steady" for each in plan.sensors]
    return [
        "at once",
        *(f"{BY_POINTS} {each.name}" for each in plan.conditions if each.values),
        "after 5 s",
        *levels,
        *events,
        *steady,
        "when the kit begins to send",
        "when the kit sends GO",
        "at 14:05",
    ]


def used_offers(plan: Plan) -> list[str]:
    """Ways to find the part that is used."""
    events = [name for name, kind in checked(plan).kinds.items() if kind.shape == "events"]
    return [
        "all",
        *(f"from {name} to 10 s after" for name in events),
        *(f"from the first {name} to the last {name}" for name in events),
        "from 2 s to the end",
        "all; early: from 0 s to 5 s",
        *(f"all; {name}_gap: each {name}" for name in events[:1]),
    ]


def end_offers(plan: Plan) -> list[str]:
    """Ends that fit the plan."""
    kinds = checked(plan).kinds
    events = [f"after 10 {name}" for name, kind in kinds.items() if kind.shape == "events"]
    levels = [f"when {each.quantity} falls through 1 {each.unit}".rstrip() for each in plan.sensors]
    steady = [f"when {each.quantity} is steady" for each in plan.sensors]
    return ["after 20 s", "after 5 min", "by hand", "after 500 readings", *events, *levels, *steady, "never"]
