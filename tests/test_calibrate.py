"""Lines with errors in both coordinates, steadiness, the points that are taken, benches beside each other."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from common_bench.calibrate.comparing import Reads, disagreeing, drifted
from common_bench.calibrate.points import take_point
from common_bench.calibrate.steady import LONG_ENOUGH, Limits, Steadiness, steadiness
from common_bench.fits.straight_line import straight_line
from common_bench.lesson.calibration_words import steady_line
from common_bench.model.calibration import PlannedPoint, ReferencePoint
from common_bench.model.trouble import CalibrationTrouble
from simulated import settling

# Pearson's data (Phil. Mag. 2, 559 (1901)) with York's weights (Can. J. Phys. 44, 1079 (1966)).
X = np.array([0.0, 0.9, 1.8, 2.6, 3.3, 4.4, 5.2, 6.1, 6.5, 7.4])
Y = np.array([5.9, 5.4, 4.4, 4.6, 3.5, 3.7, 2.8, 2.8, 2.4, 1.5])
WX = np.array([1000.0, 1000, 500, 800, 200, 80, 60, 20, 1.8, 1.0])
WY = np.array([1.0, 1.8, 4, 8, 20, 20, 70, 70, 100, 500])


def test_pearsons_data_with_yorks_weights_give_the_published_line() -> None:
    line = straight_line(X, Y, WX**-0.5, WY**-0.5)
    assert line.intercept == pytest.approx(5.479910, abs=5e-7)
    assert line.slope == pytest.approx(-0.480533, abs=5e-7)
    assert np.sqrt(np.diag(line.covariance)) == pytest.approx([0.29497, 0.05798], abs=6e-4)  # York 2004, Table I
    assert line.chi_square / line.dof == pytest.approx(1.4833, abs=1e-3)


@given(st.integers(0, 10**6), st.integers(3, 12))
def test_without_errors_in_x_it_is_weighted_least_squares(seed: int, n: int) -> None:
    dice = np.random.default_rng(seed)
    x, u = np.sort(dice.uniform(-50, 50, n)), dice.uniform(0.1, 3, n)
    assume(np.diff(x).min() > 1e-3)
    y = dice.normal(2 - 0.3 * x, u)
    line = straight_line(x, y, np.zeros(n), u)
    coefficients, covariance = np.polyfit(x, y, 1, w=1 / u, cov="unscaled")
    assert [line.slope, line.intercept] == pytest.approx(coefficients.tolist(), rel=1e-9, abs=1e-9)
    np.testing.assert_allclose(line.covariance[::-1, ::-1], covariance, rtol=1e-7)
    unweighted = straight_line(x, y, np.zeros(n), np.zeros(n))
    assert [unweighted.slope, unweighted.intercept] == pytest.approx(np.polyfit(x, y, 1).tolist(), rel=1e-9, abs=1e-9)


@pytest.mark.parametrize(
    ("x", "y", "u_x", "u_y", "word"),
    [
        ([1], [1], [0], [1], "two points"),
        ([1, 1], [1, 2], [0, 0], [1, 1], "same reading"),
        ([1, 2], [1, np.nan], [0, 0], [1, 1], "no value"),
        ([1, 2], [1, 2], [0, 0], [1, -1], "below zero"),
        ([1, 2, 3], [1, 2, 3], [0, 0, 0], [1, 0, 1], "uncertainty of zero"),
    ],
)  # fmt: skip
def test_points_that_fix_no_line_are_refused_in_words(x: list, y: list, u_x: list, u_y: list, word: str) -> None:
    with pytest.raises(CalibrationTrouble, match=word):
        straight_line(np.array(x, float), np.array(y, float), np.array(u_x, float), np.array(u_y, float))


NOISE = 30.0
T = np.arange(0, 20, 0.02)
HELD = PlannedPoint("100 g", 0.981, 0.003)


def noise(seed: int, t: np.ndarray = T) -> np.ndarray:
    return np.random.default_rng(seed).normal(0, NOISE, len(t))


def smoothed(seed: int, by: float, t: np.ndarray = T) -> np.ndarray:
    """Noise of a sensor whose neighbours resemble each other, with standard deviation NOISE."""
    white = noise(seed, t) * (1 - by**2) ** 0.5
    out = np.empty(len(t))
    out[0] = noise(seed, t)[0]
    for k in range(1, len(t)):
        out[k] = by * out[k - 1] + white[k]
    return out


RESTING = {
    "white noise": np.round(8400 + noise(1)),
    "no noise at all": np.full(len(T), 21.4),
    "coarse steps": np.round((8400 + noise(2)) / 100) * 100,
    "a sensor that smooths": 8400 + smoothed(3, 0.7),
    "a step 4 s ago": 8400 + noise(4) + 10_000 * (T > 16),
    "settled long ago": 1e5 * (1 - np.exp(-T / 0.8)) + noise(5),
    "far from zero": 8_388_000 + noise(6),
}
MOVING = {
    "swinging": 220_000 + 5000 * np.sin(9 * T) + noise(1),
    "swinging slowly": 220_000 + 5000 * np.sin(2 * T) + noise(1),
    "settling": 1e5 * (1 - np.exp(-T / 6)) + noise(2),
    "settling slowly": 1e4 * (1 - np.exp(-T / 60)) + noise(3),
    "drifting": 8400 + 8 * T + noise(4),
    "a step just now": 8400 + noise(5) + 10_000 * (T > 19.3),
}


@pytest.mark.parametrize("name", RESTING)
def test_a_resting_reading_is_steady(name: str) -> None:
    found = steadiness(T, RESTING[name])
    assert found.steady
    assert found.expected == 0
    assert abs(found.mean - RESTING[name][-100:].mean()) <= max(6 * found.u, 1e-9)


@pytest.mark.parametrize("name", MOVING)
def test_a_moving_reading_is_not_steady(name: str) -> None:
    for end in range(len(T) - 200, len(T), 20):
        if name != "a step just now" or T[end] > 19.4:
            assert not steadiness(T[:end], MOVING[name][:end]).steady, end


@pytest.mark.parametrize(("every", "scale"), [(0.02, 1.0), (0.1, 1.0), (1.0, 8.0)])
def test_slow_and_fast_kits_are_judged_alike(every: float, scale: float) -> None:
    t = np.arange(0, 20 * scale, every)
    dice = np.random.default_rng(9)
    assert steadiness(t, 20 + dice.normal(0, 0.1, len(t))).steady
    moving = 20 + 30 * np.exp(-t / (8 * scale)) + dice.normal(0, 0.1, len(t))
    assert not steadiness(t, moving).steady


def test_the_time_until_steady_is_foretold() -> None:
    tau, size = 3.0, 3000.0
    t = np.arange(0, 60, 0.02)
    y = size * (1 - np.exp(-t / tau)) + noise(1, t)
    called = next(now for now in np.arange(2, 60, 0.2) if steadiness(t[t < now][-1000:], y[t < now][-1000:]).steady)
    for now in (4.0, 6.0, 9.0):
        said = steadiness(t[t < now], y[t < now]).expected
        assert now + said == pytest.approx(called, abs=4.0), now


def test_nothing_is_said_of_too_little_and_of_no_value() -> None:
    assert steadiness(np.empty(0), np.empty(0)) == Steadiness()
    assert not steadiness(T[:14], RESTING["white noise"][:14]).steady
    assert steadiness(T, np.full(len(T), np.nan)).n == 0
    holes = RESTING["white noise"].copy()
    holes[::7] = np.nan
    assert steadiness(T, holes).steady


@given(
    st.lists(st.tuples(st.sampled_from([0.0, 0.0, 0.02, 0.5, 3.0]), st.floats(-1e6, 1e6) | st.just(float("nan"))), max_size=200),
    st.booleans(),
)  # fmt: skip
def test_no_readings_make_it_fail_however_they_came(readings: list[tuple[float, float]], alike: bool) -> None:
    """After a stall many come at one time; a reading may be missing, or the same again and again."""
    t = np.cumsum([step for step, _ in readings])
    raw = np.array([value if not alike else 7.0 for _, value in readings])
    found = steadiness(t, raw)
    assert not (found.steady and (t[-1] - t[0] < found.seconds or found.n < 2))
    assert found.u >= 0 or found.n == 0


def test_what_came_all_at_once_at_the_end_tells_no_drift() -> None:
    t = np.concatenate([np.arange(0, 3, 0.02), np.full(20, 3.0)])
    raw = 1000 * np.exp(-t / 0.8) + np.random.default_rng(4).normal(0, 0.01, len(t))
    found = steadiness(t, raw)
    assert not found.steady
    assert steady_line(found)[0].startswith(("settling", "still moving"))
    assert not steadiness(np.full(40, 3.0), np.arange(40.0)).steady


def test_limits_of_ones_own_go_before_those_that_are_proposed() -> None:
    drifting = MOVING["drifting"]
    assert steadiness(T, drifting, Limits(drift=100.0)).steady
    assert not steadiness(T, RESTING["white noise"], Limits(scatter=5.0)).steady
    assert not steadiness(T, RESTING["white noise"], Limits(drift=0.01)).steady
    kept = steadiness(T, drifting, Limits(drift=100.0))
    assert kept.limits.drift == 100.0
    assert kept.drift == pytest.approx(8, abs=4 * kept.u_drift)


@pytest.mark.long_proof
@pytest.mark.parametrize(("rate", "trials"), [(50.0, 150), (10.0, 120)])
def test_false_steady_on_settling_signals_is_under_1_in_100(rate: float, trials: int) -> None:
    found = settling(trials, seed=21, rate=rate, every=0.7)
    assert found.false < 0.01
    assert len(found.delay) == trials, "each is called steady in the end"
    assert np.median(found.delay) < 4.0


@pytest.mark.parametrize("by", [0.0, 0.3, 0.8])
def test_the_uncertainty_of_a_point_knows_that_neighbours_resemble_each_other(by: float) -> None:
    t = np.arange(400) * 0.02
    off = []
    for seed in range(250):
        point = take_point(HELD, "N", t, 5000 + smoothed(seed, by, t), reason="whatever it does")
        off.append((point.reading - 5000) / point.u_reading)
        assert point.independent < 400 * (1 - by) / (1 + by) * 2.5 + 5
    assert 0.45 < np.std(off) < 1.1, "what may still come counts, though here nothing does"


def test_a_point_keeps_all_that_it_was_taken_from() -> None:
    raw = np.tile([1.0, 2.0], len(T) // 2)
    point = take_point(HELD, "N", T, raw, channel="load", taken_at="now", board=21.5)
    assert (point.unit, point.channel, point.taken_at, point.board) == ("N", "load", "now", 21.5)
    assert point.reading == pytest.approx(1.5, abs=1e-3)
    assert (point.reference, point.u_reference, point.step) == (0.981, 0.003, 1.0)
    assert point.u_reading >= 1 / 12**0.5, "never better than the resolution's share"
    assert point.seconds >= LONG_ENOUGH
    assert len(point.readings.raw) == point.n == len(point.readings.t)
    assert point.readings.t[-1] == 0
    assert np.mean(point.readings.raw) == point.reading
    assert point.reason == ""


def test_before_it_is_steady_a_point_is_taken_only_with_a_reason_and_says_how_far_it_moved() -> None:
    settling_now = MOVING["settling"][:300]
    with pytest.raises(CalibrationTrouble, match="still moves"):
        take_point(HELD, "N", T[:300], settling_now)
    with pytest.raises(CalibrationTrouble, match="too little was heard"):
        take_point(HELD, "N", T[:9], settling_now[:9])
    with pytest.raises(CalibrationTrouble, match="too little was heard"):
        take_point(HELD, "N", T[:3], settling_now[:3], reason="no time")
    point = take_point(HELD, "N", T[:300], settling_now, reason=" no time ")
    assert point.reason == "no time"
    moved = abs(settling_now[-1] - settling_now[-100])
    assert point.u_reading > moved / 12**0.5 / 2
    for bad in (PlannedPoint("x", 1.0, 0.0), PlannedPoint("x", 1.0, -1.0), PlannedPoint("x", float("nan"), 1.0)):
        with pytest.raises(CalibrationTrouble, match="“x”"):
            take_point(bad, "N", T, RESTING["white noise"])


def bench(gain: float, zero: float, wrong: str = "") -> dict[str, ReferencePoint]:
    masses = {"nothing": 0.0, "100 g": 0.981, "200 g": 1.962, "300 g": 2.943}
    held = {label: (1.962 if label == wrong else value) for label, value in masses.items()}
    return {
        label: ReferencePoint(label, zero + gain * held[label], 3.0, value, 0.003, "N")
        for label, value in masses.items()
    }


@given(st.integers(0, 10**6), st.sampled_from(["", "100 g", "300 g"]))
def test_a_bench_that_disagrees_with_the_class_is_named_and_nobody_else(seed: int, wrong: str) -> None:
    dice = np.random.default_rng(seed)
    taken = {f"bench {k}": bench(1e5 * dice.normal(1, 0.01), dice.normal(8000, 3000)) for k in range(6)}
    taken["Flint"] = bench(1e5 * dice.normal(1, 0.01), 9000, wrong)
    named = {
        (each.alias, label) for label in ("nothing", "100 g", "200 g", "300 g") for each in disagreeing(taken, label)
    }
    assert named == ({("Flint", wrong)} if wrong else set())
    few = dict(list(taken.items())[-3:])
    assert disagreeing(few, "100 g") == []
    for each in disagreeing(taken, wrong or "100 g"):
        assert "Flint disagrees with the class at" in each.words


def test_a_bath_that_drifts_while_points_are_taken_is_seen_where_most_benches_moved_together() -> None:
    taken = {name: ReferencePoint("40 °C", 500.0 + k, 1.0, 40.0, 0.2, "°C") for k, name in enumerate("abcd")}
    still = {name: Reads(500.5 + k, 1.0) for k, name in enumerate("abcd")}
    moved = {name: Reads(490.0 + k, 1.0) for k, name in enumerate("abcd")}
    assert not drifted(taken, still)
    assert drifted(taken, moved)
    assert not drifted(taken, {name: each._replace(room=5.0) for name, each in moved.items()}), (
        "a steady reading may move"
    )
    assert not drifted(taken, {**still, "a": Reads(480.0, 1.0)}), "one bench that was touched is no bath"
    assert not drifted(taken, {**moved, "a": Reads(520.0, 1.0)}), "they move apart"
    assert not drifted(taken, {"a": Reads(480.0, 1.0)})
