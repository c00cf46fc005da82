"""What fits and their parameters give. Checked while they are typed, before any reading comes."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, NoReturn

from common_bench.model.trouble import WorkingTrouble
from common_bench.model.units import conversion, counts_from_own_zero
from common_bench.workings.fit_units import parameters_in, units_of
from common_bench.workings.reading import Node
from common_bench.workings.shapes import LONGEST_WINDOW, NO_UNIT, SHAPE_WORDS, Kind, fitting, refusal

RESIDUAL = "residual"  # of a fit: what it leaves of each reading

if TYPE_CHECKING:
    from common_bench.workings.kinds import KindCheck


def kind_of_fit(node: Node, check: KindCheck) -> Kind:
    """What a fit gives: its parameters with their units. Raises WorkingTrouble with the place."""
    y_node, formula, *clauses = node.operands
    y = check.value(y_node)
    if y.shape != "series":
        raise refusal("form-takes-another-shape", y_node, word="fitted by", words=y.words, needed=SHAPE_WORDS["series"])
    wanted = "K" if counts_from_own_zero(y.unit) else y.unit
    free = parameters_in(formula, check.known)
    held = {each.word: _held(check, each, free) for each in clauses if each.form == "held"}
    if not set(free) - set(held):
        raise refusal("fit-without-parameters", formula)
    units = _units_of(check, formula, free, wanted, held)
    inner = check.with_numbers(units)
    found = inner.of(formula)
    if found.shape not in ("series", "number") or found.condition or found.late:
        raise refusal(
            "form-takes-another-shape", formula, word="fitted by", words=found.words, needed=SHAPE_WORDS["series"]
        )
    if not fitting(found.unit, wanted):
        raise refusal("cannot-be-shown-in-unit", formula, unit=found.unit or NO_UNIT, wanted=wanted or NO_UNIT)
    parameters = tuple((name, units[name]) for name in free if name not in held)
    for clause in clauses:
        if clause.form == "bound":
            _bounds(check, clause, dict(parameters))
    kind = Kind("fit", wanted, late=True, made=node, parameters=parameters)
    for clause in clauses:
        if clause.form == "over":
            condition = check.of(clause.operands[0])
            if not condition.condition or condition.shape != "series":
                raise refusal("no-condition", clause.operands[0], words=condition.words)
        elif clause.form == "each":
            kind = _each(check, clause, kind, max(y.delay, found.delay))
    return kind


def _units_of(
    check: KindCheck, formula: Node, free: list[str], wanted: str, held: Mapping[str, Kind]
) -> dict[str, str]:
    try:
        return units_of(formula, free, wanted, lambda part: check.of(part).unit, {n: k.unit for n, k in held.items()})
    except WorkingTrouble as trouble:
        for name in free if trouble.code == "fit-parameter-without-unit" else []:  # a name that was mistyped, rather
            near = difflib.get_close_matches(name, [*check.names, *check.raw], 1, 0.75)
            if near:
                raise refusal("nothing-called", formula, name=name, near=near[0], case="near") from None
        raise


def _bounds(check: KindCheck, clause: Node, free: Mapping[str, str]) -> None:
    """Raises WorkingTrouble where a parameter is bound by what is no two numbers of its kind, the smaller first."""
    if clause.word not in free:
        _no_parameter(clause, list(free))
    ends = []
    for each in clause.operands:
        kind = check.of(each)
        if kind.shape != "number" or kind.late or kind.value is None:
            raise refusal("bound-is-no-number", each)
        if not fitting(kind.unit, free[clause.word]):
            raise refusal(
                "cannot-be-shown-in-unit", each, unit=kind.unit or NO_UNIT, wanted=free[clause.word] or NO_UNIT
            )
        factor, offset = conversion(kind.unit, free[clause.word])
        ends.append(kind.value * factor + offset)
    if not ends[0] < ends[1]:
        raise refusal("bounds-the-wrong-way", clause, name=clause.word)


def _no_parameter(clause: Node, free: list[str]) -> NoReturn:
    near = difflib.get_close_matches(clause.word, free, 1, 0.5)
    case = "near" if near else "else"
    raise refusal("held-is-no-parameter", clause, name=clause.word, near=near[0] if near else "", case=case)


def _held(check: KindCheck, clause: Node, free: list[str]) -> Kind:
    kind = check.of(clause.operands[0])
    if clause.word not in free:
        _no_parameter(clause, free)
    if kind.shape != "number" or kind.late or kind.condition:
        raise refusal("not-one-number", clause.operands[0])
    return kind


def _each(check: KindCheck, clause: Node, kind: Kind, delay: float) -> Kind:
    events, seconds = (check.of(each) for each in clause.operands)
    if events.shape != "events":
        raise refusal("gap-needs-events", clause.operands[0], word="from each", words=events.words)
    if seconds.shape != "number" or seconds.late or seconds.value is None or not fitting(seconds.unit, "s"):
        raise refusal("apart-needs-time", clause.operands[1], unit=seconds.unit or NO_UNIT)
    length = seconds.value * conversion(seconds.unit, "s")[0]
    if not 0 < length <= LONGEST_WINDOW:
        raise refusal("window-too-long", clause.operands[1], longest=LONGEST_WINDOW)
    return replace(kind, late=False, events=f"fits {check.name}", delay=max(delay, events.delay) + length)


def kind_of_parameter(node: Node, check: KindCheck) -> Kind:
    """What a parameter of a fit is."""
    fit = check.of(node.operands[0])
    if fit.shape != "fit":
        raise refusal("no-fit", node.operands[0], name=node.operands[0].word, words=fit.words)
    known = dict(fit.parameters)
    if node.word == RESIDUAL and node.word not in known:
        if not fit.late:
            raise refusal("residual-of-each", node, name=node.operands[0].word)
        return Kind(
            "series", fit.unit, late=True, difference=counts_from_own_zero(fit.unit) or fit.unit == "K", made=node
        )
    if node.word not in known:
        near = difflib.get_close_matches(node.word, list(known), 1, 0.4)
        raise refusal("no-such-parameter", node, name=node.word, known=", ".join(known), near=near[0] if near else "")
    if fit.late:
        return Kind("number", known[node.word], late=True)
    return Kind("at events", known[node.word], fit.events, delay=fit.delay)
