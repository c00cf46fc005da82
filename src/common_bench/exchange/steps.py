"""What is asked of the steps of a long column, a piece at a time: arrays as long as the column would take several times as long to come
as what is worked out in them. (n,) values in."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Bools, Floats, Ints

AT_ONCE = 1 << 13
LONG = 1 << 17  # values, from which it is worth while to have the compiler's library
MOST_LOOKED_AT = (
    1 << 14
)  # steps of which the middle one is sought; of more, as many of them drawn by lot, always the same


class Steps(NamedTuple):
    """The smallest and the largest step of a column, how many steps rise, and how many fall; nan and 0 where there are none, or a value is
    missing."""

    low: float
    high: float
    rising: int
    falling: int


def steps_of(values: Floats) -> Steps:
    """All that is asked of them at once."""
    if len(values) >= LONG:
        from common_bench.exchange.row_loops import steps_in

        return Steps(*steps_in(values))
    steps = np.diff(values)
    if not len(steps) or not np.isfinite(steps).all():
        return Steps(float("nan"), float("nan"), 0, 0)
    return Steps(float(steps.min()), float(steps.max()), int((steps > 0).sum()), int((steps < 0).sum()))


def are_known(values: Floats) -> bool:
    """Whether none is missing."""
    return all(bool(np.isfinite(values[low : low + AT_ONCE]).all()) for low in range(0, len(values), AT_ONCE))


def steps_that(values: Floats, meet: Callable[[Floats], Bools]) -> Ints:
    """Places of values whose step from the one before meets something."""
    found = [np.flatnonzero(meet(steps)) + low + 1 for low, steps in _pieces(values)]
    return np.concatenate(found) if found else np.empty(0, np.int64)


def usual_step(values: Floats, *, onwards: bool = False) -> float:
    """The middle one of all steps; onwards: of those that rise. nan where there is none."""
    steps = _some_steps(values)
    found = steps[steps > 0] if onwards else steps
    if not len(found) and len(values) > 1:
        steps = np.diff(values)
        found = steps[steps > 0] if onwards else steps
    return float(np.median(found)) if len(found) else float("nan")


def _pieces(values: Floats) -> Iterator[tuple[int, Floats]]:
    for low in range(0, len(values) - 1, AT_ONCE):
        yield low, np.diff(values[low : low + AT_ONCE + 1])


def _some_steps(values: Floats) -> Floats:
    if len(values) <= MOST_LOOKED_AT:
        return np.diff(values)
    places = np.random.default_rng(0).integers(0, len(values) - 1, MOST_LOOKED_AT)
    return values[places + 1] - values[places]
