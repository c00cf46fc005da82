"""The keyboard: keys do what their labels say, whatever was clicked before; typing is left alone; Escape leaves."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QMainWindow,
    QPlainTextEdit,
    QPushButton,
    QTextEdit,
    QWidget,
)
from PyQt6.sip import isdeleted

from common_bench.desk.look.pieces import Table
from common_bench.desk.shell.stage import Keys

MOVES_IN_LISTS = ("Up", "Down")
PRESSES = ("Return", "Enter")
MODIFIED = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.MetaModifier


def is_typing(widget: QWidget | None) -> bool:
    """Whether letters belong to this widget."""
    if isinstance(widget, (QPlainTextEdit, QTextEdit, QLineEdit)):
        return not widget.isReadOnly()
    return isinstance(widget, QAbstractSpinBox)


class Keyboard(QObject):
    """Sees every key of its window before any widget does."""

    def __init__(self, window: QMainWindow, keys: Callable[[], Keys], escape: Callable[[], object]) -> None:
        """keys: what each key does now; escape: leaves what is open beside the field that has the focus."""
        super().__init__(window)
        self._window, self._keys, self._escape = window, keys, escape
        window.installEventFilter(self)
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.focusChanged.connect(self._focus_moved)
        self._focus_moved(None, QApplication.focusWidget())

    def _focus_moved(self, old: QWidget | None, new: QWidget | None) -> None:
        """Keys go to the widget that has the focus, or to the window: nothing else need be looked at, and every event of
        every widget is more than a busy wall can bear."""
        for widget in (old, new):
            if widget is None or widget is self._window or isdeleted(widget):
                continue
            if widget is new and widget.window() is self._window:
                widget.installEventFilter(self)
            else:
                widget.removeEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if not isinstance(event, QKeyEvent) or event.type() != QEvent.Type.KeyPress:
            return False
        if not isinstance(watched, QWidget) or watched.window() is not self._window:
            return False  # of another window, or of a list that is open over this one
        focus = QApplication.focusWidget()
        if focus is not None and watched not in (focus, self._window) and focus.window() is self._window:
            return False  # on its way up from the widget that did not want it
        return self._take(focus, event)

    def _take(self, focus: QWidget | None, event: QKeyEvent) -> bool:
        name = QKeySequence(event.key()).toString()
        if name == "Esc":
            return self._leave(focus)
        if is_typing(focus) or event.modifiers() & MODIFIED:
            return False
        if isinstance(focus, Table) and focus.takes_typing:
            return False  # the cell is where one works
        if isinstance(focus, QAbstractItemView) and name in MOVES_IN_LISTS:
            return False
        if isinstance(focus, (QPushButton, QComboBox)) and name in PRESSES:
            return False  # it was reached by the Tab key and is meant
        found = self._keys().get(name)
        if found is None:
            return False
        found[1]()
        return True

    def _leave(self, focus: QWidget | None) -> bool:
        """Leaves a field, or what is open. Fields that keep what is typed hear of it as of a click elsewhere."""
        if is_typing(focus) and focus is not None:
            undone = getattr(focus, "put_back", None)
            if undone is not None:
                undone()
            handled = focus.parentWidget()
            if handled is not None and handled.objectName() == "qt_scrollarea_viewport":
                return False  # the editor of a table's cell closes by itself
            if self._escape():
                return True
            self._window.setFocus()
            return True
        if isinstance(focus, Table) and focus.takes_typing:
            self._window.setFocus()
            return True
        return bool(self._escape())
