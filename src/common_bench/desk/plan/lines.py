"""The lines of a plan: one row each, typed as text, with its value at the right and what is wrong under it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PyQt6.QtCore import QEvent, QStringListModel, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QApplication, QCompleter, QFrame, QMenu, QSizePolicy, QVBoxLayout, QWidget

from common_bench.desk.look.labels import ShortLabel, label, set_tip, without_marks
from common_bench.desk.look.pieces import Card, Field, button, hbox, say, scrolled, set_property, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.lesson.line_offers import completions, correction, word_before
from common_bench.lesson.plan_editing import PlanLine
from common_bench.model.plan import Plan
from common_bench.model.trouble import Trouble, WorkingTrouble

KIND_WIDE, VALUE_LEAST, VALUE_MOST = 64, 80, 260  # px
HEADINGS = ("Measure", "Find events", "Work out", "Find a number")
LONG_LINE = 36  # characters from which a line says all of itself when it is pointed at
NEW = "a new line: name = …"


class LineField(Field):
    """The text of a line; what may follow is offered while it is typed. Enter keeps it, Escape puts it back."""

    entered = pyqtSignal()

    def __init__(self, plan: Callable[[], Plan], channels: Callable[[], list[str]]) -> None:
        super().__init__()
        self.setObjectName("quiet")
        set_property(self, "mono", "true")
        self._plan, self._channels, self.kept = plan, channels, ""
        self.marked = (0, 0)
        self._model = QStringListModel()
        completer = QCompleter(self._model)
        completer.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        completer.setWidget(self)
        completer.activated.connect(self._take)
        self._completer = completer
        self.textEdited.connect(self._offer)

    def _offer(self, _: str) -> None:
        typed = self.text()[: self.cursorPosition()]
        offered = completions(self._plan(), typed, self._channels())
        popup = self._completer.popup()
        assert popup is not None
        if not offered or not self.hasFocus() or not typed.strip():
            popup.hide()
            return
        self._model.setStringList(offered[:12])
        self._completer.complete()

    def _take(self, chosen: str) -> None:
        """Puts a word that was chosen in the place of the one that is being typed."""
        at = self.cursorPosition()
        typed = self.text()[:at]
        word = len(typed) - len(word_before(typed))
        self.setText(typed[:word] + chosen + self.text()[at:])
        self.setCursorPosition(word + len(chosen))
        self.setModified(True)

    def event(self, event: QEvent | None) -> bool:
        """Tab takes the word that is offered first, or the one that was gone to; without an offer it goes on."""
        tab = isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and event.key() == Qt.Key.Key_Tab
        popup = self._completer.popup() if tab else None  # not there while all is made, nor once it is taken down
        if event is not None and popup is not None and popup.isVisible() and self._model.stringList():
            self._take(str(popup.currentIndex().data() or self._model.stringList()[0]))
            popup.hide()
            event.accept()
            return True
        return bool(super().event(event))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter keeps the line as it stands: what is offered beside it goes."""
        popup = self._completer.popup()
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and popup is not None:
            popup.hide()
        super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        self.entered.emit()

    def mark(self, start: int, end: int) -> None:
        """Underlines what is wrong; nothing where start and end are one."""
        if (start, end) != self.marked:
            self.marked = (start, end)
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        start, end = self.marked
        if end <= start or start >= len(self.text()):
            return
        metrics, text = self.fontMetrics(), self.text()
        cursor = self.cursorRect()
        origin = cursor.x() + cursor.width() // 2 - metrics.horizontalAdvance(text[: self.cursorPosition()])
        low, high = (origin + metrics.horizontalAdvance(text[:at]) for at in (start, end))
        painter = QPainter(self)
        painter.setPen(QPen(QColor(palette().red), px(2), Qt.PenStyle.DotLine))
        foot = self.height() - px(4)
        painter.drawLine(max(low, px(3)), foot, min(max(high, low + px(6)), self.width() - px(3)), foot)

    def put_back(self) -> None:
        self.setText(self.kept)
        self.setModified(False)


class LineRow(QFrame):
    """One line. kept: told the text when it was changed; chosen: told when it is pointed at."""

    def __init__(
        self,
        field: LineField,
        look: Callable[[PlanLine | None, str], Trouble | None],
        kept: Callable[[PlanLine | None, str], object],
        chosen: Callable[[PlanLine | None], object],
    ) -> None:
        super().__init__()
        self.setObjectName("line")
        self.line: PlanLine | None = None
        self._kept, self._chosen, self._look = kept, chosen, look
        self.kind = label("", "small")
        self.kind.setFixedWidth(px(KIND_WIDE))
        self.field = field
        self.value = ShortLabel("", "name")
        self.value.setFixedWidth(px(VALUE_LEAST))
        self.value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.trouble = label("", "red", wrap=True)
        self.trouble.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.correct = button("", self._correct, role="link")
        self._correction: str | None = None
        self.under = QWidget()
        self.under.setLayout(hbox(self.trouble, self.correct))
        row = hbox(self.kind, self.field, self.value, spacing=6)
        row.setStretch(1, 1)
        column = vbox(row, self.under, spacing=0)
        column.setContentsMargins(px(8), px(3), px(8), px(3))
        self.setLayout(column)
        field.editingFinished.connect(self.finish)
        field.textEdited.connect(self._look_over)
        self.under.hide()
        field.entered.connect(lambda: chosen(self.line))

    def show_line(self, line: PlanLine | None, *, chosen: bool) -> None:
        self.line = line
        text = line.text if line is not None else ""
        if not (self.field.hasFocus() and self.field.isModified()) and self.field.property("wrong") != "typed":
            self.field.kept = text
            if self.field.text() != text:
                self.field.setText(text)
                self.field.home(False)
                set_tip(self.field, text if len(text) > LONG_LINE else "")
            self.show_trouble(line.trouble.sentence if line is not None and line.trouble is not None else "", line)
        self.field.setPlaceholderText("" if line is not None else NEW)
        say(self.kind, line.kind if line is not None else "")
        set_property(self, "chosen", chosen)

    def show_value(self, value: str) -> None:
        """At the right; as wide as it needs in steps, so that nothing moves with each of its digits."""
        say(self.value, value)
        wanted, step = self.value.fontMetrics().horizontalAdvance(value) + px(4), px(20)
        wide = min(px(VALUE_MOST), max(px(VALUE_LEAST), -(-wanted // step) * step))
        if abs(wide - self.value.width()) > step or wide > self.value.width():
            self.value.setFixedWidth(wide)

    def show_trouble(self, words: str, line: PlanLine | None = None) -> None:
        self.under.setVisible(bool(words))
        say(self.trouble, words, "red")
        set_property(self.field, "wrong", bool(words))
        self.field.mark(*_place(line.trouble if line is not None else None))
        self._correction = (
            correction(line.text, line.trouble) if line is not None and line.trouble is not None else None
        )
        self.correct.setVisible(self._correction is not None)
        self.correct.setText("Take this correction")

    def _look_over(self, text: str) -> None:
        """What is wrong is said while it is typed."""
        found = self._look(self.line, text)
        self.show_trouble(found.sentence if found is not None else "")
        self._correction = correction(text, found) if found is not None else None
        self.correct.setVisible(self._correction is not None)
        self.field.mark(*_place(found))
        set_property(self.trouble, "role", "soft")  # red only once it is meant
        set_property(self.field, "wrong", "typed" if found is not None else False)

    def refuse(self, words: str) -> None:
        """What was typed stays as it is, with why it cannot be kept."""
        self.show_trouble(words)
        set_property(self.field, "wrong", "typed")

    def _correct(self) -> None:
        if self._correction is not None:
            self._kept(self.line, self._correction)

    def finish(self) -> None:
        """Keeps what was typed, if anything was."""
        window = self.window()
        if self.field.isModified() and window is not None and window.isVisible():
            self.field.setModified(False)
            set_property(self.field, "wrong", False)
            self._kept(self.line, self.field.text())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._chosen(self.line)


def _place(trouble: Trouble | None) -> tuple[int, int]:
    """The columns of what is wrong in the text of a line; none where that is not known."""
    return (trouble.start, trouble.end) if isinstance(trouble, WorkingTrouble) else (0, 0)


class LinesCard(Card):
    """All lines in one list, and one more to begin with; under them what can be done with the chosen one."""

    def __init__(
        self, plan: Callable[[], Plan], channels: Callable[[], list[str]], look: Callable[[PlanLine | None, str], Trouble | None],
        kept: Callable[[PlanLine | None, str], object],
        chosen: Callable[[PlanLine | None], object], acts: Sequence[tuple[str, str, Callable[[], object]]],
        ready: Callable[[], list[tuple[str, list[str]]]],
    ) -> None:  # fmt: skip
        super().__init__()
        self.body.setContentsMargins(px(1), px(1), px(1), px(6))
        self._plan, self._channels, self._kept, self._chosen, self._ready = plan, channels, kept, chosen, ready
        self._look = look
        self.rows: list[LineRow] = []
        self._shown: int | None = None
        self._goes_on = False  # the focus moves on after a line that was kept
        self._later = QTimer(self)  # once the rows have their places
        self._later.setSingleShot(True)
        self._later.setInterval(0)
        self._later.timeout.connect(self._into_view)
        self._column = QVBoxLayout()
        self._column.setSpacing(0)
        self._column.setContentsMargins(0, 0, 0, 0)
        inside = vbox(self._column, None, spacing=0)
        self.area = scrolled(inside)
        self.body.addWidget(self.area, 1)
        self._menus = [
            button(f"{heading}…", partial(self._open_menu, at), role="link") for at, heading in enumerate(HEADINGS)
        ]
        self.acts = {words: button(words, act, role="link", tip=tip) for words, tip, act in acts}
        foot = vbox(
            hbox(*self._menus, None, spacing=4),
            hbox(label("this line", "small"), *self.acts.values(), None, spacing=4),
            spacing=0,
        )
        foot.setContentsMargins(px(6), 0, px(6), 0)
        self._foot = foot
        self.body.addLayout(foot)

    @property
    def wanted(self) -> int:
        """px: as high as all its lines with what is under them."""
        return sum(row.sizeHint().height() for row in self.rows) + self._foot.sizeHint().height() + px(24)

    def show_lines(self, lines: Sequence[PlanLine], chosen: int | None) -> None:
        """chosen: which of them; the last row waits for a new one."""
        while len(self.rows) < len(lines) + 1:
            row = LineRow(LineField(self._plan, self._channels), self._look, self._kept, self._chosen_by)
            row.field.returnPressed.connect(partial(self._go_on, row))
            self.rows.append(row)
            self._column.addWidget(row)
            row.show()  # at once: typing may go on in it
        while len(self.rows) > len(lines) + 1:
            row = self.rows.pop(-2 if len(self.rows) > 1 else -1)
            self._column.removeWidget(row)
            row.hide()
            row.deleteLater()
        for at, row in enumerate(self.rows):
            row.show_line(lines[at] if at < len(lines) else None, chosen=at == chosen)
        self._shown = chosen
        if chosen is not None:
            self._later.start()

    def _chosen_by(self, line: PlanLine | None) -> None:
        if not self._goes_on:
            self._chosen(line)

    def _go_on(self, row: LineRow) -> None:
        """Enter keeps a line and typing goes on in the list: in the same line, or behind the last one in a new one. The line that was just
        written stays the chosen one."""
        row.finish()
        if row in self.rows[-2:] and row.field.property("wrong") != "typed":
            QTimer.singleShot(0, self._to_the_new_line)  # once what offered words is gone, and Enter is over

    def _to_the_new_line(self) -> None:
        focus = QApplication.focusWidget()
        if focus is not None and not self.isAncestorOf(focus):
            return  # somebody has gone somewhere else meanwhile
        self._goes_on = True
        window = self.window()
        if window is not None:
            window.activateWindow()  # the list of what was offered may have been the active one
        self.rows[-1].field.setFocus()
        self._goes_on = False

    def _into_view(self) -> None:
        if self._shown is not None and self._shown < len(self.rows):
            self.area.ensureWidgetVisible(self.rows[self._shown], 0, px(4))

    def show_values(self, values: Sequence[str]) -> None:
        for row, value in zip(self.rows, values, strict=False):
            row.show_value(value)

    def new_line(self, text: str = "") -> None:
        """The cursor in the row that waits for a line, with something to go on from."""
        row = self.rows[-1]
        row.field.setText(text)
        row.field.setModified(bool(text))
        row.field.setFocus()
        self.area.ensureWidgetVisible(row)

    def _open_menu(self, at: int) -> None:
        menu = QMenu(self)
        for text in self._ready()[at][1]:
            action = menu.addAction(without_marks(text))
            assert action is not None
            action.triggered.connect(lambda _, text=text: self._kept(None, text))
        menu.popup(self._menus[at].mapToGlobal(self._menus[at].rect().bottomLeft()))
