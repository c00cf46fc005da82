"""Calibration measured: coverage at larger size, the steady detector, speed of applying and of refitting.

Run by `make bench`, or alone as `python bench/measure.py calibration`.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.fitting import calibrate
from common_bench.model.calibration import CurveChoice
from simulated import TRUTHS, coverage, points_of, settling

READINGS = 1_000_000
TRIALS = 20_000
SIGNALS = 1500
Told = Callable[[str, str, str, bool], None]
POLYNOMIALS = {
    "offset only": 1,
    "proportion": 1,
    "straight line": 1,
    "polynomial of degree 2": 2,
    "polynomial of degree 3": 3,
}


def best_of(times: int, act: Callable[[], object]) -> float:
    """The shortest of several runs in s: what the machine can do when nothing disturbs it."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        act()
        found.append(time.perf_counter() - began)
    return min(found)


def speed(told: Told) -> None:
    dice = np.random.default_rng(1)
    for truth in TRUTHS:
        points = points_of(truth, dice)
        choice = CurveChoice(truth.kind, truth.steps)
        ready = Applied(calibrate("c", "q", truth.unit, choice, points))
        raw = dice.uniform(truth.at.min(), truth.at.max(), READINGS)
        t = np.zeros(READINGS)
        degree = POLYNOMIALS.get(truth.kind, 1)
        bare = np.polyfit(truth.at, truth.value(truth.at), degree)
        ours = best_of(7, lambda r=ready, x=raw, at=t: r.series(at, x))
        yardstick = best_of(7, lambda c=bare, x=raw: np.polyval(c, x))
        name = truth.kind + (" after 2 steps" if truth.steps else "")
        limit = 5.0 if truth.kind in POLYNOMIALS else float("inf")
        ratio = ours / yardstick
        told(
            f"10⁶ readings with uncertainty, {name}",
            f"{ours * 1e3:.0f} ms = {ratio:.1f} × NumPy",
            f"at most 5 × degree {degree}" if limit < 10 else f"shown, × degree {degree}",
            ratio <= limit,
        )
        refit = best_of(5, lambda k=choice, u=truth.unit, p=points: Applied(calibrate("c", "q", u, k, p)))
        told(f"refit on a new point, {name}", f"{refit * 1e3:.1f} ms", "under 20 ms", refit < 0.020)


def calibration(told: Told) -> None:
    speed(told)
    for rate in (50.0, 10.0):
        found = settling(SIGNALS, seed=5, rate=rate, every=0.25)
        told(
            f"false “steady” on {SIGNALS} settling signals, {rate:.0f}/s",
            f"{found.false:.2%}",
            "under 1%",
            found.false < 0.01,
        )
        low, middle, high = np.percentile(found.delay, [5, 50, 95])
        told(
            f"… its delay behind the best possible, {rate:.0f}/s",
            f"{middle:.1f} s ({low:.1f} … {high:.1f})",
            "shown",
            True,
        )
    for truth in TRUTHS:
        share = coverage(truth, TRIALS, seed=77)
        name = truth.kind + (" after 2 steps" if truth.steps else "")
        told(f"95% intervals that hold the truth, {name}, {TRIALS}", f"{share:.2%}", "94 to 96%", 0.94 <= share <= 0.96)
