"""What is seen of the recent past: traces, thinned pictures, extents, and which sensor was touched."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.model.block import Block, Series, Source
from common_bench.reading.heard import Heard
from common_bench.record.chain import Flow, Worked
from common_bench.record.live import LiveWindow
from common_bench.record.traces import MovingPicture, Picture, Trace, thinned
from common_bench.record.which import WhichIsWhich
from common_bench.workings.thinning import extremes


def block_of(t: np.ndarray, gaps: list[int] | None = None, **channels: np.ndarray) -> Block:
    gap = np.zeros(len(t), bool)
    gap[gaps or []] = True
    return Block(t, t, t, np.arange(len(t)), gap, channels, np.zeros(len(t)))


def flow_of(block: Block, **results: Series) -> Flow:
    return Flow(Heard([block], [], [], len(block), 0), [Worked(block, {}, dict(results))])


@given(
    st.lists(st.floats(-1e6, 1e6) | st.just(float("nan")), min_size=1, max_size=600),
    st.integers(5, 80),
    st.integers(0, 10**6),
)
def test_a_thinned_picture_keeps_every_extreme_every_break_and_invents_nothing(values: list[float], pixels: int, seed: int) -> None:  # fmt: skip
    t = np.cumsum(np.random.default_rng(seed).uniform(0.001, 0.05, len(values)))
    width = float(t[-1] - t[0]) + 0.01
    small = thinned(Picture(t, np.array(values)), pixels, width)
    whole = set(zip(t.tolist(), map(repr, values), strict=True))
    assert set(zip(small.t.tolist(), map(repr, small.values.tolist()), strict=True)) <= whole
    assert (np.diff(small.t) > 0).all()
    assert len(small.t) <= max(2 * pixels, 3 * (pixels + 2))
    if len(values) > 2 * pixels:
        for pixel in set(np.floor(t * (pixels / width)).tolist()):
            inside, kept = (np.floor(each * (pixels / width)) == pixel for each in (t, small.t))
            own, left = np.array(values)[inside], small.values[kept]
            assert np.isnan(own).any() == np.isnan(left).any()
            if not np.isnan(own).all():
                assert (np.nanmin(own), np.nanmax(own)) == (np.nanmin(left), np.nanmax(left))


def test_a_window_keeps_raw_channels_and_results_by_name() -> None:
    window = LiveWindow()
    t = np.arange(50) * 0.02
    tension = Series(t, t * 2, "N", {Source("noise", False): np.full(50, 0.1)}, np.arange(50) > 48)
    window.add(flow_of(block_of(t, load=t * 100), tension=tension))
    assert window.names() == ["raw load", "tension"]
    latest = window.latest("tension")
    assert latest is not None
    assert (latest.value, latest.u, latest.unit, latest.guess) == (pytest.approx(1.96), pytest.approx(0.1), "N", True)
    assert window.extent("load") == (0.0, pytest.approx(98.0))
    assert np.isnan(window.extent("nothing")[0])
    np.testing.assert_array_equal(window.recent("raw load", 0.4).t, t[t >= t[-1] - 0.4])
    window.forget()
    assert window.names() == ["raw load"]
    window.forget_all()
    assert window.names() == []
    assert window.latest("raw load") is None
    assert not len(window.recent("raw load", 10).t)


def test_columns_that_a_line_does_not_hold_break_no_trace() -> None:
    window = LiveWindow()
    t = np.arange(6) * 0.1
    nan = float("nan")
    sparse = flow_of(block_of(t, temp=np.array([21.0, nan, nan, 22.0, nan, 23.0]), door=np.full(6, nan)))
    window.add(sparse, sparse=True)
    assert window.recent("raw temp", 9).values.tolist() == [21.0, 22.0, 23.0]
    assert window.latest("raw door") is None
    whole = LiveWindow()
    whole.add(sparse)
    assert np.isnan(whole.recent("raw temp", 9).values).sum() == 3, "where it is a missing value, it is shown as one"


def test_a_gap_breaks_the_line_at_its_place() -> None:
    window = LiveWindow()
    t = np.array([0.0, 0.1, 0.2, 2.0, 2.1])
    window.add(flow_of(block_of(t, [3], load=np.arange(5.0))))
    picture = window.recent("raw load", 9)
    assert np.flatnonzero(np.isnan(picture.values)).tolist() == [3]
    assert picture.t[3] == 2.0


@given(st.integers(0, 10**6), st.integers(0, 3), st.sampled_from(["step", "shake", "ramp"]))
def test_the_touched_one_is_named_among_noisy_and_swinging_ones(seed: int, touched: int, how: str) -> None:
    dice = np.random.default_rng(seed)
    windows = {kit: LiveWindow() for kit in range(4)}
    t = np.arange(0, 4, 0.02)
    for kit, window in windows.items():
        swing = 3000 * np.sin(2 * np.pi * 0.8 * t) if kit == 3 else 0.0
        window.add(
            flow_of(block_of(t, load=8000 + swing + dice.normal(0, 30, len(t)), temp=21 + dice.normal(0, 0.03, len(t))))
        )
    which = WhichIsWhich(windows)
    later = np.arange(4, 5.2, 0.02)
    quiet = which.look(windows)
    assert quiet is None or not quiet.clear
    for kit, window in windows.items():
        swing = 3000 * np.sin(2 * np.pi * 0.8 * later) if kit == 3 else 0.0
        load = 8000 + swing + dice.normal(0, 30, len(later))
        if kit == touched:
            load += {"step": 90_000.0, "shake": 120_000 * np.sin(40 * later), "ramp": 90_000 * (later - 3.9)}[how]
        window.add(flow_of(block_of(later, load=load, temp=21 + dice.normal(0, 0.03, len(later)))))
    found = which.look(windows)
    assert found is not None
    assert found.clear
    assert (found.kit, found.channel) == (touched, "load")


@given(
    cuts=st.lists(st.integers(0, 400), max_size=12),
    seconds=st.floats(0.5, 30.0),
    pixels=st.integers(5, 300),
    breaks=st.lists(st.integers(1, 390), max_size=5),
)
def test_a_picture_that_goes_on_is_the_one_that_is_thinned_at_once(cuts: list[int], seconds: float, pixels: int, breaks: list[int]) -> None:  # fmt: skip
    t = np.cumsum(np.random.default_rng(len(cuts)).exponential(0.02, 400)) + 5.0
    values = np.round(np.random.default_rng(pixels).normal(0, 3, 400))
    gap_before = np.isin(np.arange(400), breaks)
    trace, moving = Trace(), MovingPicture(pixels / seconds)
    edges = [0, *sorted(cuts), 400]
    for low, high in zip(edges, edges[1:], strict=False):
        trace.add(t[low:high], values[low:high], gap_before[low:high])
        shown = moving.of(trace, -np.inf)
    whole = trace.since(-np.inf)
    keep = np.zeros(len(whole.t), bool)
    extremes(whole.t, whole.values, pixels / seconds, keep)
    assert np.array_equal(shown.t, whole.t[keep])
    assert np.array_equal(shown.values, whole.values[keep], equal_nan=True)
    pixel = np.floor(whole.t * (pixels / seconds))
    later = moving.of(trace, 8.0)
    assert np.array_equal(later.t, whole.t[keep & ((whole.t >= 8.0) | (pixel == pixel[-1]))])
