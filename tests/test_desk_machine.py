"""Anybody at the window, as a state machine: whatever is pressed, clicked, typed, hung and pulled, nothing faults, keys stay
where they belong and the book stays sound.

`make test` plays the same few; `make fuzz` looks for others, and shrinks what it finds.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    rule,
    run_state_machine_as_test,
)
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QComboBox, QLineEdit, QMenu, QPushButton

from common_bench.book.book import Book
from common_bench.desk.look.pieces import Table, is_open
from common_bench.lesson.words import bench_words
from common_bench.standins.control import StandInProcess
from person import Desk, code_of, open_desk

EXPLORES = os.environ.get("PROFILE") == "explore"
PEOPLE, STEPS = (40, 60) if EXPLORES else (1, 45)
HELD = ("nothing", "100 g", "200 g", "300 g", "350 g", "bottle")
MENDED = {
    "unplug": "plug", "silent": "talk", "saturated": "good sensor", "stuck": "good sensor", "floating": "good sensor",
    "noise": "no noise", "bursts": "no bursts", "half lines": "whole lines", "restart": "", "names again": "", "no text": "",
}  # fmt: skip
ANSWERS = (
    "", "x", "1 N", "0.5 ± 0.1 N", "400 g = 3.9 ± 0.1 N", "check q = 1 ± 0.1 N", "because", "0.01 N/s · 0.1 N",
    "reading * 3 µN ± 0.1 N", "volt = reading * 1 V", "volt = reading * 1 V; again = volt ^ 2 / 3 V", "-1 ± 0 N", "1e400 N", "½",
)  # fmt: skip
TYPED = (
    "", "x", "0.5 ± 0.1 m", "-2", "0.20", "½", "1e400", "a = mean of tension", "b = slope of tension", "n = exponent", "m = 0.5 kg", "tension = 3",
    "after 2 s", "after 0 s", "by hand", "g = slope", "9.81 ± 0.01 m/s²", "from 0 s to 3 s", "Ünder", "4", "40 %",
)  # fmt: skip
DIALOGS = ("Save as", "Choose", "A copy for a colleague")


class DeskMachine(RuleBasedStateMachine):
    """A person without a plan, and kits without mercy."""

    def __init__(self, kits: StandInProcess, folder: Path) -> None:
        super().__init__()
        self.kits, self.folder = kits, folder
        self.faults: list[BaseException] = []
        self._hook = sys.excepthook

    @initialize()
    def somebody_sits_down(self) -> None:
        def caught(kind: type[BaseException], fault: BaseException, trace: TracebackType | None) -> None:
            self.faults.append(fault)

        sys.excepthook = caught  # what a slot of the window lets through
        for fault in set(MENDED.values()) - {""}:
            self.kits.order(kits="all", fault=fault)
        self.kits.order(kits="all", hang="nothing")
        self.place = self.folder / f"person-{len(list(self.folder.iterdir()))}"
        self.place.mkdir()
        self.made: Desk = open_desk(self.place, self.kits, speed=6.0)

    def settle(self) -> None:
        QTest.qWait(25)

    # hands

    @rule(at=st.integers(0, 60))
    def press_a_key_of_the_stage(self, at: int) -> None:
        keys = sorted(set(self.made.window.keys()) - {"E"})  # what writes files asks for a folder
        key = keys[at % len(keys)]
        QTest.keyClick(QApplication.focusWidget() or self.made.window, code_of(key))
        self.settle()

    @rule(key=st.sampled_from(["Escape", "Return", "F1", "F9", "Tab"]))
    def press_another_key(self, key: str) -> None:
        QTest.keyClick(QApplication.focusWidget() or self.made.window, getattr(Qt.Key, f"Key_{key}"))
        self.settle()

    @rule(again=st.booleans())
    def take_back_or_do_again(self, again: bool) -> None:
        key = Qt.Key.Key_Y if again else Qt.Key.Key_Z
        QTest.keyClick(self.made.window, key, Qt.KeyboardModifier.ControlModifier)
        self.settle()

    @rule(at=st.integers(0, 200))
    def click_a_button(self, at: int) -> None:
        found = [each for each in self.made.window.findChildren(QPushButton) if each.isVisible() and each.isEnabled()]
        found = [each for each in found if not each.text().startswith(DIALOGS)]
        button = found[at % len(found)]
        QTest.mouseClick(button, Qt.MouseButton.LeftButton, pos=QPoint(10, button.height() // 2))
        self.settle()
        menu = QApplication.activePopupWidget()
        if isinstance(menu, QMenu) and menu.actions():
            menu.actions()[at % len(menu.actions())].trigger()
            menu.close()
            self.settle()
        focus = QApplication.focusWidget()
        assert not isinstance(focus, (QAbstractButton, QAbstractItemView)), "after a click keys belong to the stage"

    @rule(at=st.integers(0, 40), which=st.integers(0, 40))
    def choose_from_a_list(self, at: int, which: int) -> None:
        boxes = [each for each in self.made.window.stage.findChildren(QComboBox) if each.isVisible() and each.count()]
        if boxes:
            box = boxes[at % len(boxes)]
            box.setCurrentIndex(which % box.count())
            box.activated.emit(which % box.count())
        self.settle()

    @rule(
        answer=st.sampled_from(ANSWERS), key=st.sampled_from([Qt.Key.Key_Return, Qt.Key.Key_Return, Qt.Key.Key_Escape])
    )
    def answer(self, answer: str, key: Qt.Key) -> None:
        if not self.made.hub.messages.asks:
            return
        field = self.made.window.stage.question._field
        field.setText(answer)
        QTest.keyClick(field, key)
        self.settle()

    @rule(wait=st.integers(0, 5000), undone=st.integers(0, 4), redone=st.integers(0, 4))
    def record_let_it_end_and_go_back_and_forth(self, wait: int, undone: int, redone: int) -> None:
        """Runs that have ended by themselves, or not yet, taken back and done again."""
        self.made.hub.messages.question.leave()
        self.made.hub.go("record")
        QTest.keyClick(self.made.window, Qt.Key.Key_R)
        QTest.qWait(wait)
        for again in (False, True, False):
            for _ in range(redone if again else undone):
                self.take_back_or_do_again(again)

    @rule(
        at=st.integers(0, 40),
        text=st.sampled_from(TYPED),
        key=st.sampled_from([Qt.Key.Key_Return, Qt.Key.Key_Tab, None]),
    )
    def type_into_a_field(self, at: int, text: str, key: Qt.Key | None) -> None:
        """Confirmed, or left as it is: whatever is done next finds it half typed."""
        fields = [
            each for each in self.made.window.findChildren(QLineEdit)
            if each.isVisible() and each.isEnabled() and not each.isReadOnly() and each.window() is self.made.window
        ]  # fmt: skip
        if not fields:
            return
        field = fields[at % len(fields)]
        field.setFocus()
        field.selectAll()
        field.insert(text)
        field.setModified(True)
        field.textEdited.emit(text)
        if key is not None:
            QTest.keyClick(field, key)
        self.settle()

    @rule(at=st.integers(0, 5), row=st.integers(0, 20), column=st.integers(0, 8), text=st.sampled_from(TYPED))
    def type_into_a_cell(self, at: int, row: int, column: int, text: str) -> None:
        tables = [each for each in self.made.window.stage.findChildren(Table) if each.isVisible() and each.rowCount()]
        if not tables:
            return
        table = tables[at % len(tables)]
        item = table.item(row % table.rowCount(), column % table.columnCount())
        if item is None:
            return
        stage = self.made.hub.stage
        QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=table.visualItemRect(item).center())
        if table.takes_typing:
            for key in text:
                QTest.keyClicks(QApplication.focusWidget() or table, key)
            QTest.keyClick(QApplication.focusWidget() or table, Qt.Key.Key_Return)
            assert self.made.hub.stage == stage, "what is typed into a cell is no command"
        self.settle()

    @rule(folder=st.sampled_from(["out", "a/b/c", "out"]))
    def export(self, folder: str) -> None:
        self.made.hub.messages.question.leave()
        self.made.hub.go("pool")
        QTest.keyClick(self.made.window, Qt.Key.Key_E)
        if self.made.hub.messages.asks:
            self.answer(str(self.place / folder), Qt.Key.Key_Return)

    @rule()
    def hide_or_show_names(self) -> None:
        self.made.hub.hide_names(hidden=not self.made.hub.names_hidden)
        self.settle()

    @rule(number=st.integers(1, 6))
    def go_to_a_stage(self, number: int) -> None:
        self.made.hub.go(list(self.made.window.stages)[number - 1])
        self.settle()

    # kits

    @rule(held=st.sampled_from(HELD), everywhere=st.booleans(), wait=st.integers(0, 500))
    def hang(self, held: str, everywhere: bool, wait: int) -> None:
        self.kits.order(kits="all" if everywhere else ["Flint", "Slate"], hang=held)
        QTest.qWait(wait)

    @rule(
        fault=st.sampled_from(sorted(MENDED)),
        alias=st.sampled_from(["Basalt", "Chalk", "Marble"]),
        wait=st.integers(0, 300),
    )
    def a_kit_fails(self, fault: str, alias: str, wait: int) -> None:
        self.kits.order(kits=[alias], fault=fault)
        QTest.qWait(wait)
        if MENDED[fault]:
            self.kits.order(kits="all", fault=MENDED[fault])

    # what always holds

    @invariant()
    def nothing_faults(self) -> None:
        if not hasattr(self, "made"):
            return
        for box in self.made.window.findChildren(QComboBox):
            if is_open(box):
                box.hidePopup()
        assert self.faults == []
        if self.made.hub.names_hidden:
            seen = self.made.seen(self.made.window.benches)
            assert not [group.alias for group in self.made.lesson.store.groups if group.alias in seen], (
                "names are hidden"
            )
        for group in self.made.lesson.store.groups:
            state = self.made.lesson.roster.state(group.id)
            if state is not None and state.trouble is not None:
                assert not bench_words(self.made.lesson, group.id, "record").line.startswith("ready"), "trouble is told"
        assert self.made.hub.messages.height() == self.made.hub.messages.maximumHeight(), "messages have one place"
        state = [kit.run for kit in self.made.lesson.roster.kits.values() if kit.run is not None]
        kept = {row["id"]: row["state"] for row in self.made.lesson.book.rows("run")}
        assert all(run.id in kept for run in state), "what records is in the book"

    def teardown(self) -> None:
        if hasattr(self, "made"):
            self.made.window.close()
            self.made.window.deleteLater()
            QTest.qWait(10)
            book = Book.open(self.made.lesson.book.path, readonly=True)
            problems, states = book.check(), {row["state"] for row in book.rows("run")}
            book.close()
            assert problems == []
            assert states <= {"closed"}
        sys.excepthook = self._hook
        assert self.faults == []


@pytest.mark.timeout(3600 if EXPLORES else 600)
def test_whatever_is_done_at_the_window_nothing_faults_and_the_book_is_sound(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    kits = stand_ins(world_speed=6.0)
    (tmp_path / "people").mkdir()
    run_state_machine_as_test(
        lambda: DeskMachine(kits, tmp_path / "people"),
        settings=settings(max_examples=PEOPLE, stateful_step_count=STEPS, report_multiple_bugs=False),
    )
    assert len(list((tmp_path / "people").glob("*/demo/*.benchbook"))) >= PEOPLE
