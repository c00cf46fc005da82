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
from PyQt6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QComboBox, QMenu, QPushButton

from common_bench.book.book import Book
from common_bench.desk.look.pieces import is_open
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


@pytest.mark.long_proof
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
