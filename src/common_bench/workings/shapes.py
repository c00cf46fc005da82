"""What is known of a value before there is one: its shape and unit, and what a form's rule is asked with."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

from common_bench.model.trouble import WorkingTrouble
from common_bench.model.units import conversion, is_logarithmic, same_kind

if TYPE_CHECKING:
    from common_bench.workings.forms import Form
    from common_bench.workings.reading import Node

Shape = Literal["series", "events", "at events", "number", "fit"]
SHAPE_WORDS = {
    "series": "a quantity over time",
    "events": "events (times)",
    "at events": "one value for each event",
    "number": "a single number",
    "fit": "a fit, of which its parameters are numbers",
}
NO_UNIT = "a pure number"
LONGEST_WINDOW = 60.0  # s
TIME = "time"  # since the run or the fit began, where nothing else has that name


@dataclass(frozen=True)
class Kind:
    """`events` is the identity of the events (the place where they are found) that a value “at events” belongs to, or
    that events are themselves; `late`: known only once a span is chosen; `difference`: of two temperatures, which is no
    temperature; `condition`: holds or does not; delay: s, and readings: so many of them, by which it comes later than
    what it is made of; value: of a number that is known before any reading."""

    shape: Shape
    unit: str = ""
    events: str = ""
    late: bool = False
    difference: bool = False
    condition: bool = False
    delay: float = 0.0
    readings: int = 0
    value: float | None = None
    made: Node | None = None  # the node that finds the events, or that fits
    parameters: tuple[tuple[str, str], ...] = ()  # of a fit, with their units

    @property
    def words(self) -> str:
        return "a condition" if self.condition else SHAPE_WORDS[self.shape]


def fitting(source: str, target: str) -> bool:
    """Whether values in one unit can be turned into the other. Raises UnitTrouble where the factor is beyond all numbers."""
    if not same_kind(source, target):
        return False
    conversion(source, target)
    return True


def refusal(code: str, node: Node, **fields: Any) -> WorkingTrouble:
    """Why a working is refused, with its place."""
    return WorkingTrouble(code, **fields).at(node.start, node.end)


def refuse_logarithms(node: Node, *kinds: Kind) -> None:
    """Levels in dB are logarithms of ratios: what their sum or product means depends on what they are levels of."""
    for kind in kinds:
        if is_logarithmic(kind.unit):
            raise refusal("logarithm-in-sum", node, unit=kind.unit)


@dataclass(frozen=True)
class AskedForm:
    """A form of the table as it stands in a working: what its rule is asked with. identity: of the events that it makes."""

    form: Form
    node: Node
    kinds: Mapping[str, Kind]
    identity: str

    def __getitem__(self, slot: str) -> Kind:
        return self.kinds[slot]

    @cached_property
    def x(self) -> Kind:
        """What the form is about: its first operand."""
        return self.kinds[self.node.slots[0]]

    def number(self, slot: str, wanted: str) -> float:
        """A number among the operands, in `wanted`; 0 where it is not given."""
        kind = self.kinds.get(slot)
        if kind is None or kind.value is None:
            return 0.0
        factor, offset = conversion(kind.unit, wanted)
        return kind.value * factor + offset
