"""What uncertainties promise, as simulations with known truth: small in the tests, at larger size in `make bench`.

Each gives the share of 95% intervals that hold the truth, and their width beside the best that was possible (the scatter
of the results themselves, or that of an estimator that knows what the program must find out).
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from common_bench.calibrate.points import take_point
from common_bench.calibrate.steady import PROPOSE, steadiness
from common_bench.fits.straight_line import straight_line
from common_bench.model.block import Block, Floats, Series, Source
from common_bench.model.calibration import PlannedPoint
from common_bench.model.measured import Measured
from common_bench.model.uncertainty import coverage_factor
from common_bench.reading.clock import ClockMap
from common_bench.workings.evaluate import Evaluator, Workings, check
from common_bench.workings.over import number_from, over_span
from common_bench.workings.spans import number_over
from simulated import table_coverage

NOISE = Source("noise of x", False)
SPACING = 0.02  # s


class Kept(NamedTuple):
    """held: share of intervals that hold the truth; width: beside the best possible."""

    held: float
    width: float


class Promise(NamedTuple):
    """least, most: between which the share lies where the promise is kept; trials that tell so much."""

    name: str
    kept: Callable[[int, np.random.Generator], Kept]
    least: float
    most: float = 1.0


def judged(found: list[tuple[Measured, float]], best: float = 0.0) -> Kept:
    """found: (what was told, the truth) of each trial; best: the smallest standard deviation possible, 0 where that of
    the values is taken."""
    off = np.array([told.value - true for told, true in found])
    half = np.array([coverage_factor(told.dof) * told.u for told, _ in found])
    sizes = np.array([told.u for told, _ in found])
    return Kept(float(np.mean(np.abs(off) <= half)), float(np.median(sizes)) / (best or float(np.std(off))))


def over(word: str, values: Floats, u: float) -> Measured:
    t = np.arange(len(values)) * SPACING
    return number_over(word, Series(t, values, "", {NOISE: np.full(len(t), u)}), (0.0, 1e9), "x").measured


def likeness(kind: str, n: int, dice: np.random.Generator) -> Floats:
    """Noise of one standard deviation that resembles its neighbours, as behind a sensor that smooths."""
    fresh = dice.normal(size=n + 400)
    if kind == "a running mean of 20":
        return np.convolve(fresh, np.ones(20) / 20**0.5, "same")[200 : 200 + n]
    by = {"independent": 0.0, "smoothed by 0.8": 0.8, "smoothed by 0.95": 0.95}[kind]
    from scipy.signal import lfilter

    return np.asarray(lfilter([(1 - by * by) ** 0.5], [1, -by], fresh)[-n:])


def mean_of(kind: str, n: int = 400, stated: float = 0.01) -> Callable[[int, np.random.Generator], Kept]:
    """stated: the scatter at the points of the calibration, a hundredth of that in the run."""
    return lambda trials, dice: judged(
        [(over("mean", 5 + likeness(kind, n, dice), stated), 5.0) for _ in range(trials)]
    )


def gaps_of(n: int, timing: float, pace: float) -> Callable[[int, np.random.Generator], Kept]:
    covariance = np.eye(n) * (2 * timing**2 + pace**2) - timing**2 * (np.eye(n, k=1) + np.eye(n, k=-1))
    best = float(np.linalg.inv(covariance).sum()) ** -0.5

    def one(dice: np.random.Generator) -> Measured:
        events = np.cumsum(np.append(0.0, 50 + dice.normal(0, pace, n))) + dice.normal(0, timing, n + 1)
        return number_over(
            "mean", Series(events[1:], np.diff(events), "s", {}, None, events[:-1]), (-1e9, 1e9), "g"
        ).measured

    return lambda trials, dice: judged([(one(dice), 50.0) for _ in range(trials)], best)


SIGNALS: dict[str, Callable[[Floats, np.random.Generator], Floats]] = {
    "a rest": lambda t, dice: 0 * t,
    "swings": lambda t, dice: np.sin(2 * np.pi * t / 1.7 + dice.uniform(0, 6)),
    "a decay": lambda t, dice: np.exp(-t / 4),
    "a pulse": lambda t, dice: np.exp(-0.5 * ((t - 9.123) / 0.3) ** 2),
    "a ramp": lambda t, dice: 0.05 * t,
}


def largest_of(kind: str, noise: float = 0.05) -> Callable[[int, np.random.Generator], Kept]:
    t = np.arange(1000) * SPACING

    def one(dice: np.random.Generator) -> tuple[Measured, float]:
        signal = SIGNALS[kind](t, dice)
        return over("largest", signal + dice.normal(0, noise, len(t)), noise), float(signal.max())

    return lambda trials, dice: judged([one(dice) for _ in range(trials)])


def peak_times(noise: float) -> Callable[[int, np.random.Generator], Kept]:
    """Tension of a pendulum; the best possible is that of one who knows that it is a cosine, one period long."""
    workings = check(["x = calibrated raw", "e = peaks in x above 2.1, 0.4 s apart"], {"raw": ""})
    t = np.arange(1000) * SPACING
    best = noise / 0.3 / (2 * np.pi / 0.87) * (2 / 43) ** 0.5

    def run(dice: np.random.Generator) -> Iterator[tuple[Measured, float]]:
        phase = dice.uniform(0, 1)
        x = 2.0 + 0.3 * np.cos(2 * np.pi * (t / 0.87 + phase)) + dice.normal(0, noise, len(t))
        block = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {"raw": x}, np.zeros(len(t)))
        events = Evaluator(workings).push(block, {"raw": Series(t, x, "", {NOISE: np.full(len(t), noise)})})["e"]
        true = (np.arange(60) - phase) * 0.87
        (u,) = events.parts.values()
        for at, its in zip(events.t, u, strict=True):
            yield Measured(float(at), float(its), "s"), float(true[np.argmin(np.abs(true - at))])

    return lambda trials, dice: judged([each for _ in range(-(-trials // 20)) for each in run(dice)], best)


def line_through(n: int) -> Callable[[int, np.random.Generator], Kept]:
    """The slope of points that state no uncertainty."""

    def one(dice: np.random.Generator) -> Measured:
        x = np.linspace(0, 1, n)
        line = straight_line(x, 3 * x + dice.normal(0, 0.1, n), np.zeros(n), np.zeros(n))
        return Measured(line.slope, float(line.covariance[1, 1]) ** 0.5, "", line.u_dof)

    return lambda trials, dice: judged([(one(dice), 3.0) for _ in range(trials)])


def point_after(wait: float) -> Callable[[int, np.random.Generator], Kept]:
    """A reference point taken so many s after a settling sensor was first called steady, 0.3 to 20 s slow."""

    def one(dice: np.random.Generator, noise: float = 30.0) -> tuple[Measured, float]:
        slow, size = (
            np.exp(dice.uniform(np.log(0.3), np.log(20))),
            noise * np.exp(dice.uniform(np.log(10), np.log(3000))),
        )
        best = slow * float(np.log(size / (PROPOSE * noise)))
        t = np.arange(0, best + 80, SPACING)
        y = -size * np.exp(-t / slow) + dice.normal(0, noise, len(t))
        steady_at = np.inf
        for now in np.arange(max(2.0, best / 3), t[-1], 0.5):
            cut = slice(np.searchsorted(t, now - 22.0), np.searchsorted(t, now))
            steady = (steady_at <= now - wait or steady_at == np.inf) and steadiness(t[cut], y[cut]).steady
            steady_at = min(steady_at, now) if steady else steady_at
            if steady and now >= steady_at + wait:
                point = take_point(PlannedPoint("x", 1.0, 0.1), "N", t[cut], y[cut])
                return Measured(point.reading, point.u_reading), 0.0
        raise AssertionError("never steady")

    return lambda trials, dice: judged([one(dice) for _ in range(trials)])


def clock_rate(tick: float, off: float, seconds: float) -> Callable[[int, np.random.Generator], Kept]:
    """A kit's clock that counts in ticks and is off by a share, heard for so long through a port that is looked at 60
    times a second."""

    def one(dice: np.random.Generator) -> tuple[Measured, float]:
        rate = 1 + off * dice.choice([-1, 1])
        t = np.arange(0, seconds, SPACING) + dice.uniform(0, SPACING)
        kit = np.floor((t * rate + dice.uniform(0, 5)) / tick) * tick
        arrival = 100 + np.maximum.accumulate(
            np.ceil((t + dice.uniform(0, 0.016)) / 0.016) * 0.016 + dice.exponential(5e-4, len(t))
        )
        clock = ClockMap(tick)
        for at in range(0, len(t), 5):
            clock.map(kit[at : at + 5], arrival[at : at + 5])
        return Measured(clock.rate, clock.u_rate), 1 / rate

    return lambda trials, dice: judged([one(dice) for _ in range(trials)])


def formula_of(text: str, true: float, u: float) -> Callable[[int, np.random.Generator], Kept]:
    """A formula of a value that is off by its uncertainty, about a place where it bends."""

    def one(dice: np.random.Generator) -> tuple[Measured, float]:
        told = number_from(text, {"x": Measured(float(true + dice.normal(0, u)), u)})
        return told, number_from(text, {"x": Measured(true)}).value

    return lambda trials, dice: judged([one(dice) for _ in range(trials)])


def table(points: int, u: float) -> Callable[[int, np.random.Generator], Kept]:
    return lambda trials, dice: Kept(*table_coverage(points, trials, int(dice.integers(1 << 30)), u))


Course = Callable[[Floats], Floats]


def form_of(
    text: str, x: Course, y: Course, true: float, kind: str = "independent", noise: tuple[float, float] = (0.0, 0.02)
) -> Callable[[int, np.random.Generator], Kept]:
    """A working of two quantities over 20 s, x and y, with noise of the kind; what is stated of single readings is right,
    what is not stated is that they resemble each other."""
    t = np.arange(1000) * SPACING

    @functools.cache
    def workings() -> Workings:
        found = check(["x = calibrated a", "y = calibrated b", f"found = {text}"], {"a": "", "b": ""})
        assert not found.troubles
        return found

    def one(dice: np.random.Generator) -> tuple[Measured, float]:
        values = [course(t) + size * likeness(kind, len(t), dice) for course, size in zip((x, y), noise, strict=True)]
        block = Block(
            t, t, t, np.arange(len(t)), np.zeros(len(t), bool), dict(zip("ab", values, strict=True)), np.zeros(len(t))
        )
        given = {
            name: Series(t, each, "", {Source(f"noise of {name}", False): np.full(len(t), size)})
            for name, each, size in zip("ab", values, noise, strict=True)
        }
        results = Evaluator(workings()).push(block, given)
        found = results.get("found")
        if isinstance(found, Series):
            at = 650
            return Measured(float(found.values[at]), float(found.u[at])), true
        told = over_span(workings(), results, (0.0, 1e9))["found"]
        return told.measured, true

    return lambda trials, dice: judged([one(dice) for _ in range(trials)])


def _ramp(t: Floats) -> Floats:
    return 0.1 * t


def _swing(t: Floats) -> Floats:
    return np.asarray(np.sin(2 * np.pi * 0.31 * t))


AREA = (1 - np.cos(2 * np.pi * 0.31 * 19.98)) / (2 * np.pi * 0.31)
FORMS_PROMISED = [
    (f"{words}, noise {kind}", form_of(text, x, y, true, kind, noise))
    for kind in ("independent", "smoothed by 0.8")
    for words, text, x, y, true, noise in (
        ("slope against", "slope of y against x", _ramp, lambda t: 3 * _ramp(t), 3.0, (0.0, 0.02)),
        ("slope against, both uncertain", "slope of y against x", _swing, lambda t: 3 * _swing(t), 3.0, (0.05, 0.1)),
        ("area under a swing", "area under y", _ramp, _swing, AREA, (0.0, 0.02)),
        ("rate of a ramp", "rate of y over 0.6 s", _ramp, lambda t: 0.7 * t, 0.7, (0.0, 0.02)),
        ("smooth of a ramp", "smooth y over 0.6 s", _ramp, lambda t: 0.7 * t, 0.7 * 13.0, (0.0, 0.02)),
        ("time when", "time when y rises through 1", _ramp, lambda t: 0.1 * t, 10.0, (0.0, 0.002)),
        ("dominant pace", "dominant pace of y", _ramp, lambda t: _swing(t) + 0.02 * t, 0.31, (0.0, 0.1)),
    )
]

PROMISES = [
    *(Promise(name, kept, 0.9) for name, kept in FORMS_PROMISED),
    *(Promise(f"mean of 400 readings, {kind}", mean_of(kind), 0.92, 0.98) for kind in ("independent", "smoothed by 0.8", "smoothed by 0.95", "a running mean of 20")),
    *(
        Promise(f"mean of {n} gaps, events off by {timing:g}, pace by {pace:g}", gaps_of(n, timing, pace), 0.92)
        for n in (6, 12, 30) for timing, pace in ((1.0, 0.0), (1.0, 0.5), (0.0, 1.0))
    ),
    *(Promise(f"largest of 1000 readings, {kind}", largest_of(kind), 0.91) for kind in SIGNALS),
    *(Promise(f"times of peaks, noise {share:.0%} of their height", peak_times(0.3 * share), 0.92) for share in (0.01, 0.05)),
    *(Promise(f"slope of a line through {n} points that state nothing", line_through(n), 0.93, 0.97) for n in (3, 4, 6, 10)),
    *(Promise(f"value between {n} points of a table", table(n, 0.05), 0.92, 0.98) for n in (4, 5, 6, 7, 9)),
    *(Promise(f"a reference point, {wait:g} s after it is first steady", point_after(wait), 0.91) for wait in (0.0, 3.0)),
    *(
        Promise(f"rate of a clock with ticks of {tick:g} s, off by {off:.4%}, heard for {seconds:g} s", clock_rate(tick, off, seconds), 0.9)
        for tick in (0.001, 0.01, 1.0) for off in (6e-5, 0.015) for seconds in (5.0, 15.0, 60.0)
    ),
    Promise("x^2 at 0 ± 0.1", formula_of("x^2", 0.0, 0.1), 0.93),
    Promise("cos(x) at 0 ± 0.1", formula_of("cos(x)", 0.0, 0.1), 0.93),
    Promise("exp(x) at 1 ± 0.4", formula_of("exp(x)", 1.0, 0.4), 0.88),
]  # fmt: skip
