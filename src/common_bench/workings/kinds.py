"""What a working gives: its shape and unit. Checked while it is typed, before any reading comes."""

from __future__ import annotations

import difflib
import math
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from common_bench.model.trouble import UnitTrouble, WorkingTrouble, as_another
from common_bench.model.units import (
    conversion,
    counts_from_own_zero,
    interval_of,
    is_logarithmic,
    power,
    product,
    same_kind,
    unit,
)
from common_bench.workings.reading import Node, Read

Shape = Literal["series", "events", "at events", "number"]
SHAPE_WORDS = {
    "series": "a quantity over time",
    "events": "events (times)",
    "at events": "one value for each event",
    "number": "a single number",
}
NO_UNIT = "a pure number"
CONSTANTS = {"pi": 3.141592653589793, "π": 3.141592653589793}
ANGLES = ("sin", "cos", "tan")


@dataclass(frozen=True)
class Kind:
    """`events` is the identity of the events (the place where they are found) that a value “at events” belongs to, or
    that events are themselves; `late`: known only once a span is chosen; `difference`: of two temperatures, which is no
    temperature."""

    shape: Shape
    unit: str = ""
    events: str = ""
    late: bool = False
    difference: bool = False

    @property
    def words(self) -> str:
        return SHAPE_WORDS[self.shape]


def kind_of(
    read: Read, names: Mapping[str, Kind], channels: Mapping[str, str], refused: Collection[str] = ()
) -> Kind:  # fmt: skip
    """names: what earlier workings give; channels: channel -> unit of the quantity that it is calibrated to; refused:
    earlier workings that cannot be used.

    Raises WorkingTrouble with the place, both kinds or units, and a correction where one is likely.
    """
    found = _Check(read.name, names, channels, refused).of(read.expression)
    if read.unit:
        _known_unit(read.unit, read.expression)
        try:
            fits = _fits(found.unit, read.unit)
        except UnitTrouble as fault:
            raise as_another(WorkingTrouble, fault).at(read.expression.start, read.expression.end) from None
        if not fits:
            raise _refused("cannot-be-shown-in-unit", read.expression, unit=found.unit or NO_UNIT, wanted=read.unit)  # fmt: skip
        if found.difference and counts_from_own_zero(read.unit):
            raise _refused("difference-as-temperature", read.expression, wanted=read.unit)
        found = replace(found, unit=read.unit)
    return found


def _refuse_logarithms(node: Node, *kinds: Kind) -> None:
    """Levels in dB are logarithms of ratios: what their sum or product means depends on what they are levels of."""
    for kind in kinds:
        if is_logarithmic(kind.unit):
            raise _refused("logarithm-in-sum", node, unit=kind.unit)


def _fits(source: str, target: str) -> bool:
    """Whether values in one unit can be turned into the other. Raises UnitTrouble where the factor is beyond all numbers."""
    if not same_kind(source, target):
        return False
    conversion(source, target)
    return True


def _refused(code: str, node: Node, **fields: Any) -> WorkingTrouble:
    return WorkingTrouble(code, **fields).at(node.start, node.end)


def _known_unit(text: str, node: Node, names: Mapping[str, Kind] | None = None) -> None:
    try:
        unit(text)
    except UnitTrouble as fault:
        if names and text in names:
            raise _refused("name-in-place-of-unit", node, text=text) from None
        raise as_another(WorkingTrouble, fault).at(node.start, node.end) from None


class _Check:
    def __init__(
        self, name: str, names: Mapping[str, Kind], channels: Mapping[str, str], refused: Collection[str] = ()
    ) -> None:  # fmt: skip
        """name: of the working, by which the events that it finds are told apart from those of others."""
        self.name = name
        self.names = names
        self.channels = channels
        self.refused = refused

    def of(self, node: Node) -> Kind:
        try:
            found: Kind = getattr(self, f"_{node.form}")(node)
        except UnitTrouble as fault:
            raise as_another(WorkingTrouble, fault).at(node.start, node.end) from None
        return found

    def _quantity(self, node: Node) -> Kind:
        if not (math.isfinite(node.value) and math.isfinite(node.u)):
            raise _refused("number-too-large", node, text=node.word)
        _known_unit(node.unit, node, self.names)
        return Kind("number", node.unit)

    def _name(self, node: Node) -> Kind:
        if node.word in self.names:
            return self.names[node.word]
        if node.word in CONSTANTS:
            return Kind("number")
        if node.word in self.refused:
            raise _refused("rests-on-refused", node, name=node.word)
        near = difflib.get_close_matches(node.word, [*self.names, *self.refused, *CONSTANTS], 1, 0.6)
        case = "near" if near else "channel" if node.word in self.channels else "none"
        raise _refused("nothing-called", node, name=node.word, near=near[0] if near else "", case=case)

    def _calibrated(self, node: Node) -> Kind:
        if node.word in self.channels:
            _known_unit(self.channels[node.word], node)
            return Kind("series", self.channels[node.word])
        near = difflib.get_close_matches(node.word, list(self.channels), 1, 0.5)
        known = ", ".join(f"“{name}”" for name in self.channels)
        case = "near" if near else "some" if known else "none"
        raise _refused("no-such-channel", node, name=node.word, near=near[0] if near else "", known=known, case=case)

    def _both(self, node: Node) -> tuple[Kind, Kind, Shape, str, bool]:
        left, right = (self.of(each) for each in node.operands)
        for kind, operand in zip((left, right), node.operands, strict=True):
            if kind.shape == "events":
                raise _refused("events-are-no-quantity", operand)
        shapes = {left.shape, right.shape} - {"number"}
        if len(shapes) > 1 or (
            shapes == {"at events"} and left.events != right.events and left.events and right.events
        ):
            raise _refused("times-do-not-match", node, words=left.words, other_words=right.words)
        shape: Shape = next(iter(shapes), "number")
        for kind, operand in zip((left, right), node.operands, strict=True):
            if kind.late and shape != "number":
                raise _refused("late-in-series", operand)
        return left, right, shape, left.events or right.events, left.late or right.late

    def _sum(self, node: Node) -> Kind:
        left, right, shape, events, late = self._both(node)
        word = "added to" if node.form == "add" else "taken from"
        if not _fits(left.unit, right.unit):
            raise _refused("sum-of-unlike-units", node, unit=right.unit or NO_UNIT, word=word, wanted=left.unit or NO_UNIT)  # fmt: skip
        _refuse_logarithms(node, left, right)
        own = counts_from_own_zero(left.unit), counts_from_own_zero(right.unit)
        if own == (True, True):
            if node.form == "add":
                raise _refused("sum-of-temperatures", node)
            return Kind(shape, "K", events, late, difference=True)
        if own == (False, True):
            if node.form == "subtract":
                raise _refused("temperature-from-kelvin", node, unit=right.unit)
            return Kind(shape, right.unit, events, late)
        return Kind(shape, left.unit, events, late, left.difference and right.difference)

    _add = _subtract = _sum

    def _scaled(self, node: Node) -> Kind:
        left, right, shape, events, late = self._both(node)
        for kind, operand in zip((left, right), node.operands, strict=True):
            _refuse_logarithms(operand, kind)
            if counts_from_own_zero(kind.unit):
                raise _refused("own-zero-in-product", operand, unit=kind.unit)
        unit = product(left.unit, right.unit, 1.0 if node.form == "multiply" else -1.0)
        scaled = (left.difference and not right.unit) or (
            right.difference and not left.unit and node.form == "multiply"
        )
        return Kind(shape, unit, events, late, scaled)

    _multiply = _divide = _scaled

    def _negate(self, node: Node) -> Kind:
        return self._value(node.operands[0])

    def _value(self, node: Node) -> Kind:
        kind = self.of(node)
        if kind.shape == "events":
            raise _refused("events-are-no-quantity", node)
        return kind

    def _power(self, node: Node) -> Kind:
        base, exponent = self._value(node.operands[0]), self._value(node.operands[1])
        by = constant(node.operands[1])
        if exponent.unit:
            raise _refused("exponent-with-unit", node.operands[1], unit=exponent.unit)
        if base.unit and by is None:
            raise _refused("exponent-not-constant", node.operands[1])
        if counts_from_own_zero(base.unit):
            raise _refused("own-zero-in-power", node.operands[0], unit=base.unit)
        if by is None:
            return Kind(base.shape, "", base.events, base.late)
        return Kind(base.shape, power(base.unit, by), base.events, base.late)

    def _function(self, node: Node) -> Kind:
        inner = self._value(node.operands[0])
        if node.word == "abs":
            return inner
        if node.word == "sqrt":
            if counts_from_own_zero(inner.unit):
                raise _refused("own-zero-in-power", node.operands[0], unit=inner.unit)
            return Kind(inner.shape, power(inner.unit, 0.5), inner.events, inner.late)
        wanted = "°" if node.word in ANGLES else ""
        if not _fits(inner.unit, wanted):
            kind = "an angle" if wanted else NO_UNIT
            raise _refused("function-takes-another-unit", node.operands[0], word=node.word, kind=kind, unit=inner.unit)
        return Kind(inner.shape, "", inner.events, inner.late)

    def _peaks(self, node: Node) -> Kind:
        series, level, apart = (self.of(each) for each in node.operands)
        if series.shape != "series":
            raise _refused("peaks-need-series", node.operands[0], words=series.words)
        if level.shape != "number" or level.late or not _fits(level.unit, series.unit):
            raise _refused("level-in-another-unit", node.operands[1], unit=level.unit or NO_UNIT, wanted=series.unit or NO_UNIT, wanted_unit=series.unit)  # fmt: skip
        if apart.shape != "number" or apart.late or not _fits(apart.unit, "s"):
            raise _refused("apart-needs-time", node.operands[2], unit=apart.unit or NO_UNIT)
        return Kind("events", "s", f"{self.name}:{node.start}")

    def _crossings(self, node: Node) -> Kind:
        series, *clauses = node.operands
        given = {each.form: each.operands[0] for each in clauses}
        inner = self.of(series)
        if inner.shape != "series":
            raise _refused("peaks-need-series", series, words=inner.words)
        if "through" not in given and node.word != "changes":
            raise _refused("crossing-without-level", node, word=node.word)
        if "at_least" in given and "through" not in given:
            raise _refused("crossing-without-level", node, word=node.word)
        self._clauses(given, inner)
        return Kind("events", "s", f"{self.name}:{node.start}")

    def _clauses(self, given: Mapping[str, Node], inner: Kind) -> None:
        """Level, dead time and depth of a crossing of a quantity."""
        wanted = {
            "through": inner.unit,
            "at_least": "K" if counts_from_own_zero(inner.unit) else inner.unit,
            "apart": "s",
        }
        for form, node in given.items():
            kind = self.of(node)
            if kind.shape == "number" and not kind.late and _fits(kind.unit, wanted[form]):
                continue
            if form == "apart":
                raise _refused("apart-needs-time", node, unit=kind.unit or NO_UNIT)
            raise _refused("level-in-another-unit", node, unit=kind.unit or NO_UNIT, wanted=wanted[form] or NO_UNIT, wanted_unit=wanted[form])  # fmt: skip

    def _time_when(self, node: Node) -> Kind:
        inner = self.of(node.operands[0])
        if inner.shape != "series":
            raise _refused("peaks-need-series", node.operands[0], words=inner.words)
        self._clauses({"through": node.operands[1].operands[0]}, inner)
        return Kind("number", "s", late=True)

    def _time_between(self, node: Node) -> Kind:
        inner = [self.of(each) for each in node.operands]
        for kind, operand in zip(inner, node.operands, strict=True):
            if kind.shape != "events":
                raise _refused("gap-needs-events", operand, words=kind.words)
        return Kind("at events", "s", f"time between {inner[0].events} and {inner[1].events}")

    def _gap_between(self, node: Node) -> Kind:
        inner = self.of(node.operands[0])
        if inner.shape != "events":
            raise _refused("gap-needs-events", node.operands[0], words=inner.words)
        return Kind("at events", "s", f"gap between {inner.events}")

    def _over(self, node: Node) -> Kind:
        inner = self.of(node.operands[0])
        if node.word == "count":
            if inner.shape != "events":
                raise _refused("count-needs-events", node.operands[0], words=inner.words)
            return Kind("number", "", late=True)
        if node.word == "pace":
            if inner.shape != "events":
                raise _refused("gap-needs-events", node.operands[0], words=inner.words)
            return Kind("number", "Hz", late=True)
        if inner.shape not in ("series", "at events"):
            raise _refused("span-form-needs-series", node.operands[0], word=node.word, words=inner.words)
        scatters = node.word == "scatter" and counts_from_own_zero(inner.unit)
        return Kind(
            "number", interval_of(inner.unit) if scatters else inner.unit, late=True, difference=inner.difference
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
