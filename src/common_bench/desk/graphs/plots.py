"""Graphs on cards: axes in the palette, units on them, labels on the data."""

from __future__ import annotations

import math
from collections.abc import Sequence
from textwrap import fill
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QPointF, Qt, QTimer
from PyQt6.QtGui import QColor, QFont

from common_bench.desk.look.labels import escaped
from common_bench.desk.look.sheet import FAMILIES, palette, px
from common_bench.model.block import Floats
from common_bench.model.measured import plain, time_unit
from common_bench.model.visible import on_one_line

Numbers = Floats | Sequence[float]
UNDER = -1000  # where the lines of a scale lie, under all that is drawn
NARROW, WIDE, LARGE = 34, 58, 10_000  # px for the numbers at the left of a trace; from this value on the wider
DENSE = 500  # turns from which on a line fills its pixels from low to high: its edge need not be smooth
LONGEST_NOTE = 120  # characters on a graph
NOWHERE = QPointF(-1e6, -1e6)  # px, on no graph

pg.setConfigOptions(antialias=False, background=None, foreground="#6B7680")


def pen(colour: str, width: float = 1.5, *, dashed: bool = False) -> Any:
    """A pen of a colour; width in px."""
    style = Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
    return pg.mkPen(colour, width=width, style=style)


def breaks() -> Any:
    """A pen of the card's colour that breaks a line under it: twice as much of it is left as is covered."""
    made = pg.mkPen(palette().card, width=2.4)
    made.setCapStyle(Qt.PenCapStyle.FlatCap)
    made.setDashPattern([2.0, 4.0])
    return made


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
        item.getAxis("left").setZValue(UNDER)
        self._anchors: dict[Any, tuple[float, float]] = {}  # of notes, as they were asked for
        self._inside = QTimer(self)  # once all is drawn and has its place
        self._inside.setSingleShot(True)
        self._inside.setInterval(0)
        self._inside.timeout.connect(self.keep_notes_inside)
        item.getViewBox().sigRangeChanged.connect(lambda: self._anchors and self._inside.start())
        item.getViewBox().sigResized.connect(lambda: self._anchors and self._inside.start())

    def leaveEvent(self, event: QEvent | None) -> None:
        """What opens where it is pointed at is told that nothing is pointed at any more."""
        super().leaveEvent(event)
        self.scene().sigMouseMoved.emit(NOWHERE)

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
        self._anchors.clear()

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
        self._anchors[made] = anchor
        self._inside.start()
        return made

    def keep_notes_inside(self) -> None:
        """Notes that run over an edge of what is drawn are moved as far in as they need."""
        box = self.getPlotItem().getViewBox()
        frame = box.sceneBoundingRect()
        for note, (across, up) in list(self._anchors.items()):
            if note.scene() is None:  # it was taken out
                del self._anchors[note]
                continue
            if not note.isVisible():
                continue
            note.setAnchor((across, up))
            place = note.mapRectToScene(note.boundingRect())
            if not (frame.left() <= note.scenePos().x() <= frame.right()) or place.width() <= 0 or place.height() <= 0:
                continue
            over = max(0.0, place.right() - frame.right()) or min(0.0, place.left() - frame.left())
            below = max(0.0, place.bottom() - frame.bottom()) or min(0.0, place.top() - frame.top())
            if (over or below) and place.width() <= frame.width():
                note.setAnchor((across + over / place.width(), up + below / place.height()))

    def upright(self, x: float, colour: str, *, dashed: bool = True) -> Any:
        made = pg.InfiniteLine(x, angle=90, pen=pen(colour, 1.2, dashed=dashed))
        self.addItem(made, ignoreBounds=True)
        return made

    def level(self, y: float, colour: str, *, dashed: bool = False) -> Any:
        made = pg.InfiniteLine(y, angle=0, pen=pen(colour, 1.0, dashed=dashed))
        self.addItem(made, ignoreBounds=True)
        return made
