"""Readings that lie far from their neighbours: proposed to be set aside, never set aside by themselves."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Series

NEIGHBOURS = 7  # readings of the running median
FAR = 5.0  # scatters
MOST = 40  # stretches that are proposed
TOGETHER = 2  # readings between two that make one stretch


def far_readings(series: Series, far: float = FAR) -> list[tuple[float, float]]:
    """Stretches (from, to) in s of readings more than `far` scatters from the running median of their neighbours. The scatter is
    that of the distances from it, by their median (1.4826 times, as of a normal distribution), and no less than what the
    quantity's own steps make of it."""
    known = np.flatnonzero(np.isfinite(series.values))
    if len(known) < 3 * NEIGHBOURS:
        return []
    from scipy.ndimage import median_filter

    t, values = series.t[known], series.values[known]
    off = np.abs(values - median_filter(values, NEIGHBOURS, mode="nearest"))
    scatter = 1.4826 * float(np.median(off))
    steps = np.abs(np.diff(values))
    smallest = float(np.min(steps, where=steps > 0, initial=np.inf))
    scatter = max(scatter, smallest / 2 if np.isfinite(smallest) else 0.0)
    bent = np.abs(
        np.convolve(values, [0.25, -0.5, 0.25], mode="same")
    )  # where it bends, neighbours differ without fault
    usual = median_filter(bent, 4 * NEIGHBOURS + 1, mode="nearest")
    out = np.flatnonzero(off > far * np.maximum(scatter, 3 * usual)) if scatter > 0 else np.empty(0, int)
    stretches: list[list[int]] = []
    for row in out.tolist():
        if stretches and row - stretches[-1][1] <= TOGETHER:
            stretches[-1][1] = row
        else:
            stretches.append([row, row])
    half = 0.4 * float(np.median(np.diff(t)))
    return [(float(t[low]) - half, float(t[high]) + half) for low, high in stretches[:MOST]]
