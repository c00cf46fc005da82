"""Plugging in: every link, every fault, shared ports, asked kits, clocks; what is wrong is told with its cause."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book.book import Book
from common_bench.book.history import lines_before
from common_bench.lesson.exporting import export_all
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.words import kit_words
from common_bench.links.address import SPEEDS, read_address
from common_bench.links.discovery import plugged_in
from common_bench.links.opening import pause_before_retry
from common_bench.model.bench import Port
from common_bench.model.block import Stamped
from common_bench.model.plan import AskPlan, CommandPlan, Plan
from common_bench.model.stream import Column, StreamFormat
from common_bench.model.trouble import LinkTrouble, Trouble
from common_bench.reading.clock import ClockMap
from common_bench.reading.health import column_health
from common_bench.reading.prompts import waiting_for
from common_bench.reading.reader import Reader
from common_bench.record.which import WhichIsWhich
from common_bench.standins.control import StandInProcess
from common_bench.standins.dialects import SPEECHES
from waiting import KitNow, heard_up_to, wait_for

Start = Callable[..., StandInProcess]


class Listening:
    """A lesson that hears whatever stand-ins announce, as the window would."""

    def __init__(self, lesson: OpenLesson, kits: StandInProcess) -> None:
        self.lesson, self.kits = lesson, kits
        self.happened: list[str] = []
        self.look()

    def look(self) -> None:
        self.lesson.roster.appear([port for port in plugged_in(self.kits.folder) if port.stand_in and not port.trouble])

    def ear(self, alias: str = "Basalt") -> KitNow:
        kit = next(id for id, kit in self.lesson.store.kits.items() if kit.identity == f"stand-in-{alias}")
        return KitNow(self.lesson, kit)

    def until(self, met: Callable[[], object], what: str) -> None:
        def turn() -> object:
            self.happened += [each.what for each in self.lesson.tick()]
            self.look()
            return met()

        wait_for(turn, what)

    def world(self, seconds: float) -> None:
        """Lets world seconds go by on every kit."""
        end = self.lesson.engine.now() + seconds
        self.until(lambda: heard_up_to(self.lesson, end), "time goes by")

    def heard(self, alias: str = "Basalt") -> KitNow:
        self.until(lambda: self.ear(alias).can_record, f"{alias} is heard")
        return self.ear(alias)

    def told(self, cause: str, alias: str = "Basalt") -> LinkTrouble:
        def found() -> LinkTrouble | None:
            ear = self.ear(alias)
            return next((t for t in (ear.trouble, ear.warning) if t is not None and t.code == cause), None)

        def seen() -> bool:
            told[:] = [found()]
            return told[0] is not None

        told: list[LinkTrouble | None] = []
        self.until(seen, f"“{cause}” is told")
        trouble = told[0]
        assert trouble is not None
        assert "{" not in trouble.sentence
        return trouble


@pytest.fixture
def plugged(tmp_path: Path, stand_ins: Start) -> Iterator[Callable[..., Listening]]:
    opened: list[OpenLesson] = []

    def make(*more: str, speed: float = 1.0, count: int = 1, **options: object) -> Listening:
        kits = stand_ins(*more, count=count, world_speed=speed, **options)
        aliases = ["Basalt", "Chalk", "Flint", "Gneiss"]
        path = tmp_path / f"plug-{len(opened)}.benchbook"
        lesson = OpenLesson.make(path, Plan("Plugging"), "9B", aliases, speed=speed)
        opened.append(lesson)
        return Listening(lesson, kits)

    yield make
    for lesson in opened:
        lesson.close()


@pytest.fixture(scope="module")
def broker() -> Iterator[str]:
    """A real broker on loopback."""
    program = shutil.which("mosquitto") or "/usr/sbin/mosquitto"
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = subprocess.Popen([program, "-p", str(port)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def answers() -> bool:
        with socket.socket() as line:
            return line.connect_ex(("127.0.0.1", port)) == 0

    wait_for(answers, "the broker answers")
    yield f"127.0.0.1:{port}"
    process.kill()
    process.wait()


# links


@pytest.mark.parametrize("over", ["tcp", "rfc2217"])
def test_a_kit_on_the_network_is_heard_told_and_heard_again(plugged: Callable[..., Listening], over: str) -> None:
    made = plugged("--over", over)
    ear = made.heard()

    def names() -> list[str]:
        format = ear.format
        return [column.name for column in format.columns] if format is not None else []

    if over == "rfc2217":  # its first words may be lost while its speed is agreed on; it can be restarted
        made.lesson.engine.restart(ear.kit)
    made.until(lambda: names() == ["ms", "load", "temp"], "its line of names is heard")
    made.lesson.roster.send(ear.kit, "L1")
    made.until(lambda: made.kits.order(ask="state")["lamps"]["Basalt"], "the lamp is on")
    if over == "tcp":
        made.kits.order(kits="all", fault="unplug")
        made.until(lambda: ear.trouble is not None and ear.trouble.code == "no-host", "it does not answer any more")
        assert made.happened.count("lost") == 1
        assert "back" not in made.happened
        made.kits.order(kits="all", fault="plug")
        made.heard()
        made.until(lambda: made.happened.count("back") == 1, "it is told that it is back")


def test_topics_of_a_broker_are_heard_and_told_apart(plugged: Callable[..., Listening], broker: str) -> None:
    made = plugged("--over", "mqtt", "--broker", f"mqtt://{broker}/lab", "--dialect", "names-colon", count=2)
    ear = made.heard()
    assert ear.format is not None
    assert ear.format.dialect == "named"
    made.lesson.roster.send(ear.kit, "L1")
    made.until(lambda: made.kits.order(ask="state")["lamps"]["Basalt"], "what is sent comes to the kit's topic")
    for version in ("3.1.1", "5"):
        made.lesson.roster.hear(Port(f"mqtt://{broker}/lab/+?version={version}", f"lab {version}", f"lab {version}"))
        names = [f"lab {version} · kit basalt", f"lab {version} · kit chalk"]
        made.until(
            lambda n=names: {k.name for k in made.lesson.store.kits.values()} >= set(n), "both topics become kits"
        )
        kits = [id for id, kit in made.lesson.store.kits.items() if kit.name in names]
        made.until(lambda k=kits: all(made.lesson.roster.kits[each].can_record for each in k), "both are heard")
    nobody = made.lesson.roster.hear(Port("mqtt://127.0.0.1:1/lab", "nobody", "nobody"))
    made.until(lambda: made.lesson.roster.kits[nobody].trouble is not None, "a broker that is not there is told")
    assert "does not answer" in made.lesson.roster.kits[nobody].trouble.what  # type: ignore[union-attr]


def test_pauses_between_tries_grow_for_hosts_and_stay_for_ports() -> None:
    hosts = [pause_before_retry(read_address("tcp://there:1"), n) for n in range(12)]
    assert hosts[:3] == [0.5, 1.0, 2.0]
    assert hosts == sorted(hosts)
    assert hosts[-1] == 10.0
    assert {pause_before_retry(read_address("/dev/ttyACM0"), n) for n in range(12)} == {0.5}


@pytest.mark.parametrize(
    "link", ["/dev/ttyACM0", "/dev/ttyACM0?speed=9600&bits=7&parity=even&stop=2&flow=software", "tcp://h:3333", "rfc2217://h:9?speed=9600",
             "mqtt://h/a/b/#?version=5", "mqtt://h:99/a/+", "file:/tmp/x.txt?pace=2"],
)  # fmt: skip
def test_a_link_is_written_as_it_was_read(link: str) -> None:
    assert read_address(link).text == link
    assert read_address(read_address(link).text) == read_address(link)


def test_a_kept_run_and_a_file_of_lines_are_heard_as_if_live(plugged: Callable[..., Listening], tmp_path: Path) -> None:
    made = plugged(speed=4.0)
    ear = made.heard()
    made.lesson.roster.give_kits_in_order([ear.kit])
    group = made.lesson.store.groups[0].id
    made.lesson.recording.begin_runs([group])
    made.world(6)
    made.lesson.recording.end_runs([group])
    made.until(lambda: made.lesson.store.kept_runs(), "the run is kept")
    export_all(made.lesson, tmp_path / "out")
    tape = tmp_path / "out" / "basalt-run-1.tape"
    again = made.lesson.roster.hear(Port(f"file:{tape}?pace=20", "again", "again"))
    kept = made.lesson.working_up.replayed(made.lesson.store.kept_runs()[0].id)
    made.until(lambda: made.lesson.roster.kits[again].readings == len(kept.t), "all readings come again")
    made.until(lambda: made.lesson.roster.kits[again].trouble is not None, "the end is told")
    assert made.lesson.roster.kits[again].trouble.code == "file-ended"  # type: ignore[union-attr]
    (tmp_path / "lines.txt").write_text("a;b\n" + "".join(f"{k};{k * k}\n" for k in range(30)))
    lines = made.lesson.roster.hear(Port(f"file:{tmp_path}/lines.txt?rate=300", "lines", "lines"))
    made.until(lambda: made.lesson.roster.kits[lines].readings == 30, "a file of lines is heard")
    gone = made.lesson.roster.hear(Port(f"file:{tmp_path}/none.txt", "none", "none"))
    made.until(lambda: made.lesson.roster.kits[gone].trouble is not None, "a missing file is told")
    assert "cannot be read" in made.lesson.roster.kits[gone].trouble.what  # type: ignore[union-attr]


def test_a_hostile_host_fills_nothing(plugged: Callable[..., Listening]) -> None:
    made = plugged()
    server = socket.create_server(("127.0.0.1", 0))
    kit = made.lesson.roster.hear(Port(f"tcp://127.0.0.1:{server.getsockname()[1]}", "hostile", "hostile"))
    caller, _ = server.accept()
    caller.settimeout(0.05)
    sent, began = 0, time.monotonic()
    while time.monotonic() - began < 3:
        try:
            sent += caller.send(b"\x00\xff" * 30_000)
        except TimeoutError:
            made.lesson.tick()
    ear = KitNow(made.lesson, kit)
    assert sent < 10e6, "it has to wait"
    assert len(ear.tape) <= 400
    assert max((len(line.data) for line in ear.tape), default=0) <= 200, "of an endless line only its beginning is held"
    assert made.heard().can_record, "the other kit is heard all the same"
    caller.close()
    server.close()


# speeds, plugs, shared ports


@pytest.mark.parametrize("speed", [4_800, 460_800])
def test_a_speed_is_found_in_the_first_round_for_five_lines_a_second(
    plugged: Callable[..., Listening], speed: int
) -> None:
    made = plugged("--rate", "5", kit_speed=speed)
    made.until(lambda: made.ear().speed_found, "the speed is found")
    assert made.ear().address.speed == speed
    assert made.ear().speeds_tried <= len(SPEEDS), "in the first round; how long that takes is measured in the bench"
    made.heard()

    def names() -> list[str]:
        format = made.ear().format
        return [column.name for column in format.columns] if format is not None else []

    made.until(lambda: names() == ["ms", "load", "temp"], "its first words are heard after all")
    made.until(lambda: f"speed={speed}" in made.lesson.store.kits[made.ear().kit].link, "it is remembered")


@pytest.mark.parametrize("dialect", ["semicolons", "names-colon", "tagged", "one-number"])
def test_a_kit_that_runs_on_when_it_is_opened_is_read_from_the_middle_of_a_line_on(
    plugged: Callable[..., Listening], dialect: str
) -> None:
    made = plugged("--gate", "running", "--dialect", dialect, speed=4.0)
    ear = made.heard()

    def roles() -> list[str]:
        format = ear.format
        return [f"{column.role} {column.kind}" for column in format.columns] if format is not None else []

    asked = {
        "semicolons": ["clock number", "channel number", "channel number"], "names-colon": ["channel number"] * 3,
        "tagged": ["channel number"] * 3, "one-number": ["channel number"],
    }[dialect]  # fmt: skip
    made.until(lambda: roles() == asked, "each column is what it is")
    made.world(3)
    made.kits.order(kits="all", fault="unplug")
    made.until(lambda: not ear.is_open, "the loss is seen")
    made.kits.order(kits="all", fault="plug")
    made.heard()
    made.world(3)
    assert roles() == asked, "each column is what it was before"
    assert ear.clock.restarts == 0, "it never restarted"
    odd = [line for line in ear.tape if line.kind == "unreadable"]
    assert len(odd) <= (12 if dialect == "tagged" else 0), odd
    assert ear.warning is None
    if dialect == "one-number":
        assert ear.live.extent("column 1")[0] > 7000, "half a number is no number"


def test_a_kit_that_comes_back_under_another_path_is_the_same_kit(plugged: Callable[..., Listening]) -> None:
    made = plugged()
    ear = made.heard()
    path = ear.address.path
    made.lesson.roster.give_kits_in_order([ear.kit])
    made.kits.order(kits="all", fault="replug")
    made.until(lambda: ear.can_record and ear.address.path != path, "it is heard again")
    assert made.lesson.store.group_at(ear.kit) == made.lesson.store.groups[0].id
    assert len(made.lesson.store.kits) == 1


def test_what_belongs_to_nobody_disappears_as_it_came(plugged: Callable[..., Listening]) -> None:
    made = plugged(count=2)
    kept, loose = made.heard("Basalt"), made.heard("Chalk")
    made.lesson.roster.give_kits_in_order([kept.kit])
    made.kits.order(kits="all", fault="unplug")
    made.until(lambda: not kept.is_open and not loose.is_open, "both are out")
    plugged_identities, gone = {port.identity for port in plugged_in(made.kits.folder)}, loose.kit
    assert made.lesson.roster.forget_gone(plugged_identities) == [gone]
    assert list(made.lesson.roster.kits) == [kept.kit]
    made.kits.order(kits="all", fault="plug")
    made.heard("Chalk")
    made.heard("Basalt")


def test_a_taken_port_names_its_holder_and_is_heard_once_it_is_free(plugged: Callable[..., Listening]) -> None:
    made = plugged("--fault", "taken")
    trouble = made.told("taken")
    assert "(process " in trouble.what
    assert "python" in trouble.what
    made.kits.order(kits="all", fault="free")
    made.heard()


@pytest.mark.parametrize(("dialect", "ids"), [("relay-column", ["1", "2", "3"]), ("relay-letters", ["K1", "K2", "K3"]), ("relay-names", ["k1", "k2"])])  # fmt: skip
def test_kits_on_a_shared_port_become_kits_of_their_own(
    plugged: Callable[..., Listening], dialect: str, ids: list[str]
) -> None:
    made = plugged("--dialect", dialect, speed=4.0)
    source = made.heard()
    made.until(lambda: sorted(source.relayed) == ids, "every id becomes a kit")
    kits = [source.relayed[id] for id in ids]
    made.lesson.roster.give_kits_in_order(kits)
    made.until(lambda: all(made.lesson.roster.kits[kit].can_record for kit in kits), "all are ready")
    groups = [group.id for group in made.lesson.store.groups[: len(ids)]]
    assert made.lesson.recording.begin_runs(groups) == groups
    made.world(4)
    made.lesson.recording.end_runs(groups)
    made.until(lambda: len(made.lesson.store.kept_runs()) == len(ids), "the runs are kept")
    heard = b"".join(row["bytes"] for row in made.lesson.book.rows("journal", what="bytes"))
    means = []
    for run, id in zip(made.lesson.store.kept_runs(), ids, strict=True):
        replayed = made.lesson.working_up.replayed(run.id)
        own = [line for line in heard[run.begin : run.end].splitlines() if line.startswith(id.encode())]
        assert len(replayed.t) == len(own) > 40, "each line of its own, and no other"
        means.append(float(np.mean(replayed.raw.get("load", next(iter(replayed.raw.values()))))))
    if len(ids) == 3:
        np.testing.assert_allclose(np.diff(means), 100, atol=25)
    made.kits.order(kits="all", fault="unplug")
    made.until(
        lambda: all(made.lesson.roster.why_not_ready(group) == "lost" for group in groups),
        "all are told as unplugged",
    )


def test_kits_whose_line_of_names_has_gone_by_are_asked_about_and_made_once_it_is_said(
    plugged: Callable[..., Listening],
) -> None:
    made = plugged("--dialect", "relay-column", "--gate", "running", speed=4.0)
    source = made.heard()
    made.until(lambda: source.format is not None and source.format.question, "it is asked about")
    assert not source.relayed
    words = kit_words(made.lesson, source.kit)
    assert (words.line, words.needs_you) == ("asks how it is read", True)
    format = source.format
    assert format is not None
    made.lesson.roster.read_as(source.kit, msgspec.structs.replace(format, question="", other=None))
    made.until(lambda: sorted(source.relayed) == ["1", "2", "3"], "every id becomes a kit")


def test_a_kit_is_asked_for_each_reading_and_gaps_are_where_no_answer_came(plugged: Callable[..., Listening]) -> None:
    made = plugged("--gate", "asked")
    trouble = made.told("asked")
    assert (trouble.act, trouble.send) == ("ask", "?")
    made.lesson.roster.give_kits_in_order([made.ear().kit])
    with pytest.raises(Trouble, match=r"every 0\.1 to 3600 s"):
        made.lesson.roster.ask_for_readings(made.ear().kit, AskPlan("?", 0.0))
    made.lesson.roster.ask_for_readings(made.ear().kit, AskPlan("?", 0.2, 0.15))
    ear = made.heard()
    group = made.lesson.store.groups[0].id
    made.lesson.recording.begin_runs([group])
    made.until(lambda: ear.run is not None and ear.run.readings >= 6, "answers come")
    made.kits.order(kits="all", fault="unplug")
    made.until(lambda: not ear.is_open, "the loss is seen")
    made.kits.order(kits="all", fault="plug")
    made.until(lambda: ear.run is not None and ear.run.readings >= 12, "answers come again")
    assert ear.asking is not None
    assert ear.answered >= 12
    made.until(lambda: 2 < ear.rate < 6, "the rate that is achieved is told")
    made.lesson.recording.end_runs([group])
    made.until(lambda: made.lesson.store.kept_runs(), "the run is kept")
    replayed = made.lesson.working_up.replayed(made.lesson.store.kept_runs()[0].id)
    assert len(replayed.gaps) >= 1
    sent = [row for row in made.lesson.book.rows("journal") if row["what"] == "sent"]
    assert {row["bytes"] for row in sent} == {b"?"}
    made.lesson.roster.ask_for_readings(ear.kit, None)
    assert ear.asking is None


def test_a_menu_is_recognised_and_its_key_starts_the_kit(plugged: Callable[..., Listening]) -> None:
    made = plugged("--gate", "menu")
    trouble = made.told("menu")
    assert (trouble.act, trouble.label, trouble.send) == ("send", "Send the key s", "s")
    made.lesson.roster.send(made.ear().kit, trouble.send, "no ending")
    made.heard()


def test_silence_is_told_by_its_reason(plugged: Callable[..., Listening]) -> None:
    gated = plugged("--gate", "button")
    assert "Press the button on the kit" in gated.told("button").do
    gated.kits.order(kits="all", fault="press")
    gated.heard()
    gated.kits.order(kits="all", fault="silent")
    assert gated.told("silent").label == "Restart the kit"
    changing = plugged("--dialect", "on-change", speed=8.0)
    changing.heard()
    assert changing.ear().format is not None


def test_a_port_from_which_nothing_ever_came_is_told_as_dead(plugged: Callable[..., Listening], tmp_path: Path) -> None:
    import os
    import tty

    made = plugged()
    master, other = os.openpty()
    tty.setraw(other)
    kit = made.lesson.roster.hear(Port(os.ttyname(other), "quiet", "quiet"))
    made.until(lambda: (t := made.lesson.roster.kits[kit].trouble) is not None and t.code == "dead", "it is told")
    with pytest.raises(LinkTrouble, match=r"restart"):
        made.lesson.engine.restart(kit)
    os.close(master)


@pytest.mark.parametrize(
    ("fault", "cause"), [("weak", "restarting"), ("half lines", "ragged"), ("overload", "overload")]
)
def test_what_is_wrong_with_the_stream_is_told_while_it_is_heard(
    plugged: Callable[..., Listening], fault: str, cause: str
) -> None:
    made = plugged(speed=3.0 if fault == "weak" else 1.0, kit_speed=9_600 if fault == "overload" else 115_200)
    made.heard()
    made.kits.order(kits="all", fault=fault)
    if fault == "half lines":
        made.until(lambda: made.ear().warning is not None, "a warning")
        assert made.ear().warning.code in ("ragged", "garbled")  # type: ignore[union-attr]
    else:
        made.told(cause)
    if fault == "overload":
        assert made.ear().load > 0.9


# columns


@pytest.mark.parametrize(
    ("sensor", "cause"),
    [("hum50", "hum"), ("hum60", "hum"), ("stuck", "stuck"), ("saturated", "saturated"), ("floating", "floating"), ("good sensor", "")],
)  # fmt: skip
def test_a_sick_column_is_told(plugged: Callable[..., Listening], sensor: str, cause: str) -> None:
    made = plugged("--fault", sensor, "--rate", "130", speed=4.0)
    ear = made.heard()
    found = made.lesson.sensors.health(ear.kit)[0]

    def told() -> bool:
        nonlocal found
        found = made.lesson.sensors.health(ear.kit)[0]
        return found.cause == cause and ear.readings > 800 and found.rate == pytest.approx(130, rel=0.1)

    made.until(told, f"{sensor} is told, and 130 readings a second")
    if cause == "hum":
        assert sensor.removeprefix("hum") + " Hz" in found.words


@given(st.floats(0.9, 48), st.sampled_from([120.0, 130.0, 200.0, 500.0]), st.integers(0, 10**6))
def test_a_real_signal_is_not_taken_for_hum(frequency: float, rate: float, seed: int) -> None:
    t = np.arange(0, 8, 1 / rate)
    folded = [abs(f - round(f / rate) * rate) for f in (50.0, 60.0)]
    noise = np.random.default_rng(seed).normal(0, 5, len(t))
    values = np.round(5000 + 300 * np.sin(2 * np.pi * frequency * t) + noise)
    cause = column_health("load", t, values, (0.0, 6000.0)).cause
    if all(abs(frequency - each) > 0.6 for each in folded):
        assert cause != "hum"


def test_the_channel_that_is_touched_is_found(plugged: Callable[..., Listening]) -> None:
    made = plugged(count=3, speed=4.0)
    for alias in ("Basalt", "Chalk", "Flint"):
        made.heard(alias)
    made.kits.order(kits=["Basalt"], hang="bottle")
    made.world(14)
    windows = {ear.kit: ear.live for ear in made.lesson.roster.kits.values()}
    which = WhichIsWhich(windows, made.lesson.engine.speed)
    first = which.look(windows)
    assert first is None or not first.clear
    made.kits.order(kits=["Flint"], hang="200 g")

    def found() -> bool:
        changed = which.look(windows)
        return changed is not None and changed.clear and changed.kit == made.ear("Flint").kit

    made.until(found, "Flint is named")
    assert which.look(windows).channel == "load"  # type: ignore[union-attr]


# formats and words


def test_a_format_is_changed_by_hand_for_one_kit_and_for_all_like_it(plugged: Callable[..., Listening]) -> None:
    made = plugged("--dialect", "no-value", count=2)
    ear, other = made.heard("Basalt"), made.heard("Chalk")
    format = ear.format
    assert isinstance(format, StreamFormat)
    columns = tuple(
        msgspec.structs.replace(c, name="pull", unit="N") if c.name == "load" else c for c in format.columns
    )
    mine = msgspec.structs.replace(
        format, columns=columns, no_value=(*format.no_value, "999.99"), proposals=(), by_hand=True, sure=1.0
    )
    made.lesson.roster.read_as(ear.kit, mine)
    made.until(lambda: ear.live.latest("raw pull"), "the new name is there")
    assert other.format != mine
    seen = ear.live.extent("temp")
    made.until(lambda: ear.live.extent("temp") != seen or ear.live.extent("temp")[1] < 100, "no 999.99 is a reading")
    change = made.lesson.roster.read_as(ear.kit, mine, every=True)
    assert other.format == mine
    assert made.lesson.store.plan.formats == (mine,)
    made.lesson.changes.undo(change)
    assert other.format != mine
    made.lesson.changes.redo(change)
    assert other.format == mine


def test_a_kit_that_speaks_another_way_than_was_set_by_hand_is_told_and_worked_out_anew(
    plugged: Callable[..., Listening],
) -> None:
    made = plugged("--dialect", "names-colon")
    ear = made.heard()
    worked_out = ear.format
    assert isinstance(worked_out, StreamFormat)
    columns = (Column("load"), Column("temp"))
    made.lesson.roster.read_as(ear.kit, StreamFormat(",", columns, start="$", end="*"))
    made.until(lambda: ear.trouble is not None and ear.trouble.code == "unlike", "it is told, with what can be done")
    assert ear.trouble.act == "work-out"
    change = made.lesson.roster.read_as(ear.kit, ear.format, by_hand=False)
    made.until(lambda: ear.format.channels == worked_out.channels and ear.trouble is None, "it is read as before")
    assert not ear.format.by_hand
    made.lesson.changes.undo(change)
    made.until(lambda: ear.format.by_hand, "and taken back it stands as it was set")


def test_commands_of_the_plan_and_settings_of_the_link_reach_the_kit(plugged: Callable[..., Listening]) -> None:
    made = plugged()
    ear = made.heard()
    command = CommandPlan("lamp on", "L1\\n", "L")
    made.lesson.roster.send(ear.kit, command.send, "no ending")
    made.until(lambda: made.kits.order(ask="state")["lamps"]["Basalt"], "the lamp is on")
    made.until(lambda: any(line.kind == "sent" for line in ear.tape), "what is sent is on the tape")
    made.until(lambda: any(line.data == b"lamp on" for line in ear.tape), "its answer too")
    change = made.lesson.roster.set_link(ear.kit, f"{ear.address.path}?speed=9600&parity=even")
    assert (ear.address.speed, ear.address.setting("parity")) == (9600, "even")
    made.lesson.changes.undo(change)
    made.heard()
    with pytest.raises(Trouble, match="parity cannot be"):
        made.lesson.roster.set_link(ear.kit, f"{ear.address.path}?parity=purple")


def test_the_whole_tape_is_paged_and_searched_backwards(plugged: Callable[..., Listening]) -> None:
    made = plugged("--rate", "200", speed=8.0)
    ear = made.heard()
    made.until(lambda: ear.lines > 3000, "many lines")
    session, path = ear.session, made.lesson.book.path
    made.lesson.close()
    book = Book.open(path)
    whole = b"".join(row["bytes"] for row in book.rows("journal", session=session, what="bytes"))
    pages, at = [], None
    while True:
        lines, at = lines_before(book, session, at, most=300)
        pages.insert(0, lines)
        if at is None:
            break
    found = [line for page in pages for line in page]
    assert [line.line for line in found] == [line for line in whole.split(b"\r\n") if line]
    for line in found[:: len(found) // 50]:
        assert whole[line.offset :].startswith(line.line)
    hits, _ = lines_before(book, session, None, find="SWING kit")
    assert [hit.text for hit in hits] == ["swing kit v3, zero done"]
    book.close()


@pytest.mark.parametrize(
    ("words", "cause", "send"),
    [
        (["Press s to start, x to stop"], "menu", "s"), (["type 'g' to begin"], "menu", "g"),
        (["[1] slow", "[2] fast", "[g] go", "your choice?"], "menu", "g"), (["press any key"], "menu", "\n"),
        (["Press the red button to begin"], "button", ""), (["send ? for a reading"], "asked", "?"),
        (["Send R to get a measurement"], "asked", "R"), (["swing kit v3, zero done"], "", ""), (["ready"], "", ""),
    ],
)  # fmt: skip
def test_what_a_kit_waits_for_is_found_in_its_words(words: list[str], cause: str, send: str) -> None:
    found = waiting_for(words)
    assert (found.cause, found.send) == (cause, send) if found else cause == ""


asks = st.sampled_from(
    ["press x to begin", "hit enter", "[s] start", "h) help", "your choice?", "push the button", "ok"]
)


@given(st.lists(st.one_of(st.text(max_size=120), asks), max_size=8))
def test_what_a_kit_waits_for_stands_in_words_that_it_said(words: list[str]) -> None:
    found = waiting_for(words)
    if found is not None:
        assert found.words in [each.strip() for each in words]
        assert found.send in ("", "\n") or any(found.send in each for each in words), "a key that it named"
    assert waiting_for([*words, "press any key"]) == ("menu", "\n", "press any key"), "the newest words say most"


# clocks


@given(st.integers(0, 10**6), st.sampled_from([0.005, 0.02, 0.1]), st.sampled_from([0.001, 0.016, 0.03]))
def test_bus_jitter_is_taken_out_without_moving_any_gap(seed: int, step: float, poll: float) -> None:
    dice = np.random.default_rng(seed)
    true = np.arange(600) * step
    true[400:] += 30 * step + 1.0  # a gap
    arrival = np.maximum.accumulate(np.ceil(true / poll) * poll + dice.exponential(0.0005, 600))
    t = ClockMap(0.0).map(None, arrival)[0]
    settled = slice(100, 399)
    rough = float(np.std((arrival - true)[settled]))
    assert float(np.std((t - true)[settled])) <= rough * 1.02 + 2e-4
    if poll > step:
        assert float(np.std(np.diff(t[settled]))) < 0.5 * float(np.std(np.diff(arrival[settled])))
    assert t[400] == arrival[400]
    assert (np.diff(t) >= 0).all()


@pytest.mark.parametrize("name", [n for n in SPEECHES if n not in ("on-change",)])
def test_every_stand_in_dialect_is_read_from_its_own_lines(name: str) -> None:
    from common_bench.standins.worlds.swinging_bottles import WORLD, BottleKit

    kit = BottleKit(WORLD.benches(1)[0], 9, dialect=name)
    kit.restart(0.0)
    reader, rows = Reader(), 0
    for tick in range(400):
        heard = reader.feed([Stamped(tick / 100, kit.until(tick / 100))])
        rows += heard.readings
    assert reader.format is not None
    assert rows > 150
    assert reader.unreadable <= (1 if name == "later-column" else 0)  # one longer line alone proves nothing
    assert len(reader.format.channels) >= 1


def test_kits_with_clocks_of_their_own_share_one_time_line(plugged: Callable[..., Listening]) -> None:
    """The figure in docs/links.md comes from here: one event, heard by four kits, each on its own clock."""
    made = plugged(count=4)
    ears = [made.heard(alias) for alias in ("Basalt", "Chalk", "Flint", "Gneiss")]
    made.kits.order(kits=["Chalk"], fault="drift")
    made.world(8)
    made.kits.order(kits="all", hang="300 g")
    made.world(1.5)
    times = []
    for ear in ears:
        t, values = ear.live.recent("raw load", 2.5)
        half = (values[0] + values[-1]) / 2
        after = int(np.flatnonzero(values > half)[0])
        share = (half - values[after - 1]) / (values[after] - values[after - 1])
        times.append(t[after - 1] + share * (t[after] - t[after - 1]))
    spread = max(times) - min(times)
    print(f"four kits agree on one event within {spread * 1000:.1f} ms")
    assert spread < 0.04, "two steps of their sampling"
    drift = ears[1].clock.rate - 1
    assert abs(drift) < 1e-3


def test_kits_are_made_of_ids_only_once_it_is_sure_and_taken_back_without_a_trace(
    plugged: Callable[..., Listening],
) -> None:
    made = plugged("--dialect", "relay-letters", count=1)
    lesson = made.lesson
    made.until(lambda: len(lesson.roster.kits) == 4, "a kit for each of three ids")
    receiver = next(state for state in lesson.roster.kits.values() if state.relayed)
    assert receiver.format is not None
    assert receiver.format.sure == 1.0
    rows = {row["id"] for row in lesson.store.rows("kit")}
    plain = msgspec.structs.replace(
        receiver.format, kit_mark="", start="K", columns=(Column("id"), *receiver.format.columns)
    )
    lesson.roster.read_as(receiver.kit, plain)
    made.until(lambda: len(lesson.roster.kits) == 1, "they are taken back")
    lesson.tick()
    assert {row["id"] for row in lesson.store.rows("kit")} < rows


def test_a_run_that_was_read_wrongly_is_read_anew_with_all_that_follows(plugged: Callable[..., Listening]) -> None:
    made = plugged("--dialect", "semicolons", count=1)
    lesson, group = made.lesson, made.lesson.store.groups[0].id
    ear = made.heard("Basalt")
    right = ear.format
    assert isinstance(right, StreamFormat)
    lesson.roster.give_kit(ear.kit, group)
    wrong = msgspec.structs.replace(right, columns=(right.columns[0], Column("mass"), *right.columns[2:]))
    lesson.roster.read_as(ear.kit, wrong)
    made.until(lambda: ear.live.latest("raw mass"), "it is read in the wrong way")
    lesson.recording.begin_runs([group])
    made.world(6)
    lesson.recording.end_runs([group])
    made.until(lambda: len(lesson.store.kept_runs()) == 1, "the run is kept")
    run = lesson.store.kept_runs()[0].id
    assert "mass" in lesson.working_up.replayed(run).raw
    assert lesson.reading_anew.runs_of(ear.kit, right) == [run]
    change = lesson.reading_anew.keep(lesson.reading_anew.preview_later([run], right).result())
    again = lesson.working_up.replayed(run)
    assert "load" in again.raw
    assert "mass" not in again.raw
    lesson.changes.undo(change)
    assert "mass" in lesson.working_up.replayed(run).raw
