"""Random hands at the window: whatever is pressed, typed, hung and pulled, nothing faults and the book stays sound.

Run by `make fuzz`. HANDS says how many pairs of hands (4), each with its own seed. A fault in a slot of the window
fails by itself: the Qt plug-in of the test runner sees to that.
"""

from __future__ import annotations

import os
import random
import time
from collections.abc import Callable

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from common_bench.book.book import Book
from conftest import stand_ins  # noqa: F401
from test_desk import Desk, desk  # noqa: F401

SECONDS = 20.0
HANDS, FIRST = int(os.environ.get("HANDS", "4")), int(os.environ.get("FIRST", "1"))
HELD = ("nothing", "100 g", "200 g", "300 g", "350 g", "bottle")
FAULTS = {
    "unplug": "plug", "silent": "talk", "saturated": "good sensor", "stuck": "good sensor", "floating": "good sensor",
    "noise": "no noise", "bursts": "no bursts", "half lines": "whole lines", "restart": "", "names again": "", "no text": "",
}  # fmt: skip
ANSWERS = (
    "", "x", "1 N", "0.5 ± 0.1 N", "400 g = 3.9 ± 0.1 N", "check q = 1 ± 0.1 N", "because", "0.01 N/s · 0.1 N",
    "reading * 3 µN ± 0.1 N", "volt = reading * 1 V", "volt = reading * 1 V; again = volt ^ 2 / 3 V", "-1 ± 0 N", "1e400 N", "½",
)  # fmt: skip
LEFT_OUT = {"T", "B", "C", "O", "E"}  # the tape, lists that open over the window, and files that are written
NAMED = {"[": "BracketLeft", "]": "BracketRight", "{": "BraceLeft", "}": "BraceRight"}


class Hands:
    def __init__(self, made: Desk, seed: int, stages: str) -> None:
        self.made, self.dice, self.stages = made, random.Random(seed), stages
        self.pressed = 0

    def move(self) -> None:
        window, kits, dice = self.made.window, self.made.kits, self.dice
        question = window.stage.question
        if question.isVisible():
            question._field.setText(dice.choice(ANSWERS))
            QTest.keyClick(question._field, Qt.Key.Key_Return if dice.random() < 0.7 else Qt.Key.Key_Escape)
            return
        chance = dice.random()
        if chance < 0.12:
            kits.order(kits=dice.choice([["Basalt"], ["Flint", "Slate"], "all", "all"]), hang=dice.choice(HELD))
        elif chance < 0.16:
            fault = dice.choice(list(FAULTS))
            kits.order(kits=[dice.choice(["Basalt", "Chalk", "Marble"])], fault=fault)
            if FAULTS[fault]:
                QTest.qWait(200)
                kits.order(kits="all", fault=FAULTS[fault])
        elif chance < 0.22:
            key = dice.choice([Qt.Key.Key_Z, Qt.Key.Key_Y])
            QTest.keyClick(window, key, Qt.KeyboardModifier.ControlModifier)
        elif chance < 0.28:
            self.made.press(dice.choice(self.stages))
        elif chance < 0.36 and window.hub.stage == "calibrate":
            box = dice.choice([window.stage.curve_kind, window.stage.against])
            at = dice.randrange(box.count())
            box.setCurrentIndex(at)
            box.activated.emit(at)
        else:
            own = sorted(set(window.stage.keys()) - LEFT_OUT)
            key = dice.choice(["Space", "Space", "K", "Right", "Down", "Up", *own])
            self.pressed += 1
            code = getattr(Qt.Key, f"Key_{NAMED.get(key, key)}", None)
            if code is not None:
                QTest.keyClick(window, code)


@pytest.mark.parametrize(
    ("seed", "stages"), [(seed, "3" if seed % 2 else "3334456") for seed in range(FIRST, FIRST + HANDS)]
)
def test_random_hands_bring_no_fault_and_leave_a_sound_book(desk: Callable[..., Desk], seed: int, stages: str) -> None:  # noqa: F811
    made = desk(speed=4.0)
    hands = Hands(made, seed, stages)
    end = time.monotonic() + SECONDS
    while time.monotonic() < end:
        QTest.qWait(hands.dice.choice([5, 20, 60, 150]))
        hands.move()
    assert hands.pressed > 10
    assert len(made.lesson.rows("change")) > 2
    path = made.lesson.book.path
    made.window.close()
    book = Book.open(path, readonly=True)
    assert book.check() == []
    assert all(row["state"] != "open" for row in book.rows("run"))
    book.close()
