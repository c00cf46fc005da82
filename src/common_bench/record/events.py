"""What the engine tells the lesson of: facts with fields, in order, in a bounded queue."""

from __future__ import annotations

import contextlib
import queue
from collections import deque
from typing import Literal, NamedTuple

from common_bench.model.run import Ending
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import Trouble
from common_bench.record.runs import Recorded

MOST_EVENTS = 10_000

What = Literal[
    "run-began",
    "run-ended",
    "run-kept",
    "run-worked",
    "in-step",
    "format",
    "read-anew",
    "lost",
    "back",
    "speed",
    "restarted",
    "relayed",
    "taken-back",
    "failed",
    "moved",
]


class EngineEvent(NamedTuple):
    """Something the lesson should know of.

    run: its id, for run-began, run-ended, run-kept (the book holds all of it by then) and run-worked; in-step: runs have followed the plan; ending: how;
    recorded: what was seen of it live, None where it must be computed from its bytes; id: of a kit that is heard
    through this one's port (relayed); trouble: why (lost, failed); resumed: how often the run had been taken up again
    before this end of it (run-kept); format: how lines were read before, where all was read anew; a kit that an id was
    taken for is taken back where its id was none (taken-back).
    """

    what: What
    kit: int = 0
    run: int = 0
    ending: Ending | None = None
    recorded: Recorded | None = None
    id: str = ""
    trouble: Trouble | None = None
    resumed: int = 0
    format: StreamFormat | None = None


class EventQueue:
    """Told by the engine and the journal's writer, asked by the lesson. Guarantees that nobody hears of something before
    the snapshot in which it can be seen is published. When it is full the newest is let go: what a person sees is in the
    snapshot, what must not be lost is in the journal."""

    def __init__(self) -> None:
        self._told: deque[EngineEvent] = deque()
        self._published: queue.Queue[EngineEvent] = queue.Queue(MOST_EVENTS)

    def tell(self, event: EngineEvent) -> None:
        self._told.append(event)

    @property
    def told(self) -> int:
        """How many wait to be published."""
        return len(self._told)

    def publish(self, most: int = MOST_EVENTS) -> None:
        """The oldest that were told can be seen now; most: how many."""
        with contextlib.suppress(IndexError, queue.Full):
            for _ in range(most):
                self._published.put_nowait(self._told.popleft())

    def take(self) -> list[EngineEvent]:
        """All that were published since last asked, oldest first."""
        found: list[EngineEvent] = []
        with contextlib.suppress(queue.Empty):
            while True:
                found.append(self._published.get_nowait())
        return found
