"""The tops of a noisy quantity: readings about a highest one in; when it was, how high, and how well both are known out.

A polynomial is fitted over a window that is matched to the signal: as wide as the quantity still is such a polynomial, as
far as its noise lets that be told. Widths and degrees are tried one after the other; those to which two more powers would
add something beyond the noise are left out, and of the others the one is taken that knows the top best. Tops among readings
at even distances are worked out together; each comes out as it would alone.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np

from common_bench.model.block import Floats, Ints
from common_bench.workings.top_loops import tops_at, windows_at
from common_bench.workings.window_loops import come_evenly

Best = Literal["t", "value"]
Windows = tuple[Ints, Floats, Floats, Floats, Floats]


class Top(NamedTuple):
    """t in s and value of the top; u_t and u_value, their standard uncertainties from the scatter about the curve."""

    t: float
    value: float
    u_t: float
    u_value: float


def top_of(t: Floats, v: Floats, at: int, *, best: Best = "t") -> Top:
    """The top about the highest reading, `at`, of (n,) readings; best: what is to be known best."""
    found = tops_of(t, v, np.array([0]), np.array([at]), np.array([len(t)]), best=best)
    return Top(*(float(each) for each in found[:, 0]))


def tops_of(
    t: Floats, v: Floats, low: Ints, at: Ints, high: Ints, *, best: Best = "t", least: Floats | None = None
) -> Floats:
    """(4, m) t, value, u_t and u_value of the tops about the readings `at`, each among those from `low` to `high`.

    least: (n,) what single readings are known to scatter at least, where neighbours have their errors in common.
    """
    even = come_evenly(t, low, high - 1)
    found = np.empty((4, len(at)))
    by = 2 if best == "t" else 3
    spacing = (t[high - 1] - t[low]) / np.maximum(1, high - low - 1)
    v = np.ascontiguousarray(v)
    scatter = np.zeros(len(at)) if least is None else least[at]
    for each in np.flatnonzero(~even).tolist():
        here, middle, length = (
            slice(int(low[each]), int(high[each])),
            int(at[each] - low[each]),
            int(high[each] - low[each]),
        )
        place = (t[here] - t[at[each]]) / spacing[each] if spacing[each] > 0 else np.zeros(0)
        found[:, each] = tops_at(
            v, low[each : each + 1], length, middle, *windows_at(place), by, scatter[each : each + 1]
        )[0]
    alike = np.where(even, (high - low) * len(t) + (at - low), -1)
    for both in np.unique(alike[even]).tolist():
        length, middle = divmod(both, len(t))
        chosen = np.flatnonzero(alike == both)
        found[:, chosen] = tops_at(
            v, low[chosen], length, middle, *_even_windows(length, middle), by, scatter[chosen]
        ).T
    found[0], found[2] = t[at] + found[0] * spacing, found[2] * spacing
    return found


@lru_cache(maxsize=256)
def _even_windows(length: int, at: int) -> Windows:
    return windows_at(np.arange(float(length)) - at)
