"""Lines that are new thirty times a second. One that is wider than a pixel is outlined before it is painted, which takes three to eight
times as long as one of a pixel: on a screen it is painted from several of those, a third of a pixel apart, and looks the same.
Points and a pen in, a painted line out.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF, QTransform
from PyQt6.QtWidgets import QWidget

from common_bench.model.block import Bools, Floats

WIDEST = 2.0  # px of a line that is painted from several
APART = 0.35  # px
AROUND = ((-APART, 0.0), (APART, 0.0), (0.0, -APART), (0.0, APART))
BREAKS = 30  # in a line that is a guess, over the time that is seen
DENSE = 8  # points for each of them, from which they are of time
BELOW = ((0.0, -APART), (0.0, APART))  # half of that, where many are small
LENGTHS_KEPT = 1024  # numbers of points, of each of which a line is kept


@lru_cache(maxsize=LENGTHS_KEPT)
def line_of(count: int) -> tuple[QPolygonF, Floats]:
    """A line of so many points, and these as an array (count, 2) to be filled, to be painted before another of as many is asked for:
    it is the same one again, since making one takes longer than painting it. In the window's thread alone."""
    line = pg.functions.create_qpolygonf(count)
    return line, pg.functions.ndarray_from_qpolygonf(line)


class Stroke:
    """A line's pen. faint: that of a pixel with which it is painted several times on a screen; None where it is painted as it is."""

    def __init__(self, made: QPen) -> None:
        self.pen = made
        self.faint: QPen | None = None
        if made.style() == Qt.PenStyle.SolidLine and 1 < made.widthF() <= WIDEST:
            self.faint = QPen(made)
            self.faint.setWidthF(1.0)
            self.faint.setCosmetic(True)


def draw_line(
    painter: QPainter, x: Floats, y: Floats, stroke: Stroke, *, smooth: bool = True,
    places: Sequence[tuple[float, float]] = AROUND,
) -> None:  # fmt: skip
    """The line through (n,) points in the painter's coordinates; breaks where one of them is no number. smooth: its edges, where it is
    painted whole; places: px of the faint lines that it is painted from on a screen whose pixels are its own."""
    known = np.isfinite(y)
    whole = np.count_nonzero(known) == len(known)
    ends = [(0, len(y))] if whole else np.flatnonzero(np.diff(known, prepend=False, append=False)).reshape(-1, 2)
    lines = [pg.functions.arrayToQPolygonF(x[first:stop], y[first:stop]) for first, stop in ends if stop > first]
    draw_lines(painter, lines, stroke, smooth=smooth, places=places)


def draw_lines(
    painter: QPainter, lines: Sequence[QPolygonF], stroke: Stroke, *, smooth: bool = True,
    places: Sequence[tuple[float, float]] = AROUND,
) -> None:  # fmt: skip
    """The same of lines without a break."""
    faint = stroke.faint if _on_screen(painter) else None
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, smooth or faint is not None)
    painter.setPen(stroke.pen if faint is None else faint)
    before = painter.transform()
    for aside, down in ((0.0, 0.0),) if faint is None else places:
        painter.setTransform(before * QTransform.fromTranslate(aside, down))  # of the screen, not of what is drawn
        for each in lines:
            painter.drawPolyline(each)
    painter.setTransform(before)


def _on_screen(painter: QPainter) -> bool:
    """Whether it is not on paper, and each of its pixels is one of the screen's."""
    device = painter.device()
    return isinstance(device, QWidget) and device.devicePixelRatioF() == 1


def in_breaks(t: Floats, values: Floats, seconds: float) -> Floats | None:
    """(n,) what of a line is to be left out so that it looks broken, no numbers elsewhere: dashes along a noisy line are dots, so that
    its breaks are of time, of which `seconds` are seen. None where there are too few points for that: dashes tell it then."""
    known = np.flatnonzero(np.isfinite(values))
    half = seconds / BREAKS / 2
    if len(known) < 2 or not half > 0 or len(known) * 2 * half < DENSE * float(t[known[-1]] - t[known[0]]):
        return None
    return np.where(np.floor(t / half) % 2 == 1, values, np.nan)


def broken_where(guessed: Bools, t: Floats, values: Floats, seconds: float) -> tuple[Floats, Floats]:
    """(n,) a line as it is drawn, and what of it is broken by dashes of the ground's colour; guessed: (n,) where it is a guess."""
    there = np.where(guessed, values, np.nan)
    hidden = in_breaks(t, there, seconds)
    return (
        (values, there) if hidden is None else (np.where(np.isfinite(hidden), np.nan, values), np.full(len(t), np.nan))
    )


def broken_at(gaps: Sequence[tuple[float, float]], t: Floats, values: Floats) -> tuple[Floats, Floats]:
    """The line with a break in each gap, so that nothing is drawn across it."""
    at = np.searchsorted(t, [high for _, high in gaps])
    return np.insert(t, at, t[np.minimum(at, len(t) - 1)]), np.insert(values, at, np.nan)
