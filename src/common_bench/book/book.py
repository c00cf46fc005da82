"""The bench book: opening it, reading it, changing it. One SQLite file that holds a class."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection, Engine, Table, create_engine, event, func, insert, select, text, update
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import NullPool

from common_bench.book import schema
from common_bench.book.changes import Change, Row, RowChange
from common_bench.book.lock import BookLock
from common_bench.model.trouble import BookTrouble

CACHE = 256  # KB of pages per connection: a journal that only grows is never read back while it is written
BUSY = 5.0  # s to wait for the journal's transaction to end


def now() -> str:
    """This moment as ISO 8601 local time with offset."""
    return datetime.now().astimezone().isoformat(timespec="milliseconds")


def connect(path: Path, *, readonly: bool = False) -> Engine:
    """An engine on the book; every commit is on the disk when it returns (synchronous FULL)."""

    def opened() -> sqlite3.Connection:
        mode = "ro" if readonly else "rwc"
        return sqlite3.connect(f"file:{_quoted(path)}?mode={mode}", uri=True, timeout=BUSY, check_same_thread=False)

    engine = create_engine("sqlite://", creator=opened, poolclass=NullPool)

    @event.listens_for(engine, "connect")
    def prepare(connection: sqlite3.Connection, _: object) -> None:
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute(f"PRAGMA cache_size = -{CACHE}")
        if not readonly:
            connection.execute("PRAGMA journal_mode = WAL")

    return engine


def _quoted(path: Path) -> str:
    return str(path).replace("%", "%25").replace("?", "%3f").replace("#", "%23")


def check_file(path: Path) -> None:
    """Raises BookTrouble in words where `path` is no book that this version can read."""
    if not path.is_file():
        near = sorted(each.name for each in path.parent.glob("*.benchbook"))[:5] if path.parent.is_dir() else []
        do = f"In that folder there are: {', '.join(near)}." if near else "Check the name."
        raise BookTrouble("there is no such bench book.", where=str(path), do=do)
    try:
        connection = sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True, timeout=BUSY)
        try:
            application = connection.execute("PRAGMA application_id").fetchone()[0]
            version = connection.execute("PRAGMA user_version").fetchone()[0]
        finally:
            connection.close()
    except sqlite3.Error as fault:
        raise BookTrouble(
            f"this file is no bench book ({fault}).",
            where=str(path),
            do="Choose a file that ends in .benchbook, or a copy of it.",
        ) from fault
    if application != schema.APPLICATION_ID:
        raise BookTrouble("this file is no bench book.", where=str(path), do="Choose a file that ends in .benchbook.")
    if version > schema.SCHEMA_VERSION:
        raise BookTrouble(
            f"this book is from a newer Common Bench (book version {version}; this program reads up to {schema.SCHEMA_VERSION}).",
            where=str(path), do="Update Common Bench, or ask for an export.",
        )  # fmt: skip


class Book:
    """One open book.

    Every change goes through `apply`, in one transaction, and is kept in the table of changes, so
    that nothing is lost between two actions and there is no unsaved state. Rows are never deleted
    but by undoing what made them.
    """

    def __init__(self, path: Path, engine: Engine, lock: BookLock | None) -> None:
        self.path = path
        self.engine = engine
        self.told: list[str] = []
        self._lock = lock
        self._given: dict[str, int] = {}
        self._connection: Connection = engine.connect()

    @classmethod
    def make(cls, path: Path) -> Book:
        """A new book. Raises BookTrouble where a file of that name is already there."""
        path = path.resolve()
        if path.exists():
            raise BookTrouble(
                "a file of this name is already there.",
                where=str(path),
                do="Choose another name; nothing is overwritten.",
            )
        if not path.parent.is_dir():
            raise BookTrouble(
                "there is no such folder.", where=str(path.parent), do="Make it first, or choose another."
            )
        lock = BookLock(path)
        engine = connect(path)
        with engine.begin() as connection:
            connection.execute(text(f"PRAGMA application_id = {schema.APPLICATION_ID}"))
            connection.execute(text(f"PRAGMA user_version = {schema.SCHEMA_VERSION}"))
            schema.metadata.create_all(connection)
        return cls(path, engine, lock)

    @classmethod
    def open(cls, path: Path, *, readonly: bool = False) -> Book:
        """An existing book. What a crash left open is closed and told in `told`. Raises BookTrouble in words."""
        path = path.resolve()
        check_file(path)
        lock = None if readonly else BookLock(path)
        try:
            book = cls(path, connect(path, readonly=readonly), lock)
            if not readonly:
                book._close_what_was_left_open()
            else:
                book.rows("lesson")
        except DatabaseError as fault:
            if lock:
                lock.release()
            raise BookTrouble(
                f"this book is damaged ({fault.orig}).",
                where=str(path),
                do="Work on the copy that you keep, or run: common-bench check BOOK",
            ) from fault
        return book

    def close(self) -> None:
        self._connection.close()
        self.engine.dispose()
        if self._lock:
            self._lock.release()

    # reading

    def rows(self, table: str, **equal: object) -> list[Row]:
        """Rows of a table where the named columns have these values, in the order in which they were made."""
        source = schema.TABLES[table]
        query = select(source).where(*(source.c[name] == value for name, value in equal.items())).order_by(source.c.id)
        with self._connection.begin():
            return [dict(row) for row in self._connection.execute(query).mappings()]

    def row(self, table: str, id: int) -> Row:
        found = self.rows(table, id=id)
        if not found:
            raise BookTrouble(f"the book has no {table} {id}.", where=str(self.path), do="Run: common-bench check BOOK")
        return found[0]

    def largest(self, table: str, column: str, **equal: object) -> int:
        """The largest value of a column of whole numbers, 0 where there is none."""
        source = schema.TABLES[table]
        query = select(func.max(source.c[column])).where(*(source.c[name] == value for name, value in equal.items()))
        with self._connection.begin():
            return int(self._connection.execute(query).scalar() or 0)

    # changing

    def record(self, table: str, **values: Any) -> int:
        """Adds a fact that no person can undo (something was heard, a run began). Gives its id."""
        with self._connection.begin():
            result = self._connection.execute(insert(schema.TABLES[table]).values(values))
        return int(result.inserted_primary_key[0])  # type: ignore[index]

    def amend(self, table: str, id: int, **values: Any) -> None:
        """Completes a fact (a run has ended)."""
        source = schema.TABLES[table]
        with self._connection.begin():
            self._connection.execute(update(source).where(source.c.id == id).values(values))

    def added(self, table: str, **values: Any) -> RowChange:
        """A row to add, with an id that has never been given before."""
        self._given[table] = max(self.largest(table, "id"), self._given.get(table, 0)) + 1
        return RowChange(table, self._given[table], None, values)

    def changed(self, table: str, id: int, **values: Any) -> RowChange:
        """A row to change in some columns."""
        before = self.row(table, id)
        return RowChange(table, id, {name: before[name] for name in values}, values)

    def apply(self, label: str, rows: Sequence[RowChange]) -> Change:
        """Makes a change, all of it or none. Raises BookTrouble where the book refuses it."""
        kept = msgspec.json.encode(rows).decode()
        with _Writing(self) as connection:
            self._set(connection, [(row.table, row.id, row.before, row.after) for row in rows])
            made = connection.execute(insert(schema.change).values(made_at=now(), label=label, rows=kept, state="done"))
        return Change(label, tuple(rows), int(made.inserted_primary_key[0]))  # type: ignore[index]

    def undo(self, change: Change) -> None:
        with _Writing(self) as connection:
            self._set(connection, [(row.table, row.id, row.after, row.before) for row in reversed(change.rows)])
            self._mark(connection, change, "undone")

    def redo(self, change: Change) -> None:
        with _Writing(self) as connection:
            self._set(connection, [(row.table, row.id, row.before, row.after) for row in change.rows])
            self._mark(connection, change, "done")

    def _mark(self, connection: Connection, change: Change, state: str) -> None:
        connection.execute(update(schema.change).where(schema.change.c.id == change.id).values(state=state))

    def _set(self, connection: Connection, rows: Sequence[tuple[str, int, Row | None, Row | None]]) -> None:
        for table, id, before, after in rows:
            source: Table = schema.TABLES[table]
            if after is None:
                connection.execute(source.delete().where(source.c.id == id))
            elif before is None:
                connection.execute(insert(source).values(id=id, **after))
            else:
                connection.execute(update(source).where(source.c.id == id).values(after))

    # after a crash

    def _close_what_was_left_open(self) -> None:
        for row in [*self.rows("run", state="open"), *self.rows("run", state="asked")]:
            end = self.heard_bytes(row["hearing"])
            begun = row["begin_byte"] is not None
            self.amend(
                "run",
                row["id"],
                state="closed",
                end_byte=max(end, row["begin_byte"] or 0),
                ended_by="the program was stopped",
            )
            alias = self.row("group", row["group"])["alias"]
            kept = "all that was heard up to then is kept" if begun else "it had not begun to record"
            self.told.append(f"{alias} run {row['number']} was still open when the program stopped; {kept}.")
        for row in self.rows("hearing", closed_at=""):
            self.amend("hearing", row["id"], closed_at=now())

    def heard_bytes(self, hearing: int) -> int:
        """How many bytes of a hearing the journal holds."""
        j = schema.journal
        query = select(func.max(j.c.first_byte + func.length(j.c.bytes))).where(
            j.c.hearing == hearing, j.c.what == "bytes"
        )
        with self._connection.begin():
            return int(self._connection.execute(query).scalar() or 0)

    def check(self) -> list[str]:
        """What is not sound about the book, in sentences; empty where all is."""
        try:
            return self._file_problems() + self._journal_problems()
        except DatabaseError as fault:
            return [f"the file is damaged ({fault.orig})"]

    def _file_problems(self) -> list[str]:
        with self.engine.connect() as connection:
            problems = [str(row[0]) for row in connection.execute(text("PRAGMA integrity_check")) if row[0] != "ok"]
            return problems + [
                f"table {row[0]}, row {row[1]}: belongs to a row of {row[2]} that is not there"
                for row in connection.execute(text("PRAGMA foreign_key_check"))
            ]

    def _journal_problems(self) -> list[str]:
        problems = []
        for hearing in self.rows("hearing"):
            expected = 0
            for row in self.rows("journal", hearing=hearing["id"]):
                if row["first_byte"] != expected:
                    problems.append(
                        f"journal of hearing {hearing['id']}: bytes {expected} to {row['first_byte']} are missing"
                    )
                sizes = sum(memoryview(row["sizes"]).cast("I")) if row["sizes"] else 0
                if sizes != len(row["bytes"]) or len(row["stamps"]) != 2 * len(row["sizes"]):
                    problems.append(f"journal row {row['id']}: its stamps and bytes do not fit together")
                if row["what"] == "bytes":
                    expected = row["first_byte"] + len(row["bytes"])
        return problems


class _Writing:
    """A transaction that turns the database's refusal into words."""

    def __init__(self, book: Book) -> None:
        self._book = book
        self._begun = book._connection.begin()

    def __enter__(self) -> Connection:
        self._begun.__enter__()
        return self._book._connection

    def __exit__(self, kind: type[BaseException] | None, fault: BaseException | None, trace: Any) -> None:
        self._begun.__exit__(kind, fault, trace)
        if isinstance(fault, DatabaseError):
            raise BookTrouble(
                f"the book did not take this change ({fault.orig}).",
                where=str(self._book.path),
                do="Check the disk's free space and that the book may be written to; nothing was changed.",
            ) from fault
