"""What cannot be read in a window: text that is cut, runs over its place, or stands half outside of it."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QCoreApplication, QEvent, QPoint, QRect, Qt
from PyQt6.QtGui import QTextDocument
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

from common_bench.desk.look.labels import ShortLabel

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
