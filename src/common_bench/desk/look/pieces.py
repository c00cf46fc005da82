"""Small pieces that every stage is made of: cards, labels, buttons, rows, tables, a question asked in place."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QPalette
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from common_bench.desk.look.sheet import palette, px

LONG_CELL = 18  # characters of a cell from which it may be cut, and says all of itself when pointed at
GOOD_NEWS = 4000  # ms that a sentence about something that went well stays


def set_property(widget: QWidget, name: str, value: object) -> None:
    """Sets a property that the style sheet looks at, and restyles only where it changed."""
    if widget.property(name) != value:
        widget.setProperty(name, value)
        widget.style().unpolish(widget)
        widget.style().polish(widget)


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    if wrap:
        made.setWordWrap(True)
    return made


def rich(text: str = "", role: str = "") -> QLabel:
    """A label whose text may hold bold words; what is put in must be escaped by the caller."""
    made = label(text, role, wrap=True)
    made.setTextFormat(Qt.TextFormat.RichText)
    return made


def pretty(formula: str) -> str:
    """A formula with raised figures and π, for reading."""
    for typed, shown in ((" ^ 2", "²"), ("^2", "²"), ("^3", "³"), ("pi", "π"), (" * ", " × ")):
        formula = formula.replace(typed, shown)
    return formula


def say(widget: QLabel, text: str, role: str | None = None) -> None:
    if widget.text() != text:
        widget.setText(text)
    if role is not None:
        set_property(widget, "role", role)


def button(text: str, act: Callable[[], object], *, role: str = "", tip: str = "") -> QPushButton:
    made = QPushButton(text)
    made.setAutoDefault(True)
    if role:
        made.setProperty("role", role)
    if tip:
        made.setToolTip(tip)
    made.clicked.connect(lambda: act())
    return made


class Card(QFrame):
    """A white card with an optional heading and words at its right."""

    def __init__(self, heading: str = "", *, name: bool = False) -> None:
        super().__init__()
        self.setObjectName("card")
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(px(13), px(10), px(13), px(10))
        self.body.setSpacing(px(5))
        self.heading = label(heading if name else heading.upper(), "name" if name else "heading")
        self.aside = label("", "soft")
        self.aside.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.aside.setMinimumWidth(1)  # in a small window it is cut before it pushes its neighbours out
        if heading or name:
            row = hbox(self.heading, None, self.aside)
            self.body.addLayout(row)

    def add(self, *widgets: QWidget) -> None:
        for widget in widgets:
            self.body.addWidget(widget)


def hbox(*things: object, spacing: int = 8) -> QHBoxLayout:
    """Widgets and layouts in a row; None stretches."""
    row = QHBoxLayout()
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(px(spacing))
    _fill(row, things)
    return row


def vbox(*things: object, spacing: int = 8) -> QVBoxLayout:
    column = QVBoxLayout()
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(px(spacing))
    _fill(column, things)
    return column


def scrolled(inside: QVBoxLayout) -> QScrollArea:
    """A column that can be scrolled where the window is too low for it."""
    inner = QWidget()
    inner.setObjectName("paper")
    inner.setLayout(inside)
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setWidget(inner)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return area


def _fill(box: QHBoxLayout | QVBoxLayout, things: Sequence[object]) -> None:
    for thing in things:
        if thing is None:
            box.addStretch(1)
        elif isinstance(thing, QWidget):
            box.addWidget(thing)
        else:
            box.addLayout(thing)


class KeepsTone(QStyledItemDelegate):
    """A chosen row keeps the tones of its cells."""

    def initStyleOption(self, option: QStyleOptionViewItem, index: object) -> None:
        super().initStyleOption(option, index)
        colour = index.data(Qt.ItemDataRole.ForegroundRole)
        if colour is not None:
            option.palette.setBrush(QPalette.ColorRole.HighlightedText, colour)


class Table(QTableWidget):
    """A quiet table: hairlines, no grid, numbers at the right. Cells are text with a tone each.

    `edit`: columns whose cells can be edited; `edited(row, column, text)` tells what was typed.
    """

    edited = pyqtSignal(int, int, str)

    def __init__(
        self, columns: Sequence[str], *, left: Sequence[int] = (0,), stretch: int = 0, edit: Sequence[int] = ()
    ) -> None:
        super().__init__(0, len(columns))
        self.setHorizontalHeaderLabels(list(columns))
        self._left, self._edit = set(left), set(edit)
        self.verticalHeader().hide()
        self._row = 28
        self.verticalHeader().setDefaultSectionSize(px(self._row))
        self.verticalHeader().setMinimumSectionSize(px(22))
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        if not edit:
            self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header = self.horizontalHeader()
        header.setHighlightSections(False)
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(stretch, QHeaderView.ResizeMode.Stretch)
        for column in range(len(columns)):
            self.horizontalHeaderItem(column).setTextAlignment(self._align(column))
        self.setItemDelegate(KeepsTone(self))
        self.itemChanged.connect(self._changed)
        self.setTabKeyNavigation(False)

    def _align(self, column: int) -> Qt.AlignmentFlag:
        side = Qt.AlignmentFlag.AlignLeft if column in self._left else Qt.AlignmentFlag.AlignRight
        return side | Qt.AlignmentFlag.AlignVCenter

    def fill(self, rows: Sequence[Sequence[str | tuple[str, str]]]) -> None:
        """Cells as text, or (text, tone). Only what changed is touched, so that editing is not disturbed."""
        if self.state() == QAbstractItemView.State.EditingState:
            return
        self.blockSignals(True)
        if self.rowCount() != len(rows):
            self.setRowCount(len(rows))
        for at, row in enumerate(rows):
            for column, cell in enumerate(row):
                text, tone = cell if isinstance(cell, tuple) else (cell, "")
                item = self.item(at, column)
                if item is None:
                    item = QTableWidgetItem()
                    item.setTextAlignment(self._align(column))
                    if column not in self._edit:
                        item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                    self.setItem(at, column, item)
                if item.text() != text:
                    item.setText(text)
                    item.setToolTip(text if len(text) > LONG_CELL else "")
                colour = QColor(palette().tone(tone) if tone else palette().ink)
                if item.foreground().color() != colour:
                    item.setForeground(colour)
        self.blockSignals(False)

    def set_row(self, height: int) -> None:
        self._row = height
        self.verticalHeader().setDefaultSectionSize(px(height))

    def fit(self, most: int = 12) -> None:
        """Makes the table as high as its rows, up to `most`."""
        rows = min(max(1, self.rowCount()), most)
        self.setFixedHeight(self.horizontalHeader().sizeHint().height() + rows * px(self._row) + 4)

    def _changed(self, item: QTableWidgetItem) -> None:
        if item.column() in self._edit:
            self.edited.emit(item.row(), item.column(), item.text())


class Question(QFrame):
    """A question answered in place with one line of text; Enter answers, Escape leaves it."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setProperty("tone", "amber")
        self._words = label("", "name")
        self._field = QLineEdit()
        self._trouble = label("", "red", wrap=True)
        self._yes = button("", self._answer, role="main")
        self._no = button("Leave it (Esc)", self.leave)
        row = hbox(self._words, self._field, self._yes, self._no)
        row.setStretch(1, 1)
        column = vbox(row, self._trouble, spacing=4)
        column.setContentsMargins(px(12), px(8), px(12), px(8))
        self.setLayout(column)
        self._field.returnPressed.connect(self._answer)
        self._then: Callable[[str], object] = lambda _: None
        self.hide()

    def ask(self, words: str, yes: str, then: Callable[[str], object], *, hint: str = "", text: str = "") -> None:
        """`then` takes the answer and may raise a Trouble, which is shown here."""
        self._words.setText(words)
        self._yes.setText(yes)
        self._field.setPlaceholderText(hint)
        self._field.setText(text)
        self._trouble.hide()
        self._then = then
        self.show()
        self._field.setFocus()

    def leave(self) -> None:
        self.hide()
        if self.parentWidget():
            self.parentWidget().setFocus()

    def keyPressEvent(self, event: object) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)

    def _answer(self) -> None:
        from common_bench.model.trouble import Trouble

        try:
            self._then(self._field.text())
        except Trouble as trouble:
            self._trouble.setText(trouble.sentence)
            self._trouble.show()
            return
        self.leave()


class Notice(QFrame):
    """A sentence about what just happened or what is wrong, with the next action on a button."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self._words = label("", wrap=True)
        self._words.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self._act = button("", lambda: self._then())
        self._close = button("✕", self.hide, role="link", tip="Hide this sentence")
        row = hbox(self._words, self._act, self._close)
        row.setContentsMargins(px(12), px(6), px(8), px(6))
        self.setLayout(row)
        self._then: Callable[[], object] = lambda: None
        self._fade = QTimer(self)
        self._fade.setSingleShot(True)
        self._fade.timeout.connect(self.hide)
        self.hide()

    def tell(self, words: str, *, tone: str = "amber", act: str = "", then: Callable[[], object] | None = None) -> None:
        self._words.setText(words)
        set_property(self, "tone", tone)
        self._act.setVisible(bool(act))
        self._act.setText(act)
        self._then = then or (lambda: None)
        self.show()
        if tone == "good":
            self._fade.start(GOOD_NEWS)
        else:
            self._fade.stop()

    @property
    def text(self) -> str:
        return self._words.text() if self.isVisibleTo(self.parentWidget()) else ""
