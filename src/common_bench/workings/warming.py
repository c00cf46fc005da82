"""Everything that is compiled, made ready before it is asked for: nothing in, nothing out, half a minute the first time on a
machine and a second afterwards. `setup/ready` does it once; the desk does it beside its first window."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Block, Series, Source
from common_bench.workings.evaluate import Evaluator, check
from common_bench.workings.over import over_span
from common_bench.workings.thinning import extremes, laid_out, moved_on, spread

LINES = (
    "x = calibrated raw", "slope = rate of x over 0.4 s", "calm = smooth x over 0.3 s", "clean = middle of x over 5 readings",
    "push = total of x", "top = peaks in x above 0.5, 0.4 s apart", "rise = rises of x through 0", "most = largest of x",
    "all = area under x",
)  # fmt: skip
READINGS, SPACING = 400, 0.02


def warm() -> None:
    """Works a little signal out, at even times and at uneven ones, so that every loop is compiled or fetched."""
    steps = np.where(np.arange(READINGS) % 200 < 100, SPACING, SPACING * (1 + 0.1 * (np.arange(READINGS) % 2)))
    t = np.cumsum(steps)
    x = np.sin(6 * t) + 0.01 * (np.arange(READINGS) * 7 % 11)
    parts = {Source("noise", False): np.full(READINGS, 0.01), Source("scale", True): 1e-3 * x}
    block = Block(t, t, t, np.arange(READINGS), np.zeros(READINGS, bool), {"raw": x}, np.zeros(READINGS))
    workings = check(LINES, {"raw": ""})
    results = Evaluator(workings).push(block, {"raw": Series(t, x, "", parts)})
    extremes(t, x, 1.0, np.zeros(READINGS, bool))
    moved_on(t, x, 1.0, t, x, 0.0)
    spread(x)
    laid_out(t, x, 0.0, 1.0, 0.0, 0.0, 1.0, np.empty((READINGS, 2)))
    over_span(workings, results, (float(t[0]), float(t[-1])))
