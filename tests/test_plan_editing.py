"""Plans changed line by line: what is read is what was written, a name changes everywhere, nothing else does."""

from __future__ import annotations

import contextlib
import itertools
import re

import msgspec
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from common_bench.calibrate.curves import CURVES, curve_name
from common_bench.lesson.condition_text import condition_faults, condition_line, read_condition_line
from common_bench.lesson.line_offers import completions, correction, offers, ready_lines
from common_bench.lesson.plan_checking import LINES, choice_that_gives, faults_of, parameters_of
from common_bench.lesson.plan_details import DETAILS, with_detail
from common_bench.lesson.plan_editing import (
    as_finding,
    copied,
    level_in,
    lines_of,
    looked_at,
    looked_over,
    moved,
    pause_in,
    read_sensor,
    renamed,
    sensor_text,
    shown_first,
    switched,
    with_line,
    with_number,
    without_line,
)
from common_bench.lesson.plan_library import empty_plan
from common_bench.model.plan import ClassGraph, Condition, Plan, RulePlan, SensorPlan
from common_bench.model.plan_file import plan_from_text, plan_to_text, shipped_names, shipped_plan
from common_bench.model.trouble import Trouble

plans = st.sampled_from(shipped_names()).map(shipped_plan)
word = st.from_regex(r"[a-z][a-z0-9]{0,7}", fullmatch=True)


UNIT_NAMES = st.sampled_from(["m", "s", "N", "V", "g", "K", "A", "h", "d", "min", "Pa", "C", "kg", "mm", "W", "L"])
LINES_WITH_UNITS = (
    "a_ = 0.5 {n} + {n}", "b_ = 9.81 {n}/s² * {n}", "c_ = {n} as {n}",
    "d_ = peaks in {n} above 2.2 {n}, 0.4 s apart", "e_ = rate of {n} over 0.4 s", "f_ = {n} fitted by amp * exp(-time / tau) + 1 {n}",
    "g_ = tau of f_", "h_ = calibrated {n}", 'i_ = calibrated "{n}"', "j_ = mean of ({n} where {n} > 3 ± 0.1 {n})  # in {n}", "k_ = 2 {n} +",
    "l_ = 3 {n} * broken(", "-- m_ = 4 {n} - {n}",
)  # fmt: skip


@given(UNIT_NAMES, st.permutations(LINES_WITH_UNITS), st.integers(3, len(LINES_WITH_UNITS)))
def test_a_name_that_is_spelt_like_a_unit_is_renamed_and_no_unit_channel_or_remark_is(
    name: str, lines: list[str], count: int
) -> None:
    graph = ClassGraph(
        f"({name} + 1 {name}) ^ 2", f"2 {name} * {name}", f"slope = 4 {name} * slope", accepted=f"3 {name}"
    )
    rule = RulePlan(
        0.0,
        f"when {name} rises through 2 {name}",
        0.0,
        f"after 3 {name}s or when {name} is steady",
        used=f"from {name} to 10 s after",
    )
    plan = Plan("units", sensors=(SensorPlan(name, name, name, "as-it-comes"),), workings=tuple(each.format(n=name) for each in lines[:count]), graph=graph, rule=rule)  # fmt: skip
    there = renamed(plan, name, "quantity")
    expected = [each.replace("{n}", "\0") for each in lines[:count]]
    for text, found in zip(expected, there.workings, strict=True):
        assert found == _by_hand(text, name), text
    assert there.graph == ClassGraph(
        f"(quantity + 1 {name}) ^ 2", f"2 {name} * quantity", f"slope = 4 {name} * slope", accepted=f"3 {name}"
    )
    assert (there.rule.begins, there.rule.ends) == (
        f"when quantity rises through 2 {name}",
        "after 3 quantitys or when quantity is steady",
    )
    assert there.rule.used == "from quantity to 10 s after"
    assert there.sensors[0].quantity == "quantity"
    assert (there.sensors[0].unit, there.sensors[0].channel) == (name, name)


def _by_hand(text: str, name: str) -> str:
    """A line of the family with its name renamed, told from its units by what stands before each."""
    body, sign, remark = text.partition("#")
    out = body.split("\0")
    made = out[0]
    for before, after in itertools.pairwise(out):
        is_unit = re.search(r"\d $|\bas $|in $", before) and not before.endswith("peaks in ")
        is_channel = before.endswith(("calibrated ", 'calibrated "'))
        made += (name if is_unit or is_channel else "quantity") + after
    return made + sign + remark.replace("\0", name)


@given(plans, st.sampled_from(["a line", "a power", "an exponential", "a parabola", "no line"]), st.sampled_from(["slope", "intercept", "exponent", "factor", "rate", "bend", "class_mean", "class_scatter"]))  # fmt: skip
def test_a_name_that_another_class_line_gives_is_refused_with_that_choice(plan: Plan, chosen: str, name: str) -> None:
    assume(plan.graph is not None and plan.graph.x)
    assert plan.graph is not None
    line = next(each for each, words in LINES.items() if words == chosen)
    plan = msgspec.structs.replace(
        plan, graph=msgspec.structs.replace(plan.graph, line=line, finding=f"n = {name}", accepted="")
    )
    told = [each.trouble for each in faults_of(plan) if each.field == "finding"]
    gives = choice_that_gives(msgspec.structs.replace(plan, graph=plan.graph), name)
    if name in parameters_of(plan, "", ""):
        assert told == []
    else:
        (trouble,) = told
        assert trouble.fields["choice"] == gives
        other = next(each for each, words in LINES.items() if words == gives)
        assert faults_of(msgspec.structs.replace(plan, graph=msgspec.structs.replace(plan.graph, line=other))) == [], (
            "the advice is the cure"
        )


@given(
    word, st.one_of(word, st.just("air temp"), st.just("A0")), st.sampled_from(["", "V", "°C", "m/s²"]),
    st.sampled_from(["as-it-comes", "formula", *CURVES]),
)  # fmt: skip
def test_a_measured_line_says_all_that_it_is_read_from(name: str, channel: str, unit: str, curve: str) -> None:
    sensor = SensorPlan(
        channel,
        name,
        unit,
        curve,
        formula=f"{name} = reading * 2" if curve == "formula" else "",
        u=0.5 if curve == "formula" else 0.0,
    )
    assert read_sensor(sensor_text(sensor), sensor) == sensor
    assert curve == "formula" or curve_name(curve) in sensor_text(sensor)


@given(plans, st.integers(0, 20), st.sampled_from(["a_new_name", "größe2"]))
def test_a_name_is_changed_wherever_it_stands_and_the_plan_stays_as_good(plan: Plan, at: int, new: str) -> None:
    lines = lines_of(plan)
    line = lines[at % len(lines)]
    changed = with_line(plan, line, line.text.replace(line.name, new, 1))
    assert faults_of(changed) == []
    assert [each.name for each in lines_of(changed)] == [new if each.name == line.name else each.name for each in lines]
    assert [each.kind for each in lines_of(changed)] == [each.kind for each in lines]
    assert {each.channel for each in changed.sensors} == {each.channel for each in plan.sensors}
    assert renamed(changed, new, line.name) == plan


@given(
    plans,
    st.lists(
        st.tuples(
            st.sampled_from(["move", "switch", "copy", "off", "finding", "show"]),
            st.integers(0, 20),
            st.integers(-3, 3),
        ),
        max_size=8,
    ),
)
def test_whatever_is_done_to_lines_the_plan_can_be_kept_and_nothing_is_lost_but_what_was_taken_off(
    plan: Plan, acts: list[tuple[str, int, int]]
) -> None:
    for act, at, by in acts:
        lines = lines_of(plan)
        if not lines:
            break
        line, count = lines[at % len(lines)], len(lines)
        with contextlib.suppress(Trouble):
            if act == "move":
                plan = moved(plan, line, by)
                assert sorted(each.text for each in lines_of(plan)) == sorted(each.text for each in lines)
            elif act == "switch":
                plan = switched(
                    switched(plan, line),
                    next(
                        each for each in lines_of(switched(plan, line)) if each.at == line.at and not each.is_measured
                    ),
                )
            elif act == "copy":
                plan = copied(plan, line)
                assert len(lines_of(plan)) == count + 1
                assert len({each.name for each in lines_of(plan)}) == count + 1
            elif act == "off":
                plan = without_line(plan, line)
                assert len(lines_of(plan)) == count - 1
                assert line.name not in (*plan.findings, *plan.show)
            elif act == "finding":
                plan = as_finding(plan, line, found=line.name not in plan.findings)
            else:
                plan = shown_first(plan, line)
                assert plan.shown[0] == line.name
        assert plan_from_text(plan_to_text(plan), "it") == plan


def test_the_ready_lines_make_a_whole_plan_out_of_nothing() -> None:
    plan = empty_plan()
    for heading in ("Measure", "Find events", "Work out", "Find a number"):
        groups = dict(ready_lines(plan, [("light", "lx"), ("air temp", "°C")]))
        for text in groups[heading]:
            tried = with_line(plan, None, text)
            last = lines_of(tried)[-1 if heading != "Measure" else len(tried.sensors) - 1]
            missing = "EVENTS" in text or "nothing is called" in str(last.trouble)
            assert last.trouble is None or missing or "needs" in last.trouble.sentence, (text, last.trouble)
        plan = with_line(plan, None, groups[heading][0])
    assert [each.kind for each in lines_of(plan)] == ["measured", "events", "worked", "worked"]
    plan = as_finding(plan, lines_of(plan)[-1], found=True)
    assert faults_of(plan) == []
    assert lines_of(plan)[-1].kind == "finding"


@pytest.mark.parametrize("name", [*shipped_names(), ""])
def test_every_offer_that_misses_nothing_can_be_taken(name: str) -> None:
    plan = shipped_plan(name) if name else empty_plan()
    for offer in offers(plan):
        if offer.missing or any("EVENTS" in line or "X" in line.split() for line in offer.lines):
            continue
        tried = plan
        for line in offer.lines:
            tried = with_line(tried, None, line)
        wrong = [each for each in lines_of(tried) if each.trouble is not None and each.text in offer.lines]
        assert not wrong, wrong


@pytest.mark.parametrize(
    ("text", "has"),
    [
        ("x = mean of te", "tension"), ("x = pe", "peaks in "), ("x = peaks in tension above 2 ", "N"), ("x = from lo", "load"),
        ("x = falls of tension thr", "through "), ("x = 2 * swi", "swing"),
    ],
)  # fmt: skip
def test_what_may_follow_is_offered(text: str, has: str) -> None:
    offered = completions(shipped_plan("swinging-bottles"), text, ["load", "temp"])
    assert has in offered
    assert completions(shipped_plan("swinging-bottles"), "nothing yet") == []


@pytest.mark.parametrize(
    ("text", "meant"),
    [
        ("t = from temp as it comes, in C", "t = from temp as it comes, in °C"),
        ("t = 20 C", "t = 20 °C"),
        ("t = 2 F + 1 µF", "t = 2 °F + 1 µF"),
    ],
)
def test_a_unit_that_reads_two_ways_is_asked_about(text: str, meant: str) -> None:
    asked = looked_over(empty_plan(), None, text)
    assert asked is not None
    assert asked.code == "unit-reads-two-ways"
    assert correction(text, asked) == meant
    assert looked_over(empty_plan(), None, "q = 2 C/s") is None


def test_a_wrong_word_is_corrected_at_its_place() -> None:
    plan = msgspec.structs.replace(
        shipped_plan("swinging-bottles"), workings=("swing = mean of tensoin",), findings=("swing",), graph=None
    )
    line = lines_of(plan)[1]
    assert line.trouble is not None
    assert correction(line.text, line.trouble) == "swing = mean of tension"
    off = with_line(plan, line, "swing = mean of")
    assert lines_of(off)[1].trouble is not None
    assert correction("swing = mean of", lines_of(off)[1].trouble) is None  # type: ignore[arg-type]


@given(plans)
def test_details_of_what_is_measured_are_read_as_they_are_written(plan: Plan) -> None:
    for at, sensor in enumerate(plan.sensors):
        for entry, (_, _, shown) in DETAILS.items():
            changed = with_detail(plan, at, entry, shown(sensor))
            assert shown(changed.sensors[at]) == shown(sensor)
            if entry != "points":
                assert changed == plan


@pytest.mark.parametrize(
    ("entry", "text"),
    [("believed", "5"), ("scale", "a … b"), ("warn", "above: hot"), ("warn", "beyond 3: hot"), ("points", "100 g"), ("u", "much"), ("digits", "2.5"), ("points", "a = b")],
)  # fmt: skip
def test_a_detail_that_cannot_be_read_is_refused_in_words(entry: str, text: str) -> None:
    with pytest.raises(Trouble) as refused:
        with_detail(shipped_plan("swinging-bottles"), 0, entry, text)
    assert refused.value.sentence.endswith((".", "…", "?"))


@given(
    st.builds(
        Condition, name=word, unit=st.sampled_from(["", "m", "kΩ"]), u=st.sampled_from([0.0, 0.003, 1e-6]), about=st.sampled_from(["", "at the top"]),
        same_for_all=st.booleans(), per_run=st.booleans(), values=st.lists(st.sampled_from([0.5, -1.0, 250.0]), max_size=3).map(tuple),
    )
)  # fmt: skip
def test_a_condition_is_read_as_it_is_written(condition: Condition) -> None:
    assert read_condition_line(condition_line(condition)) == condition
    for kind, choices in (("choice", ("sand", "clay")), ("words", ())):
        other = Condition(
            condition.name, about=condition.about, kind=kind, choices=choices, same_for_all=condition.same_for_all
        )  # type: ignore[arg-type]
        assert read_condition_line(condition_line(other)) == other


def test_conditions_that_cannot_be_read_say_so_on_their_line() -> None:
    wrong = [
        "length (m) ± 0.003",
        "length (mm)",
        "",
        "9 lives",
        "mass (furlongz)",
        "soil: sand; sometimes",
        "x (m) ± ±",
    ]
    assert [at for at, *_ in condition_faults(wrong)] == [1, 3, 4, 5, 6]


@given(st.floats(-50, 50).map(lambda x: round(x, 2)), st.floats(0.1, 9).map(lambda x: round(x, 1)))
def test_a_level_and_a_pause_are_found_in_a_line_and_dragged(level: float, pause: float) -> None:
    text = "ups = rises of light through 20 lx, 0.4 s apart, by at least 2 lx"
    assert looked_at(text) == "light"
    found, apart = level_in(text), pause_in(text)
    assert found is not None
    assert apart is not None
    assert (found.value, found.unit, apart.value, apart.unit) == (20, "lx", 0.4, "s")
    dragged = with_number(text, found, level, 2)
    again = level_in(dragged)
    assert again is not None
    assert again.value == pytest.approx(level)
    moved_on = pause_in(dragged)
    assert moved_on is not None
    both = with_number(dragged, moved_on, pause, 1)
    assert pause_in(both).value == pytest.approx(pause)  # type: ignore[union-attr]
    assert both.endswith("s apart, by at least 2 lx")
    assert level_in("x = mean of light") is None
