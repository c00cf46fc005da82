"""Columns of a file before it comes in: what moved when it was touched, whose colour a cell wears, what is chosen from a list, how far
a long file is and that it can be left."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from threading import Event

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLabel

from common_bench.exchange import logged, plain_rows
from common_bench.exchange.logged import logged_from
from common_bench.lesson.brought_calibrations import calibration_words
from common_bench.lesson.brought_columns import first_lines, touched
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.working_up import WORKERS
from common_bench.model.long_task import LongTask
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.trouble import Trouble
from person import Desk
from test_bringing_in import xlsx

HELD = 20.0  # s, at most, that workers are kept from their work
QUIET = {
    "still": lambda t: np.zeros(len(t)),
    "drifts": lambda t: 3e-4 * t,
    "a day and a night": lambda t: 4 * np.sin(2 * np.pi * t / 3000),
    "swings": lambda t: 2 * np.sin(t / 3),
    "cools": lambda t: 20 * np.exp(-t / 2000),
    "beats": lambda t: 3.0 * (t % 60 < 6),
    "steps up": lambda t: 5.0 * (t > 0.4 * t[-1]),
    "a ramp that ends": lambda t: np.minimum(t, 4000) * 0.002,
    # kept aside while the search was made
    "falls in stairs": lambda t: -np.floor(t / 400),
    "chirps": lambda t: np.sin(t * t / 4e5),
}


@pytest.mark.parametrize("wanted", ["level", "power", ""])
def test_what_never_changes_comes_in_where_the_plan_wants_it_or_nothing_else_is_there(
    wanted: str, tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    sensors = (SensorPlan(wanted, "shown", unit="V", curve="as-it-comes"),) if wanted else ()
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond", sensors=sensors), "9B", ["Basalt"])
    for name, rows in (("both", "{at},3.7,{at}5"), ("stuck", "{at},3.7,0.0")):
        file = tmp_path / f"{name}.csv"
        file.write_text("time (s),power,level\n" + "".join(rows.format(at=at) + "\n" for at in range(40)))
    (both,), (stuck,) = (lesson.bringing_in.look_at_all([tmp_path / f"{name}.csv"]) for name in ("both", "stuck"))
    assert {each.name for each in both.columns if each.role == "channel"} == {"level", wanted or "level"}
    assert {each.name for each in stuck.columns if each.role == "channel"} == (
        {wanted} if wanted else {"power", "level"}
    )
    run, *_ = lesson.bringing_in.bring(stuck, lesson.store.groups[0].id)
    assert set(lesson.working_up.replayed(run).raw) == ({wanted} if wanted else {"power", "level"})
    lesson.working_up.ended(run, None)  # as the window tells
    made = alone(lesson)
    made.press("5")
    made.until(lambda: made.window.stage.graph.isVisible(), "a run that stands still is drawn too")  # type: ignore[attr-defined]


@given(
    st.sampled_from(sorted(QUIET)), st.integers(0, 99), st.sampled_from([0.001, 0.05, 0.3]), st.integers(400, 20_000)
)
@settings(max_examples=120)
def test_what_nobody_touched_is_not_pointed_out(kind: str, seed: int, noise: float, count: int) -> None:
    t = np.arange(count) * 1.0
    values = QUIET[kind](t) + np.random.default_rng(seed).normal(0, noise, count)
    assert touched(t, np.round(values, 3)) is None


@given(
    st.sampled_from(["still", "drifts", "a day and a night", "cools", "a ramp that ends"]), st.integers(0, 99),
    st.floats(0.1, 0.9), st.integers(4, 30), st.sampled_from([-1.0, 1.0]),
)  # fmt: skip
@settings(max_examples=80)
def test_a_column_that_was_touched_for_a_while_is_pointed_out(
    kind: str, seed: int, where: float, rows: int, way: float
) -> None:
    t = np.arange(3000) * 2.0
    values = QUIET[kind](t) + np.random.default_rng(seed).normal(0, 0.05, len(t))
    at = int(where * (len(t) - 2 * rows))
    values[at : at + rows] += way * 6.0 * np.sin(np.linspace(0.5, np.pi - 0.5, rows))
    values[::97] = np.nan
    found = touched(t, np.round(values, 2))
    assert found is not None
    assert abs(found - t[at]) <= 2.0 * (rows + 2)


def pond(folder: Path, name: str = "pond.csv", count: int = 900) -> Path:
    dice = np.random.default_rng(2)
    warm, other = 18 + dice.normal(0, 0.02, count), 17 + dice.normal(0, 0.02, count)
    other[300:320] += 3
    rows = "".join(f"{at * 5},{a:.2f},{b:.2f},7\n" for at, (a, b) in enumerate(zip(warm, other, strict=True)))
    path = folder / name
    path.write_text(f"# from the pond\ntime (s),temp,temp,rate\n{rows}")
    return path


def test_cells_wear_their_columns_colours_and_what_was_touched_is_told(tmp_path: Path) -> None:
    plan = Plan("Pond", sensors=(SensorPlan("temp", "warmth", "°C"), SensorPlan("depth", "depth", "m")))
    lesson = OpenLesson.make(tmp_path / "b.benchbook", plan, "9B", ["Flint"])
    found = lesson.bringing_in.look_at(pond(tmp_path))
    assert first_lines(found, 3, 90)[0] == [("# from the pond", None)]
    assert first_lines(found, 3, 90)[2] == [
        ("0", 0), (",", None), (found.logged.rows[0][1], 1), (",", None), (found.logged.rows[0][2], 2), (",", None), ("7", 3),
    ]  # fmt: skip
    assert [("moved at" in each.note, each.role) for each in found.columns] == [
        (False, "clock"), (False, "channel"), (True, "channel"), (False, "ignored"),
    ]  # fmt: skip
    words = calibration_words(lesson.store, found, lesson.store.groups[0].id)
    assert words == [
        "warmth: temp as raw numbers, not calibrated",
        "depth: no column here is called depth; give one that name, and it is calibrated",
    ]
    lesson.close()


TEXT = "Zeit (s);Höhe (µm)\r\n" + "".join(f"{at};{at * 2},5\r\n" for at in range(30))
FORMS = {
    "a mark before it": TEXT.encode("utf-8-sig"), "UTF-16": TEXT.encode("utf-16"), "UTF-16 without a mark": TEXT.encode("utf-16-le"),
    "Latin-1": TEXT.encode("latin-1"), "zeros before it": bytes(512) + TEXT.encode(), "CR alone": TEXT.replace("\r\n", "\r").encode(),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
def test_first_lines_are_shown_as_text_whatever_the_file_is_written_in(form: str, tmp_path: Path) -> None:
    (tmp_path / "LOG1.CSV").write_bytes(FORMS[form])
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    lines = first_lines(lesson.bringing_in.look_at(tmp_path / "LOG1.CSV"), 3, 90)
    assert lines == [
        [("Zeit (s);Höhe (µm)", None)],
        *([(f"{at}", 0), (";", None), (f"{at * 2},5", 1)] for at in range(2)),
    ]
    lesson.close()


def test_first_lines_of_a_sheet_are_its_cells_and_those_of_one_kit_of_several_wear_its_columns(tmp_path: Path) -> None:
    (tmp_path / "sheet.xlsx").write_bytes(xlsx(["time (s)", "level (cm)"], *([at, at * 1.5] for at in range(20))))
    (tmp_path / "net.csv").write_text(
        "time (s),kit,level\n" + "".join(f"{at},{'AB'[at % 2]},{at}.5\n" for at in range(40))
    )
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    assert first_lines(lesson.bringing_in.look_at(tmp_path / "sheet.xlsx"), 2, 90)[1] == [
        ("0", 0),
        (";", None),
        ("0", 1),
    ]
    one, _ = lesson.bringing_in.look_at_all([tmp_path / "net.csv"])
    assert first_lines(one, 2, 90)[1] == [("0", 0), (",", None), ("A", None), (",", None), ("0.5", 1)]
    lesson.close()


def test_of_several_files_those_that_can_be_read_are_joined_and_the_others_are_named_as_far_as_there_is_room(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    made = alone(OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"]))
    made.press("4")
    stage, notice = made.window.stage, made.hub.messages.notice
    files = [tmp_path / f"LOG{at}.csv" for at in range(12)]
    for at, path in enumerate(files):
        rows = "".join(f"{at * 50 + row},{row}\n" for row in range(40))
        path.write_text(f"time (s),level\n{rows}" if at < 2 else "dear diary\n" * (at % 2))
    stage.bring_in(files)
    made.see("LOG0.csv to LOG1.csv, joined", stage)
    assert notice.words.startswith(
        "10 of 12 files were not read: LOG2.csv: there is nothing in this file; LOG3.csv: no rows"
    )
    (shown,) = (each for each in notice.findChildren(QLabel) if each.text().startswith("10 of 12"))
    assert shown.text().endswith(" …")
    assert shown.heightForWidth(shown.width()) <= shown.height(), "what is shown is not cut"
    assert notice.words in shown.toolTip()
    before = len(shown.text())
    made.window.resize(made.window.width() + 300, made.window.height())
    made.until(lambda: len(shown.text()) > before, "more of it where there is more room")
    made.hub.tell("Short.")
    made.see("Short.", made.window)


def test_what_a_column_is_is_chosen_from_a_list_and_its_trace_is_the_one_that_is_shown(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    made = alone(OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"]))
    made.press("4")
    stage = made.window.stage
    stage.bring_in([pond(tmp_path)])
    view, table = stage.bringing, stage.bringing.columns
    made.see("moved at", stage)
    table.setCurrentCell(2, 0)
    assert np.nanmax(view.graph.getPlotItem().listDataItems()[0].getData()[1]) > 19, "the one that was touched"
    table.editItem(table.item(2, 1))
    (chosen,) = table.viewport().findChildren(QComboBox)
    assert [chosen.itemText(at) for at in range(chosen.count())] == ["the kit's clock", "a channel", "left out"]
    chosen.hidePopup()
    chosen.setCurrentText("left out")
    chosen.activated.emit(2)
    made.until(lambda: view.preview.columns[2].role == "ignored", "it is left out")
    assert table.item(2, 1).text() == "left out"
    QTest.keyClick(view, Qt.Key.Key_Escape)


def test_a_long_file_tells_how_far_it_is_and_is_left_half_way_with_nothing_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(logged, "LONG", 1)
    monkeypatch.setattr("common_bench.exchange.long_files.BEGINNING", 2000)
    monkeypatch.setattr(plain_rows, "PIECE", 1500)
    path = pond(tmp_path)
    shares: list[float] = []

    class Listening(LongTask):
        def tell(self, share: float) -> None:
            shares.append(share)
            super().tell(share)

    whole = logged_from(path, Listening())
    assert len(shares) > 5
    assert shares == sorted(shares)
    assert shares[-1] == 1.0
    assert list(whole.rows) == list(logged_from(path).rows)
    stopped = LongTask()
    stopped.stop()
    with pytest.raises(Trouble, match="stopped before it was done"):
        logged_from(path, stopped)
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    place = lesson.bringing_in.place_for(lesson.bringing_in.previews([whole])[0], lesson.store.groups[0].id)
    with pytest.raises(Trouble, match="stopped before it was done"):
        place.keep(stopped)
    assert lesson.book.rows("journal") == []
    assert place.keep(Listening()).size > 0
    lesson.close()


def test_what_is_being_worked_up_is_said_and_nothing_of_another_run_stands_there_meanwhile(
    tmp_path: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    made = alone(OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint", "Chalk"]))
    lesson, store = made.lesson, made.lesson.store
    for at, group in enumerate(store.groups):
        rows = "".join(f"{row + 50 * (row > 20)},{row * 2 + at}\n" for row in range(40))
        (tmp_path / f"{group.alias}.csv").write_text(f"time (s),level\n{rows}")
    flint, chalk = (lesson.bringing_in.look_at(tmp_path / f"{group.alias}.csv") for group in store.groups)
    made.until(lambda: store.settled is not None, "the lesson has begun")
    gate = Event()
    for _ in range(2 * WORKERS):  # every worker has something else to do
        lesson.working_up.submit(lambda: gate.wait(HELD))
    run, *_ = lesson.bringing_in.bring(flint, store.groups[0].id)
    lesson.working_up.ended(run, None)
    made.press("5")
    stage = made.window.stage
    made.see("Flint run 1 is being worked up …", stage)
    made.see("It appears here by itself", stage)
    made.see("being worked up …", made.window)
    assert not any(
        box.isVisible() for box in (stage.graph_card.view, stage.graph_card.beside, stage.graph_card.aligned)
    )
    gate.set()
    made.see("Flint · run 1", stage)
    made.see("brought in from Flint.csv", stage)
    other, *_ = lesson.bringing_in.bring(chalk, store.groups[1].id)
    lesson.working_up.ended(other, None)
    made.until(lambda: len(store.ended_runs()) == 2, "both are worked up")
    gate.clear()
    for _ in range(2 * WORKERS):
        lesson.working_up.submit(lambda: gate.wait(HELD))
    lesson.working_up.let_go(other)
    made.hub.select(store.groups[1].id)
    made.see("the run is being read …", stage)
    told_by_readings = (stage.moments_card, stage.each_card, stage.residuals_card, stage.curve_card)
    assert not any(each.isVisible() for each in told_by_readings)
    gate.set()
    made.see("brought in from Chalk.csv", stage)
