"""How often the intervals of fitted parameters hold the truth: white noise, noise that lasts, with and without a common error of the
calibration."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from common_bench.model.block import Series, Source
from common_bench.model.uncertainty import coverage_factor
from common_bench.workings.evaluate import check
from common_bench.workings.over import over_span

Told = Callable[[str, str, str, bool], None]
TRIALS, READINGS, SECONDS, NOISE, LASTS, SCALE = 1000, 300, 10.0, 0.05, 5.0, 0.01
CURVES = {
    "a straight line": ("u fitted by a + b * time", {"a": 3.0, "b": 0.4}, lambda t, a, b: a + b * t),
    "an exponential": ("u fitted by a * exp(-time / b)", {"a": 4.0, "b": 3.0}, lambda t, a, b: a * np.exp(-t / b)),
    "a damped swing": (
        "u fitted by a * exp(-time / b) * sin(c * time + d) + e", {"a": 2.0, "b": 6.0, "c": 4.0, "d": 0.5, "e": 1.0},
        lambda t, a, b, c, d, e: a * np.exp(-t / b) * np.sin(c * t + d) + e,
    ),
}  # fmt: skip
MEASURED, COMMON = Source("noise", False), Source("calibration", True)


def noise_of(dice: np.random.Generator, *, lasts: bool) -> np.ndarray:
    """(n,) white noise, or one whose correlation falls to 1/e after LASTS readings."""
    white = dice.normal(0, 1, READINGS)
    if not lasts:
        return NOISE * white
    keep = np.exp(-1 / LASTS)
    found = np.empty(READINGS)
    found[0] = white[0]
    for at in range(1, READINGS):
        found[at] = keep * found[at - 1] + (1 - keep**2) ** 0.5 * white[at]
    return NOISE * found


def fit_coverage(told: Told) -> None:
    t = np.linspace(0, SECONDS, READINGS)
    for words, (text, truth, curve) in CURVES.items():
        lines = ["u = calibrated load", f"fit = {text}", *(f"{name}_of = {name} of fit" for name in truth)]
        workings = check(lines, {"load": "V"})
        assert not workings.troubles, workings.troubles[0].sentence
        units = {f"{name}_of": workings.kinds[f"{name}_of"].unit for name in truth}
        for lasts in (False, True):
            for common in (False, True):
                dice = np.random.default_rng(7)
                inside, count = dict.fromkeys(truth, 0), 0
                for _ in range(TRIALS):
                    scale = 1 + SCALE * dice.normal() if common else 1.0
                    values = scale * (curve(t, *truth.values()) + noise_of(dice, lasts=lasts))
                    parts = {MEASURED: np.full(READINGS, NOISE), **({COMMON: SCALE * values} if common else {})}
                    numbers = over_span(workings, {"u": Series(t, values, "V", parts)}, (0.0, SECONDS))
                    count += 1
                    given = {name: numbers[f"{name}_of"].measured for name in truth}
                    turned = "d" in truth and given["a"].value < 0  # the same curve, half a turn on
                    for name, value in truth.items():
                        found, off = given[name], given[name].value - value
                        if turned and name == "a":
                            off = -found.value - value
                        if name == "d":
                            off = (off + np.pi * turned + np.pi) % (2 * np.pi) - np.pi
                        inside[name] += abs(off) <= coverage_factor(found.dof) * found.u
                shares = {name: 100 * hits / count for name, hits in inside.items()}
                low, high = (92, 97) if lasts else (94, 96)
                slack = 2 * (95 * 5 / count) ** 0.5  # what the number of trials leaves open
                how = f"noise that lasts {LASTS:g} readings" if lasts else "white noise"
                name = f"{words}, {how}{', 1% common' if common else ''}: 95% intervals hold"
                met = all(low - slack <= share <= high + slack for share in shares.values())
                told(name, " ".join(f"{each} {share:.1f}" for each, share in shares.items()), f"{low} to {high}", met)
    assert units
