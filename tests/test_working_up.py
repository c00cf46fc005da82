"""From a run to a number that stands up to questions: spans that the plan finds, stretches that are set aside, curves compared, how
a number came about."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Events
from common_bench.model.run import Moment
from common_bench.model.trouble import FindingTrouble, PlanTrouble, PoolTrouble
from common_bench.workup.span_rule import check_span, span_by_rule
from waiting import Class

School = Callable[..., Class]
EVENTS = {"pass": Events(np.array([1.5, 4.0, 9.0]), np.ones(3, bool), {}), "never": Events(np.empty(0), np.empty(0, bool), {})}
MOMENTS = [Moment(1, 1, 3.25, "Let go"), Moment(2, 1, 7.0, "let go")]


@pytest.mark.parametrize(
    ("rule", "span"),
    [
        ("", (0.0, 20.0)),
        ("all", (0.0, 20.0)),
        ("from 2 s to the end", (2.0, 20.0)),
        ("from the beginning to 7,5 s", (0.0, 7.5)),
        ("from pass to 10 s after", (1.5, 11.5)),
        ("from the first pass to the last pass", (1.5, 9.0)),
        ("from 1 s after pass to 2 s before the last pass", (2.5, 7.0)),
        ("from “let go” to 5 s later", (3.25, 8.25)),
        ('from last "let go" to 300 s after', (7.0, 20.0)),
    ],
)
def test_a_span_is_found_as_the_plan_says(rule: str, span: tuple[float, float]) -> None:
    check_span(rule, EVENTS)
    assert span_by_rule(rule, EVENTS, MOMENTS, 20.0) == pytest.approx(span)


@pytest.mark.parametrize(
    ("rule", "code"),
    [
        ("somewhere", "span-not-read"), ("from pass", "span-not-read"), ("from to", "span-not-read"),
        ("from passes to the end", "span-names-nothing"), ("from never to the end", "span-without-event"),
        ("from “bell” to the end", "span-without-event"), ("from 9 s to 3 s", "span-by-rule-empty"),
    ],
)  # fmt: skip
def test_a_span_that_cannot_be_found_is_told_in_words(rule: str, code: str) -> None:
    with pytest.raises((PlanTrouble, FindingTrouble)) as told:
        check_span(rule, EVENTS)
        span_by_rule(rule, EVENTS, MOMENTS, 20.0)
    assert told.value.code == code
    assert told.value.do


@pytest.fixture
def swung(school: School) -> Class:
    """Two calibrated benches with a run each."""
    made = school(count=2)
    made.calibrate()
    made.hang("bottle")
    made.record()
    made.until(lambda: not made.lesson.working_up.is_busy, "all is worked up")
    return made


def test_what_is_set_aside_counts_nowhere_leaves_a_gap_and_comes_back(swung: Class) -> None:
    lesson = swung.lesson
    run = lesson.store.kept_runs()[0]
    (before,) = lesson.store.findings(run.id)
    whole = lesson.working_up.replayed(run.id)
    passes = whole.results["pass"].t
    stretch = float(passes[3] - 0.05), float(passes[3] + 0.05)
    with pytest.raises(PoolTrouble):
        lesson.working_up.leave_out(run.id, stretch, "  ")
    change = lesson.working_up.leave_out(run.id, stretch, "bumped the string")
    again = lesson.working_up.replayed(run.id)
    inside = (whole.t >= stretch[0]) & (whole.t <= stretch[1])
    assert again.t.tolist() == whole.t[~inside].tolist()
    t, values = again.gone["load"]
    assert t.tolist() == whole.t[inside].tolist()
    assert values == pytest.approx(whole.results["tension"].values[inside])
    assert any(low < stretch[0] + 0.03 and high > stretch[1] - 0.03 for low, high in again.gaps), "a gap, never bridged"
    (after,) = lesson.store.findings(run.id)
    assert after.n < before.n, "gaps between events across it are not known"
    assert abs(after.measured.value - before.measured.value) < 4 * (after.measured.u + before.measured.u)
    assert [each.reason for each in lesson.store.run(run.id).setting.left_out] == ["bumped the string"]
    lesson.changes.undo(change)
    assert lesson.store.findings(run.id) == [before]
    assert lesson.working_up.replayed(run.id).t.tolist() == whole.t.tolist()
    lesson.changes.redo(change)
    lesson.working_up.take_in(run.id, 0)
    assert lesson.store.run(run.id).setting.left_out == ()
    (back,) = lesson.store.findings(run.id)
    assert back.measured == before.measured, "to the last bit"
    all_of_it = lesson.working_up.leave_out(run.id, (-1.0, 1e9), "all wrong")
    assert lesson.store.findings(run.id) == []
    assert lesson.store.run(run.id).trouble is not None
    lesson.changes.undo(all_of_it)
    assert lesson.store.findings(run.id)[0].measured == before.measured


def test_the_book_opened_again_gives_the_same_with_what_was_set_aside(swung: Class) -> None:
    lesson = swung.lesson
    run = lesson.store.kept_runs()[0]
    lesson.working_up.leave_out(run.id, (0.0, 3.0), "before it was let go")
    (kept,) = lesson.store.findings(run.id)
    t = lesson.working_up.replayed(run.id).t
    path = lesson.book.path
    lesson.close()
    again = OpenLesson.open(path, readonly=True)
    assert again.working_up.replayed(run.id).t.tolist() == t.tolist()
    assert t[0] > 3.0, "time still counts from where the run began"
    assert again.working_up.worked_up(run.id, kept.span)[0].measured == kept.measured
    again.close()
