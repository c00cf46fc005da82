"""An engine in a process of its own: what is shown of it is what it shows itself, and whatever becomes of one process, the other says so
and nothing is lost."""

from __future__ import annotations

import logging
import math
import os
import pickle
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from multiprocessing.popen_forkserver import Popen as ForkServerPopen
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book.book import Book
from common_bench.book.book_file import remove
from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import Address, read_address
from common_bench.model.block import Block, Events, Floats, Rows, Series, Source
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan, RulePlan
from common_bench.model.stream import Column, StreamFormat
from common_bench.model.trouble import BookTrouble, EngineTrouble
from common_bench.reading.judgement import Judgement, Reading
from common_bench.reading.lines import Lines
from common_bench.record.apart import EngineApart
from common_bench.record.engine import Engine
from common_bench.record.events import EngineEvent
from common_bench.record.live import RAW, JustWorked, LiveNews, LiveWindow
from common_bench.record.mirror import MOST_WAITING, Mirror, Teller
from common_bench.record.parcels import SENT_ONCE, PieceLayout
from common_bench.record.replay import replay
from common_bench.record.rules import HowFar, Rule
from common_bench.record.serving import ENGINE
from common_bench.record.snapshot import ClockFace, KitState, RunState, Snapshot
from common_bench.record.tape import MOST_HELD, TAPE_LINES, LastLines, Piece, TapeLine
from common_bench.standins.control import StandInProcess
from common_bench.workings.evaluate import INNER, check
from waiting import Class, wait_for

CHANNELS, QUANTITIES = ("load", "temp"), ("force", "heat", f"force{INNER}1")
SPEED_HERE = 4.0

# what is told of it


class Times:
    """Go on from piece to piece."""

    def __init__(self) -> None:
        self.now = 0.0

    def next(self, count: int) -> Floats:
        found = self.now + np.arange(1, count + 1) * 0.25
        self.now += 0.25 * count
        return found


def numbers(count: int, unknown: bool = True) -> st.SearchStrategy[Floats]:
    each = st.floats(-1e6, 1e6) | (st.just(math.nan) if unknown else st.nothing())
    return st.lists(each, min_size=count, max_size=count).map(np.array)


def some_true(count: int) -> st.SearchStrategy[np.ndarray]:
    return st.lists(st.booleans(), min_size=count, max_size=count).map(lambda each: np.array(each, bool))


@st.composite
def series(draw: st.DrawFn, t: Floats, gaps: np.ndarray | None, times: Times) -> Series:
    if draw(st.booleans()):  # told late, or at events
        t, gaps = times.next(draw(st.integers(0, 3))) - 0.1, None
    count = len(t)
    sources = [Source("noise", False), Source("scale", True), Source("unknown", True, dof=0)]
    parts = {
        each: draw(numbers(count, unknown=False)) for each in draw(st.lists(st.sampled_from(sources), unique=True))
    }
    rows = None
    if draw(st.booleans()):
        own = draw(some_true(count)) if gaps is None else gaps
        rows = Rows(own, np.zeros(count), np.ones(count, bool))
    return Series(t, draw(numbers(count)), "N", parts, draw(st.none() | some_true(count)), rows=rows)


@st.composite
def piece(draw: st.DrawFn, times: Times, again: bool) -> JustWorked:
    count = draw(st.integers(1, 4))
    t, gaps = times.next(count), draw(some_true(count))
    nothing = np.empty(0)
    channels = draw(st.lists(st.sampled_from(CHANNELS), unique=True, min_size=1))
    block = Block(
        t, nothing, nothing, np.empty(0, np.int64), gaps, {each: draw(numbers(count)) for each in channels}, nothing
    )
    results: dict[str, Series | Events] = {
        each: draw(series(t, gaps, times)) for each in draw(st.lists(st.sampled_from(QUANTITIES), unique=True))
    }
    if draw(st.booleans()):
        at = times.next(draw(st.integers(0, 2)))
        results["swing"] = Events(at, np.zeros(len(at), bool))
    return JustWorked(None if again else block, results, draw(st.booleans()))


@st.composite
def news(draw: st.DrawFn, times: Times) -> LiveNews:
    what = draw(st.sampled_from(["came"] * 8 + ["anew", "again", "forgotten", "cleared"]))
    many = draw(st.integers(1, 3)) if what in ("came", "anew", "again") else 0
    names = tuple(draw(st.lists(st.sampled_from(QUANTITIES[:2]), unique=True))) if what == "forgotten" else ()
    return LiveNews(what, [draw(piece(times, what == "again")) for _ in range(many)], names)  # type: ignore[arg-type]


def shown(window: LiveWindow) -> list[object]:
    """All that a window shows, so that it can be compared: nan is like nan."""
    found: list[object] = [window.names(), repr(window.last_t)]
    for name in [*(RAW + each for each in CHANNELS), *QUANTITIES[:2]]:
        picture = window.since(name, -math.inf, 10**6, 1.0)
        found += [
            name,
            repr(window.latest(name)),
            repr(window.reach(name) if RAW not in name else window.extent(name[4:])),
        ]
        for each in (*picture, window.guesses(name, picture), window.uncertainties(name, picture)):
            found.append(None if each is None else np.asarray(each).tobytes())
    return [*found, window.happened("swing"), [window.resolution(each) for each in CHANNELS]]


def state_of(live: LiveWindow, roll: object, turn: int) -> KitState:
    run = RunState(7, 1, Rule(), 0.1 * turn, turn, HowFar(0.1 * turn, math.nan, "by hand"))
    return KitState(
        3, 1, Address("/dev/ttyX"), live, is_open=True, lines=turn, run=run if turn > 2 else None, last_heard=0.1 * turn,
        clock=ClockFace(0.01, 1.0 + turn, 0.0, None, False), roll=roll,  # type: ignore[arg-type]
    )  # fmt: skip


@given(st.data())
def test_a_window_elsewhere_shows_what_one_that_was_told_the_same_shows(data: st.DataObject) -> None:
    """However many turns one parcel holds, and whatever of it was looked at meanwhile."""
    times, truth = Times(), LiveWindow()
    teller, mirror = Teller(lambda: None), Mirror()
    live = LiveWindow(lambda each: teller.hear(3, live, each))
    truth.with_u = frozenset(QUANTITIES)
    tape = LastLines()
    teller.turned(Snapshot(0.0, 0, {3: state_of(live, tape.roll, 0)}))
    mirror.take(teller.packed(None, [], [], (None, 0, 0)))
    mirror.snapshot.kits[3].live.with_u = truth.with_u
    for turn in range(1, data.draw(st.integers(1, 12)) + 1):
        for _ in range(data.draw(st.integers(0, 3))):
            told = data.draw(news(times))
            truth.follow(told)
            live.follow(told)
        tape.sent(float(turn), b"ask")
        state = state_of(live, tape.roll, turn)
        teller.turned(Snapshot(0.1 * turn, turn, {3: state}))
        if data.draw(st.booleans()):
            answers = [(1, None, None)] if data.draw(st.booleans()) else []
            if data.draw(st.booleans()):
                with pytest.raises(TypeError):  # of a parcel that cannot be packed nothing is lost
                    teller.packed(None, [], [(1, threading.Lock(), None)], (None, 0, 0))
            mirror.take(teller.packed(None, [], answers, (None, 0, 0)))
            if data.draw(st.booleans()):
                assert shown(mirror.snapshot.kits[3].live) == shown(truth)
    mirror.take(teller.packed(None, [EngineEvent("lost", 3)], [], (None, 0, 0)))
    seen = mirror.snapshot.kits[3]
    assert shown(seen.live) == shown(truth)
    ours, theirs = (msgspec.structs.replace(each, live=truth, roll=tape.roll) for each in (state, seen))
    assert repr(msgspec.structs.astuple(ours)) == repr(msgspec.structs.astuple(theirs))
    assert seen.tape == tape.roll.lines


@pytest.mark.parametrize("first", [0, 1])
@pytest.mark.parametrize("every", [1, 2])
def test_what_changes_with_every_line_is_told_soon_whichever_turns_a_kit_has(first: int, every: int) -> None:
    """As of one that is heard through the port of another, which has its turn with that."""
    teller, mirror, roll, live = Teller(lambda: None), Mirror(), LastLines().roll, LiveWindow()
    state = state_of(live, roll, 3)
    for turn in range(3, 40):
        if turn % every == first % every:
            state = state_of(live, roll, turn)
        teller.turned(Snapshot(0.1 * turn, turn, {3: state}))
        mirror.take(teller.packed(None, [], [], (None, 0, 0)))
        assert turn - mirror.snapshot.kits[3].lines <= 7


@given(st.lists(st.integers(0, 700), min_size=1, max_size=12), st.data())
def test_a_tape_elsewhere_holds_the_same_last_lines(counts: list[int], data: st.DataObject) -> None:
    teller, mirror, tape, live = Teller(lambda: None), Mirror(), LastLines(), LiveWindow()
    offset = 0
    for turn, count in enumerate(counts, 1):
        for _ in range(data.draw(st.integers(1, 3))):
            if count:
                starts = np.arange(count) * 4
                lines = Lines(b"a;b\n" * count, starts, starts + 3, np.full(count, 0.5 * turn), offset)
                tape._append(Piece(lines, None), count)
                offset += 4 * count
            if data.draw(st.booleans()):
                tape._append(TapeLine(0.5 * turn, -1, b"ask", "sent"), 1)
        teller.turned(Snapshot(0.1, turn, {3: state_of(live, tape.roll, turn)}))
        mirror.take(teller.packed(None, [], [], (None, 0, 0)))
    mirror.take(teller.packed(None, [EngineEvent("lost", 3)], [], (None, 0, 0)))
    assert mirror.snapshot.kits[3].tape == tape.roll.lines
    assert sum(1 for _ in mirror.snapshot.kits[3].roll.last(10**6)) <= MOST_HELD + 3 * (700 + TAPE_LINES)


def test_of_what_nobody_takes_the_oldest_pictures_are_let_go_and_no_line_is_drawn_across() -> None:
    teller, mirror = Teller(lambda: None), Mirror()
    live = LiveWindow(lambda each: teller.hear(3, live, each))
    nothing, gaps = np.empty(0), np.zeros(1, bool)
    for turn in range(MOST_WAITING + 2):
        t = np.array([float(turn)])
        block = Block(t, nothing, nothing, np.empty(0, np.int64), gaps, {"load": t}, nothing)
        live.follow(LiveNews("came", [JustWorked(block, {}, False)]))
        teller.turned(Snapshot(float(turn), turn, {3: state_of(live, LastLines().roll, turn)}))
        if turn == 0:
            mirror.take(teller.packed(None, [], [], (None, 0, 0)))
    mirror.take(teller.packed(None, [], [], (None, 0, 0)))
    picture = mirror.snapshot.kits[3].live.since(f"{RAW}load", -math.inf, 10**6, 1.0)
    assert picture.t[-1] == MOST_WAITING + 1
    assert np.all(np.diff(picture.t) == 1.0)  # the first, which was shown, is gone with those that are missing


def test_workings_are_sent_as_they_are_written() -> None:
    lines = ["force = 2 · load", "swings = peaks of force", "period = time between swings", "wrong = 3 · nobody"]
    before = check(lines, {"load": "N"}, {"temp": "°C"})
    after = pickle.loads(pickle.dumps(before))
    assert [each.text for each in after.lines] == lines
    assert (after.kinds, after.troubles, after.channels, after.raw) == (
        before.kinds,
        before.troubles,
        before.channels,
        before.raw,
    )


def lasting() -> list[Any]:
    """One of each of what is sent once, as a lesson has it."""
    column = Column("load", tick=0.1)
    format = StreamFormat(";", (column,), other=StreamFormat(",", (column,)))
    reading = Reading(format, 9.5, 10, 10)
    calibration = Calibration("load", "force", "N", "line", (0.0, 1.0), ((0.1, 0.0), (0.0, 0.1)), (0.0, 9.0), ())
    return [
        read_address("/dev/ttyX?speed=9600&parity=even"), read_address("tcp://[::1]:4000"), calibration,
        AskPlan("ask\\n"), format, Judgement(format, reading, None, 4.5, 10, True),
        Rule.of(RulePlan(begins="when load rises through 2 N", ends="after 5 s, after 3 swings or when load falls through 1 N")),
        PieceLayout(("load",), (("force", "N", True, True, False, False),), ("swing",), True),
    ]  # fmt: skip


def test_what_is_sent_once_stays_as_it_is_whatever_it_is_asked_meanwhile() -> None:
    """Else it would change while another thread packs it."""
    assert {type(each) for each in lasting()} == set(SENT_ONCE)
    for each in lasting():
        before, kept = pickle.dumps(each), dict(getattr(each, "__dict__", {}))
        for name in dir(each):
            if not name.startswith("__"):
                getattr(each, name)
        assert dict(getattr(each, "__dict__", {})) == kept, type(each)
        assert pickle.dumps(each) == before, type(each)


# lessons that are heard by one


@pytest.fixture
def apart(tmp_path: Path, stand_ins: Callable[..., StandInProcess]) -> Iterator[Callable[..., Class]]:
    """A class of stand-in kits that are heard by a process of their own."""
    opened: list[OpenLesson] = []

    def make(count: int = 2) -> Class:
        kits = stand_ins(count=count, world_speed=SPEED_HERE)
        lesson = prepared_lesson(tmp_path / "lesson.benchbook", speed=SPEED_HERE, count=count, apart=True)
        opened.append(lesson)
        plug_in(lesson, kits.folder)
        made = Class(lesson, kits)
        made.heard()
        return made

    yield make
    for lesson in opened:
        lesson.close()


def test_runs_are_kept_as_they_were_seen_and_as_their_bytes_give_them_again(apart: Callable[..., Class]) -> None:
    made = apart()
    lesson = made.lesson
    plan = msgspec.structs.replace(lesson.store.plan, rule=RulePlan(seconds=6.0))
    lesson.planning.change_plan(plan, "Record for 6 s")
    seen: list[EngineEvent] = []
    lesson.recording.begin_runs(list(made.group.values()))
    assert all(state.run is not None for state in lesson.roster.kits.values()), "they are seen to have begun at once"

    def kept() -> bool:
        seen.extend(lesson.tick())
        return sum(each.what == "run-worked" for each in seen) == 2

    wait_for(kept, "both are kept and worked up")
    assert [each.what for each in seen if each.what.startswith("run-")][:2] == ["run-began", "run-began"]
    for event in (each for each in seen if each.what == "run-kept"):
        assert event.recorded is not None
        assert len(event.recorded.worked) == 1, "as one piece"
        run = lesson.store.run(event.run)
        again, live = replay(lesson.book, run, lesson.store.channels), event.recorded.worked[0]
        assert again.t.tobytes() == (live.block.t - again.began).tobytes()
        assert {name: values.tobytes() for name, values in again.raw.items()} == {
            name: values.tobytes() for name, values in live.block.channels.items()
        }
        for name, result in again.results.items():
            if isinstance(result, Series):
                found = live.results[name]
                assert isinstance(found, Series)
                assert result.values.tobytes() == found.values.tobytes()
                assert {s: u.tobytes() for s, u in result.parts.items()} == {
                    s: u.tobytes() for s, u in found.parts.items()
                }


def test_a_process_that_stands_still_keeps_nobody_waiting_and_one_that_ends_is_told(
    apart: Callable[..., Class], caplog: pytest.LogCaptureFixture
) -> None:
    made = apart()
    lesson, engine = made.lesson, made.lesson.engine
    path, group = lesson.book.path, made.group["Basalt"]
    logging.getLogger().setLevel(logging.INFO)
    lesson.recording.begin_runs([group])
    made.world(4)
    process = engine.process  # type: ignore[union-attr]
    assert process not in (0, os.getpid())
    engine.patience = 0.1
    os.kill(process, signal.SIGSTOP)
    began = time.monotonic()
    with pytest.raises(EngineTrouble) as late:
        engine.send(lesson.store.kit_of(group) or 0, b"?")
    assert (late.value.code, time.monotonic() - began < 2.0) == ("engine-busy", True)
    wait_for(lambda: lesson.roster.snapshot.trouble is not None, "it is told that nothing is heard")
    trouble = lesson.roster.snapshot.trouble
    assert trouble is not None
    assert trouble.code == "engine-hangs"
    os.kill(process, signal.SIGCONT)
    wait_for(lambda: lesson.roster.snapshot.trouble is None, "it goes on")
    os.kill(process, signal.SIGKILL)

    def stopped() -> bool:
        told = lesson.roster.snapshot.trouble
        return told is not None and told.code == "engine-stopped"

    wait_for(stopped, "it is told that it has ended")
    assert not any(kit.is_open or kit.run is not None for kit in lesson.roster.kits.values())
    assert lesson.journal.trouble is not None
    with pytest.raises(Exception, match="stopped"):
        engine.leave(1)
    lesson.close()
    again = OpenLesson.open(path)
    run = next(iter(again.store.runs(group)))
    assert (run.state, run.ending.code if run.ending else "") == ("closed", "program-stopped")
    assert replay(again.book, run, again.store.channels).seconds > 3.0
    again.close()


PROGRAM = """
import sys, time
from pathlib import Path
from common_bench.lesson.demonstration import plug_in, prepared_lesson
if __name__ == "__main__":
    lesson = prepared_lesson(Path(sys.argv[1]), speed=1.0, count=2, apart=True)
    plug_in(lesson, Path(sys.argv[2]))
    groups = [group.id for group in lesson.store.groups]
    while any(lesson.roster.why_not_ready(group) for group in groups):
        time.sleep(0.05)
    lesson.recording.begin_runs(groups)
    print("records", flush=True)
    while True:
        lesson.tick()
        time.sleep(0.05)
"""


def test_a_program_that_is_killed_loses_nothing_that_was_heard_and_the_next_waits_until_it_is_kept(
    tmp_path: Path, stand_ins: Callable[..., StandInProcess]
) -> None:
    kits = stand_ins(count=2, world_speed=1.0)
    book = tmp_path / "killed.benchbook"
    program = subprocess.Popen([sys.executable, "-c", PROGRAM, str(book), str(kits.folder)], stdout=subprocess.PIPE)
    assert program.stdout is not None
    assert program.stdout.readline() == b"records\n"
    time.sleep(3.0)
    program.kill()
    killed = time.monotonic()
    program.wait()
    again = OpenLesson.open(book)  # at once
    assert time.monotonic() - killed < 10.0
    for group in again.store.groups:
        run = next(iter(again.store.runs(group.id)))
        assert run.ending is not None
        assert run.ending.code == "program-stopped"
        assert replay(again.book, run, again.store.channels).seconds > 2.5
    again.close()


class Unsendable:
    """Is something that cannot be sent back, where it comes to."""

    def __reduce__(self) -> tuple[Any, ...]:
        return threading.Lock, ()


def test_what_cannot_be_told_is_said_and_ends_no_telling_and_where_nothing_can_be_told_the_process_ends(
    apart: Callable[..., Class], caplog: pytest.LogCaptureFixture
) -> None:
    made = apart()
    lesson, engine, group = made.lesson, made.lesson.engine, made.group["Basalt"]
    assert isinstance(engine, EngineApart)
    lesson.recording.begin_runs([group])
    made.world(2)
    with pytest.raises(EngineTrouble, match="pickle"):
        engine.ask("__getattribute__", "_loop", within=10.0)
    made.world(2)
    run = lesson.roster.kits[lesson.store.kit_of(group) or 0].run
    assert run is not None
    assert run.seconds > 3.0
    assert lesson.roster.snapshot.trouble is None
    for name, value in (("=_fault_at", math.inf), ("=_fault", Unsendable())):
        engine.order(ENGINE, name, value)

    def stopped() -> bool:
        told = lesson.roster.snapshot.trouble
        return told is not None and told.code == "engine-stopped"

    wait_for(stopped, "it is told that it has ended")
    assert "what the engine tells" in caplog.text
    lesson.close()
    again = OpenLesson.open(lesson.book.path)
    kept = next(iter(again.store.runs(group)))
    assert replay(again.book, kept, again.store.channels).seconds > 3.0
    again.close()


def test_where_no_process_can_be_made_kits_are_heard_by_this_one(
    apart: Callable[..., Class], monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: object) -> None:
        raise OSError(12, "Cannot allocate memory")

    monkeypatch.setattr(ForkServerPopen, "__init__", refuse)
    made = apart(count=1)
    assert isinstance(made.lesson.engine, Engine)
    made.lesson.recording.begin_runs(list(made.group.values()))
    made.world(3)
    assert made.lesson.roster.snapshot.trouble is None


def test_a_book_that_is_gone_is_written_anew_while_another_process_hears(apart: Callable[..., Class]) -> None:
    made = apart()
    lesson = made.lesson
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(4)
    before = lesson.book.path
    remove(before)
    told: list[EngineEvent] = []

    def moved() -> bool:
        told.extend(each for each in lesson.tick() if each.what == "moved")
        return bool(told)

    wait_for(moved, "it is told where the book goes on")
    assert lesson.book.path != before
    made.world(4)
    lesson.recording.end_runs(list(made.group.values()))
    wait_for(lambda: not any(lesson.tick() or [run for run in lesson.store.kept_runs() if not run.end]), "all is kept")
    place = lesson.book.path
    lesson.close()
    again = Book.open(place, readonly=True)
    assert again.check() == []
    again.close()


def test_a_book_is_held_until_the_process_that_hears_has_ended(apart: Callable[..., Class]) -> None:
    made = apart(count=1)
    with pytest.raises(BookTrouble) as held:
        Book.open(made.lesson.book.path)
    assert held.value.code == "book-open-elsewhere"
    process = made.lesson.engine.process  # type: ignore[union-attr]
    made.lesson.close()
    with pytest.raises(ProcessLookupError):
        os.kill(process, 0)
    Book.open(made.lesson.book.path).close()


def test_a_process_that_stands_still_holds_up_no_action_of_a_person_and_does_all_of_them_when_it_goes_on(
    apart: Callable[..., Class],
) -> None:
    made = apart(count=8)
    lesson, engine, groups = made.lesson, made.lesson.engine, list(made.group.values())
    made.by_hand()
    engine.patience = 0.1  # as the window's is
    process = engine.process  # type: ignore[union-attr]
    took: dict[str, float] = {}

    def act(name: str, what: Callable[[], object]) -> None:
        began = time.monotonic()
        what()
        took[name] = time.monotonic() - began

    os.kill(process, signal.SIGSTOP)
    try:
        plan = lesson.store.plan
        act(
            "plan",
            lambda: lesson.planning.change_plan(
                msgspec.structs.replace(plan, workings=plan.workings[:-1]), "Take a line off"
            ),
        )
        act("kit", lambda: lesson.roster.give_kit(lesson.store.kit_of(groups[0]) or 0, groups[1]))
        act("begin", lambda: lesson.recording.begin_runs(groups[2:]))
        assert lesson.recording.is_late
        events = [event.trouble.code for event in lesson.tick() if event.trouble is not None]
        assert events.count("engine-follows-later") == 1, "it is told, once"
    finally:
        os.kill(process, signal.SIGCONT)
    assert max(took.values()) < 2.5, took  # none waits the 3 s that a command may take
    made.until(lambda: all(lesson.roster.recording(group) for group in groups[2:]), "the runs begin")
    began = [run.id for run in lesson.store.runs()]
    os.kill(process, signal.SIGSTOP)
    try:
        act("end", lambda: lesson.recording.end_runs(groups))
        act("resume", lambda: lesson.recording.resume_runs(began))
    finally:
        os.kill(process, signal.SIGCONT)
    assert max(took.values()) < 0.5, took
    made.until(lambda: all(lesson.roster.recording(group) for group in groups[2:]), "they go on")
    lesson.recording.end_runs(groups)
    made.until(lambda: len(lesson.store.kept_runs()) == len(began), "all are kept")
