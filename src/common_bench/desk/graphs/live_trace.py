"""Traces that are new thirty times a second: lines and bands that the scene neither measures nor indexes, and a graph of what was just
heard."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter

from common_bench.desk.graphs.plots import LARGE, NARROW, WIDE, PlainAxis, breaks, font, pen, translucent
from common_bench.desk.graphs.ranges import GAP_ROOM, calm_range, gap_words, gaps_in, told_gaps
from common_bench.desk.graphs.strokes import Stroke, draw_line, in_breaks
from common_bench.desk.look.palette import hue
from common_bench.desk.look.sheet import palette, px
from common_bench.model.block import Floats
from common_bench.model.visible import on_one_line


class OverAll(pg.GraphicsObject):
    """What covers all of a view, so that the scene has nothing to measure or to index anew when its points change."""

    def __init__(self, view: pg.ViewBox) -> None:
        super().__init__()
        self._view = view

    def boundingRect(self) -> QRectF:
        whole: QRectF = self._view.viewRect()
        return whole

    def viewRangeChanged(self) -> None:
        self.prepareGeometryChange()


class MovingLine(OverAll):
    """A line that is new thirty times a second; breaks are values that are no numbers."""

    def __init__(self, view: pg.ViewBox, *, smooth: bool) -> None:
        super().__init__(view)
        self._smooth = smooth
        self._stroke = Stroke(pen("#000000"))
        self.x = self.y = np.empty(0)

    def set_pen(self, made: Any) -> None:
        self._stroke = Stroke(made)
        self.update()

    def set_data(self, x: Floats, y: Floats) -> None:
        self.x, self.y = x, y
        self.update()

    def paint(self, painter: QPainter, *_: object) -> None:
        draw_line(painter, self.x, self.y, self._stroke, smooth=self._smooth)


def cover(line: MovingLine, t: Floats, guess: Floats, seconds: float, now: float = 0.0) -> None:
    """Breaks a line by the card's colour where it is a guess: (n,) values there, no numbers elsewhere, at (n,) s, drawn from `now`."""
    hidden = in_breaks(t, guess, seconds)
    line.set_pen(breaks() if hidden is None else pen(palette().card, 2.4))
    line.set_data(t - now, guess if hidden is None else hidden)


class MovingBand(OverAll):
    """A band about a line that is new thirty times a second: from low to high, open where either is no number."""

    def __init__(self, view: pg.ViewBox, colour: str) -> None:
        super().__init__(view)
        self._brush = pg.mkBrush(translucent(colour, 70))
        self.x = self.low = self.high = np.empty(0)
        self.setZValue(-3)

    def set_data(self, x: Floats, low: Floats, high: Floats) -> None:
        self.x, self.low, self.high = x, low, high
        self.update()

    def paint(self, painter: QPainter, *_: object) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._brush)
        known = np.isfinite(self.low) & np.isfinite(self.high)
        for first, stop in np.flatnonzero(np.diff(known, prepend=False, append=False)).reshape(-1, 2):
            x = np.concatenate([self.x[first:stop], self.x[first:stop][::-1]])
            y = np.concatenate([self.low[first:stop], self.high[first:stop][::-1]])
            painter.drawPolygon(pg.functions.arrayToQPolygonF(x, y))


class LiveTrace(pg.PlotWidget):
    """A moving trace: only what is visible, thinned to the pixels; gaps are shaded, never bridged."""

    def __init__(self, colour: str, *, smooth: bool = True) -> None:
        super().__init__(axisItems={"left": PlainAxis("left")}, enableMenu=False)
        self.setFrameShape(self.Shape.NoFrame)
        item = self.getPlotItem()
        self.destroyed.connect(item.ctrlMenu.deleteLater)  # it is never shown, and nobody else takes it down
        item.hideButtons()
        item.setMenuEnabled(False)
        item.getViewBox().setMouseEnabled(x=False, y=False)
        item.getViewBox().disableAutoRange()
        item.hideAxis("bottom")
        axis = item.getAxis("left")
        axis.setStyle(tickLength=0, maxTickLevel=0, showValues=False)  # until there are any
        axis.setTickFont(font(10))
        axis.setWidth(px(NARROW))
        item.showGrid(x=False, y=True, alpha=0.2)
        self.curve = MovingLine(item.getViewBox(), smooth=smooth)
        item.addItem(self.curve, ignoreBounds=True)
        self._shades: list[tuple[Any, Any]] = []
        self._band: Any = None
        self._flags: list[tuple[Any, Any]] = []
        self._guess: MovingLine | None = None
        self._range = (0.0, 0.0)
        self._has_scale = False  # where there is no value there is none
        self._seconds = 0.0
        self.fixed: tuple[float, float] | None = None  # ends of the axis, where the plan gives them
        self.colour = colour
        self.frames = 0
        self.restyle()

    def restyle(self) -> None:
        self.setBackground(palette().card)
        self.getPlotItem().getAxis("left").setPen(pg.mkPen(None))
        self.getPlotItem().getAxis("left").setTextPen(pg.mkPen(palette().soft))
        self.curve.set_pen(pg.mkPen(hue(palette(), self.colour), width=1.6))

    def recolour(self, colour: str) -> None:
        if colour != self.colour:
            self.colour = colour
            self.restyle()

    def show_band(self, low: float | None, high: float | None) -> None:
        """A quiet band behind the trace, as limits that count; None for none."""
        if low is None or high is None:
            if self._band is not None:
                self._band.hide()
            return
        if self._band is None:
            self._band = pg.LinearRegionItem((low, high), "horizontal", movable=False, pen=pen(palette().card, 0))
            self._band.setBrush(translucent(palette().green, 38))
            self._band.setZValue(-6)
            self.getPlotItem().addItem(self._band, ignoreBounds=True)
        self._band.show()
        self._band.setRegion((low, high))

    def show_picture(
        self,
        t: Floats,
        values: Floats,
        seconds: float,
        now: float,
        *,
        look: float = math.inf,
        guess: Floats | None = None,
    ) -> None:
        """The last `seconds` up to `now` (s); the range of values follows the last `look` s of the data calmly.
        guess: (n,) values again where they are guesses, nan elsewhere: drawn broken.

        The data move under a range that stands still, since a range that is set thirty times a second
        costs more than the line itself.
        """
        self._show_guess(t, guess, seconds, now)
        t = t - now
        self.curve.set_data(t, values)
        view = self.getPlotItem().getViewBox()
        if seconds != self._seconds:
            self._seconds = seconds
            view.setXRange(-seconds, 0.0, padding=0)
        known = values[np.isfinite(values) & (t >= -look)]
        if (len(known) and not self._has_scale) or (not len(values) and self._has_scale):
            self._has_scale = bool(len(values))
            self.getPlotItem().getAxis("left").setStyle(showValues=self._has_scale)
        if self.fixed is not None:
            if self._range != self.fixed:
                self._range = self.fixed
                view.setYRange(*self.fixed, padding=0)
        elif (found := calm_range(self._range, known)) != self._range:
            self._range = found
            large = max(map(abs, found)) >= LARGE
            self.getPlotItem().getAxis("left").setWidth(px(WIDE if large else NARROW))
            view.setYRange(*found, padding=0)
        self._shade(t, values)

    def _show_guess(self, t: Floats, guess: Floats | None, seconds: float, now: float) -> None:
        """Over what lies outside a calibration the line is broken by the card's colour."""
        if guess is None or not np.isfinite(guess).any():
            if self._guess is not None:
                self._guess.hide()
            return
        if self._guess is None:
            self._guess = MovingLine(self.getPlotItem().getViewBox(), smooth=False)
            self.getPlotItem().addItem(self._guess, ignoreBounds=True)
        self._guess.show()
        cover(self._guess, t, guess, seconds, now)

    def show_flags(self, flags: Sequence[tuple[float, str]]) -> None:
        """Moments, each at s before now (negative), with its words."""
        while len(self._flags) < len(flags):
            line = pg.InfiniteLine(0.0, angle=90, pen=pen(palette().verdigris, 1.4))
            words = pg.TextItem("", color=palette().verdigris, anchor=(0, 0))
            words.setFont(font(11))
            for each in (line, words):
                self.getPlotItem().addItem(each, ignoreBounds=True)
            self._flags.append((line, words))
        for at, (line, words) in enumerate(self._flags):
            visible = at < len(flags) and -self._seconds <= flags[at][0] <= 0
            line.setVisible(visible)
            words.setVisible(visible)
            if visible:
                line.setValue(flags[at][0])
                words.setText(on_one_line(flags[at][1], 24))
                words.setPos(flags[at][0], self._range[1])

    def _shade(self, t: Floats, values: Floats) -> None:
        gaps = gaps_in(t, np.isfinite(values), -self._seconds)
        told = told_gaps(gaps, GAP_ROOM * self._seconds)
        while len(self._shades) < len(gaps):
            shade = pg.LinearRegionItem(
                (0, 0), movable=False, brush=translucent(palette().amber, 60), pen=pen(palette().card, 0)
            )
            shade.setZValue(-5)
            words = pg.TextItem("", color=palette().amber, anchor=(0.5, 0))
            words.setFont(font(11))
            self.getPlotItem().addItem(shade, ignoreBounds=True)
            self.getPlotItem().addItem(words, ignoreBounds=True)
            self._shades.append((shade, words))
        for at, (shade, words) in enumerate(self._shades):
            shade.setVisible(at < len(gaps))
            words.setVisible(at in told)
            if at < len(gaps):
                shade.setRegion(gaps[at])
                words.setText(gap_words(gaps[at], -self._seconds))
                words.setPos(sum(gaps[at]) / 2, self._range[1])

    def paintEvent(self, event: object) -> None:
        self.frames += 1
        super().paintEvent(event)
