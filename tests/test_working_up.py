"""From a run to a number that stands up to questions: spans that the plan finds, stretches that are set aside, curves compared, how
a number came about."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book.removing import remove_run
from common_bench.lesson.keeping import Keeping
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.origins import line_at, origin, reading_at, reading_words
from common_bench.lesson.worked_runs import Asked, worked_up_of
from common_bench.model.block import Block, Events, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.plan import Plan
from common_bench.model.run import Finding, Moment
from common_bench.model.trouble import FindingTrouble, PlanTrouble, PoolTrouble, Trouble
from common_bench.workings.evaluate import Evaluator, check, gathered
from common_bench.workings.leaving_off import LeftOff
from common_bench.workup.comparing import difference_words
from common_bench.workup.curves import against_others, beside, curves_of, try_curve
from common_bench.workup.outliers import far_readings
from common_bench.workup.span_rule import check_span, span_by_rule
from waiting import PATIENCE, Class, wait_for

School = Callable[..., Class]
EVENTS = {
    "pass": Events(np.array([1.5, 4.0, 9.0]), np.ones(3, bool), {}),
    "never": Events(np.empty(0), np.empty(0, bool), {}),
}
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
    def find() -> None:
        check_span(rule, EVENTS)
        span_by_rule(rule, EVENTS, MOMENTS, 20.0)

    with pytest.raises((PlanTrouble, FindingTrouble)) as told:
        find()
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


def test_what_a_run_gives_is_kept_by_a_thread_that_alone_waits_for_the_book(swung: Class) -> None:
    lesson, store = swung.lesson, swung.lesson.store
    run, other = (each.id for each in store.kept_runs()[:2])
    (before,) = store.findings(run)
    asked = [Asked(store.run(each), None, store.channels, store.plan.findings, True) for each in (run, other)]
    outcomes = [worked_up_of(lesson.book, each) for each in asked]
    longer = replace(outcomes[0], findings=tuple(replace_n(each, 10_000) for each in outcomes[0].findings))
    keeping = Keeping(store)
    with closing(sqlite3.connect(lesson.book.path, isolation_level=None)) as another:
        another.execute("BEGIN IMMEDIATE")  # as the journal does, or a slow disk
        keeping.begin([longer])
        for _ in range(5):
            lesson.tick()
            assert not keeping.has_kept
            assert store.findings(run) == [before], "read all the while, and nothing is seen that is not kept"
        another.execute("ROLLBACK")
    wait_for(lambda: keeping.has_kept, "it is kept")
    (kept,) = keeping.take()
    assert (kept.stands, kept.behind) == (store.run(run), False)
    assert [each.n for each in store.findings(run)] == [10_000]
    store.refresh()
    assert [each.n for each in store.findings(run)] == [10_000], "what is known without reading is what the book has"
    lesson.working_up.leave_out(run, (0.0, 1.0), "bumped")  # it was changed after it had been asked for
    after = store.findings(run)
    seen = lesson.book.row("run", other)
    remove_run(lesson.book, other)
    keeping.begin(outcomes)
    wait_for(lambda: keeping.has_kept, "it has looked")
    assert [(each.stands is not None, each.behind) for each in keeping.take()] == [(True, True), (True, True)], (
        "nothing of what was removed comes back"
    )
    assert store.findings(run) == after
    assert lesson.book.rows("finding", run=other) == []
    gone = [("run", seen)]
    note = lesson.book.changed("run", run, note="written")
    assert not lesson.book.complete_where([note], gone), "all or nothing, where a row is not as it was seen"
    assert store.run(run).note == lesson.book.row("run", run)["note"] == ""
    keeping.close()


def replace_n(finding: Finding, n: int) -> Finding:
    return msgspec.structs.replace(finding, n=n)


def test_a_single_reading_leaves_no_gap_and_a_single_event_leaves_its_readings(swung: Class) -> None:
    lesson = swung.lesson
    run = lesson.store.kept_runs()[0]
    (before,) = lesson.store.findings(run.id)
    whole = lesson.working_up.replayed(run.id)
    lesson.working_up.leave_out_reading(run.id, float(whole.t[300]) + 0.001, "a spike")
    again = lesson.working_up.replayed(run.id)
    assert again.t.tolist() == np.delete(whole.t, 300).tolist()
    assert again.gaps == whole.gaps, "its neighbours stand beside each other"
    assert again.gone["load"][0].tolist() == [whole.t[300]]
    lesson.working_up.take_in(run.id, 0)
    passes = whole.results["pass"].t
    with pytest.raises(PoolTrouble):
        lesson.working_up.leave_out_event(run.id, "pass", float(passes[4]), "")
    with pytest.raises(FindingTrouble):
        lesson.working_up.leave_out_event(run.id, "tension", float(passes[4]), "no event")
    change = lesson.working_up.leave_out_event(run.id, "pass", float(passes[4]) + 0.1, "a gust")
    again = lesson.working_up.replayed(run.id)
    assert again.t.tolist() == whole.t.tolist(), "its readings stay"
    assert again.results["pass"].t.tolist() == np.delete(passes, 4).tolist()
    swing, others = again.results["swing"].values, whole.results["swing"].values
    assert swing[np.isfinite(swing)].max() > 1.8 * np.median(others), (
        "the gap goes over it, as if it had not been found"
    )
    assert [each.words for each in lesson.store.run(run.id).setting.left_out] == [f"pass at {passes[4]:.2f} s"]
    shown = [step.words for step in origin(lesson.book, again, lesson.store.findings(run.id)[0], {})]
    assert f"pass at {passes[4]:.2f} s: a gust" in shown
    lesson.changes.undo(change)
    (back,) = lesson.store.findings(run.id)
    assert back.measured == before.measured


@given(st.lists(st.integers(1, 599), max_size=10), st.sets(st.integers(0, 9), max_size=4))
def test_events_set_aside_are_the_same_however_the_readings_come(cuts: list[int], out: set[int]) -> None:
    t = np.arange(600) * 0.02
    x = np.sin(2 * np.pi * t)
    lines = ("x = calibrated raw", "top = peaks in x above 0.5, 0.4 s apart", "lap = gap between top")
    workings = check(lines, {"raw": ""})
    tops = [0.25 + number for number in range(12)]
    without = [("top", tops[each] - 0.01, tops[each] + 0.01) for each in sorted(out)]

    def of(edges: list[int]) -> dict[str, Series | Events]:
        evaluator, found = Evaluator(workings, 0.0, without), []
        gap = np.zeros(600, bool)
        gap[200] = True
        for low, high in zip(edges, edges[1:], strict=False):
            rows = slice(low, high)
            block = Block(
                t[rows], t[rows], t[rows], np.arange(600)[rows], gap[rows], {"raw": x[rows]}, np.zeros(600)[rows]
            )
            found.append(evaluator.push(block, {"raw": Series(t[rows], x[rows], "")}))
        return gathered(found)

    whole, cut = of([0, 600]), of([0, *sorted(set(cuts)), 600])
    for name in ("top", "lap"):
        assert whole[name].t.tolist() == cut[name].t.tolist()
    assert whole["lap"].values.tolist() == pytest.approx(cut["lap"].values.tolist(), nan_ok=True)
    assert not any(abs(each - tops[place]) < 0.01 for place in out for each in whole["top"].t.tolist())
    assert all(abs(each - round(each)) < 0.01 for each in whole["lap"].values[np.isfinite(whole["lap"].values)])


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


LINES = ("voltage = calibrated a0", "fade = voltage fitted by A * exp(-time / T) + c", "T_found = T of fade")
T = np.arange(0, 12, 0.04)


def fading(noise: float = 0.01, seed: int = 1) -> dict[str, Series]:
    values = 4.5 * np.exp(-T / 2.1) + 0.1 + np.random.default_rng(seed).normal(0, noise, len(T))
    return {"voltage": Series(T, values, "V", {Source("scatter", False): np.full(len(T), noise)})}


def test_a_lesson_that_is_closed_waits_for_no_fit(tmp_path: Path) -> None:
    lesson = OpenLesson.make(tmp_path / "closed.benchbook", Plan("Fading"), "9B", ["Flint"])
    workings, results, begun = check(LINES, {"a0": "V"}), fading(), threading.Event()

    def fits_for_ever() -> None:
        while True:
            with suppress(Exception):  # as nothing may that marks a run with why it has no finding
                curves_of(workings, results, (0.0, 12.0))
            begun.set()

    work = lesson.working_up.submit(fits_for_ever)
    assert begun.wait(PATIENCE)
    assert not work.done()
    lesson.close()
    assert isinstance(work.exception(), LeftOff)
    assert "fade" in curves_of(workings, results, (0.0, 12.0)), "another thread fits as before"


def test_a_curve_says_how_well_it_fits_and_what_others_would_do() -> None:
    workings, results = check(LINES, {"a0": "V"}), fading()
    curve = curves_of(workings, results, (0.0, 12.0))["fade"]
    assert dict(curve.parameters)["T"].startswith("2.09")
    assert curve.words[0].startswith("fits: reduced chi-square")
    assert curve.words[1] == "no pattern in the residuals"
    t, low, high = curve.band
    truth = 4.5 * np.exp(-t / 2.1) + 0.1
    assert np.mean((low - (high - low) / 2 < truth) & (truth < high + (high - low) / 2)) > 0.9, (
        "within two uncertainties"
    )
    others = beside(workings, results, (0.0, 12.0), curve)
    assert "fits clearly worse; the next is a" in against_others(curve, others)
    straight = try_curve(workings, results, (0.0, 12.0), "voltage fitted by a + b * time")
    assert "not the whole story" in " ".join(straight.words)
    assert "An exponential" in against_others(straight, others) or "exponential fits better" in against_others(
        straight, others
    )
    short = try_curve(workings, fading(0.3), (0.0, 0.5), "voltage fitted by a + b * time")
    assert "better" not in against_others(short, beside(workings, fading(0.3), (0.0, 0.5), short)), (
        "so little tells them apart"
    )
    with pytest.raises(FindingTrouble, match="is no curve"):
        try_curve(workings, results, (0.0, 12.0), "2 * voltage")
    with pytest.raises(Trouble, match="nothing is called"):
        try_curve(workings, results, (0.0, 12.0), "voltge fitted by a + b * time")


def test_readings_far_from_their_neighbours_are_proposed_and_no_others() -> None:
    dice = np.random.default_rng(3)
    clean = [np.sin(2 * T) + dice.normal(0, 0.02, len(T)), np.exp(-T) + dice.normal(0, 0.01, len(T)), dice.normal(0, 1, len(T)), np.where(T > 5, 3.0, 0.0) + dice.normal(0, 0.1, len(T)), np.full(len(T), 2.0)]  # fmt: skip
    assert sum(len(far_readings(Series(T, values, "V"))) for values in clean) <= 1
    for at, off in ((50, 0.5), (150, -0.8), (210, 2.0)):
        values = clean[0].copy()
        values[at : at + 2] += off
        found = far_readings(Series(T, values, "V"))
        assert any(low <= T[at] and T[at + 1] <= high for low, high in found)


def test_a_number_is_walked_back_to_the_line_of_text_that_it_came_from(swung: Class) -> None:
    lesson = swung.lesson
    run = lesson.store.kept_runs()[0]
    replayed, (finding,) = lesson.working_up.replayed(run.id), lesson.store.findings(run.id)
    steps = origin(lesson.book, replayed, finding, {})
    said = "\n".join(f"{each.what}: {each.words}" for each in steps)
    assert steps[0].what.startswith("period = ")
    for words in ("peaks in tension", "tension = calibrated load", "calibration of load: straight line through", "point 100 g", "raw numbers of load", "first line of text in the span: byte"):  # fmt: skip
        assert words in said, words
    row = reading_at(replayed, 5.0)
    assert abs(replayed.t[row] - 5.0) <= 0.011
    at, text = line_at(lesson.book, replayed, int(replayed.offset[row]))
    assert float(text.split(";")[1]) == replayed.raw["load"][row]
    assert at == pytest.approx(replayed.t[row], abs=0.3)
    assert f"raw load {replayed.raw['load'][row]:.0f}".replace(",", " ")[:12] in reading_words(lesson.book, replayed, 5.0, "tension").replace("\u202f", "")[:200]  # fmt: skip


def test_two_findings_differ_by_what_they_say_with_its_uncertainty() -> None:
    one, other = (Finding("tau", Measured(value, u, unit), (0.0, 1.0), 3, "", ()) for value, u, unit in ((2.0, 0.03, "s"), (2050.0, 40.0, "ms")))  # fmt: skip
    words = difference_words(one, other, "Chalk run 2")
    assert words.startswith("Chalk run 2: −0.05 ± 0.05 s apart")
    assert "they agree" in words
    far = Finding("tau", Measured(3.0, 0.01, "s"), (0.0, 1.0), 3, "", ())
    assert "they differ by 31.6 standard uncertainties" in difference_words(one, far, "Chalk run 2")
    assert "they differ" not in difference_words(
        one, Finding("tau", Measured(3.0, 0.1, "V"), (0.0, 1.0), 3, "", ()), "x"
    )
