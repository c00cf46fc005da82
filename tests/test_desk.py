"""The desk as a person uses it: the real window on stand-in kits, driven by keys and clicks, judged by what is seen."""

from __future__ import annotations

import html
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton

from common_bench.book.book import Book
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.window import NAMED, Bench
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.plan_editing import level_in, pause_in
from person import Desk


def test_a_teacher_holds_the_whole_lesson_with_keys_alone(desk: Callable[..., Desk]) -> None:
    made = desk()
    made.see("6 of 6 kits heard", made.window.path)
    made.calibrate()
    made.see("6 of 6 good", made.window.path)
    made.see("✓ good", made.window.stage)
    made.press("4", "H")
    made.see("Now on every bench: bottle, let go.", made.window)
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
    made.press("Down")
    made.see("without Gneiss: ", made.window.stage)
    assert "without Flint" not in made.seen(), "who is set aside is missed by nobody"
    made.press("Up")
    made.see("measured to the wrong place? Its period² alone may be at fault too.", made.window.stage)
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
    plan = made.lesson.store.plan
    made.write(1, "pass = peaks in tension above 2.17 m, 0.4 s apart")
    made.see("the level is in m, the quantity in N.", stage)
    made.see(" to mend", made.window.path)
    made.undo()
    assert made.lesson.store.plan == plan
    made.write(-1, "faster = mean of swnig")
    made.see("Did you mean “swing”?", stage)
    wrong = next(row.field for row in stage.lines.rows if row.correct.isVisible())
    assert wrong.text()[slice(*wrong.marked)] == "swnig", "what is wrong is marked"
    QTest.mouseClick(
        next(row.correct for row in stage.lines.rows if row.correct.isVisible()), Qt.MouseButton.LeftButton
    )
    assert "faster = mean of swing" in made.lesson.store.plan.workings
    made.undo()
    made.undo()
    assert made.lesson.store.plan == plan
    made.write(-1, "pull = mean of tension")
    assert "pull = mean of tension" in made.lesson.store.plan.workings
    made.until(lambda: "pull" in made.seen(made.window.benches), "the new quantity is listed")
    made.window.setFocus()
    made.undo()
    assert "pull = mean of tension" not in made.lesson.store.plan.workings
    made.redo()
    assert "pull = mean of tension" in made.lesson.store.plan.workings
    made.see("5 lines, all usable", made.window.path)
    made.press("B")
    stage.conditions.setPlainText("length (mm ± 0.003")
    made.see("Write it as: length (m) ± 0.003", stage)
    stage.by_bench.item(0, 2).setText("half a metre")
    made.see("is not a number with its uncertainty", stage)
    stage.by_bench.item(0, 2).setText("0,612 ± 0,004")
    assert str(made.lesson.store.conditions(made.group["Basalt"])["length"]) == "0.612 ± 0.004 m"


def test_a_level_and_a_pause_are_dragged_on_the_trace_and_a_threshold_colours_the_tiles(
    desk: Callable[..., Desk],
) -> None:
    made = desk()
    made.calibrate()
    made.hang("bottle", 6.0)
    made.press("1")
    stage, store = made.window.stage, made.lesson.store
    stage.written.choose(stage.written.all[1])
    made.until(lambda: stage.trace.level.isVisible() and len(stage.trace.marks.data) > 2, "events stand on the trace")
    stage.trace.level.setValue(2.25)
    stage.trace.level.sigPositionChangeFinished.emit(stage.trace.level)
    assert level_in(store.plan.workings[0]).value == pytest.approx(2.25)
    made.undo()
    made.until(lambda: stage.trace.pause.isVisible(), "the pause stands behind an event")
    low, _ = stage.trace.pause.getRegion()
    stage.trace.pause.lines[1].moving = True
    stage.trace.pause.setRegion((low, low + 0.9))
    stage.trace.pause.lines[1].moving = False
    stage.trace.pause.sigRegionChangeFinished.emit(stage.trace.pause)
    assert pause_in(store.plan.workings[0]).value == pytest.approx(0.9, abs=0.02)
    stage.written.choose(stage.written.all[0])
    made.press("D")
    stage._keep_detail("warn", "above 1: more than a feather")
    stage._keep_detail("scale", "0 … 4")
    stage._keep_detail("digits", "1")
    made.press("4")
    made.see("more than a feather", made.window.stage)
    tile = made.window.stage.tiles[0]
    assert tile.property("tone") == "amber"
    made.until(lambda: tile.trace.range == (0.0, 4.0), "the axis is the plan's")
    made.until(lambda: len(tile.value.text().partition(".")[2]) == 1, "as many decimals as the plan says")


def test_a_pulled_cable_is_told_and_the_run_goes_on_with_a_gap(desk: Callable[..., Desk]) -> None:
    made = desk()
    made.calibrate()
    made.hang("bottle", 1.0)
    made.run_lasts(0)
    made.press("4", "R")
    made.under_way("Chalk", 3)
    made.kits.order(kits=["Chalk"], fault="unplug")
    made.see("the cable of")
    made.see("● run 1 · unplugged", made.window.stage)
    made.see("Plug it in again", made.window.stage)
    made.until(lambda: "unplugged" not in made.seen(made.window.path) and "run 1" in made.seen(made.window.stage), "the run goes on")  # fmt: skip
    made.kits.order(kits=["Chalk"], fault="plug")
    made.until(lambda: any("Chalk is connected again" in each for each in made.hub.messages.told), "that it is back is told")  # fmt: skip
    made.world(12.0)
    made.press("R")
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
    made.until(lambda: made.window.stage.tiles[4].value.text() == "—", "a silent kit shows no stale number")
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
    kit = made.lesson.store.kit_of(made.group["Slate"])
    format = made.lesson.roster.kits[kit].format
    other = [msgspec.structs.replace(each, name="pull") if each.name == "load" else each for each in format.columns]
    made.lesson.roster.read_as(kit, msgspec.structs.replace(format, columns=tuple(other)))
    made.see("The plan asks for a column called “load”, and this kit sends none.", made.window.stage)


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
    assert "still open when the program stopped; all that was heard up to then is kept." in told
    window.close()
