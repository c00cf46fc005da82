"""Plans as files and as a whole: read and written without loss, refused at their place, and usable where they are not."""

from __future__ import annotations

import contextlib
import json
import re
import tomllib
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
import tomli_w
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from common_bench.calibrate.fitting import calibrate
from common_bench.lesson.plan_checking import checked, faults_of
from common_bench.lesson.plan_library import (
    all_plans,
    empty_plan,
    find_plan,
    keep_plan,
    own_plans,
    plan_from_columns,
    shipped,
)
from common_bench.lesson.plan_words import plan_lines, read_aloud
from common_bench.model.block import Stamped
from common_bench.model.calibration import PlannedPoint, ReferencePoint
from common_bench.model.measured import Measured
from common_bench.model.plan import ClassGraph, Condition, Plan, RulePlan, SensorPlan, Threshold
from common_bench.model.plan_file import (
    plan_from_file,
    plan_from_text,
    plan_schema,
    plan_to_file,
    plan_to_text,
    shipped_names,
    shipped_plan,
)
from common_bench.model.run import PoolRow
from common_bench.model.stream import Column, StreamFormat
from common_bench.model.trouble import FindingTrouble, PlanTrouble, Trouble
from common_bench.pool.class_line import class_result
from common_bench.record.chain import Chain
from common_bench.standins.world import world_of
from common_bench.workings.evaluate import gathered
from common_bench.workup.findings import findings_of

DOCS = Path(__file__).parent.parent / "docs"

# every plan that can be built of these


names = st.sampled_from(
    ["tension", "light", "pull", "period", "length", "hits", "a b", "Light", "time", "größe", "mean", ""]
)
units = st.sampled_from(["N", "", "s", "°C", "m", "furlongz", "kΩ"])
finite = st.floats(-1e6, 1e6, allow_nan=False)
points = st.lists(st.builds(PlannedPoint, st.text("abc1", max_size=3), finite, st.floats(0, 10)), max_size=3)
ranges = st.one_of(st.none(), st.tuples(finite, finite))
sensors = st.builds(
    SensorPlan, channel=st.sampled_from(["load", "temp", ""]), quantity=names, unit=units,
    curve=st.sampled_from(["straight line", "as it comes", "formula", "offset", "bend"]), points=points.map(tuple),
    formula=st.sampled_from(["", "x = reading * 2 N", "x = reading"]), u=st.sampled_from([0.0, 0.1]), believed=ranges, scale=ranges,
    digits=st.one_of(st.none(), st.integers(-1, 12)), edges=st.booleans(),
    warn=st.lists(st.builds(Threshold, st.text(max_size=4), st.one_of(st.none(), finite), st.one_of(st.none(), finite)), max_size=1).map(tuple),
)  # fmt: skip
workings = st.lists(
    st.sampled_from(
        ["hits = peaks in tension above 2 N, 0.4 s apart", "hits = rises of tension through 1 N", "gaps = gap between hits",
         "period = mean of gaps", "pull = mean of tension", "pull = largest of tension - smallest of tension", "how = count of hits",
         "ratio = pull / period", "two = 2 * tension as N", "# off = mean of tension", "light2 = light + 1", "when = time when tension rises through 1 N",
         "odd = mean of (tension * tension)", "bad = ", "one = 3 ± 1 N", "spread = scatter of light"]
    ), max_size=5, unique=True,
).map(tuple)  # fmt: skip
conditions = st.lists(
    st.builds(
        Condition, name=names, unit=units, u=st.sampled_from([0.0, 0.01]), kind=st.sampled_from(["number", "choice", "words"]),
        choices=st.lists(st.sampled_from(["sand", "clay"]), max_size=2).map(tuple), per_run=st.booleans(),
    ), max_size=2,
).map(tuple)  # fmt: skip
graphs = st.one_of(
    st.none(),
    st.builds(
        ClassGraph, y=st.sampled_from(["pull", "period ^ 2", "pull / length", "how", "nothing"]), x=st.sampled_from(["", "length", "light", "pull"]),
        finding=st.sampled_from(["", "k = slope", "k = 1 / slope", "k = intercept / slope", "k = class_mean", "slope", "k = sqrt(class_scatter)"]),
        accepted=st.sampled_from(["", "9.81 m/s²", "3 N", "x"]), line=st.sampled_from(["straight", "none"]), point=st.sampled_from(["group", "run"]),
    ),
)  # fmt: skip
plans = st.builds(
    Plan, name=st.sampled_from(["A plan", "", "Plan „2“"]), about=st.text(max_size=20), sensors=st.lists(sensors, max_size=2).map(tuple), workings=workings,
    findings=st.lists(st.sampled_from(["pull", "period", "how", "gaps", "one", "when", "odd", "ratio"]), max_size=2).map(tuple),
    conditions=conditions, graph=graphs, rule=st.builds(RulePlan, st.sampled_from([0.0, 2.0, -1.0])), runs_per_group=st.integers(0, 4),
    show=st.lists(names, max_size=1).map(tuple), tiles=st.dictionaries(st.sampled_from(["record", "recrod"]), st.text(max_size=9), max_size=1),
)  # fmt: skip


@given(plans)
def test_a_plan_is_written_and_read_again_without_loss_and_every_fault_of_it_has_words(plan: Plan) -> None:
    text = plan_to_text(plan)
    assert plan_from_text(text, "the plan") == plan
    assert read_aloud(plan)
    assert len(plan_lines(plan)) == len(plan.sensors) + len(plan.workings)
    for fault in faults_of(plan):
        assert fault.sentence.rstrip(")”").endswith((".", "?", "!", "…")) or "\n" in fault.sentence, fault.sentence
        assert "{" not in fault.sentence


# what passes can be run


def usable(seed: int) -> Plan:
    """Of plans as above, made likelier to pass."""
    dice = np.random.default_rng(seed)
    sensor = SensorPlan(
        "load", "tension", "N", str(dice.choice(["straight line", "as it comes"])), edges=bool(dice.integers(2))
    )
    lines = ["hits = peaks in tension above 2 N, 0.4 s apart", "rise = rises of tension through 2.1 N, 0.2 s apart, by at least 0.05 N",
             "lag = time between hits and rise", "gaps = gap between hits", "period = mean of gaps", "pull = mean of tension",
             "when = time when tension falls through 2.1 N", "odd = scatter of (tension * tension)", "how = count of rise",
             "many = count of (changes of tension)", "ratio = pull / period", "root = sqrt(abs(period - 2 s))", "wait = median of lag"]  # fmt: skip
    numbers = ["period", "pull", "when", "odd", "how", "many", "ratio", "root", "wait"]
    found = tuple(dict.fromkeys(dice.choice(numbers, 2).tolist()))
    graph = ClassGraph(
        str(dice.choice([found[0], f"{found[0]} ^ 2", f"1 / {found[0]}", f"{found[-1]} * length", "length - length"])),
        str(dice.choice(["", "length", found[-1], "length ^ 2"])), str(dice.choice(["", "k = slope", "k = 1 / slope", "k = class_mean / class_scatter"])),
        "", str(dice.choice(["straight", "none"])), str(dice.choice(["group", "run"])),
    )  # fmt: skip
    return Plan(
        "Any", sensors=(sensor,), workings=tuple(lines), findings=found, conditions=(Condition("length", "m", 0.01),),
        graph=None if dice.random() < 0.2 else graph, rule=RulePlan(float(dice.choice([0.0, 2.0]))),
    )  # fmt: skip


@pytest.fixture(scope="module")
def stream() -> bytes:
    """What a stand-in kit sends in 12 s of a bottle that swings."""
    world = world_of("swinging-bottles")
    kit = world.kit(world.benches(1)[0], 9)
    kit.restart(0.0)
    kit.hang("bottle")
    return kit.until(12.0)


@pytest.mark.long_proof
@settings(max_examples=settings().max_examples // 3)
@given(st.integers(0, 10**6))
def test_whatever_plan_passes_can_be_recorded_worked_up_and_pooled(stream: bytes, seed: int) -> None:
    plan = usable(seed)
    assume(not faults_of(plan))
    dice = np.random.default_rng(seed)
    sensor = plan.sensors[0]
    bench = world_of("swinging-bottles").benches(1)[0]
    held = [
        ReferencePoint(f"{n}", bench.zero + bench.counts_per_newton * n, 5.0, float(n), 0.003, "N", channel="load")
        for n in (0, 1, 3)
    ]  # type: ignore[attr-defined]
    curve = calibrate("load", sensor.quantity, sensor.unit, sensor.choice(""), held if sensor.needs_points else ())
    rows = []
    for group in range(5):
        chain = Chain(checked(plan), [msgspec.structs.replace(curve, edges=sensor.edges)])
        chain.feed([Stamped(0.3, stream[:400])])
        chain.begin_run()
        cuts = sorted(dice.integers(400, len(stream), 5).tolist())
        worked = []
        for low, high in zip([400, *cuts], [*cuts, len(stream)], strict=True):
            worked += chain.feed([Stamped(0.4 + high / len(stream) * 12, stream[low:high])]).worked
        results = gathered([each.results for each in worked])
        found = {}
        with contextlib.suppress(FindingTrouble):
            found = {
                f.name: f.measured
                for f in findings_of(checked(plan), results, (0.0, float(dice.uniform(0.1, 20))), plan.findings)
            }
        length = Measured(float(dice.choice([0.5, 0.5, dice.uniform(0, 2)])), 0.01, "m")
        rows.append(
            PoolRow(group, group // 2 if dice.random() < 0.3 else group, "Basalt", group, {"length": length}, found)
        )
    result = class_result(plan, rows)
    assert result.line is not None or result.level is not None or result.why_no_line
    json.dumps(msgspec.to_builtins(result))


def test_enough_of_those_plans_pass_to_say_something() -> None:
    assert sum(not faults_of(usable(seed)) for seed in range(200)) > 60


# as files


def keys_of(kind: Any, schema: dict[str, Any]) -> set[str]:
    return set(schema["$defs"][kind]["properties"])


def test_the_guide_names_every_key_of_a_plan_file_and_the_schema_is_the_one_of_the_types() -> None:
    schema = plan_schema()
    assert json.loads((DOCS / "plan.schema.json").read_text("utf-8")) == json.loads(json.dumps(schema))
    told = (DOCS / "plan-files.md").read_text("utf-8")
    for kind in ("Plan", "SensorPlan", "Condition"):
        for key in keys_of(kind, schema):
            assert re.search(rf"`{key}`", told), f"{kind}.{key} is not in docs/plan-files.md"
    for kind, table in (("RulePlan", "rule"), ("ClassGraph", "graph"), ("AskPlan", "ask"), ("CommandPlan", "commands")):
        for key in keys_of(kind, schema):
            assert f"`{table}.{key}`" in told
    named = set(re.findall(r"^\| `(\w+)`", told, re.MULTILINE))
    assert named <= keys_of("Plan", schema) | keys_of("SensorPlan", schema) | keys_of("Condition", schema) | {
        "steady_drift"
    }


@pytest.mark.parametrize("name", shipped_names())
def test_every_shipped_plan_can_be_used_and_comes_back_from_its_file(name: str, tmp_path: Path) -> None:
    plan = shipped_plan(name)
    assert faults_of(plan) == []
    assert plan.about
    assert plan.gives
    assert plan.sketch
    assert plan_from_file(plan_to_file(plan, tmp_path / name)) == plan
    assert tomllib.loads(plan_to_text(plan))["version"] == 1


@given(st.sampled_from(shipped_names()), st.data())
def test_a_mistyped_key_anywhere_is_refused_with_its_place_and_the_likely_one(name: str, data: st.DataObject) -> None:
    found: dict[str, Any] = tomllib.loads(plan_to_text(shipped_plan(name)))
    at, place = found, ""
    inner = [key for key, value in found.items() if key in ("sensors", "conditions", "graph", "rule")]
    into = data.draw(st.sampled_from(["", *inner]))
    if into:
        at, place = (found[into][0] if isinstance(found[into], list) else found[into]), into
    key = data.draw(st.sampled_from(sorted(key for key in at if len(key) > 3) or sorted(at)))
    cut = data.draw(st.integers(1, len(key) - 1))
    typed = key[:cut] + key[cut + 1 :] if data.draw(st.booleans()) else key[:cut] + "x" + key[cut:]
    at[typed] = at.pop(key)
    assume(typed != key)
    with pytest.raises(PlanTrouble) as refused:
        plan_from_text(tomli_w.dumps(found), "a file")
    trouble = refused.value
    if trouble.code == "plan-key-unknown":
        assert trouble.fields["key"] == typed
        assert place in str(trouble.fields["place"])
        assert key in trouble.sentence
    else:
        pytest.fail(trouble.sentence)


@given(st.binary(max_size=300), st.integers(0, 2000))
def test_whatever_lies_in_a_file_is_a_plan_or_refused_in_words(noise: bytes, at: int) -> None:
    whole = plan_to_text(shipped_plan("fading-capacitor")).encode()
    text = (whole[:at] + noise + whole[at + 3 :]).decode("utf-8", "replace")
    try:
        found = [fault.sentence for fault in faults_of(plan_from_text(text, "a file"))]
    except Trouble as trouble:
        found = [trouble.sentence]
    assert all(found), "each says something"


def test_a_file_of_a_newer_version_one_too_large_and_one_too_deep_are_refused(tmp_path: Path) -> None:
    for text, code in (
        ('version = 9\nname = "x"\nwhatever = 3', "plan-from-newer"),
        ("x" * 1_100_000, "plan-file-too-large"),
        ('name = "x"\nsketch = ' + "[" * 5000, "not-a-plan-file"),
        ('name = "x"\n[[sensors]]\nchannel = 3\nquantity = "x"', "plan-unusable"),
        ('[[sensors]]\nchannel = "x"\nquantity = "x"', "plan-unusable"),
    ):
        (tmp_path / "a.benchplan").write_text(text, "utf-8")
        with pytest.raises(PlanTrouble) as refused:
            plan_from_file(tmp_path / "a.benchplan")
        assert refused.value.code == code
    kept = plan_to_file(empty_plan(), tmp_path / "mine")
    with pytest.raises(PlanTrouble) as refused:
        plan_to_file(empty_plan("Another"), kept)
    assert refused.value.code == "plan-file-there"
    assert plan_from_file(kept).name == "A new plan"


# the library


def test_one_s_own_plans_stand_before_the_shipped_ones_and_a_broken_file_says_why(tmp_path: Path) -> None:
    mine = msgspec.structs.replace(shipped_plan("rolling-carts"), name="Carts with bricks")
    path = keep_plan(mine, tmp_path)
    (tmp_path / "broken.benchplan").write_text('name = "B"\nbrightnes = 3\nsho = []', "utf-8")
    with pytest.raises(PlanTrouble):
        keep_plan(mine, tmp_path)
    keep_plan(mine, tmp_path, over=True)
    own = own_plans(tmp_path)
    assert [each.name for each in own] == ["broken", "Carts with bricks"]
    assert own[0].trouble is not None
    assert "brightnes" in own[0].trouble.sentence
    assert [each.key for each in all_plans(tmp_path)][2:] == [each.key for each in shipped()]
    assert find_plan("carts with bricks", tmp_path).path == path
    with pytest.raises(PlanTrouble, match="no plan called"):
        find_plan("carts with feathers", tmp_path)


@given(
    st.lists(
        st.builds(
            Column, name=st.text(min_size=1, max_size=12), unit=st.sampled_from(["", "V", "°C", "zz"]),
            role=st.sampled_from(["channel", "clock", "ignored"]),
        ),
        max_size=5,
    )
)  # fmt: skip
def test_a_plan_from_what_is_heard_can_be_used_whatever_the_columns_are_called(columns: list[Column]) -> None:
    plan = plan_from_columns([StreamFormat(";", tuple(columns))])
    assert [each for each in faults_of(plan) if each.part != "finding"] == []
    assert {each.channel for each in plan.sensors} <= {each.name for each in columns if each.role == "channel"}


@pytest.mark.parametrize(
    ("also", "columns", "found"),
    [
        (("volt*",), [("temp", ""), ("VOLTS", "")], "VOLTS"),
        (("(V)",), [("x", "mV"), ("pin3", "V")], "pin3"),
        ((), [("a1", "")], ""),
        (("a?",), [("a0", ""), ("a1", "")], "a0"),
    ],
)
def test_a_channel_is_found_by_its_other_names_and_by_its_unit(
    also: tuple[str, ...], columns: list[tuple[str, str]], found: str
) -> None:
    assert SensorPlan("a0", "voltage", "V", also=also).heard_in(columns) == found
