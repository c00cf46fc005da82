"""What fails in a way that nobody foresaw: it is told at once, nothing claims to record, and what can go on does."""

from __future__ import annotations

import contextlib
import shutil
import socket
import sqlite3
import threading
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book import book_file
from common_bench.book.book import Book
from common_bench.book.book_file import now
from common_bench.book.journal import HEARD, JournalEntry, JournalWriter
from common_bench.lesson.calibration_words import curve_shown, not_sent
from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.words import bench_words
from common_bench.links.quick_read import QuickReader
from common_bench.model.block import Series, Stamped
from common_bench.model.plan import RulePlan
from common_bench.model.run import Ending
from common_bench.model.trouble import BookTrouble, EngineTrouble, LinkTrouble, Trouble, sentences, words_of
from common_bench.record import engine as engine_module
from common_bench.record import loop as loop_module
from common_bench.record.chain import Flow
from common_bench.record.late_reading import stamped
from common_bench.record.loop import LONGEST_FRAME, Loop
from common_bench.record.replay import Replayed
from common_bench.standins.control import StandInProcess
from waiting import Class, KitNow, wait_for

School = Callable[..., Class]


# links and the engine


def test_a_link_that_fails_in_an_unknown_way_is_that_links_trouble_and_comes_back(
    school: School, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.by_hand()
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(2)
    bad = KitNow.of_group(lesson, made.group["Chalk"])
    good = KitNow.of_group(lesson, made.group["Basalt"])
    port = lesson.engine._kits[bad.kit].link.fileno()
    real_read = QuickReader.read

    def read(reader: QuickReader) -> bytes:
        if reader.descriptor == port:
            raise RuntimeError("a driver that nobody foresaw")
        return real_read(reader)

    monkeypatch.setattr(QuickReader, "read", read)
    told: list[LinkTrouble] = []

    def is_told() -> bool:
        told.extend(each for each in [bad.trouble] if each is not None)
        return bool(told)

    made.until(is_told, "it is told")
    assert told[0].code == "link-broken"
    assert "RuntimeError: a driver that nobody foresaw" in told[0].sentence
    lines = good.lines
    made.until(lambda: good.lines > lines + 20, "the others are heard")
    monkeypatch.setattr(QuickReader, "read", real_read)
    made.until(
        lambda: bad.trouble is None and bad.can_record is not None and bad.is_open, "it is opened again by itself"
    )
    made.world(3)
    lesson.recording.end_runs(list(made.group.values()))
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "both runs are kept")
    gaps = {run.group: lesson.working_up.replayed(run.id).gaps for run in lesson.store.kept_runs()}
    assert gaps[made.group["Basalt"]] == []
    assert len(gaps[made.group["Chalk"]]) == 1, "what is missing is a gap"


def test_a_kit_whose_readings_cannot_be_worked_out_stops_no_other_and_keeps_its_run(school: School) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.by_hand()
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(1)
    bad = lesson.store.kit_of(made.group["Chalk"])
    failing = threading.Event()
    failing.set()

    def listen(kit: int, flow: Flow) -> None:
        if kit == bad and failing.is_set():
            raise ZeroDivisionError("in a working")

    lesson.engine.listener = listen
    made.until(lambda: lesson.roster.snapshot.trouble is not None, "it is told")
    trouble = lesson.roster.snapshot.trouble
    assert trouble is not None
    assert trouble.code == "engine-failed"
    assert "ZeroDivisionError: in a working" in trouble.sentence
    other = KitNow.of_group(lesson, made.group["Basalt"])
    lines = other.lines
    made.until(lambda: other.lines > lines + 20, "the other is heard")
    failing.clear()
    made.world(2)
    lesson.recording.end_runs(list(made.group.values()))
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "both are kept")
    run = lesson.store.kept_runs(made.group["Chalk"])[0]
    replayed = lesson.working_up.replayed(run.id)
    assert replayed.seconds > 2.5
    assert len(replayed.t) == pytest.approx(50 * replayed.seconds, rel=0.05), "nothing of it is missing"


def test_a_turn_waits_for_what_is_drawn_and_not_for_a_window_that_hangs(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(loop_module, "TICK", 0.001)
    began: list[float] = []
    heard: list[bytes] = []
    ours, theirs = socket.socketpair()

    def turn() -> None:
        began.append(time.monotonic())
        loop.hold_if(draw)

    def read(link: socket.socket) -> bool:
        heard.append(link.recv(1))
        return False

    loop = Loop(read, turn, lambda fault: None)
    draw: Callable[[], bool] = lambda: True  # noqa: E731  # and never says that it is done
    loop.post(lambda: loop.watch(ours, ours))
    loop.start()
    wait_for(lambda: len(began) > 3, "turns go on though nothing is drawn")
    assert min(np.diff(began)) > 0.99 * LONGEST_FRAME
    monkeypatch.setattr(loop_module, "LONGEST_FRAME", 60.0)
    before = len(began)
    theirs.send(b"x" * 5)
    wait_for(lambda: len(heard) == 5, "what comes is read")
    assert len(began) <= before + 1, "while a turn waits"

    draw = lambda: threading.Timer(0.01, loop.release).start() or True  # noqa: E731  # a frame that takes 10 ms
    loop.release()
    wait_for(lambda: len(began) > before + 20, "turns go on when it is drawn, though nothing else wakes the engine")
    loop.ask(loop.end, 5.0)
    assert loop.join(5.0)
    ours.close()
    theirs.close()


def test_what_lay_there_while_the_engine_was_kept_busy_stands_where_it_came_and_leaves_no_gap(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    kits = stand_ins("--dialect", "names-colon", count=1)
    lesson = prepared_lesson(tmp_path / "lesson.benchbook", speed=1.0, count=1)
    plug_in(lesson, kits.folder)
    made = Class(lesson, kits)
    made.heard()
    made.by_hand()
    group = made.group["Basalt"]
    heard = KitNow.of_group(lesson, group)
    made.until(lambda: lesson.engine._kits[heard.kit].chain.reader.clock.even_step > 0, "it is known to send evenly")
    lesson.recording.begin_runs([group])
    made.world(0.5)
    lesson.engine.ask(lambda: time.sleep(0.7), within=5.0)
    made.world(0.5)
    lesson.recording.end_runs([group])
    made.until(lambda: lesson.store.kept_runs(), "it is kept")
    kept = lesson.working_up.replayed(lesson.store.kept_runs()[0].id)
    assert kept.seconds > 1.6
    assert len(kept.t) == pytest.approx(50 * kept.seconds, rel=0.1), "nothing of it is missing"
    assert np.diff(kept.t).max() < 0.35, "and nobody says so, though nothing was heard for twice that long"
    lesson.close()


@given(
    st.lists(st.binary(max_size=9), max_size=12).map(b"\r\n".join), st.floats(0.0, 1e5), st.floats(0.0, 4.0), st.floats(1e-3, 1.0)
)  # fmt: skip
def test_what_nobody_listened_to_is_told_apart_by_line_and_never_before_that(
    data: bytes, since: float, deaf: float, step: float
) -> None:
    at = since + deaf
    found = stamped(data, since, at, step)
    assert b"".join(each.data for each in found) == data
    stamps = np.array([each.at for each in found])
    assert (stamps >= since).all()
    assert (np.diff(stamps) >= 0).all()
    assert stamps[-1] == at
    assert (np.diff(stamps) <= step * (1 + 1e-9) + 1e-9).all() or stamps[0] == since
    for listened in (
        stamped(data, at, at, step),
        stamped(data, since, at, float("nan")),
        stamped(data, since, since + 99, step),
    ):
        assert len(listened) == 1, "as it was read"


def test_a_kit_that_is_heard_without_the_plans_column_says_so_where_it_is_calibrated_and_recorded(
    school: School,
) -> None:
    made = school(count=1)
    lesson, group = made.lesson, made.group["Basalt"]
    sensor, kit = lesson.store.sensor(), lesson.store.kit_of(group)
    assert sensor is not None
    assert kit is not None
    assert not_sent(lesson, group, sensor) == ""
    assert not any("sends no" in each for each in lesson.recording.lacks(group))
    format = lesson.roster.kits[kit].format
    assert format is not None
    renamed = [msgspec.structs.replace(each, name="pull") if each.name == "load" else each for each in format.columns]
    lesson.roster.read_as(kit, msgspec.structs.replace(format, columns=tuple(renamed)))
    made.until(lambda: not_sent(lesson, group, sensor), "it is seen")
    assert lesson.recording.lacks(group)[0] == not_sent(lesson, group, sensor) == "sends no “load”"
    assert curve_shown(lesson, group, sensor).why == "It sends no “load”. Give one of its columns that name in Plug in."


def ends_the_thread(made: Class) -> None:
    def listen(kit: int, flow: Flow) -> None:
        raise SystemExit

    made.lesson.engine.listener = listen


def closes_the_selector(made: Class) -> None:
    made.lesson.engine._loop._selector.close()


@pytest.mark.parametrize("fail", [ends_the_thread, closes_the_selector])
def test_an_engine_that_cannot_go_on_says_so_and_nothing_claims_to_be_heard_or_recorded(
    school: School, fail: Callable[[Class], None]
) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.by_hand()
    group = made.group["Basalt"]
    lesson.recording.begin_runs([group])
    made.world(1)
    assert lesson.roster.recording(group)
    fail(made)
    made.until(lambda: lesson.roster.snapshot.trouble is not None, "it is told")
    made.until(lambda: lesson.roster.snapshot.trouble.code == "engine-stopped", "it is given up")
    assert not lesson.roster.recording(group)
    for each in made.group.values():
        assert lesson.roster.why_not_ready(each) != ""
        assert bench_words(lesson, each, "record").tone == "red"
    assert lesson.recording.begin_runs(list(made.group.values())) == []
    path = lesson.book.path
    lesson.close()
    again = OpenLesson.open(path, readonly=True)
    assert again.book.check() == []
    again.close()
    opened = OpenLesson.open(path)
    assert [run.state for run in opened.store.runs(group)] == ["closed"], "what was begun is closed, and told"
    opened.close()


def test_runs_that_are_asked_for_while_the_engine_is_late_begin_all_and_end_all(school: School) -> None:
    made = school(count=3)
    lesson, groups = made.lesson, list(made.group.values())
    made.by_hand()
    lesson.engine.patience = 0.05  # as the window's is
    lesson.engine._loop.post(lambda: time.sleep(0.8))
    assert lesson.recording.begin_runs(groups) == groups
    made.world(2)
    lesson.engine._loop.post(lambda: time.sleep(0.8))
    assert len(lesson.recording.end_runs(groups)) == len(groups)
    made.until(lambda: len(lesson.store.kept_runs()) == len(groups), "all are kept")
    began = [lesson.working_up.replayed(run.id).began for run in lesson.store.kept_runs()]
    assert max(began) - min(began) < 0.5 * lesson.engine.speed, "they began together"


def test_a_loop_that_falls_now_and_then_goes_on_and_is_told_for_a_while(
    school: School, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = school(count=1)
    monkeypatch.setattr(engine_module, "FAULT_TOLD_FOR", 0.5)
    lesson, real = made.lesson, made.lesson.engine._publish
    falls = [OSError("a turn that fell")] * 2

    def publish(share: int | None = None) -> None:
        if falls:
            raise falls.pop()
        real()

    lesson.engine._loop.post(lambda: setattr(lesson.engine, "_publish", publish))
    found: list[str] = []
    wait_for(lambda: found.extend(e.what for e in lesson.tick()) or "failed" in found, "the fall is told")
    kit = KitNow.of_group(lesson, made.group["Basalt"])
    lines = kit.lines
    made.until(lambda: kit.lines > lines + 20, "it is heard again")
    made.until(lambda: lesson.roster.snapshot.trouble is None, "it is no longer told")


def test_what_is_asked_of_the_engine_is_done_in_time_or_raises(school: School) -> None:
    made = school(count=1)
    engine = made.lesson.engine
    engine.patience = 0.05
    done: list[str] = []
    began = threading.Event()

    def slow() -> None:
        began.set()
        time.sleep(0.6)
        done.append("slow")

    with pytest.raises(EngineTrouble) as busy:
        engine.ask(slow)
    assert busy.value.code == "engine-busy"
    with pytest.raises(EngineTrouble) as late:
        engine.ask(lambda: done.append("late"))
    assert late.value.code == "engine-late"
    made.until(lambda: done == ["slow"], "what had begun is done")
    made.world(1)
    assert done == ["slow"], "what was refused is not done later"
    with pytest.raises(ZeroDivisionError):
        engine.ask(lambda: 1 / 0)
    began.clear()
    engine._loop.post(slow)
    began.wait(5)
    asked = time.perf_counter()
    engine.follow(lambda: 1 / 0)
    assert time.perf_counter() - asked < 0.3, "who follows waits no longer than patience"
    events: list[str] = []
    wait_for(lambda: events.extend(e.what for e in made.lesson.tick()) or "failed" in events, "it is told later")
    engine.patience = 10.0


# the journal and the book


def test_a_journal_that_fails_in_an_unknown_way_says_so_keeps_all_and_goes_on(session: tuple[Book, int]) -> None:
    book, number = session
    writer = JournalWriter(book.path)
    writer.put(JournalEntry(number, HEARD, 0.0, [Stamped(0.0, b"1;2\n")]))
    writer.flush()
    assert writer.trouble is None
    bad: list[Stamped] = [Stamped(1.0, "no bytes")]  # type: ignore[arg-type]
    writer.put(JournalEntry(number, HEARD, 1.0, bad))
    writer.put(JournalEntry(number, HEARD, 2.0, [Stamped(2.0, b"5;6\n")]))
    with pytest.raises(EngineTrouble) as late:
        writer.flush(0.5)
    assert late.value.code == "journal-late"
    assert writer.trouble is not None
    assert writer.trouble.code == "journal-failed"
    bad[0] = Stamped(1.0, b"3;4\n")
    writer.flush(20.0)
    assert writer.trouble is None
    writer.close(20.0)
    assert b"".join(row["bytes"] for row in book.rows("journal")) == b"1;2\n3;4\n5;6\n"
    assert book.check() == []
    book.close()


def test_a_journal_that_is_not_written_makes_every_bench_say_so(school: School) -> None:
    made = school(count=1)
    with contextlib.closing(sqlite3.connect(made.lesson.book.path, isolation_level=None, timeout=10)) as holder:
        holder.execute("BEGIN IMMEDIATE")
        made.until(
            lambda: (told := made.lesson.roster.snapshot.trouble) and told.code == "journal-refused", "it is told"
        )
    made.until(lambda: made.lesson.roster.snapshot.trouble is None, "it goes with its cause")


def locked(book: Book) -> Callable[[], None]:
    holder = sqlite3.connect(book.path, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    return lambda: (holder.execute("ROLLBACK"), holder.close())[1]


def full(book: Book) -> Callable[[], None]:
    pages = book._connection.exec_driver_sql("PRAGMA page_count").scalar_one()
    book._connection.exec_driver_sql(f"PRAGMA max_page_count = {pages}")
    book._connection.commit()

    def free() -> None:
        book._connection.exec_driver_sql("PRAGMA max_page_count = 1000000")
        book._connection.commit()

    return free


def read_only(book: Book) -> Callable[[], None]:
    book._connection.exec_driver_sql("PRAGMA query_only = 1")
    book._connection.commit()

    def free() -> None:
        book._connection.exec_driver_sql("PRAGMA query_only = 0")
        book._connection.commit()

    return free


@pytest.mark.parametrize(
    ("refuse", "code"), [(locked, "book-locked"), (full, "book-disk-full"), (read_only, "book-read-only")]
)
def test_every_write_of_a_book_that_refuses_is_our_trouble_and_nothing_is_half_done(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, refuse: Callable[[Book], Callable[[], None]], code: str
) -> None:
    monkeypatch.setattr(book_file, "BUSY", 0.05)
    book = Book.make(tmp_path / "a.benchbook")
    long = "x" * 200_000  # more than the free room of a page
    done = book.apply("Add a plan", [book.added("plan", name="p", text="", kept_at=now())])
    undone = book.apply("Another", [book.added("plan", name="q", text="", kept_at=now())])
    book.undo(undone)
    row = done.rows[0].id
    bigger = book.changed("plan", row, text=long)
    before = {table: book.rows(table) for table in ("plan", "change", "kit")}
    writes: list[Callable[[], object]] = [
        lambda: book.record("kit", identity="k", name=long, link="k", format="", asking=""),
        lambda: book.amend("plan", row, text=long),
        lambda: book.apply("Change it", [bigger]),
    ]
    if code != "book-disk-full":  # what needs no room is let through
        writes += [lambda: book.undo(done), lambda: book.redo(undone)]
    free = refuse(book)
    for write in writes:
        with pytest.raises(BookTrouble) as refused:
            write()
        assert refused.value.code == code
        assert refused.value.where == str(book.path)
    free()
    assert {table: book.rows(table) for table in before} == before, "nothing is half done"
    for write in writes:
        write()
    assert book.check() == []
    book.close()


def test_a_damaged_book_is_told_whatever_is_asked_of_it(tmp_path: Path) -> None:
    book = Book.make(tmp_path / "a.benchbook")
    for at in range(300):
        book.record("kit", identity=f"k{at}", name="x" * 400, link="k", format="", asking="")
    book.close()
    data = bytearray(book.path.read_bytes())
    data[3 * 4096 :] = bytes(len(data) - 3 * 4096)
    book.path.write_bytes(data)
    told = ""
    try:
        opened = Book.open(book.path)
        told = " ".join(opened.check())
        with pytest.raises(BookTrouble) as refused:
            opened.rows("kit")
        assert refused.value.code in ("book-damaged", "change-refused")
        opened.close()
    except BookTrouble as trouble:
        told = trouble.sentence
    assert told != ""


# runs that cannot be worked up


def test_a_run_that_cannot_be_worked_up_is_marked_with_the_sentence_and_never_tried_again(school: School) -> None:
    made = school(count=2)
    lesson = made.lesson
    made.record(1.5)  # too short for a swing
    run = lesson.store.kept_runs()[0]
    assert lesson.store.findings(run.id) == []
    assert run.trouble is not None
    assert run.trouble.trouble.code == "no-value-in-span"
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(1)
    lesson.close()  # nobody works the second runs up
    spoilt = sqlite3.connect(lesson.book.path)
    session = spoilt.execute('SELECT session FROM run WHERE "group" = 1 AND number = 2').fetchone()[0]
    spoilt.execute("UPDATE journal SET stamps = x'00' WHERE session = ?", (session,))
    spoilt.commit()
    spoilt.close()
    tried: list[set[int]] = []
    for _ in range(2):
        again = OpenLesson.open(lesson.book.path)
        deadline = time.monotonic() + 30
        again.tick()
        tried.append(set(again.working_up._tried))
        while again.working_up.is_busy and time.monotonic() < deadline:
            again.tick()
            time.sleep(0.02)
        marked = {run.id: run.trouble.trouble for run in again.store.runs() if run.trouble is not None}
        again.close()
    assert len(tried[0]) == 2, "what nobody had worked up is worked up"
    assert tried[1] == set(), "and never by itself again"
    codes = sorted(trouble.code for trouble in marked.values())
    assert codes == ["no-value-in-span"] * 3 + ["run-without-readings"], "what is damaged is not believed"
    assert all(trouble.sentence.endswith((".", "?")) for trouble in marked.values())


def test_events_of_two_places_in_a_working_are_not_the_same_events(school: School) -> None:
    made = school(count=1)
    before = made.lesson.store.plan.workings
    sums = [
        "a = gap between peaks in tension above 2 N, 0.4 s apart",
        "b = gap between peaks in tension above 1 N, 0.4 s apart",
        "c = a + b",
    ]
    with pytest.raises(Trouble) as refused:
        made.lesson.planning.edit_workings([*before[:1], *sums])
    assert refused.value.code == "times-do-not-match"
    assert made.lesson.store.plan.workings == before


def same(one: Replayed, other: Replayed) -> None:
    np.testing.assert_array_equal(one.t, other.t)
    np.testing.assert_array_equal(one.offset, other.offset)
    assert one.gaps == other.gaps
    assert [line.offset for line in one.other_lines] == [line.offset for line in other.other_lines]
    assert set(one.results) == set(other.results)
    for name, mine in one.results.items():
        theirs = other.results[name]
        np.testing.assert_array_equal(mine.t, theirs.t)
        if isinstance(mine, Series) and isinstance(theirs, Series):
            np.testing.assert_array_equal(mine.values, theirs.values)


def test_what_was_kept_live_is_what_the_bytes_give_whatever_went_wrong_meanwhile(school: School) -> None:
    """No result is computed twice: the run as it was seen is held, and equals the replay from the book bit for bit."""
    made = school(count=3)
    lesson = made.lesson
    made.calibrate()
    made.hang("100 g")
    made.by_hand()
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(1)
    for kit, fault, mended in (("Basalt", "unplug", "plug"), ("Chalk", "noise", "no noise"), ("Flint", "restart", "")):
        made.kits.order(kits=[kit], fault=fault)
        made.world(1.0)
        if mended:
            made.kits.order(kits=[kit], fault=mended)
        made.world(2.5)
    made.hang("bottle", settle=3.0)
    ended = lesson.recording.end_runs(list(made.group.values()))
    made.until(lambda: len(lesson.store.kept_runs()) == 3 and not lesson.working_up.is_busy, "all are worked up")
    live = {run: lesson.working_up._held[run] for run in ended}
    copy = lesson.book.path.with_name("copy.benchbook")
    for end in ("", "-wal"):
        if Path(f"{lesson.book.path}{end}").exists():
            shutil.copy(f"{lesson.book.path}{end}", f"{copy}{end}")
    again = OpenLesson.open(copy, readonly=True)
    for run, seen in live.items():
        assert isinstance(seen, Replayed)
        assert len(seen.t) > 100
        same(seen, again.working_up.replayed(run))
    assert any(seen.gaps for seen in live.values() if isinstance(seen, Replayed))
    again.close()


@pytest.mark.parametrize("late", [False, True])
def test_an_end_that_is_taken_back_counts_for_nothing(school: School, late: bool) -> None:
    """Whether the first end was worked up before it was taken back or its event comes only afterwards."""
    made = school(count=1)
    lesson, (group,) = made.lesson, made.group.values()
    plan = msgspec.structs.replace(lesson.store.plan, rule=RulePlan())
    lesson.planning.change_plan(plan, "By hand")
    made.calibrate()
    made.hang("bottle", settle=2.0)
    lesson.recording.begin_runs([group])
    made.world(0.5)
    ended = lesson.recording.end_runs([group])
    if late:
        lesson.journal.flush()  # the event waits; nobody has asked for it yet
    else:
        made.until(lambda: lesson.store.kept_runs(group), "it is kept")
    lesson.recording.resume_runs(ended)
    assert lesson.roster.recording(group)
    ear = KitNow.of_group(lesson, group)
    made.until(lambda: (run := ear.run) is not None and run.seconds > 12.5, "it goes on")  # whenever its kit is heard
    lesson.recording.end_runs([group])
    lesson.journal.flush()
    made.until(lambda: lesson.store.kept_runs(group) and not lesson.working_up.is_busy, "it is kept")
    made.world(1)
    (run,) = lesson.store.kept_runs(group)
    replayed = lesson.working_up.replayed(run.id)
    assert replayed.gaps == []
    assert replayed.seconds > 12
    assert run.trouble is None
    (finding,) = lesson.store.findings(run.id)
    assert finding.span[1] == pytest.approx(replayed.seconds, abs=0.1), "it is worked up as it ended at last"


# troubles as data


def test_a_sentence_that_stands_alone_begins_with_a_capital_but_for_somebodys_own_word() -> None:
    assert Trouble("unlike").alone.startswith("What comes does not fit")
    assert Trouble("no-host", link="pond", why="late").alone.startswith("pond does not answer")


@given(
    st.sampled_from(sorted(sentences())),
    st.dictionaries(st.sampled_from(["name", "case", "why", "unit"]), st.text(max_size=9)),
)
def test_a_trouble_is_kept_as_data_and_comes_back_as_it_was(code: str, fields: dict[str, str]) -> None:
    trouble = Trouble(code, where="here", **fields)
    kept = msgspec.json.decode(msgspec.json.encode(trouble.data))
    again = Trouble(kept["code"], where=kept["where"], **kept["fields"])
    assert again == trouble
    assert again.sentence == trouble.sentence
    assert trouble.alone == trouble.sentence, "a place stands before it"
    assert Trouble(code, **fields).alone[1:] == Trouble(code, **fields).sentence[1:]
    assert "{" not in words_of(code, "what", {})
    ending = Ending("begin-refused", {"told": "no kit"})
    assert msgspec.json.decode(msgspec.json.encode(ending), type=Ending) == ending
