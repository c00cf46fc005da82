"""Books that older versions made: each is brought up, holds what it held, and is worked on like any other."""

from __future__ import annotations

import json
import shutil
import sqlite3
from pathlib import Path

import pytest

from common_bench.book.book import Book
from common_bench.book.migrations import STEPS
from common_bench.book.schema import SCHEMA_VERSION, metadata
from common_bench.lesson.lesson import OpenLesson, lesson_summary
from common_bench.model.trouble import BookTrouble

BOOKS = Path(__file__).parent / "books"
OLD = sorted(BOOKS.glob("version-*.benchbook"))


def columns(path: Path) -> dict[str, set[str]]:
    connection = sqlite3.connect(path)
    found = {name: {row[1] for row in connection.execute(f'PRAGMA table_info("{name}")')} for name in metadata.tables}
    connection.close()
    return found


@pytest.fixture(params=OLD, ids=lambda path: path.stem)
def old(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    return Path(shutil.copy(request.param, tmp_path / "class.benchbook"))


def test_every_version_up_to_this_one_lies_here_and_has_its_step() -> None:
    assert [int(path.stem.removeprefix("version-")) for path in OLD] == list(range(1, SCHEMA_VERSION))
    assert sorted(STEPS) == list(range(1, SCHEMA_VERSION))


def test_an_old_book_is_brought_up_with_a_copy_beside_it_and_goes_on_like_any_other(old: Path) -> None:
    before = old.read_bytes()
    lesson = OpenLesson.open(old)
    (notice,) = lesson.notices
    assert notice.code == "book-brought-up"
    copy = old.with_name(str(notice.fields["copy"]))
    assert copy.exists()
    assert sqlite3.connect(copy).execute("PRAGMA user_version").fetchone()[0] == version_of(before)
    assert columns(old) == {name: set(table.columns.keys()) for name, table in metadata.tables.items()}
    assert lesson.book.check() == []
    store = lesson.store
    runs = store.runs()
    assert [run.ended_by for run in runs] == ["ended by rule, 6 s"] * 2 + ["ended by hand"] * 2
    assert [bool(run.aside) for run in runs] == [False, False, False, True]
    for run in runs:
        (kept,) = store.findings(run.id)
        (again,) = lesson.working_up.worked_up(run.id, kept.span)
        assert abs(again.measured.value - kept.measured.value) < 2 * kept.measured.u, (
            "computed from the old bytes by the old setting, with tops that are found more sharply since"
        )
        assert 0 < again.measured.u < 1.3 * kept.measured.u, (
            "neighbouring gaps share an event, which older versions did not know"
        )
        assert run.setting is not None
        (calibration,) = run.setting.calibrations
        assert (calibration.curve, calibration.dof) == ("straight-line", 0)
        assert calibration.rms_residual > 0
    for group in store.groups:
        ready = lesson.sensors.applied(group.id, "load")
        assert ready is not None
        assert ready.calibration.rms_residual > 0
    assert len(store.pooled()) == 2
    assert [moment.text for moment in store.moments(runs[0].id)] == ["bumped"]
    lesson.close()
    assert Book.open(old).notices == [], "it is brought up once"
    assert len(before) > 0


def test_an_old_book_that_is_only_read_stays_as_it_is(old: Path) -> None:
    before = old.read_bytes()
    lesson = OpenLesson.open(old, readonly=True)
    assert len(lesson_summary(lesson)["groups"]) == 2
    lesson.close()
    assert old.read_bytes() == before
    assert [path.name for path in old.parent.iterdir()] == [old.name]


def version_of(book: bytes) -> int:
    """The user version in the header of an SQLite file (offset 60)."""
    return int.from_bytes(book[60:64], "big")


def test_a_step_that_fails_leaves_the_book_as_it_was(old: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def halfway(book: sqlite3.Connection) -> None:
        book.execute("ALTER TABLE moment RENAME TO remark")
        raise sqlite3.OperationalError("database or disk is full")

    version = version_of(old.read_bytes())
    monkeypatch.setitem(STEPS, version, halfway)
    before = columns(old)
    with pytest.raises(BookTrouble):
        OpenLesson.open(old)
    assert columns(old) == before
    assert sqlite3.connect(old).execute("PRAGMA user_version").fetchone()[0] == version
    monkeypatch.undo()
    lesson = OpenLesson.open(old)
    assert len(lesson.store.kept_runs()) == 3
    lesson.close()


def test_what_version_1_kept_in_words_is_kept_as_data(tmp_path: Path) -> None:
    book = sqlite3.connect(shutil.copy(OLD[0], tmp_path / "odd.benchbook"))
    for id, words in enumerate(("the kit was left", "ended by rule, 0.5 s", "no kit here.", ""), 1):
        book.execute("UPDATE run SET ended_by = ? WHERE id = ?", (words, id))
    book.execute("UPDATE finding SET words = 'mean of 7 values of swing · 3 of them outside the calibration: a guess'")
    book.commit()
    book.close()
    lesson = OpenLesson.open(tmp_path / "odd.benchbook", readonly=True)
    endings = [json.loads(row["ending"]) if row["ending"] else None for row in lesson.book.rows("run")]
    assert endings == [
        {"code": "kit-left", "fields": {}},
        {"code": "by-rule", "fields": {"seconds": 0.5}},
        {"code": "begin-refused", "fields": {"told": "no kit here."}},
        None,
    ]
    assert lesson.store.runs()[2].ended_by == "it could not begin: no kit here."
    found = lesson.store.findings(1)[0]
    assert (found.words, found.guesses) == ("mean of 7 values of swing", 3)
    assert found.how.endswith("3 of them outside the calibration: a guess")
    lesson.close()
