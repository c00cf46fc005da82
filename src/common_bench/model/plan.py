"""The plan: what an experiment measures. Read from and written to a text file (TOML)."""

from __future__ import annotations

import tomllib
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec

from common_bench.model.calibration import CurveChoice, PlannedPoint, curve_key
from common_bench.model.measured import Measured, read_measured
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, Trouble


class Condition(msgspec.Struct, frozen=True):
    """What a group sets or measures by hand for a run; `u` is proposed, a group may state its own."""

    name: str
    unit: str
    u: float = 0.0
    about: str = ""


class SensorPlan(msgspec.Struct, frozen=True):
    """A channel to be calibrated, the quantity it shall show, the curve (its key, or its name in a file) and the points.

    steps: workings from `reading` to what the curve takes; formula, u: for the curve “formula”;
    steady_drift (unit per s), steady_scatter (unit): limits, 0 where they are proposed from the
    channel itself; old_after: days after which a calibration is told as old, 0 for never.
    """

    channel: str
    quantity: str
    unit: str
    curve: str = "straight-line"
    points: tuple[PlannedPoint, ...] = ()
    steps: tuple[str, ...] = ()
    formula: str = ""
    u: float = 0.0
    steady_drift: float = 0.0
    steady_scatter: float = 0.0
    old_after: int = 0

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "curve", curve_key(self.curve))

    def choice(self, raw_unit: str) -> CurveChoice:
        return CurveChoice(self.curve, self.steps, self.formula, self.u, raw_unit)


class RulePlan(msgspec.Struct, frozen=True):
    """When a run begins and ends. `seconds` 0 means by hand."""

    seconds: float = 0.0

    @property
    def words(self) -> str:
        return f"begin at once · end after {self.seconds:g} s" if self.seconds else "begin at once · end by hand"


class AskPlan(msgspec.Struct, frozen=True):
    """A kit that is asked for each reading: the text that asks (`\\n` for a line's end), every so many s,
    and how many s an answer may take before there is a gap."""

    text: str
    every: float = 1.0
    within: float = 0.5

    @property
    def data(self) -> bytes:
        return as_bytes(self.text)


class CommandPlan(msgspec.Struct, frozen=True):
    """Something a kit can be told, as `lamp on`: what is sent, and the key that sends it."""

    name: str
    send: str
    key: str = ""

    @property
    def data(self) -> bytes:
        return as_bytes(self.send)


def as_bytes(text: str) -> bytes:
    """What somebody has typed, with \\n, \\r and \\t as the characters that they stand for."""
    for typed, meant in (("\\r", "\r"), ("\\n", "\n"), ("\\t", "\t")):
        text = text.replace(typed, meant)
    return text.encode()


class ClassGraph(msgspec.Struct, frozen=True):
    """The pool's graph: y against x as workings over findings and conditions, the class finding as a
    working over `slope` and `intercept`, and the accepted value where there is one."""

    y: str
    x: str
    finding: str = ""
    accepted: str = ""


class Plan(msgspec.Struct, frozen=True):
    """What an experiment measures; a plan file (TOML) has these entries by these names.

    name, about: what it is, for people; sensors: channels to calibrate; workings: lines of the formula language, in
    order; findings: names of workings that give single numbers of a run; conditions: what a group sets by hand;
    runs_per_group: how many are wanted; rule: when a run begins and ends; show: names of workings that are shown live,
    the most important first; ask, commands: for kits that are asked or told something; formats: stream formats that go
    before what is worked out; graph: what the class finds, None where it finds nothing together.
    """

    name: str
    about: str = ""
    sensors: tuple[SensorPlan, ...] = ()
    workings: tuple[str, ...] = ()
    findings: tuple[str, ...] = ()
    conditions: tuple[Condition, ...] = ()
    runs_per_group: int = 3
    rule: RulePlan = RulePlan()
    show: tuple[str, ...] = ()
    ask: AskPlan | None = None
    commands: tuple[CommandPlan, ...] = ()
    formats: tuple[StreamFormat, ...] = ()
    graph: ClassGraph | None = None

    def condition(self, name: str) -> Condition:
        for found in self.conditions:
            if found.name == name:
                return found
        raise PlanTrouble("no-such-condition", name=name)

    def accepted(self) -> Measured | None:
        if self.graph is None or not self.graph.accepted:
            return None
        return read_measured(self.graph.accepted, self.graph.accepted.split()[-1])


def plan_from_text(text: str, where: str) -> Plan:
    """Reads a plan file's text. Raises PlanTrouble with the place."""
    try:
        return msgspec.convert(tomllib.loads(text), Plan)
    except tomllib.TOMLDecodeError as fault:
        raise PlanTrouble("not-a-plan-file", where=where, fault=fault) from fault
    except (msgspec.ValidationError, Trouble) as fault:
        raise PlanTrouble("plan-unusable", where=where, fault=fault) from fault


def plan_to_text(plan: Plan) -> str:
    """The plan as the text of a plan file; reading it again gives an equal plan."""
    import tomli_w

    text: str = tomli_w.dumps(_filled(msgspec.to_builtins(plan)), multiline_strings=True)
    return text


def _filled(value: Any) -> Any:
    """Without what is not there, which a plan file cannot write."""
    if isinstance(value, dict):
        return {key: _filled(each) for key, each in value.items() if each is not None}
    return [_filled(each) for each in value] if isinstance(value, (list, tuple)) else value


def plan_from_file(path: Path) -> Plan:
    """Reads a plan file. Raises PlanTrouble with the place."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as fault:
        raise PlanTrouble("plan-file-unreadable", where=str(path)) from fault
    return plan_from_text(text, str(path))


def shipped_plan(name: str) -> Plan:
    """A plan that comes with the program, as `swinging-bottles`."""
    found = files("common_bench.model").joinpath(f"{name}.toml")
    return plan_from_text(found.read_text("utf-8"), name)
