"""Workings over a span: to single numbers and fits, from what they gave at each reading."""

from __future__ import annotations

import math
from collections.abc import Mapping

from common_bench.model.block import Events, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.trouble import FindingTrouble
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.evaluate import Workings, inner_name, is_residual, line_fit
from common_bench.workings.fitting import FoundFit
from common_bench.workings.forms import Form
from common_bench.workings.kinds import CONSTANTS, kind_of
from common_bench.workings.line_fits import fit_over
from common_bench.workings.reading import Node, read_working
from common_bench.workings.second_order import by_simulation
from common_bench.workings.shapes import Kind
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value


def over_span(
    workings: Workings, results: Mapping[str, Series | Events], span: tuple[float, float],
    fits: dict[str, FoundFit] | None = None,
) -> dict[str, NumberOf]:  # fmt: skip
    """Every working that gives a single number, over readings with span[0] <= t <= span[1] (s). fits: filled with those over
    the span, by line."""
    numbers: dict[str, NumberOf] = {}
    fits = {} if fits is None else fits
    results = dict(results)
    found: dict[int, NumberOf] = {}  # by node: a simulation asks for them a second time

    def over(node: Node, form: Form) -> NumberOf:
        assert form.over is not None
        if is_residual(node.operands[0], workings.kinds):
            left = fits[node.operands[0].operands[0].word].residual
            told: NumberOf = form.over(span, inner_name(within_line, node.operands[0]), left)
            return told
        names = [inner_name(within_line, node)]
        if form.step is None:
            names = [each.word if each.word in results else inner_name(within_line, each) for each in node.operands]
        if any(each not in results for each in names):  # nothing has been heard
            raise FindingTrouble("no-value-in-span", word=form.name)
        number: NumberOf = form.over(span, " against ".join(names), *[results[each] for each in names])
        return number

    def of(node: Node) -> Value:
        if node.table is not None and node.table.over is not None:
            if id(node) not in found:
                found[id(node)] = over(node, node.table)
            return found[id(node)]
        if node.form == "parameter":
            return fits[node.operands[0].word].number(node.word)
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

    within_line = ""
    for line in workings.lines:
        if line.kind is not None and line.kind.shape == "fit" and line.kind.late:
            within_line = line.name
            taken = line_fit(line.name, workings.kinds, workings.channels, workings.raw)
            fits[line.name] = fit_over(taken, span, value_of, number_of)
        if line.read and line.kind and line.kind.shape == "series" and line.kind.late:
            left = fits[line.read.expression.operands[0].word].residual
            shown = shown_in(left, line.kind.unit)
            assert isinstance(shown, Series)
            results[line.name] = shown
        if line.read and line.kind and line.kind.shape == "number":
            within_line = line.name
            value = shown_in(of(line.read.expression), line.kind.unit)
            assert isinstance(value, NumberOf)
            numbers[line.name] = by_simulation(line.read.expression, line.kind.unit, value, of, line.name)
    return numbers


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
    return by_simulation(read.expression, kind.unit, value, of, read.name).measured
