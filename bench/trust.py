"""What each uncertainty promises, simulated with a known truth: the share of intervals that hold it, and their width."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from promises import PROMISES

TRIALS = 2000  # tell 94 from 95 of 100 twice over
SLOW = ("a clock", "reference point", "times of peaks")  # of which fewer are done
FEWER = 300

Told = Callable[[str, str, str, bool], None]


def trust(told: Told) -> None:
    """One line a promise."""
    for seed, promise in enumerate(PROMISES):
        trials = FEWER if any(word in promise.name for word in SLOW) else TRIALS
        kept = promise.kept(trials, np.random.default_rng(1000 + seed))
        asked = f"{100 * promise.least:.0f} to {100 * promise.most:.0f} of 100"
        met = promise.least <= kept.held <= promise.most
        told(promise.name, f"{100 * kept.held:.1f} of 100, {kept.width:.2f} × the best width", asked, met)
