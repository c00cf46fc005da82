"""Spans with a name: several in a run, found by the plan, corrected by a person, and numbers that are worked out during them."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from chance import trials
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson.bring_files import bring_files
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.plan_checking import faults_of
from common_bench.lesson.run_words import why_to_look
from common_bench.model.block import Events, Series, Source
from common_bench.model.plan import Plan, RulePlan, SensorPlan
from common_bench.model.trouble import FindingTrouble, PlanTrouble, Trouble
from common_bench.workings.evaluate import check
from common_bench.workings.over import over_span
from common_bench.workings.reading import read_working
from common_bench.workup.findings import findings_of
from common_bench.workup.span_rule import check_span, named_spans, spans_in, typed_span
from person import Desk

NOISE, SCALE = Source("noise", False), Source("calibration", True)


def falling(n: int = 2000, noise: float = 0.05, scale: float = 0.01, seed: int = 1) -> Series:
    """A level that falls by 2 in the first ten of twenty s and by 1 in the others, with noise and an error of scale."""
    t = np.linspace(0, 20, n)
    dice = np.random.default_rng(seed)
    values = 100 - np.where(t < 10, 0.2 * t, 2 + 0.1 * (t - 10)) + dice.normal(0, noise, n)
    return Series(t, values, "V", {NOISE: np.full(n, noise), SCALE: scale * values})


LINES = [
    "u = calibrated load",
    "early = slope of u against clock, during first",
    "late = slope of u against clock, during second",
    "both = slope of u against clock",
    "times = early / late",
    "there = mean of u as mV, during first",
    "drop = mean of u - there, during second",
]
SPANS = {"first": ((0.0, 10.0),), "second": ((10.0, 20.0),)}


@pytest.mark.parametrize(  # stated: nothing, or what the noise is
    ("second", "stated"),
    [
        ((0.0, 20.0), 0.0), ((5.0, 15.0), 0.05),
        pytest.param((0.0, 20.0), 0.05, marks=pytest.mark.long_proof), pytest.param((5.0, 15.0), 0.0, marks=pytest.mark.long_proof),
    ],
)  # fmt: skip
@pytest.mark.parametrize(
    "form",
    ["mean of u", "median of u", "area under u", "slope of u against clock", "dominant pace of u", "at end", "fit"],
)
def test_numbers_over_spans_that_overlap_are_alike_by_what_both_have(
    form: str, second: tuple[float, float], stated: float
) -> None:
    one, two, whole = (f"{form}, during one", f"{form}, during two", form)
    fits = []
    if form == "fit":
        fits = [f"f{k} = u fitted by up + goes * time{span}" for k, span in enumerate((", during one", ", during two", ""))]  # fmt: skip
        one, two, whole = "goes of f0", "goes of f1", "goes of f2"
    elif form == "at end":
        one, two, whole = "last of u, during one", "last of u, during two", "last of u"
    lines = [
        "u = calibrated load", "clock = calibrated time", *fits, f"a = {one}", f"b = {two}", "less = a - b", "more = a + b",
        f"whole = {whole}", "same = whole - whole",
    ]  # fmt: skip
    workings, dice, made = check(lines, {"load": "V", "time": "s"}), np.random.default_rng(6), []
    assert not workings.troubles
    t = np.linspace(0, 20, 400)
    course = np.sin(5 * t) if form == "dominant pace of u" else 3 + 0 * t
    for _ in range(trials(60 if form == "fit" else 150, 40 if form == "fit" else 80)):
        u = Series(t, course + dice.normal(0, 0.05, len(t)), "V", {NOISE: np.full(len(t), stated)} if stated else {})
        results = {"u": u, "clock": Series(t, t, "s")}
        made.append(over_span(workings, results, (0.0, 20.0), named={"one": ((0.0, 10.0),), "two": (second,)}))
    for name in ("a", "less", "more"):
        scatter = float(np.std([each[name].value for each in made]))
        told = float(np.median([each[name].u for each in made]))
        if scatter < 1e-9 * abs(float(made[0]["a"].value)):  # the same readings
            assert told < 1e-9
        elif form != "at end" or stated:  # of a single reading nothing is known but what is stated
            assert told / scatter == pytest.approx(1.0, rel=0.22), name
    assert made[0]["same"].u == 0.0


def test_a_number_is_worked_out_over_the_span_that_its_line_names() -> None:
    workings = check(["clock = calibrated time", *LINES], {"load": "V", "time": "s"})
    assert not workings.troubles
    u = falling()
    results = {"u": u, "clock": Series(u.t, u.t, "s")}
    numbers = over_span(workings, results, (0.0, 20.0), named=SPANS)
    assert numbers["early"].value == pytest.approx(-0.2, abs=4 * numbers["early"].u)
    assert numbers["late"].value == pytest.approx(-0.1, abs=4 * numbers["late"].u)
    assert -0.2 < numbers["both"].value < -0.1
    assert numbers["times"].value == pytest.approx(2.0, abs=4 * numbers["times"].u)
    assert numbers["drop"].unit == "V"
    own = {s.name: abs(p) for s, p in numbers["drop"].parts.items()}
    assert own["calibration"] < 0.03, "what both have in common takes itself away"
    assert numbers["drop"].u ** 2 > own["calibration"] ** 2 + 1e-7, "what each has for itself does not"


def test_errors_of_two_spans_are_independent_as_often_as_they_say() -> None:
    """A difference of means of noise over two spans: its uncertainty must be √2 that of each, not zero."""
    workings = check(["u = calibrated load", "a = mean of u, during first", "b = mean of u, during second", "d = a - b"], {"load": "V"})  # fmt: skip
    offs = []
    for seed in range(60):
        dice = np.random.default_rng(seed)
        t = np.linspace(0, 20, 400)
        u = Series(t, dice.normal(0, 1, 400), "V", {NOISE: np.ones(400)})
        d = over_span(workings, {"u": u}, (0, 20), named=SPANS)["d"]
        offs.append(d.value / d.u)
    assert 0.75 < float(np.std(offs)) < 1.3


def test_during_each_stretch_the_mean_of_what_it_is_in_each() -> None:
    workings = check(["u = calibrated load", "top = largest of u, during swing", "level = mean of top, during swing"], {"load": "V"})  # fmt: skip
    assert workings.lines[2].trouble is not None, "the mean of a number is no number over a span"
    workings = check(["u = calibrated load", "level = mean of u, during swing"], {"load": "V"})
    t = np.linspace(0, 4, 4001)
    u = Series(t, np.floor(t), "V", {NOISE: np.full(4001, 1e-3)})
    stretches = tuple((float(k), k + 0.999) for k in range(4))
    level = over_span(workings, {"u": u}, (0.0, 4.0), named={"swing": stretches})["level"]
    assert level.value == pytest.approx(1.5, abs=0.01)
    assert level.n == 4
    assert level.u == pytest.approx(np.std([0, 1, 2, 3], ddof=1) / 2, rel=0.05), "as the four scatter"


@given(
    st.lists(st.sampled_from(["all", "from 1 s to 3 s", "each pass", "from pass to 2 s after"]), min_size=1, max_size=4)
)
def test_spans_are_read_and_found_as_each_of_them_alone(rules: list[str]) -> None:
    used = "; ".join(["from 2 s to the end", *(f"s{at}: {rule}" for at, rule in enumerate(rules))])
    events = {"pass": Events(np.array([1.0, 2.5, 4.0]), np.ones(3, bool), {})}
    check_span(used, ["pass"])
    assert spans_in(used) == {"": "from 2 s to the end", **{f"s{at}": rule for at, rule in enumerate(rules)}}
    found = named_spans(used, events, [], 9.0, {"s0": (5.0, 6.0)})
    wanted = {
        "all": ((0.0, 9.0),), "from 1 s to 3 s": ((1.0, 3.0),), "each pass": ((1.0, 2.5), (2.5, 4.0)),
        "from pass to 2 s after": ((1.0, 3.0),),
    }  # fmt: skip
    assert found == {f"s{at}": wanted[rule] if at else ((5.0, 6.0),) for at, rule in enumerate(rules)}


@pytest.mark.parametrize(
    ("used", "code"),
    [
        ("all; a: from 1 s to 2 s; a: from 2 s to 3 s", "span-name-twice"),
        ("all; a: sometime", "span-not-read"),
        ("all; a: each wave", "span-names-nothing"),
        ("from 1 s to 2 s; from 2 s to 3 s", "span-without-name"),
        ("each pass", "span-not-read"),
    ],
)
def test_spans_that_make_no_sense_are_refused_in_words(used: str, code: str) -> None:
    with pytest.raises(PlanTrouble) as told:
        check_span(used, ["pass"])
    assert told.value.code == code


def test_where_during_makes_no_sense_the_line_or_the_run_says_so() -> None:
    assert read_working("a = mean of u as mV, during first").during == "first"
    assert read_working("a = u fitted by k * time, k held at 0 V/s, during first").during == "first"
    (_, line) = check(["u = calibrated load", "v = 2 * u, during first"], {"load": "V"}).lines
    assert line.trouble is not None
    assert line.trouble.code == "during-needs-a-number"
    workings = check(["u = calibrated load", "a = mean of u, during first"], {"load": "V"})
    with pytest.raises(FindingTrouble, match="no span"):
        over_span(workings, {"u": falling()}, (0.0, 20.0))
    missing = named_spans("all; first: from let_go to 2 s after", {}, [], 9.0, {})
    with pytest.raises(Trouble, match="let_go"):
        over_span(workings, {"u": falling()}, (0.0, 20.0), named=missing)
    one = named_spans("all; first: each pass", {"pass": Events(np.array([1.0]), np.ones(1, bool), {})}, [], 9.0, {})
    with pytest.raises(Trouble, match="only one"):
        over_span(workings, {"u": falling()}, (0.0, 20.0), named=one)
    assert typed_span("2 to 14") == ("", "from 2 s to 14 s")
    assert typed_span("first: 2,5 s – 3 s") == ("first", "from 2,5 s to 3 s")
    assert typed_span("first: as the plan") == ("first", "")


def test_a_line_whose_span_is_nowhere_takes_itself_and_what_rests_on_it_along_and_nothing_else() -> None:
    lines = ["u = calibrated load", "a = mean of u, during never", "b = 2 * a", "c = mean of u", "f = u fitted by p + q * time, during never", "g = q of f", "d = c / 2"]  # fmt: skip
    workings = check(lines, {"load": "V"})
    without: dict[str, Trouble] = {}
    numbers = over_span(workings, {"u": falling()}, (0.0, 20.0), named={}, without=without)
    assert sorted(numbers) == ["c", "d"]
    assert set(without) == {"a", "b", "f", "g"}
    assert [each.name for each in findings_of(workings, {"u": falling()}, (0.0, 20.0), ["c"], {})] == ["c"]
    with pytest.raises(FindingTrouble, match="no span"):
        findings_of(workings, {"u": falling()}, (0.0, 20.0), ["c", "b"], {})


@pytest.fixture
def book(tmp_path: Path) -> Path:
    """A book whose plan has two spans with names, and a run that was brought in."""
    path = tmp_path / "spans.benchbook"
    plan = Plan(
        "Falling", sensors=(SensorPlan("load", "u", unit="V", curve="as-it-comes"),), show=("u",),
        workings=("first_mean = mean of u, during early", "all_mean = mean of u", "change_of_it = all_mean - first_mean"),
        findings=("first_mean", "all_mean", "change_of_it"), rule=RulePlan(used="from 1 s to the end; early: from 0 s to 5 s"),
    )  # fmt: skip
    assert list(faults_of(plan)) == []
    wrong = msgspec.structs.replace(plan, rule=RulePlan(used="all; late: from 0 s to 5 s"))
    assert [each.trouble.code for each in faults_of(wrong)][:1] == ["no-such-span"]
    OpenLesson.make(path, plan, "9B", ["Flint"]).close()
    rows = "".join(f"{k / 10:.1f},{1 + k // 50 + 0.001 * (k % 7):.3f}\n" for k in range(200))
    file = tmp_path / "fall.csv"
    file.write_text(f"time (s),load\n{rows}")
    list(bring_files(path, [file], "Flint", began="", ended=""))
    return path


def test_a_persons_span_is_kept_for_its_run_undone_and_survives_a_new_plan(book: Path) -> None:
    lesson = OpenLesson.open(book)
    working, store = lesson.working_up, lesson.store
    run = store.runs()[0].id

    def found() -> dict[str, tuple[float, tuple[float, float]]]:
        return {each.name: (round(each.measured.value, 2), each.span) for each in store.findings(run)}

    assert found()["first_mean"] == (1.02, (0.0, 5.0))
    whole = found()["all_mean"]
    assert whole[1][0] == 1.0
    change = lesson.spans.choose_named_span(run, "early", (10.0, 14.9))
    assert found()["first_mean"] == (3.0, (10.0, 14.9))
    assert found()["all_mean"] == whole, "the other span stays where it is"
    lesson.changes.undo(change)
    assert found()["first_mean"] == (1.02, (0.0, 5.0))
    lesson.changes.redo(change)
    lesson.close()
    again = OpenLesson.open(book)
    working, store = again.working_up, again.store
    assert store.run(run).spans == {"early": (10.0, 14.9)}
    assert working.worked_up(run, None)[0].span == (10.0, 14.9), "it lies in the book"
    working.leave_out(run, (11.0, 12.0), "bumped")
    assert store.findings(run)[0].span == (10.0, 14.9)
    again.spans.type_span(run, "early: as the plan")
    assert store.findings(run)[0].span == (0.0, 5.0)
    again.spans.type_span(run, "3 to 9")
    assert {each.name: each.span for each in store.findings(run)}["all_mean"] == (3.0, 9.0)
    with pytest.raises(FindingTrouble, match="no span"):
        again.spans.type_span(run, "never: 3 to 9")
    with pytest.raises(PlanTrouble):
        again.spans.type_span(run, "three to nine")
    assert again.book.check() == []
    again.close()


@pytest.fixture
def made(book: Path, alone: Callable[[OpenLesson], Desk]) -> Desk:
    return alone(OpenLesson.open(book))


def test_spans_are_seen_dragged_and_typed_in_the_window(made: Desk) -> None:
    made.press("5")
    stage = made.window.stages["work"]
    assert isinstance(stage, WorkStage)
    made.until(lambda: "early" in stage.named.regions, "the span is drawn")
    region = stage.named.regions["early"]
    assert region.getRegion() == (0.0, 5.0)
    region.setRegion((5.0, 9.9))
    region.sigRegionChangeFinished.emit(region)
    run = made.lesson.store.runs()[0].id
    made.until(lambda: made.lesson.store.findings(run)[0].span == (5.0, 9.9), "the finding follows")
    made.until(lambda: stage.named.regions["early"].getRegion() == (5.0, 9.9), "and is drawn there")
    made.press("F")
    made.answer("early: 15 to 19")
    made.until(lambda: made.lesson.store.findings(run)[0].span == (15.0, 19.0), "as typed")
    made.press("F")
    made.answer("early: 300 to 400")
    made.until(lambda: "leaves nothing" in made.hub.messages.question._trouble.text(), "it is refused in place")
    made.press("Escape")
    made.undo()
    made.until(lambda: made.lesson.store.findings(run)[0].span == (5.0, 9.9), "taken back")


def test_a_finding_over_a_gap_wants_a_look_until_somebody_has_seen_to_it(
    tmp_path: Path, book: Path, alone: Callable[[OpenLesson], Desk]
) -> None:
    rows = "".join(f"{k / 10:.1f},{0.001 * (k % 7):.3f}\n" for k in range(200) if not 80 < k < 120)
    file = tmp_path / "torn.csv"
    file.write_text(f"time (s),load\n{rows}")
    list(bring_files(book, [file], "Flint", began="", ended=""))
    made = alone(OpenLesson.open(book))
    whole, torn = made.lesson.store.runs()
    early, rest, _ = made.lesson.store.findings(torn.id)
    assert (early.doubts, rest.doubts) == ((), ("gap",)), "what lies before it is as good as any"
    assert "something was not heard in its span" in rest.how
    assert [why_to_look(made.lesson.store, run) for run in (whole, torn)] == ["", "look: a gap in it"]
    made.press("5")
    made.press("G")
    made.see("look: a gap in it")
    made.see("2 runs · 1 want a look")
    stage = made.window.stages["work"]
    assert isinstance(stage, WorkStage)
    assert stage.all_card.runs == [torn.id, whole.id], "it comes first"
    shown = stage._run
    made.press("M", "Left", "M")
    assert stage._run != shown
    made.see("2 marked")
    made.press("X")
    made.answer("the string slipped")
    made.until(lambda: all(run.aside == "the string slipped" for run in made.lesson.store.runs()), "both are set aside")
    made.undo()
    assert [run.aside for run in made.lesson.store.runs()] == ["", ""], "in one step, and back in one"
    made.press("M", "Right", "M")
    made.see("2 runs · 1 want a look")
    table = tmp_path / "all.csv"
    made.press("D")
    made.answer(str(table))
    made.see("All runs with their conditions and findings are in")
    header, first, second = list(csv.reader(table.open(encoding="utf-8", newline="")))
    assert header[:4] == ["group", "run", "first_mean (V)", "u_first_mean (V)"]
    assert (first[1], second[1]) == ("1", "2")
    assert second[header.index("note")].startswith("look: a gap in it; ")
    assert float(second[2]) == early.measured.value
    made.press("G")
    card = stage.graph_card
    made.until(lambda: card.beside.count() > 1, "the other is offered")
    made.press("B")
    card.aligned.setCurrentIndex(2)
    card.aligned.activated.emit(2)
    made.until(lambda: "has no moment" in card.aside.text(), "nothing to align by is told")
    moments = {whole.id: 5.0, torn.id: 2.0}
    for run, t in moments.items():
        made.lesson.recording.mark(run, t, "here")
    stage.refresh()
    (other,) = {whole.id, torn.id} - {stage._run}
    beside = [each for each in card.graph.getPlotItem().listDataItems() if each.opacity() == 0.6]
    assert [float(each.getData()[0][0]) for each in beside] == [pytest.approx(moments[stage._run] - moments[other])]
    made.lesson.pooling.send_to_pool([torn.id])
    assert why_to_look(made.lesson.store, torn) == "", "somebody has sent it"
