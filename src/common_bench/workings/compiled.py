"""A formula as a function of numbers: the tree with its units in, a quick function on arrays out. Every unit is settled once, when
it is made."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from common_bench.model.units import conversion, counts_from_own_zero, power, product, same_kind
from common_bench.workings.arithmetic import COMPARISONS
from common_bench.workings.fit_units import constant
from common_bench.workings.kinds import ANGLES, CONSTANTS, TO_ANGLES
from common_bench.workings.reading import Node

Given = Sequence[Any]  # one array or number for each input
Worked = Callable[[Given], Any]
FUNCTIONS: dict[str, Callable[[Any], Any]] = {
    "sqrt": np.sqrt, "sin": np.sin, "cos": np.cos, "tan": np.tan, "asin": np.arcsin, "acos": np.arccos, "atan": np.arctan,
    "exp": np.exp, "ln": np.log, "log10": np.log10, "abs": lambda z: np.where(np.real(z) < 0, -z, z),
}  # fmt: skip
"""Each takes complex numbers too, by which derivatives are found to the last digit."""


class NotCompiled(Exception):
    """A part that has no quick form."""


def compiled(node: Node, inputs: Callable[[Node], tuple[int, str] | None]) -> tuple[Worked, str]:
    """inputs: the place among what is given, and the unit, of a part that is given. Gives a function and the unit of its result.
    Raises NotCompiled where a part has no such form."""
    found = inputs(node)
    if found is not None:
        place, unit = found
        return (lambda given: given[place]), unit
    if node.form == "quantity":
        value = node.value
        return (lambda given: value), node.unit
    if node.form == "name" and node.word in CONSTANTS:
        constant_value = CONSTANTS[node.word]
        return (lambda given: constant_value), ""
    parts = [compiled(each, inputs) for each in node.operands]
    if any(counts_from_own_zero(unit) for _, unit in parts) or node.table is not None:
        raise NotCompiled
    return _made(node, parts)


def _made(node: Node, parts: list[tuple[Worked, str]]) -> tuple[Worked, str]:
    a, unit = parts[0]
    if node.form == "negate":
        return (lambda given: -a(given)), unit
    if node.form == "function":
        return _function(node.word, a, unit)
    if node.form in ("either", "all_hold", "opposite", "choice", "name") or len(parts) < 2:
        raise NotCompiled
    b, other = parts[1]
    if node.form in ("add", "subtract", "compared"):
        factor = conversion(other, unit)[0]
        if node.form == "compared":
            compare = COMPARISONS[node.word]
            return (lambda given: compare(a(given), factor * b(given))), ""
        sign = factor if node.form == "add" else -factor
        return (lambda given: a(given) + sign * b(given)), unit
    if node.form == "multiply":
        return (lambda given: a(given) * b(given)), product(unit, other)
    if node.form == "divide":
        return (lambda given: a(given) / np.where(b(given) == 0, np.nan, b(given))), product(unit, other, -1.0)
    by = constant(node.operands[1])
    return (lambda given: np.power(np.asarray(a(given)) * 1.0, b(given))), power(
        unit, by
    ) if by is not None and unit else ""


def _function(word: str, a: Worked, unit: str) -> tuple[Worked, str]:
    function = FUNCTIONS[word]
    if word == "abs":
        return (lambda given: function(a(given))), unit
    if word == "sqrt":
        return (lambda given: function(a(given))), power(unit, 0.5) if unit else ""
    wanted = "rad" if word in ANGLES else ""
    factor = conversion(unit, wanted)[0] if unit and same_kind(unit, wanted) else 1.0
    return (lambda given: function(factor * a(given))), "rad" if word in TO_ANGLES else ""


def as_array(value: Any, count: int, kind: type = float) -> Any:
    """(n,) of what a function gave; kind: float, complex where derivatives are looked for, or one of more digits."""
    return np.asarray(np.broadcast_to(np.asarray(value, kind), count))
