"""The plan: what an experiment measures, as values."""

from __future__ import annotations

from collections.abc import Sequence
from fnmatch import fnmatchcase
from typing import Literal

import msgspec

from common_bench.model.calibration import CurveChoice, PlannedPoint, curve_key
from common_bench.model.measured import Measured, read_measured
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble

PLAN_VERSION = 1  # of the form of plan files
OFF = "#"  # before a working that is switched off

ConditionKind = Literal["number", "choice", "words"]


class Condition(msgspec.Struct, frozen=True):
    """What a group sets or measures by hand for a run; `u` is proposed, a group may state its own.

    kind: a number with its unit, one of `choices`, or words; same_for_all: the class sets it once; per_run: it may change
    from run to run, and is asked for with each, when it begins or, at_end, when it ends; values: those that each group shall visit, in the unit.
    """

    name: str
    unit: str = ""
    u: float = 0.0
    about: str = ""
    kind: ConditionKind = "number"
    choices: tuple[str, ...] = ()
    same_for_all: bool = False
    per_run: bool = False
    values: tuple[float, ...] = ()
    at_end: bool = False


class Threshold(msgspec.Struct, frozen=True):
    """Above or below a value of the quantity, in its unit, a tile turns amber and says these words; sound: it is heard too."""

    words: str
    above: float | None = None
    below: float | None = None
    sound: bool = False

    def met(self, value: float) -> bool:
        """Whether a value is beyond it; never for an unknown one."""
        over = self.above is not None and value > self.above
        return over or (self.below is not None and value < self.below)


class SensorPlan(msgspec.Struct, frozen=True):
    """A channel, the quantity that it shall show, through which curve (its key, or its name in a file).

    also: other names under which kits send it, `*` for any letters, `(V)` for any column in that unit;
    curve `as-it-comes`: the number is the quantity already; `formula`: a data sheet's formula with its stated uncertainty
    u; the others need reference points. steps: workings from `reading` to what the curve takes;
    steady_drift (unit per s), steady_scatter (unit): limits, 0 where they are proposed from the
    channel itself; old_after: days after which a calibration is told as old, 0 for never; believed: the range in the
    quantity's unit outside which a value is a guess; warn: thresholds of the tiles; scale: ends of its graph's axis, free
    where there is none; digits: decimals that are shown, by the uncertainty where there are none; edges: the kit sends a
    line for each change of an on/off signal, with its time; against: what all its points are held against, as one
    thermometer or one set of masses, whose error they have in common: common_u in the unit, common_share of each value;
    raw_unit: of the channel's raw numbers, which workings may then call by the channel's name.
    """

    channel: str
    quantity: str
    unit: str = ""
    curve: str = "straight-line"
    points: tuple[PlannedPoint, ...] = ()
    steps: tuple[str, ...] = ()
    formula: str = ""
    u: float = 0.0
    steady_drift: float = 0.0
    steady_scatter: float = 0.0
    old_after: int = 0
    also: tuple[str, ...] = ()
    believed: tuple[float, float] | None = None
    warn: tuple[Threshold, ...] = ()
    scale: tuple[float, float] | None = None
    digits: int | None = None
    edges: bool = False
    against: str = ""
    common_u: float = 0.0
    common_share: float = 0.0
    raw_unit: str = ""

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "curve", curve_key(self.curve))

    def choice(self, raw_unit: str) -> CurveChoice:
        return CurveChoice(
            self.curve, self.steps, self.formula, self.u, raw_unit, self.against, self.common_u, self.common_share
        )

    @property
    def needs_points(self) -> bool:
        """Whether it must be held at known values before it says anything."""
        return self.curve not in STANDING

    def warning(self, value: float) -> str:
        """The words of the first threshold that a value is beyond; empty where there is none."""
        return next((each.words for each in self.warn if each.met(value)), "")

    def heard_in(self, columns: Sequence[tuple[str, str]]) -> str:
        """The column that is meant, out of (name, unit) of all that a kit sends; empty where none is."""
        for wanted in (self.channel, *self.also):
            in_unit = wanted[1:-1] if wanted.startswith("(") and wanted.endswith(")") else None
            for name, unit in columns:
                if (unit == in_unit) if in_unit is not None else fnmatchcase(name.lower(), wanted.lower()):
                    return name
        return ""


STANDING = ("as-it-comes", "formula")  # curves that need no points


class RulePlan(msgspec.Struct, frozen=True):
    """When a run begins and ends, as somebody would say it.

    begins: `at once` where empty, `after 5 s` (a countdown), `when force rises through 400 N`, `when let_go`, `when temp is
    steady`, `when the kit sends GO`, `when the kit begins to send`, `at 14:05`; before: s that are kept from before that;
    ends: `after 3 jump`, `after 500 readings`, `when force falls through 5 N`, `when temp is steady`, `by hand`, several with
    `or` between them; after `seconds` where empty, by hand where these are 0. points: the condition whose values are set
    one after the other, each taken once all stands still; a run then lasts until all are taken; used: how the part of a run
    is found that is used, as `from let_go to 10 s after`, all of it where empty.
    """

    seconds: float = 0.0
    begins: str = ""
    before: float = 0.0
    ends: str = ""
    points: str = ""
    used: str = ""

    @property
    def ends_with(self) -> str:
        """How it ends, in words."""
        return self.ends.strip() or (f"after {self.seconds:g} s" if self.seconds else "by hand")

    @property
    def words(self) -> str:
        if self.points:
            return f"point by point over {self.points}"
        begins = self.begins.strip() or "at once"
        before = f", {self.before:g} s from before" if self.before and self.begins.strip() else ""
        return f"begins {begins}{before} · ends {self.ends_with}"


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
    """What the class finds: y against x as workings over findings and conditions, or y alone compared between the
    groups where x is empty. finding: the class finding as a working over `slope` and `intercept` of the class line, or over
    `class_mean` and `class_scatter` where there is no line; accepted: the value to compare it with, where there is one;
    line: `straight`, `through-zero`, `parabola` (whose third coefficient a finding knows as `bend`), `power` (`factor` times x to
    the `exponent`), `exponential` (`factor` times e to the `rate` times x) or `none`; point: one a `group` or one a `run`.
    """

    y: str
    x: str = ""
    finding: str = ""
    accepted: str = ""
    line: Literal["straight", "through-zero", "parabola", "power", "exponential", "none"] = "straight"
    point: Literal["group", "run"] = "group"

    @property
    def has_line(self) -> bool:
        return bool(self.x) and self.line != "none"


class Plan(msgspec.Struct, frozen=True):
    """What an experiment measures; a plan file (TOML) has these entries by these names.

    name, about: what it is, for people; gives: what comes of it in a few words; sensors: what is measured, each a quantity
    that workings may use by its name; workings: lines of the formula language, in order, those that begin with # switched
    off; findings: names of workings that give single numbers of a run; conditions: what a group sets by hand;
    runs_per_group: how many are wanted; rule: when a run begins and ends; show: names of workings that are shown live,
    the most important first; ask, commands: for kits that are asked or told something; formats: stream formats that go
    before what is worked out; graph: what the class finds, None where it finds nothing together; tiles: a few words for
    the benches by stage; remarks: proposed for moments; sketch: what is seen, for its card, as
    heights between 0 and 1 at even distances; version: of this form of file.
    """

    name: str
    about: str = ""
    gives: str = ""
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
    tiles: dict[str, str] = {}
    remarks: tuple[str, ...] = ()
    sketch: tuple[float, ...] = ()
    version: int = PLAN_VERSION

    @property
    def shown(self) -> tuple[str, ...]:
        """What is shown live, the most important first: what is measured where the plan does not say."""
        return self.show or tuple(each.quantity for each in self.sensors)

    @property
    def channels(self) -> dict[str, str]:
        """Channel -> unit of the quantity that it is calibrated to; a condition that is set point by point counts as one."""
        found = {sensor.channel: sensor.unit for sensor in self.sensors}
        return found if self.visited is None else {**found, self.visited.name: self.visited.unit}

    @property
    def stated(self) -> tuple[Condition, ...]:
        """Conditions that a group states of a run, which are all but the one that is set point by point."""
        return tuple(each for each in self.conditions if self.rule.points != each.name)

    @property
    def visited(self) -> Condition | None:
        """The condition that a run sets point by point; None where it does not."""
        return (
            next((each for each in self.conditions if each.name == self.rule.points), None)
            if self.rule.points
            else None
        )

    @property
    def raw(self) -> dict[str, str]:
        """Channel -> unit of its raw numbers, of those that workings may call by their own name."""
        return {sensor.channel: sensor.raw_unit for sensor in self.sensors if sensor.raw_unit}

    @property
    def in_use(self) -> tuple[str, ...]:
        """The workings as they are worked out: each measured quantity by its name, then those that are not switched
        off."""
        written = tuple(line for line in self.workings if not line.lstrip().startswith(OFF))
        named = {line.partition("=")[0].strip().lower() for line in written}
        measured = []
        for each in self.sensors:
            if each.quantity.isidentifier() and each.quantity.lower() not in named:
                named.add(each.quantity.lower())
                measured.append(measured_line(each))
        if self.visited is not None and self.visited.name.lower() not in named:
            measured.append(f"{self.visited.name} = calibrated {self.visited.name}")
        return (*measured, *written)

    def condition(self, name: str) -> Condition:
        for found in self.conditions:
            if found.name == name:
                return found
        raise PlanTrouble("no-such-condition", name=name)

    def accepted(self) -> Measured | None:
        """The accepted value of the class result, in the unit in which it was typed. Raises UnitTrouble where it cannot be
        read."""
        if self.graph is None or not self.graph.accepted:
            return None
        return read_measured(self.graph.accepted)


def measured_line(sensor: SensorPlan) -> str:
    """A measured quantity as a line of the formula language."""
    channel = sensor.channel
    if not channel.isidentifier() or channel.startswith("_"):
        channel = f"“{channel}”" if '"' in channel else f'"{channel}"'
    return f"{sensor.quantity} = calibrated {channel}"
