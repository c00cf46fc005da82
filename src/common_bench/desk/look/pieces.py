"""Small pieces that every stage is made of: cards, labels, buttons, rows, tables, a question asked in place."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TypeVar

from PyQt6.QtCore import QEvent, QRect, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QKeySequence, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QAbstractItemDelegate,
    QAbstractItemView,
    QBoxLayout,
    QCheckBox,
    QComboBox,
    QCompleter,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from common_bench.desk.look.cells import CellDelegate
from common_bench.desk.look.labels import (
    LONGEST_SHOWN,
    BesideLabel,
    PlainLabel,
    RichLabel,
    label,
    set_tip,
    without_marks,
)
from common_bench.desk.look.sharing import shares
from common_bench.desk.look.sheet import palette, px
from common_bench.model.visible import visible

SomeWidget = TypeVar("SomeWidget", bound=QWidget)
Cell = str | tuple[str, str]
"""Text, or (text, tone)."""

LONG_CELL = 18  # characters of a cell from which it may be cut, and says all of itself when pointed at
WORDS_LEAST = 75  # px of a column of words, where there is little room


def set_property(widget: QWidget, name: str, value: object) -> None:
    """Sets a property that the style sheet looks at, and restyles only where it changed."""
    if widget.property(name) != value:
        widget.setProperty(name, value)
        style = widget.style()
        assert style is not None
        style.unpolish(widget)
        style.polish(widget)


class Field(QLineEdit):
    """A line to type on. Enter that it has taken goes no further: it must not press something else as well. Undo and redo are its own
    as long as something was typed; where nothing was, they are the lesson's."""

    def event(self, event: QEvent | None) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and (
                (event.matches(QKeySequence.StandardKey.Undo) and not self.isUndoAvailable())
                or (event.matches(QKeySequence.StandardKey.Redo) and not self.isRedoAvailable())
            )
        ):
            event.ignore()
            return False
        return bool(super().event(event))

    def minimumSizeHint(self) -> QSize:
        """As high as its letters and its frame, however little room there is."""
        return QSize(super().minimumSizeHint().width(), self.sizeHint().height())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        super().keyPressEvent(event)
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            event.accept()


class FoldedField(Field):
    """A longer text on a line to type on: folded, all of it, while nobody types."""

    MOST_LINES = 6

    def setText(self, text: str | None) -> None:
        super().setText(text)
        self._take_room()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._take_room()

    @property
    def folded(self) -> QRect:
        """Where its text stands while nobody types."""
        return self.rect().adjusted(px(5), px(2), -px(5), -px(2))

    def _take_room(self) -> None:
        inside, metrics = self.folded, self.fontMetrics()
        wanted = metrics.boundingRect(
            QRect(0, 0, max(1, inside.width()), 10**5), int(Qt.TextFlag.TextWordWrap.value), self.text()
        )
        high = max(self.sizeHint().height(), min(wanted.height(), self.MOST_LINES * metrics.lineSpacing()) + px(6))
        if self.height() != high:
            self.setFixedHeight(high)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self.hasFocus() or not self.text():
            super().paintEvent(event)
            return
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.folded, int(Qt.TextFlag.TextWordWrap.value) | int(Qt.AlignmentFlag.AlignVCenter.value), self.text())  # fmt: skip


def offer(field: QLineEdit, words: Sequence[str]) -> None:
    """Offers words for a field while it is typed on; none where there are none."""
    if not words:
        field.setCompleter(None)
        return
    completer = QCompleter(list(words), field)
    completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
    completer.setFilterMode(Qt.MatchFlag.MatchContains)
    field.setCompleter(completer)


def shortened(name: str, most: int = 16) -> str:
    """A name as it stands on a button: a long one is cut with “…”."""
    return name if len(name) <= most else f"{name[: most - 1].rstrip()}…"


def pretty(formula: str) -> str:
    """A formula with raised figures and π, for reading."""
    for typed, shown in ((" ^ 2", "²"), ("^2", "²"), ("^3", "³"), ("pi", "π"), (" * ", " × ")):
        formula = formula.replace(typed, shown)
    return formula


def say(widget: QLabel, text: str, role: str | None = None) -> None:
    """Another text, and another role where one is given; nothing is done where nothing changes."""
    if (widget.given if isinstance(widget, (PlainLabel, RichLabel)) else widget.text()) != text:
        widget.setText(text)
    if role is not None:
        set_property(widget, "role", role)


def unfocused(widget: SomeWidget) -> SomeWidget:
    """Takes the focus by the Tab key alone: after a click, keys go on doing what their labels say."""
    widget.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    return widget


def choice(items: Sequence[str] = (), *, tip: str = "") -> QComboBox:
    """A list to choose from."""
    made = unfocused(QComboBox())
    made.addItems(list(items))
    set_tip(made, tip)
    return made


def names_choice(*, tip: str = "") -> QComboBox:
    """A list of names that people give: a long one takes no more room than there is, and is told where it is pointed at."""
    made = choice(tip=tip)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.setMinimumContentsLength(10)
    made.currentTextChanged.connect(lambda text: set_tip(made, text if len(text) > 10 else tip))
    return made


def is_open(box: QComboBox) -> bool:
    """Whether its list is open just now."""
    view = box.view()
    return view is not None and view.isVisible()


class PlainButton(QPushButton):
    """A `&` in its text is one, and no mark of a key."""

    def __init__(self, text: str = "") -> None:
        super().__init__()
        self.setText(text)

    def setText(self, text: str | None) -> None:
        super().setText(without_marks(text or ""))

    def text(self) -> str:
        return super().text().replace("&&", "&")


def tick_box(text: str) -> QCheckBox:
    """Something that is on or off."""
    return unfocused(QCheckBox(without_marks(text)))


def button(text: str, act: Callable[[], object], *, role: str = "", tip: str = "") -> QPushButton:
    """A button; role: main for the one main action, link for a quiet one."""
    made = unfocused(PlainButton(text))
    made.setAutoDefault(True)
    if role:
        made.setProperty("role", role)
    if tip:
        set_tip(made, tip)
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
        self.aside = BesideLabel("", "soft")
        self.aside.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        for each in (self.heading, self.aside):
            each.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.top = hbox(self.heading, self.aside)
        self.top.setStretch(1, 1)
        self._room: QWidget | None = None  # under words that stand alone
        if heading or name:
            self.body.addLayout(self.top)

    def add(self, *widgets: QWidget) -> None:
        for widget in widgets:
            self.body.addWidget(widget)

    def show_words_alone(self, words: str, hidden: Sequence[QWidget]) -> None:
        """Words at the top of a card that has nothing to show, without what else it holds."""
        for each in hidden:
            each.hide()
        if self._room is None:
            self._room = QWidget()
            self._room.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
            self.add(self._room)
        self._room.show()
        self.heading.setWordWrap(True)
        say(self.heading, words)
        say(self.aside, "")

    def words_no_longer_alone(self) -> None:
        if self._room is not None:
            self._room.hide()
            self.heading.setWordWrap(False)


def hbox(*things: QWidget | QLayout | None, spacing: int = 8) -> QHBoxLayout:
    """Widgets and layouts in a row; None stretches."""
    row = QHBoxLayout()
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(px(spacing))
    _fill(row, things)
    return row


def vbox(*things: QWidget | QLayout | None, spacing: int = 8) -> QVBoxLayout:
    """Widgets and layouts in a column; None stretches."""
    column = QVBoxLayout()
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(px(spacing))
    _fill(column, things)
    return column


def scrolled(inside: QVBoxLayout) -> QScrollArea:
    """A column that can be scrolled where the window is too low for it."""
    inner = QWidget()
    inner.setLayout(inside)
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setWidget(inner)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return area


def _fill(box: QHBoxLayout | QVBoxLayout, things: Sequence[QWidget | QLayout | None]) -> None:
    for thing in things:
        if thing is None:
            box.addStretch(1)
        elif isinstance(thing, QWidget):
            box.addWidget(thing)
        else:
            box.addLayout(thing)


def share_room(layout: QBoxLayout, *shares: int) -> None:
    """How much of the room each of the first parts of a row or a column has."""
    for at, share in enumerate(shares):
        layout.setStretch(at, share)


class Pages(QStackedWidget):
    """Pages that take the height that they are given: words that fold on one of them ask for no more."""

    def hasHeightForWidth(self) -> bool:
        return False


class Table(QTableWidget):
    """A quiet table: hairlines, no grid, numbers at the right. Cells are text with a tone each.

    `wrap`: a row is as high as its words need. `edit`: columns whose cells can be edited; `edited(row, column, text)` tells what was typed, `refilled` asks for
    what is kept to be shown again.
    """

    edited = pyqtSignal(int, int, str)
    refilled = pyqtSignal()

    def __init__(
        self, columns: Sequence[str], *, left: Sequence[int] = (0,), stretch: int = 0, edit: Sequence[int] = (),
        wrap: bool = False, words: Sequence[int] | None = None, offered: Mapping[int, Sequence[str]] | None = None,
    ) -> None:  # fmt: skip
        """words: columns that give way where there is little room, those at the left where it is not said; offered: of columns that can be edited, the words of which one is chosen."""
        super().__init__(0, len(columns))
        self.setHorizontalHeaderLabels(list(columns))
        self._left, self._edit, self._wrap, self._words = (
            set(left),
            set(edit),
            wrap,
            {*(left if words is None else words)},
        )
        self._row, self._most = 28, 0
        self._fold = QTimer(self)
        self._fold.setSingleShot(True)
        self._fold.timeout.connect(lambda: self.fit(self._most) if self._most else self.fold())
        self.rows_header.hide()
        self.rows_header.setDefaultSectionSize(px(self._row))
        self.rows_header.setMinimumSectionSize(px(22))
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerItem)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        if not edit:
            self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header = self.heads
        header.setHighlightSections(False)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setMinimumSectionSize(px(20))
        self._stretch = stretch
        header.sectionResized.connect(self._folds_otherwise)
        for column in range(len(columns)):
            head = self.horizontalHeaderItem(column)
            assert head is not None
            head.setTextAlignment(self._align(column))
        self.setItemDelegate(CellDelegate(self, offered or {}))
        unfocused(self)
        if edit:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)  # a cell that was clicked is where typing goes
        self.itemChanged.connect(self._changed)
        self.setTabKeyNavigation(False)

    @property
    def heads(self) -> QHeaderView:
        header = self.horizontalHeader()
        assert header is not None
        return header

    @property
    def rows_header(self) -> QHeaderView:
        header = self.verticalHeader()
        assert header is not None
        return header

    def _align(self, column: int) -> Qt.AlignmentFlag:
        side = Qt.AlignmentFlag.AlignLeft if column in self._left else Qt.AlignmentFlag.AlignRight
        return side | Qt.AlignmentFlag.AlignVCenter

    def fill(self, rows: Sequence[Sequence[Cell]]) -> None:
        """Cells as text, or (text, tone). Only what changed is touched, so that editing is not disturbed."""
        if self.state() == QAbstractItemView.State.EditingState:
            return
        self.blockSignals(True)
        changed = self.rowCount() != len(rows)
        if changed:
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
                shown = visible(text, LONGEST_SHOWN)
                if item.text() != shown:
                    item.setText(shown)
                    set_tip(item, text if len(text) > LONG_CELL else "")
                    changed = True
                colour = QColor(palette().tone(tone) if tone else palette().ink)
                if item.foreground().color() != colour:
                    item.setForeground(colour)
        self.blockSignals(False)
        if changed:
            self._share()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._share()

    def setColumnHidden(self, column: int, hide: bool) -> None:
        if hide != self.isColumnHidden(column):
            super().setColumnHidden(column, hide)
            self._share()

    def _share(self) -> None:
        """Columns as wide as their words and numbers; one takes what is left over. Where they want more than there is, words give way: they
        end in “…”, or fold, and are told whole where they are pointed at."""
        port = self.viewport()
        seen = [column for column in range(self.columnCount()) if not self.isColumnHidden(column)]
        if port is None or not seen:
            return
        wanted = [max(self.sizeHintForColumn(column), self.heads.sectionSizeHint(column)) for column in seen]
        least = [
            max(self.heads.sectionSizeHint(column), min(wide, px(WORDS_LEAST))) if column in self._words else wide
            for column, wide in zip(seen, wanted, strict=True)
        ]
        given = shares(wanted, least, port.width())
        if self._stretch in seen:
            given[seen.index(self._stretch)] += max(0, port.width() - sum(given))
        for column, wide, asked in zip(seen, given, wanted, strict=True):
            self.setColumnWidth(column, wide)
            for row in range(self.rowCount()) if wide < asked else ():
                if (item := self.item(row, column)) is not None and len(item.text()) <= LONG_CELL:
                    set_tip(item, item.text())

    def set_row(self, height: int) -> None:
        self._row = height
        self.rows_header.setDefaultSectionSize(px(height))

    def fit(self, most: int = 12) -> None:
        """Makes the table as high as its rows, up to `most`: always whole ones."""
        self._most = most
        rows = min(max(1, self.rowCount()), most)
        high = rows * px(self._row)
        if self._wrap and self.rowCount():
            for row in range(self.rowCount()):
                self.setRowHeight(row, max(px(self._row), self.sizeHintForRow(row)))
            high = sum(self.rowHeight(row) for row in range(rows))
        self.setFixedHeight(self.heads.sizeHint().height() + high + 2 * self.frameWidth())

    def fold(self) -> None:
        """Rows as high as their words need, within the room that the table has."""
        for row in range(self.rowCount()):
            self.setRowHeight(row, max(px(self._row), self.sizeHintForRow(row)))

    def _folds_otherwise(self) -> None:
        """A column that became narrower, as another grew, folds its words: rows are as high as they need now."""
        if self._wrap and self.rowCount():
            self._fold.start()

    @property
    def takes_typing(self) -> bool:
        """Whether the cell that is chosen can be edited, so that letters, digits and Enter belong to it."""
        item = self.currentItem()
        return item is not None and bool(item.flags() & Qt.ItemFlag.ItemIsEditable) and item.column() in self._edit

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter opens the chosen cell, as any letter does; Delete and Backspace begin with an empty one."""
        enter = event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if enter and self.takes_typing and self.state() != QAbstractItemView.State.EditingState:
            self.editItem(self.currentItem())
            return
        super().keyPressEvent(event)

    def closeEditor(self, editor: QWidget | None, hint: QAbstractItemDelegate.EndEditHint) -> None:
        """Enter goes on to the cell below, as in any table of numbers."""
        row, column = self.currentRow(), self.currentColumn()
        super().closeEditor(editor, hint)
        if hint == QAbstractItemDelegate.EndEditHint.SubmitModelCache and row + 1 < self.rowCount():
            self.setCurrentCell(row + 1, column)

    def refill(self) -> None:
        """What was typed and refused does not stay as if it were kept: once the editor is closed, all is shown anew."""
        QTimer.singleShot(0, self.refilled.emit)

    def _changed(self, item: QTableWidgetItem) -> None:
        if item.column() in self._edit:
            self.edited.emit(item.row(), item.column(), item.text())


def emptied(box: QLayout) -> None:
    """Takes everything out of a row or column, what is in rows inside it too."""
    while box.count():
        item = box.takeAt(0)
        if item is None:
            return
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.deleteLater()
        elif inner is not None:
            emptied(inner)
