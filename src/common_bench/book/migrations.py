"""Books that an older version made, brought up step by step. Each step is one function in one transaction."""

from __future__ import annotations

import json
import re
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.schema import SCHEMA_VERSION
from common_bench.book.soundness import decoded, journal_fault, journal_sum

Step = Callable[[sqlite3.Connection], None]


def migrate(path: Path, version: int) -> Path | None:
    """Brings the book at `path` from `version` up to this program's; gives the copy that is kept beside it of how it
    was. Raises BookTrouble where the disk is full or the book may not be written to; it is then as it was."""
    if version >= SCHEMA_VERSION:
        return None
    copy = path.with_name(f"{path.stem} before version {SCHEMA_VERSION}{path.suffix}")
    try:
        whole_copy(path, copy)
        _climb(path, version)
    except REFUSED as fault:
        raise refusal(fault, path) from fault
    return copy


def migrated_copy(path: Path, version: int, to: Path) -> Path:
    """A copy of an older book, brought up, for one who only reads; the book itself is not touched."""
    try:
        whole_copy(path, to)
        _climb(to, version)
    except REFUSED as fault:
        raise refusal(fault, path) from fault
    return to


def whole_copy(path: Path, to: Path) -> None:
    """A whole copy, what is still in the write-ahead log included; an earlier copy of that name stays as it is."""
    if to.exists():
        return
    part = to.with_name(to.name + ".part")
    part.unlink(missing_ok=True)
    part.touch(mode=0o600)
    source, target = sqlite3.connect(path), sqlite3.connect(part)
    try:
        source.backup(target)
    finally:
        source.close()
        target.close()
    shutil.move(part, to)


def _climb(path: Path, version: int) -> None:
    connection = sqlite3.connect(path, isolation_level=None)
    try:
        connection.row_factory = sqlite3.Row
        connection.text_factory = decoded
        for step in range(version, SCHEMA_VERSION):
            connection.execute("BEGIN IMMEDIATE")
            try:
                STEPS[step](connection)
                connection.execute(f"PRAGMA user_version = {step + 1}")
                connection.execute("COMMIT")
            except BaseException:
                connection.execute("ROLLBACK")
                raise
    finally:
        connection.close()


# the steps


def _from_1(book: sqlite3.Connection) -> None:
    """Sessions, degrees of freedom and rms residuals by their standard names; how a run ended and why it could not be
    worked up as data; how many values of a finding are guesses; the journal found by place."""
    for change in (
        "ALTER TABLE hearing RENAME TO session",
        "ALTER TABLE journal RENAME COLUMN hearing TO session",
        "ALTER TABLE run RENAME COLUMN hearing TO session",
        "ALTER TABLE run RENAME COLUMN ended_by TO ending",
        "ALTER TABLE run ADD COLUMN trouble TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE calibration RENAME COLUMN freedom TO dof",
        'ALTER TABLE calibration RENAME COLUMN "off" TO rms_residual',
        "ALTER TABLE finding ADD COLUMN guesses INTEGER DEFAULT 0",
        "CREATE INDEX IF NOT EXISTS journal_by_place ON journal (session, first_byte)",
    ):
        book.execute(change)
    for row in book.execute("SELECT id, ending, setting FROM run").fetchall():
        setting = _renamed(json.loads(row["setting"])) if row["setting"] else None
        book.execute(
            "UPDATE run SET ending = ?, setting = ? WHERE id = ?",
            (_ending(row["ending"]), json.dumps(setting) if setting is not None else "", row["id"]),
        )
    for row in book.execute("SELECT id, words FROM finding").fetchall():
        found = re.fullmatch(r"(.*) · (\d+) of them outside the calibration: a guess", row["words"])
        if found:
            book.execute("UPDATE finding SET words = ?, guesses = ? WHERE id = ?", (found[1], int(found[2]), row["id"]))


def _ending(words: str) -> str:
    """How a run ended, from the sentence that version 1 kept."""
    by_rule = re.fullmatch(r"ended by rule, ([\d.e+]+) s", words)
    codes = {
        "ended by hand": "by-hand", "the program was closed": "program-closed", "the kit was left": "kit-left",
        "the program was stopped": "program-stopped",
    }  # fmt: skip
    if not words:
        return ""
    if by_rule:
        return json.dumps({"code": "by-rule", "fields": {"seconds": float(by_rule[1])}})
    if words in codes:
        return json.dumps({"code": codes[words], "fields": {}})
    return json.dumps({"code": "begin-refused", "fields": {"told": words}})


def _renamed(setting: dict[str, Any]) -> dict[str, Any]:
    names = {"freedom": "dof", "off": "rms_residual"}
    for calibration in setting.get("calibrations", ()):
        for old, new in names.items():
            if old in calibration:
                calibration[new] = calibration.pop(old)
    return setting


def _from_2(book: sqlite3.Connection) -> None:
    """Several lessons in one book: where a plan came from, groups that have left, kits that were added by address,
    conditions in words."""
    for change in (
        "ALTER TABLE plan ADD COLUMN origin TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE \"group\" ADD COLUMN initials TEXT NOT NULL DEFAULT ''",
        'ALTER TABLE "group" ADD COLUMN gone INTEGER DEFAULT 0',
        "ALTER TABLE kit ADD COLUMN added INTEGER DEFAULT 0",
        "ALTER TABLE condition_value ADD COLUMN words TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE run_condition ADD COLUMN words TEXT NOT NULL DEFAULT ''",
    ):
        book.execute(change)
    book.execute("UPDATE kit SET added = 1 WHERE link LIKE '%://%'")


def _from_3(book: sqlite3.Connection) -> None:
    """A check sum over each row of the journal; no passwords of brokers where links are only remembered."""
    for table, column in (("session", "link"), ("change", "rows")):
        for row in book.execute(
            f"SELECT id, {column} AS text FROM {table} WHERE {column} LIKE '%password=%'"
        ).fetchall():
            without = re.sub(r"password=[^&\"\s]*&?", "", row["text"])
            book.execute(f"UPDATE {table} SET {column} = ? WHERE id = ?", (without, row["id"]))
    book.execute("ALTER TABLE journal ADD COLUMN check_sum INTEGER")
    last = -1
    while rows := book.execute("SELECT * FROM journal WHERE id > ? ORDER BY id LIMIT 500", (last,)).fetchall():
        last = rows[-1]["id"]
        sums = [(journal_sum(row), row["id"]) for row in map(dict, rows) if not journal_fault(row)]
        book.executemany("UPDATE journal SET check_sum = ? WHERE id = ?", sums)


def _from_4(book: sqlite3.Connection) -> None:
    """From how many degrees of freedom an uncertainty is known."""
    book.execute("ALTER TABLE calibration ADD COLUMN u_dof FLOAT")
    book.execute("ALTER TABLE finding ADD COLUMN dof FLOAT")


def _from_5(book: sqlite3.Connection) -> None:
    """Points of a run that is taken point by point; a note on a run, what it lacked when it was begun, practice; what groups
    expected of a run."""
    for change in (
        "ALTER TABLE run ADD COLUMN note TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE run ADD COLUMN lacks TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE run ADD COLUMN practice INTEGER DEFAULT 0",
        "CREATE TABLE taken_point (id INTEGER NOT NULL PRIMARY KEY, run INTEGER NOT NULL REFERENCES run (id), "
        "name TEXT NOT NULL DEFAULT '', value FLOAT, u FLOAT, unit TEXT NOT NULL DEFAULT '', t_from FLOAT, t_to FLOAT, "
        "taken_at TEXT NOT NULL DEFAULT '', aside TEXT NOT NULL DEFAULT '', shown TEXT NOT NULL DEFAULT '')",
        "CREATE INDEX ix_taken_point_run ON taken_point (run)",
        "CREATE TABLE prediction (id INTEGER NOT NULL PRIMARY KEY, lesson INTEGER NOT NULL REFERENCES lesson (id), "
        '"group" INTEGER NOT NULL REFERENCES "group" (id), run INTEGER REFERENCES run (id), '
        "quantity TEXT NOT NULL DEFAULT '', unit TEXT NOT NULL DEFAULT '', points TEXT NOT NULL DEFAULT '', "
        "drawn_at TEXT NOT NULL DEFAULT '')",
        "CREATE TABLE brought_file (id INTEGER NOT NULL PRIMARY KEY, run INTEGER NOT NULL REFERENCES run (id), "
        "name TEXT NOT NULL DEFAULT '', digest TEXT NOT NULL DEFAULT '', size INTEGER, told TEXT NOT NULL DEFAULT '', "
        "brought_at TEXT NOT NULL DEFAULT '')",
        "CREATE INDEX ix_brought_file_run ON brought_file (run)",
        *(f'CREATE INDEX ix_prediction_{name} ON prediction ("{name}")' for name in ("lesson", "group", "run")),
    ):
        book.execute(change)


def _from_6(book: sqlite3.Connection) -> None:
    """Rows of the journal that are packed; pictures of long runs; spans with names that somebody has set in a run."""
    for change in (
        "ALTER TABLE journal ADD COLUMN packed INTEGER DEFAULT 0",
        "CREATE TABLE run_picture (id INTEGER NOT NULL PRIMARY KEY, run INTEGER NOT NULL REFERENCES run (id), "
        "digest TEXT NOT NULL DEFAULT '', name TEXT NOT NULL DEFAULT '', unit TEXT NOT NULL DEFAULT '', t BLOB, value BLOB)",
        "ALTER TABLE run ADD COLUMN spans TEXT NOT NULL DEFAULT ''",
        "CREATE INDEX ix_run_picture_run ON run_picture (run)",
    ):
        book.execute(change)


def _from_7(book: sqlite3.Connection) -> None:
    """Why somebody should look at a finding before it is used."""
    book.execute("ALTER TABLE finding ADD COLUMN doubts TEXT NOT NULL DEFAULT ''")


def _from_8(book: sqlite3.Connection) -> None:
    """Nothing changes: rows of the journal may stand for lines since, which programs that know version 8 would take for damaged."""


STEPS: dict[int, Step] = {
    1: _from_1, 2: _from_2, 3: _from_3, 4: _from_4, 5: _from_5, 6: _from_6, 7: _from_7, 8: _from_8,
}  # fmt: skip
