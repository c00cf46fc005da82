"""Laws that every calibration obeys, whatever its curve: order, scale, repetition, equation, and agreement of methods."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.curves import CURVES, Curve, horner, natural, row_of
from common_bench.calibrate.fitting import calibrate
from common_bench.calibrate.judging import check_number, check_state
from common_bench.calibrate.steady import Limits, steadiness
from common_bench.fits.curve_fit import Model, fit_curve
from common_bench.fits.straight_line import straight_line
from common_bench.model.calibration import CurveChoice, Frame, ReferencePoint, curve_key
from simulated import TRUTHS, Truth, points_of

BY_KIND = [truth for truth in TRUTHS if not truth.steps]
OWN_SCALE = (
    "offset only",
    "thermistor, three parameters",
)  # the one takes the reading as it is, the other has no (ln R)²
SEEDS = st.integers(0, 10**6)


def made(truth: Truth, points: list[ReferencePoint], kind: str = "") -> Applied:
    return Applied(calibrate("c", "q", truth.unit, CurveChoice(kind or truth.kind, truth.steps), points))


def places(truth: Truth) -> np.ndarray:
    """Readings inside the points and a little beyond both ends."""
    width = float(np.ptp(truth.at))
    return np.linspace(truth.at.min() - 0.02 * width, truth.at.max() + 0.1 * width, 31)


@settings(max_examples=20)
@given(SEEDS, st.randoms())
@pytest.mark.parametrize("truth", TRUTHS, ids=lambda t: t.kind + (" after steps" if t.steps else ""))
def test_the_order_in_which_points_were_taken_does_not_matter(truth: Truth, seed: int, random: object) -> None:
    points = points_of(truth, np.random.default_rng(seed))
    shuffled = list(points)
    random.shuffle(shuffled)  # type: ignore[attr-defined]
    one, other = made(truth, points), made(truth, shuffled)
    at = places(truth)
    np.testing.assert_allclose(
        other.value(at), one.value(at), rtol=1e-7, atol=1e-6 * float(np.ptp(one.value(truth.at)))
    )
    np.testing.assert_allclose(other.u(at), one.u(at), rtol=1e-4)


@settings(max_examples=20)
@given(SEEDS, st.floats(1e-4, 1e4))
@pytest.mark.parametrize("truth", [t for t in BY_KIND if t.kind not in OWN_SCALE], ids=lambda t: t.kind)
def test_readings_in_another_unit_give_the_same_values_and_uncertainties(
    truth: Truth, seed: int, factor: float
) -> None:
    points = points_of(truth, np.random.default_rng(seed))
    scaled = [
        msgspec.structs.replace(
            p, reading=p.reading * factor, u_reading=p.u_reading * factor, scatter=p.scatter * factor
        )
        for p in points
    ]
    here, there = made(truth, points), made(truth, scaled)
    at = places(truth)
    np.testing.assert_allclose(there.value(at * factor), here.value(at), rtol=1e-6, atol=1e-7)
    one, other = here.series(np.zeros(31), at), there.series(np.zeros(31), at * factor)
    np.testing.assert_allclose(other.u, one.u, rtol=2e-3)
    np.testing.assert_array_equal(other.guess, one.guess)


@settings(max_examples=20)
@given(SEEDS)
@pytest.mark.parametrize("truth", BY_KIND[:-1], ids=lambda t: t.kind)
def test_each_point_taken_twice_is_each_point_with_less_uncertainty(truth: Truth, seed: int) -> None:
    points = points_of(truth, np.random.default_rng(seed))
    twice = made(truth, points + points)
    finer = made(truth, [
        msgspec.structs.replace(p, u_reading=p.u_reading / 2**0.5, u_reference=p.u_reference / 2**0.5) for p in points
    ])  # fmt: skip
    assume(min(each.calibration.chi_square for each in (twice, finer)) < 3)  # neither is grown for its scatter
    at = truth.at
    np.testing.assert_allclose(twice.value(at), finer.value(at), rtol=1e-6, atol=1e-7)
    np.testing.assert_allclose(twice.u(at), finer.u(at), rtol=2e-3)


def equation(kind: str, p: list[float], x: np.ndarray) -> np.ndarray:
    """The equation as it stands in the table of curves and in the docs, written out once more."""
    logs = np.log(x)
    return {
        "offset only": lambda: x + p[0],
        "proportion": lambda: p[0] * x,
        "straight line": lambda: p[0] + p[1] * x,
        "polynomial of degree 2": lambda: p[0] + p[1] * x + p[2] * x**2,
        "polynomial of degree 3": lambda: p[0] + p[1] * x + p[2] * x**2 + p[3] * x**3,
        "power": lambda: p[0] * x ** p[1],
        "logarithmic": lambda: p[0] + p[1] * logs,
        "exponential": lambda: p[0] * np.exp(p[1] * x),
        "thermistor, three parameters": lambda: 1 / (p[0] + p[1] * logs + p[2] * logs**3) - 273.15,
        "thermistor, two parameters": lambda: 1 / (1 / 298.15 + np.log(x / p[0]) / p[1]) - 273.15,
    }[kind]()


@settings(max_examples=20)
@given(SEEDS)
@pytest.mark.parametrize("truth", BY_KIND[:-1], ids=lambda t: t.kind)
def test_the_parameters_that_are_shown_give_the_values_by_the_equation_that_is_shown(truth: Truth, seed: int) -> None:
    ready = made(truth, points_of(truth, np.random.default_rng(seed)))
    shown, covariance = ready.natural()
    at = places(truth)
    np.testing.assert_allclose(equation(truth.kind, shown.tolist(), at), ready.value(at), rtol=1e-7, atol=1e-6)
    # The covariance that is shown is that of the values: J C Jᵀ with derivatives taken from the equation.
    middle = np.array([float(np.mean(truth.at))])
    gradient = []
    for k, value in enumerate(shown):
        step = abs(value) * 1e-5 or 1e-9
        ends = [[*shown[:k], value + sign * step, *shown[k + 1 :]] for sign in (1, -1)]
        up, down = (float(equation(truth.kind, each, middle)[0]) for each in ends)
        gradient.append((up - down) / (2 * step))
    u = math.sqrt(max(0.0, float(np.array(gradient) @ covariance @ np.array(gradient))))
    assert u == pytest.approx(float(ready.u(middle)[0]), rel=2e-2)


@given(SEEDS, st.integers(3, 12))
def test_the_line_of_york_and_the_orthogonal_distances_are_one(seed: int, n: int) -> None:
    dice = np.random.default_rng(seed)
    x, u_x, u_y = np.sort(dice.uniform(-5, 5, n)), dice.uniform(0.05, 0.3, n), dice.uniform(0.05, 0.3, n)
    assume(np.diff(x).min() > 0.05)
    y = 1.5 - 0.7 * x + dice.normal(0, u_y) + 0.7 * dice.normal(0, u_x)
    line = straight_line(x, y, u_x, u_y)
    model = Model(
        lambda p, at: p[0] + p[1] * at,
        lambda p, at: np.array([np.ones_like(at), at]),
        lambda p, at: np.full_like(at, p[1]),
    )
    fit = fit_curve(model, x, y, u_x, u_y, np.array([1.0, -1.0]))
    assert fit.parameters.tolist() == pytest.approx([line.intercept, line.slope], rel=1e-6, abs=1e-7)
    assert fit.chi_square == pytest.approx(line.chi_square, rel=1e-6, abs=1e-9)
    # Their covariances differ by what the residuals bend the weights, which is little where the points fit.
    np.testing.assert_allclose(np.diag(fit.covariance), np.diag(line.covariance), rtol=0.35)


@given(st.lists(st.floats(-3, 3), min_size=2, max_size=4), st.floats(-1e3, 1e3), st.floats(0.1, 1e3))
def test_a_polynomial_counted_from_elsewhere_is_the_same_polynomial(
    p: list[float], origin: float, scale: float
) -> None:
    powers = tuple(range(len(p)))
    kind = {2: "straight line", 3: "polynomial of degree 2", 4: "polynomial of degree 3"}[len(p)]
    curve: Curve = CURVES[curve_key(kind)]
    frame = Frame(origin, scale)
    shown, _ = natural(curve, np.array(p), np.eye(len(p)), frame)
    at = origin + scale * np.linspace(-1, 1, 7)
    size = 1 + sum(abs(c) * max(1, abs(at).max()) ** k for k, c in enumerate(shown))
    np.testing.assert_allclose(
        horner(row_of(shown, powers, (0.0,)), at), curve.value(np.array(p), at, frame), atol=1e-12 * size
    )


@given(SEEDS, st.floats(0, 5))
def test_the_check_number_grows_with_the_difference_and_knows_no_sign(seed: int, off: float) -> None:
    truth = BY_KIND[2]
    ready = made(truth, points_of(truth, np.random.default_rng(seed)))
    reading = 2.5e5
    value = float(ready.value(np.array([reading]))[0])
    up, down = (ReferencePoint("check", reading, 30.0, value + sign * off, 0.003, "N", check=True) for sign in (1, -1))
    assert check_number(ready, up) == pytest.approx(check_number(ready, down), abs=1e-9)
    expected = off / (2 * math.hypot(float(ready.u(np.array([reading]))[0]), ready.u_point(up)))
    assert check_number(ready, up) == pytest.approx(expected, abs=1e-9)
    assert check_state(ready, up) == ("good" if expected <= 1 else "doubtful" if expected <= 2 else "bad")


T = np.arange(0, 14, 0.02)


@given(
    SEEDS, st.floats(1e-3, 1e5), st.floats(-1e6, 1e6), st.floats(0, 1e6), st.sampled_from(["rest", "settles", "swings"])
)
def test_steadiness_knows_no_unit_no_zero_no_sign_and_no_hour(
    seed: int, factor: float, zero: float, hour: float, what: str
) -> None:
    dice = np.random.default_rng(seed)
    moves = {"rest": 0 * T, "settles": 300 * np.exp(-T / 4), "swings": 200 * np.sin(5 * T)}[what]
    raw = moves + dice.normal(0, 1, len(T))
    one = steadiness(T, raw)
    other = steadiness(T + hour, zero - factor * raw)
    assume(abs(zero) < 1e5 * factor)  # beyond that the rounding of floating numbers is noise of its own
    # Another hour rounds times differently, so that a stretch may be longer or shorter by a reading or a bin.
    assert other.steady == one.steady
    assert other.seconds == pytest.approx(one.seconds, abs=0.3)
    assert other.scatter == pytest.approx(factor * one.scatter, rel=0.05)
    assert other.drift == pytest.approx(-factor * one.drift, abs=factor * (one.u_drift + 0.05 * abs(one.drift)))
    assert other.u == pytest.approx(factor * one.u, rel=0.3, abs=1e-9)
    own = one.limits
    assert own.drift is not None
    assert steadiness(T, raw, Limits(own.drift, own.scatter)).steady == one.steady or what != "rest"


@given(SEEDS)
def test_a_wider_limit_of_drift_never_makes_a_steady_reading_unsteady(seed: int) -> None:
    dice = np.random.default_rng(seed)
    raw = float(dice.uniform(0, 40)) * np.exp(-T / float(dice.uniform(1, 8))) + dice.normal(0, 1, len(T))
    called = [steadiness(T, raw, Limits(drift, 1000.0)).steady for drift in (0.05, 0.2, 0.8, 3.0, 12.0)]
    assert called == sorted(called)
