"""The trace on a tile of the wall: painted straight away, with no scene behind it, since thirty-two of them are new thirty
times a second."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QGraphicsView

from common_bench.desk.graphs.plots import NARROW, font, pen, translucent
from common_bench.desk.graphs.ranges import calm_ends, gap_words, gaps_in, ticks, told_gaps
from common_bench.desk.graphs.strokes import AROUND, BELOW, Stroke, draw_line, draw_lines, in_breaks, line_of
from common_bench.desk.look.palette import hue
from common_bench.desk.look.sheet import palette, px
from common_bench.model.block import Floats
from common_bench.model.visible import on_one_line
from common_bench.workings.thinning import laid_out, spread

LONGEST_FLAG = 24  # characters
GAP_WORDS = 58  # px that the length of a gap takes


class TileTrace(QGraphicsView):
    """A view, so that it goes on paper like every other graph; what it shows, it paints itself."""

    def __init__(self, colour: str, *, smooth: bool = True) -> None:
        super().__init__()
        self.setFrameShape(self.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)  # a tile is dragged by its trace too
        self.colour, self._smooth = colour, smooth
        self._places = AROUND if smooth else BELOW
        self.fixed: tuple[float, float] | None = None  # ends of the axis, where the plan gives them
        self.frames = 0
        self.t = self.values = np.empty(0)
        self.flags_shown: list[tuple[float, str]] = []
        self._guess: Floats | None = None
        self._hidden: Floats | None = None  # what of a guess is left out, so that it looks broken
        self._gaps: list[tuple[float, float]] = []
        self._whole = True  # no value is missing
        self._range, self._seconds = (0.0, 0.0), 0.0
        self._left = px(NARROW)
        self._scales: tuple[tuple[object, ...], QPixmap] = ((), QPixmap())  # for a range and a size
        self._ticks: tuple[tuple[object, ...], list[tuple[float, str]]] = ((), [])  # for a range and a height
        port = self.viewport()
        assert port is not None
        port.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # nothing under it need be painted
        self.restyle()

    @property
    def range(self) -> tuple[float, float]:
        """Lowest and highest value that there is room for."""
        return self._range

    def restyle(self) -> None:
        worn = palette()
        self._card, self._amber, self._verdigris = QColor(worn.card), QColor(worn.amber), QColor(worn.verdigris)
        self._shade = translucent(worn.amber, 60)
        self._line = Stroke(pen(hue(worn, self.colour), 1.6))
        self._broken = Stroke(pen(hue(worn, self.colour), 1.2, dashed=True))
        self._soft, self._hairline, self._flag = (
            QColor(worn.soft),
            QPen(QColor(worn.hairline)),
            pen(worn.verdigris, 1.4),
        )
        self._numbers, self._words = font(10), font(11)
        self._scales = ((), QPixmap())

    def show_picture(
        self, t: Floats, values: Floats, seconds: float, now: float, *, guess: Floats | None = None
    ) -> None:
        """The last `seconds` up to `now` (s). guess: (n,) values again where they are guesses, nan elsewhere: drawn broken."""
        self.t, self.values, self._seconds, self._guess = t - now, values, seconds, guess
        self._hidden = in_breaks(t, guess, seconds) if guess is not None else None
        lowest, highest, known = spread(values)
        self._whole = known == len(values)
        self._gaps = gaps_in(self.t, np.isfinite(values), -seconds) if not self._whole else []
        if self.fixed is not None:
            self._range = self.fixed
        elif known:
            self._range = calm_ends(self._range, lowest, highest)
        self._update()

    def show_flags(self, flags: Sequence[tuple[float, str]]) -> None:
        """Moments, each at s before now (negative), with its words."""
        shown = [(at, words) for at, words in flags if -self._seconds <= at <= 0]
        if shown != self.flags_shown:
            self.flags_shown = shown
            self._update()

    def _update(self) -> None:
        port = self.viewport()
        if port is not None:
            port.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        self.frames += 1
        painter = QPainter(self.viewport())
        self._paint(painter, self.width(), self.height(), self._ground())
        painter.end()

    def paint_on(self, painter: QPainter, target: QRectF) -> None:
        """On paper, at a place of it."""
        painter.save()
        painter.translate(target.topLeft())
        self._paint(painter, round(target.width()), round(target.height()))
        painter.restore()

    def _ground(self) -> QPixmap:
        """What is under the trace, painted once for each range and size."""
        sharp = self.devicePixelRatioF()
        key = (*self._range, self._seconds > 0, self.width(), self.height(), sharp)
        if self._scales[0] != key:
            made = QPixmap(round(self.width() * sharp), round(self.height() * sharp))
            made.setDevicePixelRatio(sharp)
            painter = QPainter(made)
            self._under(painter, self.width(), self.height())
            painter.end()
            self._scales = key, made
        return self._scales[1]

    def _under(self, painter: QPainter, width: int, height: int) -> None:
        painter.fillRect(0, 0, width, height, self._card)
        low, high = self._range
        if high <= low or self._seconds <= 0:
            return
        painter.setFont(self._numbers)
        shown = self._ticks_for(painter.fontMetrics(), height)
        self._scale(painter, shown, QRectF(self._left, low, width, height), (height - 2) / (high - low))

    def _paint(self, painter: QPainter, width: int, height: int, ground: QPixmap | None = None) -> None:
        """ground: what is under the trace, painted before."""
        if ground is not None:
            painter.drawPixmap(0, 0, ground)
        else:
            self._under(painter, width, height)
        low, high = self._range
        if high <= low or self._seconds <= 0:
            return
        left = self._left
        across, up = (width - left) / self._seconds, (height - 2) / (high - low)
        painter.setClipRect(left, 0, width - left, height)
        for begin, end in self._gaps:
            painter.fillRect(QRectF(width + begin * across, 0, (end - begin) * across, height), self._shade)
        for place in told_gaps(self._gaps, px(GAP_WORDS) / across) if self._gaps else ():
            begin, end = self._gaps[place]
            self._label(
                painter, gap_words((begin, end), -self._seconds), width + (begin + end) / 2 * across, self._amber, 0.5
            )
        line, points = line_of(len(self.t))
        laid_out(self.t, self.values, width, across, height - 1, low, up, points)
        x, y = points[:, 0], points[:, 1]
        if self._guess is None and self._whole:
            draw_lines(painter, [line], self._line, smooth=self._smooth, places=self._places)
        elif self._guess is None or self._hidden is not None:
            self._draw(
                painter, x, y if self._hidden is None else np.where(np.isfinite(self._hidden), np.nan, y), self._line
            )
        else:  # what is a guess is broken, and begins where the rest ends
            guessed = np.isfinite(self._guess)
            self._draw(painter, x, np.where(guessed, np.nan, y), self._line)
            beside = guessed | np.append(guessed[1:], False)
            self._draw(painter, x, np.where(beside, y, np.nan), self._broken)
        for at, words in self.flags_shown:
            self._one_flag(painter, width + at * across, words, height)

    def _ticks_for(self, metrics: QFontMetrics, height: int) -> list[tuple[float, str]]:
        """The numbers at the left, for whose widest there is room."""
        key = (*self._range, height)
        if self._ticks[0] != key:
            found = ticks(*self._range, max(1, height // (2 * metrics.height())))
            widest = max((metrics.horizontalAdvance(words) for _, words in found), default=0)
            self._ticks, self._left = (key, found), max(px(NARROW), widest + px(8))
        return self._ticks[1]

    def _scale(self, painter: QPainter, shown: list[tuple[float, str]], frame: QRectF, up: float) -> None:
        """frame: left end of the lines in px, lowest value, and the size of the whole."""
        left, low, width, height = frame.getRect()
        line = painter.fontMetrics().height()
        for value, words in shown:
            y = height - 1 - (value - low) * up
            painter.setPen(self._hairline)
            painter.drawLine(QLineF(left, y, width, y))
            top = y - line / 2
            if top >= -1 and top + line <= height + 1:  # a number that would be cut is left out
                painter.setPen(self._soft)
                painter.drawText(QRectF(0, top, left - px(5), line), Qt.AlignmentFlag.AlignRight, words)

    def _draw(self, painter: QPainter, x: Floats, y: Floats, stroke: Stroke) -> None:
        draw_line(painter, x, y, stroke, smooth=self._smooth, places=self._places)

    def _one_flag(self, painter: QPainter, x: float, words: str, height: int) -> None:
        painter.setPen(self._flag)
        painter.drawLine(QLineF(x, 0, x, height))
        self._label(painter, on_one_line(words, LONGEST_FLAG), x + 3, self._verdigris, 0.0)

    def _label(self, painter: QPainter, words: str, x: float, colour: QColor, anchor: float) -> None:
        painter.setFont(self._words)
        painter.setPen(colour)
        metrics = painter.fontMetrics()
        painter.drawText(QPointF(x - anchor * metrics.horizontalAdvance(words), metrics.ascent() + 1), words)
