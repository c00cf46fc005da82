"""Each stage of the desk by itself: what a person does wrong there, what is said, and how it is taken back."""

from __future__ import annotations

import csv
import os
import signal
from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from common_bench.desk.look.emblems import shape_path
from common_bench.desk.look.palette import PAPER, PROJECTOR, hue
from common_bench.desk.plan.cards import LINES, ClassFindsCard
from common_bench.desk.pool.stage import PoolStage
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.line_offers import offers
from common_bench.lesson.sharing import pool_from
from common_bench.lesson.words import bench_words, path_words
from common_bench.model.bench import HUES, SHAPES, emblem_for
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.plan_file import shipped_plan
from common_bench.standins.control import StandInProcess
from person import Desk
from test_desk_record import uncut
from waiting import is_steady

Made = Callable[..., Desk]


def test_calibrating_too_early_wrongly_and_again(desk: Made) -> None:
    made = desk()
    stage = made.window.stage
    made.press("K")
    made.see("needs 2 points", stage)
    made.press("X")
    made.see("There is no such point to set aside on this bench yet.", stage)
    made.hang("bottle", 14)
    made.see("still moving", stage)
    made.press("Space")
    made.see("is not taken yet: Basalt is not steady", stage)
    made.see("moving · 0/5", made.window.benches)
    made.kits.order(kits=["Basalt"], hang="nothing")
    made.until(lambda: is_steady(made.lesson, made.group["Basalt"]), "Basalt hangs still")
    made.see("nothing taken on 1 bench: Basalt.", stage)
    made.see("follows", stage)
    made.hang("nothing", 8.0)
    made.until(lambda: made.lesson.store.points(made.lesson.store.kit_of(made.group["Slate"]), "load"), "Slate has it")
    made.press("Left") if stage.planned.label != "nothing" else None
    made.press("X")
    made.answer("")
    made.see("a reason is missing", stage)
    made.answer("the hook touched the stand")
    kit = made.lesson.store.kit_of(made.hub.group)
    assert made.lesson.store.points(kit, "load") == []
    made.undo()
    assert len(made.lesson.store.points(kit, "load")) == 1
    made.hang("200 g", 6.0)
    made.press("Right", "Right")
    assert stage.planned.label == "200 g"
    made.until(lambda: is_steady(made.lesson, made.group["Basalt"]), "200 g hangs still")
    made.press("Space")
    made.until(
        lambda: all(made.lesson.calibrating.has_point(g, "load", "200 g") for g in made.group.values()), "all have it"
    )
    made.press("K")
    made.see("Kept for", stage)
    made.see("tension = ", stage)
    made.hang("350 g", 6.0)
    made.until(lambda: bench_words(made.lesson, made.hub.group, "calibrate").guess, "beyond the points it is a guess")
    made.see("N · a guess", made.window.benches)
    assert len(made.lesson.book.rows("calibration")) >= 1
    made.undo()
    assert path_words(made.lesson)["calibrate"] == "0 of 6 good"


def test_recording_one_bench_a_wrong_length_and_one_graph(desk: Made) -> None:
    made = desk()
    made.run_lasts(0)
    made.press("4", "M")
    stage = made.window.stage
    made.see("is not recording, so there is no moment to mark.", stage)
    made.press("Space")
    made.until(lambda: made.lesson.roster.recording(made.hub.group), "this bench records")
    made.see("End Basalt (space)", stage)
    assert sum(made.lesson.roster.recording(group) for group in made.group.values()) == 1
    made.press("G")
    made.see("Class wall (G)", stage)
    made.until(lambda: len(stage.graph_card._curves) == 6, "one line for each group")
    made.press("G", "L")
    field = next(iter(stage.tiles[0].conditions.values()))
    assert field.hasFocus()
    field.setText("half a metre")
    QTest.keyClick(field, Qt.Key.Key_Return)
    made.see("is not a number with its uncertainty", stage)
    assert field.property("wrong")
    field.setText("51 cm")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert str(made.lesson.store.conditions(made.group["Basalt"])["length"]) == "0.510 ± 0.003 m"
    made.window.setFocus()
    made.press("Space")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 1, "it is kept")
    assert made.lesson.store.kept_runs()[0].ended_by == "ended by hand"
    assert made.lesson.store.run_conditions(made.lesson.store.kept_runs()[0].id)["length"].value == pytest.approx(
        0.499, abs=0.01
    )
    made.press("5")
    made.see("no finding", made.window.stage)
    made.press("P")
    made.see("has no finding yet", made.window.stage)


def test_the_plan_refuses_what_makes_no_sense_and_keeps_the_rest(desk: Made) -> None:
    made = desk()
    made.press("1")
    stage = made.window.stage
    card = stage.run
    for field, text, told in (
        (card.ends, "soon", "“soon” says nothing of when a run begins or ends."), (card.ends, "-3", "lasts 0 s or more"),
        (card.runs, "0", "1 to 99 runs of each group"), (card.runs, "many", "1 to 99 runs of each group"),
        (card.begins, "when jumps", "no line of the plan finds events"),
    ):  # fmt: skip
        field.setText(text)
        field.editingFinished.emit()
        made.see(told, stage)
        assert (card.begins.text(), card.before.text(), card.ends.text(), card.runs.text()) == (
            "at once",
            "0",
            "after 20 s",
            "3",
        )
    for typed, rule in (
        ("7,5", RulePlan(7.5)),
        ("after 3 pass or 5 min", None),
        ("after 3 pass or after 5 min", RulePlan(ends="after 3 pass or after 5 min")),
    ):
        card.ends.setText(typed)
        card.ends.editingFinished.emit()
        if rule is not None:
            assert made.lesson.store.plan.rule == rule
    card.begins.setText("when tension rises through 2.2 N")
    card.begins.editingFinished.emit()
    card.before.setText("9999")
    card.before.editingFinished.emit()
    made.see("up to 600 s from before", stage)
    card.before.setText("1,5")
    card.before.editingFinished.emit()
    assert (
        made.lesson.store.plan.rule.words
        == "begins when tension rises through 2.2 N, 1.5 s from before · ends after 3 pass or after 5 min"
    )
    card.begins.setText("when tension rises through 2.2 m")
    card.begins.editingFinished.emit()
    made.see("the level is in m", stage)
    for _ in range(4):
        made.undo()
    assert made.lesson.store.plan.rule == RulePlan(7.5)
    made.press("B")
    stage.alias.setText("Chalk")
    stage._add_group()
    made.see("cannot be the alias of a group", stage)
    stage.alias.setText("Tuff")
    stage._add_group()
    made.until(lambda: len(made.window.benches.rows) == 7, "the bench is there")
    made.see("length not set", made.window.benches)
    made.undo()
    made.until(lambda: len(made.window.benches.rows) == 6, "and gone again")
    stage.conditions.setPlainText("length (m) ± 0.003\nmass (kg) ± 0.001 # of the bottle")
    stage.conditions.keep_it()
    assert [each.name for each in made.lesson.store.plan.conditions] == ["length", "mass"]
    made.until(lambda: stage.by_bench.rowCount() == 12, "both are asked of each bench")
    stage.conditions.setPlainText("length (m)\nlength (m)")
    made.see("“length” is there twice.", stage)
    stage.conditions.put_back()
    assert "mass" in stage.conditions.toPlainText()


def test_forms_and_ready_lines_are_found_and_added_with_keys_alone(desk: Made) -> None:
    made = desk()
    made.press("1", "F")
    stage = made.window.stage
    assert stage.pages.currentIndex() == 3
    assert stage.forms.list.count() == len(offers(made.lesson.store.plan))
    before = made.lesson.store.plan.workings
    for typed, added in (
        ("rate of", ("speed = rate of tension over 0.4 s",)),
        ("period frequency", ("pitch = dominant pace of tension", "period2 = 1 / pitch")),
    ):
        stage.forms.search.selectAll()
        QTest.keyClicks(stage.forms.search, typed)
        made.see(added[0], stage)
        QTest.keyClick(stage.forms.search, Qt.Key.Key_Return)
        assert made.lesson.store.plan.workings[-len(added) :] == added
    assert not made.lesson.store.workings.troubles
    assert made.lesson.store.workings.kinds["speed"].unit == "N/s"
    stage.forms.search.selectAll()
    QTest.keyClicks(stage.forms.search, "xyzzy")
    made.see("Nothing is written like that.", stage)
    made.undo()
    made.undo()
    assert made.lesson.store.plan.workings == before


def test_a_kit_is_added_by_address_and_refused_in_words(
    desk: Made, stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:  # fmt: skip
    made = desk("--dialect", "commas", "--count", "1", speed=4.0, plan=Plan("Plugging"))
    far = stand_ins("--over", "tcp", "--dialect", "json", count=1, world_speed=4.0)
    stage = made.window.stage
    made.press("A")
    for wrong, said in (
        ("gopher://x", "cannot be opened"), ("tcp://x", "no whole address"), ("", "a link is missing"),
        (made.lesson.roster.state(made.group["Basalt"]).address.path, "is heard already"), ("/dev/x?speed=fast", "is no speed"),
    ):  # fmt: skip
        made.answer(wrong)
        made.see(said, stage)
    made.answer(far.link("Basalt"))
    made.until(lambda: len(made.lesson.roster.kits) == 2, "it is listened to")
    made.until(lambda: all(ear.can_record for ear in made.lesson.roster.kits.values()), "it is heard")
    made.see("no bench yet", stage)
    made.see("JSON · from", stage)
    made.press("Return")
    made.see("belongs to Basalt", stage)
    made.press("A")
    made.answer(f"file:{tmp_path}/none.txt")
    made.see("this file cannot be read", stage)
    made.press("G")
    made.see("2 kits have no bench, and no bench is free.", stage)


def test_a_kit_that_is_added_while_the_engine_does_something_else_is_heard_once_it_comes_to_it(
    desk: Made, stand_ins: Callable[..., StandInProcess]
) -> None:  # fmt: skip
    made = desk("--dialect", "commas", "--count", "1", speed=4.0, plan=Plan("Plugging"))
    far = stand_ins("--over", "tcp", "--dialect", "json", count=2, world_speed=4.0)
    near = stand_ins("--dialect", "tabs", count=2, world_speed=4.0)
    engine = made.lesson.engine.process  # type: ignore[union-attr]
    made.press("A")
    os.kill(engine, signal.SIGSTOP)
    try:
        made.answer(far.link("Basalt"))
        assert not made.hub.messages.asks, "it is taken"
        made.press("A")
        made.answer(far.link("Basalt"))
        made.see("is heard already", made.window.stage)
        made.answer(far.link("Chalk"))
        made.hub.ports_folder = near.folder
        for _ in range(3):
            made.hub.look_for_kits()
        assert len(made.lesson.roster.kits) == 1
        made.see("not heard now", made.window.benches)
        made.press("4")
        made.see("not heard now", made.window.stage)
    finally:
        os.kill(engine, signal.SIGCONT)
    made.until(lambda: len(made.lesson.roster.kits) == 4, "all are listened to")
    made.see("ready", made.window.stage)
    made.until(lambda: all(kit.can_record for kit in made.lesson.roster.kits.values()), "all are heard")
    sessions = [row["kit"] for row in made.lesson.book.rows("session")]
    assert len(sessions) == len(set(sessions)) == 4


def test_the_pool_hides_names_and_goes_out(desk: Made, tmp_path: Path) -> None:
    made = desk()
    made.calibrate()
    made.hang("bottle", 1.5)
    made.record()
    made.press("6", "X")
    made.see("Choose a bench whose findings are in the opened pool.", made.window.stage)
    made.until(lambda: len(made.lesson.pooling.to_send()) == 6, "all are worked up")
    made.see("Send all 6 that are not in (P)", made.window.stage)
    made.press("P")
    made.see("The class: 6 runs sent to the pool.", made.window)
    assert not made.window.stage.who_card.send.isVisible()
    made.press("P")
    made.see("has no run that is not in the pool already", made.window)
    made.press("O")
    made.until(lambda: made.window.stage.table.rowCount() == 6, "the class is shown")
    names = [made.window.stage.table.item(row, 0).text() for row in range(6)]
    assert names == list(made.group)
    pool = made.window.stages["pool"]
    assert isinstance(pool, PoolStage)

    def column(at: int) -> list[str]:
        return [pool.table.item(row, at).text() for row in range(6)]

    lengths = [float(each.split(" ")[0]) for each in column(2)]
    made.press("S", "S", "S")
    assert [float(each.split(" ")[0]) for each in column(2)] == sorted(lengths)
    pool.table.heads.sectionClicked.emit(2)
    assert [float(each.split(" ")[0]) for each in column(2)] == sorted(lengths, reverse=True)
    assert pool.table.horizontalHeaderItem(2).text().endswith("▾")
    pool.table.selectRow(0)
    longest = column(0)[0]
    made.until(lambda: made.hub.alias == longest, "a row that is chosen is its bench, wherever it stands")
    pool.table.heads.sectionClicked.emit(2)
    assert column(0) == names
    point = pool._result().points[-1]
    over = QPointF(pool._result().across()[point.run], point.y.value)
    pool.walk.point_at(pool.graph.getViewBox().mapViewToScene(over))
    alias = made.lesson.store.group(point.group).alias
    told = pool.walk.opened.textItem.toPlainText().split("\n")
    assert told[0] == alias
    assert [each.split(":")[0] for each in told[1:]] == ["run 1"]
    QApplication.sendEvent(pool.graph, QEvent(QEvent.Type.Leave))
    assert pool.walk.opened is None, "they close when the mouse leaves the graph"
    made.see("Eₙ\N{NO-BREAK SPACE}=\N{NO-BREAK SPACE}", pool)
    made.press("N")
    hidden = [made.window.stage.table.item(row, 0).text() for row in range(6)]
    assert not set(hidden) & set(made.group)
    made.press("N")
    pool, work = made.window.stages["pool"], made.window.stages["work"]
    made.press("K")
    made.until(lambda: made.hub.stage == "work" and work.origin_card.table.rowCount() > 3, "the walk back is shown")
    made.see("line of text", work)
    made.press("6")
    view = pool.graph.viewport()
    point = pool._result().points[-1]
    place = pool.graph.mapFromScene(
        pool.graph.getViewBox().mapViewToScene(QPointF(pool._result().across()[point.run], point.y.value))
    )
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=place)
    made.until(lambda: made.hub.group == point.group, "a click on a point chooses its bench")
    made.click_twice(view, place)
    made.until(lambda: made.hub.stage == "work" and work._current().id == point.run, "and a second one opens its run")
    made.press("6")
    cell = pool.table.visualItemRect(pool.table.item(1, 0)).center()
    made.click_twice(pool.table.viewport(), cell)
    made.until(lambda: made.hub.stage == "work" and made.hub.alias == "Chalk", "so does a row")
    made.press("Escape", "6")
    out = tmp_path / "not there yet" / "out"
    made.press("E")
    made.answer(str(out))
    made.see("Exported: ", made.window.stage)
    names = sorted(path.name for path in out.iterdir())
    assert {"class-graph.png", "pool.benchpool", "pool.csv", "pool.json", "datapackage.json", "findings.csv"} <= set(
        names
    )
    assert len([name for name in names if name.endswith("-run-1.csv")]) == 6, "the runs too"
    assert len(pool_from(out / "pool.benchpool").runs) == 6
    made.press("E")
    made.answer(str(out))
    made.see("this folder is not empty", made.window.stage)
    with (out / "pool.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert [row["group"] for row in rows] == list(made.group)
    made.undo()
    made.see("groups have sent their findings", made.window.stage)
    assert path_words(made.lesson)["pool"] == "sealed · 6 of 6 in"


@pytest.mark.long_proof
def test_every_stage_can_be_seen_in_both_themes_in_a_small_window(desk: Made) -> None:
    made = desk()
    made.window.resize(1024, 640)
    for theme in (PROJECTOR, PAPER):
        assert made.change_theme() == theme.name
        for number in range(1, 7):
            made.press(str(number))
            QTest.qWait(60)
            picture = made.window.grab().toImage()
            colours = {picture.pixelColor(x, y).name() for x in range(10, 1000, 45) for y in range(80, 620, 30)}
            assert len(colours) > 3, "something is painted"
            wide = [each for each in made.window.stage.findChildren(type(made.window.stage.title)) if each.isVisible()]
            assert all(each.mapTo(made.window, each.rect().topRight()).x() <= made.window.width() + 2 for each in wide)


@pytest.mark.parametrize("shape", SHAPES)
def test_emblems_differ_and_keep_their_contrast_on_dark_ground(shape: str) -> None:
    assert not shape_path(shape).isEmpty()
    emblems = [(emblem_for(place).shape, emblem_for(place).colour) for place in range(32)]
    assert len(set(emblems[:16])) == 16
    for colour in HUES:
        dark = hue(PROJECTOR, colour)
        brightness = [sum(int(each[at : at + 2], 16) for at in (1, 3, 5)) for each in (colour, dark)]
        assert brightness[1] > brightness[0]
        assert hue(PAPER, colour) == colour


def test_every_line_that_a_class_graph_may_have_is_chosen_in_the_plan(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    made = alone(OpenLesson.make(tmp_path / "lines.benchbook", shipped_plan("drying-sponges"), "9B", ["Flint"]))
    made.press("1")
    card = next(iter(made.window.stage.findChildren(ClassFindsCard)))
    assert card.line.currentText() == "a line through zero", "as the plan has it"
    for at, form in enumerate(LINES):
        card.line.setCurrentIndex(at)
        card.line.activated.emit(at)
        assert made.lesson.store.plan.graph is not None
        assert made.lesson.store.plan.graph.line == form
        assert card.line.currentText() == LINES[form]
    assert [each for each in uncut(made, "the class finds") if "half a row" not in each] == []
    made.undo()
    assert made.lesson.store.plan.graph is not None
    assert made.lesson.store.plan.graph.line == "exponential"
