"""Findings that follow a span while it is dragged: worked out by a worker, the newest place of the span next, so that the hand
never waits. Nothing is kept before the span is let go."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future

from PyQt6.QtCore import QTimer

from common_bench.desk.shell.hub import Hub
from common_bench.desk.work.cards import FindingCard
from common_bench.desk.work.run_graphs import RunGraph
from common_bench.lesson.worked_runs import TriedSpan
from common_bench.model.run import Run

LOOK = 10  # ms between two looks whether a worker has answered


class FollowedSpan:
    """Guarantees that what is shown belongs to the span as it lay a moment ago, and goes with the drag."""

    def __init__(self, hub: Hub, graph: RunGraph, card: FindingCard, run: Callable[[], Run | None]) -> None:
        self._hub, self._graph, self._card, self._run = hub, graph, card, run
        self._answer: Future[TriedSpan] | None = None
        self._moved = False  # since it was last asked for
        self.shown = 0
        self._timer = QTimer(graph)
        self._timer.timeout.connect(self._look)
        graph.region.sigRegionChanged.connect(self._move)
        graph.region.sigRegionChangeFinished.connect(self._let_go)

    def _move(self) -> None:
        if not self._graph.is_showing:  # a hand moves it, not the run that is shown
            self._moved = True
            if not self._timer.isActive():
                self._timer.start(LOOK)
                self._look()

    def _let_go(self) -> None:
        self._timer.stop()
        self._answer, self._moved = None, False

    def _look(self) -> None:
        if self._answer is not None:
            if not self._answer.done():
                return
            self._card.show_tried(self._answer.result())
            self._answer, self.shown = None, self.shown + 1
        run, working = self._run(), self._hub.lesson.working_up
        if not self._moved:
            self._timer.stop()
        elif run is not None and not working.is_closed:
            self._moved = False
            self._answer = working.tried(run, self._graph.span)
