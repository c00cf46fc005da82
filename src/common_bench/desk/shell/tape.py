"""The tape: raw lines as they arrive, one line at the foot; opened, the whole history with search, and a line to type on."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from functools import partial

from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QApplication, QFrame, QPlainTextEdit, QVBoxLayout, QWidget

from common_bench.book.book import Book
from common_bench.book.history import PAGE, KeptLine, lines_before
from common_bench.desk.look.labels import Markup, RichLabel, escaped, label, set_tip
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Field, button, choice, emptied, hbox, say
from common_bench.desk.look.sheet import MONO, palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.roster import ENDINGS
from common_bench.model.stream import StreamFormat
from common_bench.model.visible import visible
from common_bench.reading.naming import names_in
from common_bench.reading.spans import Span, spans_of
from common_bench.record.snapshot import KitState
from common_bench.record.tape import TapeLine

HIGH = 150  # px of the lines that are seen, in each theme: a projector has no more room than a screen
MOST_SHOWN = 6000  # lines in the open view; the journal holds all
AT_THE_FOOT = 3

Lines = tuple[list[KeptLine], int | None]


def coloured(line: TapeLine, format: StreamFormat | None, colour: str, most: int | None = None) -> Markup:
    """One raw line with its columns coloured: the clock soft, the first channel in the group's hue, others verdigris. most: characters;
    where there are more, it ends in “…”."""
    p = palette()
    if line.kind != "reading" or format is None:
        tone = {"unreadable": p.red, "sent": p.copper}.get(line.kind, p.soft)
        return Markup(f'<span style="color:{tone}">{escaped(visible(line.text.strip(), most)) or "&nbsp;"}</span>')
    first = next((at for at, column in enumerate(format.columns) if column.role == "channel"), -1)

    def shown(span: Span) -> str:
        text = escaped(span.text).replace("\t", "\u21e5").replace(" ", "&nbsp;")
        if span.column is None or format.columns[span.column].role != "channel":
            return f'<span style="color:{p.soft}">{text}</span>'
        tone = colour if span.column == first else p.verdigris
        return f'<span style="color:{tone};font-weight:600">{text}</span>'

    return Markup("".join(shown(span) for span in _up_to(most, spans_of(line.text, format))))


def _up_to(most: int | None, spans: Sequence[Span]) -> Iterator[Span]:
    left = most if most is not None else math.inf
    for span in spans:
        if len(span.text) > left:
            yield Span(visible(span.text, max(1, int(left))), span.column)
            return
        yield span
        left -= len(span.text)


def kind_words(line: TapeLine, state: KitState) -> str:
    """What a line is, in a few words behind it; empty for a reading."""
    format = state.format
    if line.kind == "names" or (format and _holds_names(line, format)):
        return "names"
    if line.kind == "words":
        return "words, kept as a note" if line.data.strip() else ""
    if line.kind == "half":
        return "half a line: it was heard from its middle on"
    if line.kind == "sent":
        return "sent to the kit"
    if line.kind == "unreadable":
        return f"unreadable, counted ({state.unreadable} in {state.lines})"
    return ""


def _holds_names(line: TapeLine, format: StreamFormat) -> bool:
    names = names_in(line.data.strip(), format.separator)
    return names is not None and [name for name, _ in names] == [column.name for column in format.columns]


class Tape(QFrame):
    """The last lines of the selected bench at the foot; opened, all of them."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("tape")
        self._hub = hub
        self._open = self._paused = False
        self._shown_of: tuple[int, int] = (0, 0)  # kit, session
        self._newest = -1  # offset up to which lines are shown
        self._oldest: int | None = None
        self._session = 0  # of the oldest line shown
        self.who = label("", "name")
        self.what = label("", "soft")
        self.lines = RichLabel()
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
        self.view.setFixedHeight(HIGH)
        self.view.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.search_for = Field()
        self.search_for.setPlaceholderText("find in the whole tape")
        self.search_for.setFixedWidth(px(220))
        self.search_for.returnPressed.connect(self.search)
        self.found = label("", "soft")
        self.earlier = button("Earlier lines", self.show_earlier)
        self.pauser = button("Pause", self.pause)
        self.cleaner = button("Clear the view", self.clear, tip="What is kept stays kept")
        self.copier = button("Copy", self.copy)
        self.typed = Field()
        self.typed.setPlaceholderText("type to the kit; Enter sends it")
        self.typed.returnPressed.connect(self.send)
        self.ending = choice(list(ENDINGS))
        self.ending.setCurrentText("LF")
        set_tip(self.ending, "What is sent behind the text")
        self.commands = hbox(spacing=6)
        panel = QWidget()
        column = QVBoxLayout(panel)
        column.setContentsMargins(0, px(6), 0, px(4))
        column.setSpacing(px(6))
        column.addLayout(
            hbox(self.search_for, self.found, None, self.earlier, self.pauser, self.cleaner, self.copier, spacing=6)
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
        else:
            self.window().setFocus()  # type: ignore[union-attr]

    @property
    def is_open(self) -> bool:
        return self._open

    def escape(self) -> bool:
        """Leaves the search, or closes the tape; whether it was open."""
        if not self._open:
            return False
        if self.search_for.text():
            self.search_for.clear()
            self._start_over()
        else:
            self.toggle()
        return True

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
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(chosen or self.view.toPlainText())
        say(self.found, "copied")

    def search(self) -> None:
        state = self._state()
        words = self.search_for.text().strip()
        if state is None or not words:
            self._start_over()
            return
        self._pause_for("looking …")
        session = state.session
        self._look_up(lambda book: lines_before(book, session, None, find=words), self._show_found)

    def _show_found(self, found: Lines) -> None:
        lines, more = found
        state = self._state()
        self.view.clear()
        if state is not None:
            for line in lines:
                self._append(_as_tape(line, state.format), state)
        say(self.found, f"{len(lines)}{' and more' if more else ''} found · Esc shows all")

    def show_earlier(self) -> None:
        """One page before the oldest line in the view, from the journal."""
        if self._state() is None or self._oldest is None:
            say(self.found, "this is the beginning")
            return
        self._pause_for("looking …")
        session, before = self._session, self._oldest
        self._look_up(lambda book: lines_before(book, session, before, most=PAGE), self._show_page)

    def _show_page(self, found: Lines) -> None:
        page, more = found
        state = self._state()
        if state is None:
            return
        self._oldest = more
        if more is None:
            rows = self._hub.lesson.book.rows("session", kit=state.kit)
            before = [row["id"] for row in rows if row["id"] < self._session]
            if before:
                self._session, self._oldest = before[-1], 1 << 60
        cursor = QTextCursor(self.view.document())
        text = "".join(f"{self._line_html(_as_tape(line, state.format), state)}<br>" for line in page)
        cursor.insertHtml(text)
        bar = self.view.verticalScrollBar()
        assert bar is not None
        bar.setValue(0)
        say(self.found, f"{len(page)} earlier lines")

    def _look_up(self, ask: Callable[[Book], Lines], then: Callable[[Lines], object]) -> None:
        """Has the journal looked through by a worker, once all that was heard is in it."""
        lesson = self._hub.lesson

        def work() -> Lines:
            if lesson.is_live:
                lesson.journal.flush()
            return ask(lesson.book)

        self._hub.later(lesson.working_up.submit(work), then)

    def _pause_for(self, words: str) -> None:
        say(self.found, words)
        self._paused = True
        self.pauser.setText("Go on")

    def send(self) -> None:
        kit = self._hub.lesson.store.kit_of(self._hub.group) if self._hub.group else None
        text = self.typed.text()
        if kit is None:
            self._hub.tell("This bench has no kit to send to.", "amber")
        elif self._hub.try_to(lambda: self._hub.lesson.roster.send(kit, text, self.ending.currentText())):
            self.typed.clear()

    def _show_commands(self) -> None:
        emptied(self.commands)
        for command in self._hub.lesson.store.plan.commands:
            key = f" ({command.key})" if command.key else ""
            self.commands.addWidget(button(f"{command.name}{key}", partial(self._hub.command, command)))

    # what is seen

    def _state(self) -> KitState | None:
        return self._hub.lesson.roster.state(self._hub.group) if self._hub.group else None

    def refresh(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        state = self._state()
        if state is None:
            say(self.who, self._hub.name_of(group) if group else "")
            given = bool(group) and lesson.store.kit_of(group) is not None
            say(self.what, "its kit is not plugged in" if given else "no kit is given to this bench" if group else "")
            for each in (self.lines, self.kept):
                say(each, "")
            return
        found = lesson.store.group(group)
        say(self.who, self._hub.name_of(found.id))
        rate = f"{state.rate:.1f} lines/s" if state.rate == state.rate and state.trouble is None else "not heard"
        format = state.format
        names = " ".join(column.name for column in format.columns[:6]) if format else "no columns yet"
        say(self.what, f"{rate} · {names}")
        recent = state.tape[-AT_THE_FOOT:]
        foot = " &nbsp; ".join(coloured(line, format, self._colour()) for line in recent)
        say(self.lines, Markup(f"<span style='font-family:{MONO};font-size:{px(12)}px'>{foot}</span>"))
        if self._open:
            self._follow(state)
        trouble = lesson.roster.snapshot.trouble
        kept = "not kept now" if trouble is not None else f"all lines kept · {state.unreadable} unread"
        say(self.kept, kept, "red" if trouble is not None else "soft")

    def _colour(self) -> str:
        return hue(palette(), self._hub.lesson.store.group(self._hub.group).emblem.colour)

    def _start_over(self) -> None:
        self._paused = False
        self.pauser.setText("Pause")
        self._shown_of = (0, 0)
        say(self.found, "")
        self.refresh()

    def _follow(self, state: KitState) -> None:
        """Adds what has come since; begins anew for another kit."""
        if self._shown_of != (state.kit, state.session):
            self._shown_of = state.kit, state.session
            self._newest, self._session = -1, state.session
            self._oldest = next((line.offset for line in state.tape if line.offset >= 0), None)
            self.view.clear()
        if self._paused:
            return
        new = [
            line for line in state.tape if line.offset > self._newest or (line.offset < 0 and line.at > self._sent_at)
        ]
        for line in new:
            self._append(line, state)
            self._newest = max(self._newest, line.offset)
            if line.offset < 0:
                self._sent_at = line.at

    _sent_at = -1.0

    def _append(self, line: TapeLine, state: KitState) -> None:
        self.view.appendHtml(self._line_html(line, state))

    def _line_html(self, line: TapeLine, state: KitState) -> str:
        soft = palette().soft
        words = kind_words(line, state)
        behind = f" <span style='color:{soft}'>&nbsp; {words}</span>" if words else ""
        at = f"{line.at:9.2f} s".replace(" ", "&nbsp;")
        return f"<span style='color:{soft}'>{at} &nbsp;</span>{coloured(line, state.format, self._colour())}{behind}"


def _as_tape(line: KeptLine, format: StreamFormat | None = None) -> TapeLine:
    from common_bench.reading.dialects import line_reader

    kind = "sent" if line.sent else "reading" if format and line_reader(format)(line.line) else "words"
    return TapeLine(line.at, line.offset, line.line, kind)
