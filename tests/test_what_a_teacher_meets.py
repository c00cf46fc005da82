"""What a teacher meets in the first lessons, told as she sees it: kits that turn to rubbish, values typed in passing, keys at
work, lessons beside each other."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QLineEdit

from common_bench.book.book import Book
from common_bench.desk.graphs.plots import Graph
from common_bench.lesson.bring_files import bring_files
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.run_words import why_to_look
from common_bench.lesson.words import bench_words, column_rows, path_words
from common_bench.links.discovery import plugged_in
from common_bench.model.bench import Port
from common_bench.model.plan import Plan, RulePlan, SensorPlan
from common_bench.standins.control import StandInProcess
from person import Desk, open_desk, type_into
from waiting import Class, wait_for

School = Callable[..., Class]


@pytest.mark.parametrize("rubbish", ["rubbish", "endless rubbish", "sign rubbish", "mostly rubbish"])
def test_a_kit_that_sends_rubbish_is_in_trouble_at_once_records_no_more_and_is_ready_when_it_speaks_again(
    school: School, rubbish: str
) -> None:
    made = school(count=2)
    lesson, bad, good = made.lesson, made.group["Basalt"], made.group["Chalk"]
    made.kits.order(kits=["Basalt"], fault=rubbish)
    made.until(lambda: lesson.roster.why_not_ready(bad) == "not-read", "the trouble is told")
    words = bench_words(lesson, bad, "record")
    assert (words.line, words.tone, words.value) == ("cannot be read", "red", "—"), "its last value is none of now"
    assert bench_words(lesson, good, "record").line.startswith("ready")
    told = [cell for row in column_rows(lesson, lesson.store.kit_of(bad)) for cell in row if isinstance(cell, tuple)]
    assert not [words for words, tone in told if tone == "good" and words.startswith("good")]
    assert lesson.recording.begin_runs([bad, good]) == [good]
    lesson.recording.end_runs([good])
    made.kits.order(kits=["Basalt"], fault="no rubbish")
    made.until(lambda: not lesson.roster.why_not_ready(bad), "it is ready again")


def test_a_tile_shows_the_trouble_large_while_its_run_goes_on(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    made = open_desk(tmp_path, stand_ins(world_speed=8.0))
    made.run_lasts(0.0)
    made.press("4", "R")
    made.under_way("Basalt", 2.0)
    made.kits.order(kits=["Basalt"], fault="rubbish")
    made.see("cannot be read", made.window.stage)
    made.press("R")
    made.see("What comes is no reading (all of the lines)", made.window.stage)
    made.kits.order(kits=["Basalt"], fault="no rubbish")
    made.until(lambda: not made.lesson.roster.why_not_ready(made.group["Basalt"]), "it is ready again")
    made.window.close()


def test_letters_digits_and_enter_belong_to_the_cell_and_to_the_list_where_one_works(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    made = open_desk(tmp_path, stand_ins(world_speed=8.0))
    made.press("1", "B")
    table, stage = made.window.stage.by_bench, made.hub.stage
    lessons = len(made.lesson.book.rows("lesson"))
    cell = table.visualItemRect(table.item(0, 2)).center()
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=cell)  # once
    for text in ("0.20", "0.35", "0.5 ± 0.01"):  # one bench after the other, as in any table of numbers
        for key in text:
            QTest.keyClicks(QApplication.focusWidget(), key)
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
        QTest.qWait(40)
    values = [str(made.lesson.store.conditions(group.id)["length"]) for group in made.lesson.store.groups]
    assert values[:3] == ["0.200 ± 0.003 m", "0.350 ± 0.003 m", "0.500 ± 0.010 m"]
    assert (made.hub.stage, len(made.lesson.book.rows("lesson"))) == (stage, lessons)
    assert made.window.shelf is None
    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Escape)
    assert QApplication.focusWidget() is made.window, "Escape gives the keys back to the stage"
    # lines, one after the other
    count = len(made.lesson.store.plan.workings)
    field = made.window.stage.lines.rows[-1].field
    QTest.mouseClick(field, Qt.MouseButton.LeftButton)
    for text in ("high = largest of tension", "low = smallest of tension", "14 = "):
        field = QApplication.focusWidget()
        assert isinstance(field, QLineEdit)
        field.insert(
            text
        )  # without the list of what is offered, which takes the window's place where there is no desktop
        field.setModified(True)
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
        QTest.qWait(40)
    assert made.lesson.store.plan.workings[count : count + 2] == (
        "high = largest of tension",
        "low = smallest of tension",
    )
    assert made.hub.stage == stage
    assert made.window.stage.lines.rows[-1].field.text() in ("14 = ", ""), (
        "what cannot be kept stands where it was typed"
    )
    made.window.close()


def test_what_is_typed_is_kept_whatever_is_done_next(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:
    made = open_desk(tmp_path, stand_ins(world_speed=8.0))
    finds = made.window.stages["plan"].finds.texts.fields
    basalt, chalk = made.group["Basalt"], made.group["Chalk"]

    def typed(name: str, text: str) -> None:
        made.press("1")
        field = made.window.stages["plan"].finds.texts.fields[name]
        QTest.mouseClick(field, Qt.MouseButton.LeftButton)
        field.selectAll()
        QTest.keyClicks(field, text)

    assert finds
    typed("accepted", "9.7 m/s^2")
    made.hub.go("record")
    assert made.lesson.store.plan.graph.accepted == "9.7 m/s^2"
    typed("accepted", "9.6 m/s^2")
    made.change_theme()
    assert made.lesson.store.plan.graph.accepted == "9.6 m/s^2"
    typed("accepted", "9.5 m/s^2")
    made.hub.select(chalk if made.hub.group == basalt else basalt)
    assert made.lesson.store.plan.graph.accepted == "9.5 m/s^2"
    typed("y", "")
    typed("finding", "")
    typed("x", "")
    made.press("Escape")
    made.hub.go("record")
    assert made.lesson.store.plan.graph is not None, "an accepted value alone is kept too"
    typed("accepted", "9.4 m/s^2")
    made.window.close()
    book = Book.open(made.lesson.book.path, readonly=True)
    try:
        assert "9.4 m/s^2" in book.rows("plan")[-1]["text"], "a window that is closed keeps it too"
    finally:
        book.close()


def test_an_accepted_value_without_a_unit_goes_all_the_way_to_the_pool(worked: Desk) -> None:
    made = worked
    fields = made.window.stages["plan"].finds.texts.fields
    made.press("1")
    type_into(fields["finding"], "n = -2 + 0 * slope / (1 s²/m)")
    made.hub.messages.notice._act.click()  # the class graph is drawn anew
    for accepted, faulty in (("-2", False), ("-2 ± 0.1", False), ("3 m", True), ("half", True), ("0.5 ± ?", False)):
        made.press("1")
        type_into(fields["accepted"], accepted)
        made.hub.messages.notice._act.click()
        assert bool(made.lesson.store.faults) == faulty, accepted
        made.press("6")
        assert made.window.stack.currentWidget() is made.window.stages["pool"]
        made.see("n = −2", made.window.stage)
        said = made.window.stage.finding_card.agreement.text()
        assert faulty == (said == ""), said
        assert faulty or accepted in said


def test_hidden_names_are_hidden_everywhere_until_they_are_shown_again(worked: Desk) -> None:
    made = worked

    def names_seen() -> set[str]:
        words = made.seen() + made.hub.messages.text
        for graph in made.window.findChildren(Graph):
            if graph.isVisible():
                words += " ".join(i.toPlainText() for i in graph.getPlotItem().items if hasattr(i, "toPlainText"))
        return {alias for alias in made.group if alias in words}

    made.press("6")
    assert names_seen() == set(made.group)
    made.press("N")
    for stage in ("pool", "record", "calibrate", "work", "pool"):
        made.hub.go(stage)
        QTest.qWait(150)
        if stage in ("pool", "record"):
            assert names_seen() == set(), stage
        assert {row.alias.text() for row in made.window.benches.rows} == {f"Group {each}" for each in "ABCDEF"}
    made.change_theme()
    assert names_seen() == set(), "in another theme too"
    made.press("N")
    made.until(lambda: names_seen() == set(made.group), "they are shown again")


def test_runs_beyond_those_of_the_plan_are_asked_about_once(worked: Desk) -> None:
    made = worked
    store = made.lesson.store
    made.lesson.planning.change_plan(
        msgspec.structs.replace(store.plan, runs_per_group=1, rule=RulePlan(3.0)), "One run"
    )
    made.press("4", "R")
    assert made.hub.messages.asks, "what extra runs mean is asked"
    made.answer("perhaps")
    assert made.hub.messages.asks, "and what is no answer is refused"
    made.answer("replace")
    first = {run.id for run in store.kept_runs()}
    made.until(
        lambda: sum(bool(run.aside) for run in store.runs()) == 6, "the new runs count in the place of the old ones"
    )
    assert {run.aside for run in store.runs() if run.id in first} == {"replaced by run 2"}
    made.press("R")
    assert not made.hub.messages.asks, "it is asked once"
    made.until(lambda: sum(bool(run.aside) for run in store.runs()) == 12, "and done again")
    assert path_words(made.lesson)["record"] == "6 of 6 runs"
    made.undo()
    assert path_words(made.lesson)["record"] == "6 planned, 7 kept"


def test_kits_that_are_heard_get_their_benches_first_and_a_mistyped_address_can_be_removed(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    kits = stand_ins(count=2, world_speed=8.0)
    lesson = OpenLesson.make(tmp_path / "a.benchbook", Plan("Plugging"), "", ["Basalt", "Chalk"], speed=8.0)
    try:
        wrong = lesson.roster.hear(Port("/dev/ttyNOWHERE", "nowhere", "/dev/ttyNOWHERE"), added=True)
        made = lesson.roster.appear([port for port in plugged_in(kits.folder) if port.stand_in])
        wait_for(
            lambda: lesson.tick() or (wrong in lesson.roster.kits and lesson.roster.kits[wrong].trouble), "it is told"
        )
        lesson.roster.give_kits_in_order(sorted([wrong, *made]))
        assert [lesson.store.kit_of(group.id) for group in lesson.store.groups] == made
        lesson.roster.remove_added(wrong)
        wait_for(lambda: wrong not in lesson.roster.kits, "it is heard no more")
        assert lesson.roster.hear_added() == [], "nor in the next lesson"
    finally:
        lesson.close()


@pytest.mark.parametrize(
    ("rows", "why"),
    [
        ([f"{k / 10},{random.Random(k).gauss(0, 1):.3f}" for k in range(60)], "its interval spans zero"),
        (
            [f"{k / 10},{5 + 0.1 * (k % 3) if k < 20 else ''}" for k in range(60)],
            "less than half of its span was heard",
        ),
    ],
)
def test_findings_that_say_little_are_marked_and_go_to_the_pool_only_when_a_person_says_so(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk], rows: list[str], why: str
) -> None:
    plan = Plan("Level", sensors=(SensorPlan("load", "u", unit="V", curve="as-it-comes"),), show=("u",), workings=("level = mean of u",), findings=("level",))  # fmt: skip
    book = tmp_path / "a.benchbook"
    OpenLesson.make(book, plan, "9B", ["Flint", "Slate"]).close()
    for alias, lines in (("Flint", rows), ("Slate", [f"{k / 10},{5 + 0.1 * (k % 3)}" for k in range(60)])):
        file = tmp_path / f"{alias}.csv"
        file.write_text("\n".join(["time (s),load", *lines]))
        list(bring_files(book, [file], alias, began="", ended=""))
    made = alone(OpenLesson.open(book))
    store = made.lesson.store
    runs = {store.group(run.group).alias: run.id for run in store.runs()}
    assert why in why_to_look(store, store.run(runs["Flint"]))
    assert why_to_look(store, store.run(runs["Slate"])) == ""
    made.press("5")
    made.window.stage.deeds.send_all()
    assert runs["Slate"] in store.pooled()
    assert runs["Flint"] not in store.pooled()
    made.see("Not sent: Flint run 1", made.window.stage)
    act = next(
        each for each in made.hub.messages.findChildren(QAbstractButton) if each.text() == "Send it all the same"
    )
    QTest.mouseClick(act, Qt.MouseButton.LeftButton)
    assert runs["Flint"] in store.pooled()
    made.undo()
    assert runs["Flint"] not in store.pooled()
