"""The table of curves: certified values, coverage, guesses, chains, formulas, what is refused and in which words."""

from __future__ import annotations

import time

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.curves import CURVES, KINDS, find_curve
from common_bench.calibrate.fitting import alike, calibrate
from common_bench.calibrate.judging import check_state, fit_words, parameter_words, sentence, worth
from common_bench.fits.curve_fit import chance
from common_bench.model.calibration import CurveChoice, ReferencePoint, curve_key
from common_bench.model.trouble import CalibrationTrouble, Trouble, UnitTrouble
from simulated import COUNTS_TO_OHMS, TRUTHS, Truth, coverage, points_of

NORRIS = """0.1 0.2 338.8 337.4 118.1 118.2 888.0 884.6 9.2 10.1 228.1 226.5 668.5 666.3 998.5 996.3 449.1 448.6 778.9 777.0
559.2 558.2 0.3 0.4 0.1 0.6 778.1 775.5 668.8 666.9 339.3 338.0 448.9 447.5 10.8 11.6 557.7 556.0 228.3 228.1 998.0 995.8
888.8 887.6 119.6 120.2 0.3 0.3 0.6 0.3 557.6 556.8 339.3 339.1 888.0 887.2 998.5 999.0 778.9 779.0 10.2 11.1 117.6 118.3
228.9 229.2 668.4 669.1 449.2 448.9 0.2 0.5"""
PONTIUS = """.11019 .21956 .32949 .43899 .54803 .65694 .76562 .87487 .98292 1.09146 1.20001 1.30822 1.41599 1.52399 1.63194
1.73947 1.84646 1.95392 2.06128 2.16844 .11052 .22018 .32939 .43886 .54798 .65739 .76596 .87474 .98300 1.09150 1.20004
1.30818 1.41613 1.52408 1.63159 1.73965 1.84696 1.95445 2.06177 2.16829"""
DANWOOD = "2.138 1.309 3.421 1.471 3.597 1.490 4.340 1.565 4.882 1.611 5.660 1.680"


def pairs(text: str) -> np.ndarray:
    return np.array(text.split(), float).reshape(-1, 2)


def points(y: object, x: object, u_y: float = 0.0, u_x: float = 0.0, unit: str = "") -> list[ReferencePoint]:
    return [
        ReferencePoint(f"p{k}", float(a), u_x, float(b), u_y, unit) for k, (b, a) in enumerate(zip(y, x, strict=True))
    ]


def ready(kind: str, taken: list[ReferencePoint], unit: str = "", **more: object) -> Applied:
    return Applied(calibrate("c", "q", unit, CurveChoice(kind, **more), taken))


# NIST StRD (Statistical Reference Datasets): data, certified parameters and standard deviations.
CERTIFIED = [
    ("Norris", "straight line", pairs(NORRIS), [-0.262323073774029, 1.00211681802045], [0.232818234301152, 0.429796848199937e-3]),
    ("NoInt1", "proportion", np.array([(130 + k, 60 + k) for k in range(11)]), [2.07438016528926], [0.165289256198347e-1]),
    ("NoInt2", "proportion", np.array([(3, 4), (4, 5), (4, 6)]), [0.727272727272727], [0.420827318078432e-1]),
    ("Pontius", "polynomial of degree 2", np.array(list(zip(map(float, PONTIUS.split()), [150_000.0 * k for k in range(1, 21)] * 2, strict=True))),
     [0.673565789473684e-3, 0.732059160401003e-6, -0.316081871345029e-14], [0.107938612033077e-3, 0.157817399981659e-9, 0.486652849992036e-16]),
    ("DanWood", "power", pairs(DANWOOD), [0.76886226176, 3.8604055871], [0.018281973860, 0.051726610913]),
]  # fmt: skip


@pytest.mark.parametrize(("name", "kind", "data", "values", "deviations"), CERTIFIED, ids=[c[0] for c in CERTIFIED])
def test_certified_values_are_met_to_eight_digits(
    name: str, kind: str, data: np.ndarray, values: list[float], deviations: list[float]
) -> None:
    found, covariance = ready(kind, points(data[:, 0], data[:, 1])).natural()
    assert found.tolist() == pytest.approx(values, rel=1e-8)
    assert np.sqrt(np.diag(covariance)).tolist() == pytest.approx(deviations, rel=1e-7)


def test_pearsons_data_with_yorks_weights_come_out_through_the_calibration_too() -> None:
    from test_calibrate import WX, WY, X, Y

    taken = [ReferencePoint(f"{x}", x, wx**-0.5, y, wy**-0.5, "") for x, y, wx, wy in zip(X, Y, WX, WY, strict=True)]
    found, _ = ready("straight line", taken).natural()
    assert found.tolist() == pytest.approx([5.47991022, -0.48053341], abs=5e-8)


QUICK = ("offset only", "straight line", "logarithmic", "thermistor, two parameters")


@pytest.mark.parametrize(
    "truth",
    # Of tables `test_trust.py` tries five; those that take longest are proved by `make fuzz`, and larger by `make bench`.
    [
        pytest.param(each, marks=[pytest.mark.long_proof] * (each.kind not in QUICK))
        for each in TRUTHS
        if each.kind != "monotone table"
    ],
    ids=lambda t: t.kind + (" after steps" if t.steps else ""),
)
def test_the_95_percent_interval_of_a_value_holds_the_truth_in_94_to_96_of_100(truth: Truth) -> None:
    # 1000 trials have a standard deviation of 0.7 of 100; `make bench` does it at larger size.
    share = coverage(truth, 1000, seed=5)
    if not 0.94 <= share <= 0.96:  # so near to a bound that more are needed to tell
        share = (share * 1000 + coverage(truth, 2000, seed=6) * 2000) / 3000
    assert 0.94 <= share <= 0.96


@pytest.mark.parametrize("truth", TRUTHS, ids=lambda t: t.kind + (" after steps" if t.steps else ""))
def test_a_refit_on_each_new_point_is_quick_and_blocks_give_the_same_bits_for_every_cut(truth: Truth) -> None:
    dice = np.random.default_rng(3)
    taken = points_of(truth, dice)
    began = time.perf_counter()
    made = Applied(calibrate("c", "q", truth.unit, CurveChoice(truth.kind, truth.steps), taken))
    assert time.perf_counter() - began < 1.0, "the real limit, 20 ms, is looked at by make bench"
    width = float(np.ptp(truth.at))
    raw = dice.uniform(truth.at.min() - 0.05 * width, truth.at.max() + 0.2 * width, 999)
    raw[::50] = np.nan
    whole = made.series(np.arange(999.0), raw)
    for low, high in ((0, 1), (1, 8), (8, 500), (500, 999)):
        piece = made.series(np.arange(999.0)[low:high], raw[low:high])
        np.testing.assert_array_equal(piece.values, whole.values[low:high])
        for source, share in piece.parts.items():
            np.testing.assert_array_equal(share, whole.parts[source][low:high])
    assert np.isnan(whole.values[::50]).all()
    assert whole.guess is not None
    outside = raw > truth.at.max() + 4 * truth.noise
    assert whole.guess[outside].all()
    assert not whole.guess[(raw > truth.at.min()) & (raw < truth.at.max() - 4 * truth.noise)].any()
    assert not whole.guess[::50].any()


@pytest.mark.parametrize("truth", TRUTHS, ids=lambda t: t.kind + (" after steps" if t.steps else ""))
def test_uncertainty_grows_outside_the_points_and_common_shares_are_told_apart(truth: Truth) -> None:
    made = ready(truth.kind, points_of(truth, np.random.default_rng(5)), truth.unit, steps=truth.steps)
    low, high = truth.at.min(), truth.at.max()
    at = low + np.array([0.9, 1.15, 1.3]) * (high - low)
    series = made.series(np.zeros(3), at)
    beyond = next(share for source, share in series.parts.items() if source.name.startswith("outside"))
    assert beyond[0] == 0 < beyond[1] < beyond[2]
    common = np.sqrt(sum(share**2 for source, share in series.parts.items() if source.common))
    assert np.all(common <= series.u)
    np.testing.assert_allclose(made.u(at), common)
    slope = (truth.value(at + truth.noise) - truth.value(at - truth.noise)) / (2 * truth.noise)
    independent = np.sqrt(sum(share**2 for source, share in series.parts.items() if not source.common))
    np.testing.assert_allclose(independent[:1], abs(slope[:1]) * truth.noise, rtol=0.25)


@given(st.integers(0, 10**6), st.floats(-1e7, 1e7), st.floats(10.0, 1e5))
def test_a_sensor_far_from_zero_loses_no_digits(seed: int, far: float, width: float) -> None:
    dice = np.random.default_rng(seed)
    x = far + np.linspace(-width, width, 7)
    z = np.linspace(-1, 1, 7)
    y = 2 + z + 0.2 * z**2 + 0.05 * z**3 + dice.normal(0, 0.01, 7)
    here = ready("cubic", points(y, z, 0.01, 0.002))
    there = ready("cubic", points(y, x, 0.01, 0.002 * width))
    at = np.linspace(-1.2, 1.2, 9)
    np.testing.assert_allclose(there.value(far + width * at), here.value(at), rtol=1e-7)
    np.testing.assert_allclose(there.u(far + width * at), here.u(at), rtol=1e-4)


def test_a_chain_tells_the_share_of_each_step_and_the_points_take_most_of_a_constant_up() -> None:
    truth = next(t for t in TRUTHS if t.steps)
    vague = tuple(step.replace("3.30 V / 4095", "3.30 ± 0.05 V / 4095").replace("10000 ohm", "10000 ± 300 ohm") for step in COUNTS_TO_OHMS)  # fmt: skip
    taken = points_of(truth, np.random.default_rng(1))
    made = ready(truth.kind, taken, "°C", steps=vague)
    series = made.series(np.zeros(2), np.array([1500.0, 2500.0]))
    shares = {source.name: share for source, share in series.parts.items()}
    assert {"3.30 ± 0.05 V in voltage", "10000 ± 300 ohm in resistance"} <= set(shares)
    # A wrong resistor moves points and readings alike: the curve takes it up all but wholly.
    assert np.all(np.abs(shares["10000 ± 300 ohm in resistance"]) < 0.02)
    by_hand = ready("formula", [], "°C", steps=vague, formula="t = (1 / (1/298.15 K + ln(resistance / 10000 ohm) / 3950 K)) as °C", u=0.3)  # fmt: skip
    alone = by_hand.series(np.zeros(1), np.array([2500.0]))
    named = {source.name: float(share[0]) for source, share in alone.parts.items()}
    assert abs(named["10000 ± 300 ohm in resistance"]) > 0.5, "without points nothing takes it up"
    assert named["formula of c"] == 0.3
    assert "; where voltage = reading × 3.30 ± 0.05 V" in sentence(by_hand)


def test_the_uncertainty_that_a_chain_states_for_its_constants_is_what_other_constants_would_give() -> None:
    truth = next(t for t in TRUTHS if t.steps)
    taken = points_of(truth, np.random.default_rng(2))
    vague = (COUNTS_TO_OHMS[0], COUNTS_TO_OHMS[1].replace("(3.30 V", "(3.30 ± 0.005 V"))
    at = np.array([1000.0, 2000.0, 3000.0])
    made = ready(truth.kind, taken, "°C", steps=vague)
    share = next(s for source, s in made.series(np.zeros(3), at).parts.items() if "0.005 V" in source.name)
    other = (COUNTS_TO_OHMS[0], COUNTS_TO_OHMS[1].replace("(3.30 V", "(3.305 V"))
    moved = ready(truth.kind, taken, "°C", steps=other).value(at) - made.value(at)
    np.testing.assert_allclose(share, moved, rtol=0.1, atol=0.002)


def test_resolution_is_common_where_there_is_no_noise_to_spread_it() -> None:
    def shares(noise: float) -> dict[str, bool]:
        taken = [ReferencePoint("a", 10, 0.3, 1.0, 0.01, "V", scatter=noise, step=1.0), ReferencePoint("b", 90, 0.3, 9.0, 0.01, "V", scatter=noise, step=1.0)]  # fmt: skip
        parts = ready("straight line", taken, "V").series(np.zeros(1), np.array([50.0])).parts
        return {source.name: source.common for source in parts}

    assert shares(0.1)["resolution of c"]
    assert "resolution of c" not in shares(2.0)
    assert shares(2.0)["noise of c"] is False


def test_offset_only_knows_the_unit_in_which_the_reading_comes() -> None:
    made = Applied(calibrate("c", "u", "V", CurveChoice("offset", raw_unit="mV"), points([1.01], [1000.0], 0.001, 0.2, "V")))  # fmt: skip
    assert made.value(np.array([2000.0]))[0] == pytest.approx(2.01)
    assert sentence(made) == "u = reading + 10 mV"


SAYS = {
    "offset only": "q = reading + ", "proportion": "µN × reading", "straight line": "µN × (reading − ", "polynomial of degree 2": "× reading²",
    "polynomial of degree 3": "× reading³", "power": "× reading^−0.", "logarithmic": "× ln(reading)", "exponential": "× e^(0.00",
    "thermistor, three parameters": "T − 273.15 K in °C, 1/T = (0.00", "thermistor, two parameters": "1/T = 1/298.15 K + ln(reading / ",
    "monotone table": "monotone table through 6 points",
}  # fmt: skip


@pytest.mark.parametrize("truth", [t for t in TRUTHS if not t.steps], ids=lambda t: t.kind)
def test_each_curve_says_itself_in_words_and_gives_its_parameters_with_units(truth: Truth) -> None:
    made = ready(truth.kind, points_of(truth, np.random.default_rng(8)), truth.unit)
    assert SAYS[truth.kind] in sentence(made)
    assert "guess outside" in worth(made) or truth.kind == "offset only"
    words = parameter_words(made)
    assert len(words) == len(CURVES[curve_key(truth.kind)].parameters)
    assert all("±" in each for each in words)


def test_the_table_of_curves_is_whole_and_names_are_found_as_people_write_them() -> None:
    assert len(KINDS) == 13
    for key, curve in CURVES.items():
        assert curve.least >= 1
        assert len(curve.parameters) == len(curve.units)
        assert find_curve(curve.name.upper().replace(" ", "-")) == key
        assert all(find_curve(other) == key for other in curve.also)
    with pytest.raises(CalibrationTrouble, match="no curve called “spiral”"):
        find_curve("spiral")


def test_whether_the_curve_fits_is_said_with_the_point_to_look_at() -> None:
    x = np.array([0.0, 1, 2, 3, 4, 5])
    good = 2 * x + np.array([0.01, -0.012, 0.004, 0.008, -0.01, 0.006])
    assert "The curve fits" in fit_words(ready("line", points(good, x, 0.01)))
    wrong = good + np.array([0, 0, 0, 0.2, 0, 0])
    off = ready("line", points(wrong, x, 0.01))
    assert "most of all “p3”" in fit_words(off)
    assert off.natural()[1][1, 1] > 20 * ready("line", points(good, x, 0.01)).natural()[1][1, 1]
    assert "closer to the curve" in fit_words(ready("line", points(good, x, 1.0)))
    assert "because it must; one more point would test it" in fit_words(ready("line", points(good[:2], x[:2], 0.01)))
    checked = [*points(good[:2], x[:2], 0.01), msgspec.structs.replace(points(good[2:3], x[2:3], 0.01)[0], check=True)]
    assert "the check point tests it" in fit_words(ready("line", checked))
    assert "No uncertainties" in fit_words(ready("line", points(good, x)))
    assert chance(1.0, 0) == 1.0
    check = ReferencePoint("c", 2.5, 0.0, 5.0, 0.01, "", check=True)
    assert check_state(off, check) in ("good", "doubtful")


REFUSED = [
    ("line", [(0, 1)], 0.1, "needs 2 points, 1 taken so far"),
    ("cubic", [(0, 1), (1, 2), (2, 3)], 0.1, "needs 4 points, 3 taken"),
    ("line", [(0, 5), (1, 5)], 0.1, "“p0” and “p1” gave the same reading"),
    ("quadratic", [(0, 1), (1, 2), (1.5, 2)], 0.1, "gave the same reading"),
    ("logarithmic", [(1, 0), (2, 10)], 0.1, "needs a reading above zero; “p0” reads"),
    ("power", [(0, 1), (2, 10)], 0.1, "needs references above zero, or all below"),
    ("exponential", [(-1, 1), (2, 10), (3, 20)], 0.1, "needs references above zero"),
    ("quadratic", [(0, 0), (1, 1), (0.1, 2)], 0.01, "turns round at reading"),
    ("table", [(0, 0), (1, 1), (0.5, 2)], 0.01, "at “p2” it turns round"),
    ("table", [(0, 0), (1, 1), (2, 1)], 0.01, "gave the same reading"),
    ("line", [(1, 0), (1, 1)], 0.01, "the reference does not"),
    ("line", [(1, 0), (float("nan"), 1)], 0.01, "“p1” has no value"),
    ("line", [(1, 0), (2, 1)], -0.01, "below zero"),
    ("formula", [], 0.1, "the formula is missing"),
]


@pytest.mark.parametrize(("kind", "taken", "u", "words"), REFUSED)
def test_points_that_make_no_curve_are_refused_in_words(kind: str, taken: list, u: float, words: str) -> None:
    with pytest.raises(CalibrationTrouble, match=words) as refused:
        ready(kind, points([y for y, _ in taken], [x for _, x in taken], u))
    assert refused.value.do


def test_other_bad_input_is_told_in_words() -> None:
    with pytest.raises(CalibrationTrouble, match="uncertainty of zero or below"):
        ready("line", [*points([1, 2], [1, 2], 0.1), ReferencePoint("zero", 3, 0.1, 3, 0.0, "")])
    with pytest.raises(CalibrationTrouble, match="shows a temperature, not N"):
        ready("thermistor", points([1, 2], [1, 2], 0.1), "N")
    with pytest.raises(CalibrationTrouble, match="“a” was taken on the channel “other”"):
        ready("line", [ReferencePoint("a", 1, 0.1, 1, 0.1, "", channel="other"), *points([2], [2], 0.1)])
    with pytest.raises(Trouble, match="nothing is called “readin”"):
        ready("formula", [], "V", formula="v = readin * 1 V", u=0.1)
    with pytest.raises(Trouble, match="gives V, not °C"):
        ready("formula", [], "°C", formula="v = reading * 1 V", u=0.1)
    with pytest.raises(CalibrationTrouble, match="uncertainty is not stated"):
        ready("formula", [], "V", formula="v = reading * 1 V")
    with pytest.raises(UnitTrouble):
        ready("thermistor", points([1, 2], [1, 2], 0.1), "blorb")  # fmt: skip
    one = ReferencePoint("a", 100.0, 1.0, 1.0, 0.1, "N")
    assert alike(one, ReferencePoint("b", 101.0, 1.0, 2.0, 0.1, "N"))
    assert not alike(one, ReferencePoint("b", 110.0, 1.0, 2.0, 0.1, "N"))
    assert not alike(one, ReferencePoint("b", 100.0, 1.0, 1.0, 0.1, "N"))


def test_what_lies_beyond_all_numbers_is_unknown_and_said_with_a_dash() -> None:
    sensitivity = ready("exponential", points([1.0, 2.0, 4.0], [100.0, 101.0, 102.0], 0.01, 0.001), "V")
    series = sensitivity.series(np.zeros(3), np.array([101.5, 1e5, -1e5]))
    assert np.isfinite(series.values[0])
    assert np.isnan(series.values[1]), "not infinite"
    assert series.values[2] == pytest.approx(0.0)
    assert np.isnan(sensitivity.value(np.array([1e6]))[0])
    far = ready("exponential", points([1.0, 2.0, 4.0], [1e6, 1e6 + 1, 1e6 + 2], 0.01, 0.001), "V")
    assert sentence(far).startswith("q = 0 V × e^(0.6931")
    falling = ready("exponential", points([4.0, 2.0, 1.0], [1e6, 1e6 + 1, 1e6 + 2], 0.01, 0.001), "V")
    assert sentence(falling).startswith("q = — V × e^(−0.6931")
    assert len(parameter_words(falling)) < 2
