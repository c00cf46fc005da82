"""Fits in the language: known truths found again by curves of many kinds, how often their intervals hold it, what is refused."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from common_bench.cli.running import main
from common_bench.model.block import Block, Floats, Series, Source
from common_bench.model.trouble import FindingTrouble
from common_bench.model.uncertainty import coverage_factor
from common_bench.workings.evaluate import Evaluator, check
from common_bench.workings.over import over_span
from common_bench.workup.findings import note_words
from promises import likeness

SCALE = Source("calibration of y", True)
T = np.arange(0, 12, 0.05)


def fit(formula: str, y: Floats, x: Floats, u: float, *, ux: float = 0.0, more: str = "", common: float = 0.0) -> dict:
    lines = ["y = calibrated a", "x = calibrated b", f"found = y fitted by {formula}{more}"]
    kinds = check(lines, {"a": "V", "b": "m"}).kinds
    lines += (
        [f"n{k} = {name} of found" for k, (name, _) in enumerate(kinds["found"].parameters)] if "found" in kinds else []
    )
    workings = check(lines, {"a": "V", "b": "m"})
    assert not workings.troubles, workings.troubles[0].sentence
    t = T[: len(y)]
    block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {"a": y, "b": x}, np.zeros(len(t)))
    own = {Source("noise of y", False): np.full(len(t), u)} if u else {}
    given = {
        "a": Series(t, y, "V", own | ({SCALE: common * y} if common else {})),
        "b": Series(t, x, "m", {Source("noise of x", False): np.full(len(t), ux)} if ux else {}),
    }
    numbers = over_span(workings, Evaluator(workings).push(block, given), (0.0, 1e9))
    return {name: numbers[f"n{k}"] for k, (name, _) in enumerate(kinds["found"].parameters)}


X = 0.2 + 0.15 * np.sin(0.9 * T) + 0.01 * T
CURVES = {
    "a line": ("k * x + c", {"k": 12.0, "c": 0.4}, lambda p: p["k"] * X + p["c"]),
    "a decay": ("A * exp(-time / tau) + c", {"A": 4.0, "tau": 2.7, "c": 0.3}, lambda p: p["A"] * np.exp(-T / p["tau"]) + p["c"]),
    "a rise to a limit": ("A * (1 - exp(-r * time))", {"A": 3.0, "r": 0.6}, lambda p: p["A"] * (1 - np.exp(-p["r"] * T))),
    "a damped swing": ("A * exp(-time / d) * cos(w * time + h) + c", {"A": 2.0, "d": 6.0, "w": 5.1, "h": 0.4, "c": 1.0}, lambda p: p["A"] * np.exp(-T / p["d"]) * np.cos(p["w"] * T + p["h"]) + p["c"]),
    "a fall": ("h0 + v0 * time - 1/2 * g * time^2", {"h0": 2.0, "v0": 3.0, "g": 1.3}, lambda p: p["h0"] + p["v0"] * T - 0.5 * p["g"] * T**2),
    "a bell": ("A * exp(-(time - m)^2 / (2 * s^2))", {"A": 3.0, "m": 5.2, "s": 1.1}, lambda p: p["A"] * np.exp(-((T - p["m"]) ** 2) / (2 * p["s"] ** 2))),
    # kept aside while the search for starts was made
    "a power of distance": ("A / (x / 1 m + b)^2", {"A": 0.5, "b": 0.3}, lambda p: p["A"] / (X + p["b"]) ** 2),
    "growth to a limit": ("L / (1 + exp(-(time - m) / s))", {"L": 3.0, "m": 4.0, "s": 0.9}, lambda p: p["L"] / (1 + np.exp(-(T - p["m"]) / p["s"]))),
    "two decays of which one is known": ("A * exp(-time / 1.5 s) + B * exp(-time / tau)", {"A": 2.0, "B": 1.0, "tau": 9.0}, lambda p: p["A"] * np.exp(-T / 1.5) + p["B"] * np.exp(-T / p["tau"])),
    "a logarithm": ("A * ln(time / 1 s + b)", {"A": 1.3, "b": 2.0}, lambda p: p["A"] * np.log(T + p["b"])),
}  # fmt: skip


@pytest.mark.parametrize("kind", CURVES)
def test_a_known_truth_is_found_again_as_often_as_the_intervals_say(kind: str) -> None:
    formula, true, curve = CURVES[kind]
    held, trials = 0, 4
    for seed in range(trials):
        dice = np.random.default_rng(seed)
        found = fit(formula, curve(true) + dice.normal(0, 0.02, len(T)), X, 0.02)
        for name, number in found.items():
            half = coverage_factor(number.measured.dof) * number.u
            held += abs(number.value - true[name]) <= half
            assert abs(number.value - true[name]) < 5 * number.u, (name, number.measured)
    share = held / (trials * len(true))
    assert share >= 0.95 - 3.5 * (0.05 * 0.95 / (trials * len(true))) ** 0.5


LONG = {
    "a decay": ("A * exp(-time / tau) + c", {"A": 4.0, "tau": 90.0, "c": 0.3}, lambda t, p: p["A"] * np.exp(-t / p["tau"]) + p["c"]),
    "a swing, six readings long": ("A * exp(-time / d) * sin(w * time + h) + c", {"A": 2.0, "d": 150.0, "w": 2 * np.pi / 0.062, "h": 0.5, "c": 1.0}, lambda t, p: p["A"] * np.exp(-t / p["d"]) * np.sin(p["w"] * t + p["h"]) + p["c"]),
    # kept aside while the search for starts was made quicker
    "a swing, half a second long": ("A * sin(w * time + h)", {"A": 1.5, "w": 12.6, "h": 0.9}, lambda t, p: p["A"] * np.sin(p["w"] * t + p["h"])),
    "a swing, three readings long": ("A * exp(-time / d) * cos(w * time) + c", {"A": 1.0, "d": 400.0, "w": 2 * np.pi / 0.0313, "c": 0.0}, lambda t, p: p["A"] * np.exp(-t / p["d"]) * np.cos(p["w"] * t) + p["c"]),
    "a bell": ("A * exp(-(time - m)^2 / (2 * s^2)) + c", {"A": 3.0, "m": 201.0, "s": 2.5, "c": 0.2}, lambda t, p: p["A"] * np.exp(-((t - p["m"]) ** 2) / (2 * p["s"] ** 2)) + p["c"]),
}  # fmt: skip


@pytest.mark.parametrize("kind", LONG)
def test_of_many_readings_some_tell_starts_apart_and_all_of_them_the_parameters(kind: str) -> None:
    """As of 30 000 at 100 a second; where a few hundred of them at even distances would see another pace."""
    formula, truth, curve = LONG[kind]
    t = np.arange(30_000) * 0.01
    y = curve(t, truth) + np.random.default_rng(4).normal(0, 0.1, len(t))
    workings = check(
        ["a = calibrated load", f"found = a fitted by {formula}", *(f"{name}_of = {name} of found" for name in truth)],
        {"load": "V"},
    )
    assert not workings.troubles, workings.troubles[0].sentence
    numbers = over_span(
        workings, {"a": Series(t, y, "V", {Source("noise", False): np.full(len(t), 0.1)})}, (0.0, 300.0)
    )
    for name, value in truth.items():
        found = numbers[f"{name}_of"].measured
        assert abs(found.value - value) < 4.5 * found.u, name
        assert found.u < 0.02 * max(1.0, abs(value)), name


@pytest.mark.long_proof
def test_noise_that_resembles_its_neighbours_widens_and_is_said() -> None:
    held, plain, alike = 0, [], []
    for seed in range(40):
        dice = np.random.default_rng(seed)
        y = 3 * np.exp(-T / 4) + 0.05 * likeness("smoothed by 0.8", len(T), dice)
        found = fit("A * exp(-time / tau)", y, X, 0.05)["tau"]
        held += abs(found.value - 4) <= coverage_factor(found.measured.dof) * found.u
        assert any(note.code == "residuals-alike" for note in found.notes)
        alike.append(found.u)
        plain.append(fit("A * exp(-time / tau)", 3 * np.exp(-T / 4) + dice.normal(0, 0.05, len(T)), X, 0.05)["tau"].u)
    assert np.median(alike) > 2 * np.median(plain)
    assert held >= 34


def test_uncertainty_in_both_coordinates_counts() -> None:
    held, sizes = 0, []
    for seed in range(40):
        dice = np.random.default_rng(seed)
        y, x = 12 * X + 0.4 + dice.normal(0, 0.02, len(T)), X + dice.normal(0, 0.005, len(T))
        found = fit("k * x + c", y, x, 0.02, ux=0.005)["k"]
        held += abs(found.value - 12) <= 2 * found.u
        sizes.append(found.u)
    assert np.median(sizes) == pytest.approx(np.hypot(0.02, 12 * 0.005) / np.std(X) / len(T) ** 0.5, rel=0.1)
    assert held >= 34


def test_what_is_common_to_all_readings_moves_the_parameters_whole() -> None:
    y = 4 * np.exp(-T / 2.7) + 0.3
    found = fit("A * exp(-time / tau) + c", y, X, 0.02, common=0.01)
    assert found["A"].parts[SCALE] == pytest.approx(0.04, rel=1e-3)
    assert found["tau"].parts[SCALE] == pytest.approx(0.0, abs=1e-5)
    assert found["c"].parts[SCALE] == pytest.approx(0.003, rel=1e-3)


def test_what_is_held_stays_and_readings_are_left_out_by_a_condition() -> None:
    y = 4 * np.exp(-T / 2.7) + 0.3
    y[T > 9] = 7.0
    found = fit("A * exp(-time / tau) + c", y, X, 0.02, more=", c held at 0.3 V over time < 8.9 s")
    assert set(found) == {"A", "tau"}
    assert found["tau"].value == pytest.approx(2.7, rel=1e-6)
    assert found["A"].unit == "V"


def test_what_is_held_but_not_known_exactly_moves_the_others() -> None:
    y = 4 * np.exp(-T / 2.7) + 0.3
    moved = [fit("A * exp(-time / tau) + c", y, X, 0.02, more=f", c held at {c} V")["tau"].value for c in (0.25, 0.35)]
    found = fit("A * exp(-time / tau) + c", y, X, 0.02, more=", c held at 0.30 ± 0.05 V")["tau"]
    share = next(abs(share) for source, share in found.parts.items() if source.common)
    assert share == pytest.approx(abs(moved[0] - moved[1]) / 2, rel=0.05)


def test_bounds_keep_a_parameter_and_say_when_it_runs_to_one() -> None:
    noise = np.random.default_rng(8).normal(0, 0.02, len(T))
    y = 4 * np.exp(-T / 2.7) + 0.3 + noise
    free = fit("A * exp(-time / tau) + c", y, X, 0.02)
    inside = fit("A * exp(-time / tau) + c", y, X, 0.02, more=", tau between 0.5 s and 10 s, A between 0 V and 50 V")
    for name, each in free.items():
        assert inside[name].value == pytest.approx(each.value, rel=1e-6)
        assert not inside[name].notes
    out = fit("A * exp(-time / tau) + c", y, X, 0.02, more=", tau between 3000 ms and 10 s")
    assert out["tau"].value == pytest.approx(3.0, rel=1e-6)
    told = [note_words(each) for each in out["tau"].notes]
    assert any("tau has run to its bound" in each for each in told)
    turned = fit(
        "A * cos(w * time) + c",
        2 * np.cos(3 * T),
        X,
        0.02,
        more=", A between -5 V and -0.1 V, w between 1 s^-1 and 9 s^-1",
    )
    assert -5 <= turned["A"].value <= -0.1


@pytest.mark.parametrize(
    ("line", "code"),
    [
        ("f = y fitted by a * exp(-time / tau), ta between 1 s and 3 s", "held-is-no-parameter"),
        ("f = y fitted by a * exp(-time / tau), tau between 3 s and 1 s", "bounds-the-wrong-way"),
        ("f = y fitted by a * exp(-time / tau), tau between 3 V and 4 V", "cannot-be-shown-in-unit"),
        ("f = y fitted by a * exp(-time / tau), tau between x and 4 s", "bound-is-no-number"),
        ("f = y fitted by 2 * x * 1 V/m", "fit-without-parameters"), ("f = y fitted by a * b", "fit-parameter-without-unit"),
        ("f = y fitted by a * exp(-time / tau), ta held at 3 s", "held-is-no-parameter"), ("f = p of y", "no-fit"),
        ("f = up fitted by a * time", "events-are-no-quantity"), ("f = y fitted by a * time, from each y for 2 s", "gap-needs-events"),
        ("f = y fitted by a * time, from each up for 100 s", "window-too-long"), ("f = y fitted by a * time as V", "fit-is-no-quantity"),
        ("f = 2 * good", "fit-is-no-quantity"), ("f = taa of good", "no-such-parameter"), ("f = y fitted by a * xs", "nothing-called"),
        ("f = y fitted by a * time over x", "no-condition"), ("f = y fitted by a * x + 3 m", "sum-of-unlike-units"),
    ],
)  # fmt: skip
def test_what_cannot_be_fitted_is_refused_at_its_place(line: str, code: str) -> None:
    workings = check(
        ["y = calibrated a", "xss = calibrated b", "x = xss", "up = rises of y through 1 V", "good = y fitted by A * exp(-time / tau)", line],
        {"a": "V", "b": "m"},
    )  # fmt: skip
    trouble = workings.lines[-1].trouble
    assert trouble is not None
    assert trouble.code in (code, "cannot-be-shown-in-unit" if code == "sum-of-unlike-units" else code)
    assert trouble.end > trouble.start


def test_what_a_fit_leaves_can_be_measured_and_worked_with_only_over_a_span() -> None:
    dice, lines = np.random.default_rng(3), ["y = calibrated a", "fade = y fitted by A * exp(-time / tau)"]
    more = ["left = residual of fade as mV", "off = mean of left", "size = scatter of residual of fade", "most = largest of residual of fade"]  # fmt: skip
    refused = ["a1 = 2 * residual of fade", "a2 = rate of residual of fade over 1 s", "a3 = rises of left through 1 mV",
               "a4 = left fitted by b * time", "a5 = abs(left)", "up = rises of y through 1 V", "each = y fitted by q * time, from each up for 1 s", "a6 = residual of each"]  # fmt: skip
    workings = check([*lines, *more, *refused], {"a": "V"})
    assert {each.name for each in workings.lines if each.trouble} == {f"a{n}" for n in range(1, 7)}
    assert {each.code for each in workings.troubles} == {"residual-in-series", "residual-of-each"}
    noise = dice.normal(0, 0.02, len(T))
    series = Series(T, 4 * np.exp(-T / 2.7) + noise, "V", {Source("noise", False): np.full(len(T), 0.02)})
    block = Block(T, T, T, np.arange(len(T)), np.zeros(len(T), bool), {"a": series.values}, np.zeros(len(T)))
    numbers = over_span(workings, Evaluator(workings).push(block, {"a": series}), (0.0, 8.0))
    chosen = noise[T <= 8.0]
    assert numbers["size"].value == pytest.approx(chosen.std(ddof=1), rel=0.02)
    assert abs(numbers["off"].value) < 3.0  # mV
    assert numbers["off"].unit == "mV"
    assert numbers["most"].value < 4 * 0.02


def test_a_curve_that_the_readings_say_nothing_of_is_told_so() -> None:
    with pytest.raises(FindingTrouble, match=r"does not fit|too few"):
        fit("A * exp(-time / tau) + c", np.full(len(T), 2.0), X, 0.02)
    with pytest.raises(FindingTrouble, match="too few"):
        fit("A * exp(-time / tau) + c", np.full(3, 2.0), X[:3], 0.02)


def test_the_command_fits_a_table(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    t = np.arange(0, 20, 0.1)
    u = 4 * np.exp(-t / 4.7) + 0.3 + np.random.default_rng(3).normal(0, 0.01, len(t))
    path = tmp_path / "fade.csv"
    path.write_text("t (s),u (V),u_u\n" + "\n".join(f"{a},{b},0.01" for a, b in zip(t, u, strict=True)))
    assert main(["fit", str(path), "u = A * exp(-time / tau) + c", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert set(told) == {"parameters", "covariance", "chi_square", "dof", "residual_sd", "n", "words"}
    assert told["parameters"]["tau"]["unit"] == "s"
    assert abs(told["parameters"]["tau"]["value"] - 4.7) < 3 * told["parameters"]["tau"]["u"]
    assert main(["fit", str(path), "u = A * exp(-time / tau) + c", "--held", "c=0.3", "--json"]) == 0
    held = json.loads(capsys.readouterr().out)
    assert set(held["parameters"]) == {"A", "tau"}
    assert held["parameters"]["tau"]["u"] < told["parameters"]["tau"]["u"]
    assert told["covariance"][1][1] ** 0.5 == pytest.approx(told["parameters"]["tau"]["u"], rel=1e-6)
    assert (told["n"], told["dof"]) == (200, 197)
    assert main(["fit", str(path), "u = A * exp(-time / tau) + c", "--held", "c=0.3 V"]) == 0
    assert "chi-square" in capsys.readouterr().out
    for words, said in (
        (["w = a * time"], "no column “w”"),
        (["u"], "a column and a formula"),
        (["u = a * time", "--x", "z"], "no column “z”"),
    ):
        assert main(["fit", str(path), *words]) == 2
        assert said in capsys.readouterr().err
