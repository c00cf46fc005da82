"""What is compiled: forms on one quantity share what is known of it and give what each gives alone; nothing is compiled
twice, whatever arrays come."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.model.block import Block, Events, Floats, Series, Source
from common_bench.workings import loops, top_loops, window_loops
from common_bench.workings.evaluate import Evaluator, check, gathered

FORMS = (
    "rate of {} over 0.3 s", "smooth {} over 0.5 s", "middle of {} over 4 readings", "total of {}", "change in {}",
    "peaks in {} above 0.2, 0.3 s apart", "rises of {} through 0", "largest of {} so far", "{} delayed by 0.1 s",
)  # fmt: skip
NOISE, SCALE = Source("noise", False), Source("scale", True)


def found(lines: list[str], block: Block, u: Floats, cuts: list[int]) -> dict[str, Series | Events]:
    workings = check(["x = calibrated raw", *lines], {"raw": ""}, {"load": "counts"})
    assert not workings.troubles
    evaluator, pieces = Evaluator(workings), []
    for start, stop in zip([0, *cuts], [*cuts, len(block)], strict=True):
        part = block.part(start, stop)
        values = part.channels["raw"]
        parts = {NOISE: u[start:stop], SCALE: 1e-3 * values}
        pieces.append(evaluator.push(part, {"raw": Series(part.t, values, "", parts)}))
    return gathered(pieces)


def same(one: Series | Events, other: Series | Events) -> None:
    np.testing.assert_array_equal(one.t, other.t)
    if isinstance(one, Series) and isinstance(other, Series):
        np.testing.assert_array_equal(one.values, other.values)
    for source in {**one.parts, **other.parts}:
        nothing = np.zeros(len(one))
        np.testing.assert_array_equal(one.parts.get(source, nothing), other.parts.get(source, nothing))


@given(
    st.integers(0, 10**6),
    st.lists(st.integers(0, 300), max_size=5).map(sorted),
    st.lists(st.integers(1, 299), max_size=3),
    st.lists(st.integers(0, 299), max_size=40),
    st.permutations(FORMS),
    st.sampled_from(["x", "load"]),
)
def test_forms_on_one_quantity_give_what_each_gives_alone(
    seed: int, cuts: list[int], gaps: list[int], missing: list[int], forms: list[str], name: str
) -> None:
    dice = np.random.default_rng(seed)
    t = np.cumsum(dice.choice([0.02, 0.021], 300) if seed % 2 else np.full(300, 0.02))
    x = np.sin(5 * t) + dice.normal(0, 0.05, 300)
    x[missing] = np.nan
    gap = np.zeros(300, bool)
    gap[gaps] = True
    block = Block(t, t, t, np.arange(300), gap, {"raw": x, "load": x}, np.zeros(300))
    u = np.full(300, 0.05)
    lines = [f"a{k} = {form.format(name)}" for k, form in enumerate(forms)]
    together = found(lines, block, u, cuts)
    for line in lines:
        alone = line.split(" = ")[0]
        same(together[alone], found([line], block, u, cuts)[alone])


@pytest.mark.parametrize("way", ["as they are", "not to be written", "every other one", "whole numbers"])
def test_no_loop_is_compiled_anew_for_other_arrays(way: str) -> None:
    t = np.arange(0, 12, 0.02)
    x = np.sin(5 * t)
    if way == "not to be written":
        t.flags.writeable = x.flags.writeable = False
    if way == "every other one":
        t, x = np.repeat(t, 2)[::2], np.repeat(x, 2)[::2]
    if way == "whole numbers":
        x = np.round(10 * x).astype(np.int32)
    block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {"raw": x, "load": x}, np.zeros(len(t)))
    found([f"a{k} = {form.format('x')}" for k, form in enumerate(FORMS)], block, np.broadcast_to(0.05, len(t)), [100])
    for module in (loops, window_loops, top_loops):
        for name, loop in vars(module).items():
            if hasattr(loop, "compiled"):
                assert len(loop.compiled.signatures) <= 1, f"{name} for {loop.compiled.signatures}"
