"""Emblems: a shape and a colour for each group; the shape alone tells groups apart."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPolygonF
from PyQt6.QtWidgets import QWidget

from common_bench.desk.look.palette import hue
from common_bench.desk.look.sheet import palette, px

SYMBOLS = {
    "circle": "o", "square": "s", "triangle": "t1", "diamond": "d", "hexagon": "h", "plus": "+", "star": "star", "ring": "o",
    "drop": "t", "bar": "p",
}  # fmt: skip


def _corners(count: int, start: float, radius: float = 1.0) -> QPolygonF:
    turns = [start + 2 * math.pi * k / count for k in range(count)]
    return QPolygonF([QPointF(radius * math.cos(a), radius * math.sin(a)) for a in turns])


def shape_path(shape: str) -> QPainterPath:
    """The shape inside the unit circle, y downwards."""
    path = QPainterPath()
    if shape == "circle":
        path.addEllipse(QPointF(0, 0), 0.9, 0.9)
    elif shape == "square":
        path.addRect(QRectF(-0.8, -0.8, 1.6, 1.6))
    elif shape == "triangle":
        path.addPolygon(QPolygonF([QPointF(0, -0.95), QPointF(0.95, 0.75), QPointF(-0.95, 0.75)]))
    elif shape == "diamond":
        path.addPolygon(_corners(4, 0.0, 1.05))
    elif shape == "hexagon":
        path.addPolygon(_corners(6, 0.0, 1.0))
    elif shape == "plus":
        for rect in (QRectF(-0.35, -0.95, 0.7, 1.9), QRectF(-0.95, -0.35, 1.9, 0.7)):
            path.addRect(rect)
        path.setFillRule(Qt.FillRule.WindingFill)
    elif shape == "star":
        points = [
            QPointF(r * math.sin(k * math.pi / 5), -r * math.cos(k * math.pi / 5))
            for k, r in enumerate([1.05, 0.45] * 5)
        ]
        path.addPolygon(QPolygonF(points))
    elif shape == "ring":
        path.addEllipse(QPointF(0, 0), 0.95, 0.95)
        path.addEllipse(QPointF(0, 0), 0.5, 0.5)
    elif shape == "drop":
        path.addPolygon(QPolygonF([QPointF(0, 0.95), QPointF(0.95, -0.75), QPointF(-0.95, -0.75)]))
    else:
        path.addRect(QRectF(-0.4, -1.0, 0.8, 2.0))
    path.closeSubpath()
    return path


class EmblemView(QWidget):
    """The emblem of a group, or an empty ring for a kit that belongs to nobody."""

    def __init__(self, shape: str = "", colour: str = "", size: int = 24) -> None:
        super().__init__()
        self.shape, self.colour, self._size = shape, colour, size
        self.setFixedSize(self.sizeHint())

    def sizeHint(self) -> QSize:
        return QSize(px(self._size), px(self._size))

    def show_emblem(self, shape: str, colour: str) -> None:
        if (shape, colour) != (self.shape, self.colour):
            self.shape, self.colour = shape, colour
            self.update()

    def paintEvent(self, _: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        side = min(self.width(), self.height())
        painter.translate(self.width() / 2, self.height() / 2)
        painter.scale(side / 2.4, side / 2.4)
        if not self.shape:
            pen = painter.pen()
            pen.setColor(QColor(palette().amber))
            pen.setWidthF(0.15)
            pen.setDashPattern([1.5, 1.5])
            painter.setPen(pen)
            painter.drawEllipse(QPointF(0, 0), 0.9, 0.9)
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(hue(palette(), self.colour)))
        painter.drawPath(shape_path(self.shape))
