"""Calibrating as a class does it, on stand-in kits: taking, waiting, keeping, comparing, applying to old runs."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest

from common_bench.calibrate.judging import check_state
from common_bench.lesson.calibrating import Taking
from common_bench.lesson.calibration_words import (
    curve_shown,
    grid_rows,
    point_words,
    report,
    sentence_words,
    steady_line,
)
from common_bench.lesson.exporting import export_all
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.words import bench_words, path_words
from common_bench.model.calibration import PlannedPoint
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.plan_file import shipped_plan
from common_bench.model.trouble import CalibrationTrouble, PoolTrouble, Trouble, UnitTrouble
from common_bench.standins.control import StandInProcess
from waiting import Class, is_steady

School = Callable[..., Class]


def until(made: Class, met: Callable[[], object], what: str, meanwhile: Callable[[], object]) -> None:
    """Waits, doing what the window does a few times a second."""

    def turn() -> object:
        meanwhile()
        return met()

    made.until(turn, what)


def told(taking: Taking, group: int) -> str:
    """Why a bench waits, in words."""
    why = taking.waiting.get(group)
    return why.what if why is not None else ""


def take(made: Class, label: str, groups: list[int] | None = None) -> None:
    """Hangs something, waits until all have moved, and takes it on all benches as they become steady."""
    made.hang(label)
    taking = made.lesson.taking()
    taking.about("load", label)
    taking.take(groups)
    until(
        made, lambda: not taking.missing() if groups is None else not taking.waiting, f"{label} is taken", taking.follow
    )


def test_steady_benches_have_the_point_and_the_rest_follow_as_they_become_steady(school: School) -> None:
    made = school(count=3)
    lesson, groups = made.lesson, list(made.group.values())
    first, second, third = groups
    made.hang("nothing")
    made.hang("bottle", "Chalk", settle=3.0)
    taking = lesson.taking()
    taking.about("load", "nothing")
    made.until(lambda: is_steady(lesson, first), "Basalt is steady")
    made.until(lambda: is_steady(lesson, third), "Flint is steady")
    assert set(taking.take()) == {first, third}
    assert taking.waiting == {second: CalibrationTrouble("is-not-steady")}
    assert taking.follow() == []
    rows = grid_rows(lesson, lesson.store.plan.sensors[0], taking)
    assert "follows" in str(rows[1][-1])
    made.kits.order(kits=["Chalk"], hang="nothing")
    until(made, lambda: lesson.calibrating.has_point(second, "load", "nothing"), "Chalk follows", taking.follow)
    assert taking.waiting == {}
    # Nothing has been changed on the cell: the next point would have the reading of the last one.
    taking.about("load", "100 g")
    assert taking.take() == []
    assert {why.what for why in taking.waiting.values()} == {"reads as it did at “nothing”"}
    taking.about("load", "200 g")
    assert taking.waiting == {}, "another point lets those that waited go"
    point = lesson.store.points(lesson.store.kit_of(first), "load")[0]
    assert len(point.readings.raw) == point.n > 50
    assert point.board == pytest.approx(21.5, abs=1.0)
    assert 0 < point.u_reading < point.scatter
    assert " readings, as good as " in point_words(point)
    with pytest.raises(CalibrationTrouble, match="names no reference points"):
        lesson.taking().take()


@pytest.mark.parametrize(("count", "alias"), [(4, "Gneiss"), (2, "Chalk")])
def test_a_bench_that_waits_is_not_given_the_point_once_the_others_hold_something_else(
    school: School, count: int, alias: str
) -> None:
    made = school(count=count)
    lesson, late = made.lesson, made.group[alias]
    taking = lesson.taking()
    made.hang("100 g")
    made.hang("bottle", alias, settle=3.0)
    taking.about("load", "100 g")
    taking.take()
    until(made, lambda: taking.missing() == [late], "the others have it", taking.follow)
    made.kits.order(kits="all", hang="200 g")
    until(made, lambda: "has moved" in told(taking, late), "it is told", taking.follow)
    made.until(lambda: is_steady(lesson, late), "it hangs still, with the next mass")
    assert taking.follow() == []
    assert taking.missing() == [late]
    made.hang("100 g", alias)
    made.until(lambda: is_steady(lesson, late), "it has the right one")
    assert taking.take([late]) == [late], "a person may still say so"


def test_a_bench_that_was_not_heard_gets_what_it_missed_while_the_others_still_rest_there(school: School) -> None:
    made = school(count=3)
    lesson, (first, lost, _) = made.lesson, made.group.values()
    taking, caught_up = lesson.taking(), dict[int, str]()

    def meanwhile() -> None:
        taking.follow()
        caught_up.update(taking.catch_up())

    for label, comes_back in (("100 g", "while they rest"), ("nothing", "too late")):
        taking.about("load", label)
        made.kits.order(kits=["Chalk"], fault="unplug")
        made.until(lambda: not lesson.roster.is_heard(lost), "its cable is out")
        made.hang(label, settle=0.5)
        taking.take()
        until(made, lambda: taking.missing() == [lost], "the others have it", meanwhile)
        taking.go_on_to("200 g")
        if comes_back == "too late":
            made.hang("200 g", settle=0.5)
            made.until(lambda: is_steady(lesson, first), "one hangs still")
            assert taking.take([first]) == [first]
        made.kits.order(kits=["Chalk"], fault="plug")
        made.until(lambda: lesson.roster.is_heard(lost), "it is back")
        if comes_back == "while they rest":
            until(made, lambda: caught_up, "it catches up", meanwhile)
            assert (caught_up, lesson.calibrating.has_point(lost, "load", label)) == ({lost: label}, True)
        else:
            made.until(lambda: is_steady(lesson, lost), "it hangs still, with what the others have now")
            assert (taking.catch_up(), taking.missed) == ({}, {})
            assert not lesson.calibrating.has_point(lost, "load", label)


def test_points_can_be_taken_by_themselves_and_early_with_a_reason(school: School) -> None:
    made = school(count=2)
    lesson = made.lesson
    taking = replace(lesson.taking(), automatic=True)
    taking.about("load", "nothing")
    made.kits.order(kits="all", hang="nothing")
    until(made, lambda: not taking.missing(), "taken by itself", taking.follow)
    made.hang("bottle", settle=4.0)
    taking.about("load", "100 g")
    assert taking.follow() == []
    first = made.group["Basalt"]
    assert taking.take([first], "the bottle will not come to rest") == [first]
    early = lesson.store.points(lesson.store.kit_of(first), "load")[-1]
    assert early.reason == "the bottle will not come to rest"
    assert early.u_reading > 1000, "it says how badly it is known"
    with pytest.raises(PoolTrouble, match="a reason is missing"):
        lesson.calibrating.set_aside_point(early.id, "")


def test_keeping_history_age_and_a_bench_that_is_trusted(school: School) -> None:
    made = school(count=3)
    lesson, groups = made.lesson, list(made.group.values())
    with pytest.raises(CalibrationTrouble, match="needs 2 points, 0 taken"):
        lesson.calibrating.keep_calibrations(groups, "load")
    for label in ("nothing", "300 g", "350 g"):
        take(made, label)
    kit = lesson.store.kit_of(groups[0])
    assert kit is not None
    assert curve_shown(lesson, groups[0], lesson.store.plan.sensors[0]).new
    assert lesson.calibrating.keep_calibrations(groups, "load") == groups
    assert path_words(lesson)["calibrate"] == "3 of 3 good"
    assert bench_words(lesson, groups[0], "calibrate").tone == "good"
    ready = lesson.sensors.applied(groups[0], "load")
    assert ready is not None
    check = next(point for point in ready.calibration.points if point.check)
    assert check_state(ready, check) == "good"
    assert all(not point.readings.raw for point in ready.calibration.points), "readings stay with their own rows"
    # Co-calibration: Basalt is trusted, Chalk gets its points from what Basalt reads.
    made.hang("200 g")
    held = PlannedPoint("beside Basalt", 0.0, 0.001)
    made.until(lambda: all(is_steady(lesson, group) for group in groups[:2]), "steady")
    taken, why = lesson.calibrating.take_points(groups, "load", held, against=groups[0])
    assert set(taken) <= set(groups[1:])
    point = lesson.store.points(lesson.store.kit_of(taken[0]), "load")[-1]
    assert point.against == "Basalt"
    assert point.reference == pytest.approx(1.962, abs=0.02)
    assert point.u_reference > 0
    assert groups[0] not in why
    # While the reference moves nobody is given a point against it, and nothing is said more than once.
    made.kits.order(kits=["Basalt"], hang="bottle")
    made.until(lambda: is_steady(lesson, groups[0]) is False, "the reference swings")
    beside = replace(lesson.taking(), automatic=True, against=groups[0])
    beside.about("load", "100 g")
    assert beside.follow() == []
    with pytest.raises(CalibrationTrouble, match="Basalt, the reference, is not steady"):
        beside.take()
    lesson.calibrating.keep_calibrations([groups[0]], "load")
    history = lesson.calibrating.history(kit, "load")
    assert len(history) == 2
    assert history[-1].off == 0
    assert abs(history[0].off) <= 3 * np.hypot(history[0].u, history[1].u)
    lesson.planning.change_sensor("load", "Tell old ones", old_after=5)
    row = lesson.store.rows("calibration")[-1]
    lesson.book.amend("calibration", row["id"], made_at="2026-01-02T03:04:05+01:00")
    lesson.store.refresh("calibration")
    assert bench_words(lesson, groups[0], "calibrate").line.startswith("old")
    assert path_words(lesson)["calibrate"] == "2 of 3 good"
    text = report(
        lesson, groups[0], curve_shown(lesson, groups[0], lesson.store.plan.sensors[0]), lesson.store.plan.sensors[0]
    )
    assert "E_n = " in text
    assert "tension = " in text
    assert "old" in sentence_words(lesson, groups[0], curve_shown(lesson, groups[0], lesson.store.plan.sensors[0]), lesson.store.plan.sensors[0])[1]  # fmt: skip


def heard_in(lesson: OpenLesson) -> dict[int, bytes]:
    """All that was heard, by session."""
    found: dict[int, bytes] = {}
    for row in sorted(lesson.book.rows("journal", what="bytes"), key=lambda row: row["first_byte"]):
        found[row["session"]] = found.get(row["session"], b"") + row["bytes"]
    return found


def test_a_new_calibration_goes_to_old_runs_only_on_request_and_can_be_taken_back(
    school: School, tmp_path: Path
) -> None:
    made = school(count=2)
    lesson, groups = made.lesson, list(made.group.values())
    for label in ("nothing", "100 g", "300 g"):
        take(made, label)
    lesson.calibrating.keep_calibrations(groups, "load")
    lesson.planning.edit_workings(["tension = calibrated load", "pull = mean of tension"])
    plan = msgspec.structs.replace(
        lesson.store.plan, findings=("pull",), rule=msgspec.structs.replace(lesson.store.plan.rule, seconds=4.0)
    )
    lesson.planning.change_plan(plan, "Measure the pull")
    made.hang("350 g", settle=3.0)
    lesson.recording.begin_runs(groups)
    until(made, lambda: len(lesson.store.kept_runs()) == 2, "the runs are kept", lesson.tick)
    run = lesson.store.kept_runs(groups[0])[0]
    before = lesson.store.findings(run.id)[0]
    assert before.measured.value == pytest.approx(3.43, abs=0.05)
    assert "outside the calibration: a guess" in before.how
    beyond = next(share for share in before.made_of if share.name.startswith("outside"))
    assert beyond.u > 0
    assert lesson.applying.preview_later("load").result() == []
    heard = heard_in(lesson)
    lesson.pooling.send_to_pool([run.id])
    assert lesson.store.pool_rows()[0].note == "in part outside the calibration: a guess"
    lesson.planning.add_point("load", "400 g = 3.923 ± 0.004 N")
    take(made, "350 g")
    take(made, "400 g")
    lesson.calibrating.keep_calibrations(groups, "load")
    assert lesson.store.findings(run.id)[0] == before, "a run keeps what it was made with"
    found = lesson.applying.preview_later("load").result()
    assert [each.run.id for each in found] == [each.id for each in lesson.store.kept_runs()]
    assert lesson.store.findings(run.id)[0] == before, "looking changes nothing"
    change = lesson.applying.apply(found)
    after = lesson.store.findings(run.id)[0]
    assert after.measured != before.measured
    assert after.measured == found[0].after[0].measured
    assert "guess" not in after.how
    assert after.measured.u < before.measured.u
    pooled = lesson.store.pool_rows()[0]
    assert pooled.findings["pull"] == after.measured
    assert pooled.note.startswith("calibrated afterwards")
    now_there = heard_in(lesson)  # more has come, and rows may have been packed
    assert all(now_there[session].startswith(raw) for session, raw in heard.items()), "raw bytes stay as they are"
    files = export_all(lesson, tmp_path / "out").files
    assert "calibrated afterwards" in next(f for f in files if f.name == "findings.csv").read_text("utf-8")
    assert "calibrated afterwards" in next(f for f in files if f.name == "pool.csv").read_text("utf-8")
    assert lesson.applying.preview_later("load").result() == []
    lesson.changes.undo(change)
    assert lesson.store.findings(run.id)[0] == before
    assert "afterwards" not in lesson.store.pool_rows()[0].note
    lesson.changes.redo(change)
    assert lesson.store.findings(run.id)[0] == after
    with pytest.raises(CalibrationTrouble, match="no earlier run would change"):
        lesson.applying.apply([])
    # What lies outside the points is marked in the exports of a run, too.
    lesson.changes.undo(change)
    files = export_all(lesson, tmp_path / "again").files
    assert "tension is a guess" in next(f for f in files if f.name == "basalt-run-1.csv").read_text("utf-8")


def test_bad_sensors_and_bad_references_are_told_and_lose_nothing(school: School) -> None:
    made = school(count=2)
    lesson, first = made.lesson, made.group["Basalt"]
    made.kits.order(kits=["Basalt"], fault="saturated")
    made.kits.order(kits=["Chalk"], fault="silent")
    until(made, lambda: lesson.roster.why_not_ready(made.group["Chalk"]) == "silent", "Chalk is silent", lesson.tick)
    taking = lesson.taking()
    taking.about("load", "nothing")
    until(made, lambda: "at the sensor's end (8388607)" in told(taking, first), "it is at its end", taking.take)
    made.world(6.0)
    assert taking.take() == [], "however long it stays there"
    assert "no kit that is heard" in told(taking, made.group["Chalk"])
    sensor = lesson.store.plan.sensors[0]
    for text, words, kind in (
        ("0.5 ± 0.1 m", "cannot be turned into N", UnitTrouble),
        ("much", "is not a number", UnitTrouble), ("0.5 ± -1 N", "below zero", UnitTrouble),
    ):  # fmt: skip
        with pytest.raises(kind, match=words):
            lesson.planning.set_point("load", 0, reference=text)
    with pytest.raises(CalibrationTrouble, match="zero or below"):
        lesson.planning.add_point("load", "new = 0.5 N")
    with pytest.raises(CalibrationTrouble, match="has a name and a reference"):
        lesson.planning.add_point("load", "0.5 N")
    with pytest.raises(CalibrationTrouble, match="the name of another point"):
        lesson.planning.add_point("load", "100 g = 1 ± 0.1 N")
    assert lesson.store.plan.sensors[0] == sensor
    lesson.planning.add_point("load", "check 250 g = 2.45 ± 0.01 N")
    assert lesson.store.plan.sensors[0].points[-1].check
    lesson.planning.swap_check("load", 5)
    assert not lesson.store.plan.sensors[0].points[-1].check
    lesson.planning.set_point("load", 5, label="a stone", reference="2.5 +- 0.02 N")
    assert lesson.store.plan.sensors[0].points[-1] == PlannedPoint("a stone", 2.5, 0.02)
    lesson.planning.remove_point("load", 5)
    assert lesson.store.plan.sensors[0] == sensor
    lesson.planning.set_limits("load", "0.002 N/s · 0.01 N")
    assert (lesson.store.plan.sensors[0].steady_drift, lesson.store.plan.sensors[0].steady_scatter) == (0.002, 0.01)
    with pytest.raises(CalibrationTrouble, match="a limit is above zero"):
        lesson.planning.set_limits("load", "-1 N/s")
    lesson.planning.set_limits("load", "")
    with pytest.raises(CalibrationTrouble, match="uncertainty is missing"):
        lesson.planning.set_formula("load", "tension = reading * 1 N")
    with pytest.raises(Trouble, match="gives m, not N"):
        lesson.planning.set_formula("load", "tension = reading * 1 m ± 0.5 N")
    lesson.planning.set_formula("load", "reading * 10 µN ± 0.5 N")
    assert lesson.store.plan.sensors[0].formula == "tension = reading * 10 µN"
    lesson.calibrating.keep_calibrations([first], "load")
    kept = lesson.sensors.applied(first, "load")
    assert kept is not None
    assert kept.value(np.array([1e5]))[0] == pytest.approx(1.0)
    with pytest.raises(CalibrationTrouble, match="calibrates no such sensor"):
        lesson.planning.change_sensor("nothing of the kind", "x", curve="power")


def test_a_thermistor_in_a_divider_is_calibrated_in_baths_through_its_chain(school: School) -> None:
    made = school(count=2, class_name="warm-baths")
    lesson, groups = made.lesson, list(made.group.values())
    taking = lesson.taking()
    foretold: list[str] = []
    for label in ("0 °C", "40 °C", "60 °C", "30 °C"):
        made.hang(label, settle=1.5)
        taking.about("probe", label)
        taking.take()

        def follow() -> None:
            foretold.append(steady_line(lesson.sensors.steady(groups[0], "probe"))[0])
            taking.follow()

        until(made, lambda: not taking.missing(), f"{label} is taken", follow)
    assert any(words.startswith("settling, steady in about") for words in foretold)
    lesson.calibrating.keep_calibrations(groups, "probe")
    ready = lesson.sensors.applied(groups[0], "probe")
    assert ready is not None
    assert ready.calibration.curve == "thermistor-three-parameters"
    assert [check_state(ready, point) for point in ready.calibration.points if point.check] == ["good"]
    shares = {source.name for source in ready.series(np.zeros(1), np.array([1500.0])).parts}
    assert {"3.30 ± 0.02 V in voltage", "10000 ± 100 ohm in resistance", "noise of probe"} <= shares
    made.kits.order(kits="all", hang="50 °C")
    made.until(lambda: (v := made.lesson.roster.state(groups[0]).live.latest("temperature")) and abs(v.value - 50) < 0.3, "it shows 50 °C")  # fmt: skip


def test_points_and_what_waits_outlive_a_program_that_is_killed(
    tmp_path: Path, stand_ins: Callable[..., StandInProcess]
) -> None:
    kits = stand_ins(world_speed=6.0, count=1)
    kits.order(kits="all", hang="nothing")
    book = tmp_path / "killed.benchbook"
    code = f"""
import os, signal, time
from pathlib import Path
from common_bench.lesson.demonstration import plug_in, prepared_lesson
lesson = prepared_lesson(Path({str(book)!r}), speed=6.0, count=1)
plug_in(lesson, Path({str(kits.folder)!r}))
taking = lesson.taking()
taking.automatic = True
taking.about("load", "nothing")
while taking.missing():
    lesson.tick(); taking.follow(); time.sleep(0.05)
os.kill(os.getpid(), signal.SIGKILL)
"""
    done = subprocess.run([sys.executable, "-c", code], timeout=60, env={**os.environ}, capture_output=True, text=True)
    assert done.returncode == -signal.SIGKILL, done.stderr
    lesson = OpenLesson.open(book, readonly=True)
    point = lesson.store.points(1, "load")[0]
    assert point.label == "nothing"
    assert len(point.readings.raw) == point.n
    lesson.book.close()


def test_plans_with_their_chains_and_limits_come_back_as_they_were() -> None:
    from common_bench.model.plan_file import plan_from_text, plan_to_text

    plan = shipped_plan("warm-baths")
    assert plan.sensors[0].steps[0].startswith("voltage = ")
    assert plan_from_text(plan_to_text(plan), "here") == plan
    own = Plan(
        "Own", sensors=(SensorPlan("a", "q", "V", "formula", formula="q = reading * 1 V", u=0.1, steady_drift=0.2),)
    )
    assert plan_from_text(plan_to_text(own), "here") == own
