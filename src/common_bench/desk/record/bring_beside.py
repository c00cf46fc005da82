"""A file held against a run that another kit recorded: both traces, one of which is dragged over the other, and the time that is proposed."""

from __future__ import annotations

from collections.abc import Callable

import pyqtgraph as pg
from PyQt6.QtWidgets import QLabel

from common_bench.desk.graphs.plots import Graph, pen
from common_bench.desk.look.pieces import Field, say
from common_bench.desk.look.sheet import palette
from common_bench.lesson.brought_pictures import HeldAgainst
from common_bench.model.measured import number


class BesideRun:
    """Guarantees that what is drawn, what stands in the field and what is dragged to are one shift."""

    def __init__(self, graph: Graph, words: QLabel, draw: Callable[[], object]) -> None:
        """words: the label that says how sure the proposal is; draw: draws the file's own trace alone."""
        self._graph, self._words, self._draw = graph, words, draw
        self.held: HeldAgainst | None = None
        self.handle: pg.InfiniteLine | None = None
        self.field = Field()  # s after that run began, at which the file's first row was
        self.field.editingFinished.connect(self._typed)

    def show(self, held: HeldAgainst, seconds: float) -> None:
        """seconds: how long the file is."""
        self.held, self._seconds = held, seconds
        if held.match is None:
            say(self._words, "Nothing in this file moves with anything in that run: type when it began.")
            self.field.setText("0 s")
            self._draw()
            return
        self.field.setText(f"{held.match.shift:.2f} s")
        say(
            self._words,
            f"{held.channel} of this file and {held.name} of that run, {held.match.words}. It began so long after that run did:",
        )
        self._lay(held, held.match.shift)

    @property
    def shift(self) -> float | None:
        """s after that run began; None where what is typed is no time."""
        try:
            return number(self.field.text().strip().removesuffix("s").strip())
        except ValueError:
            return None

    def _typed(self) -> None:
        held, shift = self.held, self.shift
        if held is not None and held.match is not None and shift is not None:
            self._lay(held, shift)

    def _lay(self, held: HeldAgainst, shift: float) -> None:
        """The run's trace over the file's, as high as that."""
        self._draw()
        assert held.picture is not None
        line = self._graph.line(*held.picture, palette().soft, 1.4)
        line.setPos(-shift, 0)
        handle = pg.InfiniteLine(
            start := 0.5 * self._seconds, movable=True, pen=pen(palette().copper, 2), label=f"{held.name} of that run: drag",
            labelOpts={"position": 0.93, "color": palette().copper, "movable": False},
        )  # fmt: skip
        self.handle = handle
        self._graph.addItem(handle, ignoreBounds=True)

        def dragged() -> None:
            moved = shift + start - float(handle.value())
            line.setPos(-moved, 0)
            self.field.setText(f"{moved:.2f} s")

        handle.sigPositionChanged.connect(dragged)
