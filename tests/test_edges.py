"""The rim of the program: full disks, books that go away, places that cannot be written to, commands that record nothing."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton

from common_bench.book.book import Book
from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD, JournalEntry, JournalWriter
from common_bench.book.lock import BookLock, is_held
from common_bench.exchange.tables import csv_text
from common_bench.lesson.exporting import export_all, stems_of
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Block, Series, Stamped
from common_bench.model.plan import Plan
from common_bench.model.trouble import BookTrouble, PlanTrouble, Trouble
from common_bench.record.replay import replay
from common_bench.standins.control import StandInProcess
from common_bench.workings.evaluate import Evaluator, check
from person import Desk
from waiting import Class

School = Callable[..., Class]
OLD = Path(__file__).parent / "books" / "version-3.benchbook"
COMMAND = (sys.executable, "-m", "common_bench.cli")


def run(*words: object, folder: Path | None = None, inside: str = "", within: float = 60.0) -> subprocess.CompletedProcess[str]:  # fmt: skip
    """A command in a process of its own; inside: shell words done before it in a file system of its own."""
    command = [*COMMAND, *(str(word) for word in words)]
    if inside:
        command = ["unshare", *(["-m"] if os.getuid() == 0 else ["-rm"]), "sh", "-c", f'{inside} && exec "$@"', "sh", *command]  # fmt: skip
    environment = os.environ | ({"COMMON_BENCH_PORTS": str(folder)} if folder is not None else {})
    return subprocess.run(command, capture_output=True, text=True, env=environment, timeout=within)


# what a command says it did


@pytest.mark.long_proof
def test_a_link_that_the_book_does_not_know_gets_a_bench_that_is_said(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:  # fmt: skip
    kits = stand_ins(count=3)
    book = tmp_path / "class.benchbook"
    assert run("record", book, kits.link("Basalt"), "--for", "1s").returncode == 0
    other = run("record", book, kits.link("Chalk"), "--for", "1s")
    assert (other.returncode, "is recorded at the bench of Chalk" in other.stdout) == (0, True), other
    there, name = os.path.split(kits.link("Chalk"))
    again = subprocess.run([*COMMAND, "record", str(book), f"./{name}", "--for", "1s"], capture_output=True, text=True, cwd=there, timeout=60)  # fmt: skip
    assert again.returncode == 0, again
    assert "Chalk run 2" in again.stdout, "a relative path is the same place"
    runs = {g["alias"]: len(g["runs"]) for g in json.loads(run("show", book, "--json").stdout)["groups"]}
    assert runs == {"Basalt": 1, "Chalk": 2}
    shown = run("show", book).stdout
    assert "ended by hand" not in shown
    assert "ended by rule" in shown


def test_a_command_that_recorded_nothing_says_so(tmp_path: Path) -> None:
    empty = tmp_path / "kit.txt"
    empty.write_text("nothing but words\nand more of them\n")
    done = run("record", tmp_path / "a.benchbook", f"file:{empty}", "--for", "1s")
    assert done.returncode == 2
    assert done.stderr.startswith("common-bench: ")


@pytest.mark.parametrize("name", ["x" * 300 + ".benchbook", "y" * 250 + ".benchbook"])
def test_a_name_that_no_file_can_have_is_a_sentence(tmp_path: Path, name: str) -> None:
    with pytest.raises(BookTrouble) as refused:
        Book.make(tmp_path / name)
    assert refused.value.code == "book-name-too-long"
    done = run("show", tmp_path / name)
    assert (done.returncode, "Traceback" in done.stderr) == (2, False)
    with pytest.raises(BookTrouble):
        Book.open(Path("a\0b.benchbook"))


def test_an_alias_that_cannot_be_shown_is_refused(school: School) -> None:
    lesson = school(count=1).lesson
    for alias in ("a\0b", "x\x1b[31m", "turned\u202eround"):
        with pytest.raises(PlanTrouble) as refused:
            lesson.register.add_groups([alias])
        assert refused.value.code == "alias-unshown"


def test_a_making_that_fails_leaves_nothing_behind(tmp_path: Path) -> None:
    folder = tmp_path / "full"
    folder.mkdir()
    done = run("record", folder / "a.benchbook", "file:/dev/null", "--for", "1s", inside=f"mount -t tmpfs -o size=48k tmpfs {folder} && trap 'ls -A {folder} >&2' EXIT")  # fmt: skip
    assert done.returncode == 2
    assert "disk" in done.stderr
    with pytest.raises(BookTrouble):
        Book.make(tmp_path / "no" / "folder.benchbook")


# what was cut off


@pytest.mark.long_proof
def test_after_a_kill_the_run_is_shown_exported_and_told_as_cut_off(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:  # fmt: skip
    kits = stand_ins(count=1)
    book = tmp_path / "class.benchbook"
    process = subprocess.Popen([*COMMAND, "record", str(book), kits.link("Basalt"), "--for", "60s"], stdout=subprocess.PIPE, text=True)  # fmt: skip
    deadline = time.monotonic() + 40
    while time.monotonic() < deadline:
        time.sleep(0.3)
        shown = run("show", book, "--json")
        runs = (
            [run for group in json.loads(shown.stdout)["groups"] for run in group["runs"]]
            if not shown.returncode
            else []
        )
        if runs and runs[0]["readings"]:
            break
    assert runs[0]["state"] == "open", runs
    assert runs[0]["bytes"] > 0
    assert "readings so far" in run("show", book).stdout
    process.send_signal(signal.SIGKILL)
    process.wait()
    (cut,) = json.loads(run("show", book, "--json").stdout)["groups"][0]["runs"]
    assert cut["state"] == "closed"
    assert "cut off" in cut["ended_by"]
    assert cut["readings"] >= runs[0]["readings"] > 0
    out = tmp_path / "out"
    exported = run("export", book, out)
    assert exported.returncode == 0
    assert len((out / "basalt-run-1.csv").read_text().splitlines()) == cut["readings"] + 1
    assert exported.stdout.splitlines()[-1] == f"{len(list(out.iterdir()))} files in {out}"
    assert "cut off" in run("pool", book).stdout
    assert run("check", book).returncode == 0


# the disk is full, the book is gone


def test_on_a_full_disk_it_is_told_at_once_and_all_of_it_is_written_elsewhere(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:  # fmt: skip
    kits = stand_ins("--rate", "400", count=1)
    small = tmp_path / "small"
    small.mkdir()
    began = time.monotonic()
    done = run("record", small / "a.benchbook", kits.link("Basalt"), "--for", "12s", inside=f"mount -t tmpfs -o size=1200k tmpfs {small}", within=90)  # fmt: skip
    assert time.monotonic() - began < 60
    assert done.returncode == 2, done
    assert "cannot be written" in done.stdout
    assert "rescued" in done.stderr
    place = next(Path(os.environ["XDG_DATA_HOME"]).rglob("a rescued*.benchbook"))
    (kept,) = json.loads(run("show", place, "--json").stdout)["groups"][0]["runs"]
    assert kept["state"] == "closed"
    assert "ended by rule, 12 s" in kept["ended_by"]
    assert run("check", place).returncode == 0
    place.unlink()


@pytest.mark.long_proof
def test_stopped_by_hand_on_a_full_disk_it_says_where_all_of_it_is(stand_ins: Callable[..., StandInProcess], tmp_path: Path) -> None:  # fmt: skip
    kits = stand_ins("--rate", "400", count=1)
    small = tmp_path / "small"
    small.mkdir()
    words = [*COMMAND, "record", str(small / "s.benchbook"), kits.link("Basalt"), "--for", "600s"]
    inside = f'mount -t tmpfs -o size=1200k tmpfs {small} && exec "$@"'
    process = subprocess.Popen(["unshare", "-m" if os.getuid() == 0 else "-rm", "sh", "-c", inside, "sh", *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
    assert process.stdout is not None
    while "cannot be written" not in process.stdout.readline():
        assert process.poll() is None
    process.send_signal(signal.SIGINT)
    _, told = process.communicate(timeout=60)
    assert process.returncode == 2
    assert "rescued" in told
    place = next(Path(os.environ["XDG_DATA_HOME"]).rglob("s rescued*.benchbook"))
    (kept,) = json.loads(run("show", place, "--json").stdout)["groups"][0]["runs"]
    assert kept["ended_by"] == "the program was closed"
    place.unlink()


@pytest.mark.parametrize("way", ["deleted", "replaced"])
def test_a_book_that_goes_away_while_it_is_open_goes_on_beside_it(school: School, way: str) -> None:
    made = school(count=2)
    lesson, path = made.lesson, made.lesson.book.path
    lesson.recording.begin_runs(list(made.group.values()))
    made.world(2)
    if way == "deleted":
        path.unlink()
    else:
        other = path.with_name("other")
        shutil.copy(OLD, other)
        other.replace(path)
    began, told = time.monotonic(), []
    while not told and time.monotonic() - began < 10:
        told = [each.trouble for each in lesson.tick() if each.what == "moved"]
        time.sleep(0.02)
    assert told
    assert told[0] is not None
    assert told[0].code == "book-gone"
    assert time.monotonic() - began < 3.0
    assert lesson.book.path != path
    made.world(2)
    lesson.recording.end_runs(list(made.group.values()))
    made.until(lambda: len(lesson.store.kept_runs()) == 2, "the runs are kept")
    for kept in lesson.store.kept_runs():
        assert len(lesson.working_up.replayed(kept.id).t) > 50
    lesson.close()
    again = Book.open(lesson.book.path, readonly=True)
    assert again.check() == []
    again.close()
    if way == "replaced":
        assert path.read_bytes() == OLD.read_bytes(), "what was put there is not touched"


# places that cannot be written to


@pytest.mark.long_proof
def test_a_sound_book_on_read_only_media_is_shown_checked_exported_and_pooled(tmp_path: Path) -> None:
    folder, out = tmp_path / "stick", tmp_path / "out"
    folder.mkdir()
    shutil.copy(OLD, folder / "class.benchbook")
    Book.open(folder / "class.benchbook").close()
    readonly = f"mount --bind {folder} {folder} && mount -o remount,ro,bind {folder}"
    for words in (["show"], ["check"], ["pool", "--json"]):
        done = run(words[0], folder / "class.benchbook", *words[1:], inside=readonly)
        assert done.returncode == 0, (words, done)
    done = run("export", folder / "class.benchbook", out, inside=readonly)
    assert (done.returncode, (out / "findings.csv").exists()) == (0, True), done
    code = f"from pathlib import Path; from common_bench.lesson.lesson import OpenLesson as L; l = L.open_within_reach(Path({str(folder / 'class.benchbook')!r})); print([n.code for n in l.notices], l.book.path); l.close()"  # fmt: skip
    opened = subprocess.run(["unshare", "-m" if os.getuid() == 0 else "-rm", "sh", "-c", f'{readonly} && exec "$@"', "sh", sys.executable, "-c", code], capture_output=True, text=True, timeout=60)  # fmt: skip
    assert "book-copied" in opened.stdout, opened


HAMMER = """
import sys, time
from pathlib import Path
from common_bench.book.lock import BookLock
from common_bench.model.trouble import Trouble
book, mark, end = Path(sys.argv[1]), Path(sys.argv[2]), time.monotonic() + 4.0
held = overlaps = 0
while time.monotonic() < end:
    try:
        lock = BookLock(book)
    except Trouble:
        continue
    try:
        mark.touch(exist_ok=False)
    except FileExistsError:
        overlaps += 1
    else:
        held += 1
        mark.unlink()
    lock.release()
print(held, overlaps)
"""


def test_four_that_hammer_at_a_lock_never_hold_it_together(tmp_path: Path) -> None:
    words = [sys.executable, "-c", HAMMER, str(tmp_path / "a.benchbook"), str(tmp_path / "mark")]
    hammering = [subprocess.Popen(words, stdout=subprocess.PIPE, text=True) for _ in range(4)]
    found = [tuple(map(int, each.communicate(timeout=60)[0].split())) for each in hammering]
    assert sum(overlaps for _, overlaps in found) == 0
    assert sum(held for held, _ in found) > 50
    lock = BookLock(tmp_path / "b.benchbook")
    assert is_held(tmp_path / "b.benchbook")
    lock.release()
    assert not is_held(tmp_path / "b.benchbook")


# what goes out


def test_cells_that_a_spreadsheet_would_work_out_are_words(tmp_path: Path) -> None:
    text = csv_text(["=cmd", "n"], [["=1+1", 1.5], ["+49 30", -2.0], ["-12.5", None], ["@sum", "\tx"], ["\x1b[31m", "plain"], ["−3", "-x"]])  # fmt: skip
    assert text.splitlines() == ["'=cmd,n", "'=1+1,1.5", "'+49 30,-2.0", "-12.5,", "'@sum,'\tx", "\\x1b[31m,plain", "−3,'-x"]  # fmt: skip


def test_files_of_two_aliases_never_overwrite_each_other(school: School, tmp_path: Path) -> None:
    made = school(count=2)
    made.record(3.0)
    lesson = made.lesson
    rows = [lesson.book.changed("group", group.id, alias=alias) for group, alias in zip(lesson.store.groups, ["A/B", "a b"], strict=True)]  # fmt: skip
    lesson.changes.do("Names that give one file name", rows)
    files = export_all(lesson, tmp_path / "out").files
    assert sorted(files) == sorted((tmp_path / "out").iterdir())
    assert len({each.name.casefold() for each in files}) == len(files)
    assert {"a-b-run-1.csv", "a-b-2-run-1.csv"} <= {each.name for each in files}
    stems = stems_of({1: "../../etc", 2: "…", 3: "x" * 500, 4: "X" * 500, 5: "É" * 90, 6: ".."})
    assert len(set(stems.values())) == 6
    assert all(each and not {"/", "."} & set(each) and len(each.encode()) < 100 for each in stems.values())


@pytest.mark.long_proof
def test_no_control_sequence_reaches_the_terminal(tmp_path: Path) -> None:
    evil = tmp_path / "kit.txt"
    evil.write_bytes(b"\x1b]0;title\x07hello\n" + b"".join(b'{"\\u001b[31mred": %d, "b": 2}\n' % k for k in range(30)))
    heard = run("listen", f"file:{evil}", "--for", "2s")
    assert "\x1b" not in heard.stdout + heard.stderr
    assert "\\x1b[31mred" in heard.stdout
    as_json = run("listen", f"file:{evil}", "--for", "2s", "--json").stdout
    assert "\x1b" not in as_json
    assert any("\x1b[31mred" in json.loads(line).get("values", {}) for line in as_json.splitlines())
    book = tmp_path / "evil.benchbook"
    lesson = OpenLesson.make(book, Plan("\x1b[2Jplan"), "\x1b[1mclass", ["Basalt"])
    lesson.changes.do("x", [lesson.book.changed("group", 1, alias="\x1b]52;c;x\x07")])
    lesson.close()
    for words in ("show", "pool", "check"):
        done = run(words, book)
        assert "\x1b" not in done.stdout + done.stderr, words
    with pytest.raises(Trouble):
        OpenLesson.open(tmp_path / "none\x1b.benchbook")
    assert "\x1b" not in run("show", tmp_path / "none\x1b.benchbook").stderr


def test_a_run_of_more_readings_than_can_be_worked_up_is_kept_with_the_reason(school: School) -> None:
    made = school(count=1)
    made.record(3.0)
    (kept,) = made.lesson.store.kept_runs()
    with pytest.raises(Trouble) as refused:
        replay(made.lesson.book, kept, made.lesson.store.channels, most=50)
    assert refused.value.code == "run-too-large"
    assert len(replay(made.lesson.book, kept, made.lesson.store.channels).t) > 50


def test_readings_that_all_came_at_one_time_break_no_event() -> None:
    workings = check(["level = calibrated x", "up = rises of level through 5, 0.1 s apart", "g = gap between up"], {"x": ""})  # fmt: skip
    evaluator = Evaluator(workings)
    t = np.zeros(200)
    values = np.tile([1.0, 9.0], 100)
    block = Block(t, t, t, np.arange(200), np.zeros(200, bool), {"x": values}, np.zeros(200))
    found = evaluator.push(block, {"x": Series(t, values, "", {})})
    assert set(found) >= {"level"}


def test_the_window_tells_of_a_book_that_is_gone_until_it_is_understood_and_writes_one_elsewhere_when_asked(desk: Callable[..., Desk]) -> None:  # fmt: skip
    made = desk()
    made.lesson.book.path.unlink()
    made.see("the book is no longer there")
    made.hub.tell("something else", "good")
    made.until(lambda: "something else" not in made.seen(), "that goes")
    made.see("the book is no longer there")
    (understood,) = [each for each in made.window.findChildren(QAbstractButton) if each.isVisible() and each.text() == "Understood"]  # fmt: skip
    QTest.mouseClick(understood, Qt.MouseButton.LeftButton)
    QTest.qWait(300)
    assert "no longer there" not in made.seen()
    holder = sqlite3.connect(made.lesson.book.path, isolation_level=None, timeout=10)
    holder.execute("BEGIN IMMEDIATE")
    made.see("not kept now", made.window.benches)
    made.press("4")
    made.see("not kept now", made.window.stage)
    before = made.lesson.book.path
    made.see("Write it elsewhere")
    (elsewhere,) = [each for each in made.window.findChildren(QAbstractButton) if each.isVisible() and each.text() == "Write it elsewhere"]  # fmt: skip
    QTest.mouseClick(elsewhere, Qt.MouseButton.LeftButton)
    made.see("is now in")
    assert made.lesson.book.path != before
    holder.close()
    made.until(lambda: "not kept now" not in made.seen(made.window.benches), "it is kept again")


def test_what_waits_in_memory_has_a_limit_beyond_which_it_is_dropped_counted_and_a_gap(session: tuple[Book, int]) -> None:  # fmt: skip
    book, number = session
    holder = sqlite3.connect(book.path, isolation_level=None)
    writer = JournalWriter(book.path, most_held=1000)
    writer.put(JournalEntry(number, HEARD, 0.5, [Stamped(0.5, b"before\n")]))
    writer.flush()
    holder.execute("BEGIN IMMEDIATE")
    for k in range(30):
        writer.put(JournalEntry(number, HEARD, 1.0 + k, [Stamped(1.0 + k, b"%02d" % k + b"x" * 97 + b"\n")]))
    until = time.monotonic() + 20
    while writer.trouble is None and time.monotonic() < until:
        time.sleep(0.05)
    assert writer.trouble is not None
    assert writer.trouble.code == "journal-memory-full"
    assert writer.dropped == 2000
    holder.execute("ROLLBACK")
    holder.close()
    writer.flush()
    assert writer.trouble is None
    writer.put(JournalEntry(number, HEARD, 99.0, [Stamped(99.0, b"after\n")]))
    writer.close()
    found = list(heard(book, number, 0, 10**6))
    assert b"".join(chunk.data for _, _, chunks in found for chunk in chunks) == b"before\n" + b"".join(b"%02d" % k + b"x" * 97 + b"\n" for k in range(10)) + b"after\n"  # fmt: skip
    assert "lost" in [what for what, _, _ in found]
    assert any("are missing" in each for each in book.check()), "what was dropped is known to be missing"
