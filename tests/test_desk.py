"""The desk as a person uses it: the real window on stand-in kits, driven by keys and clicks, judged by what is seen."""

from __future__ import annotations

import html
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication

from common_bench.book.book import Book
from common_bench.desk.shell.benches import KIT_MIME
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.start import StartWindow
from common_bench.desk.shell.window import NAMED, Bench
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import CommandPlan, Plan
from person import Desk
from waiting import KitNow


def test_a_teacher_holds_the_whole_lesson_with_keys_alone(desk: Callable[..., Desk]) -> None:
    made = desk()
    made.see("6 of 6 kits heard", made.window.path)
    made.calibrate()
    made.see("6 of 6 good", made.window.path)
    made.see("✓ good", made.window.stage)
    for run in (1, 2):
        made.hang("bottle", 1.5)
        made.record()
        made.see(f"{6 * run} of 18 runs", made.window.path)
    assert "period" in made.window.stages["record"].last_words.text()
    made.press("5")
    for _ in made.group:
        made.see("period = ", made.window.stage)
        made.press("P", "Down")
    made.press("6")
    made.see("6", made.window.stage)
    assert "Flint sits" not in made.seen(), "a sealed pool shows nobody's finding"
    made.press("O")
    flint = next(place for place in made.lesson.pooling.class_result().places if place.alias == "Flint")
    assert flint.stands_out
    made.see("stands out", made.window.stage)
    while made.hub.group != made.group["Flint"]:
        made.press("Down")
    made.press("X")
    made.answer("measured to the cap")
    made.see("set aside: measured to the cap", made.window.stage)
    made.see("agrees with", made.window.stage)
    made.press("X")
    made.see("stands out", made.window.stage)
    made.undo()
    made.see("set aside: measured to the cap", made.window.stage)
    path = made.lesson.book.path
    made.window.close()
    book = Book.open(path)
    assert book.check() == []
    assert len(book.rows("pooled")) == 12
    book.close()


def test_the_plan_shows_an_error_where_it_stands_and_keeps_what_is_right(desk: Callable[..., Desk]) -> None:
    made = desk()
    made.press("1")
    stage = made.window.stage
    editor = stage.workings
    editor.setFocus()
    kept = editor.toPlainText()
    editor.setPlainText(kept.replace("2.17 N", "2.17 m"))
    made.see("Line 2: the level is in m, the quantity in N.", stage)
    assert next(mark.cursor.selectedText() for mark in editor.extraSelections()) == "2.17 m"
    assert not editor.keeper.isEnabled()
    editor.setPlainText(kept + "\nfaster = perod + 1 s")
    made.see("Did you mean “period”?", stage)
    editor.setPlainText(kept + "\npull = mean of tension")
    assert editor.keeper.isEnabled()
    QTest.keyClick(editor, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    assert "pull = mean of tension" in made.lesson.store.plan.workings
    made.until(lambda: "pull" in made.seen(made.window.benches), "the new quantity is listed")
    made.window.setFocus()
    made.undo()
    assert "pull = mean of tension" not in made.lesson.store.plan.workings
    assert editor.toPlainText() == kept
    made.redo()
    assert "pull = mean of tension" in made.lesson.store.plan.workings
    stage.conditions.setPlainText("length (mm ± 0.003")
    made.see("Write it as: length (m) ± 0.003", stage)
    stage.by_bench.item(0, 2).setText("half a metre")
    made.see("is not a number with its uncertainty", stage)
    stage.by_bench.item(0, 2).setText("0,612 ± 0,004")
    assert str(made.lesson.store.conditions(made.group["Basalt"])["length"]) == "0.612 ± 0.004 m"


def test_a_pulled_cable_is_told_and_the_run_goes_on_with_a_gap(desk: Callable[..., Desk]) -> None:
    made = desk()
    made.calibrate()
    made.hang("bottle", 1.0)
    made.run_lasts(60)
    made.press("4", "R")
    made.under_way("Chalk", 3)
    made.kits.order(kits=["Chalk"], fault="unplug")
    made.see("the cable of")
    made.until(lambda: "unplugged" not in made.seen(made.window.path) and "run 1" in made.seen(made.window.stage), "the run goes on")  # fmt: skip
    made.kits.order(kits=["Chalk"], fault="plug")
    made.see("Chalk is connected again; what is missing is kept as a gap.")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 6, "the runs are kept")
    made.press("5", "Down")
    assert made.hub.group == made.group["Chalk"]
    made.see(" s gap of ", made.window.stage)
    run = made.window.stage._current()
    (low, high), *_ = made.lesson.working_up.replayed(run.id).gaps
    assert high - low > 1
    before = made.lesson.store.findings(run.id)[0]
    made.press("[", "[")
    after = made.lesson.store.findings(run.id)[0]
    assert after.span[0] == pytest.approx(before.span[0] + 1.0)
    assert f"used: {after.span[0]:.1f} s" in "".join(i.toPlainText() for i in made.window.stage.graph.getPlotItem().items if hasattr(i, "toPlainText"))  # fmt: skip
    made.undo()
    made.undo()
    assert made.lesson.store.findings(run.id)[0] == before
    made.press("X")
    made.answer("   ")
    made.see("a reason is missing", made.window.stage)
    made.answer("somebody pulled the cable")
    made.see("Set aside: somebody pulled the cable.", made.window.stage)


def test_a_silent_kit_and_a_bench_without_one_say_what_to_do(desk: Callable[..., Desk]) -> None:
    made = desk()
    made.run_lasts(0)
    made.press("4")
    made.kits.order(kits=["Marble"], fault="silent")
    made.see("Nothing heard for")
    made.see("Press the kit's reset button", made.window.stage)
    made.press("R")
    made.see("Recording 5 of 6 benches. Not ready: Marble: kit silent.")
    assert made.window.stage.tiles[4].value.text() == "—", "a silent kit shows no stale number"
    made.press("M")
    made.answer("bumped the table")
    made.press("R")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 5, "the runs are kept")
    assert [m.text for m in made.lesson.store.moments(made.lesson.store.kept_runs(made.group["Basalt"])[0].id)] == ["bumped the table"]  # fmt: skip
    made.press("2")
    made.window.stage.choose(f"kit {made.lesson.store.kit_of(made.group['Slate'])}")
    made.window.stage.whose.setCurrentIndex(0)
    made.window.stage._give(0)
    made.press("4")
    made.see("This bench has no kit. Give it one in stage 2, Plug in.")
    made.undo()
    made.until(lambda: made.lesson.store.kit_of(made.group["Slate"]) is not None, "Slate has its kit again")


def test_every_action_has_a_key_and_the_help_names_it(desk: Callable[..., Desk]) -> None:
    made = desk()
    QTest.keyClick(made.window, Qt.Key.Key_F1)
    for number, stage in enumerate(made.window.stages.values(), 1):
        made.press(str(number))
        assert made.window.stage is stage
        made.window.toggle_help()
        made.window.toggle_help()
        for key, (words, _) in stage.keys().items():
            assert f"<b>{html.escape(NAMED.get(key, key))}</b>" in made.window.help_words.text(), (key, words)
        buttons = [b for b in stage.findChildren(QAbstractButton) if b.isVisible() and b.isEnabled()]
        assert all(b.focusPolicy() & Qt.FocusPolicy.TabFocus for b in buttons), "every button can be reached with Tab"
        assert not any(set(stage.keys()) & set(made.window.general_keys()))
    made.press("T")
    assert made.window.tape.is_open
    assert "swing kit v3, zero done" in made.seen(made.window.tape) or "ms" in made.seen(made.window.tape)
    QTest.keyClick(made.window.tape.typed, Qt.Key.Key_Escape)
    assert not made.window.tape.is_open
    assert made.change_theme() == "projector"
    made.press("3")
    made.see("load → tension", made.window.stage)


def test_a_crash_is_told_when_the_book_opens_again(desk: Callable[..., Desk], tmp_path: Path) -> None:
    made = desk()
    made.run_lasts(0)
    made.press("4", "R")
    made.under_way("Chalk", 3)
    copy = tmp_path / "after.benchbook"
    made.lesson.journal.flush()
    from sqlalchemy import text

    with made.lesson.book.engine.connect() as connection:
        connection.execute(text(f"VACUUM INTO '{copy}'"))  # the book as a crash would leave it now
    window = Bench(Hub(OpenLesson.open(copy), tmp_path / "none", only_stand_ins=True))
    window.show()
    told = window.hub.messages.text
    assert "was still open when the program stopped; all that was heard up to then is kept." in told
    window.close()


def test_the_start_makes_a_book_and_refuses_what_is_none(tmp_path: Path) -> None:
    start = StartWindow(lambda lesson: Bench(Hub(lesson)))
    start.show()
    wrong = tmp_path / "notes.benchbook"
    wrong.write_text("dear diary, this is no database at all, only words and words")
    start.open_path(wrong)
    assert "this file is no bench book" in start.messages.text
    start.make_book(wrong)
    assert "already there" in start.messages.text
    start.class_name.setText("9B")
    start.groups.setText("Basalt, Chalk, , Basalt")
    start.make_book(tmp_path / "new")
    assert start._desk.isVisible()
    lesson = start._desk.hub.lesson
    assert [group.alias for group in lesson.store.groups] == ["Basalt", "Chalk"]
    assert lesson.book.path == tmp_path / "new.benchbook"
    start._desk.close()


def test_how_a_kit_is_read_is_seen_and_changed_in_place(desk: Callable[..., Desk]) -> None:
    made = desk("--dialect", "no-value,commas", "--count", "2", speed=4.0)
    stage = made.window.stage
    made.see("999.99 comes again and again, far from all other values.", stage)
    QTest.mouseClick(stage.read_card.asked.yes, Qt.MouseButton.LeftButton)
    ear = KitNow.of_group(made.lesson, made.group["Basalt"])
    assert "999.99" in ear.format.no_value
    made.until(lambda: not stage.read_card.asked.isVisible(), "the question is answered")
    table = stage.read_card.table
    made.until(lambda: table.rowCount() == 3, "the columns are listed")
    table.item(1, 0).setText("2 pull")
    table.item(1, 2).setText("N")
    made.until(lambda: ear.live.latest("raw pull") is not None, "the name counts at once")
    assert ear.format.unit_of("pull") == "N"
    table.item(2, 1).setText("purple")
    made.see("a column cannot be “purple”.", stage)
    table.item(2, 0).setText("3 pull")
    made.see("a column cannot be called “pull”.", stage)
    table.item(2, 1).setText("left out")
    made.until(lambda: ear.format.channels == ("pull",), "it is left out")
    made.undo()
    made.until(lambda: ear.format.channels == ("pull", "temp"), "and back again")
    made.see("of the last", stage)
    stage.read_card.link.setText(f"{ear.address.path}?parity=purple")
    stage.read_card.link.editingFinished.emit()
    made.see("parity cannot be “purple”.", stage)
    made.press("U")
    made.see("Every kit whose lines have this shape is read like this", stage)
    assert len(made.lesson.store.plan.formats) == 1
    made.press("Right")
    assert made.hub.group == made.group["Chalk"]
    made.see("1 ms", stage)


def test_a_menu_a_touch_and_a_drag_give_each_kit_to_its_group(desk: Callable[..., Desk]) -> None:
    made = desk("--gate", "menu,none,none", "--count", "3", speed=4.0)
    stage = made.window.stage
    made.see("waits in a menu for a key")
    made.see("The kit waits in a menu for a key.", stage)
    made.see("Send the key s (D)", stage)
    made.press("D")
    made.until(lambda: all(not made.lesson.roster.why_not_ready(g) for g in made.group.values()), "every kit is heard")
    chalk, flint = (made.lesson.store.kit_of(made.group[alias]) for alias in ("Chalk", "Flint"))
    made.world(14)
    made.press("W")
    made.kits.order(kits=["Flint"], hang="300 g")
    made.see("moved: its load", stage)
    assert made.hub.lit == flint
    made.until(lambda: made.window.benches.rows[2].property("lit"), "its bench lights up")
    made.press("Up", "Up") if made.hub.group == made.group["Flint"] else None
    assert made.hub.group == made.group["Basalt"]
    made.press("Return")
    assert made.lesson.store.kit_of(made.group["Basalt"]) == flint
    assert made.hub.lit is None
    carried = QMimeData()
    carried.setData(KIT_MIME, str(chalk).encode())
    row = made.window.benches.rows[2]
    left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    QApplication.sendEvent(row, QDragEnterEvent(QPoint(5, 5), Qt.DropAction.MoveAction, carried, left, none))
    QApplication.sendEvent(row, QDropEvent(QPointF(5, 5), Qt.DropAction.MoveAction, carried, left, none))
    assert made.lesson.store.kit_of(made.group["Flint"]) == chalk
    assert made.lesson.store.kit_of(made.group["Chalk"]) is None
    made.undo()
    made.undo()
    assert made.lesson.store.kit_of(made.group["Chalk"]) == chalk


def test_the_tape_holds_all_lines_is_searched_and_talks_to_the_kit(desk: Callable[..., Desk]) -> None:
    plan = Plan("Lamps", commands=(CommandPlan("lamp on", "L1", "J"), CommandPlan("lamp off", "L0")))
    made = desk("--rate", "150", "--count", "1", speed=4.0, plan=plan)
    ear = KitNow.of_group(made.lesson, made.group["Basalt"])
    made.until(lambda: ear.lines > 1500, "many lines")
    tape = made.window.tape
    made.press("T")
    made.until(lambda: tape.view.blockCount() > 300, "lines are shown")
    assert "swing kit v3" not in tape.view.toPlainText()
    for _ in range(8):
        QTest.mouseClick(tape.earlier, Qt.MouseButton.LeftButton)
        made.until(lambda: "looking" not in tape.found.text(), "the page is there")
    assert "swing kit v3, zero done" in tape.view.toPlainText(), "the whole history can be reached"
    tape.search_for.setText("ZERO done")
    QTest.keyClick(tape.search_for, Qt.Key.Key_Return)
    made.until(lambda: "1 found" in tape.found.text(), "it is found")
    assert tape.view.toPlainText().count("\n") < 3
    QTest.mouseClick(tape.copier, Qt.MouseButton.LeftButton)
    assert "swing kit v3, zero done" in QApplication.clipboard().text()
    QTest.keyClick(tape.search_for, Qt.Key.Key_Escape)
    made.until(lambda: tape.view.blockCount() > 100, "all lines again")
    QTest.mouseClick(tape.pauser, Qt.MouseButton.LeftButton)
    still = tape.view.toPlainText()
    QTest.qWait(400)
    assert tape.view.toPlainText() == still
    QTest.mouseClick(tape.cleaner, Qt.MouseButton.LeftButton)
    assert tape.view.toPlainText() == ""
    QTest.mouseClick(tape.pauser, Qt.MouseButton.LeftButton)
    tape.typed.setText("L1")
    QTest.keyClick(tape.typed, Qt.Key.Key_Return)
    made.until(lambda: made.kits.order(ask="state")["lamps"]["Basalt"], "the lamp is on")
    made.until(
        lambda: "sent to the kit" in tape.view.toPlainText() and "lamp on" in tape.view.toPlainText(), "both are seen"
    )
    made.see("lamp off", tape)
    QTest.keyClick(tape.typed, Qt.Key.Key_Escape)
    made.hub.command(plan.commands[1])
    made.until(lambda: not made.kits.order(ask="state")["lamps"]["Basalt"], "a command of the plan puts it out")
    made.press("J")
    made.until(lambda: made.kits.order(ask="state")["lamps"]["Basalt"], "its key puts it on again")
    sent = [bytes(row["bytes"]) for row in made.lesson.book.rows("journal") if row["what"] == "sent"]
    assert sent[0] == b"L1\n"
