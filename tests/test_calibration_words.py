"""What the Calibrate stage says: sentences, rows and grids made from a book, without a window or a kit."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton

from common_bench.calibrate.steady import Limits, Steadiness
from common_bench.exchange.points import points_from
from common_bench.lesson.calibration_quality import quality
from common_bench.lesson.calibration_words import (
    curve_shown,
    grid_heads,
    grid_rows,
    inside_limits,
    point_example,
    point_rows,
    point_words,
    report,
    sentence_words,
    steady_line,
)
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.line_offers import ready_lines
from common_bench.lesson.store_rows import point_row
from common_bench.lesson.words import path_words
from common_bench.model.calibration import PlannedPoint, ReferencePoint
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.trouble import CalibrationTrouble
from person import Desk
from simulated import TRUTHS, points_of

LINE = next(truth for truth in TRUTHS if truth.kind == "straight line")
LABELS = ("nothing", "100 g", "200 g", "300 g")
ALIASES = ["Basalt", "Chalk", "Flint", "Gneiss", "Marble"]


@pytest.fixture
def lesson(tmp_path: Path) -> Iterator[OpenLesson]:
    """A class of five with kits that are known but not plugged in."""
    planned = (*(PlannedPoint(label, 0.981 * k, 0.003) for k, label in enumerate(LABELS)), PlannedPoint("350 g", 3.43, 0.004, True))  # fmt: skip
    plan = Plan("Weighing", sensors=(SensorPlan("load", "tension", "N", points=planned, old_after=30),))
    made = OpenLesson.make(tmp_path / "words.benchbook", plan, "9B", ALIASES)
    for group, alias in zip(made.store.groups, ALIASES, strict=True):
        kit = made.book.record("kit", identity=alias, name=alias, link="/nowhere", format="", asking="")
        bench = next(row["id"] for row in made.store.rows("bench") if row["group"] == group.id)
        made.changes.do("Give it", [made.book.changed("bench", bench, kit=kit)])
    made.store.refresh("kit")
    yield made
    made.close()


def give(lesson: OpenLesson, alias: str, labels: tuple[str, ...], seed: int = 1, wrong: str = "") -> int:
    """Points as they would have been taken, of a sensor that is 5% or so its own; gives the group."""
    dice = np.random.default_rng(seed)
    group = next(each.id for each in lesson.store.groups if each.alias == alias)
    kit = lesson.store.kit_of(group)
    gain, zero = 1.02e5 * dice.normal(1, 0.01), dice.normal(8000, 1000)
    rows = []
    for planned in lesson.store.plan.sensors[0].points:
        if planned.label in labels:
            held = planned.value * (0.5 if planned.label == wrong else 1.0)
            point = ReferencePoint(
                planned.label, zero + gain * held + dice.normal(0, 3), 3.0, planned.value, planned.u, "N", 200, 30.0, 4.0,
                "2026-11-25T10:15:30+01:00", planned.check, step=1.0, independent=180.0, board=21.5, channel="load",
            )  # fmt: skip
            rows.append(lesson.book.added("reference_point", lesson=lesson.store.id, kit=kit, **point_row(point)))
    lesson.changes.do("Take them", rows)
    return group


def cells(row: list) -> list[str]:
    return [cell[0] if isinstance(cell, tuple) else cell for cell in row]


def test_before_during_and_after_the_points_it_is_said_what_comes_next(lesson: OpenLesson) -> None:
    sensor = lesson.store.plan.sensors[0]
    group = lesson.store.groups[0].id
    assert "Hold the sensor at “nothing” and press space." in curve_shown(lesson, group, sensor).why
    assert sentence_words(lesson, group, curve_shown(lesson, group, sensor), sensor)[0] == "No curve yet"
    give(lesson, "Basalt", ("nothing",))
    assert "needs 2 points, 1 taken so far" in curve_shown(lesson, group, sensor).why
    give(lesson, "Basalt", ("100 g", "200 g", "300 g", "350 g"))
    lesson.changes.do("Away", [lesson.book.changed("reference_point", 1, aside="another sensor")])
    shown = curve_shown(lesson, group, sensor)
    assert shown.new
    head, more = sentence_words(lesson, group, shown, sensor)
    assert head.startswith("tension = 9.")
    assert "Not kept yet: press K." in more
    lesson.calibrating.keep_calibrations([group], "load")
    assert "Kept today." in sentence_words(lesson, group, curve_shown(lesson, group, sensor), sensor)[1]
    kit = lesson.store.kit_of(group)
    assert kit is not None
    _, word, tone, _ = quality(lesson.store, lesson.sensors, kit, sensor)
    assert (word, tone) == ("good · today", "good")
    give(lesson, "Basalt", ("nothing",), seed=3)
    assert (
        "It replaces “today” for new runs"
        in sentence_words(lesson, group, curve_shown(lesson, group, sensor), sensor)[1]
    )
    assert path_words(lesson)["calibrate"] == "1 of 5 good"


def test_the_rows_show_each_point_its_residual_and_how_the_check_came_out(lesson: OpenLesson) -> None:
    sensor = lesson.store.plan.sensors[0]
    group = give(lesson, "Basalt", (*LABELS, "350 g"))
    shown = curve_shown(lesson, group, sensor)
    rows = [cells(row) for row in point_rows(lesson, group, sensor, shown.ready)]
    assert [row[0] for row in rows] == [*LABELS, "check 350 g"]
    assert all("±" in row[2] for row in rows)
    assert rows[-1][3].endswith(("✓", "?", "✗"))
    lesson.planning.remove_point("load", 1)
    sensor = lesson.store.plan.sensors[0]
    rows = [cells(row) for row in point_rows(lesson, group, sensor, shown.ready)]
    assert "100 g (not in the plan)" in [row[0] for row in rows], "a point that was taken is never lost from sight"
    words = point_words(lesson.store.points(lesson.store.kit_of(group) or 0, "load")[0])
    assert (
        words
        == "200 readings, as good as 180 independent ones · scatter 30 · resolution 1.0 · drift 0/s · 10:15 · board 21.5 °C"
    )
    text = report(lesson, group, shown, sensor)
    assert text.count("\n") == 7
    assert "E_n = " in text


def test_the_grid_names_the_bench_whose_mass_was_wrong(lesson: OpenLesson) -> None:
    for place, alias in enumerate(ALIASES):
        give(lesson, alias, LABELS, seed=place, wrong="200 g" if alias == "Flint" else "")
    sensor = lesson.store.plan.sensors[0]
    assert grid_heads(sensor) == ["bench", "0", "100", "200", "300", "check", "now"]
    rows = [cells(row) for row in grid_rows(lesson, sensor, lesson.taking())]
    assert [row[0] for row in rows] == ALIASES
    marks = {row[0]: row[1:5] for row in rows}
    assert marks["Flint"] == ["●", "●", "✗", "●"]
    assert all(marks[alias] == ["●"] * 4 for alias in ALIASES if alias != "Flint")
    assert {row[-1] for row in rows} == {"not plugged in"}
    named = lesson.sensors.disagreements("load")
    assert [(each.alias, each.label) for each in named] == [("Flint", "200 g")]
    lesson.calibrating.keep_calibrations([group.id for group in lesson.store.groups], "load")
    kit = lesson.store.kit_of(lesson.store.groups[2].id)
    assert kit is not None
    assert quality(lesson.store, lesson.sensors, kit, sensor)[1:3] == ("“200 g” wrong?", "red"), "the cause is named"


def test_a_calibration_with_a_wrong_mass_is_kept_only_when_a_person_says_so_and_marked_in_every_stage(
    lesson: OpenLesson, alone: Callable[[OpenLesson], Desk]
) -> None:
    for place, alias in enumerate(ALIASES):
        give(lesson, alias, LABELS, seed=place, wrong="200 g" if alias == "Flint" else "")
    made = alone(lesson)
    made.press("3", "K")
    kits = {alias: lesson.store.kit_of(made.group[alias]) for alias in ALIASES}

    def kept() -> list[str]:
        return [alias for alias, kit in kits.items() if kit is not None and lesson.store.calibration(kit, "load")]

    assert kept() == [alias for alias in ALIASES if alias != "Flint"], "the others are kept"
    made.see("Not kept: Flint: “200 g” disagrees with the class", made.window.stage)
    act = next(
        each for each in made.hub.messages.findChildren(QAbstractButton) if each.text() == "Keep it all the same"
    )
    QTest.mouseClick(act, Qt.MouseButton.LeftButton)
    assert kept() == ALIASES
    for stage in ("plug", "calibrate", "record", "work", "pool"):
        made.hub.go(stage)
        assert "“200 g” wrong?" in made.seen(made.window.benches), stage
    assert any("200 g" in words for words in lesson.recording.lacks(made.group["Flint"]))
    made.undo()
    assert "Flint" not in kept()


def test_examples_of_points_are_in_the_unit_of_what_is_calibrated() -> None:
    for unit in ("N", "lx", "°C", "mm", "mol/L", ""):
        example = point_example(SensorPlan("a", "x", unit))
        assert example.endswith(unit)
        assert "g = 0.981" not in example or unit == "N"
    assert (
        point_example(SensorPlan("a", "x", "V", points=(PlannedPoint("cell", 1.5, 0.01),))) == "cell = 1.500 ± 0.010 V"
    )
    lines = dict(ready_lines(Plan("Light"), [("lux", ""), ("pull", ""), ("a0", "")]))["Measure"]
    assert [line.rpartition("straight line")[2] for line in lines[1::2]] == [", in lx", ", in N", ""]


def test_an_old_calibration_a_bad_check_and_a_history_are_told(lesson: OpenLesson) -> None:
    sensor = lesson.store.plan.sensors[0]
    group = give(lesson, "Chalk", (*LABELS, "350 g"), wrong="350 g")
    kit = lesson.store.kit_of(group)
    assert kit is not None
    lesson.calibrating.keep_calibrations([group], "load")
    assert quality(lesson.store, lesson.sensors, kit, sensor)[1:3] == ("check bad", "red")
    for days in (400, 60):
        lesson.calibrating.keep_calibrations([group], "load")
        made_at = (datetime.now().astimezone() - timedelta(days=days)).isoformat()
        lesson.book.amend("calibration", lesson.book.rows("calibration")[-1]["id"], made_at=made_at)
        lesson.store.refresh("calibration")
    found = lesson.calibrating.history(kit, "load")
    assert len(found) == 3
    assert found[-1].off == 0
    assert "That is old: the plan allows 30 days." in sentence_words(lesson, group, curve_shown(lesson, group, sensor), sensor)[1]  # fmt: skip
    point = next(p for p in lesson.store.points(kit, "load") if p.check)
    lesson.calibrating.set_aside_point(point.id, "the scale was read wrongly")
    lesson.calibrating.keep_calibrations([group], "load")
    lesson.book.amend("calibration", lesson.book.rows("calibration")[-1]["id"], made_at=found[-1].made_at.isoformat())
    lesson.store.refresh("calibration")
    assert quality(lesson.store, lesson.sensors, kit, sensor)[1:3] == ("old · 60 days", "amber")


def test_how_steady_it_is_is_said_in_words() -> None:
    base = Steadiness(0.0, 0.1, 0.01, 1.0, 100.0, 0.2, 50, 40.0, 1.0, 1.0, limits=Limits(0.5, 2.0))
    said = [
        steady_line(each)[0]
        for each in (
            None, Steadiness(), replace(base, seconds=4.2), replace(base, expected=7.4),
            replace(base, expected=300.0), replace(base, expected=math.inf), base,
        )
    ]  # fmt: skip
    assert said == [
        "nothing heard", "nothing heard", "steady for 4 s", "settling, steady in about 7 s", "settling, steady in about 5 min",
        "drifts without end", "still moving",
    ]  # fmt: skip
    assert inside_limits(base) is None
    assert inside_limits(replace(base, seconds=4.0)) == (100.0 - 3.5, 100.0 + 3.5)


NUMBERS = st.floats(-1e9, 1e9, allow_nan=False).map(lambda x: float(f"{x:.9g}"))
UNCERTAIN = st.floats(1e-6, 1e3).map(lambda x: float(f"{x:.9g}"))


@given(
    st.lists(st.tuples(NUMBERS, UNCERTAIN, NUMBERS, UNCERTAIN, st.booleans()), min_size=1, max_size=8),
    st.sampled_from([",", ";", "\t"]), st.booleans(), st.booleans(),
)  # fmt: skip
def test_a_file_of_points_is_read_however_people_write_it(
    tmp_path_factory: pytest.TempPathFactory, rows: list, mark: str, commas: bool, units: bool
) -> None:
    commas = commas and mark != ","
    heads = ["Reading", "u_reading", "reference", "u reference", "check"]
    if units:
        heads[0], heads[2] = "reading (counts)", "Reference [N]"
    out = io.StringIO()
    writer = csv.writer(out, delimiter=mark)
    writer.writerow(heads)
    for *numbers, check in rows:
        texts = [repr(number) for number in numbers]
        writer.writerow([*(t.replace(".", ",") if commas else t for t in texts), "yes" if check else ""])
    path = tmp_path_factory.mktemp("points") / "points.csv"
    path.write_text(out.getvalue(), "utf-8-sig")
    found = points_from(path)
    assert (found.unit, found.raw_unit) == (("N", "counts") if units else ("", ""))
    assert [(p.reading, p.u_reading, p.reference, p.u_reference, p.check) for p in found.points] == rows


def test_points_of_another_kind_of_file_are_refused(tmp_path: Path) -> None:
    with pytest.raises(CalibrationTrouble, match="cannot be read"):
        points_from(tmp_path)
    assert len(points_of(LINE, np.random.default_rng(1))) == 4
    path = tmp_path / "own.csv"
    rows = "\n".join(f"{p.reading},{p.reference}" for p in points_of(LINE, np.random.default_rng(1)))
    path.write_text(f"# made by hand\n\nreading,reference\n{rows}\n\n")
    assert len(points_from(path).points) == 4
    assert [p.label for p in points_from(path).points] == ["line 4", "line 5", "line 6", "line 7"]
    assert msgspec.to_builtins(points_from(path).points[0])["u_reading"] == 0.0
