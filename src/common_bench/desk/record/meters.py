"""Beside the graphs of one bench: each quantity in large figures with its bar, and the last value at an event."""

from __future__ import annotations

import math

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, hbox, say
from common_bench.desk.look.sheet import palette, px
from common_bench.lesson.one_bench import EachTime, Meter


class MeterBar(QWidget):
    """Where a value stands between the ends of its scale, its extremes, and the values at which a tile turns amber."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(px(16))
        self.meter: Meter | None = None
        self.colour = "#22303C"

    def show_meter(self, shown: Meter, colour: str) -> None:
        self.meter, self.colour = shown, colour
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        wide, high = self.width(), self.height()
        painter.setBrush(QColor(palette().wash))
        painter.drawRoundedRect(QRectF(0, high * 0.25, wide, high * 0.5), 4, 4)
        if self.meter is None:
            return
        painter.setBrush(QColor(self.colour))
        painter.drawRoundedRect(QRectF(0, high * 0.25, wide * self.meter.share(self.meter.now), high * 0.5), 4, 4)
        for value, colour in (*((w, palette().amber) for w in self.meter.warnings), (self.meter.high, palette().soft), (self.meter.low, palette().soft)):  # fmt: skip
            if math.isfinite(value):
                painter.setBrush(QColor(colour))
                painter.drawRect(QRectF(min(wide - 2.0, wide * self.meter.share(value)), 0, 2, high))


class MeterCard(Card):
    """A quantity in large figures."""

    def __init__(self, name: str, colour: str) -> None:
        super().__init__()
        self.name, self._colour = name, colour
        self.value = label("")
        self.value.setStyleSheet(f"color: {colour}; font-size: {px(34)}px; font-weight: 650;")
        self.unit = label("", "soft")
        self.bar = MeterBar()
        self.words = label("", "small", wrap=True)
        self.add(label(f"{name} now", "soft"))
        self.body.addLayout(hbox(self.value, self.unit, None, spacing=7))
        self.add(self.bar, self.words)

    def show_meter(self, shown: Meter) -> None:
        say(self.value, shown.value)
        say(self.unit, shown.unit)
        say(self.words, shown.words)
        self.bar.show_meter(shown, self._colour)


class EachCard(Card):
    """The last value at an event."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.value = label("", "finding")
        self.words = label("", "small", wrap=True)
        self.add(label(name, "soft"), self.value, self.words)

    def show_each(self, shown: EachTime) -> None:
        say(self.value, shown.value)
        say(self.words, shown.words)
