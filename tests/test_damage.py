"""Damaged books: every flipped bit of what was heard is seen, one bad row costs that row, and only sentences are said."""

from __future__ import annotations

import contextlib
import random
import shutil
import sqlite3
from pathlib import Path

import pytest

from common_bench.book.book import Book
from common_bench.cli.running import main
from common_bench.lesson.exporting import export_all
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.trouble import Trouble
from damage import damaged

SOURCE = Path(__file__).parent / "books" / "version-3.benchbook"
SEEDS = range(20)  # `make fuzz` takes many more


@pytest.fixture
def book(tmp_path: Path) -> Path:
    """A sound book of this version."""
    path = Path(shutil.copy(SOURCE, tmp_path / "class.benchbook"))
    Book.open(path).close()
    return path


@pytest.mark.parametrize("seed", SEEDS)
def test_a_damaged_book_gives_sentences_only(book: Path, seed: int, capsys: pytest.CaptureFixture[str]) -> None:
    how = damaged(book, seed)
    for words in (["check", str(book)], ["show", str(book)], ["show", str(book), "--json"], ["pool", str(book), "--json"], ["export", str(book), str(book.parent / f"out-{seed}")]):  # fmt: skip
        code = main(words)
        out, err = capsys.readouterr()
        assert "Traceback" not in err, (how, words)
        assert code == 0 or err or out, (how, words)
        assert code in (0, 1, 2), (how, words)
    with contextlib.suppress(Trouble):
        lesson = OpenLesson.open(book)
        lesson.tick()
        lesson.close()


def test_each_flipped_bit_of_the_journal_is_found(book: Path) -> None:
    dice = random.Random(5)
    sound = book.read_bytes()
    connection = sqlite3.connect(book)
    blocks = [row[0] for row in connection.execute("SELECT bytes FROM journal WHERE what = 'bytes'")]
    connection.close()
    for _ in range(12):
        block = dice.choice([each for each in blocks if len(each) > 30])
        at = sound.find(block[:30])
        assert at > 0
        data = bytearray(sound)
        data[at + dice.randrange(30)] ^= 1 << dice.randrange(8)
        book.write_bytes(data)
        opened = Book.open(book, readonly=True)
        assert any("check sum" in each for each in opened.check())
        opened.close()


def test_a_bad_cell_costs_its_row_and_the_rest_is_told_shown_and_exported(book: Path, capsys: pytest.CaptureFixture[str]) -> None:  # fmt: skip
    connection = sqlite3.connect(book)
    connection.execute("UPDATE finding SET made_of = '{' WHERE id = 1")
    connection.execute("UPDATE reference_point SET reading = 'twelve' WHERE id = 1")
    connection.execute("UPDATE moment SET text = CAST(X'ff41' AS TEXT)")
    connection.commit()
    connection.close()
    lesson = OpenLesson.open(book)
    assert [notice.code for notice in lesson.notices] == ["book-rows-damaged"]
    assert set(lesson.book.damage) == {("finding", 1), ("reference_point", 1), ("moment", 1)}
    assert len(lesson.store.rows("finding")) == 3
    lesson.close()
    assert main(["show", str(book)]) == 0
    assert capsys.readouterr().out.count("damaged and left out") == 3
    assert main(["check", str(book)]) == 1
    only_read = OpenLesson.open(book, readonly=True)
    files = export_all(only_read, book.parent / "out").files
    only_read.close()
    assert (book.parent / "out" / "damaged.csv") in files


def test_a_run_with_a_damaged_block_keeps_all_other_readings_and_shows_a_gap(book: Path) -> None:
    lesson = OpenLesson.open(book, readonly=True)
    run = lesson.store.runs()[0]
    whole = lesson.working_up.replayed(run.id)
    lesson.close()
    connection = sqlite3.connect(book)
    (row,) = connection.execute("SELECT id FROM journal WHERE session = ? AND what = 'bytes' AND first_byte > ? AND first_byte < ? ORDER BY id LIMIT 1 OFFSET 1", (run.session, run.begin, run.end)).fetchall()  # fmt: skip
    connection.execute("UPDATE journal SET bytes = replace(bytes, X'31', X'32') WHERE id = ?", row)
    connection.commit()
    connection.close()
    lesson = OpenLesson.open(book, readonly=True)
    left = lesson.working_up.replayed(run.id)
    lesson.close()
    assert 0 < len(whole.t) - len(left.t) < len(whole.t) / 4
    at = {offset: place for place, offset in enumerate(whole.offset.tolist())}
    raw = next(iter(whole.raw))
    for place, offset in enumerate(left.offset.tolist()):
        assert left.raw[raw][place] == whole.raw[raw][at[offset]], "what is read is what was sent, at its place"
    assert len(left.gaps) == len(whole.gaps) + 1
