"""The command line as a person uses it: whole commands in processes of their own."""

from __future__ import annotations

import csv
import io
import json
import os
import subprocess
import sys
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import msgspec
import pytest

from common_bench.cli.running import main, parser
from common_bench.cli.saying import seconds_in
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import RulePlan
from common_bench.model.plan_file import plan_to_file, shipped_plan
from common_bench.model.trouble import Trouble
from common_bench.standins.control import StandInProcess


def run(*words: object, folder: Path | None = None, within: float = 120) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, "COMMON_BENCH_PORTS": str(folder or "/nonexistent")}
    command = [sys.executable, "-m", "common_bench.cli", *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, env=environment, timeout=within)


def refused(*words: object, folder: Path | None = None) -> str:
    """The one line on standard error of a command that is refused with exit status 2: of a process where stand-ins are
    plugged in there, else of the same command here."""
    if folder is not None:
        done = run(*words, folder=folder)
        status, told = done.returncode, done.stderr
    else:
        out, err = io.StringIO(), io.StringIO()
        with pytest.MonkeyPatch.context() as patch, redirect_stdout(out), redirect_stderr(err):
            patch.setenv("COMMON_BENCH_PORTS", "/nonexistent")
            status, told = main([*map(str, words)]), err.getvalue()
    assert status == 2, told
    assert told.count("\n") == 1, told
    assert "Traceback" not in told
    assert told.startswith("common-bench: ")
    return told


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, subprocess.CompletedProcess[str]]:
    out = tmp_path_factory.mktemp("demo") / "out"
    return out, run("demo", "--headless", "--out", out, "--speed", "8")


def test_the_headless_demo_holds_the_whole_lesson(demo: tuple[Path, subprocess.CompletedProcess[str]]) -> None:
    out, done = demo
    assert done.returncode == 0, done.stderr
    lines = done.stdout.splitlines()
    g, u = (float(part) for part in lines[-1].removeprefix("g = ").removesuffix(" m/s²").split(" ± "))
    assert abs(g - 9.81) < 3 * u
    assert u < 0.15
    assert any("Flint sits" in line and "too large" in line for line in lines)
    assert sum("Work up" in line for line in lines) == 18
    assert {path.name for path in out.iterdir()} == {
        "swinging-bottles.benchbook",
        "pool.csv",
        "pool.json",
        "class-graph.png",
        "pool.benchpool",
    }
    assert (out / "class-graph.png").read_bytes().startswith(b"\x89PNG")
    with (out / "pool.csv").open(newline="") as file:
        table = list(csv.DictReader(file))
    assert [row["group"] for row in table if row["set aside because"]] == ["Flint"] * 3
    assert json.loads((out / "pool.json").read_text())["class_result"]["finding"]["value"] == pytest.approx(g, abs=u)


@pytest.mark.long_proof
def test_the_demos_book_is_sound_and_tells_the_same_story(
    demo: tuple[Path, subprocess.CompletedProcess[str]], tmp_path: Path
) -> None:
    out, done = demo
    book = out / "swinging-bottles.benchbook"
    assert run("check", book).stdout.strip().endswith("is sound.")
    shown = json.loads(run("show", book, "--json").stdout)
    assert [group["alias"] for group in shown["groups"]] == ["Basalt", "Chalk", "Flint", "Gneiss", "Marble", "Slate"]
    assert all(len(group["runs"]) == 3 for group in shown["groups"])
    assert shown["pool"] == "open"
    words = run("show", book).stdout
    assert "Gneiss  length 0.897 ± 0.003 m" in words
    assert run("pool", book).stdout.splitlines()[-1] == done.stdout.splitlines()[-1]
    pool = json.loads(run("pool", book, "--json").stdout)
    assert pool["runs"] == 18
    assert [each["group"] for each in pool["groups"] if each["stands_out"]] == ["Flint"]
    assert {"value", "u", "unit", "dof"} <= pool["finding"].keys()
    done = run("export", book, tmp_path / "export")
    names = {path.name for path in (tmp_path / "export").iterdir()}
    assert {"plan.toml", "findings.csv", "pool.csv", "slate-run-3.csv", "slate-run-3-swing.csv"} <= names
    with (tmp_path / "export" / "basalt-run-1.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert len(rows) in (1000, 1001)  # 20 s at 50 a second by a kit that counts a little slow or fast
    assert {"time (s)", "raw load", "raw temp (°C)", "tension (N)", "u_tension (N)"} <= rows[0].keys()
    assert 2.0 < float(rows[500]["tension (N)"]) < 2.4
    assert "not empty" in refused("export", book, tmp_path / "export")


def test_listen_prints_readings_notes_and_a_summary_as_json(stand_ins: Callable[..., StandInProcess]) -> None:
    kits = stand_ins(count=1)
    kits.order(kits="all", fault="noise")
    done = run("listen", kits.link("Basalt"), "--for", "3s", "--json")
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    readings = [line for line in lines if "values" in line]
    assert [line["note"] for line in lines if "note" in line] == ["swing kit v3, zero done", "ms;load;temp"]
    assert len(readings) > 90
    assert all(line.keys() == {"t", "clock", "kit", "values"} for line in readings)
    assert [round(line["clock"] * 1000) % 20 for line in readings] == [0] * len(readings)
    assert all(b["t"] > a["t"] for a, b in zip(readings, readings[1:], strict=False))
    summary = lines[-1]["summary"]
    assert summary["readings"] == len(readings)
    assert summary["lines"] == len(lines) - 1
    assert [column["is"] for column in summary["columns"]] == ["clock", "channel", "channel"]
    assert summary["speed"] == 115200
    assert "lines:" in run("listen", kits.link("Basalt"), "--for", "1s").stdout.splitlines()[-1]


@pytest.mark.long_proof
def test_record_makes_a_book_and_adds_runs_to_it(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:
    kits = stand_ins(count=2)
    book, plan = tmp_path / "new.benchbook", tmp_path / "plan.toml"
    plan.write_text('name = "Loads"\nruns_per_group = 1\nworkings = ["level = 2 * 3 s"]\n')
    links = [kits.link("Basalt"), kits.link("Chalk")]
    first = run("record", book, *links, "--for", "2s", "--plan", plan, folder=kits.folder)
    assert first.returncode == 0, first.stderr
    assert [line.split(":")[0] for line in first.stdout.splitlines()] == ["Basalt run 1", "Chalk run 1"]
    second = run("record", book, links[1], "--for", "1500ms", folder=kits.folder)
    assert second.stdout.startswith("Chalk run 2: 7")
    shown = json.loads(run("show", book, "--json").stdout)
    assert shown["plan"] == "Loads"
    assert [[run["number"] for run in group["runs"]] for group in shown["groups"]] == [[1], [1, 2]]
    assert run("check", book).returncode == 0
    assert "named twice" in refused("record", book, links[0], links[0], "--for", "1s")
    assert "held by another program" in run_while_held(links[0], book)
    kits.order(kits=["Basalt"], fault="silent")
    silent = refused("record", book, links[0], "--for", "1s", folder=kits.folder)
    assert "Nothing heard" in silent or "no readings" in silent


def run_while_held(link: str, book: Path) -> str:
    code = f"import serial,time; p = serial.Serial({link!r}, exclusive=True); print('held', flush=True); time.sleep(60)"
    holder = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    assert holder.stdout is not None
    holder.stdout.readline()
    try:
        return refused("listen", link, "--for", "1s")
    finally:
        holder.kill()
        holder.wait()


def test_ports_and_hang_speak_of_the_stand_ins(stand_ins: Callable[..., StandInProcess]) -> None:
    kits = stand_ins(count=2)
    found = json.loads(run("ports", "--json", folder=kits.folder).stdout)
    assert [port["identity"] for port in found if port["stand_in"]] == ["stand-in-Basalt", "stand-in-Chalk"]
    assert "stand-in kit of Chalk" in run("ports", folder=kits.folder).stdout
    assert run("hang", "100 g", "Chalk", folder=kits.folder).returncode == 0
    assert kits.order(ask="state")["hung"] == {"Basalt": "nothing", "Chalk": "100 g"}
    assert "cannot be hung" in refused("hang", "a cow", folder=kits.folder)
    assert "no stand-in class" in refused("hang", "bottle")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["show", "/nowhere.benchbook"], "no such bench book"),
        (["open", "/nowhere.benchbook"], "no such bench book"),
        (["check", __file__], "no bench book"),
        (["pool", "/tmp"], "no such bench book"),
        (["listen", "/dev/ttyNO"], "is not plugged in"),
        (["listen", "/dev/null", "--for", "1s"], "no serial port"),
        (["listen", "gopher://x"], "cannot be opened"),
        (["listen", "/dev/ttyNO", "--for", "soon"], "no length of time"),
        (["record", "/nowhere/a.benchbook", "/dev/ttyNO", "--for", "1s"], "is not plugged in"),
        (["demo", "--headless", "--out", "/usr"], "not empty"),
        (["demo", "--headless", "--out", "/tmp/never-made", "--speed", "900"], "--speed from 0.1 to 50"),
        (["kits", "--count", "0"], "--count from 1 to 32"),
    ],
)  # fmt: skip
def test_what_cannot_be_done_is_said_in_one_line(words: list[str], said: str) -> None:
    assert said in refused(*words)


def test_every_command_has_its_help_and_times_are_read() -> None:
    commands = next(action for action in parser()._actions if action.dest == "command").choices
    assert {"open", "demo", "kits", "ports", "listen", "record", "show", "check", "export", "pool"} <= set(commands)
    assert all(one.format_help() for one in commands.values())
    assert [seconds_in(text) for text in ("10s", "2 min", "500ms", "3")] == [10, 120, 0.5, 3]
    for wrong in ("", "s", "-3s", "ten", "1e99s"):
        with pytest.raises(Trouble, match="no length of time"):
            seconds_in(wrong)


def test_stand_ins_of_every_kind_can_be_listed_and_had(stand_ins: Callable[..., StandInProcess]) -> None:
    dialects = run("kits", "--dialect", "list").stdout
    assert "decimal commas" in dialects
    assert "SenML" in dialects
    assert "mains" in run("kits", "--fault", "list").stdout or "hum" in run("kits", "--fault", "list").stdout
    assert "there is no dialect “klingon”" in refused("kits", "--dialect", "klingon")
    assert "there is no gate “door”" in refused("kits", "--gate", "door")
    assert "there is no fault “fire”" in refused("kits", "--fault", "fire")
    assert "there cannot be 99 kits" in refused("kits", "--count", "99")
    assert "the broker is missing" in refused("kits", "--over", "mqtt")


@pytest.mark.long_proof
def test_listen_finds_the_speed_and_reads_any_link(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:
    slow = stand_ins("--dialect", "names-colon", count=1, kit_speed=19_200)
    done = run("listen", slow.link("Basalt"), "--for", "6s", "--json")
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    summary = lines[-1]["summary"]
    assert summary["speed"] == 19_200
    assert {column["name"]: column["unit"] for column in summary["columns"]} == {"load": "", "temp": "°C", "hum": "%"}
    assert summary["readings"] > 50
    relay = stand_ins("--over", "tcp", "--dialect", "relay-letters", count=1)
    done = run("listen", relay.link("Basalt"), "--for", "2s", "--json")
    kits = {json.loads(line).get("kit") for line in done.stdout.splitlines() if "values" in line}
    assert kits == {"K1", "K2", "K3"}
    file = tmp_path / "kept.txt"
    file.write_text("s;pull (N)\n" + "".join(f"{k / 10};{k}\n" for k in range(40)))
    done = run("listen", f"file:{file}?rate=400", "--json")
    assert done.returncode == 0, done.stderr
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    assert [line["values"]["pull"] for line in lines if "values" in line] == list(range(40))
    assert [line["clock"] for line in lines if "values" in line][-1] == pytest.approx(3.9)
    assert "does not answer" in refused("listen", "tcp://127.0.0.1:1", "--for", "3s")
    assert "cannot be read" in refused("listen", "file:/nowhere.txt")
    assert "no whole address" in refused("listen", "mqtt://host")


@pytest.mark.long_proof
def test_record_hears_the_network_too(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:
    kits = stand_ins("--over", "tcp", "--dialect", "json", count=2)
    book = tmp_path / "net.benchbook"
    done = run("record", book, kits.link("Basalt"), kits.link("Chalk"), "--for", "2s")
    assert done.returncode == 0, done.stderr
    shown = json.loads(run("show", book, "--json").stdout)
    assert [len(group["runs"]) for group in shown["groups"]] == [1, 1]
    run("export", book, tmp_path / "out")
    with (tmp_path / "out" / "basalt-run-1.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert 85 <= len(rows) <= 115
    tape = (tmp_path / "out" / "basalt-run-1.tape").read_bytes().splitlines()
    assert len(tape) == len(rows) + 1
    assert json.loads(tape[1].partition(b"\t")[2])["ms"] >= 0


POINTS = """label,reading (counts),u_reading,reference (N),u_reference,check
nothing,8412,3,0.0,0.001,
100 g,109250,3,0.981,0.003,
200 g,210071,3,1.962,0.003,
300 g,310920,3,2.943,0.003,
350 g,361212,3,3.434,0.004,yes
"""


def test_calibrate_makes_a_calibration_from_a_file_of_points(tmp_path: Path) -> None:
    path = tmp_path / "points.csv"
    path.write_text(POINTS)
    done = run("calibrate", path, "--curve", "straight line", "--quantity", "tension", "--json")
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert found["curve"] == "straight line"
    assert found["unit"] == "N"
    assert set(found["parameters"]) == {"level", "slope"}
    slope = found["parameters"]["slope"]
    assert slope["value"] == pytest.approx(9.729e-6, rel=1e-3)
    assert slope["u"] == pytest.approx(found["covariance"][1][1] ** 0.5)
    assert len(found["residuals"]) == len(found["expected"]) == 4
    assert found["range"] == [8412, 310920]
    assert [each["is"] for each in found["check"]] == ["good"]
    words = run("calibrate", path, "--quantity", "tension").stdout
    assert "tension = 9.7" in words
    assert "check point: good (E_n = " in words
    assert len(run("calibrate", path, "--curve", "list").stdout.splitlines()) == 12
    spoken = "reading;u_reading;reference (V)\n1,5;;0,15\n3,0;;0,31\n4,5;;0,44\n"
    path.write_text(spoken)
    found = json.loads(run("calibrate", path, "--curve", "quadratic", "--json").stdout)
    assert list(found["parameters"]) == ["level", "slope", "bend"]
    by_hand = run("calibrate", path, "--formula", "v = u / 10", "--step", "u = reading * 1 V", "--u", "0.01", "--json")
    assert json.loads(by_hand.stdout)["residuals"] == pytest.approx([0.0, 0.01, -0.01])


@pytest.mark.parametrize(
    ("text", "words", "said"),
    [
        ("", (), "the file of points is empty"),
        ("a,b\n1,2\n", (), "no column “reading”"),
        ("reading,reference\n1,2\nx,3\n", (), "line 3: “x” is no number for reading"),
        ("reading,reference,u_reference\n1,2,0.1\n2,3,-1\n", (), "line 3: u_reference is below zero"),
        ("reading,reference,u_reference\n1,2,0.1\n2,3,0\n", (), "“line 3” has an uncertainty of zero or below"),
        ("reading,reference\n1,2\n", (), "needs 2 points, 1 taken"),
        ("reading,reference\n1,2\n1,3\n", (), "“line 2” and “line 3” gave the same reading"),
        ("reading,reference\n0,2\n1,3\n", ("--curve", "logarithmic"), "needs a reading above zero"),
        ("reading,reference\n1,2\n2,3\n", ("--curve", "spiral"), "no curve called “spiral”"),
        ("reading,reference (N)\n1,2\n2,3\n", ("--unit", "V"), "the file gives references in N, you ask for V"),
        ("reading,reference\n1,2\n2,3\n", ("--formula", "x = reading"), "uncertainty is not stated"),
        ("reading,reference\n1,2\n2,3\n", ("--step", "x = redding * 2"), "nothing is called “redding”"),
        ("reading,reference\n1,0\n2,5\n3,0\n", ("--curve", "quadratic"), "turns round at reading"),
    ],
)
def test_calibrate_says_what_is_wrong_with_a_file_of_points(
    tmp_path: Path, text: str, words: tuple[str, ...], said: str
) -> None:
    path = tmp_path / "points.csv"
    path.write_text(text)
    assert said in refused("calibrate", path, *words)
    (tmp_path / "noise.csv").write_bytes(bytes(range(128, 256)))
    assert "cannot be read" in refused("calibrate", tmp_path / "noise.csv")


def test_stand_in_baths_are_started_steered_and_listened_to_from_the_command_line(
    tmp_path: Path, stand_ins: Callable[..., StandInProcess]
) -> None:
    kits = stand_ins(class_name="warm-baths", count=1, world_speed=6.0)
    assert run("hang", "60 °C", folder=kits.folder).returncode == 0
    assert "cannot be held into “100 g”" in refused("hang", "100 g", folder=kits.folder)
    done = run("listen", kits.link("Basalt"), "--for", "4s", "--json", folder=kits.folder)
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    summary = lines[-1]["summary"]
    assert [column["name"] for column in summary["columns"]] == ["ms", "probe", "temp"]
    values = [line["values"]["probe"] for line in lines if "values" in line]
    assert values[-1] == pytest.approx(800, abs=80), "the counts of 60 °C"


def test_record_follows_the_rule_of_its_plan_and_begins_a_further_lesson_in_a_book_that_exists(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    kits, book = stand_ins(count=2, world_speed=6.0), tmp_path / "class.benchbook"
    rule = RulePlan(0.0, "after 1 s", 0.0, "after 100 readings")
    plan = msgspec.structs.replace(shipped_plan("swinging-bottles"), rule=rule, runs_per_group=2)
    file = plan_to_file(plan, tmp_path / "bottles.benchplan")
    links = [kits.link("Basalt"), kits.link("Chalk")]
    done = run("record", book, *links, "--plan", file, "--speed", "6")
    shown = json.loads(run("show", book, "--json").stdout)
    assert [len(group["runs"]) for group in shown["groups"]] == [2, 2], done.stdout
    assert done.stdout.count("ended by rule, after 100 readings") == 4, done.stdout
    assert "raw" not in (by := {each["ended_by"] for group in shown["groups"] for each in group["runs"]}), by
    run("record", book, *links, "--plan", file, "--for", "500ms", "--runs", "1", "--speed", "6")
    shown = json.loads(run("show", book, "--json").stdout)
    assert [len(group["runs"]) for group in shown["groups"]] == [1, 1], "a lesson of its own"
    assert len(shown["earlier"]) == 1
    opened = OpenLesson.open(book)
    try:
        assert opened.store.plan.rule == rule, "what bounded a run is not written over the plan's rule"
        assert len(opened.roster.hear_added()) == 2, "the window hears by the addresses that were given"
    finally:
        opened.close()
    by_hand = plan_to_file(msgspec.structs.replace(plan, rule=RulePlan()), tmp_path / "hand.benchplan")
    assert "does not say when a run ends" in refused("record", tmp_path / "b.benchbook", links[0], "--plan", by_hand)


@pytest.mark.parametrize("name", ["t", "zeit", "elapsed"])
def test_a_tables_own_name_for_its_time_column_is_time(tmp_path: Path, name: str) -> None:
    table = tmp_path / "fall.csv"
    table.write_text(f"{name} (ms),x (m)\n" + "".join(f"{100 * k},{0.5 * k}\n" for k in range(20)))
    for line in (f"v = slope of x against {name}", "v = slope of x against time"):
        told = json.loads(run("work", table, line, "--json").stdout)["v"]
        assert (told["unit"], told["value"]) == ("m/s", pytest.approx(5.0)), line
