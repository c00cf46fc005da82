"""Where uncertainties are so large that a formula bends within them: what first order says, tested and put right.

Each source that enters is moved by one standard uncertainty to both sides, alone and with all others; where the formula bends by a noticeable share
of the whole uncertainty, all sources are drawn at random and the formula is worked out for each draw (JCGM 101, 7).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from common_bench.model.block import Floats, Series, Source
from common_bench.model.uncertainty import USUAL, combined, coverage_factor
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.reading import Node
from common_bench.workings.spans import Note, NumberOf
from common_bench.workings.streams import Value

BENDS = 0.1  # of the uncertainty by which the formula bends within it; u is then off by about a hundredth
TOGETHER = 8  # moves of all sources at one time
WITHOUT = 0.01  # of the draws, for which the formula may have no value
DRAWS = 40_000  # u is then known to 0.4 of 100
SEED = 20_080
ARITHMETIC = ("negate", "add", "subtract", "multiply", "divide", "power", "function")
FIRST_ORDER = Note("first-order")

Leaves = dict[int, NumberOf]


def by_simulation(expression: Node, unit: str, value: NumberOf, of: Callable[[Node], Value], line: str) -> NumberOf:
    """`value`, which the expression gives at first order in `unit`, with an uncertainty by simulation where first order
    does not hold; of: what a part of the expression gives. The value stays that of the formula; its uncertainty is
    such that 95 of 100 draws lie within its interval, unknown where the formula has no value for many of them."""
    if expression.form not in ARITHMETIC:
        return value
    leaves: Leaves = {}
    _gather(expression, of, leaves)
    sources = list(dict.fromkeys(s for leaf in leaves.values() for s, share in leaf.parts.items() if share))
    if not sources or any(source.dof <= 0 for source in sources) or not np.isfinite(value.value):
        return value

    def off(moved: Floats) -> Floats:
        with np.errstate(all="ignore"):
            return _worked(expression, unit, leaves, sources, moved, line) - value.value

    dice, count = np.random.default_rng(SEED), len(sources)
    moved = np.hstack([np.eye(count), dice.choice([-1.0, 1.0], (count, TOGETHER))])
    up, down = np.split(off(np.hstack([moved, -moved])), 2)
    total = float(np.sqrt(np.sum(((up - down)[:count] / 2) ** 2)))
    bent = (up + down) / 2
    largest = max(float(np.sqrt(np.sum(bent[:count] ** 2))), float(np.sqrt(np.mean(bent[count:] ** 2))))
    if largest <= BENDS * total:
        return value
    drawn = off(dice.standard_normal((count, DRAWS)))
    known = drawn[np.isfinite(drawn)]
    if len(known) < (1 - WITHOUT) * DRAWS:
        parts = {Source("no value near by", False, line, 0.0): 1.0}
    else:
        _, dof = combined(value.parts)
        by_draws = Source("simulation of all sources", False, line, dof if dof > 0 else np.inf)
        parts = {by_draws: float(np.quantile(np.abs(known), USUAL)) / coverage_factor(np.inf)}
    return replace(value, parts=parts, notes=tuple(dict.fromkeys((*value.notes, FIRST_ORDER))))


def _gather(node: Node, of: Callable[[Node], Value], leaves: Leaves) -> None:
    if node.form in ARITHMETIC:
        for each in node.operands:
            _gather(each, of, leaves)
        return
    value = of(node)
    assert isinstance(value, NumberOf)
    leaves[id(node)] = value


def _worked(
    expression: Node, unit: str, leaves: Leaves, sources: list[Source], moved: Floats, line: str
) -> Floats:  # fmt: skip
    """(n,) what the expression gives where its sources are off by `moved` (sources, n) standard uncertainties."""
    t = np.zeros(moved.shape[1])

    def of(node: Node) -> Value:
        if id(node) not in leaves:
            return elementwise(node, [of(each) for each in node.operands], line)
        leaf = leaves[id(node)]
        values = np.full(len(t), float(leaf.value))
        for source, each in zip(sources, moved, strict=True):
            values += leaf.parts.get(source, 0.0) * each
        return Series(t, values, leaf.unit) if leaf.parts else leaf

    found = shown_in(of(expression), unit)
    assert isinstance(found, Series)
    return found.values
