"""What nobody expected: shown once in a panel that can be copied, kept in a log file, and the program goes on."""

from __future__ import annotations

import logging
import logging.handlers
import platform
import sys
import threading
import traceback
from pathlib import Path
from types import TracebackType

import platformdirs
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QApplication, QPlainTextEdit

from common_bench import __version__
from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, button, hbox
from common_bench.desk.look.sheet import px
from common_bench.record.crash_report import take_reports

LARGEST, KEPT = 500_000, 3  # bytes of a log file, and how many older ones are kept

log = logging.getLogger("common_bench.desk")


def log_file() -> Path:
    """Where the log is kept: under the platform's place for a user's state."""
    return Path(platformdirs.user_state_dir("common-bench")) / "common-bench.log"


def keep_a_log() -> None:
    """Everything that is logged goes to the file too, which is begun anew when it is full. A place that cannot be
    written to costs the log alone."""
    path = log_file()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(path, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8")
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(threadName)s %(name)s: %(message)s"))
    root = logging.getLogger()
    if not any(isinstance(each, logging.handlers.RotatingFileHandler) for each in root.handlers):
        root.addHandler(handler)
        root.setLevel(logging.INFO)


class Faults(QObject):
    """Hears of every exception that nobody caught, in any thread and in Qt's slots. Each is told once."""

    found = pyqtSignal(str)
    _from_thread = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.last_crash = ""  # what ended the program before this start, until it is shown
        self._seen: set[str] = set()
        self._from_thread.connect(self._take)

    def watch(self) -> None:
        """From now on. What watched before is not asked any more, but for being interrupted by hand."""
        before = sys.excepthook

        def caught(kind: type[BaseException], fault: BaseException, trace: TracebackType | None) -> None:
            if issubclass(kind, (KeyboardInterrupt, SystemExit)):
                before(kind, fault, trace)
            else:
                self._from_thread.emit(fault)

        def caught_in_thread(told: threading.ExceptHookArgs) -> None:
            if told.exc_value is not None:
                self._from_thread.emit(told.exc_value)

        sys.excepthook = caught
        threading.excepthook = caught_in_thread

    def take_last_crash(self) -> None:
        """Looks whether the program, or the process that hears the kits, crashed since its last start; the log keeps it."""
        for when, words in take_reports():
            log.error("crashed at %s: %s", when, words)
            self.last_crash = f"{when:%Y-%m-%d %H:%M:%S} {words}"

    def show_once(self) -> str:
        """The report of the last crash for the first window that asks; empty from then on."""
        shown, self.last_crash = self.last_crash, ""
        return shown

    def _take(self, fault: BaseException) -> None:
        words = "".join(traceback.format_exception(fault))
        log.error("unexpected: %s", words)
        place = traceback.extract_tb(fault.__traceback__)
        sign = f"{type(fault).__name__} {place[-1].filename}:{place[-1].lineno}" if place else type(fault).__name__
        if sign not in self._seen:
            self._seen.add(sign)
            self.found.emit(words)


def report(words: str) -> str:
    """What is copied for a report: the program, the machine, what happened."""
    return f"Common Bench {__version__}, Python {platform.python_version()}, {platform.platform()}\n\n{words}"


NOW = "Something went wrong in the program itself"
BEFORE = "The program crashed the last time"


class FaultPanel(Card):
    """Says that something went wrong in the program itself, without stopping what goes on."""

    def __init__(self, last_crash: str = "") -> None:
        """last_crash: the report of a crash before this start, which is shown at once."""
        super().__init__(NOW, name=True)
        self.setProperty("tone", "red")
        self.words = label("", wrap=True)
        self.details = QPlainTextEdit()
        self.details.setReadOnly(True)
        self.details.setFixedHeight(px(44))  # its last lines: the stage keeps its room
        self.copier = button("Copy for a report", self.copy, role="main")
        self.closer = button("Go on (Esc)", self.hide)
        row = hbox(self.words, self.copier, self.closer)
        row.setStretch(0, 1)
        self.body.addLayout(row)
        self.add(self.details)
        self.hide()
        if last_crash:
            self.show_crash(last_crash)

    def show_fault(self, words: str) -> None:
        """A fault that nobody caught; the program goes on."""
        self._show(NOW, "You can go on working, and readings are still saved.", words)

    def show_crash(self, words: str) -> None:
        """What ended the program before this start."""
        self._show(BEFORE, "All readings up to a quarter of a second before that are in the book.", words)

    def _show(self, heading: str, so: str, words: str) -> None:
        self.heading.setText(heading)
        self.words.setText(
            f"{so} Please copy this report and send it to whoever looks after the program; it is also in {log_file()}."
        )
        self.details.setPlainText(words.strip())
        self.show()
        self.details.moveCursor(QTextCursor.MoveOperation.End)
        self.details.moveCursor(QTextCursor.MoveOperation.StartOfLine)

    def copy(self) -> None:
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(report(self.details.toPlainText()))
        self.copier.setText("Copied")
