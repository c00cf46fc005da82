"""Whether a quantity is steady now, asked again and again while a run waits or goes on."""

from __future__ import annotations

import numpy as np

from common_bench.calibrate.steady import Limits, steadiness
from common_bench.record.live import LiveWindow

LOOKED_BACK = 25.0  # s
EVERY = 0.25  # s between two looks: each takes about a millisecond


class SteadyWatch:
    """Only readings since it was begun count."""

    def __init__(self, name: str, limits: Limits, since: float) -> None:
        self._name, self._limits, self._since, self._next = name, limits, since, since

    def look(self, live: LiveWindow, at: float) -> bool:
        """at: s on the engine's clock."""
        if at < self._next:
            return False
        self._next = at + EVERY
        recent = live.recent(self._name, LOOKED_BACK)
        own = (recent.t >= self._since) & np.isfinite(recent.values)
        return steadiness(recent.t[own], recent.values[own], self._limits).steady
