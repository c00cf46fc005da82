"""Forms that work value by value, with their uncertainties. Values in, a value out."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence

import numpy as np
from msgspec.structs import replace

from common_bench.model.block import NO_SPREADS, Bools, Floats, Series, Source
from common_bench.model.units import conversion, counts_from_own_zero, degree_of, power, product, same_kind
from common_bench.workings.fit_units import constant
from common_bench.workings.kinds import ANGLES, CONSTANTS, TO_ANGLES
from common_bench.workings.reading import Node
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value


def elementwise(node: Node, operands: Sequence[Value], line: str = "") -> Value:
    """Forms that work value by value. line: the name of the working that the node stands in.

    Uncertainties go first-order through each source of its own (JCGM 100, eq. 10 and 13), so that x - x is exactly 0.
    """
    if node.form == "quantity":
        source = Source(f"{node.word}", True, f"{line}:{node.start}")  # as it stands at this place of this line
        return NumberOf(node.value, node.unit, {source: node.u} if node.u else {})
    if node.form == "name":
        return NumberOf(CONSTANTS[node.word])
    values = [each for each in operands if isinstance(each, Series | NumberOf)]
    if node.table is not None:
        return _of_table(node.table.name, values)
    if node.form in LOGIC:
        return LOGIC[node.form](values)
    if node.form == "compared":
        return _compared(node.word, *values)
    if node.form == "choice":
        return _chosen(*values)
    if node.form == "negate":
        return _combined(values, _raw(values[0]) * -1.0, [-1.0], values[0].unit)
    if node.form == "function":
        return _function(node.word, values[0])
    left, right = values
    if node.form in ("add", "subtract"):
        sign = 1.0 if node.form == "add" else -1.0
        own = counts_from_own_zero(left.unit), counts_from_own_zero(right.unit)
        if own == (True, True):  # the difference of two temperatures
            (step, zero), (other, its) = conversion(left.unit, "K"), conversion(right.unit, "K")
            difference = (_raw(left) * step + zero) - (_raw(right) * other + its)
            return _combined(values, difference, [step, -other], "K")
        if any(own):  # a temperature and a difference, in the temperature's unit
            to, by = (left, right) if own[0] else (right, left)
            step = degree_of(by.unit) / degree_of(to.unit)
            gradients = [1.0, sign * step] if own[0] else [sign * step, 1.0]
            return _combined(values, _raw(to) + sign * _raw(by) * step, gradients, to.unit)
        unit_text = left.unit
        factor, offset = conversion(right.unit, left.unit) if left.unit != right.unit else (1.0, 0.0)
        return _combined(values, _raw(left) + sign * (_raw(right) * factor + offset), [1.0, sign * factor], unit_text)
    a, b = _raw(left), _raw(right)
    if node.form == "multiply":
        return _combined(values, a * b, [b, a], product(left.unit, right.unit))
    with np.errstate(all="ignore"):
        if node.form == "divide":
            under = b if isinstance(b, float) and b else np.where(np.asarray(b) == 0, np.nan, b)
            quotient = a / under
            return _combined(
                values, quotient, [lambda: 1 / under, lambda: -quotient / under], product(left.unit, right.unit, -1.0)
            )
        exponent = constant(node.operands[1])
        unit_text = power(left.unit, exponent) if exponent is not None and left.unit else ""
        base = np.asarray(a, float)
        result = base**b
        return _combined(
            values,
            result,
            [lambda: b * base if _is(b, 2.0) else b * base ** (b - 1.0), lambda: np.log(base) * result],
            unit_text,
        )


def _function(word: str, inner: Series | NumberOf) -> Series | NumberOf:
    if word in ANGLES and inner.unit:
        inner = _scaled(inner, conversion(inner.unit, "rad")[0], "")
    elif inner.unit and same_kind(inner.unit, "") and word not in ("abs", "sqrt"):
        inner = _scaled(inner, conversion(inner.unit, "")[0], "")
    x = np.asarray(_raw(inner), float)
    of, slope = FUNCTIONS[word]
    with np.errstate(all="ignore"):
        result = of(x)
    unit_text = power(inner.unit, 0.5) if word == "sqrt" and inner.unit else inner.unit if word == "abs" else ""
    unit_text = "rad" if word in TO_ANGLES else unit_text
    return _combined([inner], result, [lambda: slope(x, result)], unit_text)


FUNCTIONS: dict[str, tuple[Callable[[Floats], Floats], Callable[[Floats, Floats], Floats]]] = {
    "sqrt": (np.sqrt, lambda x, y: 0.5 / y),
    "sin": (np.sin, lambda x, y: np.cos(x)),
    "cos": (np.cos, lambda x, y: -np.sin(x)),
    "tan": (np.tan, lambda x, y: 1 + y * y),
    "exp": (np.exp, lambda x, y: y),
    "ln": (lambda x: np.log(np.where(x > 0, x, np.nan)), lambda x, y: 1 / x),
    "log10": (lambda x: np.log10(np.where(x > 0, x, np.nan)), lambda x, y: 1 / (x * np.log(10))),
    "asin": (np.arcsin, lambda x, y: 1 / np.sqrt(1 - x**2)),
    "acos": (np.arccos, lambda x, y: -1 / np.sqrt(1 - x**2)),
    "atan": (np.arctan, lambda x, y: 1 / (1 + x**2)),
    "abs": (np.abs, lambda x, y: np.sign(x)),
}
"""of x, and its slope at x where it is y"""


def _of_table(name: str, values: Sequence[Series | NumberOf]) -> Series | NumberOf:
    """Forms of the table that work value by value."""
    if name == "where":
        value, condition = values
        holds = np.asarray(_raw(condition), float) == 1.0
        given = [value, _where(condition, np.zeros((), bool))]
        return _combined(given, np.where(holds, _raw(value), np.nan), [1.0, 0.0], value.unit)
    sides = [_scaled(each, conversion(each.unit, values[0].unit)[0], values[0].unit) for each in values]
    raw = [np.asarray(_raw(each), float) for each in sides]
    size = np.sqrt(sum((each * each for each in raw), np.zeros(())))
    with np.errstate(all="ignore"):
        return _combined(sides, size, [each / size for each in raw], values[0].unit)


def _compared(word: str, left: Series | NumberOf, right: Series | NumberOf) -> Series | NumberOf:
    """1 where it holds, 0 where not, nan where one side is not known."""
    factor, offset = conversion(right.unit, left.unit) if left.unit != right.unit else (1.0, 0.0)
    a, b = np.asarray(_raw(left), float), np.asarray(_raw(right), float) * factor + offset
    holds = COMPARISONS[word](a, b).astype(float)
    unknown = np.isnan(a) | np.isnan(b)
    return _without([left, right], np.where(unknown, np.nan, holds))


COMPARISONS: dict[str, Callable[[Floats, Floats], Bools]] = {
    "<": np.less, ">": np.greater, "<=": np.less_equal, "≤": np.less_equal, ">=": np.greater_equal, "≥": np.greater_equal,
    "=": np.equal, "!=": np.not_equal, "≠": np.not_equal,
}  # fmt: skip


def _both_hold(values: Sequence[Series | NumberOf]) -> Series | NumberOf:
    """What is false on one side is false whatever the other is (Kleene's logic of three values)."""
    a, b = (np.asarray(_raw(each), float) for each in values)
    return _without(values, np.where((a == 0) | (b == 0), 0.0, a * b))


def _either_holds(values: Sequence[Series | NumberOf]) -> Series | NumberOf:
    a, b = (np.asarray(_raw(each), float) for each in values)
    return _without(values, np.where((a == 1) | (b == 1), 1.0, a + b))


def _opposite(values: Sequence[Series | NumberOf]) -> Series | NumberOf:
    return _without(values, 1.0 - np.asarray(_raw(values[0]), float))


def _without(values: Sequence[Series | NumberOf], result: Floats) -> Series | NumberOf:
    """What holds or does not, which has no uncertainty of its own."""
    return _combined([_where(each, np.zeros((), bool)) for each in values], result, [0.0] * len(values), "")


LOGIC: dict[str, Callable[[Sequence[Series | NumberOf]], Series | NumberOf]] = {
    "all_hold": _both_hold, "either": _either_holds, "opposite": _opposite,
}  # fmt: skip


def _chosen(condition: Series | NumberOf, one: Series | NumberOf, other: Series | NumberOf) -> Series | NumberOf:
    """The first value where the condition holds, the second where not, nan where that is not known."""
    factor, offset = conversion(other.unit, one.unit) if other.unit != one.unit else (1.0, 0.0)
    holds = np.asarray(_raw(condition), float)
    value = np.where(holds == 1, _raw(one), np.where(holds == 0, np.asarray(_raw(other)) * factor + offset, np.nan))
    chosen = [_where(one, holds == 1), _where(other, holds == 0)]
    return _combined([_where(condition, np.zeros((), bool)), *chosen], value, [0.0, 1.0, factor], one.unit)


def _where(value: Series | NumberOf, chosen: Bools) -> Series | NumberOf:
    """A value whose uncertainty counts only where it is chosen; elsewhere it may not be known."""
    if isinstance(value, NumberOf):
        if not chosen.ndim:
            return value if chosen else dataclasses.replace(value, parts={})
        return Series(
            np.zeros(len(chosen)),
            np.full(len(chosen), value.value),
            value.unit,
            {s: np.where(chosen, share, 0.0) for s, share in value.parts.items()},
        )
    return replace(value, parts={source: np.where(chosen, share, 0.0) for source, share in value.parts.items()})


def _raw(value: Series | NumberOf) -> Floats | float:
    return value.values if isinstance(value, Series) else value.value


def _scaled(value: Series | NumberOf, factor: float, unit_text: str) -> Series | NumberOf:
    return _combined([value], _raw(value) * factor, [factor], unit_text)


def shown_in(value: Value, unit_text: str) -> Value:
    """The same value in another unit of its kind; events stay as they are. Raises UnitTrouble where it is none."""
    if not isinstance(value, Series | NumberOf) or value.unit == unit_text:
        return value
    if (
        value.unit == ""
        and isinstance(value, Series)
        and not value.parts
        and np.count_nonzero(np.isnan(value.values)) == len(value)
    ):
        return replace(value, unit=unit_text, parts={})
    factor, offset = conversion(value.unit, unit_text)
    return _combined([value], _raw(value) * factor + offset, [factor], unit_text)


Gradient = Floats | float
Gradients = Sequence[Gradient | Callable[[], Gradient]]


def _combined(
    values: Sequence[Series | NumberOf], result: Floats | float, gradients: Gradients, unit_text: str
) -> Series | NumberOf:
    """gradients: of the result in each of the values, worked out only where that has an uncertainty."""
    timed = next((each for each in values if isinstance(each, Series) and (each.rows or each.since is not None)), None)
    timed = timed or next((each for each in values if isinstance(each, Series)), None)
    parts: dict[Source, Floats | float] = {}
    for value, asked in zip(values, gradients, strict=True):
        if not value.parts:
            continue
        with np.errstate(all="ignore"):
            gradient = asked() if callable(asked) else asked
        plain = _is(gradient, 1.0)
        for source, share in value.parts.items():
            moved = share if plain else gradient * share
            parts[source] = parts[source] + moved if source in parts else moved
    if timed is None:
        numbers = [value for value in values if isinstance(value, NumberOf)]
        guesses = max((value.guesses for value in numbers), default=0)
        notes = tuple(dict.fromkeys(note for value in numbers for note in value.notes))
        shares = {source: float(share) for source, share in parts.items()}
        return NumberOf(float(result), unit_text, shares, guesses=guesses, notes=notes)
    guess: Bools | None = None
    for value in values:
        if isinstance(value, Series) and value.guess is not None:
            guess = value.guess if guess is None else guess | value.guess
    shape = timed.t.shape
    filled = {source: _over(share, shape) for source, share in parts.items()}
    spreads = {
        s: each for value in values if isinstance(value, Series) for s, each in value.spreads.items()
    } or NO_SPREADS
    return Series(timed.t, _over(result, shape), unit_text, filled, guess, timed.since, False, timed.rows, spreads)


def _is(value: Floats | float, number: float) -> bool:
    return isinstance(value, float) and value == number


def _over(value: Floats | float, shape: tuple[int, ...]) -> Floats:
    """The same at each reading."""
    if isinstance(value, np.ndarray) and value.shape == shape and value.dtype == np.float64:
        return value
    return np.broadcast_to(np.asarray(value, float), shape)
