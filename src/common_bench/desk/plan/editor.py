"""An editor for lines that are checked while they are typed, with each trouble at its place."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QKeyEvent, QTextCharFormat, QTextCursor
from PyQt6.QtWidgets import QPlainTextEdit, QTextEdit

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import button, hbox, vbox
from common_bench.desk.look.sheet import palette, px

Found = tuple[int, int, int, str]  # line, start, end, sentence


class CheckedEditor(QPlainTextEdit):
    """`check` takes the lines and gives what is wrong; `keep` takes them once nothing is.

    What is typed stays in the editor until it is kept or put back, whatever happens elsewhere.
    """

    def __init__(
        self, check: Callable[[list[str]], list[Found]], keep: Callable[[list[str]], object], rows: int
    ) -> None:
        super().__init__()
        self._check, self._keep, self._kept = check, keep, ""
        self.setTabChangesFocus(True)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)
        self.setMinimumHeight(px(22 * rows + 14))
        self.trouble = label("", "red", wrap=True)
        self.keeper = button("Keep (Ctrl+Enter)", self.keep_it)
        self.back = button("Put back", self.put_back)
        self.layout_with_actions = vbox(self, self.trouble, hbox(self.keeper, self.back, None), spacing=5)
        self.textChanged.connect(self._look)
        self._look()

    @property
    def lines(self) -> list[str]:
        return self.toPlainText().splitlines()

    @property
    def untouched(self) -> bool:
        return self.toPlainText() == self._kept

    def show_kept(self, text: str) -> None:
        """What the plan holds now; shown unless something else is being typed."""
        untouched = self.untouched
        self._kept = text
        if untouched and self.toPlainText() != text:
            self.setPlainText(text)
        self._look()

    def put_back(self) -> None:
        self.setPlainText(self._kept)

    def keep_it(self) -> None:
        if not self._found and not self.untouched:
            self._kept = self.toPlainText()
            self._keep(self.lines)
            self._look()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if control and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.keep_it()
        else:
            super().keyPressEvent(event)

    def _look(self) -> None:
        self._found = self._check(self.lines)
        marks = []
        for line, start, end, _ in self._found:
            document = self.document()
            assert document is not None
            block = document.findBlockByNumber(line)
            cursor = QTextCursor(block)
            cursor.setPosition(block.position() + min(start, max(0, block.length() - 1)))
            last = block.position() + min(max(end, start + 1), max(0, block.length() - 1))
            cursor.setPosition(last, QTextCursor.MoveMode.KeepAnchor)
            mark = QTextEdit.ExtraSelection()
            form = QTextCharFormat()
            form.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            form.setUnderlineColor(QColor(palette().red))
            form.setForeground(QColor(palette().red))
            mark.format, mark.cursor = form, cursor
            marks.append(mark)
        self.setExtraSelections(marks)
        self.trouble.setText("\n".join(f"Line {line + 1}: {words}" for line, _, _, words in self._found[:3]))
        self.trouble.setVisible(bool(self._found))
        self.keeper.setEnabled(not self._found and not self.untouched)
        self.back.setVisible(not self.untouched)
