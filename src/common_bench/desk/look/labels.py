"""Labels and tips, made in one place: text is text, and markup is our own, with what comes from outside escaped."""

from __future__ import annotations

import html
import math
import re

from PyQt6.QtCore import QEvent, QRect, QSize, Qt
from PyQt6.QtGui import QAction, QColor, QFontMetricsF, QPainter, QPaintEvent, QPixmap, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QTableWidgetItem, QWidget

from common_bench.model.visible import on_one_line, visible

LONGEST_SHOWN = 2000  # characters of one label

PARTS = re.compile(r" · |: |; | {3,}")
DIGITS = "0123456789"
DIGITS_ALIKE = str.maketrans(DIGITS, "0" * 10)  # which are all as wide
# What numbers are made of, with a digit for all: nothing of one reaches into what stands beside it.
OF_NUMBERS = frozenset("0.−—\u202f")


class Markup(str):
    """Text that is read as markup: of our own, with all that comes from outside escaped."""

    __slots__ = ()


def markup(template: str, **values: str) -> Markup:
    """A template of our own with values put in, escaped."""
    return Markup(template.format(**{name: escaped(value) for name, value in values.items()}))


def escaped(text: str) -> str:
    """Text from outside, to be put into markup."""
    return html.escape(visible(text, LONGEST_SHOWN))


def without_marks(text: str) -> str:
    """Text for a button, a box or a menu, on one line, where a `&` is one and no mark of a key."""
    return on_one_line(text, LONGEST_SHOWN).replace("&", "&&")


class PlainLabel(QLabel):
    """Guarantees that nothing in its text is read as markup, steers it, or is longer than a screen can hold."""

    def __init__(self, text: str = "") -> None:
        super().__init__()
        self.given = ""
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str | None) -> None:
        self.given = text or ""
        super().setText(visible(self.given, LONGEST_SHOWN))


class NumberLabel(PlainLabel):
    """A number on a card that is new thirty times a second: as long as only its digits are others, nothing about it is laid out
    anew, and what lies under it is not painted again. Its digits are painted once and put in their places from then on, which takes a third
    of the time that text does."""

    def __init__(self, text: str, ground: str) -> None:
        """ground: the colour of the card."""
        super().__init__(text)
        self._ground = QColor(ground)
        # Its room, the top and the left of its text, and the left of each character of a number.
        self._laid: tuple[QRect, int, int, list[int] | None] | None = None
        self._painted: dict[str, QPixmap] = {}
        self._sharpness = 0.0  # pixels of a screen to one of ours

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._be_opaque()

    def changeEvent(self, event: QEvent | None) -> None:
        super().changeEvent(event)
        self._laid, self._painted = None, {}
        if event is not None and event.type() == QEvent.Type.StyleChange:
            self._be_opaque()

    def _be_opaque(self) -> None:
        """Again each time that a style sheet has taken it away: else the whole card is painted with each number."""
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)

    def setText(self, text: str | None) -> None:
        if (text or "").translate(DIGITS_ALIKE) != self.given.translate(DIGITS_ALIKE):  # a minus is wider than a digit
            self._laid = None
            super().setText(text)
            self.setMinimumWidth(0)  # which its hint would have in it
            self.setMinimumWidth(self.sizeHint().width())  # never cut: what stands beside it gives way
        elif text != self.given:
            self.given = text or ""
            self.update()

    def text(self) -> str:
        return self.given

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._laid = None

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._sharpness != (sharpness := self.devicePixelRatioF()):  # another screen's
            self._sharpness, self._painted = sharpness, {}
        room, top, left, begins = self._laid = self._laid or self._lay_out()
        painter = QPainter(self)
        painter.fillRect(room, self._ground)
        if begins is None:
            painter.setPen(self.palette().color(self.foregroundRole()))
            painter.drawText(left, top + self.fontMetrics().ascent(), self.given)
            return
        for each, begin in zip(self.given, begins, strict=True):
            painter.drawPixmap(begin, top, self._painted.get(each) or self._paint_one(each))

    def _lay_out(self) -> tuple[QRect, int, int, list[int] | None]:
        """At the left, in the middle of its height."""
        room, metrics = self.contentsRect(), QFontMetricsF(self.font(), self)
        left, top = room.left(), room.top() + (room.height() - self.fontMetrics().height()) // 2
        alike = self.given.translate(DIGITS_ALIKE)
        if not OF_NUMBERS.issuperset(alike):
            return self.rect(), top, left, None
        ends = [metrics.horizontalAdvance(alike[:at]) for at in range(len(alike))]
        return self.rect(), top, left, [left + round(each) for each in ends]

    def _paint_one(self, character: str) -> QPixmap:
        metrics, sharpness = self.fontMetrics(), self._sharpness
        width = max(1, metrics.horizontalAdvance(character))
        made = QPixmap(math.ceil(width * sharpness), math.ceil(metrics.height() * sharpness))
        made.setDevicePixelRatio(sharpness)
        made.fill(self._ground)
        painter = QPainter(made)
        painter.setFont(self.font())
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(0, metrics.ascent(), character)
        painter.end()
        self._painted[character] = made
        return made


class RichLabel(QLabel):
    """Takes nothing but markup of our own."""

    def __init__(self) -> None:
        super().__init__()
        self.given = ""
        self.setTextFormat(Qt.TextFormat.RichText)

    def setText(self, text: str | None) -> None:
        self.given = text or ""
        super().setText(text if isinstance(text, Markup) else escaped(text or ""))


def set_tip(thing: QWidget | QTableWidgetItem | QAction, text: str) -> None:
    """What is told when something is pointed at: text as it is, never markup."""
    thing.setToolTip(f"<p>{escaped(text)}</p>" if "<" in text or "&" in text else visible(text, LONGEST_SHOWN))


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """Text as it is: nothing in it is read as markup."""
    made = PlainLabel(text)
    if role:
        made.setProperty("role", role)
    if wrap:
        made.setWordWrap(True)
    return made


def rich(text: str = "", role: str = "") -> QLabel:
    """A label whose text may hold bold words, as `markup` makes it."""
    made = RichLabel()
    made.setText(text)
    made.setWordWrap(True)
    if role:
        made.setProperty("role", role)
    return made


class ShortLabel(PlainLabel):
    """One line that is shortened with “…” where it has no room; all of it is then told when it is pointed at."""

    def __init__(self, text: str = "", role: str = "", cut: Qt.TextElideMode = Qt.TextElideMode.ElideRight) -> None:
        super().__init__(text)
        self._told, self._cut = "", cut
        self.setMinimumWidth(1)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)
        if role:
            self.setProperty("role", role)

    def setText(self, text: str | None) -> None:
        super().setText(text)
        if "\n" in self.given:
            QLabel.setText(self, on_one_line(self.given, LONGEST_SHOWN))

    @property
    def is_shortened(self) -> bool:
        return self.shown != self.text()

    def sizeHint(self) -> QSize:
        """With the part of a pixel that letters may need besides."""
        return super().sizeHint() + QSize(2, 0)

    @property
    def shown(self) -> str:
        """As much of its text as there is room for."""
        return self.fontMetrics().elidedText(self.text(), self._cut, self.contentsRect().width())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        text = self.shown
        shortened = text != self.text()
        told = self.text() if shortened else ""
        if self._told != told:
            self._told = told
            set_tip(self, told)
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.contentsRect(), self.alignment(), text)


class BesideLabel(ShortLabel):
    """Words beside a heading, the most important first: where there is no room for all, whole parts of them go."""

    @property
    def shown(self) -> str:
        room, metrics = self.contentsRect().width(), self.fontMetrics()
        ends = [part.start() for part in PARTS.finditer(self.text())]
        for end in [len(self.text()), *reversed(ends)]:
            if metrics.horizontalAdvance(self.text()[:end]) <= room:
                return self.text()[:end]
        return super().shown

    @property
    def is_shortened(self) -> bool:
        return self.shown.endswith("…") and not self.text().endswith("…")
