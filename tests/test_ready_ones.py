"""The ready lines: each gives the value that its source says, on quantities that are written in the language itself."""

from __future__ import annotations

import numpy as np
import pytest

from common_bench.model.block import Block, Events, Series
from common_bench.model.units import conversion
from common_bench.workings.evaluate import Evaluator, check
from common_bench.workings.over import over_span
from common_bench.workings.ready import ReadyLines, ready_ones


def tried(ready: ReadyLines) -> tuple[float, str]:
    """What the line that is looked at gives, and its unit."""
    t = np.arange(0, 40.001, 0.02)
    block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {}, np.zeros(len(t)), 1e-6)
    made = check([f"{name} = {text}" for name, text in ready.tried.items()], {})
    assert not made.troubles, made.troubles[0].sentence
    values = Evaluator(made).push(block, {})
    given = {}
    for name, unit in ready.needs.items():
        series = values.get(name)
        kind = made.kinds[name]
        factor, offset = conversion(kind.unit, unit)
        raw = series.values if isinstance(series, Series) else np.full(len(t), kind.value)
        given[name] = Series(t, raw * factor + offset, unit, edges=False)
    block = Block(t, t, t, block.offset, block.gap_before, {k: v.values for k, v in given.items()}, block.clock_u, 1e-6)
    workings = check([*(f"{name} = calibrated {name}" for name in ready.needs), *ready.lines], ready.needs)
    assert not workings.troubles, (workings.troubles[0].where, workings.troubles[0].sentence)
    results = Evaluator(workings).push(block, given)
    name = ready.gives["line"]
    result = results.get(name)
    if isinstance(result, Series):
        known = result.values[np.isfinite(result.values)]
        return float(known[-1]), result.unit
    assert not isinstance(result, Events)
    number = over_span(workings, results, (0.0, 1e9))[name]
    return number.value, number.unit


@pytest.mark.parametrize("ready", ready_ones(), ids=lambda each: each.title)
def test_ready_lines_give_what_their_source_says(ready: ReadyLines) -> None:
    value, unit = tried(ready)
    assert unit == ready.gives["unit"]
    assert value == pytest.approx(ready.gives["value"], rel=ready.gives.get("within", 2e-3))


def test_there_are_twenty_and_they_take_a_plans_own_names() -> None:
    assert len(ready_ones()) >= 20
    (heat,) = [each for each in ready_ones() if each.title.startswith("Heat")]
    lines = heat.for_plan({"bath": "°F", "load": "N"}, frozenset(["bath", "load", "Mass"]))
    assert lines[0].startswith("mass2 = 0.250")
    assert lines[2] == "heat = mass2 * c_water * change in bath as kJ"
    assert heat.missing({"load": "N"}) == ["temp"]
    for ready in ready_ones():
        kinds = dict(ready.needs)
        own = ready.for_plan(kinds, frozenset(kinds))
        assert not check([*(f"{name} = calibrated {name}" for name in kinds), *own], kinds).troubles
