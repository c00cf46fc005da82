"""What forms over several readings share: sums that do not depend on what else is summed beside them, the source of what was
averaged, and which readings come evenly."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.model.block import Bools, Floats, Ints, Source

EVEN = 3e-9  # of the distance of readings, by which two neighbouring ones may differ and count as even


def added(rows: Floats | Sequence[Floats]) -> Floats:
    """(k, n) -> (n,) sums, added one after the other, so that they do not depend on how many stand beside each other."""
    total: Floats = rows[0].copy()
    for row in rows[1:]:
        total += row
    return total


def averaged(source: Source, name: str) -> Source:
    """Of what is independent from reading to reading, the share that several readings have in a form at this place."""
    return source._replace(which=f"{source.which} in {name}")


def come_evenly(t: Floats, first: Ints, last: Ints) -> Bools:
    """(m,) whether the readings from each `first` to its `last`, both among the (n,) at t, come at even distances."""
    bent = np.zeros(len(t) + 1, np.int64)  # how many before each reading have neighbours at two distances
    if len(t) > 2:
        steps = np.diff(t)
        bent[2:-1] = np.cumsum(np.abs(np.diff(steps)) > EVEN * np.maximum(steps[1:], 0.0))
        bent[-1] = bent[-2]
    return np.asarray(bent[last] == bent[np.minimum(first + 1, last)])
