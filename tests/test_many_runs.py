"""Many runs that follow other lines by processes of their own; what was heard, given back in larger pieces; a dragged span."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book.heard_again import many_at_once
from common_bench.book.journal import HEARD, LOST
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson import many_runs, runs_in_step
from common_bench.lesson.bring_files import bring_files
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.many_runs import Again, ByPlan, reworked_all
from common_bench.model.block import Arrived, Stamped, bytes_of, stamps_of
from common_bench.model.plan import Plan, SensorPlan
from person import Desk

RUNS, READINGS = 6, 3000
LONG = 800_000  # readings of a run that is still worked up when somebody says stop
LINES = ("swing = peaks in load_now above 20 g, 5 s apart", "period = gap between swing", "usual = mean of period")


@pytest.fixture(scope="module")
def brought(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A book whose runs swing ever slower, the last one not at all."""
    folder = tmp_path_factory.mktemp("brought")
    book = folder / "class.benchbook"
    sensor = SensorPlan("load", "load_now", unit="g", curve="as-it-comes")
    OpenLesson.make(book, Plan("Swings", sensors=(sensor,), show=("load_now",)), "9B", ["Flint"]).close()
    t, files = np.arange(READINGS) * 0.1, []
    for number in range(RUNS):
        values = 100 * np.sin(t / (2 + 0.2 * number)) if number < RUNS - 1 else np.zeros(READINGS)
        files.append(file := folder / f"run{number}.csv")
        file.write_text("time (s),load\n" + "".join(f"{a:.1f},{b:.3f}\n" for a, b in zip(t, values, strict=True)))
    list(bring_files(book, files, "Flint", began="", ended=""))
    return book


@pytest.fixture
def class_of_runs(brought: Path, tmp_path: Path) -> Path:
    """A copy of it that a test may change."""
    return Path(shutil.copy(brought, tmp_path))


def asked_of(lesson: OpenLesson, count: int = RUNS) -> tuple[list[Again], ByPlan]:
    assert len(lesson.store.kept_runs()) == count
    plan = msgspec.structs.replace(
        lesson.store.plan, workings=(*lesson.store.plan.workings, *LINES), findings=("usual",)
    )
    lesson.planning.change_plan(plan, "Other lines")
    asked = [Again(*each, {}) for each in lesson.runs_in_step.behind()]
    return asked, ByPlan(lesson.store.channels, plan.findings, plan.rule.used, plan.findings)


def test_processes_find_what_this_one_does_and_stop_and_end_with_the_program(
    class_of_runs: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    lesson = OpenLesson.open(class_of_runs)
    asked, plan = asked_of(lesson)
    assert len(asked) == RUNS
    never = threading.Event()
    here = reworked_all(lesson.book, asked, plan, never)
    monkeypatch.setattr(many_runs, "WORTH_PROCESSES", 1)
    told: list[int] = []
    there = reworked_all(lesson.book, asked, plan, never, told.append)
    assert told == list(range(1, RUNS + 1))
    assert [each.run.id for each in there] == [each.run.id for each in here]
    assert [each.after for each in there] == [each.after for each in here], "to the last digit"
    assert [each.why_not is None for each in there] == [True] * (RUNS - 1) + [False]
    assert there[-1].why_not is not None
    assert there[-1].why_not.sentence == here[-1].why_not.sentence  # type: ignore[union-attr]
    periods = [each.after[0].measured.value for each in there[:-1]]
    assert periods == pytest.approx([2 * np.pi * (2 + 0.2 * number) for number in range(RUNS - 1)], rel=2e-3)
    stop = threading.Event()
    some = reworked_all(lesson.book, asked, plan, stop, lambda done: stop.set() if done == 2 else None)
    assert len(some) == 2
    deadline = time.monotonic() + 20
    while _children():
        assert time.monotonic() < deadline, "no process is left behind"
        time.sleep(0.1)
    lesson.close()


def _children() -> list[str]:
    own = ["ps", "--ppid", str(os.getpid()), "-o", "args="]
    return [
        each for each in subprocess.run(own, capture_output=True, text=True).stdout.splitlines() if "spawn_main" in each
    ]


def test_runs_that_follow_tell_how_far_and_keep_what_they_have_when_stopped(
    class_of_runs: Path, alone: Callable[[OpenLesson], Desk], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(runs_in_step, "TELLS_AFTER", 0.0)
    t = np.arange(LONG) * 0.1
    long = class_of_runs.with_name("long.csv")
    long.write_text(
        "time (s),load\n" + "".join(f"{a:.1f},{b:.3f}\n" for a, b in zip(t, 100 * np.sin(t / 2), strict=True))
    )
    list(bring_files(class_of_runs, [long], "Flint", began="", ended=""))
    made = alone(OpenLesson.open(class_of_runs))
    lesson = made.lesson
    monkeypatch.setattr(many_runs, "WORTH_PROCESSES", 1)
    made.until(lambda: not lesson.working_up.is_busy, "each is worked up as it is")
    asked_of(lesson, RUNS + 1)
    made.see("The runs follow the plan's lines", made.window)
    made.window.hub.messages.notice._act.click()
    made.until(lambda: not lesson.runs_in_step.is_busy, "it has stopped")
    found = lesson.runs_in_step.last
    assert found is not None
    assert found.left > 0, "stopped before all had followed"
    assert len(lesson.runs_in_step.behind()) >= found.left
    made.see("what they had", made.window)
    made.window.hub.messages.notice._act.click()
    made.until(lambda: len(lesson.runs_in_step.behind()) == 1, "all have followed but the one that does not swing")


def test_findings_follow_a_span_while_it_is_dragged_and_are_kept_when_it_is_let_go(
    class_of_runs: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    lesson = OpenLesson.open(class_of_runs)
    asked_of(lesson)
    while lesson.runs_in_step.is_busy:
        lesson.tick()
    lesson.close()
    made = alone(OpenLesson.open(class_of_runs))
    made.hub.select(made.lesson.store.groups[0].id)
    made.press("5")
    stage = made.window.stage
    assert isinstance(stage, WorkStage)
    run = made.lesson.store.runs()[0].id
    stage._choose_run(run)
    made.until(lambda: made.lesson.working_up.at_hand(run) is not None and stage.graph.isVisible(), "it is read")
    made.until(lambda: "usual" in stage.finding_card.finding.text(), "its finding is shown")
    before, steps = made.lesson.store.findings(run), made.hub.history.count()
    region = stage.graph_card.region
    for end in (250.0, 200.0, 150.0):
        region.lines[1].setValue(end)
        made.until(lambda end=end: f"to {end:.2f} s" in stage.finding_card.words.text(), "it follows")  # type: ignore[misc]
    assert "let go to keep it" in stage.finding_card.words.text()
    region.lines[1].setValue(5.0)
    made.until(lambda: "no finding" in stage.finding_card.finding.text(), "too short, and it says why")
    assert made.lesson.store.findings(run) == before, "nothing is kept"
    assert made.hub.history.count() == steps
    region.lines[1].setValue(150.0)
    region.lineMoveFinished()
    made.until(lambda: made.lesson.store.findings(run)[0].span[1] == 150.0, "it is kept")
    assert made.hub.history.count() == steps + 1
    assert "let go" not in stage.finding_card.words.text()


chunks = st.lists(st.tuples(st.floats(0, 1e4), st.binary(min_size=1, max_size=9)), min_size=1, max_size=12)


@given(st.lists(chunks, max_size=6), st.lists(st.integers(0, 5), max_size=3))
def test_what_was_heard_is_the_same_in_larger_pieces(rows: list[list[tuple[float, bytes]]], lost: list[int]) -> None:
    heard = []
    for place, row in enumerate(rows):
        pieces = [Stamped(*each) for each in row]
        sizes = np.array([len(each.data) for each in pieces])
        made = Arrived(bytes_of(pieces), np.array([each.at for each in pieces]), sizes)
        assert list(made) == pieces
        assert [made[at] for at in range(-len(made), len(made))] == pieces * 2
        assert made[1:] == pieces[1:]
        assert all((one == other).all() for one, other in zip(stamps_of(made), stamps_of(pieces), strict=True))
        heard.append((HEARD, pieces[0].at, made))
        if place in lost:
            heard.append((LOST, 1.0, []))
    once = list(many_at_once(iter(heard)))
    assert [(what, each) for what, _, chunks in once for each in (chunks or [None])] == [
        (what, each) for what, _, chunks in heard for each in (chunks or [None])
    ]
    assert len(once) <= len(heard)
    assert sum(what == LOST for what, _, _ in once) == sum(what == LOST for what, _, _ in heard)


def test_many_runs_that_end_at_once_give_way_to_a_frame_each_and_are_all_worked_up(
    class_of_runs: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    lesson = OpenLesson.open(class_of_runs)
    made = alone(lesson)
    made.press("4")
    frames, working_up = made.window.frames, lesson.working_up
    drawn, seen, draw, way = [0], list[int](), frames._draw, working_up.give_way

    def counted() -> None:
        drawn[0] += 1
        draw()

    def given() -> None:
        way()
        seen.append(drawn[0])

    frames._draw, working_up.give_way = counted, given
    runs = [run.id for run in lesson.store.runs()]
    made.until(lambda: lesson.store.settled is not None and not working_up.is_busy, "what nobody worked up is")
    for run in runs:
        working_up.reopened(run)
    seen.clear()
    working_up.all_ended([(run, None, 1) for run in runs[:1]])
    made.until(lambda: not working_up.is_busy, "one is worked up")
    assert seen == [], "one alone does not wait"
    working_up.all_ended([(run, None, 1) for run in runs[1:]])
    made.until(lambda: not working_up.is_busy, "all are")
    assert len(seen) == len(runs) - 1
    assert sum(after > before for before, after in pairwise(seen)) >= len(seen) - 2, "a frame between two of them"
    frames.stop()
    began = time.monotonic()
    frames.wait_for_one()
    assert time.monotonic() - began < 5, "where nothing is drawn, nobody waits for ever"
