"""Work up in the window: curves tried and kept, stretches set aside, runs beside one another, the walk back to the lines of text, all
runs at once; with keys and the mouse, judged by what is seen."""

from __future__ import annotations

import math
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import QPoint, QPointF
from PyQt6.QtTest import QTest

from common_bench.desk.work import curve_try
from common_bench.desk.work.all_quantities import STACKED, TOGETHER
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson.bring_files import bring_files
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan, SensorPlan
from person import Desk
from test_desk_record import uncut


def test_a_run_is_held_against_another_tried_by_a_curve_and_followed_back_to_its_lines(
    worked: Desk, tmp_path: Path
) -> None:
    made = worked
    made.press("5")
    stage = made.window.stage
    made.see("period = ", stage)
    run = stage._current()
    before = made.lesson.store.findings(run.id)[0]
    made.until(lambda: stage.graph_card.beside.count() > 1, "other runs are offered")
    made.press("B")
    made.see("apart, a ratio of", stage.finding_card)
    card = stage.finding_card
    card.difference.hide()
    QTest.qWait(50)
    made.hub.book_changed.emit()
    assert card.difference.isVisible()
    assert card.difference.geometry().top() > card.made_of.geometry().bottom(), (
        "nothing lies over its neighbour, not for a moment"
    )
    assert any("run 1" in stage.graph_card.beside.itemText(at) for at in range(stage.graph_card.beside.count()))
    made.press("K")
    made.see("How it came about", stage)
    made.see("first line of text in the span", stage.origin_card)
    rows = [stage.origin_card.table.item(row, 0).text() for row in range(stage.origin_card.table.rowCount())]
    assert rows[0].startswith("period = ")
    assert any(each.startswith("calibration of load") for each in rows)
    stage.origin_card.table.selectRow(len(rows) - 1)
    made.until(lambda: stage.graph_card.look_at is not None, "the reading is marked on the graph")
    assert [each for each in uncut(made, "origin") if "half a row" not in each] == [], "a list that goes on below"
    made.press("K", "C")
    made.answer("voltge fitted by a + b")
    made.see("nothing is called", made.window)
    made.answer("a + b * time")
    made.see("CURVE, ONLY TRIED", stage)
    made.see("fits better", stage.curve_card)
    made.until(stage.residuals_card.isVisible, "its residuals are seen")
    stage.curve_card.keep.click()
    made.see("The plan has the line “curve” now", made.window)
    assert any(line.startswith("curve = tension fitted by") for line in made.lesson.store.plan.workings)
    made.see("CURVE “curve”", stage)
    made.undo()
    made.until(
        lambda: not any(line.startswith("curve =") for line in made.lesson.store.plan.workings), "it is out again"
    )
    made.until(lambda: not made.lesson.runs_in_step.is_busy, "runs have followed")
    made.until(lambda: made.lesson.working_up.at_hand(run.id) is not None, "the run is read again")
    made.press("O")
    made.until(lambda: stage.question.isVisible(), "why is asked")
    stage.graph_card.out.setRegion((4.0, 4.3))
    made.answer("")
    made.see("reason", made.window)
    made.answer("bumped the string")
    made.see("4.00 s to 4.30 s set aside: bumped the string.", made.window)
    made.see("Set aside: 4.00 s to 4.30 s: bumped the string", stage.moments_card)
    after = made.lesson.store.findings(run.id)[0]
    assert after.n < before.n
    stage.moments_card.stretches.itemAt(0).layout().itemAt(1).widget().click()
    made.until(lambda: made.lesson.store.findings(run.id)[0].measured == before.measured, "it counts again")
    _sets_one_aside_by_pointing(made)
    _sees_it_otherwise(made)
    made.press("G")
    made.see("0 want a look", stage.all_card)
    row = next(
        at for at in range(stage.all_card.table.rowCount()) if stage.all_card.table.item(at, 0).text() == "Flint"
    )
    stage.all_card.table.selectRow(row)
    made.until(lambda: made.hub.alias == "Flint", "the bench of that run is chosen")
    assert [each for each in uncut(made, "all runs") if "half a row" not in each] == []
    made.press("G", "D")
    place = tmp_path / "flint.csv"
    made.answer(str(place))
    made.see(f"All readings with units and uncertainties are in {place}", made.window)
    head = place.read_text("utf-8").splitlines()[0]
    assert head.startswith("time (s),raw load")
    assert "tension (N),u_tension (N)" in head
    middle = stage.graph.viewport().rect().center()
    QTest.mouseMove(stage.graph.viewport(), middle)

    def told_there() -> str:
        stage.graph.scene().sigMouseMoved.emit(QPointF(stage.graph.mapToScene(QPoint(middle.x(), middle.y()))))
        return stage.graph_card.here.text()

    made.until(lambda: "byte" in told_there(), "the reading under the pointer is told")
    assert "raw load" in told_there()


def _sets_one_aside_by_pointing(made: Desk) -> None:
    """A second click on the mark of an event means that event, elsewhere the reading."""
    stage = made.window.stage
    run, graph = stage._current(), stage.graph
    passes = made.lesson.working_up.replayed(run.id).results["pass"].t
    made.until(lambda: len(stage.graph_card._marks[0][1]) == len(passes), "all its events are marked")
    ((name, times, heights),) = stage.graph_card._marks
    count = len(times)
    view = graph.getViewBox()

    def click_twice(t: float, height: float) -> None:
        place = graph.mapFromScene(view.mapViewToScene(QPointF(t, height)))
        made.click_twice(graph.viewport(), place)

    click_twice(times[3], heights[3])
    made.answer("a gust")
    made.see(f"The {name} at {times[3]:.2f} s is set aside.", made.window)
    made.until(lambda: len(stage.graph_card._marks[0][1]) == count - 1, "its mark is gone")
    made.see(f"Set aside: {name} at {times[3]:.2f} s: a gust", stage.moments_card)
    made.undo()
    made.until(lambda: len(stage.graph_card._marks[0][1]) == count, "it is back")
    low, high = view.viewRange()[1]
    click_twice(7.0, low + 0.2 * (high - low))
    made.answer("a spike")
    made.see("Set aside: the reading at 7.0", stage.moments_card)
    assert [each.kind for each in made.lesson.store.run(run.id).setting.left_out] == ["reading"]
    made.undo()
    made.until(lambda: not made.lesson.store.run(run.id).setting.left_out, "it is back")


def _sees_it_otherwise(made: Desk) -> None:
    """The spectrum of a run, and one quantity of it against another; then over time again."""
    card = made.window.stage.graph_card
    made.press("R")
    made.until(lambda: not card.over_time and card.view.currentText() == "spectrum", "its spectrum")
    made.see("readings per s", card)
    assert card.region.scene() is None, "no span is dragged over frequencies"
    while not card.over_time:
        if card.view.currentText().startswith("against"):
            made.see("readings, ", card)
        made.press("R")
    made.until(lambda: card.region.scene() is not None, "its span again")


def test_all_quantities_of_a_run_are_seen_stacked_and_over_one_another_with_their_uncertainty(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    plan = Plan(
        "Two", sensors=tuple(SensorPlan(channel, name, unit=unit, curve="as-it-comes") for channel, name, unit in (("load", "pull", "N"), ("heat", "temp", "°C"))),
        workings=("twice = pull * (2.0 ± 0.1)", "top = peaks in pull above 2.5 N, 1 s apart", "low = falls of pull through 1.5 N"), show=("pull",),
    )  # fmt: skip
    book, file = tmp_path / "two.benchbook", tmp_path / "two.csv"
    OpenLesson.make(book, plan, "9B", ["Flint"]).close()
    rows = [(k / 20, 2 + math.sin(k / 10), 20 + k / 100) for k in range(1200) if not 500 < k < 640]
    file.write_text("time (s),load,heat\n" + "".join(f"{t:.2f},{v:.3f},{w:.2f}\n" for t, v, w in rows))
    list(bring_files(book, [file], "Flint", began="", ended=""))
    made = alone(OpenLesson.open(book))
    made.press("5")
    stage = made.window.stages["work"]
    assert isinstance(stage, WorkStage)
    card = stage.graph_card
    made.until(lambda: card._line is not None, "the run is drawn")

    def words() -> str:
        return " ".join(each.toPlainText() for each in card.graph.getPlotItem().items if hasattr(each, "toPlainText"))

    def bands() -> int:
        return sum(isinstance(each, pg.FillBetweenItem) for each in card.graph.getPlotItem().items)

    assert [name for name, _, _ in card._marks] == ["top", "low"], (
        "all that is looked for in it is marked, each by its name"
    )
    assert " top" in words()
    assert " low" in words()
    made.press("R")
    assert card.view.currentText() == STACKED
    pull, temp, twice = card._lines
    assert np.nanmin(pull.item.getData()[1]) > 2 > np.nanmax(temp.item.getData()[1]), "each in its own lane"
    assert np.nanmin(temp.item.getData()[1]) > 1 > np.nanmax(twice.item.getData()[1])
    for each in card._lines:
        t, values = each.item.getData()
        within = (t > 25.05) & (t < 31.95)
        assert not np.isfinite(values[within]).any(), "nothing is drawn across a gap"
    assert "pull (N)" in words()
    assert "temp (°C)" in words()
    made.press("+")
    low, high = card.graph.getViewBox().viewRange()[0]
    assert high - low == pytest.approx(30, rel=0.1), "keys look closer here too"
    made.press("N", "R")
    assert card.view.currentText() == TOGETHER
    assert "temp (°C): 20.00 to 31.99" in words()
    assert bands() == 0
    made.press("U")
    assert bands() == 2, "about what is known, before the gap and behind it"
    made.press("R")
    assert card.view.currentText() == "spectrum"
    card.view.setCurrentIndex(0)
    card.view.activated.emit(0)
    made.until(
        lambda: card.over_time and "nothing says how sure it is" in card.aside.text(), "nothing is stated of pull"
    )
    made.press("U")
    made.until(lambda: "nothing says" not in card.aside.text(), "it is not asked for any more")


def test_the_window_does_not_wait_for_a_curve_through_a_long_run(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, alone: Callable[[OpenLesson], Desk]
) -> None:
    monkeypatch.setattr(curve_try, "LONG", 100)
    threads, worked_out, seen = list[threading.Thread](), curve_try.curves_of, threading.Event()

    def told(*asked: Any) -> Any:
        threads.append(threading.current_thread())
        assert seen.wait(60), "somebody looks meanwhile"
        return worked_out(*asked)

    monkeypatch.setattr(curve_try, "curves_of", told)
    sensor = SensorPlan("level", "level_now", unit="cm", curve="as-it-comes")
    lines = ("fade = level_now fitted by A * exp(-time / T) + c", "slow = T of fade")
    book = tmp_path / "b.benchbook"
    OpenLesson.make(
        book, Plan("Fading", sensors=(sensor,), workings=lines, findings=("slow",)), "9B", ["Flint"]
    ).close()
    file = tmp_path / "log.csv"
    t = np.arange(600) * 0.5
    values = 5 * np.exp(-t / 40) + 1 + np.random.default_rng(3).normal(0, 0.01, len(t))
    file.write_text("time (s),level (cm)\n" + "".join(f"{a:.1f},{b:.4f}\n" for a, b in zip(t, values, strict=True)))
    list(bring_files(book, [file], "Flint", began="", ended=""))
    made = alone(OpenLesson.open(book))
    made.press("5")
    stage = made.window.stage
    made.see("slow = ", stage)
    made.see("being put through the run …", stage.curve_card)
    seen.set()
    made.see("CURVE “fade”", stage)
    made.until(stage.residuals_card.isVisible, "its residuals are seen")
    assert threads
    assert threading.main_thread() not in threads
    before = len(threads)
    made.press("4", "5")
    made.see("CURVE “fade”", stage)
    assert len(threads) == before, "it is worked out once"
