"""The level at which a line looks for events, as a line across a graph that can be dragged, and the pause after each, as a band."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import pyqtgraph as pg

from common_bench.desk.graphs.plots import font, pen, translucent
from common_bench.desk.look.sheet import palette
from common_bench.lesson.plan_editing import NumberIn, PlanLine, level_in, pause_in, with_number
from common_bench.model.units import conversion, is_unit, same_kind


class DraggedLevel:
    """Guarantees that the text of the line follows, in the unit that it is written in, once the level is let go."""

    def __init__(
        self, add: Callable[[Any], object], dragged: Callable[[PlanLine, str], object], spread: Callable[[], float]
    ) -> None:
        """add: puts something on the graph; dragged: told the line's text with the new level; spread: of the values that
        are seen."""
        self._dragged, self._spread = dragged, spread
        self._line: PlanLine | None = None
        self._factor = (1.0, 0.0)
        self._placing = False
        self.is_usable = False
        self.item = pg.InfiniteLine(
            angle=0, movable=True, pen=pen(palette().copper, 1.5, dashed=True), hoverPen=pen(palette().copper, 3)
        )
        self.item.sigPositionChangeFinished.connect(self._let_go)
        self.words = pg.TextItem("", color=palette().copper_ink, anchor=(1, 0.5), fill=pg.mkBrush(palette().copper))
        self.words.setFont(font(11, bold=True))
        for each in (self.item, self.words):
            add(each)

    def place(self, line: PlanLine | None, unit: str) -> None:
        """Where the line has its level; unit: of the quantity that is drawn."""
        self._placing = True
        self._line = line
        level = level_in(line.text) if line is not None else None
        self.is_usable = level is not None and is_unit(level.unit) and same_kind(level.unit, unit)
        self.show(self.is_usable)
        if level is not None and self.is_usable:
            self._factor = conversion(level.unit, unit)
            self.item.setValue(level.value * self._factor[0] + self._factor[1])
            self.words.setText(f" {level.value:g} {level.unit} ")
        self._placing = False

    def show(self, seen: bool) -> None:
        for each in (self.item, self.words):
            each.setVisible(seen)

    def put_words(self, at: float) -> None:
        """The level's value stands at this time of the graph."""
        self.words.setPos(at, self.item.value())

    def _let_go(self, _: Any) -> None:
        level = level_in(self._line.text) if self._line is not None else None
        if self._placing or level is None or self._line is None:
            return
        factor, offset = self._factor
        value = (float(self.item.value()) - offset) / factor
        self._dragged(self._line, with_number(self._line.text, level, value, _decimals(self._spread() / factor)))


SHORTEST = 0.01  # s of a pause


class DraggedPause:
    """The time after an event in which no other counts. Its end can be dragged; the text of the line follows."""

    def __init__(self, add: Callable[[Any], object], dragged: Callable[[PlanLine, str], object]) -> None:
        """add, dragged: as of a level."""
        self._dragged, self._placing = dragged, False
        self._line: PlanLine | None = None
        self.item = pg.LinearRegionItem(
            (-3.0, -1.0), brush=translucent(palette().copper, 40), pen=pen(palette().copper, 1), span=(0.0, 0.06)
        )
        self.item.lines[0].setMovable(False)
        self.item.sigRegionChangeFinished.connect(self._let_go)
        self.item.setVisible(False)
        add(self.item)

    @property
    def is_usable(self) -> bool:
        return self._line is not None and pause_in(self._line.text) is not None

    def place(self, line: PlanLine | None, first: float | None) -> None:
        """Behind the event at `first` s of the graph; None where there is none."""
        self._line = line
        apart = pause_in(line.text) if line is not None else None
        if apart is None or first is None:
            self.item.setVisible(False)
        elif not any(edge.moving for edge in self.item.lines):
            self._placing = True
            self.item.setVisible(True)
            self.item.setRegion((first, first + apart.value * _in_seconds(apart)))
            self._placing = False

    def _let_go(self, _: Any) -> None:
        apart = pause_in(self._line.text) if self._line is not None else None
        if self._placing or apart is None or self._line is None:
            return
        low, high = self.item.getRegion()
        value = max(SHORTEST, high - low) / _in_seconds(apart)
        self._dragged(self._line, with_number(self._line.text, apart, value, 0 if apart.unit == "ms" else 2))


def _in_seconds(apart: NumberIn) -> float:
    return 0.001 if apart.unit == "ms" else 1.0


def _decimals(spread: float) -> int:
    """Decimals by which a hundredth of what is seen can be told."""
    return max(0, 2 - math.floor(math.log10(spread))) if spread > 0 else 2
