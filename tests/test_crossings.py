"""Crossings, changes, times between and times when: the same however they are cut, and as uncertain as they say."""

from __future__ import annotations

import contextlib

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.model.block import Block, Events, Series, Source
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.workings.evaluate import Evaluator, check, gathered
from common_bench.workings.over import over_span

NOISE = Source("noise of single readings", False)
SCALE = Source("calibration of a0", True)
CHANNELS = {"a0": "V", "gate": "", "probe": "°C"}


def evaluated(
    lines: list[str], t: np.ndarray, values: np.ndarray, *, cuts: list[int] | None = None, gaps: list[int] | None = None,
    u: float = 0.003, scale: float = 0.0, edges: bool = False, channel: str = "a0",
) -> dict:  # fmt: skip
    workings = check(lines, CHANNELS)
    assert not workings.troubles, workings.troubles[0].sentence
    evaluator = Evaluator(workings)
    gap_before = np.zeros(len(t), bool)
    gap_before[gaps or []] = True
    block = Block(t, t, t, np.arange(len(t)), gap_before, {}, np.full(len(t), 1e-5), 1e-6)
    parts = {NOISE: np.full(len(t), u), SCALE: scale * values}
    borders = sorted({0, len(t), *(c for c in cuts or [] if 0 < c < len(t))})
    pieces = []
    for low, high in zip(borders, borders[1:], strict=False):
        own = {source: share[low:high] for source, share in parts.items()}
        series = Series(t[low:high], values[low:high], CHANNELS[channel], own, edges=edges)
        pieces.append(evaluator.push(block.part(low, high), {channel: series}))
    return {"workings": workings, **gathered(pieces)}


def fading(tau: float, noise: float, dice: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    t = np.arange(0, 20, 0.02)
    return t, 5 * np.exp(-np.clip(t - 1.0, 0, None) / tau) + dice.normal(0, noise, len(t))


LINES = [
    "voltage = calibrated a0",
    "up = rises of voltage through 2 V, by at least 0.4 V",
    "down = falls of voltage through 2 V, 0.3 s apart",
    "any = changes of voltage through 1 V, by at least 0.2 V",
    "moved = changes of voltage",
    "lag = time between up and down",
    "back = time between down and (rises of voltage through 2 V)",
    "pause = gap between any",
]  # fmt: skip


@settings(max_examples=30)
@given(
    st.lists(st.integers(1, 600), max_size=30),
    st.integers(0, 60),
    st.lists(st.integers(1, 599), max_size=3),
    st.booleans(),
)
def test_however_the_readings_are_cut_the_crossings_are_the_same(
    cuts: list[int], seed: int, gaps: list[int], missing: bool
) -> None:
    dice = np.random.default_rng(seed)
    t = np.arange(600) * 0.02 + np.cumsum(np.isin(np.arange(600), gaps)) * 1.3
    values = 2 + 1.5 * np.sin(t * 3) + dice.normal(0, 0.15, len(t))
    if missing:
        values[dice.integers(0, 600, 40)] = np.nan
    whole = evaluated(LINES, t, values, gaps=gaps, scale=0.01)
    cut = evaluated(LINES, t, values, cuts=cuts, gaps=gaps, scale=0.01)
    for name in ("up", "down", "any", "moved", "lag", "back", "pause"):
        one, other = whole[name], cut[name]
        assert np.array_equal(one.t, other.t)
        assert all(np.array_equal(share, other.parts[source]) for source, share in one.parts.items() if len(one))
        if isinstance(one, Events):
            assert np.array_equal(one.fresh, other.fresh)
        else:
            assert np.array_equal(one.values, other.values)
            breaks = t[sorted(set(gaps))]
            assert not any(((one.since < at) & (one.t >= at)).any() for at in breaks), "nothing is measured over a gap"


@pytest.mark.parametrize("tau", [0.7, 4.7])
def test_the_time_of_a_crossing_is_as_uncertain_as_it_says(tau: float) -> None:
    """By simulation: differences from the true time over the stated uncertainty scatter by one."""
    dice = np.random.default_rng(7)
    lines = [
        *LINES[:1],
        "there = time when voltage falls through 2 V",
        "taken = there - time when voltage falls through 4 V",
    ]
    off = []
    for _ in range(150):
        t, values = fading(tau, 0.003, dice)
        found = evaluated(lines, t, values)
        number = over_span(found["workings"], found, (0, 20))["there"]
        off.append((number.value - (1.0 + tau * np.log(5 / 2))) / number.u)
    assert 0.7 < np.std(off) < 1.3
    assert abs(np.mean(off)) < 0.5


def test_a_shared_error_of_the_scale_moves_crossings_together() -> None:
    """With a scale that is 1% off, tau from two levels is right: both times move, their difference does not."""
    lines = [*LINES[:1], "tau = ((time when voltage falls through 1 V) - (time when voltage falls through 4 V)) / ln(4)",
             "one = time when voltage falls through 1 V"]  # fmt: skip
    t, values = fading(4.7, 1e-5, np.random.default_rng(1))
    found = evaluated(lines, t, values, u=1e-5, scale=0.01)
    numbers = over_span(found["workings"], found, (0, 20))
    assert numbers["one"].u == pytest.approx(4.7 * 0.01, rel=0.02)
    assert numbers["tau"].u < 2e-3
    assert numbers["tau"].value == pytest.approx(4.7, abs=2e-3)


def test_a_light_gate_that_tells_each_change_gives_its_own_times_and_one_that_is_sampled_lies_in_between() -> None:
    lines = ["gate = calibrated gate", "block = rises of gate through 0.5", "clear = falls of gate through 0.5",
             "dark = time between block and clear"]  # fmt: skip
    told = np.array([0.0, 0.5, 1.0, 1.2034, 1.2551, 1.3, 1.41, 1.46, 2.0])
    state = np.array([0, 0, 0, 1, 0, 0, 1, 0, 0], float)
    found = evaluated(lines, told, state, u=0.0, edges=True, channel="gate")
    assert found["block"].t.tolist() == [1.2034, 1.41]
    assert found["dark"].values == pytest.approx([0.0517, 0.05])
    assert (found["dark"].u < 2e-6).all()
    t = np.arange(0, 2, 0.01)
    sampled = ((t > 0.503) & (t < 0.777)).astype(float)
    found = evaluated(lines, t, sampled, u=0.0, channel="gate")
    assert abs(found["dark"].values[0] - 0.274) < 3 * found["dark"].u[0]
    assert found["dark"].u[0] == pytest.approx(0.01 / 12**0.5 * 2**0.5, rel=1e-3)


def test_noise_at_a_level_counts_once_where_a_depth_or_a_pause_is_given() -> None:
    dice = np.random.default_rng(3)
    t = np.arange(0, 20, 0.02)
    values = 2 + np.sin(t * 2 * np.pi / 4) + dice.normal(0, 0.1, len(t))
    found = evaluated(
        ["v = calibrated a0", "raw = rises of v through 2 V", "deep = rises of v through 2 V, by at least 0.5 V",
         "slow = rises of v through 2 V, 3 s apart"], t, values,
    )  # fmt: skip
    assert len(found["raw"]) > 8
    assert len(found["deep"]) in (4, 5)
    assert len(found["slow"]) == 6


@pytest.mark.parametrize(
    ("line", "code"),
    [
        ("e = rises of v", "crossing-without-level"),
        ("e = rises of v through 2 s", "level-in-another-unit"),
        ("e = changes of v, by at least 1 V", "crossing-without-level"),
        ("e = rises of v through 2 V, 3 V apart", "apart-needs-time"),
        ("e = rises of v through (mean of v)", "level-in-another-unit"),
        ("e = time when 3 V rises through 2 V", "form-takes-another-shape"),
        ("e = time between v and (changes of v)", "gap-needs-events"),
        ("e = mean of (v - mean of v)", "late-in-series"),
        ("e = v - (time when v falls through 1 V) * 1 V/s", "late-in-series"),
    ],
)
def test_what_cannot_be_is_refused_at_its_place(line: str, code: str) -> None:
    found = check(["v = calibrated a0", line], CHANNELS).lines[1]
    assert found.trouble is not None
    assert found.trouble.code == code
    assert 0 <= found.trouble.start < found.trouble.end <= len(line)


# whatever is written

UNITS = ("V", "s", "", "°C", "mV", "K", "1/s")
numbers = st.builds(
    lambda value, unit: f"{value} {unit}".strip(),
    st.sampled_from(["0", "1", "2.5", "0.3 ± 0.1"]),
    st.sampled_from(UNITS),
)
names = st.sampled_from(["a", "b", "c", "d", "e", "calibrated a0", "calibrated probe", "calibrated gate", "pi"])
WAYS = st.sampled_from(["rises", "falls"])
OVERS = st.sampled_from(["mean", "scatter", "median", "largest", "smallest", "first", "last", "count"])


def larger(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    inside = inner.map(lambda text: f"({text})")
    return st.one_of(
        st.builds(lambda a, sign, b: f"{a} {sign} {b}", inside, st.sampled_from("+-*/^"), inside),
        st.builds(lambda way, x, level: f"{way} of {x} through {level}", WAYS, inside, numbers),
        st.builds(lambda x, level, apart: f"changes of {x} through {level}, {apart} s apart", inside, numbers, st.sampled_from("012")),
        st.builds(lambda x, level: f"peaks in {x} above {level}, 0.1 s apart", inside, numbers),
        st.builds(lambda x, way, level: f"time when {x} {way} through {level}", inside, WAYS, numbers),
        st.builds(lambda a, b: f"time between {a} and {b}", inside, inside),
        st.builds(lambda x: f"gap between {x}", inside),
        st.builds(lambda over, x: f"{over} of {x}", OVERS, inside),
        st.builds(lambda f, x: f"{f}({x})", st.sampled_from(["sqrt", "ln", "abs", "sin", "exp"]), inner),
    )  # fmt: skip


expressions = st.recursive(st.one_of(numbers, names), larger, max_leaves=5)


@given(st.lists(expressions, min_size=1, max_size=5), st.integers(0, 3))
def test_whatever_the_checker_lets_through_can_be_worked_out(written: list[str], seed: int) -> None:
    workings = check([f"{name} = {text}" for name, text in zip("abcde", written, strict=False)], CHANNELS)
    good = [line.text for line in workings.lines if not line.trouble]
    workings = check(good, CHANNELS)
    evaluator = Evaluator(workings)
    dice = np.random.default_rng(seed)
    t = np.arange(200) * 0.02
    values = {"a0": 2 + np.sin(t * 9) + dice.normal(0, 0.1, 200), "probe": 20 + t, "gate": np.round(t % 1)}
    gap_before = np.zeros(200, bool)
    gap_before[dice.integers(0, 200, seed)] = True
    block = Block(t, t, t, np.arange(200), gap_before, {}, np.full(200, 1e-5), 1e-3)
    pieces = []
    for low, high in ((0, 0), (0, 90), (90, 200)):
        heard = ("a0", "gate") if seed else tuple(values)
        series = {
            name: Series(t[low:high], values[name][low:high], CHANNELS[name], {NOISE: np.full(high - low, 0.1)})
            for name in heard
        }
        pieces.append(evaluator.push(block.part(low, high), series))
    for line in workings.lines:
        with contextlib.suppress(FindingTrouble):
            alone = check([each.text for each in workings.lines[: workings.lines.index(line) + 1]], CHANNELS)
            over_span(alone, gathered(pieces), (0.0, 4.0))
    for line in check([f"{name} = {text}" for name, text in zip("abcde", written, strict=False)], CHANNELS).lines:
        assert line.trouble is None or isinstance(line.trouble, Trouble)
