"""How the cells of a table are drawn and edited."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import QAbstractItemModel, QModelIndex, QSize, Qt, QTimer
from PyQt6.QtGui import QColor, QPainter, QPalette, QPen
from PyQt6.QtWidgets import QComboBox, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from common_bench.desk.look.sheet import palette, px

PADDING = 8  # px of a cell's width that words do not have


class CellDelegate(QStyledItemDelegate):
    """A chosen row keeps the tones of its cells; a column that takes only some words offers them in a list."""

    def __init__(self, table: QWidget, offered: Mapping[int, Sequence[str]]) -> None:
        """offered: by column."""
        super().__init__(table)
        self._offered = offered

    def initStyleOption(self, option: QStyleOptionViewItem | None, index: QModelIndex) -> None:
        super().initStyleOption(option, index)
        assert option is not None
        colour = index.data(Qt.ItemDataRole.ForegroundRole)
        if colour is not None:
            option.palette.setBrush(QPalette.ColorRole.HighlightedText, colour)

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """As high as its words are folded where they are painted, which is narrower than the cell by its padding."""
        narrower = QStyleOptionViewItem(option)
        if option.rect.width() > px(40):
            narrower.rect.setWidth(option.rect.width() - px(PADDING))
        return super().sizeHint(narrower, index)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """The cell that typing goes to has a frame."""
        super().paint(painter, option, index)
        editable = bool(index.flags() & Qt.ItemFlag.ItemIsEditable)
        if painter is not None and editable and option.state & QStyle.StateFlag.State_HasFocus:
            painter.save()
            painter.setPen(QPen(QColor(palette().copper), px(2)))
            painter.drawRect(option.rect.adjusted(1, 1, -2, -2))
            painter.restore()

    def createEditor(self, parent: QWidget | None, option: QStyleOptionViewItem, index: QModelIndex) -> QWidget | None:
        """A list to choose from, where a column takes only some words."""
        offered = self._offered.get(index.column(), ())
        if not offered:
            return super().createEditor(parent, option, index)
        made = QComboBox(parent)
        made.addItems(list(offered))
        made.activated.connect(lambda _: self._chosen(made))
        QTimer.singleShot(0, made.showPopup)
        return made

    def updateEditorGeometry(self, editor: QWidget | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        super().updateEditorGeometry(editor, option, index)
        if isinstance(editor, QComboBox):
            editor.resize(max(editor.width(), editor.sizeHint().width()), editor.height())

    def _chosen(self, editor: QWidget) -> None:
        self.commitData.emit(editor)
        self.closeEditor.emit(editor)

    def setEditorData(self, editor: QWidget | None, index: QModelIndex) -> None:
        if isinstance(editor, QComboBox):
            editor.setCurrentText(str(index.data()))
        else:
            super().setEditorData(editor, index)

    def setModelData(self, editor: QWidget | None, model: QAbstractItemModel | None, index: QModelIndex) -> None:
        if isinstance(editor, QComboBox) and model is not None:
            model.setData(index, editor.currentText())
        else:
            super().setModelData(editor, model, index)
