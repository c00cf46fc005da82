"""What cannot be read in a window: text that is cut, runs over its place, or stands half outside of it."""

from __future__ import annotations

import functools
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QCoreApplication, QEvent, QPoint, QRect, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QImage, QPainter, QTextDocument
from PyQt6.QtWidgets import (
    QAbstractScrollArea,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QStyle,
    QStyleOptionComboBox,
    QTableWidget,
    QWidget,
)

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.labels import BesideLabel, ShortLabel

SLACK = 2  # px


def cut_texts(window: QWidget, *, long_names: bool = False) -> list[str]:
    """Every visible label, button, choice, field and cell whose text is cut; empty where all can be read.

    long_names: a name that a person gave may be shortened with “…”, if all of it is told when it is pointed at.
    """
    for _ in range(3):
        QCoreApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest.value)  # what was just said has its place
    return [f"{type(widget).__name__} {words!r}: {why}" for widget, words, why in _found(window, long_names)]


def _found(window: QWidget, long_names: bool) -> Iterator[tuple[QWidget, str, str]]:
    for widget in window.findChildren(QWidget):
        if not widget.isVisible() or widget.window() is not window.window():
            continue
        if isinstance(widget, ShortLabel):
            if widget.is_shortened and not long_names and widget.text():
                yield widget, widget.text(), "is shortened"
        elif isinstance(widget, QLabel):
            yield from ((widget, widget.text(), why) for why in _label(widget))
        elif isinstance(widget, (QPushButton, QCheckBox)):
            wanted = widget.sizeHint().width() if widget.text() else 0
            if widget.width() < wanted - SLACK:
                yield widget, widget.text(), f"{widget.width()} of {wanted} px"
        elif isinstance(widget, QComboBox):
            yield from ((widget, widget.currentText(), why) for why in _combo(widget))
        elif isinstance(widget, QTableWidget):
            yield from _table(widget, long_names)
            continue
        elif isinstance(widget, QLineEdit) and not widget.isReadOnly() and not long_names:
            words = widget.text() or widget.placeholderText()
            wanted, room = widget.fontMetrics().horizontalAdvance(words), widget.contentsRect().width() - 4
            if wanted > room + SLACK and not widget.toolTip():
                yield widget, words, f"{room} of {wanted} px"
        if isinstance(widget, (QLabel, QPushButton, QCheckBox)) and widget.text() and not _scrolled(widget):
            yield from ((widget, widget.text(), why) for why in _outside(widget, window))


def _label(widget: QLabel) -> Iterator[str]:
    if not widget.text() or not widget.pixmap().isNull():
        return
    room = widget.contentsRect()
    if widget.textFormat() == Qt.TextFormat.RichText:
        page = QTextDocument()
        page.setDefaultFont(widget.font())
        page.setHtml(widget.text())
        page.setDocumentMargin(0)
        page.setTextWidth(room.width() if widget.wordWrap() else -1)
        wanted, high = int(page.idealWidth()), int(page.size().height())
    else:
        flags = int(widget.alignment().value) | int(Qt.TextFlag.TextExpandTabs.value)
        if widget.wordWrap():
            flags |= int(Qt.TextFlag.TextWordWrap.value)
        space = QRect(0, 0, room.width() if widget.wordWrap() else 10**6, 10**6)
        needed = widget.fontMetrics().boundingRect(space, flags, widget.text())
        wanted, high = needed.width(), needed.height()
    if widget.wordWrap() and widget.textFormat() != Qt.TextFormat.RichText:
        high = widget.heightForWidth(widget.width()) - (widget.height() - room.height())
    if wanted > room.width() + SLACK:
        yield f"{room.width()} of {wanted} px wide"
    if high > room.height() + 0.4 * widget.fontMetrics().height():
        yield f"{room.height()} of {high} px high"


def _combo(box: QComboBox) -> Iterator[str]:
    option = QStyleOptionComboBox()
    box.initStyleOption(option)
    style = box.style()
    assert style is not None
    field = style.subControlRect(
        QStyle.ComplexControl.CC_ComboBox, option, QStyle.SubControl.SC_ComboBoxEditField, box
    )  # fmt: skip
    wanted = box.fontMetrics().horizontalAdvance(box.currentText())
    if wanted > field.width() + SLACK and box.toolTip() != box.currentText():
        yield f"{field.width()} of {wanted} px"


def _table(table: QTableWidget, long_names: bool) -> Iterator[tuple[QWidget, str, str]]:
    port, heads = table.viewport(), table.horizontalHeader()
    assert port is not None
    assert heads is not None
    for column in range(table.columnCount()):
        head = table.horizontalHeaderItem(column)
        if table.isColumnHidden(column) or head is None:
            continue
        wanted = round(1.08 * heads.fontMetrics().horizontalAdvance(head.text())) + 2  # bold
        if heads.isVisible() and wanted > table.columnWidth(column):
            yield table, head.text(), f"head: {table.columnWidth(column)} of {wanted} px"
        for row in range(table.rowCount()):
            item, inner = table.item(row, column), table.cellWidget(row, column)
            if item is None or inner is not None:
                continue
            metrics = table.fontMetrics()
            wanted = max((metrics.horizontalAdvance(line) for line in item.text().split("\n")), default=0)
            space = QRect(0, 0, table.columnWidth(column) - 12, 10**6)
            folded = metrics.boundingRect(space, int(Qt.TextFlag.TextWordWrap.value), item.text())
            if folded.width() <= space.width() and folded.height() <= table.rowHeight(row):
                continue
            if wanted > table.columnWidth(column) - 10 and not (long_names and item.toolTip()):
                yield table, item.text(), f"cell: {table.columnWidth(column)} of {wanted} px"
    if sum(table.columnWidth(c) for c in range(table.columnCount()) if not table.isColumnHidden(c)) > port.width() + 2:
        yield table, "columns", "run over the side"
    for row in range(table.rowCount()):
        top, bottom = table.rowViewportPosition(row), table.rowViewportPosition(row) + table.rowHeight(row)
        if top < port.height() - SLACK and bottom > port.height() + SLACK and top >= 0:
            item = table.item(row, 0)
            yield table, item.text() if item else "row", f"half a row: {port.height() - top} of {bottom - top} px"


def _scrolled(widget: QWidget) -> bool:
    parent = widget.parentWidget()
    while parent is not None:
        if isinstance(parent, (QScrollArea, QAbstractScrollArea)):
            return True
        parent = parent.parentWidget()
    return False


def _outside(widget: QWidget, window: QWidget) -> Iterator[str]:
    at = widget.mapTo(window, QPoint(0, 0))
    if (
        at.x() < -SLACK
        or at.x() + widget.width() > window.width() + SLACK
        or at.y() + widget.height() > window.height() + SLACK
    ):
        yield f"stands outside of the window: {at.x()}..{at.x() + widget.width()}, {at.y()}..{at.y() + widget.height()}"
    shown = widget.visibleRegion().boundingRect()
    if shown.width() < widget.width() - SLACK or shown.height() < widget.height() - SLACK:
        yield f"is covered: {shown.width()}×{shown.height()} of {widget.width()}×{widget.height()} px"


# what is painted

LEAST_INK = 0.88  # of what a text has where it is painted alone, below which some of it is missing
SEEN = 0.25  # of the strongest contrast: what is fainter is the rim of a letter
LEAST_CONTRAST = 40  # of 255, between a text and its ground
INSET = 3  # px, of a field's frame


class Ink(NamedTuple):
    """amount: in pixels of the strongest contrast; contrast: of 255; high, wide: px, of the smallest box around what can be seen."""

    amount: float
    contrast: float
    high: int
    wide: int


def unreadable_texts(window: QWidget, *, long_names: bool = False) -> list[str]:
    """Every visible text of which less is painted in the window than where it is painted alone, in the same font: cut, covered, or
    pushed out of its place. Says nothing of how things are laid out, and so finds what the walk by sizes cannot."""
    for _ in range(3):
        QCoreApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest.value)
    whole = _pixels(window.grab().toImage())
    found = list(_notes_outside(window))
    for widget, words, place, folds, font in _texts(window, long_names):
        shown = widget.visibleRegion().boundingRect() & place
        if shown.width() < 2 or shown.height() < 2:
            if not _scrolled(widget):
                found.append(f"{type(widget).__name__} {words!r}: not to be seen")
            continue
        if _scrolled(widget) and not widget.visibleRegion().boundingRect().contains(place):
            continue  # it can be scrolled to
        at = widget.mapTo(window, place.topLeft())
        there = whole[max(0, at.y()) : at.y() + place.height(), max(0, at.x()) : at.x() + place.width()]
        ink, alone = _ink(there), _alone(words, font.toString(), place.width() if folds else 0)
        if ink.contrast < LEAST_CONTRAST or ink.amount < LEAST_INK * alone.amount:
            found.append(f"{type(widget).__name__} {words!r}: {ink.amount / max(alone.amount, 1e-9):.0%} of its ink")
        elif ink.high < alone.high - 1 or (ink.wide < alone.wide - 2 and not folds):
            found.append(
                f"{type(widget).__name__} {words!r}: {ink.wide}×{ink.high} of {alone.wide}×{alone.high} px are painted"
            )
    return found


def _notes_outside(window: QWidget) -> Iterator[str]:
    """Words within graphs that run over an edge of what is drawn, though what they stand at is within it."""
    for graph in window.findChildren(Graph):
        if not graph.isVisible():
            continue
        frame = graph.getPlotItem().getViewBox().sceneBoundingRect()
        for note in graph.getPlotItem().items:
            if not isinstance(note, pg.TextItem) or not note.isVisible() or not note.toPlainText().strip():
                continue
            place, at = note.mapRectToScene(note.boundingRect()), note.scenePos()
            if not frame.contains(at) or place.width() > frame.width():
                continue
            if not frame.adjusted(-SLACK, -SLACK, SLACK, SLACK).contains(place):
                yield f"note {note.toPlainText()!r} runs out of its graph"


def _texts(window: QWidget, long_names: bool) -> Iterator[tuple[QWidget, str, QRect, bool, QFont]]:
    """Widget, its text, the place within it, whether it folds there, its font."""
    for widget in window.findChildren(QWidget):
        if not widget.isVisible() or widget.window() is not window.window():
            continue
        if isinstance(widget, QLabel) and widget.text().strip() and widget.pixmap().isNull():
            if widget.textFormat() == Qt.TextFormat.RichText or (
                isinstance(widget, ShortLabel) and widget.is_shortened
            ):
                continue
            words = widget.shown if isinstance(widget, BesideLabel) else widget.text()
            yield widget, words, widget.contentsRect(), widget.wordWrap(), widget.font()
        elif isinstance(widget, (QPushButton, QCheckBox)) and widget.text().strip():
            yield widget, widget.text().replace("&&", "&"), widget.rect().adjusted(INSET, INSET, -INSET, -INSET), False, widget.font()  # fmt: skip
        elif isinstance(widget, QLineEdit) and widget.displayText().strip() and not widget.hasFocus():
            inset = 0 if widget.objectName() == "quiet" else INSET  # without a frame
            inside = widget.rect().adjusted(inset, inset, -inset, -inset)
            if widget.fontMetrics().horizontalAdvance(widget.displayText()) < inside.width() - 8:
                yield widget, widget.displayText(), inside, False, widget.font()
        elif isinstance(widget, QTableWidget):
            yield from _cells(widget, long_names)


def _cells(table: QTableWidget, long_names: bool) -> Iterator[tuple[QWidget, str, QRect, bool, QFont]]:
    port = table.viewport()
    assert port is not None
    for row in range(table.rowCount()):
        for column in range(table.columnCount()):
            item = table.item(row, column)
            if item is None or not item.text().strip() or table.isColumnHidden(column):
                continue
            place = table.visualItemRect(item)
            if not port.rect().contains(place) or (item.toolTip() and long_names):
                continue  # a row that can be scrolled to
            wide = table.fontMetrics().horizontalAdvance(item.text()) > place.width() - 8
            if not (wide and item.toolTip()):
                folds = wide or place.height() > 2 * table.fontMetrics().height()  # a row of several lines
                yield port, item.text(), place, folds, item.font() if item.font().family() else table.font()


@functools.lru_cache(4096)
def _alone(words: str, named: str, width: int) -> Ink:
    """The ink of a text that has all the room that it wants; width: in which it folds, 0 where it does not."""
    font = QFont()
    font.fromString(named)
    flags = int(Qt.TextFlag.TextWordWrap.value) if width else 0
    room = QFontMetrics(font).boundingRect(QRect(0, 0, width or 10**5, 10**5), flags, words)
    image = QImage(room.width() + 40, room.height() + 40, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    painter = QPainter(image)
    painter.setFont(font)
    painter.setPen(QColor("black"))
    painter.drawText(QRect(20, 20, width or room.width() + 10, room.height() + 10), flags, words)
    painter.end()
    return _ink(_pixels(image))


def _pixels(image: QImage) -> np.ndarray:
    """(h, w) of an image: 0xRRGGBB each."""
    image = image.convertToFormat(QImage.Format.Format_RGB32)
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    held = np.frombuffer(bits, np.uint32).reshape(image.height(), image.bytesPerLine() // 4)
    return held[:, : image.width()] & 0xFFFFFF


def _ink(pixels: np.ndarray) -> Ink:
    """What is painted on the ground that most pixels have."""
    if not pixels.size:
        return Ink(0.0, 0.0, 0, 0)
    values, kinds, counts = np.unique(pixels, return_inverse=True, return_counts=True)
    parts = np.stack([values >> shift & 0xFF for shift in (16, 8, 0)]).astype(int)
    away = np.abs(parts - parts[:, counts.argmax(), None]).max(axis=0)
    strongest = float(away.max())
    if not strongest:
        return Ink(0.0, 0.0, 0, 0)
    seen = (away > SEEN * strongest)[kinds.reshape(pixels.shape)]
    high, wide = (np.flatnonzero(seen.any(axis=axis)) for axis in (1, 0))
    return Ink(float(away @ counts) / strongest, strongest, int(np.ptp(high)) + 1, int(np.ptp(wide)) + 1)
