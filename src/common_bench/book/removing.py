"""The only thing that takes raw bytes away: a run, a group or a lesson removed from a book for good, as somebody's right to be
forgotten asks for. Everything else in the program sets aside."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass

from sqlalchemy import Connection, delete, insert, select, text, update

from common_bench.book import schema
from common_bench.book.book import Book
from common_bench.book.changes import Row
from common_bench.book.journal import HEARD, NO_TEXT
from common_bench.book.packing import as_it_came, packed, whole_size
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.soundness import journal_sum
from common_bench.model.trouble import BookTrouble

OF_A_RUN = ("finding", "run_picture", "moment", "run_condition", "taken_point", "prediction", "brought_file", "pooled")
ENDING = json.dumps({"code": "removed-for-good", "fields": {}})
ASIDE = "removed for good"


@dataclass(frozen=True)
class Removed:
    """What is gone: runs, bytes of what was heard; copies: files beside the book that may still hold it."""

    runs: int
    bytes: int
    copies: tuple[str, ...] = ()


def remove_run(book: Book, run: int) -> Removed:
    """A run with all that was heard in it, worked up from it and said of it. Its number stays taken. Raises BookTrouble while it
    goes on."""
    return _remove(book, [book.row("run", run)], (), 0, 0)


def remove_group(book: Book, group: int) -> Removed:
    """All runs of a group in every lesson, what its kits sent meanwhile, its conditions, its alias and its initials. Raises
    BookTrouble while it records."""
    runs = book.rows("run", group=group)
    kits = {(row["lesson"], row["kit"]) for row in book.rows("bench", group=group) if row["kit"] is not None}
    recorded = {run["session"] for run in runs}
    others = {row["session"] for row in book.rows("run") if row["group"] != group}
    sessions = [
        row["id"]
        for row in book.rows("session")
        if ((row["lesson"], row["kit"]) in kits or row["id"] in recorded) and row["id"] not in others
    ]
    return _remove(book, runs, sessions, group, 0)


def remove_lesson(book: Book, lesson: int) -> Removed:
    """A lesson with all its runs and all that was heard in it. Raises BookTrouble for the last lesson of a book, whose file is to
    be deleted instead, and while a run goes on."""
    if len(book.rows("lesson")) < 2:
        raise BookTrouble("only-lesson", where=str(book.path))
    sessions = [row["id"] for row in book.rows("session", lesson=lesson)]
    return _remove(book, book.rows("run", lesson=lesson), sessions, 0, lesson)


def _remove(book: Book, runs: Sequence[Row], sessions: Sequence[int], group: int, lesson: int) -> Removed:
    if any(run["state"] != "closed" for run in runs):
        raise BookTrouble("run-goes-on", where=str(book.path))
    gone: set[tuple[str, int]] = set()
    count = 0
    try:
        with book.engine.connect() as connection:
            connection.execute(text("PRAGMA secure_delete = ON"))
            connection.commit()
            with connection.begin():
                connection.exec_driver_sql("BEGIN IMMEDIATE")  # before it is looked: nobody packs rows in between
                for session in sessions:
                    count += _erase(connection, session, 0, None)
                for run in runs:
                    if run["begin_byte"] is not None and run["session"] not in sessions:
                        for low, high in _own_bytes(connection, run, {each["id"] for each in runs}):
                            count += _erase(connection, run["session"], low, high)
                for run in runs:
                    gone |= _empty(connection, run)
                if group:
                    gone |= _forget_group(connection, group)
                if lesson:
                    gone |= _forget_lesson(connection, lesson, runs)
                _blank_changes(connection, gone)
    except REFUSED as fault:
        raise refusal(fault, book.path) from fault
    # another connection may be reading; the file is then made smaller another time
    with suppress(*REFUSED), book.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as alone:
        alone.execute(text("VACUUM"))
        alone.execute(text("PRAGMA wal_checkpoint(TRUNCATE)"))
    copies = sorted(each.name for each in book.path.parent.glob(f"{book.path.stem} before version *{book.path.suffix}"))
    return Removed(len(runs), count, tuple(copies))


def _own_bytes(connection: Connection, run: Row, going: set[int]) -> Iterable[tuple[int, int]]:
    """(from, to) of a run's bytes that no other run holds too, as one that kept seconds from before it began."""
    r = schema.run
    query = select(r.c.id, r.c.begin_byte, r.c.end_byte).where(
        r.c.session == run["session"], r.c.begin_byte.is_not(None)
    )
    others = [(low, high or low) for id, low, high in connection.execute(query).all() if id not in going]
    at = run["begin_byte"]
    for low, high in sorted(others):
        if low >= (run["end_byte"] or at):
            break
        if low > at:
            yield at, low
        at = max(at, high)
    if at < (run["end_byte"] or at):
        yield at, run["end_byte"]


def _erase(connection: Connection, session: int, low: int, high: int | None) -> int:
    """Writes nothing over what was heard between two bytes, at its place, so that what is left can still be followed; gives how
    many bytes. What was sent to the kit goes too."""
    j, count = schema.journal, 0
    query = select(*schema.as_they_lie(j)).where(j.c.session == session)
    if high is not None:
        query = query.where(j.c.first_byte < high)
    for found in connection.execute(query).mappings().all():
        row, lies = dict(found), dict(found)
        row = as_it_came(row) or row
        data = row["bytes"] if isinstance(row["bytes"], bytes) else b""
        first = row["first_byte"] if isinstance(row["first_byte"], int) else 0
        size = whole_size(lies) if data else 0
        begin, end = max(0, low - first), size if high is None else min(size, high - first)
        if begin >= end and not (row["what"] != HEARD and low <= first):
            continue
        if row["packed"]:  # it cannot be read: written over whole, since nobody knows what of it could still be told
            begin, end = 0, len(data)
        row["bytes"] = (
            data[:begin] + NO_TEXT * (end - begin) + data[end:] if row["what"] == HEARD else NO_TEXT * len(data)
        )
        count += end - begin if row["what"] == HEARD else 0
        again = packed([row]) if lies["packed"] and not row["packed"] else {**row, "check_sum": journal_sum(row)}
        values = {name: again[name] for name in ("stamps", "sizes", "bytes", "check_sum")}
        connection.execute(update(j).where(j.c.id == row["id"]).values(values))
    return count


def _empty(connection: Connection, run: Row) -> set[tuple[str, int]]:
    """A run of which nothing is left but its number."""
    gone = {("run", int(run["id"]))}
    for name in OF_A_RUN:
        table = schema.TABLES[name]
        gone |= {(name, int(row[0])) for row in connection.execute(select(table.c.id).where(table.c.run == run["id"]))}
        connection.execute(delete(table).where(table.c.run == run["id"]))
    values = {
        "begin_byte": None, "end_byte": None, "setting": "", "note": "", "lacks": "", "trouble": "", "aside": ASIDE,
        "ending": ENDING, "began_at": "",
    }  # fmt: skip
    connection.execute(update(schema.run).where(schema.run.c.id == run["id"]).values(values))
    return gone


def _forget_group(connection: Connection, group: int) -> set[tuple[str, int]]:
    gone = {("group", group)}
    for name in ("condition_value", "prediction"):
        table = schema.TABLES[name]
        gone |= {(name, int(row[0])) for row in connection.execute(select(table.c.id).where(table.c.group == group))}
        connection.execute(delete(table).where(table.c.group == group))
    connection.execute(update(schema.bench).where(schema.bench.c.group == group).values(kit=None))
    connection.execute(
        update(schema.group).where(schema.group.c.id == group).values(alias=f"removed {group}", initials="", gone=1)
    )
    return gone


def _forget_lesson(connection: Connection, lesson: int, runs: Sequence[Row]) -> set[tuple[str, int]]:
    gone = {("lesson", lesson)}
    sessions = [
        row[0] for row in connection.execute(select(schema.session.c.id).where(schema.session.c.lesson == lesson))
    ]
    connection.execute(delete(schema.run).where(schema.run.c.id.in_([run["id"] for run in runs])))
    connection.execute(delete(schema.journal).where(schema.journal.c.session.in_(sessions)))
    for name in ("session", "bench", "condition_value", "reference_point", "prediction"):
        table = schema.TABLES[name]
        gone |= {(name, int(row[0])) for row in connection.execute(select(table.c.id).where(table.c.lesson == lesson))}
        connection.execute(delete(table).where(table.c.lesson == lesson))
    connection.execute(delete(schema.lesson).where(schema.lesson.c.id == lesson))
    return gone


def _blank_changes(connection: Connection, gone: set[tuple[str, int]]) -> None:
    """What was changed in these rows is no longer told by the table of changes, and cannot be taken back."""
    change = schema.change
    for id, rows in connection.execute(select(change.c.id, change.c.rows)).all():
        if any((row["table"], row["id"]) in gone for row in json.loads(rows or "[]")):
            connection.execute(update(change).where(change.c.id == id).values(rows="[]", state="removed"))
    connection.execute(insert(change).values(made_at="", label="Remove for good", rows="[]", state="removed"))
