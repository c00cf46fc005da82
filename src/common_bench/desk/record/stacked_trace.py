"""One quantity of several over one another on one time axis, live; a line may be drawn on it with the mouse."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtGui import QMouseEvent

from common_bench.desk.graphs.live_trace import MovingBand, MovingLine, cover
from common_bench.desk.graphs.plots import Graph, pen
from common_bench.desk.graphs.ranges import whole_steps
from common_bench.desk.look.sheet import palette, px

MARKS = 200  # events that are marked


class StackedTrace(Graph):
    """One quantity of several over one another. Its scale grows by whole steps and does not shrink while a run goes on."""

    def __init__(self, name: str) -> None:
        super().__init__(move=True)
        self.name = name
        item = self.getPlotItem()
        item.getViewBox().disableAutoRange()
        self.curve = MovingLine(item.getViewBox(), smooth=True)
        self.guess = MovingLine(item.getViewBox(), smooth=False)
        self.marks = pg.ScatterPlotItem(symbol="t", size=px(9), brush=pg.mkBrush(palette().ink), pen=None)
        self.begin = pg.InfiniteLine(0.0, angle=90, pen=pen(palette().ink, 1.2, dashed=True))
        self.spread = MovingBand(item.getViewBox(), palette().soft)
        self.expected = MovingLine(item.getViewBox(), smooth=True)
        self.expected.set_pen(pen(palette().ink, 1.8, dashed=True))
        for each in (self.spread, self.curve, self.guess, self.marks, self.begin, self.expected):
            item.addItem(each, ignoreBounds=True)
        self.drawn: Callable[[list[tuple[float, float]]], object] | None = (
            None  # told of a line that the mouse has drawn
        )
        self._stroke: list[tuple[float, float]] = []
        self._shades: list[Any] = []
        self._range: tuple[float, float] | None = None
        self._of: object = None

    def show_picture(
        self,
        t: Any,
        values: Any,
        guess: Any,
        *,
        of: object,
        seconds: float,
        fixed: tuple[float, float] | None,
        begun: bool,
    ) -> None:
        """seconds: that are seen; of: what is drawn, as a run; another one begins with a scale of its own."""
        self.curve.set_data(t, values)
        cover(self.guess, t, guess if guess is not None else np.full(len(t), np.nan), seconds)
        self.begin.setVisible(begun)
        known = values[np.isfinite(values)]
        wanted = fixed or (whole_steps(float(known.min()), float(known.max())) if len(known) else None)
        if wanted is None:
            return
        if of == self._of and self._range is not None and fixed is None:
            wanted = min(wanted[0], self._range[0]), max(wanted[1], self._range[1])
        self._of = of
        if wanted != self._range:
            self._range = wanted
            self.setYRange(*wanted, padding=0)

    def show_band(self, t: Any, values: Any, u: Any) -> None:
        """One standard uncertainty about the line; u None for none."""
        if u is None:
            self.spread.set_data(*(np.empty(0),) * 3)
        else:
            self.spread.set_data(t, values - u, values + u)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if self.drawn is None or event is None:
            super().mousePressEvent(event)
            return
        self._stroke = [self._at(event)]

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if self.drawn is None or event is None:
            super().mouseMoveEvent(event)
            return
        if self._stroke:
            self._stroke.append(self._at(event))
            points = sorted(dict(self._stroke).items())
            self.expected.set_data(np.array([t for t, _ in points]), np.array([value for _, value in points]))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self.drawn is None or event is None:
            super().mouseReleaseEvent(event)
            return
        stroke, self._stroke = self._stroke, []
        if len(stroke) > 1:
            self.drawn(stroke)

    def _at(self, event: QMouseEvent) -> tuple[float, float]:
        """Where the pointer is, in s and the quantity's unit."""
        point = self.getPlotItem().getViewBox().mapSceneToView(self.mapToScene(event.pos()))
        return float(point.x()), float(point.y())

    def mark(self, times: list[float]) -> None:
        top = self._range[1] if self._range is not None else 1.0
        low = self._range[0] if self._range is not None else 0.0
        shown = times[-MARKS:]
        self.marks.setData(np.array(shown), np.full(len(shown), top - 0.05 * (top - low)))
