"""The bench book: nothing lost, everything undoable, strangers' files refused in words."""

from __future__ import annotations

import re
import sqlite3
import subprocess
import sys
from concurrent.futures import Future
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import event

from common_bench.book import journal, schema
from common_bench.book.book import Book
from common_bench.book.changes import RowChange
from common_bench.book.deflate import deflated
from common_bench.book.heard_again import heard
from common_bench.book.history import lines_before
from common_bench.book.journal import HEARD, LOST, SENT, JournalEntry, JournalWriter
from common_bench.book.packing import as_it_came, packed, packed_rows, unpacked, whole_size
from common_bench.book.removing import remove_run
from common_bench.book.row_lines import RowsAsLines
from common_bench.model.block import Stamped
from common_bench.model.plan import Plan
from common_bench.model.plan_file import plan_from_file, plan_from_text, plan_to_text, shipped_plan
from common_bench.model.trouble import BookTrouble, EngineTrouble, PlanTrouble


@pytest.fixture
def book(tmp_path: Path):
    made = Book.make(tmp_path / "a.benchbook")
    yield made
    made.close()


def everything(book: Book) -> dict[str, list[dict]]:
    return {name: book.rows(name) for name in schema.TABLES if name != "change"}


actions = st.lists(
    st.tuples(st.sampled_from(["add", "change", "undo", "redo"]), st.integers(0, 5), st.text(max_size=5)), max_size=25
)


@pytest.mark.long_proof
@given(actions)
def test_undo_and_redo_give_back_every_state_of_the_book(tmp_path_factory: pytest.TempPathFactory, steps: list) -> None:
    book = Book.make(tmp_path_factory.mktemp("book") / "b.benchbook")
    states, done, undone = [everything(book)], [], []
    for what, which, words in steps:
        if what == "undo" and done:
            change = done.pop()
            book.undo(change)
            undone.append(change)
            assert everything(book) == states[len(done)]
        elif what == "redo" and undone:
            change = undone.pop()
            book.redo(change)
            done.append(change)
            assert everything(book) == states[len(done)]
        elif what in ("add", "change"):
            kits = book.rows("kit")
            if what == "change" and kits:
                rows = [book.changed("kit", kits[which % len(kits)]["id"], name=words)]
            else:
                rows = [
                    book.added(
                        "kit", identity=f"k{len(done)}/{which}/{words}/{len(kits)}", name=words, link="", format=""
                    )
                    for _ in range(1)
                ]
            try:
                done.append(book.apply(words or "step", rows))
            except BookTrouble:
                assert everything(book) == states[len(done)]
                continue
            undone.clear()
            del states[len(done) :]
            states.append(everything(book))
    assert len(book.rows("change")) >= len(done)
    assert book.check() == []
    book.close()


def test_a_change_happens_whole_or_not_at_all_and_says_so(book: Book) -> None:
    good = book.added("kit", identity="one", name="", link="", format="")
    book.apply("a kit", [good])
    twin = RowChange("kit", 99, None, {"identity": "two", "name": "", "link": "", "format": ""})
    clash = RowChange("kit", 100, None, {"identity": "one", "name": "", "link": "", "format": ""})
    with pytest.raises(BookTrouble, match="did not take this change"):
        book.apply("two kits", [twin, clash])
    assert [row["identity"] for row in book.rows("kit")] == ["one"]
    assert len(book.rows("change")) == 1


def test_files_that_are_no_book_are_refused_in_words(tmp_path: Path) -> None:
    (tmp_path / "words.benchbook").write_text("this is no database, " * 100)
    sqlite3.connect(tmp_path / "other.benchbook").execute("CREATE TABLE x (y)").connection.close()
    Book.make(tmp_path / "newer.benchbook").close()
    with sqlite3.connect(tmp_path / "newer.benchbook") as raw:
        raw.execute(f"PRAGMA user_version = {schema.SCHEMA_VERSION + 4}")
    for name, words in (
        ("words", "no bench book"), ("other", "no bench book"), ("newer", "newer Common Bench"), ("absent", "no such bench book"),
    ):  # fmt: skip
        before = (tmp_path / f"{name}.benchbook").read_bytes() if name != "absent" else b""
        with pytest.raises(BookTrouble, match=words) as refused:
            Book.open(tmp_path / f"{name}.benchbook")
        assert refused.value.do
        assert not before or (tmp_path / f"{name}.benchbook").read_bytes() == before
    with pytest.raises(BookTrouble, match="already there"):
        Book.make(tmp_path / "words.benchbook")
    with pytest.raises(BookTrouble, match="no such folder"):
        Book.make(tmp_path / "nowhere" / "a.benchbook")


def test_a_book_is_open_in_one_place_at_a_time_and_a_crash_locks_nobody_out(tmp_path: Path) -> None:
    path = tmp_path / "a.benchbook"
    Book.make(path).close()
    code = f"import time; from pathlib import Path; from common_bench.book.book import Book; b = Book.open(Path({str(path)!r})); print('open', flush=True); time.sleep(60)"
    other = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    assert other.stdout is not None
    assert other.stdout.readline() == "open\n"
    with pytest.raises(BookTrouble, match=rf"open elsewhere \(process {other.pid} on .*since"):
        Book.open(path)
    reader = Book.open(path, readonly=True)
    assert reader.rows("kit") == []
    reader.close()
    other.kill()
    other.wait()
    Book.open(path).close()


def test_a_damaged_book_is_told_by_check(tmp_path: Path) -> None:
    path = tmp_path / "a.benchbook"
    book = Book.make(path)
    book.apply("rows", [book.added("kit", identity=f"k{k}", name="x" * 200, link="", format="") for k in range(300)])
    lesson = book.record("lesson", plan=book.record("plan", name="p"), class_name="")
    session = book.record("session", lesson=lesson, kit=1)
    book.record(
        "journal", session=session, what=HEARD, first_byte=5, at=0.0, stamps=b"\0" * 8, sizes=b"\1\0\0\0", bytes=b"a"
    )
    assert book.check() == [f"journal of session {session}: bytes 0 to 5 are missing"]
    book.close()
    data = bytearray(path.read_bytes())
    data[12_000:16_000] = b"\xff" * 4000
    path.write_bytes(data)
    done = subprocess.run(
        [sys.executable, "-m", "common_bench.cli", "check", str(path)], capture_output=True, text=True
    )
    assert done.returncode != 0
    assert "Traceback" not in done.stderr
    assert re.search("damaged|missing|malformed|Tree|row", done.stdout + done.stderr)


@pytest.mark.parametrize("packed_at", [300, 2000, 1 << 14])
def test_the_journal_gives_back_every_byte_with_its_stamp(
    book: Book, monkeypatch: pytest.MonkeyPatch, packed_at: int
) -> None:
    monkeypatch.setattr(journal, "PACKED_AT", packed_at)
    monkeypatch.setattr(journal, "WORTH_PACKING", packed_at // 10)
    monkeypatch.setattr(journal, "EVERY", 0.0)
    lesson = book.record("lesson", plan=book.record("plan", name="p"), class_name="")
    kit = book.record("kit", identity="k")
    session, other = (book.record("session", lesson=lesson, kit=kit) for _ in range(2))
    dice = np.random.default_rng(1)
    writer = JournalWriter(book.path)
    sent: list[Stamped] = []
    for k in range(200):
        if k % 7 == 0:
            writer.flush()
        chunk = Stamped(k / 50 + 1e-9 * k, dice.bytes(int(dice.integers(1, 60))))
        sent.append(chunk)
        writer.put(JournalEntry(session, HEARD, chunk.at, [chunk]))
        writer.put(JournalEntry(other, HEARD, chunk.at, [Stamped(chunk.at, b"other")]))
        if k == 100:
            writer.put(JournalEntry(session, LOST, 2.0))
        if k == 150:
            writer.put(JournalEntry(session, SENT, 3.0, [Stamped(3.0, b"lamp on")]))
    writer.close()
    everything = list(heard(book, session, 0, 10**9))
    assert [what for what, _, _ in everything if what != HEARD] == [LOST, SENT]
    chunks = [chunk for what, _, found in everything if what == HEARD for chunk in found]
    assert chunks == sent
    whole = b"".join(chunk.data for chunk in sent)
    assert book.heard_bytes(session) == len(whole)
    for begin, end in ((0, 10), (17, 1000), (len(whole) - 5, len(whole)), (50, 50)):
        part = b"".join(
            chunk.data for what, _, found in heard(book, session, begin, end) if what == HEARD for chunk in found
        )
        assert part == whole[begin:end]
    assert book.check() == []
    lie = [row for row in book.rows_apart("journal", session=session) if row["packed"]]
    assert (len(lie) > 5) if packed_at < 1000 else len(lie) > 0
    assert sum(row["packed"] for row in lie) > len(whole) / 2
    tape, _ = lines_before(book, session, None, find="lamp on")
    assert [(line.at, line.sent) for line in tape] == [(3.0, True)]


@given(st.data())
def test_what_is_packed_comes_out_as_it_was_and_what_is_damaged_then_is_not_believed(data: st.DataObject) -> None:
    numbers = st.lists(st.tuples(st.floats(0, 1e9), st.binary(min_size=1, max_size=30)), min_size=1, max_size=12)
    rows = [
        journal.heard_row(3, HEARD, 100, 0.5, [Stamped(at, each) for at, each in data.draw(numbers)])
        for _ in range(data.draw(st.integers(1, 4)))
    ]
    row = packed(rows)
    whole = as_it_came(row)
    assert whole is not None
    for name in ("stamps", "sizes", "bytes"):
        assert whole[name] == b"".join(each[name] for each in rows)
    assert whole_size(row) == len(whole["bytes"])
    name = data.draw(st.sampled_from(["stamps", "sizes", "bytes"]))
    cell = bytearray(row[name])
    cell[data.draw(st.integers(0, len(cell) - 1))] ^= 1 << data.draw(st.integers(0, 7))
    assert as_it_came({**row, name: bytes(cell)}) is None
    assert as_it_came({**row, "packed": row["packed"] + 1}) is None


def listened_to(book: Book) -> tuple[int, int, int]:
    """A lesson, a group, and a session in which its kit is heard."""
    lesson = book.record("lesson", plan=book.record("plan", name="p"), class_name="")
    session = book.record("session", lesson=lesson, kit=book.record("kit", identity="k"))
    return lesson, book.record("group", alias="Flint", position=0), session


@pytest.mark.parametrize("damaged", [False, True])
def test_what_is_removed_goes_out_of_packed_rows_and_what_cannot_be_read_of_them_goes_whole(
    book: Book, damaged: bool
) -> None:
    lesson, group, session = listened_to(book)
    lines = [Stamped(float(k), b"%06d;secret\n" % k) for k in range(100)]
    size = len(lines[0].data)
    row = packed([journal.heard_row(session, HEARD, 0, 0.0, lines)])
    if damaged:
        row["bytes"] = row["bytes"][:-4] + b"\xff\xff\xff\xff"
    book.record("journal", **row)
    run = book.record("run", lesson=lesson, group=group, number=1, session=session, state="closed", begin_byte=20 * size, end_byte=60 * size)  # fmt: skip
    remove_run(book, run)
    (lies,) = book.rows_apart("journal", session=session)
    if damaged:
        assert set(lies["bytes"]) == {0}, "nothing that could still be told"
        return
    left = b"".join(chunk.data for _, _, found in heard(book, session, 0, 100 * size) for chunk in found)
    assert left[: 20 * size] + left[60 * size :] == b"".join(each.data for each in [*lines[:20], *lines[60:]])
    assert set(left[20 * size : 60 * size]) == {0}
    assert lies["packed"] == 100 * size
    assert book.check() == []


@pytest.mark.parametrize("removed", [False, True])
def test_rows_that_are_packed_while_somebody_reads_or_removes_them_are_neither_missed_nor_left(
    book: Book, removed: bool
) -> None:
    """As while the kit of a run that has just ended is still heard."""
    lesson, group, session = listened_to(book)
    writer = JournalWriter(book.path)
    size = len(b"000000;secret\n")
    for k in range(400):
        writer.put(JournalEntry(session, HEARD, float(k), [Stamped(float(k), b"%06d;secret\n" % k)]))
        if k % 100 == 0:
            writer.flush()
    writer.flush()
    begin, end = 250 * size, 350 * size
    run = book.record("run", lesson=lesson, group=group, number=1, session=session, state="closed", begin_byte=begin, end_byte=end)  # fmt: skip
    packs: list[bool] = []

    @event.listens_for(book.engine, "after_cursor_execute")
    def pack(*told: Any) -> None:
        if "FROM journal" in told[2] and told[2].startswith("SELECT") and not packs:
            packs.append(True)
            writer.put(JournalEntry(session, SENT, 400.0, [Stamped(400.0, b"lamp on")]))
            with suppress(EngineTrouble):  # where it has to wait until they are removed
                writer.flush(0.5)

    if removed:
        remove_run(book, run)
    found = b"".join(chunk.data for _, _, some in heard(book, session, begin, end) for chunk in some)
    writer.close()
    assert packs
    assert any(row["packed"] for row in book.rows_apart("journal", session=session))
    assert found == (
        journal.NO_TEXT * (end - begin) if removed else b"".join(b"%06d;secret\n" % k for k in range(250, 350))
    )
    whole = b"".join(chunk.data for what, _, some in heard(book, session, 0, 10**9) for chunk in some if what == HEARD)
    assert whole[begin:end] == found


def test_the_code_in_the_docs_reads_a_packed_row() -> None:
    rows = [journal.heard_row(3, HEARD, 0, 0.5, [Stamped(12.25 + k, b"12;%d\n" % k)]) for k in range(20)]
    text = (Path(__file__).parent.parent / "docs" / "bench-book.md").read_text("utf-8")
    read: dict = {"row": packed(rows)}
    exec(text.partition("```python")[2].partition("```")[0], read)
    assert read["data"] == b"".join(b"12;%d\n" % k for k in range(20))
    assert read["stamps"].tolist() == [12.25 + k for k in range(20)]
    assert read["sizes"].tolist() == [len(b"12;%d\n" % k) for k in range(20)]


@pytest.mark.parametrize(("mark", "comma", "end"), [(",", False, "\n"), (";", True, "\r\n")])
def test_the_code_in_the_docs_makes_the_lines_that_rows_of_a_file_stand_for(mark: str, comma: bool, end: str) -> None:
    made, t = RowsAsLines(mark, comma, (False, True, True), 2, 6), np.array([-0.5, 0.0, 12.25, 3_000_000.125])
    cells = [["a", f"{at}.5".replace(".", "," if comma else "."), str(-at)] for at in range(len(t))]
    piece = ("names" + end[-1] + end.join(mark.join(row) for row in cells) + end).encode()
    lines, sizes = made.lines(piece, t)
    small: Future[bytes] = Future()
    small.set_result(deflated(piece))
    row = packed_rows(3, HEARD, 0, small, made, t, len(lines))
    first, second = re.findall(r"```python\n(.*?)```", (Path(__file__).parent.parent / "docs" / "bench-book.md").read_text("utf-8"), re.S)[:2]  # fmt: skip
    read: dict = {
        "row": {**row, "sizes": packed([journal.heard_row(3, HEARD, 0, 0.5, [Stamped(0.0, b"1\n")])])["sizes"]}
    }
    exec(first, read)
    read |= {"row": row, "stamps": np.cumsum(read["wide"](row["stamps"], "<i8")).view("<f8")}
    exec(second, read)
    assert read["data"] == lines == unpacked(row)["bytes"]
    assert (
        np.frombuffer(unpacked(row)["sizes"], "<u4").tolist()
        == sizes.tolist()
        == list(map(len, lines.splitlines(True)))
    )
    assert lines.startswith(b"2;-0.500000;0.5;0\n3;0.000000;1.5;-1\n")


@given(
    cells=st.lists(st.tuples(*[st.text("0123456789.", max_size=6)] * 3), min_size=1, max_size=30),
    wanted=st.tuples(*[st.booleans()] * 3),
    first=st.integers(1, 10**9),
    parts=st.lists(st.integers(-(10**19), 10**19) | st.integers(-(10**8), 10**8), min_size=30, max_size=30),
    end=st.sampled_from(["\n", "\r\n"]),
)
def test_how_long_lines_are_is_known_without_making_them(
    cells: list[tuple[str, str, str]], wanted: tuple[bool, ...], first: int, parts: list[int], end: str
) -> None:
    rows = "".join(",".join(row) + end for row in cells).encode()
    starts = np.cumsum([0, *(len(",".join(row) + end) for row in cells)])
    t = np.array(parts[: len(cells)], float) / 1e6
    made = RowsAsLines(",", False, wanted, first)
    lines, sizes = made.lines(rows, t)
    told, seconds = made.sizes(rows, starts[:-1], len(rows), t)
    assert told.tolist() == sizes.tolist() == list(map(len, lines.splitlines(keepends=True)))
    for line, second in zip(lines.splitlines(), seconds.tolist(), strict=True):
        assert second != second or second == float(line.split(b";")[1])


def test_the_docs_name_every_table_and_column_of_the_book() -> None:
    text = (Path(__file__).parent.parent / "docs" / "bench-book.md").read_text("utf-8")
    for table in schema.TABLES.values():
        section = re.search(rf"^## {table.name}$(.*?)(?=^## |\Z)", text, re.S | re.M)
        assert section, f"docs/bench-book.md has no table {table.name}"
        named = set(re.findall(r"^\| `(\w+)`", section[1], re.M))
        assert named == {column.name for column in table.columns}, table.name


def test_a_plan_goes_to_text_and_back_and_a_wrong_one_is_refused_with_its_place(tmp_path: Path) -> None:
    plan = shipped_plan("swinging-bottles")
    path = tmp_path / "plan.toml"
    path.write_text(plan_to_text(plan), "utf-8")
    assert plan_from_file(path) == plan
    assert plan_from_text(plan_to_text(Plan("empty")), "") == Plan("empty")
    for text, words in (
        ("name = ", "not a plan file"),
        ("about = 'x'", "missing required field `name`"),
        ("name = 'x'\nsensors = 3", "sensors"),
    ):
        path.write_text(text)
        with pytest.raises(PlanTrouble, match=words) as refused:
            plan_from_file(path)
        assert refused.value.where == str(path)
    path.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(PlanTrouble, match="cannot be read"):
        plan_from_file(path)
    assert plan.accepted() is not None
    with pytest.raises(PlanTrouble, match="no condition"):
        plan.condition("weight")
