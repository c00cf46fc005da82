"""The pace of a kit's clock moves all that was timed by it: what the uncertainty says of it is what a clock that is off does."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.model.block import Block, Series, Source
from common_bench.workings.evaluate import Evaluator, Workings, check, gathered
from common_bench.workings.over import over_span
from common_bench.workings.peaks import CLOCK_RATE
from common_bench.workings.spans import NumberOf

U = 5e-4  # relative standard uncertainty of the pace
OFF = 1e-5  # by which the clock is off, small enough for all to be straight
NOISE = Source("noise of height", False)
LINES = (
    "height = calibrated a", "speed = rate of height over 0.41 s", "way = total of height", "bend = rate of speed over 0.41 s",
    "energy = height * speed^2", "top = peaks in height above 1 m, 0.5 s apart",
)  # fmt: skip
NUMBERS = {
    "mean of speed": -1, "last of way": 1, "area under height": 1, "mean of energy": -2, "slope of height against time": -1,
    "dominant pace of height": -1, "pace of top": -1, "mean of gap between top": 1, "mean of height": 0,
    "area under speed": 0,
}  # fmt: skip
FITS = {
    "A * exp(-time / tau) + c": {"A": 0, "tau": 1, "c": 0},
    "c + v * time + 1/2 * a * time^2": {"c": 0, "v": -1, "a": -2},
    "A * cos(w * time + h) + c": {"A": 0, "w": -1, "h": 0, "c": 0},
}


def worked(workings: Workings, stretch: float, clock_u: float = U) -> dict[str, NumberOf]:
    t = np.arange(0, 12, 0.02) * stretch
    values = 2.0 * np.exp(-t / stretch / 20) * np.cos(2 * np.pi * t / stretch / 1.7) + 0.5
    block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {"a": values}, np.full(len(t), clock_u))
    height = Series(t, values, "m", {NOISE: np.full(len(t), 0.001)})
    results = gathered([Evaluator(workings).push(block, {"a": height})])
    return over_span(workings, results, (0.0, 11.91 * stretch))


def clock_share(number: NumberOf) -> float:
    return number.parts.get(CLOCK_RATE, 0.0) / U


@pytest.mark.parametrize("asked", NUMBERS)
def test_a_number_moves_with_the_clock_as_its_share_says(asked: str) -> None:
    workings = check([*LINES, f"found = {asked}"], {"a": "m"})
    assert not workings.troubles, workings.troubles[0].sentence
    straight, stretched = (worked(workings, stretch)["found"] for stretch in (1.0, 1.0 + OFF))
    moved = (stretched.value - straight.value) / OFF
    assert clock_share(straight) == pytest.approx(moved, rel=2e-2, abs=1e-4 * abs(straight.value))
    assert clock_share(straight) == pytest.approx(
        NUMBERS[asked] * straight.value, rel=2e-2, abs=1e-4 * abs(straight.value)
    )
    without = worked(workings, 1.0, 0.0)["found"]
    assert CLOCK_RATE not in without.parts or without.parts[CLOCK_RATE] == 0.0


@settings(max_examples=6, deadline=None)
@given(st.sampled_from(sorted(FITS)), st.integers(0, 99))
def test_what_a_fit_finds_moves_with_the_clock_as_its_share_says(formula: str, seed: int) -> None:
    names = FITS[formula]
    workings = check(["height = calibrated a", f"curve = height fitted by {formula}", *(f"n{k} = {each} of curve" for k, each in enumerate(names))], {"a": "m"})  # fmt: skip
    truth = {"A": 1.5, "tau": 3.0, "c": 0.4, "v": 0.7, "a": -0.3, "w": 4.1, "h": 0.3}
    curve = next(line for line in workings.lines if line.name == "curve")
    assert curve.trouble is None
    t = np.arange(0, 10, 0.05)
    noise = np.random.default_rng(seed).normal(0, 0.002, len(t))
    clean = {
        "A * exp(-time / tau) + c": truth["A"] * np.exp(-t / truth["tau"]) + truth["c"],
        "c + v * time + 1/2 * a * time^2": truth["c"] + truth["v"] * t + 0.5 * truth["a"] * t**2,
        "A * cos(w * time + h) + c": truth["A"] * np.cos(truth["w"] * t + truth["h"]) + truth["c"],
    }[formula]

    def found(stretch: float) -> dict[str, NumberOf]:
        at = t * stretch
        block = Block(at, at, at, np.arange(len(t)), np.zeros(len(t), bool), {"a": clean + noise}, np.full(len(t), U))
        height = Series(at, clean + noise, "m", {NOISE: np.full(len(t), 0.002)})
        return over_span(workings, gathered([Evaluator(workings).push(block, {"a": height})]), (0.0, 9.99 * stretch))

    straight, stretched = found(1.0), found(1.0 + OFF)
    for k, (name, power) in enumerate(names.items()):
        one, other = straight[f"n{k}"], stretched[f"n{k}"]
        size = abs(one.value)
        assert clock_share(one) == pytest.approx((other.value - one.value) / OFF, rel=3e-2, abs=2e-3 * size), name
        assert clock_share(one) == pytest.approx(power * one.value, rel=3e-2, abs=2e-3 * size), name
