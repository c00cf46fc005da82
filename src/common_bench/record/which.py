"""Which is which? Live windows in; the kit and channel that change most against their own noise out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from common_bench.record.live import LiveWindow

BASE = 3.0  # s before listening began, from which a channel's own ways are known
RECENT = 1.0  # s in which a change is looked for
LEAST = 5  # readings in either
CLEAR = 6.0  # times its own noise, before anything is called a change
AHEAD = 1.5  # times the next kit's change, before one is named


class Changed(NamedTuple):
    """kit, channel: what changed; times: how many times its own noise; others: the next kit's."""

    kit: int
    channel: str
    times: float
    others: float

    @property
    def clear(self) -> bool:
        return self.times > CLEAR and self.times > AHEAD * self.others


class WhichIsWhich:
    """Remembers what each channel did before listening began, so that a swinging bottle does not win by swinging."""

    def __init__(self, windows: Mapping[int, LiveWindow], speed: float = 1.0) -> None:
        """windows: kit -> its live window; speed: world s per s."""
        self._recent = RECENT * speed
        self._base: dict[tuple[int, str], tuple[float, float]] = {}
        for kit, window in windows.items():
            for name in window.names():
                if not name.startswith("raw "):
                    continue
                values = window.recent(name, BASE * speed).values
                values = values[np.isfinite(values)]
                if len(values) >= LEAST:
                    step = np.abs(np.diff(values))
                    least = float(step[step > 0].min()) if (step > 0).any() else 1e-3 * abs(float(values[0])) or 1e-9
                    spread = max(float(np.ptp(values)) / 2, least)
                    self._base[kit, name] = float(np.median(values)), spread

    def look(self, windows: Mapping[int, LiveWindow]) -> Changed | None:
        """The kit whose channels have moved farthest out of their own range in the last second; None before any has."""
        best: dict[int, tuple[float, str]] = {}
        for (kit, name), (centre, spread) in self._base.items():
            if kit not in windows:
                continue
            values = windows[kit].recent(name, self._recent).values
            values = values[np.isfinite(values)]
            if len(values) < LEAST:
                continue
            times = float(np.percentile(np.abs(values - centre), 80)) / spread
            if times > best.get(kit, (0.0, ""))[0]:
                best[kit] = times, name.removeprefix("raw ")
        ranked = sorted(best.items(), key=lambda each: -each[1][0])
        if not ranked:
            return None
        kit, (times, channel) = ranked[0]
        return Changed(kit, channel, times, ranked[1][1][0] if len(ranked) > 1 else 0.0)
