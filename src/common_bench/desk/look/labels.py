"""Labels and tips, made in one place: text is text, and markup is our own, with what comes from outside escaped."""

from __future__ import annotations

import html

from PyQt6.QtCore import QEvent, QPointF, QRect, Qt
from PyQt6.QtGui import QAction, QColor, QPainter, QPaintEvent, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QTableWidgetItem, QWidget

from common_bench.model.visible import on_one_line, visible

LONGEST_SHOWN = 2000  # characters of one label

DIGITS_ALIKE = str.maketrans("123456789", "0" * 9)  # which are all as wide


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
    anew, and what lies under it is not painted again."""

    def __init__(self, text: str, ground: str) -> None:
        """ground: the colour of the card."""
        super().__init__(text)
        self._ground = QColor(ground)
        self._laid: tuple[QRect, QColor, QPointF] | None = None  # its room, its ink, and where its text begins

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._be_opaque()

    def changeEvent(self, event: QEvent | None) -> None:
        super().changeEvent(event)
        self._laid = None
        if event is not None and event.type() == QEvent.Type.StyleChange:
            self._be_opaque()

    def _be_opaque(self) -> None:
        """Again each time that a style sheet has taken it away: else the whole card is painted with each number."""
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)

    def setText(self, text: str | None) -> None:
        if (text or "").translate(DIGITS_ALIKE) != self.given.translate(DIGITS_ALIKE):  # a minus is wider than a digit
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
        room, ink, begin = self._laid = self._laid or self._lay_out()
        painter = QPainter(self)
        painter.fillRect(room, self._ground)
        painter.setPen(ink)
        painter.drawText(begin, self.given)

    def _lay_out(self) -> tuple[QRect, QColor, QPointF]:
        """At the left, in the middle of its height."""
        room, metrics = self.contentsRect(), self.fontMetrics()
        down = room.top() + (room.height() - metrics.height()) // 2 + metrics.ascent()
        return self.rect(), self.palette().color(self.foregroundRole()), QPointF(room.left(), down)


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

    def __init__(self, text: str = "", role: str = "") -> None:
        super().__init__(text)
        self._told = ""
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
        return self.fontMetrics().horizontalAdvance(self.text()) > self.contentsRect().width()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.contentsRect().width())
        shortened = text != self.text()
        told = self.text() if shortened else ""
        if self._told != told:
            self._told = told
            set_tip(self, told)
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.contentsRect(), self.alignment(), text)
