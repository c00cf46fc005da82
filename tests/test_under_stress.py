"""When things go wrong around the program: a book that is held, a full queue, links that misbehave, odd clocks, endless lines."""

from __future__ import annotations

import os
import socket
import sqlite3
import threading
import time
import tty
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book.book import Book
from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD, LOST, MISSED, SENT, JournalEntry, JournalWriter
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import read_address
from common_bench.links.link import Link, PumpedLink
from common_bench.links.opening import open_link
from common_bench.model.bench import Port
from common_bench.model.block import Stamped
from common_bench.model.plan import Plan
from common_bench.model.trouble import LinkTrouble
from common_bench.reading.lines import LONGEST_LINE, LineCutter
from common_bench.reading.reader import Reader
from common_bench.record.speed import is_noise
from heard import format_of_lines
from waiting import Class, KitNow, wait_for

School = Callable[..., Class]


def read_to_end(link: Link, into: bytearray) -> None:
    """Reads until the link raises."""
    while True:
        into += link.read()
        time.sleep(0.005)


def test_a_book_that_is_held_by_another_loses_nothing_and_says_so(session: tuple[Book, int]) -> None:
    book, number = session
    writer = JournalWriter(book.path)
    writer.put(JournalEntry(number, HEARD, 0.0, [Stamped(0.0, b"before\n")]))
    writer.flush()
    holder = sqlite3.connect(book.path, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    for at in range(40):
        writer.put(JournalEntry(number, HEARD, at / 10, [Stamped(at / 10, b"line %d\n" % at)]))
    wait_for(lambda: (told := writer.trouble) is not None and "cannot be written" in told.what, "the trouble is told")
    holder.execute("ROLLBACK")
    holder.close()
    writer.flush()
    assert writer.trouble is None
    writer.close()
    whole = b"".join(c.data for what, _, chunks in heard(book, number, 0, 1 << 40) if what == HEARD for c in chunks)
    assert whole == b"before\n" + b"".join(b"line %d\n" % at for at in range(40))
    assert book.check() == []
    book.close()


@pytest.mark.filterwarnings("ignore")
def test_marks_stand_between_the_bytes_where_they_were_put(session: tuple[Book, int]) -> None:
    book, number = session
    writer = JournalWriter(book.path)
    for what, data in (
        (HEARD, b"one\n"),
        (SENT, b"?"),
        (HEARD, b"two\n"),
        (MISSED, b""),
        (LOST, b""),
        (HEARD, b"three\n"),
    ):
        writer.put(JournalEntry(number, what, 1.0, [Stamped(1.0, data)] if data else []))
    writer.close()
    found = [(what, b"".join(c.data for c in chunks)) for what, _, chunks in heard(book, number, 0, 1 << 40)]
    assert [each for each in found if each[0] != SENT] == [(HEARD, b"one\n"), (HEARD, b"two\n"), (MISSED, b""), (LOST, b""), (HEARD, b"three\n")]  # fmt: skip
    sent = [row for row in book.rows("journal") if row["what"] == SENT]
    assert [(row["bytes"], row["first_byte"]) for row in sent] == [(b"?", 4)]
    book.close()


def test_a_link_whose_library_fails_is_a_trouble_and_no_fault() -> None:
    class Failing(PumpedLink):
        def _pump(self) -> None:
            raise ZeroDivisionError("the library has a bad day")

    link = Failing(read_address("tcp://host:1"))
    wait_for(lambda: link.fault is not None, "the fault is caught")
    with pytest.raises(LinkTrouble, match="the library has a bad day"):
        read_to_end(link, bytearray())
    for act in (link.restart, lambda: link.write(b"x")):
        with pytest.raises(LinkTrouble):
            act()
    link.close()


def test_a_host_that_ends_the_line_again_and_again_is_tried_with_growing_pauses(tmp_path: Path) -> None:
    server = socket.create_server(("127.0.0.1", 0))
    calls: list[float] = []

    def serve() -> None:
        while True:
            try:
                caller, _ = server.accept()
            except OSError:
                return
            calls.append(time.monotonic())
            caller.close()

    threading.Thread(target=serve, daemon=True).start()
    lesson = OpenLesson.make(tmp_path / "a.benchbook", Plan("p"), "", [])
    kit = lesson.roster.hear(Port(f"tcp://127.0.0.1:{server.getsockname()[1]}", "host", "host"))
    ear, told = KitNow(lesson, kit), []
    wait_for(lambda: ear.trouble is not None, "it is told")

    def tried() -> bool:
        told.append(ear.trouble.code if ear.trouble is not None else "")
        return len(calls) >= 4

    wait_for(tried, "it is tried four times")
    assert set(told) == {"ended"}, "what is told does not come and go with each try"
    assert calls[3] - calls[2] > calls[1] - calls[0]
    assert [row["what"] for row in lesson.book.rows("journal")] == [], "a host that says nothing fills nothing"
    server.close()
    lesson.close()


def test_a_flooding_kit_does_not_hold_up_the_others(school: School, tmp_path: Path) -> None:
    made = school(count=1, speed=1.0)
    master, other = os.openpty()
    tty.setraw(other)
    going = True

    def flood() -> None:
        block = b"".join(b"%d;%d\n" % (at, at * 7) for at in range(4000))
        while going:
            try:
                os.write(master, block)
            except OSError:
                return

    threading.Thread(target=flood, daemon=True).start()
    kit = made.lesson.roster.hear(Port(os.ttyname(other), "flood", "flood"))
    made.until(lambda: made.lesson.roster.kits[kit].lines > 100_000, "it floods")
    (group,) = made.group.values()
    ear = KitNow.of_group(made.lesson, group)
    assert ear is not None
    flooding, before = KitNow(made.lesson, kit), ear.readings
    lines = flooding.lines
    made.until(lambda: ear.readings > before + 200, "it is heard all the same")
    lines = flooding.lines - lines
    going = False
    made.lesson.roster.leave(kit)
    os.close(master)
    assert lines > 50_000, "while the other floods"
    assert ear.trouble is None


def test_a_machine_that_slept_calls_no_kit_silent(school: School) -> None:
    made = school(count=1, speed=1.0)
    engine = made.lesson.engine
    (kit,) = made.lesson.roster.kits
    ear = KitNow(made.lesson, kit)
    told: list[object] = []
    engine.ask(lambda: time.sleep(3.0))
    engine.ask(lambda: None)
    made.until(lambda: (told.append(ear.trouble), len(told) > 20)[1], "it is looked at again and again")
    assert set(told) == {None}
    made.kits.order(kits="all", fault="silent")
    made.until(lambda: ear.trouble is not None and ear.trouble.code == "silent", "a kit that is silent is told")


@given(st.binary(max_size=4000), st.lists(st.integers(1, 600), max_size=60))
def test_lines_and_offsets_are_the_same_however_bytes_come(data: bytes, sizes: list[int]) -> None:
    def cut(borders: list[int]) -> list[tuple[int, bytes]]:
        cutter, found = LineCutter(), []
        for low, high in zip(borders, borders[1:], strict=False):
            for lines in cutter.feed([Stamped(0.0, data[low:high])]):
                found += [(offset, line) for _, offset, line in lines.each()]
        half = cutter.lost()
        return [*found, half] if half else found

    whole = cut([0, len(data)])
    borders = sorted({0, len(data), *(int(at) for at in np.cumsum(sizes) if at < len(data))})
    assert cut(borders) == whole
    for offset, line in whole:
        assert data[offset : offset + len(line)] == line
        assert b"\n" not in line
        assert b"\r" not in line


@given(st.integers(1, 4), st.integers(0, 3 * LONGEST_LINE), st.integers(1, 5000))
def test_endless_lines_leave_their_neighbours_alone(before: int, length: int, step: int) -> None:
    data = b"1;2\n" * before + b"9" * length + b"\n" + b"3;4\n5;6\r\n"
    reader = Reader(format_of_lines([b"1;2"] * 6))
    told, rows = [], []
    for low in range(0, len(data), step):
        heard_now = reader.feed([Stamped(1.0, data[low : low + step])])
        told += heard_now.other_lines
        rows += [value for block in heard_now.blocks for value in block.channels["column 2"].tolist()]
        assert len(reader.cutter.held) <= LONGEST_LINE
    assert rows == [2.0] * before + [4.0, 6.0]
    assert sum(each.kind == "unreadable" for each in told) == (1 if length else 0)


@given(st.binary(min_size=10, max_size=300))
def test_text_is_no_noise_and_noise_is_no_text(data: bytes) -> None:
    assert not is_noise(b"20;271044;21.4\r\n" * 3)
    assert is_noise(bytes(each | 0x80 for each in data))
    assert not is_noise(b"")


def test_odd_addresses_open_nothing(tmp_path: Path) -> None:
    (tmp_path / "folder").mkdir()
    for link in (str(tmp_path / "none"), str(tmp_path / "folder"), "/dev/null", "/dev/zero"):
        with pytest.raises(LinkTrouble):
            open_link(read_address(link))
    (tmp_path / "file").write_bytes(b"1;2\n" * 3)
    link = open_link(read_address(f"file:{tmp_path}/file?rate=1000"))
    data = bytearray()
    with pytest.raises(LinkTrouble, match="at its end"):
        read_to_end(link, data)
    assert data == b"1;2\n" * 3
    link.close()
