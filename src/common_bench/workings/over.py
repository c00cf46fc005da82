"""Workings over a span: to single numbers and fits, from what they gave at each reading."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import msgspec
import numpy as np

from common_bench.model.block import Events, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.workings.apart import Apart, Stretch
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.evaluate import CLOCK, Working, Workings, inner_name, is_residual, line_fit
from common_bench.workings.fitting import FoundFit
from common_bench.workings.forms import Form
from common_bench.workings.kinds import CONSTANTS, kind_of
from common_bench.workings.line_fits import fit_over
from common_bench.workings.peaks import CLOCK_RATE
from common_bench.workings.reading import Node, read_working
from common_bench.workings.second_order import by_simulation
from common_bench.workings.shapes import Kind
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value
from common_bench.workings.table import FORMS

Stretches = tuple[Stretch, ...] | Trouble
"""Where a named span lies in s: one stretch, or several alike, as one for each event; or why it lies nowhere."""


def over_span(
    workings: Workings, results: Mapping[str, Series | Events], span: Stretch,
    fits: dict[str, FoundFit] | None = None, named: Mapping[str, Stretches] | None = None,
    without: dict[str, Trouble] | None = None,
) -> dict[str, NumberOf]:  # fmt: skip
    """Every working that gives a single number, over readings with span[0] <= t <= span[1] (s). fits: filled with those over
    the span, by line; named: spans for lines that end with `during NAME`. A number during several stretches is the mean of
    what it is in each. without: filled with lines whose span does not lie anywhere, and those that rest on them, each with
    why; where it is not given, that is raised."""
    numbers: dict[str, NumberOf] = {}
    gone = {} if without is None else without
    tags: dict[str, str] = {}  # fit -> what tells its readings from those of other spans
    fitted_to: dict[str, str] = {}  # fit -> the quantity
    fits = {} if fits is None else fits
    apart = Apart(
        [span, *(each for found in (named or {}).values() if not isinstance(found, Trouble) for each in found)]
    )
    results = dict(results)
    found: dict[int, NumberOf] = {}  # by node: a simulation asks for them a second time
    within_line, taken_over, tag = (
        "",
        span,
        "",
    )  # of the line that is worked out: its name, its span, what tells that from others

    def over(node: Node, form: Form) -> NumberOf:
        assert form.over is not None
        if is_residual(node.operands[0], workings.kinds):
            left = fits[node.operands[0].operands[0].word].residual
            told: NumberOf = form.over(taken_over, inner_name(within_line, node.operands[0]), left)
            return apart.told(told, tag, form.name)
        names = [inner_name(within_line, node)]
        if form.step is None:
            names = [each.word if each.word in results else inner_name(within_line, each) for each in node.operands]
        if any(each not in results for each in names):  # nothing has been heard
            raise FindingTrouble("no-value-in-span", word=form.name)
        number: NumberOf = form.over(taken_over, " against ".join(names), *[results[each] for each in names])
        if form.of_time and (rate := clock_u()):
            moved = number.parts.get(CLOCK_RATE, 0.0) + form.of_time * rate * number.value
            number = replace(number, parts={**number.parts, CLOCK_RATE: moved})
        return apart.told(number, tag, form.name)

    def clock_u() -> float:
        """How well the pace of the kit's clock is known over the span, relative."""
        told = results.get(CLOCK)
        if not isinstance(told, Series):
            return 0.0
        low, high = np.searchsorted(told.t, taken_over)
        return float(told.values[low : high + 1].max(initial=0.0))

    def of(node: Node) -> Value:
        if node.table is not None and node.table.over is not None:
            if id(node) not in found:
                found[id(node)] = over(node, node.table)
            return found[id(node)]
        if node.form == "name" and node.word in gone:
            raise gone[node.word]
        if node.form == "parameter":
            fit = node.operands[0].word
            if fit in gone:
                raise gone[fit]
            return apart.told(fits[fit].number(node.word, fitted_to[fit]), tags[fit], "fit")
        if node.form == "name" and node.word in numbers:
            return numbers[node.word]
        return elementwise(node, [of(each) for each in node.operands], within_line)

    def number_of(node: Node) -> NumberOf:
        value = of(node)
        assert isinstance(value, NumberOf)
        return value

    def value_of(node: Node) -> Value:
        if node.form == "name" and node.word in results:
            found_as = results[node.word]
        elif inner_name(within_line, node) in results:
            found_as = results[inner_name(within_line, node)]
        elif node.form == "name" and (node.word in numbers or node.word in CONSTANTS):
            return of(node)
        else:  # nothing has been heard
            raise FindingTrouble("no-value-in-span", word="fit")
        assert isinstance(found_as, Series)
        return found_as

    def in_each(line: Working, stretches: Sequence[Stretch]) -> NumberOf:
        nonlocal taken_over, tag
        assert line.read is not None
        assert line.kind is not None
        pieces = []
        for k, stretch in enumerate(stretches):
            taken_over, tag = stretch, f"{line.read.during} {k}"
            found.clear()
            value = shown_in(of(line.read.expression), line.kind.unit)
            assert isinstance(value, NumberOf)
            pieces.append(value)
        sources = dict.fromkeys(source for piece in pieces for source in piece.parts)
        series = Series(
            np.array([high for _, high in stretches]),
            np.array([piece.value for piece in pieces]),
            line.kind.unit,
            {source: np.array([piece.parts.get(source, 0.0) for piece in pieces]) for source in sources},
            since=np.array([low for low, _ in stretches]),
        )
        mean: NumberOf = FORMS["mean"].over((-math.inf, math.inf), line.name, series)  # type: ignore[misc]
        return mean

    def work_out(line: Working) -> None:
        nonlocal within_line, taken_over, tag
        stretches: Sequence[Stretch] = (span,)
        tag = line.read.during if line.read is not None else ""
        if tag and line.kind is not None:
            stretches = _stretches(tag, named)
        taken_over = stretches[0]
        if line.kind is not None and line.kind.shape == "fit" and line.kind.late:
            within_line, tags[line.name] = line.name, tag
            taken = line_fit(line.name, workings.kinds, workings.channels, workings.raw)
            fitted_to[line.name] = taken.y.word or inner_name(line.name, taken.y)
            fits[line.name] = fit_over(taken, taken_over, value_of, number_of, clock_u())
        if line.read and line.kind and line.kind.shape == "series" and line.kind.late:
            left = fits[line.read.expression.operands[0].word].residual
            shown = shown_in(left, line.kind.unit)
            assert isinstance(shown, Series)
            results[line.name] = shown
        if line.read and line.kind and line.kind.shape == "number":
            within_line = line.name
            if len(stretches) > 1:
                numbers[line.name] = in_each(line, stretches)
                return
            value = shown_in(of(line.read.expression), line.kind.unit)
            assert isinstance(value, NumberOf)
            numbers[line.name] = by_simulation(line.read.expression, line.kind.unit, value, of, line.name)

    for line in workings.lines:
        try:
            work_out(line)
        except Trouble as trouble:
            nowhere = bool(line.read is not None and line.read.during and _is_nowhere(line.read.during, named))
            if without is None or not (nowhere or trouble in gone.values()):
                raise
            gone[line.name] = trouble
    return numbers


def _is_nowhere(name: str, named: Mapping[str, Stretches] | None) -> bool:
    return not isinstance((named or {}).get(name), tuple)


def _stretches(name: str, named: Mapping[str, Stretches] | None) -> tuple[Stretch, ...]:
    """Raises FindingTrouble where there is no such span, and what keeps it from being found."""
    stretches = (named or {}).get(name)
    if stretches is None:
        raise FindingTrouble("no-such-span", name=name, known=", ".join(named or {}) or "none")
    if isinstance(stretches, Trouble):
        raise stretches
    return stretches


def numbers_of(node: Node) -> NumberOf:
    """A part of a working that is a plain number."""
    value = elementwise(node, [numbers_of(each) for each in node.operands])
    assert isinstance(value, NumberOf)
    return value


def number_from(text: str, names: Mapping[str, Measured]) -> Measured:
    """The value of one expression or working over named values, independent of each other.

    Raises WorkingTrouble where it cannot be read, checked or worked out.
    """
    read = read_working(text if "=" in text else f"value = {text}")
    kind = kind_of(read, {name: Kind("number", each.unit) for name, each in names.items()}, {})

    def of(node: Node) -> Value:
        if node.form == "name" and node.word in names:
            given = names[node.word]
            known = math.isfinite(given.u)
            source = Source(node.word, True, "", given.dof if known else 0.0)
            return NumberOf(given.value, given.unit, {source: given.u if known else 1.0})
        return elementwise(node, [of(each) for each in node.operands], read.name)

    value = shown_in(of(read.expression), kind.unit)
    assert isinstance(value, NumberOf)
    found = by_simulation(read.expression, kind.unit, value, of, read.name).measured
    partly = {name: each.shared / each.u for name, each in names.items() if each.shared and each.u > 0}
    shared = math.hypot(*(u * partly[source.name] for source, u in value.parts.items() if source.name in partly))
    return msgspec.structs.replace(found, shared=shared) if shared else found
