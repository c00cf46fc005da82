"""Workings: read, checked while typed, evaluated the same live and afterwards."""

from __future__ import annotations

import contextlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.model.block import Block, Events, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.plan_file import shipped_plan
from common_bench.model.trouble import FindingTrouble, WorkingTrouble
from common_bench.standins.pendulum import GRAVITY, Pendulum
from common_bench.workings.evaluate import Evaluator, Workings, check, gathered
from common_bench.workings.over import number_from, over_span
from common_bench.workings.peaks import CLOCK_RATE
from common_bench.workings.reading import DEEPEST, LONGEST_WORKING, read_working
from common_bench.workup.findings import findings_of

CHANNELS = {"load": "N", "temp": "°C"}
PLAN = shipped_plan("swinging-bottles").in_use
NOISE = Source("noise of single readings", False)
SCALE = Source("calibration of load", True)


def swinging(
    seconds: float = 20.0, length: float = 0.9, angle: float = 0.2, noise: float = 3e-4, seed: int = 1
) -> tuple[np.ndarray, np.ndarray]:
    dice = np.random.default_rng(seed)
    bottle = Pendulum(length, 0.22, 1 / 50, angle)
    t = np.arange(0, seconds, 0.02)
    tension = []
    for _ in t:
        tension.append(bottle.tension)
        bottle.step(0.01)
        bottle.step(0.01)
    return t, np.array(tension) + dice.normal(0, noise, len(t))


def block_of(t: np.ndarray, gaps: list[int] | None = None, clock_u: float = 1e-5) -> Block:
    gap_before = np.zeros(len(t), bool)
    gap_before[gaps or []] = True
    return Block(t, t, t, np.arange(len(t)), gap_before, {}, np.full(len(t), clock_u), 1e-3)


def evaluated(
    lines: tuple[str, ...] | list[str],
    t: np.ndarray,
    values: np.ndarray,
    cuts: list[int] | None = None,
    gaps: list[int] | None = None,
) -> tuple[Workings, dict]:
    workings = check(lines, CHANNELS)
    assert not workings.troubles, workings.troubles[0]
    evaluator = Evaluator(workings)
    block = block_of(t, gaps)
    load = Series(t, values, "N", {NOISE: np.full(len(t), 3e-4), SCALE: 1e-3 * values})
    borders = sorted({0, len(t), *(c for c in cuts or [] if 0 < c < len(t))})
    pieces = []
    for low, high in zip(borders, borders[1:], strict=False):
        parts = {source: share[low:high] for source, share in load.parts.items()}
        pieces.append(
            evaluator.push(block.part(low, high), {"load": Series(t[low:high], values[low:high], "N", parts)})
        )
    return workings, gathered(pieces)


@pytest.mark.parametrize("length", [0.5, 0.9, 1.3])
def test_the_period_of_a_real_pendulum_is_found_within_its_uncertainty(length: float) -> None:
    angle = 0.2
    t, values = swinging(20.0, length, angle)
    workings, results = evaluated(PLAN, t, values)
    (finding,) = findings_of(workings, results, (0.0, 20.0), ["period"])
    # Series for finite amplitude, with the amplitude falling as e^(-t/50 s) (Landau and Lifshitz, Mechanics, § 11).
    mean_square = angle**2 * np.mean(np.exp(-2 * t / 50))
    expected = 2 * np.pi * np.sqrt(length / GRAVITY) * (1 + mean_square / 16)
    assert abs(finding.measured.value - expected) < 3 * finding.measured.u + 2e-4
    assert finding.measured.u < 0.01
    assert finding.n == len(results["swing"])
    assert [share.name for share in finding.made_of] == ["scatter of the mean", "kit's clock"]
    assert sum(share.u**2 for share in finding.made_of) == pytest.approx(finding.measured.u**2, rel=1e-4)


@given(st.floats(1e-4, 1e-2), st.floats(0.0, 40.0))
def test_a_clock_that_is_not_well_known_moves_every_time_between_two_events(u: float, begins: float) -> None:
    """However late the first of them came, and whichever of the two is looked at first."""
    t = begins + np.arange(0, 8, 0.02)
    level = np.where(((t - begins) % 2 > 0.5) & ((t - begins) % 2 < 0.9), 1.0, 0.0)
    workings = check(
        ["there = rises of calibrated load through 0.5 N", "back = falls of calibrated load through 0.5 N",
         "dark = time between there and back", "pause = gap between there", "pace_of = pace of there"],
        CHANNELS,
    )  # fmt: skip
    assert not workings.troubles, workings.troubles[0]
    found = Evaluator(workings).push(block_of(t, clock_u=u), {"load": Series(t, level, "N")})
    for name in ("dark", "pause"):
        series = found[name]
        assert isinstance(series, Series)
        assert len(series) > 2
        assert series.parts[CLOCK_RATE] == pytest.approx(u * series.values, rel=1e-9)


def test_a_gap_makes_no_false_swing_and_what_it_hides_stays_unknown() -> None:
    t, values = swinging(16.0)
    keep = (t < 6) | (t > 8.5)
    _, results = evaluated(PLAN, t[keep], values[keep], gaps=[int(np.count_nonzero(t < 6))])
    assert results["swing"].values.max() < 2.1
    passes = results["pass"]
    assert isinstance(passes, Events)
    assert passes.fresh.sum() == 2
    _, whole = evaluated(PLAN, t, values)
    assert len(results["swing"]) < len(whole["swing"]) - 2


def test_a_missing_value_gives_an_unknown_result_never_zero() -> None:
    t = np.arange(0, 2, 0.02)
    values = np.sin(t) + 2
    values[10:20] = np.nan
    _, results = evaluated(["x = calibrated load", "y = 2 * x + 1 N", "z = 1 / (x - x) * 1 N^2"], t, values)
    assert np.isnan(results["y"].values[10:20]).all()
    assert np.isfinite(results["y"].values[:10]).all()
    assert np.isnan(results["z"].values).all()


def test_uncertainty_goes_first_order_and_knows_a_quantity_from_itself() -> None:
    t = np.arange(0, 1, 0.02)
    values = np.linspace(1, 3, len(t))
    _, results = evaluated(
        ["x = calibrated load", "zero = x - x", "twice = x + x", "square = x * x", "power = x ^ 2", "ratio = x / x", "k = x * (2 ± 0.1)"],
        t, values,
    )  # fmt: skip
    u = results["x"].u
    assert results["zero"].values.tolist() == [0.0] * len(t)
    assert results["zero"].u.tolist() == [0.0] * len(t)
    np.testing.assert_allclose(results["twice"].u, 2 * u)
    np.testing.assert_allclose(results["square"].u, 2 * values * u)
    np.testing.assert_allclose(results["power"].u, results["square"].u)
    np.testing.assert_allclose(results["ratio"].u, 0, atol=1e-12)
    np.testing.assert_allclose(results["k"].u, np.hypot(2 * u, 0.1 * values))


def test_a_mean_shrinks_what_is_independent_and_keeps_what_is_common() -> None:
    t = np.arange(0, 8, 0.02)
    workings, results = evaluated(
        ["x = calibrated load", "m = mean of x", "s = scatter of x", "n = largest of x", "half = m / 2"],
        t,
        np.full(400, 2.0),
    )  # nothing scatters, so that what is stated of single readings is all that is known
    numbers = over_span(workings, results, (0.0, 8.0))
    assert numbers["m"].parts[SCALE] == pytest.approx(2e-3)
    (noise,) = [share for source, share in numbers["m"].parts.items() if source.name == NOISE.name]
    assert noise == pytest.approx(3e-4 / 20)
    assert numbers["half"].value == 1.0
    assert numbers["half"].u == pytest.approx(numbers["m"].u / 2)
    assert numbers["s"].value == 0.0
    assert numbers["n"].u == pytest.approx(np.hypot(2e-3, 3e-4))
    with pytest.raises(FindingTrouble, match="no value to take the mean of"):
        over_span(workings, results, (9.0, 10.0))


def test_the_stated_scatter_of_a_mean_holds_the_truth_as_often_as_it_says() -> None:
    inside = []
    _, clean = evaluated(PLAN, *swinging(14.0, noise=0.0))
    for seed in range(30):
        t, values = swinging(14.0, noise=2e-3, seed=seed)
        workings, results = evaluated(PLAN, t, values)
        found = over_span(workings, results, (0, 14))["period"]
        inside.append(abs(found.value - float(np.mean(clean["swing"].values))) < 2 * found.u)
    # Neighbouring gaps share a peak, so the stated scatter is cautious: never less than 95 of 100.
    assert np.mean(inside) >= 0.95


@pytest.mark.parametrize(
    ("line", "what", "do"),
    [
        ("x = 2 N + 3 s", "s cannot be added to N", "same kind"),
        ("x = calibrated laod", "no channel “laod”", "“load”"),
        ("x = tensoin * 2", "nothing is called “tensoin”", "“tension”"),
        ("x = load * 2", "nothing is called “load”", "calibrated load"),
        ("x = 2 tension", "stands where a unit would", "* tension"),
        ("x = 3 furlongz", "“furlongz” is not a unit", ""),
        ("x = peaks in tension above 2.2 s, 0.4 s apart", "the level is in s, the quantity in N", "2.2 N"),
        ("x = peaks in tension above 2.2 N, 0.4 N apart", "a time belongs here, not N", "0.4 s"),
        ("x = peaks in tension", "too early", ""),
        ("x = gap between tension", "takes events", "peaks in"),
        ("x = mean of hits", "takes a quantity over time", ""),
        ("x = hits + 1", "events are times", "gap between"),
        ("x = tension + gap between hits", "do not go together", ""),
        ("x = sin(tension)", "takes an angle, not N", ""),
        ("x = exp(tension)", "takes a pure number, not N", ""),
        ("x = tension ^ tension", "an exponent is a pure number", ""),
        ("x = 20 °C + 5 °C", "cannot be added", "K"),
        ("x = 20 °C * 2 m", "zero of its own", "K"),
        ("x = tension as s", "cannot be shown as s", ""),
        ("gap = 3", "is a word of the language", "another name"),
        ("Tension = 3", "“Tension” is named beside “tension”", "another name"),
        ("3 = x", "begins with a name", "name ="),
        ("x =", "too early", ""),
        ("x = (2", "too early", ""),
        ("x = 2 $ 3", "cannot be read", ""),
        ("x = " + "(" * 200 + "1" + ")" * 200, "steps deep", "Split"),
        ("x = " + "1+" * 400 + "1", "at most 500 characters", "Split"),
        ("x = __import__('os')", "cannot be read", ""),
    ],
)  # fmt: skip
def test_a_wrong_working_is_refused_with_its_place_and_a_way_out(line: str, what: str, do: str) -> None:
    checked = check(["tension = calibrated load", "hits = peaks in tension above 2 N, 0.4 s apart", line], CHANNELS)
    trouble = checked.lines[2].trouble
    if trouble is None and "(" * 50 in line:
        return  # brackets alone make no depth in the tree
    assert trouble is not None
    assert what in trouble.what
    assert do in trouble.do
    name = line.partition("=")[0].strip()
    assert trouble.where == f"“{name}”"
    assert 0 <= trouble.start <= trouble.end <= len(line) + 1


@given(st.text(max_size=80))
def test_no_text_makes_the_checker_fail(text: str) -> None:
    for line in (text, f"x = {text}", f"x = mean of {text}"):
        with contextlib.suppress(WorkingTrouble):
            read_working(line)
        (checked,) = check([line], CHANNELS).lines
        assert checked.kind is not None or (checked.trouble is not None and checked.trouble.what)


def test_depth_and_length_are_limited_in_words() -> None:
    deep = "x = " + "-" * (DEEPEST + 5) + "1"
    assert "steps deep" in check([deep], {}).troubles[0].what
    assert "characters" in check(["x = " + "1" * LONGEST_WORKING], {}).troubles[0].what


@pytest.mark.parametrize(
    ("text", "value", "u", "unit_text"),
    [
        ("g = 4 * pi^2 / slope", 9.8203, 0.0489, "m/s²"),
        ("period ^ 2", 3.6290, 0.0114, "s²"),
        ("1/2 * 2 kg * (3 ± 0.1 m/s)^2 as J", 9.0, 0.6, "J"),
        ("20 °C - 5 °C", 15.0, 0.0, "K"),
        ("sin(30 °) + cos(60 °)", 1.0, 0.0, ""),
        ("abs(-3 m) as cm", 300.0, 0.0, "cm"),
        ("ln(exp(2)) + log10(1000)", 5.0, 0.0, ""),
        ("9,81 m/s²", 9.81, 0.0, "m/s²"),
        ("0.752 +- 0.002 m", 0.752, 0.002, "m"),
        ("sqrt(period ^ 2) - period", 0.0, 0.0, "s"),
        ("5 N·m / 2 m", 2.5, 0.0, "N"),
        ("-2 ^ 2", -4.0, 0.0, ""),
        ("2 × 3 ÷ 4 − 1", 0.5, 0.0, ""),
    ],
)  # fmt: skip
def test_numbers_are_worked_out_with_units_and_uncertainty(text: str, value: float, u: float, unit_text: str) -> None:
    names = {"slope": Measured(4.02, 0.02, "s²/m"), "period": Measured(1.905, 0.003, "s")}
    found = number_from(text, names)
    assert found.value == pytest.approx(value, rel=1e-4, abs=1e-12)
    assert found.u == pytest.approx(u, rel=5e-3, abs=1e-9)
    assert found.unit == unit_text


def test_a_plan_without_the_working_for_a_finding_says_what_to_add() -> None:
    t, values = swinging(5.0)
    workings, results = evaluated(PLAN[:3], t, values)
    with pytest.raises(FindingTrouble, match="no working gives such a number"):
        findings_of(workings, results, (0, 5), ["period"])
    with pytest.raises(FindingTrouble, match="no length"):
        findings_of(workings, results, (2, 2), ["period"])
    assert check([*PLAN, "more = period * 2"], CHANNELS).kinds["more"].unit == "s"
