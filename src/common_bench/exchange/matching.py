"""Where a logged trace lies in one that another kit recorded: what both have seen of one event tells. Two traces in; the shift between
their times, and how sure it is, out."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from common_bench.model.block import Floats

MOST = 1 << 16  # values of each trace on a common even grid
STILL = 1e-3  # of what a trace moves at most, below which a part of it does not move
LEAST = 16  # of them that must lie over one another
LEAST_SHARE = 0.25  # of the shorter trace
SURE, LIKELY = 0.7, 0.45  # likeness, from which a match is called so
APART, NEAR = 0.85, 0.95  # of the best likeness that another place may reach, for the best to be sure, and likely


@dataclass(frozen=True)
class Match:
    """shift: s after the other trace's beginning at which this one begins; likeness: correlation there, negative where one rises as
    the other falls; rival: the best likeness at any other place; step: s of the grid on which they were held together."""

    shift: float
    likeness: float
    rival: float
    step: float

    @property
    def words(self) -> str:
        """How sure it is."""
        best = abs(self.likeness)
        if best >= SURE and self.rival <= APART * best:
            how = "sure"
        else:
            how = "likely" if best >= LIKELY and self.rival <= NEAR * best else "not sure"
        upside = ", upside down" if self.likeness < 0 else ""
        return f"{how}: the traces are alike by {best:.2f}{upside}, elsewhere by {self.rival:.2f} at most"


def matched(t: Floats, values: Floats, other_t: Floats, other: Floats) -> Match | None:
    """t (n,), other_t (m,): s, rising, each from its own beginning; values that are no numbers count as nothing. None where too
    little lies over one another anywhere, or a trace does not move."""
    step = max(_usual(t), _usual(other_t), float(np.ptp(t)) / MOST if len(t) else 0.0, float(np.ptp(other_t)) / MOST if len(other_t) else 0.0)  # fmt: skip
    if not step > 0 or not math.isfinite(step):
        return None
    a, in_a = _even(t, values, step)
    b, in_b = _even(other_t, other, step)
    if in_a.sum() < LEAST or in_b.sum() < LEAST or not a.any() or not b.any():
        return None
    size = 1 << int(np.ceil(np.log2(len(a) + len(b))))
    spectra = {name: np.fft.rfft(each, size) for name, each in {"a": a, "b": b, "aa": a * a, "bb": b * b, "na": in_a.astype(float), "nb": in_b.astype(float)}.items()}  # fmt: skip

    def along(one: str, two: str) -> Floats:
        """Σ one(k) two(k + lag), from the lag −(len(a) − 1) on."""
        whole = np.fft.irfft(np.conj(spectra[one]) * spectra[two], size)
        return np.concatenate([whole[size - len(a) + 1 :], whole[: len(b)]])

    together = np.maximum(along("na", "nb"), 0.0)
    enough = together >= max(LEAST, LEAST_SHARE * min(in_a.sum(), in_b.sum()))
    count, sum_a, sum_b = np.maximum(together, 1.0), along("a", "nb"), along("na", "b")
    energies = (
        np.maximum(along("aa", "nb") - sum_a**2 / count, 0.0),
        np.maximum(along("na", "bb") - sum_b**2 / count, 0.0),
    )
    known = enough & (energies[0] > STILL * float(energies[0].max())) & (energies[1] > STILL * float(energies[1].max()))
    if not known.any():
        return None
    size_of = np.sqrt(np.where(known, energies[0] * energies[1], 1.0))
    alike = np.where(known, (along("a", "b") - sum_a * sum_b / count) / size_of, 0.0)
    share = np.minimum(1.0, together / min(in_a.sum(), in_b.sum()))
    likeness = alike * np.sqrt(share)  # what is alike by chance is so where little lies over one another
    best = int(np.argmax(np.abs(likeness)))
    top = abs(float(likeness[best]))
    low, high = best, best  # the hill that the best place stands on, down to where it has lost half of its height
    while low > 0 and abs(likeness[low - 1]) >= top / 2:
        low -= 1
    while high < len(likeness) - 1 and abs(likeness[high + 1]) >= top / 2:
        high += 1
    rival = float(np.abs(np.concatenate([likeness[:low], likeness[high + 1 :]])).max(initial=0.0))
    lag = best - (len(a) - 1) + _between(np.abs(likeness), best)
    return Match(float(other_t[0] - t[0] + lag * step), float(likeness[best]), rival, step)


def _usual(t: Floats) -> float:
    steps = np.diff(t)
    return float(np.median(steps[steps > 0])) if (steps > 0).any() else math.nan


def _even(t: Floats, values: Floats, step: float) -> tuple[Floats, np.ndarray]:
    """On an even grid from its beginning, about its mean, with 0 where nothing is known; and where something is."""
    known = np.isfinite(values)
    if known.sum() < 2 or not np.ptp(values[known]) > 0:
        return np.zeros(1), np.zeros(1, bool)
    grid = t[0] + step * np.arange(int(float(t[-1] - t[0]) / step) + 1)
    there = np.interp(grid, t[known], values[known])
    nearest = np.abs(grid - t[known][np.clip(np.searchsorted(t[known], grid), 0, int(known.sum()) - 1)])
    before = np.abs(grid - t[known][np.clip(np.searchsorted(t[known], grid) - 1, 0, int(known.sum()) - 1)])
    inside = np.minimum(nearest, before) <= 2 * step
    line = np.polyfit(grid[inside] - grid[0], there[inside], 1) if inside.sum() > 2 else [0.0, float(there.mean())]
    return np.where(inside, there - np.polyval(line, grid - grid[0]), 0.0), inside


def _between(likeness: Floats, at: int) -> float:
    """How far from a place of the grid the top of the parabola through it and its neighbours lies, in steps."""
    if not 0 < at < len(likeness) - 1:
        return 0.0
    left, top, right = (float(each) for each in likeness[at - 1 : at + 2])
    bend = left - 2 * top + right
    return 0.5 * (left - right) / bend if bend < 0 else 0.0
