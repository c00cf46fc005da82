"""Point by point: what may be taken and what not, the way back, and the same numbers from the bytes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.plan_checking import faults_of
from common_bench.lesson.point_words import bench_dots, point_rows, so_far_words, state_words
from common_bench.lesson.rule_text import RuleText, rule_text, with_rule
from common_bench.model.plan import RulePlan
from common_bench.model.plan_file import shipped_plan
from common_bench.model.trouble import PlanTrouble, Trouble
from common_bench.standins.control import StandInProcess
from waiting import Class

SPEED_HERE = 8.0
KEY = "stretching-springs"


@pytest.fixture
def springs(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> Class:
    kits = stand_ins(count=2, world_speed=SPEED_HERE, class_name=KEY)
    lesson = prepared_lesson(tmp_path / "springs.benchbook", speed=SPEED_HERE, count=2, class_name=KEY)
    plug_in(lesson, kits.folder)
    made = Class(lesson, kits)
    made.heard()
    return made


def test_points_are_taken_once_all_stands_still_again_on_demand_and_come_back_from_the_bytes(springs: Class) -> None:
    made, lesson = springs, springs.lesson
    taking, (one, two) = lesson.point_taking, list(springs.group.values())
    assert taking.state(one).state == "no-run"
    assert taking.take([one])[1] == {one: "no-run"}
    lesson.recording.begin_runs([one, two])
    values = taking.values

    def take(value: float, group: int) -> bool:
        return bool(taking.take([group], value)[0])

    for at, value in enumerate(values[:3]):
        assert taking.next_value(one) == value
        made.hang(f"{value:g} g", settle=0.5)
        if at:
            assert taking.take([one])[0] == [], "it still swings"
            assert taking.state(one).state in ("moves", "not-moved")
        for group in (one, two):
            made.until(lambda v=value, g=group: taking.at(g, v) is not None or take(v, g), f"{value} g is taken")
    until, seen = lesson.engine.now() + 30, set[str]()

    def stands_there() -> bool:
        seen.add(taking.state(one).state)
        return lesson.engine.now() > until and taking.state(one).state == "not-moved"

    made.until(stands_there, "it stands there for long")
    assert "steady" not in seen, "what hangs there was taken already, however long ago"
    assert taking.take([one])[0] == []
    done, _, all_the_same = taking.take([one], unmoved=True)
    assert done == [one], "a person may say so"
    lesson.changes.undo(all_the_same)
    made.until(lambda: "set the next" in state_words(taking.state(one)), "the next is asked for")
    assert bench_dots(taking, one).count("●") == 3
    heads, rows = point_rows(lesson, one)
    assert heads == ["mass", "stretch (mm)", "force (N)"]
    assert rows[1][0] == "50 g"
    assert rows[3][1] == ("next", "copper")
    assert so_far_words(lesson, one).startswith("stiffness = ")
    first = taking.at(one, values[2])
    change = taking.take_again(one)
    assert taking.next_value(one) == values[2]
    lesson.changes.undo(change)
    assert taking.at(one, values[2]) == first
    lesson.changes.redo(change)
    made.until(lambda: taking.at(one, values[2]) is not None or take(values[2], one), "it is taken again")
    assert len(taking.taken(one)) == 4, "the first is kept, set aside"
    for value in values[3:]:
        made.hang(f"{value:g} g", settle=1)
        made.until(lambda v=value: taking.at(one, v) is not None or take(v, one), f"{value} g")
    made.until(lambda: lesson.store.kept_runs(one), "with the last point the run ends by itself")
    assert lesson.roster.recording(two)
    (run,) = lesson.store.kept_runs(one)
    assert run.ended_by == "ended by rule, all 8 points"
    (finding,) = lesson.store.findings(run.id)
    spring = next(b for b in made_benches() if b.alias == "Basalt")
    assert abs(finding.measured.value - 1000 / spring.compliance) < 4 * finding.measured.u
    seen = taking.so_far(one)["stiffness"]
    assert abs(seen.value - finding.measured.value) < 3 * finding.measured.u, "as it was seen while it was taken"
    path = lesson.book.path
    lesson.recording.end_runs([two])
    made.until(lambda: lesson.store.kept_runs(two), "it ends with three points")
    lesson.close()
    again = OpenLesson.open(path, readonly=True)
    (worked,) = again.working_up.worked_up(run.id, None)
    assert worked.measured == finding.measured, "to the last bit from the bytes"
    assert len(again.store.findings(again.store.kept_runs(two)[0].id)) == 1
    again.close()


def made_benches() -> list:
    from common_bench.standins.world import world_of

    return list(world_of(KEY).benches(2, 9))


def test_a_plan_by_points_is_written_read_and_refused_in_words() -> None:
    plan = shipped_plan(KEY)
    assert faults_of(plan) == []
    assert plan.in_use[1] == "mass = calibrated mass"
    assert [each.name for each in plan.stated] == ["coils"]
    text = rule_text(plan)
    assert text.begins == "point by point over mass"
    assert with_rule(plan, text).rule == plan.rule
    assert with_rule(plan, RuleText("at once", "0", "after 3 s", "2")).rule == RulePlan(3.0)
    for begins, code in (("point by point over coils", "points-without-values"), ("point by point over colour", "no-such-condition")):  # fmt: skip
        with pytest.raises(PlanTrouble) as raised:
            with_rule(plan, RuleText(begins, "0", "", "1"))
        assert raised.value.code == code


def test_without_points_in_the_plan_nothing_is_taken(springs: Class) -> None:
    lesson, group = springs.lesson, next(iter(springs.group.values()))
    with pytest.raises(Trouble, match="no point that could be taken again"):
        lesson.point_taking.take_again(group)
    plan = with_rule(lesson.store.plan, RuleText("at once", "0", "after 3 s", "1"))
    lesson.planning.change_plan(plan, "Another rule")
    with pytest.raises(PlanTrouble, match="set point by point"):
        lesson.point_taking.take([group])
    assert np.isnan(lesson.point_taking.state(group).expected)
