"""The engine on real pseudo-terminals: what is heard is kept, runs survive faults, crashes and lost cables."""

from __future__ import annotations

import fcntl
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest
import serial

from common_bench.book.book import Book
from common_bench.book.journal import EVERY
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import read_address
from common_bench.links.discovery import permission_command, plugged_in
from common_bench.links.serial_link import SerialLink
from common_bench.model.bench import Port
from common_bench.model.block import Series
from common_bench.model.plan import RulePlan
from common_bench.model.trouble import LinkTrouble, Trouble
from common_bench.record.chain import Flow
from common_bench.record.traces import MOST_READINGS, Picture, Trace, thinned
from common_bench.standins.control import StandInProcess, order
from waiting import SPEED, Class, KitNow, wait_for

Start = Callable[..., StandInProcess]
School = Callable[..., Class]


def test_what_was_seen_live_is_what_the_run_gives_afterwards_to_the_last_bit(school: School) -> None:
    made = school(count=1)
    lesson = made.lesson
    made.kits.order(kits="all", hang="100 g")
    sensor = lesson.store.sensor()
    assert sensor is not None
    for point in sensor.points[:3]:
        made.kits.order(kits="all", hang=point.label)
        made.world(2.5)
        made.until(
            lambda p=point: lesson.calibrating.take_points(list(made.group.values()), "load", p)[0],
            "the point is taken",
        )
    lesson.calibrating.keep_calibrations(list(made.group.values()), "load")
    made.kits.order(kits="all", hang="bottle")
    made.world(1.0)
    live: list[Flow] = []

    def listen(kit: int, flow: Flow) -> None:
        if lesson.roster.kits[kit].run is not None or live:  # the flow that ends the run belongs to it too
            live.append(flow)

    lesson.engine.listener = listen
    made.record()
    lesson.engine.listener = None
    (run,) = lesson.store.kept_runs()
    replayed = lesson.working_up.replayed(run.id)
    blocks = [worked.block for flow in live for worked in flow.worked]
    offsets = np.concatenate([block.offset for block in blocks])
    shared = np.isin(offsets, replayed.offset)
    t = np.concatenate([block.t for block in blocks])[shared]
    assert len(t) > 900
    np.testing.assert_array_equal(t - replayed.began, replayed.t[: len(t)])
    for name in ("tension",):
        seen = np.concatenate([w.results[name].values for flow in live for w in flow.worked])[shared]
        again = replayed.results[name]
        assert isinstance(again, Series)
        np.testing.assert_array_equal(seen, again.values[: len(seen)])
        assert np.isfinite(seen).all()
    swings = [w.results["swing"] for flow in live for w in flow.worked if len(w.results["swing"])]
    seen = np.concatenate([swing.values for swing in swings])
    np.testing.assert_array_equal(seen[: len(replayed.results["swing"])], replayed.results["swing"].values)
    assert len(seen) > 20
    (finding,) = lesson.store.findings(run.id)
    assert (
        abs(finding.measured.value - 2 * np.pi * np.sqrt(0.5 / 9.81) * (1 + 0.2**2 / 25))
        < 5 * finding.measured.u + 2e-3
    )
    assert replayed.seconds == pytest.approx(20.0, abs=0.03)
    assert run.ended_by == "ended by rule, 20 s"


def test_the_journal_holds_exactly_what_the_kit_sent(school: School) -> None:
    made = school(count=2)
    made.world(10)
    made.lesson.close()
    book = Book.open(made.lesson.book.path)
    assert book.check() == []
    for session in book.rows("session"):
        data = b"".join(row["bytes"] for row in book.rows("journal", session=session["id"]))
        lines = data.split(b"\r\n")[:-1]
        assert lines[:2] == [b"swing kit v3, zero done", b"ms;load;temp"]
        clocks = [int(line.split(b";")[0]) for line in lines[2:]]
        assert clocks == list(range(0, 20 * len(clocks), 20))
        assert len(clocks) > 400
        assert session["closed_at"]
    book.close()


def test_runs_are_numbered_for_each_group_and_never_overwritten(school: School) -> None:
    made = school(count=2)
    lesson, (one, two) = made.lesson, made.group.values()
    for groups in ([one, two], [one], [one, two]):
        begun = lesson.recording.begin_runs(groups)
        assert begun == groups
        assert lesson.recording.begin_runs(groups) == []  # recording already
        made.world(3)
        lesson.recording.end_runs(begun)
    made.until(lambda: len(lesson.store.kept_runs()) == 5, "all runs are kept")
    assert [run.number for run in lesson.store.kept_runs(one)] == [1, 2, 3]
    assert [run.number for run in lesson.store.kept_runs(two)] == [1, 2]
    spans = sorted((run.begin or 0, run.end or 0) for run in lesson.store.kept_runs(one))
    assert all(before[1] <= after[0] for before, after in zip(spans, spans[1:], strict=False))
    lesson.working_up.set_aside_run(lesson.store.kept_runs(one)[1].id, "bumped")
    assert lesson.recording.begin_runs([one]) == [one]
    assert lesson.store.runs(one)[-1].number == 4
    conditions = [lesson.store.run_conditions(run.id)["length"] for run in lesson.store.runs(one)]
    assert len(set(conditions)) == 1


def test_a_lost_cable_gives_a_gap_and_the_run_goes_on(school: School) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.by_hand()
    begun = lesson.recording.begin_runs(list(made.group.values()))
    made.world(4)
    made.kits.order(kits=["Basalt"], fault="unplug")
    made.until(lambda: lesson.roster.why_not_ready(made.group["Basalt"]) == "lost", "the loss is seen")
    ear = KitNow.of_group(lesson, made.group["Basalt"])
    assert ear is not None
    assert ear.run is not None
    assert ear.trouble is not None
    assert "Plug it in again" in ear.trouble.do
    made.world(4)
    made.kits.order(kits=["Basalt"], fault="plug")
    made.until(lambda: lesson.roster.why_not_ready(made.group["Basalt"]) == "recording", "it connects again by itself")
    made.world(6)
    lesson.recording.end_runs(begun)
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "both runs are kept")
    broken, whole = (
        lesson.working_up.replayed(lesson.store.kept_runs(made.group[alias])[0].id) for alias in ("Basalt", "Chalk")
    )
    assert whole.gaps == []
    ((low, high),) = broken.gaps
    assert 3.0 < high - low < whole.seconds - 8
    assert broken.seconds > high + 2
    steps = np.diff(broken.t)
    assert np.count_nonzero(steps > 0.1) == len(broken.gaps)
    assert (steps >= 0).all()


RECORDER = """
import sys, time
from pathlib import Path
from common_bench.lesson.demonstration import prepared_lesson, plug_in
book, ports = Path(sys.argv[1]), Path(sys.argv[2])
lesson = prepared_lesson(book, speed=1.0, count=2)
plug_in(lesson, ports)
while any(lesson.roster.why_not_ready(group.id) for group in lesson.store.groups):
    lesson.tick(); time.sleep(0.02)
lesson.recording.begin_runs([group.id for group in lesson.store.groups])
print("recording", flush=True)
while True:
    for kit in lesson.roster.kits.values():
        print(kit.kit, kit.live.last_t, time.time(), max([0, *(line.offset + len(line.data) for line in kit.tape)]), flush=True)
    time.sleep(0.02)
"""


def test_killed_in_the_middle_the_book_has_the_run_up_to_the_last_quarter_second(
    tmp_path: Path, stand_ins: Start
) -> None:
    kits = stand_ins(count=2)
    path = tmp_path / "killed.benchbook"
    process = subprocess.Popen(
        [sys.executable, "-c", RECORDER, str(path), str(kits.folder)], stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    assert process.stdout.readline() == "recording\n"
    seen: list[tuple[int, float, int]] = []
    began, disk = time.time(), [0.0]  # s that a bare write to this disk took, lately
    with open(tmp_path / "bare", "wb") as bare:
        while time.time() - began < 3.0:
            kit, _, at, offset = process.stdout.readline().split()
            seen.append((int(kit), float(at), int(offset)))
            if len(seen) % 10 == 0:
                bare.write(bytes(4096))
                bare.flush()
                before = time.time()
                os.fsync(bare.fileno())
                disk.append(time.time() - before)
    process.send_signal(signal.SIGKILL)
    process.wait()
    for line in process.stdout.read().splitlines():
        if len(line.split()) == 4:
            kit, _, at, offset = line.split()
            seen.append((int(kit), float(at), int(offset)))
    lesson = OpenLesson.open(path)
    assert [notice.what.split(";")[0] for notice in lesson.notices] == [
        f"{alias} run 1 was still open when the program stopped" for alias in ("Basalt", "Chalk")
    ]
    assert lesson.book.check() == []
    killed = max(at for _, at, _ in seen)
    for run in lesson.store.kept_runs():
        assert run.ended_by == "the program was stopped"
        replayed = lesson.working_up.replayed(run.id)
        assert replayed.seconds > 2.0
        kit = lesson.book.row("session", run.session)["kit"]
        heard_then = max(offset for k, at, offset in seen if k == kit and at <= killed - 0.25 - max(disk[-6:]))
        assert run.end is not None
        assert run.end >= heard_then, "more than a quarter of a second was lost"
    assert lesson.recording.begin_runs([]) == []
    lesson.close()
    assert EVERY < 0.25


def test_rubbish_in_the_middle_of_a_run_is_counted_and_kept_and_hurts_no_reading(school: School) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.by_hand()
    begun = lesson.recording.begin_runs(list(made.group.values()))
    reader = lesson_ear(made)
    for fault in ("long line", "no text", "names again", "noise"):
        before = reader.unreadable + reader.notes
        made.kits.order(kits=["Basalt"], fault=fault)
        made.until(lambda before=before: reader.unreadable + reader.notes > before, f"{fault} is counted")
        made.world(2)
    lesson.recording.end_runs(begun)
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "the runs are kept")
    hurt, clean = (
        lesson.working_up.replayed(lesson.store.kept_runs(made.group[alias])[0].id) for alias in ("Basalt", "Chalk")
    )
    kinds = [told.kind for told in hurt.other_lines]
    assert kinds.count("names") == 1
    assert kinds.count("unreadable") >= 3
    assert clean.other_lines == []
    for replayed in (hurt, clean):
        assert np.abs(replayed.raw["load"] - np.median(replayed.raw["load"])).max() < 300
    assert lesson.book.check() == []


def test_another_speed_is_found_by_trying_and_remembered(tmp_path: Path, stand_ins: Start, school: School) -> None:
    made = school(count=1, kit_speed=9600, wait=False)
    ear = lesson_ear(made)
    made.until(
        lambda: ear.trouble is not None and ear.trouble.code == "unreadable", "it is seen that nothing can be read"
    )
    made.heard()
    assert ear.address.speed == 9600
    assert ear.format is not None
    made.until(lambda: "speed=9600" in made.lesson.book.rows("kit")[0]["link"], "the speed is kept with the kit")
    made.lesson.close()
    again = OpenLesson.open(made.lesson.book.path, speed=SPEED)
    again.roster.appear([port for port in plugged_in(made.kits.folder) if port.stand_in])
    found = KitNow(again, next(iter(again.roster.kits)))
    assert found.address.speed == 9600
    wait_for(lambda: found.can_record, "it is heard at once")
    assert again.store.group_at(found.kit) == next(iter(made.group.values()))
    again.close()


def lesson_ear(made: Class, alias: str = "Basalt") -> KitNow:
    return KitNow.of_group(made.lesson, made.group[alias])


def test_a_silent_kit_is_told_and_comes_back(school: School) -> None:
    made = school(count=1)
    made.kits.order(kits="all", fault="silent")
    made.until(lambda: made.lesson.roster.why_not_ready(made.group["Basalt"]) == "silent", "the silence is told")
    trouble = lesson_ear(made).trouble
    assert trouble is not None
    assert "Nothing heard for" in trouble.what
    assert made.lesson.recording.begin_runs(list(made.group.values())) == []
    made.kits.order(kits="all", fault="talk")
    made.heard()


def test_a_restart_in_a_run_begins_a_new_stretch_of_the_clock(school: School) -> None:
    made = school(count=1)
    made.by_hand()
    begun = made.lesson.recording.begin_runs(list(made.group.values()))
    made.world(4)
    made.kits.order(kits="all", fault="restart")
    made.world(4)
    made.lesson.recording.end_runs(begun)
    made.until(lambda: made.lesson.store.kept_runs(), "the run is kept")
    replayed = made.lesson.working_up.replayed(made.lesson.store.kept_runs()[0].id)
    assert len(replayed.gaps) == 1
    assert replayed.seconds > 6.5
    again = int(np.argmax(replayed.t > replayed.gaps[0][0]))
    for stretch in (replayed.t[:again], replayed.t[again:]):
        assert len(stretch) > 50
        assert np.median(np.diff(stretch)) == pytest.approx(0.02, rel=0.6), "each on the kit's own clock"
    assert (np.diff(replayed.t) >= 0).all()


def test_ports_that_cannot_be_opened_say_why_and_what_to_do(tmp_path: Path, stand_ins: Start) -> None:
    kits = stand_ins(count=2)
    link = kits.link("Basalt")
    holder = serial.Serial(link, exclusive=True)
    with pytest.raises(LinkTrouble) as taken:
        SerialLink(read_address(link))
    assert taken.value.code == "taken"
    assert "process" not in taken.value.what or str(os.getpid()) not in taken.value.what
    holder.close()
    other = subprocess.Popen(
        [sys.executable, "-c", f"import serial,time; p = serial.Serial({link!r}, exclusive=True); print('held', flush=True); time.sleep(60)"],
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert other.stdout is not None
    other.stdout.readline()
    with pytest.raises(LinkTrouble, match=rf"held by another program \(process {other.pid}, python"):
        SerialLink(read_address(link))
    other.kill()
    other.wait()
    SerialLink(read_address(link)).close()
    missing = tmp_path / "ttyX9"
    with pytest.raises(LinkTrouble, match="is not plugged in") as absent:
        SerialLink(read_address(str(missing)))
    assert absent.value.code == "missing"
    (tmp_path / "plain").write_text("x")
    with pytest.raises(LinkTrouble, match="no serial port"):
        SerialLink(read_address(str(tmp_path / "plain")))
    assert permission_command(Path("/dev/tty")).startswith("sudo usermod -aG ")
    for text in (
        "",
        "gopher://x:1",
        "tcp://x",
        "mqtt://host",
        "file:",
        "/dev/x?parity=purple",
        "/dev/x?speed=fast",
        "/dev/x?colour=red",
        "/dev/x?speed=7",
    ):
        with pytest.raises(LinkTrouble) as wrong:
            read_address(text)
        assert wrong.value.do


@pytest.mark.skipif(os.getuid() == 0 and not Path("/usr/bin/setpriv").exists(), reason="needs to give up root")
def test_a_port_without_permission_names_the_exact_command(tmp_path: Path, stand_ins: Start) -> None:
    kits = stand_ins(count=1)
    os.chmod(os.path.realpath(kits.link("Basalt")), 0)
    for folder in (tmp_path, *tmp_path.parents):
        if folder != Path("/tmp") and str(folder).startswith("/tmp/"):
            folder.chmod(folder.stat().st_mode | 0o055)
    kits.folder.chmod(0o755)
    drop = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"] if os.getuid() == 0 else []
    code = f"import os; from common_bench.links.discovery import what_is_wrong; print(what_is_wrong({kits.link('Basalt')!r}).sentence)"
    environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
    probe = subprocess.run([*drop, sys.executable, "-c", "import common_bench"], capture_output=True, env=environment)
    if probe.returncode:
        pytest.skip("another user cannot read this checkout")
    done = subprocess.run([*drop, sys.executable, "-c", code], capture_output=True, text=True, env=environment)
    assert "may not be opened by you. Ask the technician to run: sudo usermod -aG" in done.stdout, done.stderr


def test_stand_ins_are_found_ordered_and_refuse_nonsense_in_words(stand_ins: Start) -> None:
    kits = stand_ins(count=3)
    found = plugged_in(kits.folder)
    assert [port.identity for port in found if port.stand_in] == ["stand-in-Basalt", "stand-in-Chalk", "stand-in-Flint"]
    assert all(not port.trouble for port in found if port.stand_in)
    assert kits.order(ask="state")["hung"] == {"Basalt": "nothing", "Chalk": "nothing", "Flint": "nothing"}
    for asked in (
        {"kits": ["Nobody"], "hang": "bottle"},
        {"hang": "a cow"},
        {"hang": "900 kg"},
        {"fault": "fire"},
        {"kits": 3, "hang": "bottle"},
    ):
        with pytest.raises(Trouble, match="refuses"):
            kits.order(**asked)
    kits.stop()
    assert not list(kits.folder.iterdir())
    assert [port for port in plugged_in(kits.folder) if port.stand_in] == []
    with pytest.raises(Trouble, match="does not answer"):
        order(kits.notice.control, kits="all", hang="bottle")


def test_the_same_seed_gives_the_same_kits_and_another_seed_others(stand_ins: Start) -> None:
    rows = []
    for seed in (1, 1, 2):
        kits = stand_ins(count=1, seed=seed)
        port = SerialLink(read_address(kits.link("Basalt")))
        data = b""
        deadline = time.monotonic() + 10
        while data.count(b"\n") < 30 and time.monotonic() < deadline:
            data += port.read()
            time.sleep(0.01)
        rows.append([line.split(b";")[1] for line in data.split(b"\r\n")[2:30]])
        port.close()
        kits.stop()
    assert rows[0] == rows[1]
    assert rows[0] != rows[2]


def test_commands_to_a_kit_are_journalled(school: School) -> None:
    made = school(count=1)
    made.lesson.engine.send(lesson_ear(made).kit, b"lamp on\n")
    made.lesson.journal.flush()
    sent = [row for row in made.lesson.book.rows("journal") if row["what"] == "sent"]
    assert [row["bytes"] for row in sent] == [b"lamp on\n"]


def test_an_open_port_cannot_be_taken_by_another_program(school: School) -> None:
    made = school(count=1)
    with open(made.kits.link("Basalt"), "rb") as other, pytest.raises(OSError):
        fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
    twin = Port(made.kits.link("Basalt"), "twin", "twin")
    kit = made.lesson.roster.hear(twin)
    made.until(lambda: made.lesson.roster.kits[kit].trouble is not None, "the second ear is refused")
    fault = made.lesson.roster.kits[kit].trouble
    assert fault is not None
    assert fault.code == "taken"


def test_traces_keep_their_memory_and_pictures_keep_every_spike() -> None:
    trace = Trace()
    dice = np.random.default_rng(1)
    t = np.arange(3 * MOST_READINGS) * 0.02
    values = dice.normal(0, 1, len(t))
    for low in range(0, len(t), 777):
        trace.add(t[low : low + 777], values[low : low + 777])
    kept = trace.since(-1.0)
    np.testing.assert_array_equal(kept.t, t[-MOST_READINGS:])
    np.testing.assert_array_equal(kept.values, values[-MOST_READINGS:])
    spiked = values[:5000].copy()
    spiked[1234], spiked[4321] = 50.0, -50.0
    small = thinned(Picture(t[:5000], spiked), 100, 100.0)
    assert len(small.t) <= 3 * 101
    assert (small.values.max(), small.values.min()) == (50.0, -50.0)
    gapped = Trace()
    gaps = np.zeros(100, bool)
    gaps[40] = True
    gapped.add(t[:100], values[:100], gaps)
    assert np.flatnonzero(np.isnan(gapped.since(-1).values)).tolist() == [40]


def test_notices_of_dead_classes_and_broken_ones_are_passed_over(tmp_path: Path) -> None:
    (tmp_path / "class-1.json").write_text("{broken")
    (tmp_path / "class-2.json").write_text(json.dumps({"process": 2**22 + 5, "control": "", "ports": []}))
    assert [port for port in plugged_in(tmp_path) if port.stand_in] == []


def test_a_run_whose_kit_is_unplugged_can_still_be_ended(school: School) -> None:
    made = school(count=1)
    (group,) = made.group.values()
    made.lesson.recording.begin_runs([group])
    made.world(3)
    made.kits.order(kits="all", fault="unplug")
    made.until(lambda: made.lesson.roster.why_not_ready(group) == "lost", "the loss is seen")
    assert made.lesson.roster.recording(group)
    made.lesson.recording.end_runs([group])
    made.until(lambda: made.lesson.store.kept_runs(), "the run is kept")
    assert made.lesson.working_up.replayed(made.lesson.store.kept_runs()[0].id).seconds > 2


def test_a_run_whose_kit_is_pulled_before_its_first_reading_ends_at_its_rules_time_too(school: School) -> None:
    made = school(count=1)
    lesson, (group,) = made.lesson, made.group.values()
    lesson.planning.change_plan(msgspec.structs.replace(lesson.store.plan, rule=RulePlan(12.0)), "Runs of 12 s")
    made.kits.order(kits="all", fault="silent")
    kit = KitNow.of_group(lesson, group)
    made.until(lambda: lesson.engine.now() > kit.last_reading + 1, "nothing comes any more")
    lesson.recording.begin_runs([group])
    made.kits.order(kits="all", fault="unplug")
    made.until(lambda: lesson.store.kept_runs(), "it ends though it has nothing")
    (run,) = lesson.store.kept_runs()
    assert run.ended_by == "ended by rule, 12 s, in which nothing was heard"
    made.until(lambda: lesson.store.kept_runs()[0].trouble is not None, "why it has no finding is told")


@pytest.mark.parametrize("back", [True, False])
def test_a_cable_pulled_until_the_rules_time_is_over_is_a_run_that_ends_there_with_its_gap(
    school: School, *, back: bool
) -> None:
    made = school(count=2)
    lesson = made.lesson
    plan = msgspec.structs.replace(lesson.store.plan, rule=RulePlan(30.0))
    lesson.planning.change_plan(plan, "Runs of 30 s")
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(8)
    made.kits.order(kits=["Basalt"], fault="unplug")
    made.until(lambda: lesson.store.kept_runs(made.group["Chalk"]), "the other run ends")
    if back:
        made.kits.order(kits=["Basalt"], fault="plug")
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "it ends though nothing comes")
    torn, whole = (lesson.store.kept_runs(made.group[alias])[0] for alias in ("Basalt", "Chalk"))
    assert whole.ended_by == "ended by rule, 30 s"
    seen = lesson.working_up.replayed(torn.id)
    assert torn.ended_by == f"ended by rule, 30 s; nothing was heard from {seen.t[-1]:.1f} s on"
    assert seen.seconds == 30.0
    assert seen.gaps[-1] == (seen.t[-1], 30.0)
    assert 5 < seen.t[-1] < 29
    assert "gap" in lesson.store.findings(torn.id)[0].doubts if lesson.store.findings(torn.id) else torn.trouble
