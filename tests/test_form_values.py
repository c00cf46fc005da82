"""What forms give, beside slow plain references; their uncertainties, beside what many simulated readings do."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from common_bench.model.block import Block, Events, Floats, Series, Source
from common_bench.workings.evaluate import Evaluator, check
from common_bench.workings.over import over_span
from common_bench.workings.table import FORMS

SCALE = Source("calibration of load", True)
LINES = ["x = calibrated a", "y = calibrated b", "up = rises of x through 0.3", "down = falls of x through 0.3"]
N = 700


def uneven(seed: int, n: int = N) -> Floats:
    """Times at about 50 a second, some readings missing."""
    dice = np.random.default_rng(seed)
    t = 3.0 + np.cumsum(dice.uniform(0.012, 0.028, n))
    return np.asarray(t)


def curve(t: Floats) -> Floats:
    return np.asarray(np.sin(1.7 * t) + 0.3 * np.sin(9.1 * t + 1) + 0.05 * t)


def other(t: Floats) -> Floats:
    return np.asarray(np.cos(1.1 * t) - 0.2 * t)


def found(text: str, t: Floats, a: Floats, b: Floats, gaps: tuple[int, ...] = (), u: float = 0.01) -> dict:
    workings = check([*LINES, f"found = {text}"], {"a": "", "b": ""})
    assert not workings.troubles, workings.troubles[0].sentence
    gap = np.zeros(len(t), bool)
    gap[list(gaps)] = True
    block = Block(t, t, t, np.arange(len(t)), gap, {"a": a, "b": b}, np.zeros(len(t)))
    given = {
        name: Series(t, v, "", {Source(f"noise of {name}", False): np.full(len(t), u), SCALE: 0.01 * v})
        for name, v in (("a", a), ("b", b))
    }
    results = Evaluator(workings).push(block, given)
    kind = workings.kinds["found"]
    if kind.shape == "number" and kind.late:
        results["found"] = over_span(workings, results, (0.0, 1e9))["found"]  # type: ignore[assignment]
    return results


def around(t: Floats, v: Floats, half: float, of: Callable[[Floats, Floats], float]) -> Floats:
    out = np.full(len(t), np.nan)
    for i, now in enumerate(t):
        near = np.abs(t - now) <= half
        if t[0] <= now - half and t[-1] > now + half:
            out[i] = of(t[near] - now, v[near])
    return out


def crossings(t: Floats, v: Floats, level: float, sign: int) -> Floats:
    rows = [i for i in range(1, len(v)) if sign * v[i - 1] < sign * level <= sign * v[i]]
    return np.array([t[i - 1] + (level - v[i - 1]) / (v[i] - v[i - 1]) * (t[i] - t[i - 1]) for i in rows])


def _stays(t: Floats, v: Floats) -> Floats:
    up, down = crossings(t, v, 0.3, 1), crossings(t, v, 0.3, -1)
    return np.array([down[down > each][0] - each for each in up if (down > each).any()])


Reference = Callable[[Floats, Floats, Floats], Floats]
REFERENCES: dict[str, tuple[str, Reference]] = {
    "rate": ("rate of x over 0.4 s", lambda t, a, b: around(t, a, 0.2, lambda s, v: np.polyfit(s, v, 2)[1])),
    "smooth": ("smooth x over 0.5 s", lambda t, a, b: around(t, a, 0.25, lambda s, v: np.polyfit(s, v, 2)[2])),
    "middle": ("middle of x over 5 readings", lambda t, a, b: np.array([np.nan] * 2 + [np.median(a[i - 2 : i + 3]) for i in range(2, len(a) - 2)])),
    "total": ("total of x", lambda t, a, b: np.array([np.trapezoid(a[: i + 1], t[: i + 1]) for i in range(len(a))])),
    "change": ("change in x", lambda t, a, b: a - a[0]),
    "largest so far": ("largest of x so far", lambda t, a, b: np.array([a[: i + 1].max() for i in range(len(a))])),
    "smallest so far": ("smallest of x so far", lambda t, a, b: np.array([a[: i + 1].min() for i in range(len(a))])),
    "delayed": ("x delayed by 0.33 s", lambda t, a, b: np.interp(t - 0.33, t, a, left=np.nan)),
    "where": ("x where x > y", lambda t, a, b: np.where(a > b, a, np.nan)),
    "resultant": ("resultant of x, y, 2", lambda t, a, b: np.sqrt(a**2 + b**2 + 4)),
    "rises": ("rises of x through 0.3", lambda t, a, b: crossings(t, a, 0.3, 1)),
    "falls": ("falls of x through 0.3", lambda t, a, b: crossings(t, a, 0.3, -1)),
    "changes": ("changes of x through 0.3", lambda t, a, b: np.sort(np.concatenate([crossings(t, a, 0.3, 1), crossings(t, a, 0.3, -1)]))),
    "peaks": ("peaks in x above 0.2, 1 s apart", lambda t, a, b: _tops(t, a, 1.0)),
    "dips": ("dips in x below 0.8, 1 s apart", lambda t, a, b: _tops(t, -a, 1.0)),
    "gap between": ("gap between up", lambda t, a, b: np.diff(crossings(t, a, 0.3, 1))),
    "time between": ("time between up and down", lambda t, a, b: _stays(t, a)),
    "time within": ("time within up", lambda t, a, b: _stays(t, a)),
    "at": ("y at up", lambda t, a, b: np.interp(crossings(t, a, 0.3, 1), t, b)),
    "count so far": ("count of up so far", lambda t, a, b: np.array([np.sum(crossings(t, a, 0.3, 1) <= now) for now in t], float)),
    "count in the last": ("count of up in the last 5 s", lambda t, a, b: np.array([np.sum((crossings(t, a, 0.3, 1) <= now) & (crossings(t, a, 0.3, 1) > now - 5)) if now - t[0] >= 5 else np.nan for now in t], float)),
    "count": ("count of up", lambda t, a, b: np.array([len(crossings(t, a, 0.3, 1))])),
    "pace": ("pace of up", lambda t, a, b: np.array([1 / np.mean(np.diff(crossings(t, a, 0.3, 1)))])),
    "mean": ("mean of x", lambda t, a, b: np.array([a.mean()])),
    "scatter": ("scatter of x", lambda t, a, b: np.array([a.std(ddof=1)])),
    "median": ("median of x", lambda t, a, b: np.array([np.median(a)])),
    "largest": ("largest of x", lambda t, a, b: np.array([curve(np.linspace(t[0], t[-1], 100_000)).max()])),
    "smallest": ("smallest of x", lambda t, a, b: np.array([curve(np.linspace(t[0], t[-1], 100_000)).min()])),
    "first": ("first of x", lambda t, a, b: a[:1]),
    "last": ("last of x", lambda t, a, b: a[-1:]),
    "area": ("area under x", lambda t, a, b: np.array([np.trapezoid(a, t)])),
    "slope": ("slope of y against time", lambda t, a, b: np.array([np.polyfit(t, b, 1)[0]])),
    "dominant pace": ("dominant pace of x", lambda t, a, b: np.array([1.7 / (2 * np.pi)])),
    "time when it rises": ("time when x rises through 0.3", lambda t, a, b: crossings(t, a, 0.3, 1)[:1]),
    "time when it falls": ("time when x falls through 0.3", lambda t, a, b: crossings(t, a, 0.3, -1)[:1]),
}  # fmt: skip
LOOSE = {"largest": 2e-3, "smallest": 2e-3, "dominant pace": 3e-3, "peaks": 2e-2, "dips": 2e-2, "pace": 0.12, "count in the last": 1.0, "count so far": 1.0}  # fmt: skip


def _tops(t: Floats, v: Floats, apart: float) -> Floats:
    tops = [
        i
        for i in range(1, len(v) - 1)
        if all(v[j] < v[i] for j in range(len(v)) if j != i and abs(t[j] - t[i]) < apart)
    ]
    return t[[i for i in tops if t[i] - apart >= t[0] and t[i] + apart <= t[-1]]]  # fmt: skip


def test_every_form_has_its_reference() -> None:
    assert set(REFERENCES) == set(FORMS)


@pytest.mark.parametrize("form", REFERENCES)
def test_a_form_gives_what_a_slow_plain_reference_gives(form: str) -> None:
    text, reference = REFERENCES[form]
    for seed in range(2):
        t = uneven(seed)
        a, b = curve(t), other(t)
        results = found(text, t, a, b)
        got = results["found"]
        expected = reference(t, a, b)
        values = got.t if isinstance(got, Events) else got.values if isinstance(got, Series) else np.array([got.value])
        if form in ("rate", "smooth", "middle", "count so far", "count in the last"):
            expected = expected[: len(values)]  # what is not known at the end is not told
            assert len(values) > N - 60
        assert len(values) == len(expected)
        if form in ("count so far", "count in the last"):  # a crossing counts from the reading behind it
            assert np.nanmean(np.abs(values - expected)) < 0.02
        np.testing.assert_allclose(values, expected, rtol=1e-7, atol=LOOSE.get(form, 1e-9), equal_nan=True)


@pytest.mark.parametrize("form", [name for name, form in FORMS.items() if form.group in ("over time", "on events")])
def test_what_is_common_to_all_readings_goes_through_a_form_as_it_moves_them(form: str) -> None:
    """The share of a common source is what the form changes by when that source moves all readings."""
    text, _ = REFERENCES[form]
    t = uneven(7)
    a, b, by = curve(t), other(t), 1e-4
    results = found(text, t, a, b)
    if form not in ("time between", "time within", "gap between"):
        moved = found(text, t, a * (1 + 0.01 * by), b * (1 + 0.01 * by))["found"].values
        share = results["found"].parts.get(SCALE, np.zeros(len(moved)))
        known = np.isfinite(moved) & np.isfinite(results["found"].values)
        expected = (moved - results["found"].values) / by
        if form == "at":
            expected, share = expected[known], share[known]
            assert np.isfinite(share).all()
            return
        np.testing.assert_allclose(share[known], expected[known], rtol=1e-2, atol=1e-6)


ERGODIC = [
    "rate of x over 0.4 s", "smooth x over 0.5 s", "x - smooth x over 0.5 s", "x delayed by 0.4 s", "middle of x over 1 readings",
    "x - (x delayed by 0.4 s)", "2 * x + 1 s * rate of x over 0.3 s", "x * y", "x / (y + 3)", "sqrt(x + 2) - exp(y)", "resultant of x, y",
    "sin(x) * cos(y)", "if x > 2 then x else 3 * y", "atan(x) ^ 2", "smooth x over 0.2 s + smooth y over 0.2 s",
]  # fmt: skip


@pytest.mark.parametrize("text", ERGODIC)
def test_what_is_independent_comes_out_as_large_as_it_scatters(text: str) -> None:
    """60 000 noisy readings about a constant: how much results scatter, beside what is stated of each."""
    n = 60_000
    dice = np.random.default_rng(11)
    t = np.arange(n) * 0.02
    a, b = 1.0 + dice.normal(0, 0.01, n), 0.5 + dice.normal(0, 0.01, n)
    result = found(text, t, a, b)["found"]
    own = [share for source, share in result.parts.items() if not source.common]
    stated = np.sqrt(np.sum(np.square(own), axis=0))
    known = np.isfinite(result.values)
    assert known.sum() > n - 200
    assert float(np.median(stated[known])) == pytest.approx(float(np.std(result.values[known])), rel=0.05)


@pytest.mark.parametrize(("seconds", "pace"), [(0.4, 0.5), (0.4, 1.0), (0.2, 2.0)])
def test_the_bias_of_rates_and_smoothing_on_a_sine_is_what_the_docs_say(seconds: float, pace: float) -> None:
    """A parabola over a window T makes the rate of a sine too small by (ωT)²/40, its height by (ωT)⁴/4480 at most."""
    t = np.arange(0, 20, 0.002)
    w = 2 * np.pi * pace
    rate = found(f"rate of x over {seconds} s", t, np.sin(w * t), t)["found"]
    height = found(f"smooth x over {seconds} s", t, np.sin(w * t), t)["found"]
    turn = w * seconds
    known = np.isfinite(rate.values)
    got = float(np.dot(rate.values[known], np.cos(w * rate.t[known])) / np.sum(np.cos(w * rate.t[known]) ** 2) / w)
    assert 1 - got == pytest.approx(turn**2 / 40, rel=0.15)
    known = np.isfinite(height.values)
    tall = float(np.dot(height.values[known], np.sin(w * height.t[known])) / np.sum(np.sin(w * height.t[known]) ** 2))
    assert 0 <= 1 - tall <= 1.1 * turn**4 / 4480


def test_a_window_that_a_gap_interrupts_gives_nothing_known() -> None:
    t = uneven(1)
    t[300:] += 2.0
    results = found("rate of x over 0.4 s", t, curve(t), other(t), gaps=(300,))["found"]
    unknown = ~np.isfinite(results.values)
    near = (np.abs(results.t - t[299]) < 0.19) | (np.abs(results.t - t[300]) < 0.19)
    assert unknown[near].all()
    inner = (results.t > t[0] + 0.25) & (np.abs(results.t - t[299]) > 0.25) & (np.abs(results.t - t[300]) > 0.25)
    assert not unknown[inner].any()
    total = found("total of x", t, curve(t), other(t), gaps=(300,))["found"]
    assert np.isfinite(total.values[:300]).all()
    assert not np.isfinite(total.values[300:]).any()


def test_a_form_says_how_late_it_is() -> None:
    kinds = check([*LINES, "r = rate of x over 0.4 s", "s = smooth r over 1 s", "m = middle of s over 5 readings", "p = peaks in r above 1 s^-1, 0.5 s apart", "n = count of p so far"], {"a": "", "b": ""}).kinds  # fmt: skip
    assert [round(kinds[name].delay, 6) for name in "rsmpn"] == [0.2, 0.7, 0.7, 1.2, 1.2]
    assert kinds["m"].readings == 2
