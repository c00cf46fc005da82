"""What a working gives: its shape and unit. Checked while it is typed, before any reading comes."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from common_bench.model.trouble import UnitTrouble, WorkingTrouble
from common_bench.model.units import counts_from_own_zero, power, product, same_kind, unit
from common_bench.workings.reading import Node, Read

Shape = Literal["series", "events", "at events", "number"]
SHAPE_WORDS = {
    "series": "a quantity over time",
    "events": "events (times)",
    "at events": "a quantity at events",
    "number": "a single number",
}
NO_UNIT = "a pure number"
CONSTANTS = {"pi": 3.141592653589793, "π": 3.141592653589793}
ANGLES = ("sin", "cos", "tan")


@dataclass(frozen=True)
class Kind:
    """`events` names the events that an "at events" value belongs to; `late`: known only once a span is chosen."""

    shape: Shape
    unit: str = ""
    events: str = ""
    late: bool = False

    @property
    def words(self) -> str:
        return SHAPE_WORDS[self.shape]


def kind_of(read: Read, names: Mapping[str, Kind], channels: Mapping[str, str]) -> Kind:
    """names: what earlier workings give; channels: channel -> unit of the quantity that it is calibrated to.

    Raises WorkingTrouble with the place, both kinds or units, and a correction where one is likely.
    """
    found = _Check(names, channels).of(read.expression)
    if read.unit:
        _known_unit(read.unit, read.expression)
        if not same_kind(found.unit, read.unit):
            raise _refused(
                f"this gives {found.unit or NO_UNIT}, which cannot be shown as {read.unit}.", read.expression,
                "Check the formula, or leave the unit away.",
            )  # fmt: skip
        found = Kind(found.shape, read.unit, found.events, found.late)
    return found


def _refused(what: str, node: Node, do: str = "") -> WorkingTrouble:
    return WorkingTrouble(what, do=do, start=node.start, end=node.end)


def _known_unit(text: str, node: Node, names: Mapping[str, Kind] | None = None) -> None:
    try:
        unit(text)
    except UnitTrouble as fault:
        if names and text in names:
            raise _refused(f"“{text}” stands where a unit would.", node, f"Did you mean … * {text}?") from None
        raise _refused(fault.what, node, fault.do) from None


class _Check:
    def __init__(self, names: Mapping[str, Kind], channels: Mapping[str, str]) -> None:
        self.names = names
        self.channels = channels

    def of(self, node: Node) -> Kind:
        found: Kind = getattr(self, f"_{node.form}")(node)
        return found

    def _quantity(self, node: Node) -> Kind:
        _known_unit(node.unit, node, self.names)
        return Kind("number", node.unit)

    def _name(self, node: Node) -> Kind:
        if node.word in self.names:
            return self.names[node.word]
        if node.word in CONSTANTS:
            return Kind("number")
        near = difflib.get_close_matches(node.word, [*self.names, *CONSTANTS], 1, 0.6)
        if near:
            do = f"Did you mean “{near[0]}”?"
        elif node.word in self.channels:
            do = f"Did you mean “calibrated {node.word}”?"
        else:
            do = "Name it in a working above this one."
        raise _refused(f"nothing is called “{node.word}” here.", node, do)

    def _calibrated(self, node: Node) -> Kind:
        if node.word in self.channels:
            return Kind("series", self.channels[node.word])
        near = difflib.get_close_matches(node.word, list(self.channels), 1, 0.5)
        known = ", ".join(f"“{name}”" for name in self.channels)
        do = f"Did you mean “{near[0]}”?" if near else f"The plan calibrates {known}." if known else ""
        raise _refused(f"the plan calibrates no channel “{node.word}”.", node, do)

    def _both(self, node: Node) -> tuple[Kind, Kind, Shape, str, bool]:
        left, right = (self.of(each) for each in node.operands)
        for kind, operand in zip((left, right), node.operands, strict=True):
            if kind.shape == "events":
                raise _refused("events are times, not a quantity.", operand, "Use “gap between …” of them.")
        shapes = {left.shape, right.shape} - {"number"}
        if len(shapes) > 1 or (
            shapes == {"at events"} and left.events != right.events and left.events and right.events
        ):
            raise _refused(
                f"{left.words} and {right.words} do not go together here.", node, "They belong to different times."
            )
        shape: Shape = next(iter(shapes), "number")
        return left, right, shape, left.events or right.events, left.late or right.late

    def _sum(self, node: Node) -> Kind:
        left, right, shape, events, late = self._both(node)
        word = "added to" if node.form == "add" else "taken from"
        if not same_kind(left.unit, right.unit):
            raise _refused(
                f"{right.unit or NO_UNIT} cannot be {word} {left.unit or NO_UNIT}.", node,
                "Both must measure the same kind of thing.",
            )  # fmt: skip
        if node.form == "subtract" and counts_from_own_zero(left.unit) and counts_from_own_zero(right.unit):
            return Kind(shape, "K", events, late)
        if node.form == "add" and counts_from_own_zero(left.unit) and counts_from_own_zero(right.unit):
            raise _refused("two temperatures in °C cannot be added.", node, "Take their difference, or use K.")
        return Kind(shape, left.unit, events, late)

    _add = _subtract = _sum

    def _scaled(self, node: Node) -> Kind:
        left, right, shape, events, late = self._both(node)
        for kind, operand in zip((left, right), node.operands, strict=True):
            if counts_from_own_zero(kind.unit) and not (left.unit == "" or right.unit == ""):
                raise _refused(f"{kind.unit} counts from a zero of its own.", operand, "Use K in a product or ratio.")
        return Kind(shape, product(left.unit, right.unit, 1.0 if node.form == "multiply" else -1.0), events, late)

    _multiply = _divide = _scaled

    def _negate(self, node: Node) -> Kind:
        return self._value(node.operands[0])

    def _value(self, node: Node) -> Kind:
        kind = self.of(node)
        if kind.shape == "events":
            raise _refused("events are times, not a quantity.", node, "Use “gap between …” of them.")
        return kind

    def _power(self, node: Node) -> Kind:
        base, exponent = self._value(node.operands[0]), self._value(node.operands[1])
        by = constant(node.operands[1])
        if exponent.unit:
            raise _refused(f"an exponent is a pure number, not {exponent.unit}.", node.operands[1])
        if base.unit and by is None:
            raise _refused("a quantity with a unit needs a plain number as its exponent.", node.operands[1])
        if counts_from_own_zero(base.unit):
            raise _refused(f"{base.unit} counts from a zero of its own.", node.operands[0], "Use K.")
        if by is None:
            return Kind(base.shape, "", base.events, base.late)
        return Kind(base.shape, power(base.unit, by), base.events, base.late)

    def _function(self, node: Node) -> Kind:
        inner = self._value(node.operands[0])
        if node.word == "abs":
            return inner
        if node.word == "sqrt":
            return Kind(inner.shape, power(inner.unit, 0.5), inner.events, inner.late)
        wanted = "°" if node.word in ANGLES else ""
        if not same_kind(inner.unit, wanted):
            kind = "an angle" if wanted else NO_UNIT
            raise _refused(
                f"{node.word} takes {kind}, not {inner.unit}.", node.operands[0], "Divide by a quantity of its kind."
            )
        return Kind(inner.shape, "", inner.events, inner.late)

    def _peaks(self, node: Node) -> Kind:
        series, level, apart = (self.of(each) for each in node.operands)
        if series.shape != "series":
            raise _refused(f"peaks are looked for in a quantity over time; this is {series.words}.", node.operands[0])
        if level.shape != "number" or level.late or not same_kind(level.unit, series.unit):
            raise _refused(
                f"the level is in {level.unit or NO_UNIT}, the quantity in {series.unit or NO_UNIT}.", node.operands[1],
                f"Write the level as in 2.2 {series.unit}.",
            )  # fmt: skip
        if apart.shape != "number" or apart.late or not same_kind(apart.unit, "s"):
            raise _refused(
                f"“apart” takes a time, not {apart.unit or NO_UNIT}.", node.operands[2], "Write it as in 0.4 s."
            )
        return Kind("events", "s")

    def _gap_between(self, node: Node) -> Kind:
        inner = self.of(node.operands[0])
        if inner.shape != "events":
            raise _refused(
                f"a gap lies between events; this is {inner.words}.",
                node.operands[0],
                "Name events, as made by “peaks in …”.",
            )
        return Kind("at events", "s", f"gap between {node.operands[0].word}")

    def _over(self, node: Node) -> Kind:
        inner = self.of(node.operands[0])
        if node.word == "count":
            if inner.shape != "events":
                raise _refused(f"“count of” takes events; this is {inner.words}.", node.operands[0])
            return Kind("number", "", late=True)
        if inner.shape not in ("series", "at events"):
            raise _refused(f"“{node.word} of” takes a quantity over time; this is {inner.words}.", node.operands[0])
        return Kind(
            "number", "K" if node.word == "scatter" and counts_from_own_zero(inner.unit) else inner.unit, late=True
        )


def constant(node: Node) -> float | None:
    """The value of an expression of plain numbers, None where it is not one."""
    if node.form == "quantity" and not node.unit and not node.u:
        return node.value
    if node.form == "negate":
        inner = constant(node.operands[0])
        return None if inner is None else -inner
    if node.form == "divide":
        over, under = constant(node.operands[0]), constant(node.operands[1])
        return over / under if over is not None and under else None
    return None
