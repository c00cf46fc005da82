"""How much a kit has sent over the last seconds. Totals in; lines, readings and bytes per second out."""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

LOOK_BACK = 6.0  # s over which rate, load and unreadable lines are told
EVERY = 1.0  # s


class Totals(NamedTuple):
    """Totals at s: lines, readings, unreadable lines, bytes."""

    at: float
    lines: int
    readings: int
    unreadable: int
    bytes: int


class Tally:
    """Remembers totals once a second, over the last few seconds."""

    def __init__(self) -> None:
        self._seen: deque[Totals] = deque(maxlen=round(LOOK_BACK) + 1)
        self._told: dict[str, float] = {}  # since the totals that were added last

    def clear(self) -> None:
        self._seen.clear()
        self._told.clear()

    def is_due(self, at: float) -> bool:
        return not self._seen or at - self._seen[-1].at >= EVERY

    def add(self, totals: Totals) -> None:
        self._seen.append(totals)
        self._told.clear()

    def per_second(self, what: str) -> float:
        """Lines, readings or bytes per s over the last few seconds; nan while too early."""
        if what not in self._told:
            self._told[what] = self._worked_out(what)
        return self._told[what]

    def _worked_out(self, what: str) -> float:
        if len(self._seen) < 2 or self._seen[-1].at <= self._seen[0].at:
            return float("nan")
        first, last = self._seen[0], self._seen[-1]
        return float(getattr(last, what) - getattr(first, what)) / (last.at - first.at)

    @property
    def lines_and_unreadable(self) -> tuple[int, int]:
        """Of the last few seconds."""
        if len(self._seen) < 2:
            return 0, 0
        first, last = self._seen[0], self._seen[-1]
        return last.lines - first.lines, last.unreadable - first.unreadable
