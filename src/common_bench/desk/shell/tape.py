"""The tape: raw lines as they arrive, one line at the foot; opened, the whole history with search, and a line to type on."""

from __future__ import annotations

import html

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QApplication, QComboBox, QFrame, QLabel, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import button, hbox, label, say
from common_bench.desk.look.sheet import MONO, palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson import actions
from common_bench.lesson.history import PAGE, KeptLine, lines_before
from common_bench.model.stream import StreamFormat
from common_bench.reading.naming import names_in
from common_bench.reading.spans import Span, spans_of
from common_bench.record.ear import Ear, TapeLine

MOST_SHOWN = 6000  # lines in the open view; the journal holds all
AT_THE_FOOT = 3


def coloured(line: TapeLine, format: StreamFormat | None, colour: str) -> str:
    """One raw line with its columns coloured: the clock soft, the first channel in the group's hue, others verdigris."""
    p = palette()
    if line.kind != "reading" or format is None:
        tone = {"unreadable": p.red, "sent": p.copper}.get(line.kind, p.soft)
        return f'<span style="color:{tone}">{html.escape(line.text.strip()) or "&nbsp;"}</span>'
    first = next((at for at, column in enumerate(format.columns) if column.role == "channel"), -1)

    def shown(span: Span) -> str:
        text = html.escape(span.text).replace("\t", "\u21e5").replace(" ", "&nbsp;")
        if span.column is None or format.columns[span.column].role != "channel":
            return f'<span style="color:{p.soft}">{text}</span>'
        tone = colour if span.column == first else p.verdigris
        return f'<span style="color:{tone};font-weight:600">{text}</span>'

    return "".join(shown(span) for span in spans_of(line.text, format))


def kind_words(line: TapeLine, ear: Ear) -> str:
    format = ear.chain.reader.format
    if line.kind == "names" or (format and _holds_names(line, format)):
        return "names"
    if line.kind == "words":
        return "words, kept as a note" if line.data.strip() else ""
    if line.kind == "half":
        return "half a line: it was heard from its middle on"
    if line.kind == "sent":
        return "sent to the kit"
    if line.kind == "unreadable":
        reader = ear.chain.reader
        return f"unreadable, counted ({reader.unreadable} in {reader.lines})"
    return ""


def _holds_names(line: TapeLine, format: StreamFormat) -> bool:
    names = names_in(line.data.strip(), format.separator)
    return names is not None and [name for name, _ in names] == [column.name for column in format.columns]


class Tape(QFrame):
    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("tape")
        self._hub = hub
        self._open = self._paused = False
        self._shown_of: tuple[int, int] = (0, 0)  # kit, hearing
        self._newest = -1  # offset up to which lines are shown
        self._oldest: int | None = None
        self._hearing = 0  # of the oldest line shown
        self.who = label("", "name")
        self.what = label("", "soft")
        self.lines = QLabel()
        self.lines.setTextFormat(Qt.TextFormat.RichText)
        self.kept = label("", "soft")
        self.opener = button("▴", self.toggle, role="link", tip="Open the tape (T)")
        self.panel = self._make_panel()
        self.panel.hide()
        row = hbox(self.who, self.what, self.lines, None, self.kept, self.opener, spacing=12)
        column = QVBoxLayout(self)
        column.setContentsMargins(px(14), px(3), px(10), px(3))
        column.addWidget(self.panel)
        column.addLayout(row)
        self.lines.setMinimumWidth(10)

    def _make_panel(self) -> QWidget:
        self.view = QPlainTextEdit()
        self.view.setReadOnly(True)
        self.view.setMaximumBlockCount(MOST_SHOWN)
        self.view.setFixedHeight(px(190))
        self.view.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.find = QLineEdit()
        self.find.setPlaceholderText("find in the whole tape")
        self.find.setFixedWidth(px(220))
        self.find.returnPressed.connect(self.search)
        self.found = label("", "soft")
        self.earlier = button("Earlier lines", self.show_earlier)
        self.pauser = button("Pause", self.pause)
        self.cleaner = button("Clear the view", self.clear, tip="What is kept stays kept")
        self.copier = button("Copy", self.copy)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("type to the kit; Enter sends it")
        self.typed.returnPressed.connect(self.send)
        self.ending = QComboBox()
        self.ending.addItems(list(actions.ENDINGS))
        self.ending.setCurrentText("LF")
        self.ending.setToolTip("What is sent behind the text")
        self.commands = hbox(spacing=6)
        panel = QWidget()
        column = QVBoxLayout(panel)
        column.setContentsMargins(0, px(6), 0, px(4))
        column.setSpacing(px(6))
        column.addLayout(
            hbox(self.find, self.found, None, self.earlier, self.pauser, self.cleaner, self.copier, spacing=6)
        )
        column.addWidget(self.view)
        line = hbox(self.typed, self.ending, self.commands, spacing=6)
        line.setStretch(0, 1)
        column.addLayout(line)
        return panel

    # what is done

    def toggle(self) -> None:
        self._open = not self._open
        self.panel.setVisible(self._open)
        self.opener.setText("▾" if self._open else "▴")
        self._show_commands()
        self.refresh()
        if self._open:
            self.typed.setFocus()

    @property
    def is_open(self) -> bool:
        return self._open

    def keyPressEvent(self, event: object) -> None:
        if event.key() == Qt.Key.Key_Escape and self._open:
            if self.find.text():
                self.find.clear()
                self._start_over()
            else:
                self.toggle()
                self.window().setFocus()
        else:
            super().keyPressEvent(event)

    def pause(self) -> None:
        self._paused = not self._paused
        self.pauser.setText("Go on" if self._paused else "Pause")
        if not self._paused:
            self._start_over()

    def clear(self) -> None:
        """Empties the view; what is kept stays kept."""
        self.view.clear()

    def copy(self) -> None:
        chosen = self.view.textCursor().selectedText().replace("\u2029", "\n")
        QApplication.clipboard().setText(chosen or self.view.toPlainText())
        say(self.found, "copied")

    def search(self) -> None:
        ear = self._ear()
        words = self.find.text().strip()
        if ear is None or not words:
            self._start_over()
            return
        self._hub.lesson.journal.flush()
        found, more = lines_before(self._hub.lesson.book, ear.hearing, None, find=words)
        self.view.clear()
        for line in found:
            self._append(_as_tape(line), ear)
        say(self.found, f"{len(found)}{' and more' if more else ''} found · Esc shows all")
        self._paused = True
        self.pauser.setText("Go on")

    def show_earlier(self) -> None:
        """One page before the oldest line in the view, from the journal."""
        ear = self._ear()
        if ear is None or self._oldest is None:
            say(self.found, "this is the beginning")
            return
        self._hub.lesson.journal.flush()
        page, more = lines_before(self._hub.lesson.book, self._hearing, self._oldest, most=PAGE)
        self._oldest = more
        if more is None:
            before = [
                row["id"] for row in self._hub.lesson.book.rows("hearing", kit=ear.kit) if row["id"] < self._hearing
            ]
            if before:
                self._hearing, self._oldest = before[-1], 1 << 60
        self._paused = True
        self.pauser.setText("Go on")
        cursor = QTextCursor(self.view.document())
        format = ear.chain.reader.format
        text = "".join(f"{self._line_html(_as_tape(line, format), ear)}<br>" for line in page)
        cursor.insertHtml(text)
        self.view.verticalScrollBar().setValue(0)
        say(self.found, f"{len(page)} earlier lines")

    def send(self) -> None:
        kit = self._hub.lesson.kit_of(self._hub.group) if self._hub.group else None
        text = self.typed.text()
        if kit is None:
            self._hub.tell("This bench has no kit to send to.", "amber")
        elif self._hub.try_to(lambda: actions.send(self._hub.lesson, kit, text, self.ending.currentText())):
            self.typed.clear()

    def _show_commands(self) -> None:
        while self.commands.count():
            self.commands.takeAt(0).widget().deleteLater()
        for command in self._hub.lesson.plan.commands:
            key = f" ({command.key})" if command.key else ""
            self.commands.addWidget(button(f"{command.name}{key}", lambda c=command: self._hub.command(c)))

    # what is seen

    def _ear(self) -> Ear | None:
        return self._hub.lesson.ear(self._hub.group) if self._hub.group else None

    def refresh(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        ear = self._ear()
        if ear is None:
            say(self.who, lesson.group(group).alias if group else "")
            say(self.what, "no kit is given to this bench" if group else "")
            for each in (self.lines, self.kept):
                say(each, "")
            return
        found = lesson.group(group)
        say(self.who, found.alias)
        rate = f"{ear.rate:.1f} lines/s" if ear.rate == ear.rate and ear.trouble is None else "not heard"
        format = ear.chain.reader.format
        names = " ".join(column.name for column in format.columns[:6]) if format else "no columns yet"
        say(self.what, f"{rate} · {names}")
        recent = ear.lines()[-AT_THE_FOOT:]
        foot = " &nbsp; ".join(coloured(line, format, self._colour()) for line in recent)
        say(self.lines, f"<span style='font-family:{MONO};font-size:{px(12)}px'>{foot}</span>")
        if self._open:
            self._follow(ear)
        trouble = lesson.journal.trouble
        unread = ear.chain.reader.unreadable
        say(self.kept, trouble or f"all lines kept · {unread} unread", "red" if trouble else "soft")

    def _colour(self) -> str:
        return hue(palette(), self._hub.lesson.group(self._hub.group).emblem.colour)

    def _start_over(self) -> None:
        self._paused = False
        self.pauser.setText("Pause")
        self._shown_of = (0, 0)
        say(self.found, "")
        self.refresh()

    def _follow(self, ear: Ear) -> None:
        """Adds what has come since; begins anew for another kit."""
        if self._shown_of != (ear.kit, ear.hearing):
            self._shown_of = ear.kit, ear.hearing
            self._newest, self._hearing = -1, ear.hearing
            self._oldest = next((line.offset for line in ear.lines() if line.offset >= 0), None)
            self.view.clear()
        if self._paused:
            return
        new = [
            line for line in ear.lines() if line.offset > self._newest or (line.offset < 0 and line.at > self._sent_at)
        ]
        for line in new:
            self._append(line, ear)
            self._newest = max(self._newest, line.offset)
            if line.offset < 0:
                self._sent_at = line.at

    _sent_at = -1.0

    def _append(self, line: TapeLine, ear: Ear) -> None:
        self.view.appendHtml(self._line_html(line, ear))

    def _line_html(self, line: TapeLine, ear: Ear) -> str:
        soft = palette().soft
        words = kind_words(line, ear)
        behind = f" <span style='color:{soft}'>&nbsp; {words}</span>" if words else ""
        at = f"{line.at:9.2f} s".replace(" ", "&nbsp;")
        return f"<span style='color:{soft}'>{at} &nbsp;</span>{coloured(line, ear.chain.reader.format, self._colour())}{behind}"


def _as_tape(line: KeptLine, format: StreamFormat | None = None) -> TapeLine:
    from common_bench.reading.dialects import line_reader

    kind = "sent" if line.sent else "reading" if format and line_reader(format)(line.line) else "words"
    return TapeLine(line.at, line.offset, line.line, kind)
