"""The Calibrate stage as a teacher uses it: keys pressed, words read from the screen, on stand-in kits with faults."""

from __future__ import annotations

import re
import time
from collections.abc import Callable

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit

from common_bench.lesson.lesson import OpenLesson
from common_bench.model.calibration import PlannedPoint
from person import Desk
from waiting import is_steady

Made = Callable[..., Desk]


def type_into_cell(made: Desk, row: int, column: int, text: str) -> None:
    table = made.window.stage.points_card.table
    table.setCurrentCell(row, column)
    table.editItem(table.item(row, column))
    editor = table.findChild(QLineEdit)
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QTest.qWait(50)  # the table takes it over with its next event


@pytest.mark.long_proof
def test_points_of_the_plan_are_changed_in_place_with_words_for_what_is_wrong(desk: Made) -> None:
    made = desk()
    stage, lesson = made.window.stage, made.lesson
    planned = lesson.store.sensor().points
    type_into_cell(made, 1, 1, "0.982 ± 0.004 N")
    assert lesson.store.sensor().points[1] == PlannedPoint("100 g", 0.982, 0.004)
    type_into_cell(made, 1, 1, "0.982")
    made.see("“0.982” has no unit. Write it as 0.982 N.", stage)
    made.see("0.982 ± 0.004", stage)
    type_into_cell(made, 1, 0, "a stone")
    made.see("a stone", stage)
    made.window.setFocus()
    made.press("E")
    made.answer("12 kg")
    made.see("cannot be turned into N", stage)
    made.answer("1.10 ± 0.01 N")
    assert lesson.store.sensor().points[1] == PlannedPoint("a stone", 1.10, 0.01)
    made.press("V")
    made.see("check a stone", stage)
    made.press("V", "N")
    made.answer("two stones")
    made.see("a point has a name and a reference", stage)
    made.answer("two stones = 2.2 ± 0.02 N")
    assert lesson.store.sensor().points[-1].label == "two stones"
    made.press("Left") if stage.planned.label == "nothing" else None
    while stage.planned.label != "two stones":
        made.press("Right")
    made.press("Delete", "L")
    made.answer("0.001 kg/s")
    made.see("cannot be turned into N/s", stage)
    made.answer("0.002 N/s · 0.02 N")
    assert lesson.store.sensor().steady_drift == 0.002
    for _ in range(20):
        if lesson.store.sensor().points == planned:
            break
        made.undo()
    assert lesson.store.sensor().points == planned
    assert lesson.store.sensor().steady_drift == 0.0


@pytest.mark.long_proof
def test_points_take_themselves_and_the_curve_can_be_another(desk: Made) -> None:
    made = desk()
    stage, lesson = made.window.stage, made.lesson
    made.press("A")
    for label in ("nothing", "100 g", "200 g", "300 g"):
        made.until(lambda w=label: stage.planned.label == w, f"{label} is offered")
        made.kits.order(kits="all", hang=label)
        made.until(
            lambda w=label: all(lesson.calibrating.has_point(g, "load", w) for g in made.group.values()),
            f"{label} takes itself",
        )
    made.press("A")
    for kind, words in (("polynomial of degree 2", "× reading²"), ("proportion", "× reading"), ("monotone table", "table through 4 points")):  # fmt: skip
        stage.curve_kind.setCurrentText(kind)
        stage.curve_kind.activated.emit(stage.curve_kind.currentIndex())
        made.see(words, stage)
    stage.curve_kind.setCurrentText("power")
    stage.curve_kind.activated.emit(stage.curve_kind.currentIndex())
    made.see("a power curve needs references above zero, or all below; “nothing” reads", stage)
    stage.curve_kind.setCurrentText("formula")
    stage.curve_kind.activated.emit(stage.curve_kind.currentIndex())
    made.answer("reading * 9.8 µN ± 0.1 N")
    made.see("tension = reading × 9.8 µN", stage)
    now = stage.curve_card.graph._words
    made.until(lambda: re.search(r"≈ −?\d+\.\d\d N", now.toPlainText()), "the digits are those that ± 0.1 N deserves")
    made.undo()
    stage.curve_kind.setCurrentText("straight line")
    stage.curve_kind.activated.emit(stage.curve_kind.currentIndex())
    made.press("P")
    made.answer("volts = readin * 1 mV")
    made.see("nothing is called “readin” here.", stage)
    made.answer("volts = reading * 2.0 ± 0.1 µV; doubled = volts * 2")
    made.see("Where volts = reading × 2.0 ± 0.1 µV; doubled = volts × 2.", stage)
    made.see("reading → volts · doubled → tension", stage)
    made.undo()
    made.press("K", "Y")
    made.see("The calibration is copied", stage)
    copied = QApplication.clipboard().text()
    assert "tension = " in copied
    assert copied.count("residual") == 4
    made.press("G")
    made.see("History", stage)
    made.see("the first one kept", stage)
    made.press("G")
    made.see("Residuals", stage)
    assert stage.points_card.against.count() == 7, "every calibrated bench can be trusted as reference"


@pytest.mark.long_proof
def test_a_wrong_mass_is_named_early_points_want_a_reason_and_earlier_runs_wait_to_be_asked(desk: Made) -> None:
    made = desk()
    stage, lesson = made.window.stage, made.lesson
    for label in ("nothing", "100 g", "300 g"):
        made.kits.order(kits="all", hang=label)
        made.hang("150 g" if label == "100 g" else label, 3, on="Flint")
        while stage.planned.label != label:
            made.press("Right")
        made.press("Space")
        made.until(
            lambda w=label: all(lesson.calibrating.has_point(g, "load", w) for g in made.group.values()),
            f"{label} is taken",
        )
    made.see("Flint disagrees with the class at “100 g”", stage)
    made.press("Down", "Down")
    assert made.hub.group == made.group["Flint"]
    made.see("The points lie farther off than their uncertainties allow", stage)
    made.press("K")
    made.see("does not fit", made.window.benches)
    made.see("5 of 6 good", made.window.path)
    made.hang("bottle", 1.5)
    made.record()
    made.kits.order(kits="all", hang="300 g")
    run = lesson.store.kept_runs(made.group["Flint"])[0]
    before = lesson.store.findings(run.id)
    made.press("3")
    while stage.planned.label != "100 g":
        made.press("Right")
    made.kits.order(kits=["Flint"], hang="bottle")
    made.until(lambda: is_steady(lesson, made.group["Flint"]) is False, "it moves")
    made.press("W")
    made.answer(" ")
    made.see("a reason is missing", stage)
    made.answer("the bell rings")
    made.see(" early", stage)
    made.kits.order(kits=["Flint"], hang="100 g")
    made.until(lambda: is_steady(lesson, made.group["Flint"]), "it is steady")
    made.press("X")
    made.answer("it was still moving")
    made.until(lambda: is_steady(lesson, made.group["Flint"], 3), "steady for a while")
    made.press("Space")
    made.until(lambda: lesson.calibrating.has_point(made.group["Flint"], "load", "100 g"), "taken again")
    made.press("K")
    made.see("6 of 6 good", made.window.path)
    assert lesson.store.findings(run.id) == before
    made.press("U")
    made.see("Flint run 1", stage.apply_panel)
    made.press("Escape")
    assert lesson.store.findings(run.id) == before
    made.press("U")
    made.see("Flint run 1", stage.apply_panel)
    made.press("Return")
    made.see("Applied; findings and the pool follow and say so.", stage)
    assert lesson.store.findings(run.id) != before
    made.press("5")
    made.see("applied afterwards", made.window.stage)
    made.undo()
    assert lesson.store.findings(run.id) == before


def test_leaving_the_stage_pulling_the_cable_and_closing_the_book_lose_no_point(desk: Made) -> None:
    made = desk()
    lesson = made.lesson
    made.hang("nothing", 3.0)
    made.press("Space")
    made.until(lambda: all(lesson.calibrating.has_point(g, "load", "nothing") for g in made.group.values()), "taken")
    made.hang("bottle", 3)
    made.press("Space", "1", "3")
    made.see("follows", made.window.stage)
    made.kits.order(kits=["Chalk"], fault="unplug")
    made.see("unplugged", made.window.stage)
    made.hub.select(made.group["Chalk"])
    made.until(lambda: not made.window.stage.curve_card.graph._line.isVisible(), "what is not heard has no now")
    made.hub.select(made.group["Basalt"])
    made.until(lambda: made.window.stage.curve_card.graph._line.isVisible(), "another has")
    made.kits.order(kits=["Chalk"], fault="plug")
    made.kits.order(kits="all", hang="100 g")
    made.until(
        lambda: all(lesson.calibrating.has_point(g, "load", "100 g") for g in made.group.values()),
        "all follow, Chalk too",
    )
    path = lesson.book.path
    made.window.close()
    time.sleep(0.1)
    again = OpenLesson.open(path, readonly=True)
    assert [len(again.store.points(kit, "load")) for kit in again.store.kits] == [2] * 6
    again.close()


def test_a_dead_kit_holds_nobody_up(desk: Made) -> None:
    made = desk()
    stage, lesson = made.window.stage, made.lesson
    made.kits.order(kits=["Marble"], fault="silent")
    made.until(lambda: not lesson.roster.is_heard(made.group["Marble"]), "its kit is dead")
    made.hang("nothing")
    made.press("Space")
    made.until(lambda: stage.planned.label == "100 g", "the next point comes, though one bench lacks this one")
    assert not lesson.calibrating.has_point(made.group["Marble"], "load", "nothing")
    assert all(lesson.calibrating.has_point(made.group[each], "load", "nothing") for each in ("Basalt", "Slate"))
    made.press("Left")
    assert stage.planned.label == "nothing"
    made.kits.order(kits=["Marble"], fault="talk")
    made.until(
        lambda: lesson.roster.is_heard(made.group["Marble"]) and is_steady(lesson, made.group["Marble"]), "it is back"
    )
    made.press("Space")
    made.until(lambda: lesson.calibrating.has_point(made.group["Marble"], "load", "nothing"), "and has its point too")


def test_what_is_told_as_taken_is_what_was_taken_though_others_follow_meanwhile(desk: Made) -> None:
    made = desk()
    stage, lesson, everybody = made.window.stage, made.lesson, list(made.group.values())
    made.press("A")
    made.hang("nothing")
    made.until(lambda: stage.planned.label == "100 g", "all have the first point")
    slow = [1.5]  # s that keeping the next point takes, in which the others become steady
    lesson.changes.followers.insert(0, lambda _: time.sleep(slow.pop() if slow else 0.0))
    made.hang("100 g", on="Basalt", settle=2.0)
    made.kits.order(kits=[each for each in made.group if each != "Basalt"], hang="100 g")
    made.until(lambda: all(lesson.calibrating.has_point(g, "load", "100 g") for g in everybody), "all have the second")
    assert not slow
    made.until(lambda: stage.planned.label == "200 g", "the third is offered")
    assert made.hub.messages.text.startswith("100 g taken on ")
