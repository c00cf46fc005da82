"""The sample classes: each whole lesson by itself, against the truth that its stand-ins tell."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from common_bench.cli.running import main
from common_bench.lesson.demonstration import plug_in
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.measured import read_measured
from common_bench.model.plan import Plan, RulePlan, SensorPlan
from common_bench.model.plan_file import shipped_names
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import world_of, worlds
from person import Desk
from waiting import Class
from walk import Walk

SPEED_HERE = 6.0
SPEED = "12"  # times as fast as ours
FAST_KITS = {"jumping-plate": "4"}  # that send so much that their world cannot run so fast here


@pytest.mark.parametrize("name", worlds())
@settings(max_examples=15)
@given(seed=st.integers(0, 10**6), count=st.integers(6, 32))
def test_a_world_is_the_same_for_the_same_seed_and_has_one_kind_of_trouble(name: str, seed: int, count: int) -> None:
    world = world_of(name)
    benches = world.benches(count, seed)
    assert benches == world.benches(count, seed)
    assert len({bench.alias for bench in benches}) == count
    assert len({bench.trouble for bench in benches if bench.trouble}) == 1
    assert world.truth(benches).value > 0
    for bench in benches[:3]:
        kit = world.kit(bench, seed)
        kit.restart(0.0)
        for act in (*world.before, *world.after):
            kit.hang(act.what)
        for _, what in world.hands:
            kit.hang(what)
        with pytest.raises(ValueError, match="say"):
            kit.hang("a grand piano")
        lines = kit.until(6.0).split(b"\r\n")
        assert len(lines) > 10
        assert kit.word.encode() in lines[1]


@pytest.mark.parametrize(
    "name", [pytest.param(each, marks=[pytest.mark.long_proof] * (each == "warm-baths")) for each in shipped_names()]
)
def test_the_whole_lesson_of_every_shipped_plan_finds_what_is_true_and_is_read_in_every_stage(
    name: str,
    tmp_path: Path,
    capsys: pytest.CaptureFixture[str],
    alone: Callable[[OpenLesson], Desk],
    faults: list[BaseException],
) -> None:
    out = tmp_path / "out"
    told = ["demo", "--headless", "--class", name, "--speed", FAST_KITS.get(name, SPEED), "--out", str(out)]
    assert main(told) == 0
    said = capsys.readouterr().out.splitlines()
    truth = world_of(name).truth(world_of(name).benches())
    found_name, _, value = said[-1].partition(" = ")
    assert found_name == truth.name
    found = read_measured(value.replace("\N{NARROW NO-BREAK SPACE}", ""), truth.unit)
    assert found.u > 0
    assert abs(found.value - truth.value) < 3 * found.u, said[-1]
    in_trouble = next(bench.alias for bench in world_of(name).benches() if bench.trouble)
    assert any(f"{in_trouble} set aside" in line for line in said)
    book = next(out.glob("*.benchbook"))
    assert main(["check", str(book)]) == 0
    walk = Walk(alone(OpenLesson.open(book)))
    walk.look("held")
    assert faults == []
    assert walk.found == [], "\n".join(walk.found)


def test_the_stand_ins_tell_what_is_true_of_them(tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "common_bench.cli",
        "kits",
        "--class",
        "fading-capacitor",
        "--json",
        "--folder",
        str(tmp_path / "p"),
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        told = json.loads(process.stdout.readline())
    finally:
        process.terminate()
        process.wait(10)
    assert len(told) == 6
    assert told[0]["class_finds"] == {"name": "capacitance", "value": pytest.approx(455), "unit": "µF"}
    assert [each["truth"]["trouble"] for each in told].count(None) == 5
    assert set(told[0]["truth"]["stated"]) == {"resistance"}


def test_a_kit_that_calls_its_channel_otherwise_is_heard_by_the_plan(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    """The plan measures `u1`, in V as it comes; the kits send counts as `a0`, which the plan takes as well."""
    sensor = SensorPlan("u1", "voltage", "V", "as it comes", also=("a*",), believed=(0.0, 500.0), u=2.0)
    plan = Plan(
        "Levels", sensors=(sensor,), workings=("level = mean of voltage",), findings=("level",), rule=RulePlan(2.0)
    )
    kits = stand_ins(count=2, world_speed=SPEED_HERE, class_name="fading-capacitor")
    lesson = OpenLesson.make(tmp_path / "u.benchbook", plan, "9B", ["Basalt", "Chalk"], speed=SPEED_HERE)
    try:
        plug_in(lesson, kits.folder)
        made = Class(lesson, kits)
        made.heard()
        made.until(
            lambda: lesson.store.column_of(lesson.store.kit_of(made.group["Basalt"]), "u1") == "a0",
            "the column is known",
        )
        made.hang("charged", "Basalt")
        made.record()
        made.until(lambda: not lesson.working_up.is_busy, "all is worked up")
        found = {run.group: lesson.store.findings(run.id)[0] for run in lesson.store.kept_runs()}
        assert found[made.group["Basalt"]].measured.value > 900
        assert found[made.group["Basalt"]].guesses, "beyond what is believed"
        assert found[made.group["Chalk"]].measured.value < 10
        assert found[made.group["Chalk"]].measured.u == pytest.approx(2.0, rel=0.01)
        assert not found[made.group["Chalk"]].guesses
        assert lesson.roster.absent_channels(lesson.store.kit_of(made.group["Basalt"]) or 0) == []
        for run in lesson.store.kept_runs():
            assert lesson.working_up.worked_up(run.id, None)[0].measured == found[run.group].measured
    finally:
        lesson.close()
