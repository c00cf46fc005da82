"""Graphs on cards: axes in the palette, units on them, labels on the data."""

from __future__ import annotations

import math
from collections.abc import Sequence
from textwrap import fill
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QPainter

from common_bench.desk.graphs.ranges import GAP_ROOM, calm_range, gaps_in, told_gaps
from common_bench.desk.graphs.strokes import draw_line
from common_bench.desk.look.labels import escaped
from common_bench.desk.look.palette import hue
from common_bench.desk.look.sheet import FAMILIES, palette, px
from common_bench.model.block import Floats
from common_bench.model.measured import plain, time_unit
from common_bench.model.visible import on_one_line

Numbers = Floats | Sequence[float]
NARROW, WIDE, LARGE = 34, 58, 10_000  # px for the numbers at the left of a trace; from this value on the wider
DENSE = 500  # turns from which on a line fills its pixels from low to high: its edge need not be smooth
LONGEST_NOTE = 120  # characters on a graph

pg.setConfigOptions(antialias=False, background=None, foreground="#6B7680")


def pen(colour: str, width: float = 1.5, *, dashed: bool = False) -> Any:
    """A pen of a colour; width in px."""
    style = Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
    return pg.mkPen(colour, width=width, style=style)


def translucent(colour: str, alpha: int) -> QColor:
    """A colour that lets through; alpha 0 to 255."""
    made = QColor(colour)
    made.setAlpha(alpha)
    return made


def font(size: float, *, bold: bool = False) -> QFont:
    """The program's type; size in px of the paper theme."""
    made = QFont()
    made.setFamilies(FAMILIES)
    made.setPixelSize(px(size))
    made.setBold(bold)
    return made


def _turns(values: Floats) -> int:
    """How often a line goes up after down, or down after up."""
    return int(np.count_nonzero(np.diff(np.signbit(np.diff(values)).view(np.int8))))


class PlainAxis(pg.AxisItem):
    """Numbers as the rest of the program writes them, in the plan's unit: never scaled by a prefix."""

    def __init__(self, orientation: str) -> None:
        super().__init__(orientation)
        self.enableAutoSIPrefix(False)

    def tickStrings(self, values: list[float], scale: float, spacing: float | None) -> list[str]:
        if self.logMode or spacing is None:
            named = [
                value
                if abs(10 ** (value % 1) - round(10 ** (value % 1))) < 1e-6
                and round(10 ** (value % 1)) in (1, 2, 5, 10)
                else None
                for value in values
            ]
            return [
                f"{10**value:g}".replace("e-0", "e-").replace("-", "−") if value is not None else "" for value in named
            ]
        decimals = max(0, math.ceil(-math.log10(spacing * scale) - 1e-9)) if spacing > 0 else 0
        return [plain(value * scale, decimals) for value in values]


class Graph(pg.PlotWidget):
    """A still graph: hairline grid, soft axes. Mouse moves nothing; the data set the range."""

    def __init__(self, *, left: str = "", bottom: str = "", grid: bool = True, move: bool = False) -> None:
        super().__init__(axisItems={side: PlainAxis(side) for side in ("left", "bottom")}, enableMenu=False)
        self.setAntialiasing(True)
        self.setFrameShape(self.Shape.NoFrame)
        item = self.getPlotItem()
        self.destroyed.connect(item.ctrlMenu.deleteLater)  # it is never shown, and nobody else takes it down
        item.hideButtons()
        item.setMenuEnabled(False)
        item.getViewBox().setMouseEnabled(x=move, y=False)
        self.restyle()
        self.name_axes(left, bottom)
        item.showGrid(x=False, y=grid, alpha=0.25)

    def restyle(self) -> None:
        self.setBackground(palette().card)
        for side in ("left", "bottom"):
            axis = self.getPlotItem().getAxis(side)
            axis.setPen(pg.mkPen(palette().hairline))
            axis.setTextPen(pg.mkPen(palette().soft))
            axis.setTickFont(font(11))
            axis.setStyle(tickLength=-4)
        self.getPlotItem().getAxis("left").setWidth(px(62))

    def name_axes(self, left: str, bottom: str) -> None:
        css = {"color": palette().soft, "font-size": f"{px(12)}px"}
        for side, text in (("left", left), ("bottom", bottom)):
            if text:
                self.setLabel(side, escaped(text), **css)

    def name_time(self, left: str, longest: float, words: str = "time") -> None:
        """The axis of a time in s up to `longest`, shown in s, hours or days."""
        unit, size = time_unit(longest)
        self.getPlotItem().getAxis("bottom").setScale(1 / size)
        self.name_axes(left, f"{words} ({unit})")

    def frame_values(self, *values: Numbers, room: float = 0.15) -> None:
        """Sets the upright range to what these values need, with some room."""
        known = np.concatenate([np.ravel(np.asarray(each, float)) for each in values])
        known = known[np.isfinite(known)]
        if len(known):
            spread = float(np.ptp(known)) or abs(float(known[0])) * 0.01 or 1.0
            self.setYRange(float(known.min()) - room * spread, float(known.max()) + room * spread, padding=0)

    def wipe(self) -> None:
        self.getPlotItem().clear()

    def line(self, x: Numbers, y: Numbers, colour: str, width: float = 1.5, *, dashed: bool = False) -> Any:
        dense = not dashed and _turns(np.asarray(y)) > DENSE
        drawn = self.plot(
            np.asarray(x), np.asarray(y), pen=pen(colour, 1.0 if dense else width, dashed=dashed), connect="finite",
            antialias=not dense,
        )  # fmt: skip
        if not dashed:  # piece by piece: one path that goes up and down in every pixel takes half a second
            drawn.curve.setSegmentedLineMode("on")
        return drawn

    def band(self, x: Numbers, low: Numbers, high: Numbers, colour: str, alpha: int = 40) -> None:
        edges = [pg.PlotCurveItem(np.asarray(x), np.asarray(each), pen=pen(colour, 0.5)) for each in (low, high)]
        self.addItem(pg.FillBetweenItem(*edges, brush=translucent(colour, alpha)))

    def shade(self, low: float, high: float, colour: str) -> None:
        """A stretch along x, as a gap."""
        region = pg.LinearRegionItem((low, high), movable=False, brush=translucent(colour, 60), pen=pg.mkPen(None))
        region.setZValue(-10)
        self.addItem(region, ignoreBounds=True)

    def points(self, x: Numbers, y: Numbers, symbol: str, colour: str, *, size: int = 11, faint: bool = False) -> None:
        brush = translucent(colour, 90 if faint else 255)
        self.addItem(
            pg.ScatterPlotItem(np.asarray(x), np.asarray(y), symbol=symbol, size=px(size), brush=brush, pen=None)
        )

    def errors(self, x: Numbers, y: Numbers, u_x: Numbers, u_y: Numbers, colour: str) -> None:
        bars = pg.ErrorBarItem(
            x=np.asarray(x),
            y=np.asarray(y),
            width=2 * np.asarray(u_x),
            height=2 * np.asarray(u_y),
            pen=pen(colour, 1.2),
        )
        self.addItem(bars)

    def note(
        self, text: str, x: float, y: float, colour: str, *, anchor: tuple[float, float] = (0, 0.5), size: float = 12,
        wide: int = LONGEST_NOTE,
    ) -> Any:  # fmt: skip
        """wide: characters in a line, beyond which a new one begins below the first."""
        shown = on_one_line(text, LONGEST_NOTE)
        indent = shown[: len(shown) - len(shown.lstrip())]
        wrapped = fill(shown, wide, subsequent_indent=indent) if len(shown) > wide else shown
        made = pg.TextItem(wrapped, color=colour, anchor=anchor)
        made.setFont(font(size))
        made.setPos(x, y)
        self.addItem(made, ignoreBounds=True)
        return made

    def upright(self, x: float, colour: str, *, dashed: bool = True) -> Any:
        made = pg.InfiniteLine(x, angle=90, pen=pen(colour, 1.2, dashed=dashed))
        self.addItem(made, ignoreBounds=True)
        return made

    def level(self, y: float, colour: str, *, dashed: bool = False) -> Any:
        made = pg.InfiniteLine(y, angle=0, pen=pen(colour, 1.0, dashed=dashed))
        self.addItem(made, ignoreBounds=True)
        return made


class MovingLine(pg.GraphicsObject):
    """A line that is new thirty times a second. It covers all of the view, so that the scene has nothing to
    measure or to index anew when its points change; breaks are values that are no numbers."""

    def __init__(self, view: pg.ViewBox, *, smooth: bool) -> None:
        super().__init__()
        self._view, self._smooth = view, smooth
        self._pen = pen("#000000")
        self.x = self.y = np.empty(0)

    def set_pen(self, made: Any) -> None:
        self._pen = made
        self.update()

    def set_data(self, x: Floats, y: Floats) -> None:
        self.x, self.y = x, y
        self.update()

    def boundingRect(self) -> QRectF:
        whole: QRectF = self._view.viewRect()
        return whole

    def viewRangeChanged(self) -> None:
        self.prepareGeometryChange()

    def paint(self, painter: QPainter, *_: object) -> None:
        draw_line(painter, self.x, self.y, self._pen, smooth=self._smooth)


class MovingBand(pg.GraphicsObject):
    """A band about a line that is new thirty times a second: from low to high, open where either is no number."""

    def __init__(self, view: pg.ViewBox, colour: str) -> None:
        super().__init__()
        self._view, self._brush = view, pg.mkBrush(translucent(colour, 70))
        self.x = self.low = self.high = np.empty(0)
        self.setZValue(-3)

    def set_data(self, x: Floats, low: Floats, high: Floats) -> None:
        self.x, self.low, self.high = x, low, high
        self.update()

    def boundingRect(self) -> QRectF:
        whole: QRectF = self._view.viewRect()
        return whole

    def viewRangeChanged(self) -> None:
        self.prepareGeometryChange()

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
        axis.setStyle(tickLength=0, maxTickLevel=0, showValues=True)
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
        t = t - now
        self.curve.set_data(t, values)
        view = self.getPlotItem().getViewBox()
        if seconds != self._seconds:
            self._seconds = seconds
            view.setXRange(-seconds, 0.0, padding=0)
        self._show_guess(t, guess)
        known = values[np.isfinite(values) & (t >= -look)]
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

    def _show_guess(self, t: Floats, guess: Floats | None) -> None:
        """Over what lies outside a calibration the line is broken by the card's colour."""
        if guess is None or not np.isfinite(guess).any():
            if self._guess is not None:
                self._guess.hide()
            return
        if self._guess is None:
            self._guess = MovingLine(self.getPlotItem().getViewBox(), smooth=False)
            self._guess.set_pen(pen(palette().card, 2.4, dashed=True))
            self.getPlotItem().addItem(self._guess, ignoreBounds=True)
        self._guess.show()
        self._guess.set_data(t, guess)

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
        gaps = gaps_in(t, np.isfinite(values))
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
                words.setText(f"gap {gaps[at][1] - gaps[at][0]:.1f} s")
                words.setPos(sum(gaps[at]) / 2, self._range[1])

    def paintEvent(self, event: object) -> None:
        self.frames += 1
        super().paintEvent(event)
