"""What a working gives: its shape, unit and lateness. Checked while it is typed, before any reading comes."""

from __future__ import annotations

import difflib
import math
from collections.abc import Collection, Mapping
from dataclasses import replace

from common_bench.model.trouble import UnitTrouble, WorkingTrouble, as_another
from common_bench.model.units import (
    conversion,
    counts_from_own_zero,
    interval_of,
    power,
    product,
    unit,
)
from common_bench.workings.fit_kinds import kind_of_fit, kind_of_parameter
from common_bench.workings.fit_units import constant
from common_bench.workings.forms import Form
from common_bench.workings.reading import Node, Read
from common_bench.workings.shapes import (
    LONGEST_WINDOW,
    NO_UNIT,
    SHAPE_WORDS,
    TIME,
    AskedForm,
    Kind,
    fitting,
    refusal,
    refuse_logarithms,
)

CONSTANTS = {"pi": 3.141592653589793, "π": 3.141592653589793}
ANGLES = ("sin", "cos", "tan")
TO_ANGLES = ("asin", "acos", "atan")
MOST_IN_WINDOW = 999  # readings


def kind_of(
    read: Read,
    names: Mapping[str, Kind],
    channels: Mapping[str, str],
    refused: Collection[str] = (),
    raw: Mapping[str, str] | None = None,
) -> Kind:
    """names: what earlier workings give; channels: channel -> unit of the quantity that it is calibrated to; refused:
    earlier workings that cannot be used; raw: channel -> unit of its raw numbers, which its name stands for.

    Raises WorkingTrouble with the place, both kinds or units, and a correction where one is likely.
    """
    found = KindCheck(read.name, names, channels, refused, raw or {}).of(read.expression)
    if read.during and not (found.shape == "number" or (found.shape == "fit" and found.late)):
        raise refusal("during-needs-a-number", read.expression, name=read.during)
    if read.unit and found.shape == "fit":
        raise refusal("fit-is-no-quantity", read.expression)
    if read.unit:
        known_unit(read.unit, read.expression)
        try:
            fits = fitting(found.unit, read.unit)
        except UnitTrouble as fault:
            raise as_another(WorkingTrouble, fault).at(read.expression.start, read.expression.end) from None
        if not fits or found.condition:
            raise refusal("cannot-be-shown-in-unit", read.expression, unit=found.unit or NO_UNIT, wanted=read.unit)
        if found.difference and counts_from_own_zero(read.unit):
            raise refusal("difference-as-temperature", read.expression, wanted=read.unit)
        value = found.value
        if value is not None:
            factor, offset = conversion(found.unit, read.unit)
            value = value * factor + offset
        found = replace(found, unit=read.unit, value=value)
    return found


def known_unit(text: str, node: Node, names: Mapping[str, Kind] | None = None) -> None:
    """Raises WorkingTrouble where `text` is no unit."""
    try:
        unit(text)
    except UnitTrouble as fault:
        if names and text in names:
            raise refusal("name-in-place-of-unit", node, text=text) from None
        raise as_another(WorkingTrouble, fault).at(node.start, node.end) from None


def kind_in(
    node: Node, name: str, names: Mapping[str, Kind], channels: Mapping[str, str], raw: Mapping[str, str]
) -> Kind:
    """What a part of the checked working called `name` gives."""
    return KindCheck(name, names, channels, (), raw).of(node)


class KindCheck:
    """Walks one working; gives each part's kind or refuses it with its place."""

    def __init__(
        self,
        name: str,
        names: Mapping[str, Kind],
        channels: Mapping[str, str],
        refused: Collection[str],
        raw: Mapping[str, str],
    ) -> None:
        """name: of the working, by which the events that it finds are told apart from those of others."""
        self.name, self.names, self.channels, self.refused, self.raw = name, names, channels, refused, raw

    def of(self, node: Node) -> Kind:
        try:
            if node.table is not None:
                return self._form(node, node.table)
            found: Kind = getattr(self, f"_{node.form}")(node)
        except UnitTrouble as fault:
            raise as_another(WorkingTrouble, fault).at(node.start, node.end) from None
        return found

    def _quantity(self, node: Node) -> Kind:
        if not (math.isfinite(node.value) and math.isfinite(node.u)):
            raise refusal("number-too-large", node, text=node.word)
        known_unit(node.unit, node, self.names)
        return Kind("number", node.unit, value=node.value)

    def _name(self, node: Node) -> Kind:
        if node.word in self.names:
            return self.names[node.word]
        if node.word in CONSTANTS:
            return Kind("number", value=CONSTANTS[node.word])
        if node.word in self.refused:
            raise refusal("rests-on-refused", node, name=node.word)
        if node.word in self.raw:
            known_unit(self.raw[node.word], node)
            return Kind("series", self.raw[node.word])
        if node.word == TIME:
            return Kind("series", "s")
        near = difflib.get_close_matches(node.word, [*self.names, *self.refused, *CONSTANTS, *self.raw], 1, 0.6)
        case = "near" if near else "channel" if node.word in self.channels else "none"
        raise refusal("nothing-called", node, name=node.word, near=near[0] if near else "", case=case)

    def _calibrated(self, node: Node) -> Kind:
        if node.word in self.channels:
            known_unit(self.channels[node.word], node)
            return Kind("series", self.channels[node.word])
        near = difflib.get_close_matches(node.word, list(self.channels), 1, 0.5)
        known = ", ".join(f"“{name}”" for name in self.channels)
        case = "near" if near else "some" if known else "none"
        raise refusal("no-such-channel", node, name=node.word, near=near[0] if near else "", known=known, case=case)

    def _fitted(self, node: Node) -> Kind:
        return kind_of_fit(node, self)

    def _parameter(self, node: Node) -> Kind:
        return kind_of_parameter(node, self)

    def known(self, name: str) -> bool:
        """Whether a name is something already, and no parameter of a fit."""
        return name in self.names or name in CONSTANTS or name in self.raw or name == TIME

    def with_numbers(self, units: Mapping[str, str]) -> KindCheck:
        """The same with more names of single numbers."""
        more = {name: Kind("number", each) for name, each in units.items()}
        return KindCheck(self.name, {**self.names, **more}, self.channels, self.refused, self.raw)

    # forms of the table

    def _form(self, node: Node, form: Form) -> Kind:
        operands = {slot: self.of(each) for slot, each in zip(node.slots, node.operands, strict=True)}
        nodes = dict(zip(node.slots, node.operands, strict=True))
        first = operands[node.slots[0]]
        if form.over is None or form.step is not None or len(operands) > 1:
            for slot, kind in operands.items():
                _refuse_residual(nodes[slot], kind)
        for slot, kind in operands.items():
            _fit(form, form.takes[slot], kind, first, nodes[slot])
        shape = self._shape(node, list(operands.values())) if form.each else None
        kind = form.gives(AskedForm(form, node, operands, f"{self.name}:{node.start}"))
        assert isinstance(kind, Kind)
        delay = max(each.delay for each in operands.values())
        readings = max(each.readings for each in operands.values())
        if shape is not None:
            return replace(shape, unit=kind.unit, difference=kind.difference)
        if kind.shape == "number":
            return kind
        return replace(kind, delay=kind.delay + delay, readings=kind.readings + readings)

    # value by value

    def _together(self, node: Node) -> tuple[list[Kind], Kind]:
        """The kinds of operands that are worked out value by value, and a kind with the shape that comes out."""
        kinds = [self.of(each) for each in node.operands]
        return kinds, self._shape(node, kinds)

    def _shape(self, node: Node, kinds: list[Kind]) -> Kind:
        """A kind with the shape that comes of a node's operands, whose kinds are known, value by value."""
        operands = node.operands
        for kind, operand in zip(kinds, operands, strict=True):
            if kind.shape in ("events", "fit"):
                raise refusal("events-are-no-quantity" if kind.shape == "events" else "fit-is-no-quantity", operand)
            _refuse_residual(operand, kind)
        timed = [kind for kind in kinds if kind.shape != "number"]
        first = timed[0] if timed else kinds[0]
        for other in timed[1:]:
            if other.shape != first.shape or (other.shape == "at events" and other.events != first.events):
                raise refusal("times-do-not-match", node, words=first.words, other_words=other.words)
        for kind, operand in zip(kinds, operands, strict=True):
            if kind.late and timed:
                raise refusal("late-in-series", operand)
        late = any(kind.late for kind in kinds)
        delay, readings = max(each.delay for each in kinds), max(each.readings for each in kinds)
        return Kind(first.shape, "", first.events, late, delay=delay, readings=readings)

    def _both(self, node: Node) -> tuple[Kind, Kind, Kind]:
        (left, right), shape = self._together(node)
        for kind, operand in zip((left, right), node.operands, strict=True):
            if kind.condition:
                raise refusal("condition-as-quantity", operand)
        return left, right, shape

    def _sum(self, node: Node) -> Kind:
        left, right, shape = self._both(node)
        word = "added to" if node.form == "add" else "taken from"
        if not fitting(left.unit, right.unit):
            raise refusal("sum-of-unlike-units", node, unit=right.unit or NO_UNIT, word=word, wanted=left.unit or NO_UNIT)  # fmt: skip
        refuse_logarithms(node, left, right)
        own = counts_from_own_zero(left.unit), counts_from_own_zero(right.unit)
        if own == (True, True):
            if node.form == "add":
                raise refusal("sum-of-temperatures", node)
            return replace(shape, unit="K", difference=True)
        if own == (False, True):
            if node.form == "subtract":
                raise refusal("temperature-from-kelvin", node, unit=right.unit)
            return replace(shape, unit=right.unit)
        value = None
        if left.value is not None and right.value is not None and not any(own):
            value = left.value + (1 if node.form == "add" else -1) * right.value * conversion(right.unit, left.unit)[0]
        return replace(shape, unit=left.unit, difference=left.difference and right.difference, value=value)

    _add = _subtract = _sum

    def _scaled(self, node: Node) -> Kind:
        left, right, shape = self._both(node)
        for kind, operand in zip((left, right), node.operands, strict=True):
            refuse_logarithms(operand, kind)
            if counts_from_own_zero(kind.unit):
                raise refusal("own-zero-in-product", operand, unit=kind.unit)
        times = node.form == "multiply"
        found = product(left.unit, right.unit, 1.0 if times else -1.0)
        scaled = (left.difference and not right.unit) or (right.difference and not left.unit and times)
        value = None
        if left.value is not None and right.value is not None and (times or right.value):
            worked = left.value * right.value if times else left.value / right.value
            value = worked if math.isfinite(worked) else None
        return replace(shape, unit=found, difference=scaled, value=value)

    _multiply = _divide = _scaled

    def _negate(self, node: Node) -> Kind:
        kind = self.value(node.operands[0])
        return replace(kind, value=None if kind.value is None else -kind.value)

    def value(self, node: Node) -> Kind:
        """A quantity or number; refuses events, fits and conditions."""
        kind = self.of(node)
        if kind.shape in ("events", "fit"):
            raise refusal("events-are-no-quantity" if kind.shape == "events" else "fit-is-no-quantity", node)
        if kind.condition:
            raise refusal("condition-as-quantity", node)
        _refuse_residual(node, kind)
        return kind

    def _power(self, node: Node) -> Kind:
        base, exponent, shape = self._both(node)
        by = constant(node.operands[1])
        if exponent.unit:
            raise refusal("exponent-with-unit", node.operands[1], unit=exponent.unit)
        if base.unit and by is None:
            raise refusal("exponent-not-constant", node.operands[1])
        if counts_from_own_zero(base.unit):
            raise refusal("own-zero-in-power", node.operands[0], unit=base.unit)
        return replace(shape, unit="" if by is None else power(base.unit, by))

    def _function(self, node: Node) -> Kind:
        inner = replace(self.value(node.operands[0]), value=None)
        if node.word == "abs":
            return inner
        if node.word == "sqrt":
            if counts_from_own_zero(inner.unit):
                raise refusal("own-zero-in-power", node.operands[0], unit=inner.unit)
            return replace(inner, unit=power(inner.unit, 0.5), difference=False)
        wanted = "°" if node.word in ANGLES else ""
        if not fitting(inner.unit, wanted):
            kind = "an angle" if wanted else NO_UNIT
            raise refusal("function-takes-another-unit", node.operands[0], word=node.word, kind=kind, unit=inner.unit)
        return replace(inner, unit="rad" if node.word in TO_ANGLES else "", difference=False)

    # conditions

    def _compared(self, node: Node) -> Kind:
        left, right, shape = self._both(node)
        if not fitting(left.unit, right.unit):
            raise refusal("compared-with-unlike-unit", node, unit=left.unit or NO_UNIT, wanted=right.unit or NO_UNIT)
        return replace(shape, condition=True)

    def _logic(self, node: Node) -> Kind:
        kinds, shape = self._together(node)
        for kind, operand in zip(kinds, node.operands, strict=True):
            if not kind.condition:
                raise refusal("no-condition", operand, words=kind.words)
        return replace(shape, condition=True)

    _either = _all_hold = _opposite = _logic

    def _choice(self, node: Node) -> Kind:
        (condition, one, other), shape = self._together(node)
        if not condition.condition:
            raise refusal("no-condition", node.operands[0], words=condition.words)
        if one.condition or other.condition:
            raise refusal("condition-as-quantity", node.operands[1 if one.condition else 2])
        if not fitting(other.unit, one.unit):
            raise refusal("choice-of-unlike-units", node, unit=one.unit or NO_UNIT, wanted=other.unit or NO_UNIT)
        if counts_from_own_zero(one.unit) != counts_from_own_zero(other.unit):
            raise refusal("choice-of-unlike-units", node, unit=one.unit or NO_UNIT, wanted=other.unit or NO_UNIT)
        return replace(shape, unit=one.unit, difference=one.difference or other.difference)


def _refuse_residual(node: Node, kind: Kind) -> None:
    """What a fit leaves is there only over a span."""
    if kind.shape == "series" and kind.late:
        raise refusal("residual-in-series", node)


def _fit(form: Form, wanted: str, kind: Kind, first: Kind, node: Node) -> None:
    """Refuses an operand that is not what its form takes."""
    said = form.opening or form.name
    if wanted in SHAPES_TAKEN:
        if kind.shape not in SHAPES_TAKEN[wanted]:
            code = "gap-needs-events" if wanted == "events" else "form-takes-another-shape"
            raise refusal(code, node, word=said, words=kind.words, needed=SHAPE_WORDS["series"])
        if kind.condition != (wanted == "condition") and not (wanted == "signal"):
            raise refusal("condition-as-quantity" if kind.condition else "no-condition", node, words=kind.words)
        return
    if wanted == "time":
        if kind.shape != "number" or kind.late or not fitting(kind.unit, "s"):
            raise refusal(
                "apart-needs-time",
                node,
                word=said,
                unit=kind.unit or (NO_UNIT if kind.shape == "number" else kind.words),
            )
        seconds = kind.value * conversion(kind.unit, "s")[0] if kind.value is not None else math.nan
        if not 0 <= seconds <= LONGEST_WINDOW and form.group == "over time":
            raise refusal("window-too-long", node, longest=LONGEST_WINDOW)
        return
    if wanted == "number of readings":
        if kind.unit or kind.value is None or not kind.value.is_integer() or not 1 <= kind.value <= MOST_IN_WINDOW:
            raise refusal("readings-no-whole-number", node, most=MOST_IN_WINDOW)
        return
    target = interval_of(first.unit) if wanted == "depth" else first.unit
    if kind.shape != "number" or kind.late or kind.condition or not fitting(kind.unit, target):
        raise refusal(
            "level-in-another-unit", node, unit=kind.unit or NO_UNIT, wanted=target or NO_UNIT, wanted_unit=target
        )


SHAPES_TAKEN = {
    "series": ("series",),
    "signal": ("series",),
    "values": ("series", "at events"),
    "events": ("events",),
    "quantity": ("series", "at events", "number"),
    "condition": ("series", "number", "at events"),
}
