"""Runs and what belongs to them: rules, moments, spans, conditions, findings, and the way back for each."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.lesson.lesson import OpenLesson, lesson_summary
from common_bench.lesson.reading_words import sure_words
from common_bench.lesson.words import age_words, bench_words, capital, kit_words, path_words
from common_bench.model.block import Block
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, PoolTrouble, Trouble
from common_bench.record.rules import Rule
from waiting import Class

School = Callable[..., Class]


@given(
    st.lists(st.floats(0.001, 0.5), min_size=1, max_size=200),
    st.floats(0.1, 20),
    st.lists(st.integers(1, 50), max_size=20),
)
def test_a_run_ends_at_the_same_reading_however_blocks_are_cut(
    steps: list[float], seconds: float, sizes: list[int]
) -> None:
    t = np.concatenate([[0.0], np.cumsum(steps)])
    rule = Rule.of(RulePlan(seconds))

    def ended(borders: list[int]) -> int | None:
        for low, high in zip(borders, borders[1:], strict=False):
            part = t[low:high]
            block = Block(part, part, part, np.arange(low, high), np.zeros(len(part), bool), {}, part)
            row = rule.ends_at(block, 0.0)
            if row is not None:
                return low + row
        return None

    cuts = sorted({0, len(t), *(int(at) for at in np.cumsum(sizes) if at < len(t))})
    assert ended(cuts) == ended([0, len(t)])
    after = np.flatnonzero(t >= seconds)
    assert ended([0, len(t)]) == (int(after[0]) if len(after) else None)
    assert Rule().ends_at(Block(t, t, t, np.arange(len(t)), np.zeros(len(t), bool), {}, t), 0.0) is None


def test_everything_a_person_changes_can_be_taken_back(school: School) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.record(3.0)
    first, second = lesson.store.kept_runs()
    before = {table: lesson.book.rows(table) for table in ("run", "condition_value", "run_condition", "bench", "moment", "pooled", "group")}  # fmt: skip
    group = made.group["Basalt"]
    changes = [
        lesson.planning.set_condition(group, "length", "0.7 m"),
        lesson.working_up.set_run_condition(first.id, "length", "71 cm"),
        lesson.working_up.set_aside_run(second.id, "the cat"),
        lesson.recording.mark(first.id, 1.5, "bumped"),
        lesson.register.add_groups(["Tuff", "Shale"]),
        lesson.roster.give_kit(lesson.store.kit_of(group) or 0, made.group["Chalk"]),
        lesson.pooling.open_pool(opened=True),
    ]
    assert lesson.store.conditions(group)["length"].u == 0.003, "the plan's uncertainty is taken"
    assert str(lesson.store.run_conditions(first.id)["length"]) == "0.710 ± 0.003 m"
    assert [run.id for run in lesson.store.kept_runs()] == [first.id]
    assert [moment.text for moment in lesson.store.moments(first.id)] == ["bumped"]
    assert lesson.store.kit_of(group) is None
    assert lesson.store.pool_open
    for change in reversed(changes):
        lesson.changes.undo(change)
    for table, rows in before.items():
        assert lesson.book.rows(table) == rows, table
    for change in changes:
        lesson.changes.redo(change)
    assert len(lesson.store.groups) == 4
    kept = lesson.book.rows("change")
    assert {row["state"] for row in kept} == {"done"}
    assert [row["label"] for row in kept[-7:]] == [change.label for change in changes]


def test_what_cannot_be_done_with_runs_is_refused_in_words(school: School) -> None:
    made = school(count=1)
    lesson, group = made.lesson, made.group["Basalt"]
    assert lesson.recording.begin_runs([group]) == [group]
    assert lesson.recording.begin_runs([group]) == [], "no second run at once"
    made.world(2)
    open_run = lesson.store.runs(group)[-1]
    with pytest.raises(Trouble, match="still being recorded"):
        lesson.working_up.replayed(open_run.id)
    kit = lesson.store.kit_of(group)
    assert kit is not None
    format = lesson.roster.kits[kit].format
    assert format is not None
    with pytest.raises(PlanTrouble, match="during its run"):
        lesson.roster.read_as(kit, format)
    lesson.recording.end_runs([group])
    made.until(lambda: lesson.store.kept_runs(), "it is kept")
    run = lesson.store.kept_runs()[0]
    with pytest.raises(PoolTrouble, match="has no finding yet"):
        lesson.pooling.send_to_pool([run.id])
    with pytest.raises(PoolTrouble, match="a reason is missing"):
        lesson.working_up.set_aside_run(run.id, "  ")
    with pytest.raises(PlanTrouble, match="no condition"):
        lesson.planning.set_condition(group, "colour", "1 m")
    with pytest.raises(Trouble, match="cannot be turned into"):
        lesson.planning.set_condition(group, "length", "3 kg")
    with pytest.raises(PlanTrouble, match="cannot be the alias"):
        lesson.register.add_groups(["basalt"])
    summary = lesson_summary(lesson)
    assert summary["groups"][0]["runs"][0]["ended_by"] == "ended by hand"
    assert summary["groups"][0]["runs"][0]["bytes"] > 500


def test_benches_and_stages_say_how_they_stand(school: School) -> None:
    made = school(count=3)
    lesson, group = made.lesson, made.group["Chalk"]
    assert path_words(lesson)["plug"] == "3 of 3 kits heard"
    assert path_words(lesson)["record"] == "0 of 9 runs"
    assert bench_words(lesson, group, "plan").line.startswith("length 0.6")
    made.until(lambda: "lines/s" in bench_words(lesson, group, "plug").line, "the rate is told")
    assert bench_words(lesson, group, "plug").unit == "raw"
    assert bench_words(lesson, group, "work").line == "none yet"
    assert bench_words(lesson, group, "pool").tone == "red"
    lesson.recording.begin_runs([group])
    made.world(2)
    assert bench_words(lesson, group, "record").line.startswith("run 1 · 0:0")
    lesson.recording.end_runs([group])
    made.until(lambda: lesson.store.kept_runs(group), "it is kept")
    assert bench_words(lesson, group, "record").line == "ready · 1 kept"
    assert bench_words(lesson, group, "work").line == "1 kept"
    made.kits.order(kits=["Chalk"], fault="silent")
    made.until(lambda: bench_words(lesson, group, "plug").line.startswith("silent"), "silence is told")
    assert bench_words(lesson, group, "plug").value == "—"
    kit = lesson.store.kit_of(group)
    assert kit is not None
    assert kit_words(lesson, kit).needs_you
    assert "silent for" in kit_words(lesson, kit).line
    made.kits.order(kits=["Chalk"], fault="unplug")
    made.until(lambda: bench_words(lesson, group, "calibrate").line == "unplugged", "the loss is told")
    assert kit_words(lesson, kit).line == "the cable is out"
    lesson.changes.do(
        "Take the kit away", [lesson.book.changed("bench", lesson.store.rows("bench")[1]["id"], kit=None)]
    )
    assert bench_words(lesson, group, "record").line == "no kit"


def test_words_for_ages_sureness_and_beginnings() -> None:
    from datetime import datetime, timedelta

    today = datetime.now().astimezone()
    assert age_words(today.isoformat()) == "today"
    assert age_words((today - timedelta(days=1)).isoformat()) == "1 day"
    assert age_words((today - timedelta(days=6)).isoformat()) == "6 days"
    assert [sure_words(StreamFormat(";", (), sure=s)) for s in (1.0, 0.85)] == ["sure", "so far"]
    assert sure_words(StreamFormat(";", (), by_hand=True)) == "set by hand, so it stands"
    assert sure_words(StreamFormat(";", (), question="which?")) == "two readings are equally likely"
    assert capital("the kit waits.") == "The kit waits."
    assert capital("") == ""


def test_a_book_without_kits_opens_and_says_so(tmp_path: Path) -> None:
    lesson = OpenLesson.make(tmp_path / "empty.benchbook", Plan("Nothing yet"), "", [])
    assert path_words(lesson) == {
        "plan": "empty", "plug": "0 of 0 kits heard", "calibrate": "nothing to calibrate", "record": "0 of 0 runs",
        "work": "0 findings", "pool": "sealed · 0 of 0 in",
    }  # fmt: skip
    assert lesson.recording.begin_runs([]) == []
    with pytest.raises(PoolTrouble, match="no finding that a class could pool"):
        lesson.pooling.class_result()
    lesson.close()
    lesson.close()
