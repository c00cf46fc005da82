"""Workings measured: ten of them over 10^6 readings beside the same by hand in NumPy and SciPy; live; while typing.

Run by `make bench`, or alone as `python bench/measure.py workings`.
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from common_bench.model.block import Block, Floats, Series, Source
from common_bench.record.replay import AT_ONCE  # as a run that is worked up again is cut
from common_bench.workings.evaluate import Evaluator, check
from common_bench.workings.reading import read_working

READINGS, RATE = 1_000_000, 50.0
MOST_TIMES, MOST_OF_A_CORE, MOST_TO_CHECK = 4.0, 0.2, 5e-3
ROUNDS = 6  # of both in turn, of which the best of each counts
KITS, LIVE_RATE, LIVE_TURN = 32, 100.0, 0.25  # readings/s; s, after which readings come to be worked out
Told = Callable[[str, str, str, bool], None]
LINES = [
    "force = calibrated load",
    "weight = force * 2 + 0.5 N",
    "energy = 1/2 * 0.2 kg * (force / 1 kg * 1 s)^2",
    "angle = sin(force / 10 N) + sqrt(force / 1 N)",
    "jerk = rate of force over 0.4 s",
    "calm = smooth force over 0.3 s",
    "clean = middle of force over 5 readings",
    "push = total of force",
    "pass = peaks in force above 2.2 N, 0.4 s apart",
    "swing = gap between pass",
]


def signal() -> tuple[Floats, Floats]:
    dice = np.random.default_rng(4)
    t = np.arange(READINGS) / RATE
    return t, 2 + 0.5 * np.sin(2 * np.pi * 0.9 * t) + dice.normal(0, 0.01, READINGS)


def by_hand(t: Floats, v: Floats) -> object:
    """What the ten lines do, without units, uncertainties, gaps or uneven times."""
    from scipy.ndimage import median_filter
    from scipy.signal import find_peaks, savgol_filter

    weight = v * 2 + 0.5
    energy = 0.5 * 0.2 * v**2
    angle = np.sin(v / 10) + np.sqrt(v)
    jerk = savgol_filter(v, 21, 2, deriv=1, delta=1 / RATE)
    calm = savgol_filter(v, 15, 2)
    clean = median_filter(v, 5)
    push = np.concatenate([[0.0], np.cumsum((v[1:] + v[:-1]) / 2 * np.diff(t))])
    tops, _ = find_peaks(v, height=2.2, distance=20)
    before, at, after = v[tops - 1], v[tops], v[tops + 1]
    times = t[tops] + (before - after) / (2 * (before - 2 * at + after)) / RATE
    return weight, energy, angle, jerk, calm, clean, push, np.diff(times)


def in_blocks(lines: list[str], t: Floats, v: Floats, size: int) -> Evaluator:
    workings = check(lines, {"load": "N"})
    assert not workings.troubles
    evaluator = Evaluator(workings)
    noise, scale = Source("noise", False), Source("calibration", True)
    whole = Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {"load": v}, np.full(len(t), 1e-5), 1e-3)
    u = np.full(len(t), 0.01)
    for low in range(0, len(t), size):
        cut = slice(low, low + size)
        evaluator.push(
            whole.part(low, low + size), {"load": Series(t[cut], v[cut], "N", {noise: u[cut], scale: 1e-3 * v[cut]})}
        )
    return evaluator


def seconds(act: Callable[[], object], times: int = 3) -> float:
    found = []
    for _ in range(times):
        began = time.process_time()
        act()
        found.append(time.process_time() - began)
    return min(found)


def workings(told: Told) -> None:
    t, v = signal()
    by_hand(t, v)
    both = [
        (seconds(lambda: by_hand(t, v), 1), seconds(lambda: in_blocks(LINES, t, v, AT_ONCE), 1)) for _ in range(ROUNDS)
    ]
    hand, ours = (min(each) for each in zip(*both, strict=True))
    told("ten workings by hand (NumPy, SciPy), 10⁶ readings", f"{hand:.2f} s", "(yardstick)", True)
    told("ten workings, with units and uncertainties", f"{ours:.2f} s", "", True)
    told("ratio", f"{ours / hand:.1f} ×", f"at most {MOST_TIMES:g} ×", ours <= MOST_TIMES * hand)
    for line in LINES[1:]:
        needed = [LINES[0], *([LINES[8]] if line is LINES[9] else []), line]
        told(f"  {line[:46]}", f"{seconds(lambda needed=needed: in_blocks(needed, t, v, AT_ONCE), 1):.2f} s", "", True)  # type: ignore[misc]
    length, size = 20.0, int(LIVE_RATE * LIVE_TURN)
    some = np.arange(0, length, 1 / LIVE_RATE)
    one = seconds(lambda: in_blocks(LINES, some, v[: len(some)], size), 2)
    share = one * KITS / length
    told(f"live, {KITS} kits at {LIVE_RATE:g}/s, looked at {1 / LIVE_TURN:g} times a second", f"{share:.1%} of a core", f"under {MOST_OF_A_CORE:.0%}", share < MOST_OF_A_CORE)  # fmt: skip
    read_working("x = 1")
    typed = "energy = 1/2 * 0.2 kg * (rate of force over 0.4 s)^2 as J"
    checked = []
    for at in range(len("energy = 1"), len(typed) + 1):
        lines = [*LINES[:3], *LINES[3:], typed[:at] + " " * (at % 2)]
        began = time.perf_counter()
        check(lines, {"load": "N"})
        checked.append(time.perf_counter() - began)
    most = float(np.quantile(checked, 0.95))
    told("a line checked as it is typed, 95 of 100", f"{1000 * most:.1f} ms", "under 5 ms", most < MOST_TO_CHECK)
