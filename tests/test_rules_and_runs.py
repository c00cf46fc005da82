"""Runs and what belongs to them: rules, moments, spans, conditions, findings, and the way back for each."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.lesson.calibration_quality import age_words
from common_bench.lesson.lesson import OpenLesson, lesson_summary
from common_bench.lesson.one_bench import headline
from common_bench.lesson.plan_checking import faults_of
from common_bench.lesson.plan_details import with_detail
from common_bench.lesson.reading_words import sure_words
from common_bench.lesson.run_words import capital, opening_words
from common_bench.lesson.words import bench_words, kit_words, path_words
from common_bench.model.block import Block, Series, Stamped
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, PoolTrouble, Trouble
from common_bench.record.awaited import CLOSE, AwaitedRun, parts_to_begin_at
from common_bench.record.chain import Chain
from common_bench.record.live import LiveWindow
from common_bench.record.replay import replay
from common_bench.record.rules import Rule
from common_bench.record.runs import RunUnderWay
from common_bench.workings.evaluate import check
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


WAITING = [
    # begins, kept from before, ends, what is hung meanwhile, how it ends
    ("when load rises through 250000 counts", 2.0, "after 3 s", "350 g", "ended by rule, 3 s"),
    ("when heavy", 1.0, "after 40 readings or by hand", "350 g", "ended by rule, after 40 readings"),
    ("after 2 s", 0.5, "when load rises through 250000 counts or after 60 s", "350 g", "ended by rule, when load rises through 250000 counts"),
    ("when weight is steady", 0.0, "after 1 heavys", "350 g", "ended by rule, after 1 heavys"),
]  # fmt: skip


@given(st.lists(st.integers(1, 400), max_size=60), st.integers(0, 86_399), st.floats(0.0, 0.4))
@settings(max_examples=25, deadline=None)
def test_a_run_without_an_end_goes_on_over_two_midnights(sizes: list[int], begun: int, late: float) -> None:
    """A kit that tells the time of day, every twenty seconds for fifty hours: one time line, no gap, every reading counted."""
    count, every = 9000, 20
    dice = np.random.default_rng(begun)
    stamps = 100.0 + every * np.arange(count) + late * dice.random(count)
    times = [begun + every * at for at in range(count)]
    lines = [b"%02d:%02d:%02d;%d\n" % (at // 3600 % 24, at // 60 % 60, at % 60, 500 + at // every % 7) for at in times]
    chain, live = Chain(check([], {}), ()), LiveWindow()
    chain.feed([Stamped(float(at), line) for at, line in zip(stamps[:60], lines[:60], strict=True)])
    format = chain.reader.format
    assert format is not None
    assert [each.kind for each in format.columns] == ["time", "number"]
    run = RunUnderWay(1, 1, Rule(), 0, chain.begin_run())
    borders = sorted({60, count, *(60 + int(at) for at in np.cumsum(sizes) if at < count - 60)})
    gaps = 0
    for low, high in zip(borders, borders[1:], strict=False):
        chunks = [Stamped(float(at), line) for at, line in zip(stamps[low:high], lines[low:high], strict=True)]
        flow = chain.feed(chunks, run.ends_in)
        live.add(flow)
        run.take(flow)
        gaps += sum(int(np.count_nonzero(each.block.gap_before)) for each in flow.worked)
        assert run.is_over(live, float(stamps[high - 1])) is None
    assert run.readings == count - 60
    assert gaps == 0
    assert run.seconds == pytest.approx(every * (count - 61), rel=2e-3), "the length of the time that passed"


@pytest.mark.parametrize(("begins", "before", "ends", "hung", "told"), WAITING)
def test_a_run_waits_keeps_what_came_before_and_is_the_same_from_its_bytes(
    school: School, begins: str, before: float, ends: str, hung: str, told: str
) -> None:
    made = school(count=2)
    lesson = made.lesson
    plan = lesson.store.plan
    plan = msgspec.structs.replace(
        with_detail(plan, 0, "raw_unit", "counts"), rule=RulePlan(begins=begins, before=before, ends=ends), findings=(), graph=None, show=(),
        workings=("weight = load", "heavy = rises of load through 240000 counts", "calm = smooth load over 0.3 s", "since = time"),
    )  # fmt: skip
    made.hang("nothing")
    lesson.planning.change_plan(plan, "Another rule")
    assert not lesson.store.faults, lesson.store.faults
    groups = list(made.group.values())
    assert lesson.recording.begin_runs(groups) == groups
    if "steady" not in begins and "after 2" not in begins:
        assert all(lesson.roster.why_not_ready(group) == "waits" for group in groups)
        assert lesson.recording.begin_runs(groups) == [], "it waits already"
        made.world(3)
        assert not lesson.store.kept_runs()
    else:
        made.until(lambda: all(lesson.roster.recording(group) for group in groups), "it begins by itself")
        made.world(1)
    made.hang(hung, settle=0.5)
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "the runs end by their rule")
    assert not any(lesson.roster.busy(group) for group in groups)
    for run in lesson.store.kept_runs():
        assert run.ended_by == told
        live, again = lesson.working_up.replayed(run.id), replay(lesson.book, run, lesson.store.channels)
        assert run.setting is not None
        assert set(live.results) == set(again.results) == {"tension", "weight", "heavy", "calm", "since"}
        for name, series in again.results.items():
            assert np.array_equal(series.t, live.results[name].t)
            if isinstance(series, Series):
                assert np.array_equal(series.values, live.results[name].values, equal_nan=True)
        assert np.allclose(again.results["since"].values, again.t, atol=1e-9)
        assert -before - 1.5 <= again.t[0] <= -before + 0.1
        if begins.startswith("when load rises"):
            crossed = np.interp(0.0, again.t, again.raw["load"])
            assert 230_000 < crossed < 290_000
            assert (again.raw["load"][again.t < -0.1] < 250_000).all()


def test_a_time_of_day_is_met_by_the_clock_as_it_stands_over_summer_time_and_when_it_is_set(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("TZ", "WINTER-1SUMMER,M3.5.0,M10.5.0/3")
    time.tzset()
    try:
        rule = Rule.of(RulePlan(begins="at 08:00", ends="after 20 readings"))
        spring, autumn = datetime(2027, 3, 27, 22, 0), datetime(2027, 10, 30, 22, 0)
        assert rule.begin.wait(spring) == 9 * 3600, "an hour is left out in this night"
        assert rule.begin.wait(autumn) == 11 * 3600, "an hour comes twice in this one"
        waiting = AwaitedRun.asked(1, 1, rule, 100.0, 1.0)
        assert not waiting.is_due(101.0, datetime(2027, 6, 1, 7, 0))
        assert waiting.due == 101.0 + 3600
        assert not waiting.is_due(102.0, datetime(2027, 6, 1, 7, 59, 50)), "the clock was put forward"
        assert waiting.due == 112.0
        assert waiting.is_due(112.0, datetime(2027, 6, 1, 8, 0))
        assert waiting.is_due(113.0, datetime(2027, 6, 1, 7, 0)), "what has come about stays so"
        later = AwaitedRun.asked(1, 1, rule, 100.0, 1.0)
        assert not later.is_due(101.0, datetime(2027, 6, 1, 7, 0))
        assert later.is_due(102.0, datetime(2027, 6, 1, 8, 20)), "the clock was put over its time"
    finally:
        monkeypatch.undo()
        time.tzset()


def test_the_engines_time_goes_on_while_the_machine_sleeps(school: School) -> None:
    engine = school(count=1).lesson.engine
    before, at = engine.now(), time.clock_gettime(time.CLOCK_BOOTTIME)
    time.sleep(0.2)
    passed = (time.clock_gettime(time.CLOCK_BOOTTIME) - at) * engine.speed
    assert engine.now() - before == pytest.approx(passed, abs=0.05 * engine.speed)


def test_a_run_begins_when_its_kit_says_so_or_the_clock_does(school: School) -> None:
    made = school(count=2)
    lesson, groups = made.lesson, list(made.group.values())
    kits = [lesson.store.kit_of(group) for group in groups]

    def rule(begins: str) -> None:
        plan = msgspec.structs.replace(lesson.store.plan, rule=RulePlan(begins=begins, ends="after 20 readings"))
        lesson.planning.change_plan(plan, "Another rule")
        assert lesson.recording.begin_runs(groups) == groups
        made.world(2)
        assert not any(lesson.roster.recording(group) for group in groups), begins

    rule("when the kit sends lamp on")
    for kit in kits:
        lesson.roster.send_data(kit, b"L1")
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "each kit has said it")
    made.kits.order(kits="all", fault="silent")
    made.until(
        lambda: all(lesson.roster.why_not_ready(group) in ("silent", "dead") for group in groups), "they are silent"
    )
    rule("when the kit begins to send")
    made.kits.order(kits="all", fault="talk")
    made.until(lambda: len(lesson.store.kept_runs()) == 4, "with the first readings")
    due = datetime.now() + timedelta(seconds=4)
    rule(f"at {due:%H:%M:%S}")
    assert bench_words(lesson, groups[0], "record").line.startswith("begins in ")
    made.until(lambda: len(lesson.store.kept_runs()) == 6, "at its time")
    assert (
        abs((datetime.fromisoformat(lesson.store.kept_runs()[-1].began_at).replace(tzinfo=None) - due).total_seconds())
        < 3
    )
    for run in lesson.store.kept_runs():
        assert run.ended_by == "ended by rule, after 20 readings"
        assert 20 <= int((lesson.working_up.replayed(run.id).t >= -1e-9).sum()) <= 21, "from where it began"


def test_a_run_that_waits_can_be_called_off_and_a_rule_that_says_nothing_is_refused(school: School) -> None:
    made = school(count=1)
    lesson, group = made.lesson, made.group["Basalt"]
    plan = with_detail(lesson.store.plan, 0, "raw_unit", "counts")
    rule = RulePlan(begins="when load rises through 9000000 counts", before=1.0)
    lesson.planning.change_plan(msgspec.structs.replace(plan, rule=rule), "Another rule")
    lesson.recording.begin_runs([group])
    made.world(1)
    assert bench_words(lesson, group, "record").line == "waits"
    assert headline(lesson, group)[1] == "waits for 9000000 counts"
    lesson.recording.end_runs([group])
    made.until(lambda: not lesson.roster.busy(group), "it is called off")
    made.until(lambda: lesson.store.runs(group)[-1].state == "closed", "that is kept")
    assert lesson.store.runs(group)[-1].ended_by == "called off before it began"
    assert not lesson.store.kept_runs()
    for begins, ends, code in (
        ("soon", "", "rule-not-read"), ("", "after a while", "rule-not-read"), ("at 25:00", "", "no-time-of-day"), ("when jump", "", "rule-without-events"),
        ("", "after 0 pass", "rule-counts-nothing"), ("when wait is steady", "", "rule-without-quantity"), ("when load rises through 4 m", "", "cannot-be-shown-in-unit"),
        ("", "when nothing falls through 4", "nothing-called"), ("after 9999 h", "", "rule-out-of-range"),
    ):  # fmt: skip
        changed = msgspec.structs.replace(plan, rule=RulePlan(begins=begins, ends=ends))
        codes = [fault.trouble.code for fault in faults_of(changed) if fault.part == "rule"]
        assert len(codes) == 1, (begins, ends, codes)
        assert codes[0] in (code, "level-in-another-unit"), (begins, ends, codes)


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


@given(st.lists(st.sampled_from(["begun", "asked"]), max_size=8), st.booleans())
def test_runs_that_were_open_are_told_in_one_sentence_with_what_else_there_is(cases: list[str], other: bool) -> None:
    notices = [Trouble("run-was-open", alias=f"Group{at}", number=at + 1, case=case) for at, case in enumerate(cases)]
    told = opening_words([*notices, *([Trouble("book-brought-up", copy="before.benchbook")] if other else [])])
    assert len(told) == bool(cases) + other
    assert (told and "before.benchbook" in told[0]) == other or not told
    for at in range(min(3, len(cases))):
        assert f"Group{at} run {at + 1}" in told[-1]
    if len(cases) > 4:
        assert f"and {len(cases) - 3} others" in told[-1]
    if len(cases) > 1 and "asked" in cases:
        assert f"{cases.count('asked')} of them had not begun" in told[-1]


@given(st.lists(st.floats(0.0, 0.05), max_size=60), st.integers(0, 3))
def test_what_comes_while_a_run_waits_is_cut_where_it_can_begin_and_nothing_of_it_is_lost(
    steps: list[float], size: int
) -> None:
    chunks = [Stamped(float(at), b"x" * size) for at in np.cumsum(steps)]
    parts = parts_to_begin_at(chunks)
    assert [each for part in parts for each in part] == chunks
    for part, later in itertools.pairwise(parts):
        assert part[-1].at - part[0].at < CLOSE <= later[0].at - part[0].at, "as few as can be, none longer than that"
