"""Simulated calibrations and settling sensors with known truth, for the tests and, at larger size, for `make bench`."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.fitting import calibrate
from common_bench.calibrate.steady import HOLD, PROPOSE, STRETCHES, steadiness
from common_bench.model.block import Floats, Series
from common_bench.model.calibration import CurveChoice, ReferencePoint
from common_bench.model.uncertainty import combined, coverage_factor

COUNTS_TO_OHMS = ("voltage = reading * 3.30 V / 4095", "resistance = 10000 ohm * voltage / (3.30 V - voltage)")


class Truth(NamedTuple):
    """What is true of a sensor: the quantity at a reading, and where its points lie."""

    kind: str
    unit: str
    at: Floats
    value: Callable[[Floats], Floats]
    u_reading: float
    noise: float
    u_reference: float
    steps: tuple[str, ...] = ()


def _kelvin(x: Floats) -> Floats:
    return 1 / (1.129e-3 + 2.341e-4 * np.log(x) + 8.77e-8 * np.log(x) ** 3) - 273.15


def _through_divider(counts: Floats) -> Floats:
    volts = counts * 3.3 / 4095
    return _kelvin(10000 * volts / (3.3 - volts))


_TABLE_AT = np.array([120.0, 260.0, 410.0, 600.0, 820.0, 990.0])
TRUTHS = (
    Truth("offset only", "°C", np.array([5.0, 20.0, 60.0]), lambda x: x + 0.7, 0.03, 0.1, 0.05),
    Truth("proportion", "N", np.array([2e4, 1e5, 3e5]), lambda x: 9.8e-6 * x, 30.0, 60.0, 0.003),
    Truth("straight line", "N", np.array([8.4e3, 1.1e5, 2.1e5, 3.1e5]), lambda x: -0.08 + 9.8e-6 * x, 30.0, 60.0, 0.003),
    Truth("polynomial of degree 2", "m", np.linspace(100, 900, 6), lambda x: 1 + 2e-3 * x + 1e-6 * x**2, 1.0, 2.0, 0.004),
    Truth("polynomial of degree 3", "m", np.linspace(100, 900, 7), lambda x: 1 + 4e-3 * x - 3e-6 * x**2 + 2e-9 * x**3, 1.0, 2.0, 0.004),
    Truth("power", "m", np.geomspace(50, 900, 6), lambda x: 4 * x**-0.7, 0.5, 1.0, 0.003),
    Truth("logarithmic", "lx", np.geomspace(20, 900, 5), lambda x: 3 + 12 * np.log(x), 0.3, 0.6, 0.2),
    Truth("exponential", "kPa", np.linspace(100, 700, 6), lambda x: 20 * np.exp(0.003 * x), 0.5, 1.0, 0.2),
    Truth("thermistor, three parameters", "°C", np.geomspace(3600, 32000, 6), _kelvin, 10.0, 20.0, 0.08),
    Truth("thermistor, two parameters", "°C", np.geomspace(3600, 32000, 5),
          lambda x: 1 / (1 / 298.15 + np.log(x / 1e4) / 3950) - 273.15, 10.0, 20.0, 0.08),
    Truth("thermistor, three parameters", "°C", np.linspace(900, 3200, 6), _through_divider, 0.5, 1.5, 0.08, COUNTS_TO_OHMS),
    Truth("monotone table", "kPa", _TABLE_AT,
          lambda x: 100 + 60 * np.log1p(x / 80) + 1e-4 * x**2, 0.5, 1.0, 0.4),
)  # fmt: skip


def points_of(truth: Truth, dice: np.random.Generator) -> list[ReferencePoint]:
    """Points as a class takes them: the reference is off by its uncertainty, so is the mean reading."""
    value = truth.value(truth.at)
    return [
        ReferencePoint(
            f"{k}", float(x + dice.normal(0, truth.u_reading)), truth.u_reading,
            float(y + dice.normal(0, truth.u_reference)), truth.u_reference, truth.unit, scatter=truth.noise,
        )
        for k, (x, y) in enumerate(zip(truth.at, value, strict=True))
    ]  # fmt: skip


def coverage(truth: Truth, trials: int, seed: int) -> float:
    """The share of simulated calibrations whose 95% interval of a single new reading's value, at a place between
    the points, holds the truth."""
    dice = np.random.default_rng(seed)
    held = 0
    for _ in range(trials):
        ready = Applied(calibrate("c", "q", truth.unit, CurveChoice(truth.kind, truth.steps), points_of(truth, dice)))
        true = dice.uniform(truth.at.min(), truth.at.max())
        series = ready.series(np.zeros(1), np.array([true + dice.normal(0, truth.noise)]))
        held += holds(series, float(truth.value(np.array([true]))[0]))
    return held / trials


def holds(series: Series, true: float) -> bool:
    """Whether the 95% interval of a series of one value holds the truth."""
    u, dof = combined({source: float(share[0]) for source, share in series.parts.items()})
    return bool(abs(series.values[0] - true) <= coverage_factor(dof) * u)


def table_coverage(points: int, trials: int, seed: int, u_reference: float) -> tuple[float, float]:
    """The same for tables through points of simulated thermistors, bare or in a divider, at places between them; and the
    median uncertainty beside u_reference."""
    dice = np.random.default_rng(seed)
    held, sizes = 0, []
    while len(sizes) < trials:
        low, high = np.sort(dice.uniform(-10, 100, 2))
        if high - low < 30:
            continue
        bend, beside = dice.uniform(2800, 4600), 10 ** dice.uniform(3.5, 4.5)
        divided = dice.random() < 0.5

        def reading(t: Floats, bend: float = bend, beside: float = beside, divided: bool = divided) -> Floats:
            ohms = 1e4 * np.exp(bend * (1 / (t + 273.15) - 1 / 298.15))
            return 4095 * ohms / (ohms + beside) if divided else ohms

        at = low + (high - low) * (np.arange(points) + np.r_[0, dice.uniform(-0.2, 0.2, points - 2), 0]) / (points - 1)
        taken = [
            ReferencePoint(f"{k}", float(x), 1e-6, float(y), u_reference, "°C")
            for k, (x, y) in enumerate(zip(reading(at), at + dice.normal(0, u_reference, points), strict=True))
        ]
        true = dice.uniform(low, high)
        series = Applied(calibrate("c", "q", "°C", "monotone table", taken)).series(
            np.zeros(1), reading(np.array([true]))
        )
        held += holds(series, true)
        sizes.append(float(series.u[0]))
    return held / trials, float(np.median(sizes)) / u_reference


class Settled(NamedTuple):
    """false: share of signals called steady while more than twice the limit was still to come; delay: (n,) s from
    the moment at which no more than the limit was still to come, the best that can be, to the call."""

    false: float
    delay: Floats


def settling(trials: int, seed: int, *, rate: float = 50.0, every: float = 0.4, noise: float = 30.0) -> Settled:
    """Sensors that settle exponentially, by 10 to 3000 times their noise with 0.3 to 20 s, looked at several times a
    second until they are called steady."""
    dice = np.random.default_rng(seed)
    false, delays = 0, []
    for _ in range(trials):
        tau = float(np.exp(dice.uniform(np.log(0.3), np.log(20))))
        size = noise * float(np.exp(dice.uniform(np.log(10), np.log(3000)))) * dice.choice([-1, 1])
        best = tau * float(np.log(abs(size) / (PROPOSE * noise)))
        t = np.arange(0, best + 60, 1 / rate)
        y = size * (1 - np.exp(-t / tau)) + dice.normal(0, noise, len(t))
        # Nothing is called steady long before its time: looking begins at a fifth of it, to save time.
        for now in np.arange(max(2.0, best / 5), t[-1], every):
            cut = slice(np.searchsorted(t, now - 1.1 * STRETCHES[-1] * max(1.0, 10 / rate)), np.searchsorted(t, now))
            found = steadiness(t[cut], y[cut])
            if found.steady:
                left = abs(size) * np.exp(-now / tau)
                false += bool(left > 2 * max(HOLD * (found.limits.drift or 0.0), noise))
                delays.append(now - best)
                break
    return Settled(false / trials, np.array(delays))


class KindOfClass(NamedTuple):
    """How a simulated class scatters, in standard uncertainties that a run states: between groups, from run to run; values of
    the condition that each group visits."""

    name: str
    between: float = 0.0
    within: float = 1.0
    visits: int = 1


KINDS_OF_CLASS = (
    KindOfClass("stated is right"), KindOfClass("groups scatter as much", between=1.0), KindOfClass("groups scatter 3 times", between=3.0),
    KindOfClass("groups scatter 10 times", between=10.0), KindOfClass("runs scatter 5 times", within=5.0),
    KindOfClass("condition changed", between=1.0, visits=3), KindOfClass("condition changed, 10 times", between=10.0, visits=3),
)  # fmt: skip
STATED_U, U_OF_X, TRUE_SLOPE = 0.02, 0.003, 4.0


class ClassPlaces(NamedTuple):
    """Places of a simulated class, as `group_line` takes them, the true slope, and the standard uncertainty of it by the best
    linear estimator, which knows all variances."""

    x: Floats
    y: Floats
    u_x: Floats
    v: Floats
    groups: np.ndarray
    slope: float
    best_u: float


def class_places(dice: np.random.Generator, kind: KindOfClass, *, groups: int, runs: int) -> ClassPlaces:
    """A class of so many groups with so many runs at each value; what runs scatter is pooled over groups where they repeat."""
    of = np.repeat(np.arange(groups), kind.visits)
    grid = np.linspace(0, 1, groups) if kind.visits == 1 else np.linspace(0, 1, 2 * kind.visits)
    visited = (
        grid if kind.visits == 1 else np.concatenate([dice.permutation(grid)[: kind.visits] for _ in range(groups)])
    )
    true_x = 0.5 + 0.8 * visited
    off = dice.normal(0, kind.between * STATED_U, groups) if kind.between else np.zeros(groups)
    each = TRUE_SLOPE * true_x[:, None] + off[of][:, None] + dice.normal(0, kind.within * STATED_U, (len(of), runs))
    seen = float(np.mean(np.var(each, axis=1, ddof=1))) if runs > 1 else STATED_U**2
    v = np.full(len(of), max(STATED_U**2, seen) / runs)
    own = (kind.within * STATED_U) ** 2 / runs + (TRUE_SLOPE * U_OF_X) ** 2
    covariance = own * np.eye(len(of)) + (kind.between * STATED_U) ** 2 * (of[:, None] == of[None, :])
    matrix = np.column_stack([np.ones(len(of)), true_x])
    best = np.linalg.inv(matrix.T @ np.linalg.solve(covariance, matrix))
    x = true_x + dice.normal(0, U_OF_X, len(of))
    return ClassPlaces(x, each.mean(axis=1), np.full(len(of), U_OF_X), v, of, TRUE_SLOPE, float(best[1, 1] ** 0.5))
