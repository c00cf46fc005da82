"""The units of a formula's free parameters, worked out from the rest of it: what is added must be of one kind, what stands in a
sine or an exponent a pure number, and the whole of the kind of what is fitted."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from fractions import Fraction
from typing import Any

from common_bench.model.units import text_of, unit
from common_bench.workings.reading import Node
from common_bench.workings.shapes import refusal

Powers = dict[str, Fraction]


def parameters_in(formula: Node, known: Callable[[str], bool]) -> list[str]:
    """Names in a formula that are nothing else, in their order."""
    own = [formula.word] if formula.form == "name" and not known(formula.word) else []
    return list(dict.fromkeys([*own, *(name for each in formula.operands for name in parameters_in(each, known))]))


class _Units:
    """Walks a formula; each part has a known unit and powers of unknown ones."""

    def __init__(self, free: list[str], unit_of: Callable[[Node], str], held: Mapping[str, str]) -> None:
        self.free, self.unit_of, self.held = free, unit_of, held
        self.rules: list[tuple[Powers, Any]] = []  # powers of unknown units, and what they come to

    def alike(self, left: tuple[Any, Powers], right: tuple[Any, Powers]) -> None:
        powers = {
            name: left[1].get(name, Fraction(0)) - right[1].get(name, Fraction(0)) for name in {**left[1], **right[1]}
        }
        self.rules.append(({name: each for name, each in powers.items() if each}, right[0] / left[0]))

    def of(self, node: Node) -> tuple[Any, Powers]:
        pure = unit(""), Powers()
        if node.form == "name" and node.word in self.free:
            if node.word in self.held:
                return unit(self.held[node.word]), {}
            return unit(""), {node.word: Fraction(1)}
        if node.form in ("add", "subtract", "compared"):
            left, right = (self.of(each) for each in node.operands)
            self.alike(left, right)
            return left
        if node.form in ("multiply", "divide"):
            left, right = (self.of(each) for each in node.operands)
            sign = 1 if node.form == "multiply" else -1
            powers = {
                n: left[1].get(n, Fraction(0)) + sign * right[1].get(n, Fraction(0)) for n in {**left[1], **right[1]}
            }
            return left[0] * right[0] ** sign, powers
        if node.form == "negate" or (node.form == "function" and node.word == "abs"):
            return self.of(node.operands[0])
        if node.form == "power" or (node.form == "function" and node.word == "sqrt"):
            return self._power(node)
        if node.form == "function":
            self.alike(self.of(node.operands[0]), pure)
            return pure
        if node.form == "choice":
            self.of(node.operands[0])
            one, other = self.of(node.operands[1]), self.of(node.operands[2])
            self.alike(one, other)
            return one
        return unit(self.unit_of(node)), {}

    def _power(self, node: Node) -> tuple[Any, Powers]:
        base = self.of(node.operands[0])
        by = 0.5 if node.form == "function" else constant(node.operands[1])
        if by is None:
            self.alike(base, (unit(""), {}))
            self.alike(self.of(node.operands[1]), (unit(""), {}))
            return unit(""), {}
        share = Fraction(by).limit_denominator(100)
        return base[0] ** float(share), {name: each * share for name, each in base[1].items()}


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


def units_of(
    formula: Node, free: list[str], wanted: str, unit_of: Callable[[Node], str], held: Mapping[str, str]
) -> dict[str, str]:
    """The unit of each free parameter. wanted: of the whole; unit_of: of a part without parameters; held: units of those that
    are held. Raises WorkingTrouble where one cannot be told."""
    walk = _Units(free, unit_of, held)
    walk.alike(walk.of(formula), (unit(wanted), {}))
    rules = walk.rules
    for name in free:
        at = next((k for k, (powers, _) in enumerate(rules) if powers.get(name) and _first(powers, free) == name), None)
        at = at if at is not None else next((k for k, (powers, _) in enumerate(rules) if powers.get(name)), None)
        if at is None:
            continue
        powers, rest = rules[at]
        by = powers[name]
        powers = {each: share / by for each, share in powers.items()}
        rest = rest ** float(1 / by)
        rules[at] = powers, rest
        for k, (others, its) in enumerate(rules):
            share = others.get(name, Fraction(0))
            if k != at and share:
                left = {each: others.get(each, Fraction(0)) - share * powers.get(each, Fraction(0)) for each in {**others, **powers}}  # fmt: skip
                rules[k] = {each: power for each, power in left.items() if power}, its / rest ** float(share)
    found = {name: text_of(rest) for powers, rest in rules if len(powers) == 1 for name in powers}
    for name in free:
        if name not in found and name not in held:
            raise refusal("fit-parameter-without-unit", formula, name=name)
    return {name: found.get(name, held.get(name, "")) for name in free}


def _first(powers: Powers, free: list[str]) -> str:
    return next((name for name in free if powers.get(name)), "")
