"""What the engine tells the lesson of: facts with fields, in order, in a bounded queue."""

from __future__ import annotations

import contextlib
import queue
from typing import Literal, NamedTuple

from common_bench.model.run import Ending
from common_bench.model.trouble import Trouble
from common_bench.record.runs import Recorded

MOST_EVENTS = 10_000

What = Literal[
    "run-began",
    "run-ended",
    "run-kept",
    "run-worked",
    "format",
    "lost",
    "back",
    "speed",
    "restarted",
    "relayed",
    "failed",
]


class EngineEvent(NamedTuple):
    """Something the lesson should know of.

    run: its id, for run-began, run-ended, run-kept (the book holds all of it by then) and run-worked; ending: how;
    recorded: what was seen of it live, None where it must be computed from its bytes; id: of a kit that is heard
    through this one's port (relayed); trouble: why (lost, failed).
    """

    what: What
    kit: int = 0
    run: int = 0
    ending: Ending | None = None
    recorded: Recorded | None = None
    id: str = ""
    trouble: Trouble | None = None


class EventQueue:
    """Told by the engine and the journal's writer, asked by the lesson. When it is full the newest is let go: what a
    person sees is in the snapshot, what must not be lost is in the journal."""

    def __init__(self) -> None:
        self._queue: queue.Queue[EngineEvent] = queue.Queue(MOST_EVENTS)

    def tell(self, event: EngineEvent) -> None:
        with contextlib.suppress(queue.Full):
            self._queue.put_nowait(event)

    def take(self) -> list[EngineEvent]:
        """All that were told since last asked, oldest first."""
        found: list[EngineEvent] = []
        with contextlib.suppress(queue.Empty):
            while True:
                found.append(self._queue.get_nowait())
        return found
