"""A person at the desk: the real window on stand-in kits, driven by keys and clicks, judged by what is seen."""

from __future__ import annotations

import html
import re
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QLabel, QLineEdit, QMainWindow, QWidget

from common_bench.desk.look import sheet
from common_bench.desk.look.labels import RichLabel
from common_bench.desk.look.pieces import Table
from common_bench.desk.shell.application import application, demo_window
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.window import Bench
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import MAIN
from waiting import PATIENCE, KitNow, heard_up_to

DESK_SPEED = 8.0
SEEN_EVERY = 150  # ms between two pictures: what is seen is judged, not how smoothly it moves
APPLICATION = application()  # kept for as long as the tests run


KEYS = {
    "[": "BracketLeft",
    "]": "BracketRight",
    "{": "BraceLeft",
    "}": "BraceRight",
    "Del": "Delete",
    "+": "Plus",
    "-": "Minus",
    ",": "Comma",
    ".": "Period",
    "<": "Less",
    ">": "Greater",
}


def code_of(key: str) -> Qt.Key:
    """Qt's code of a key by the name that a stage gives it."""
    code = getattr(Qt.Key, f"Key_{KEYS.get(key, key)}")
    assert isinstance(code, Qt.Key)
    return code


def type_into(field: QLineEdit, text: str) -> None:
    """Replaces what stands in a field, and Enter."""
    field.setFocus()
    field.selectAll()
    QTest.keyClick(field, Qt.Key.Key_Delete)
    field.insert(text)
    field.setModified(True)
    QTest.keyClick(field, Qt.Key.Key_Return)


def words_in(root: QWidget) -> list[str]:
    """All words that can be seen within a widget, those of tables last."""
    found = [_plain(each) for kind in (QLabel, QAbstractButton, QLineEdit) for each in root.findChildren(kind) if each.isVisible()]  # fmt: skip
    for table in root.findChildren(Table):
        if table.isVisible():
            found += [table.item(r, c).text() for r in range(table.rowCount()) for c in range(table.columnCount()) if table.item(r, c)]  # fmt: skip
    return found


def _plain(widget: QLabel | QAbstractButton | QLineEdit) -> str:
    """What is read of it, without the markup."""
    if not isinstance(widget, RichLabel):
        return widget.text()
    return html.unescape(re.sub(r"<[^>]*>", "", widget.text().replace("<br>", "\n"))).replace("\u00a0", " ")


def wait_until(met: Callable[[], object], what: str, told: Callable[[], str]) -> None:
    """Lets the window live until something is so; fails in words, with what is told just then."""
    deadline = time.monotonic() + PATIENCE
    while not met():
        if time.monotonic() > deadline:
            pytest.fail(f"did not come about: {what}. Notice: {told()}")
        QTest.qWait(30)


def take_down() -> None:
    """Windows that are closed go at once, with all in them: what is left of them would be restyled with each change of the
    theme, ever more slowly."""
    for each in QApplication.topLevelWidgets():
        if isinstance(each, QMainWindow) and not each.isVisible():
            each.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    QApplication.processEvents()


class Desk:
    """A window with its stand-in kits; what a person does to it and sees in it."""

    def __init__(self, window: Bench, kits: StandInProcess) -> None:
        self.window, self.kits, self.hub, self.lesson = window, kits, window.hub, window.hub.lesson
        self.group = {group.alias: group.id for group in self.lesson.store.groups}

    def press(self, *keys: str) -> None:
        for key in keys:
            named = getattr(Qt.Key, f"Key_{key}", None)
            QTest.keyClick(self.window, named if named is not None else key)

    def change_theme(self) -> str:
        """F9; gives the name of the theme that is worn then."""
        before = sheet.palette()
        QTest.keyClick(self.window, Qt.Key.Key_F9)
        self.until(lambda: sheet.palette() is not before, "the other theme is worn")
        return sheet.palette().name

    def write(self, at: int, text: str) -> None:
        """Types a line of the plan (-1: a new one) and Enter, and leaves the list."""
        type_into(self.window.stages["plan"].lines.rows[at].field, text)
        self.window.setFocus()

    def undo(self) -> None:
        QTest.keyClick(self.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)

    def redo(self) -> None:
        QTest.keyClick(self.window, Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier)

    @staticmethod
    def click_twice(widget: QWidget, place: QPoint) -> None:
        """As a hand does: the second press is let go too."""
        QTest.mouseDClick(widget, Qt.MouseButton.LeftButton, pos=place)
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=place)

    def answer(self, text: str) -> None:
        """Types into the question that is asked in place, and Enter."""
        question = self.window.stage.question
        assert question.isVisible()
        question._field.setText(text)
        QTest.keyClick(question._field, Qt.Key.Key_Return)

    def seen(self, within: QWidget | None = None) -> str:
        """All words that can be seen, one a line."""
        found = words_in(within or self.window)
        if within is self.window.stage:  # what a stage tells stands in the place for messages
            found += [each.text() for each in self.hub.messages.findChildren(QLabel) if each.isVisible()]
        return "\n".join(found)

    def until(self, met: Callable[[], object], what: str) -> None:
        wait_until(met, what, lambda: self.window.hub.messages.text)

    def see(self, words: str, within: QWidget | None = None) -> None:
        self.until(lambda: words in self.seen(within), f"“{words}” is seen")

    def world(self, seconds: float) -> None:
        """Lets world seconds go by on every bench."""
        end = self.lesson.engine.now() + seconds
        self.until(lambda: heard_up_to(self.lesson, end), "time goes by")

    def hang(self, what: str, settle: float = 4.0, on: str = "all") -> None:
        self.kits.order(kits=[on] if on != "all" else on, hang=what)
        self.world(settle)

    def run_lasts(self, seconds: float) -> None:
        """As a teacher sets it in the plan; 0: until somebody ends it."""
        self.press("1")
        self.window.stage.run.ends.setText(f"after {seconds:g} s" if seconds else "by hand")
        self.window.stage.run.ends.editingFinished.emit()
        assert self.lesson.store.plan.rule.seconds == seconds

    def under_way(self, alias: str, seconds: float) -> None:
        ear = KitNow.of_group(self.lesson, self.group[alias])
        self.until(lambda: (run := ear.run) is not None and run.seconds > seconds, "the run is under way")

    def calibrate(self) -> None:
        """Every point on every bench, with the space bar once each: who is not steady follows. Then K."""
        stage = self.window.stages["calibrate"]
        for point in self.lesson.store.sensor().points:
            self.hang(point.label)
            assert stage.planned.label == point.label
            self.press("Space")
            self.until(
                lambda p=point: all(self.lesson.calibrating.has_point(g, "load", p.label) for g in self.group.values()),
                f"{point.label} is taken",
            )
            self.until(lambda p=point: p.check or stage.planned.label != p.label, "the next point is offered")
        self.press("K")

    def record(self) -> None:
        roster = self.lesson.roster
        self.until(lambda: all(not roster.why_not_ready(g) for g in self.group.values()), "all are ready")
        before = {run.id for run in self.lesson.store.runs()}
        self.press("4", "R")
        self.until(
            lambda: len({run.id for run in self.lesson.store.kept_runs()} - before) == len(self.group),
            "the runs are kept",
        )


def open_desk(
    folder: Path,
    kits: StandInProcess,
    *more: str,
    speed: float = DESK_SPEED,
    plan: Plan | None = None,
    class_name: str = MAIN,
    book: Path | None = None,
) -> Desk:
    """The demo; or, with the words that the stand-ins were started with, a new book on which they are plugged in."""
    if book is not None:  # a class that has come so far already, with its kits plugged in again
        hub = Hub(OpenLesson.open(book, speed=speed, apart=True), kits.folder, only_stand_ins=True)
        window = Bench(hub)
        hub.look_for_kits()
    elif more:
        aliases = [port.identity.removeprefix("stand-in-") for port in kits.notice.ports]
        lesson = OpenLesson.make(
            folder / "plug.benchbook", plan or Plan("Plugging"), "9B", aliases, speed=speed, apart=True
        )
        hub = Hub(lesson, kits.folder, only_stand_ins=True)
        hub.stage = "plug"
        window = Bench(hub)
        hub.look_for_kits()
        lesson.roster.give_kits_in_order(sorted(lesson.roster.kits))
    else:
        shown = demo_window(folder / "demo", kits.folder, speed, class_name)
        assert isinstance(shown, Bench)
        window = shown
    window.frames.least = SEEN_EVERY
    window.show()
    window.activateWindow()
    assert QTest.qWaitForWindowActive(window)
    made = Desk(window, kits)
    if "--gate" not in more:
        made.until(lambda: all(not made.lesson.roster.why_not_ready(g) for g in made.group.values()), "kits are heard")
    return made
