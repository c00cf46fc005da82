"""The bench book: opening it, reading it, changing it. One SQLite file that holds a class."""

from __future__ import annotations

import json
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import (
    Connection,
    Engine,
    Table,
    create_engine,
    delete,
    event,
    func,
    insert,
    select,
    text,
    type_coerce,
    update,
)
from sqlalchemy.pool import NullPool
from sqlalchemy.types import NullType

from common_bench.book import schema
from common_bench.book.changes import Change, Row, RowChange
from common_bench.book.lock import BookLock, is_held
from common_bench.book.migrations import migrate, migrated_copy, whole_copy
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.soundness import decoded, journal_fault, unsound
from common_bench.model.trouble import BookTrouble, Trouble

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
        connection.text_factory = decoded
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute(f"PRAGMA cache_size = -{CACHE}")
        if not readonly:
            connection.execute("PRAGMA journal_mode = WAL")

    return engine


def _quoted(path: Path) -> str:
    return str(path).replace("%", "%25").replace("?", "%3f").replace("#", "%23")


def check_file(path: Path) -> int:
    """The version of the book at `path`. Raises BookTrouble where it is none that this version can read."""
    if not path.is_file():
        near = sorted(each.name for each in path.parent.glob("*.benchbook"))[:5] if path.parent.is_dir() else []
        raise BookTrouble("no-such-book", where=str(path), near=", ".join(near), case="near" if near else "none")
    try:
        connection = sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True, timeout=BUSY)
        try:
            application = connection.execute("PRAGMA application_id").fetchone()[0]
            version = connection.execute("PRAGMA user_version").fetchone()[0]
        finally:
            connection.close()
    except (sqlite3.Error, UnicodeDecodeError) as fault:
        raise BookTrouble("no-book-database", where=str(path), fault=fault) from fault
    if application != schema.APPLICATION_ID:
        raise BookTrouble("no-book", where=str(path))
    if version > schema.SCHEMA_VERSION:
        raise BookTrouble(
            "book-from-newer-version", where=str(path), version=version, schema_version=schema.SCHEMA_VERSION
        )
    return int(version)


def copy_book(path: Path, to: Path) -> None:
    """A whole copy of a book as it is at this moment, be it open or not. Raises BookTrouble where it cannot be made."""
    check_file(path)
    if to.exists():
        raise BookTrouble("book-name-taken", where=str(to))
    if not to.parent.is_dir():
        raise BookTrouble("no-such-folder", where=str(to.parent))
    try:
        whole_copy(path, to)
    except REFUSED as fault:
        raise refusal(fault, to) from fault


class Book:
    """One open book.

    Every change goes through `apply`, in one transaction, and is kept in the table of changes, so
    that nothing is lost between two actions and there is no unsaved state. Rows are never deleted
    but by undoing what made them.
    """

    def __init__(self, path: Path, engine: Engine, lock: BookLock | None) -> None:
        self.path = path
        self.engine = engine
        self.notices: list[Trouble] = []  # what is to be told of its opening
        if lock is not None and lock.unknown is not None:
            self.notices.append(lock.unknown)
        self.damage: dict[tuple[str, object], str] = {}  # (table, row) -> why it cannot be used
        self._lock = lock
        self._kept_apart: tempfile.TemporaryDirectory[str] | None = None  # holds a copy that was brought up for reading
        self._given: dict[str, int] = {}
        self._connection: Connection = engine.connect()

    @classmethod
    def make(cls, path: Path) -> Book:
        """A new book. Raises BookTrouble where a file of that name is already there."""
        path = path.resolve()
        if path.exists():
            raise BookTrouble("book-name-taken", where=str(path))
        if not path.parent.is_dir():
            raise BookTrouble("no-such-folder", where=str(path.parent))
        lock = BookLock(path)
        engine = connect(path)
        try:
            with engine.begin() as connection:
                connection.execute(text(f"PRAGMA application_id = {schema.APPLICATION_ID}"))
                connection.execute(text(f"PRAGMA user_version = {schema.SCHEMA_VERSION}"))
                schema.metadata.create_all(connection)
            return cls(path, engine, lock)
        except REFUSED as fault:
            lock.release()
            raise refusal(fault, path) from fault

    @classmethod
    def open(cls, path: Path, *, readonly: bool = False) -> Book:
        """An existing book; one that an older version made is brought up, with a copy of how it was beside it (for
        reading alone only a copy is). What a crash left open is closed, and told in `notices`. Raises BookTrouble."""
        path = path.resolve()
        version = check_file(path)
        if readonly:
            return cls._for_reading(path, version)
        lock = BookLock(path)
        try:
            copy = migrate(path, version)
            book = cls(path, connect(path), lock)
            if copy is not None:
                book.notices.append(Trouble("book-brought-up", copy=copy.name))
            book._close_what_was_left_open()
        except BaseException as fault:
            lock.release()
            if isinstance(fault, REFUSED):
                raise refusal(fault, path) from fault
            raise
        return book

    @classmethod
    def _for_reading(cls, path: Path, version: int) -> Book:
        apart = None
        source = path
        if version < schema.SCHEMA_VERSION:
            apart = tempfile.TemporaryDirectory(prefix="common-bench-")
            source = migrated_copy(path, version, Path(apart.name) / path.name)
        try:
            book = cls(path, connect(source, readonly=True), None)
            book._kept_apart = apart
            book.rows("lesson")
        except REFUSED as fault:
            raise refusal(fault, path) from fault
        return book

    def close(self) -> None:
        self._connection.close()
        self.engine.dispose()
        if self._lock:
            self._lock.release()
        if self._kept_apart:
            self._kept_apart.cleanup()

    @contextmanager
    def _transaction(self) -> Iterator[Connection]:
        """The one way to the file: all of what is done in it or nothing; what the file refuses becomes a BookTrouble."""
        try:
            with self._connection.begin():
                yield self._connection
        except REFUSED as fault:
            raise refusal(fault, self.path) from fault

    @property
    def is_readonly(self) -> bool:
        return self._lock is None

    # reading

    def rows(self, table: str, **equal: object) -> list[Row]:
        """Rows of a table where the named columns have these values, in the order in which they were made. A row with a
        damaged cell is left out, and told in `damage`."""
        source = schema.TABLES[table]
        columns = [type_coerce(column, NullType()).label(column.name) for column in source.columns]
        query = (
            select(*columns).where(*(source.c[name] == value for name, value in equal.items())).order_by(source.c.id)
        )
        with self._transaction() as connection:
            found = [dict(row) for row in connection.execute(query).mappings()]
        sound = []
        for row in found:
            why = unsound(source, row)
            if why:
                self.damage[table, row["id"]] = why
            else:
                sound.append(row)
        return sound

    def row(self, table: str, id: int) -> Row:
        found = self.rows(table, id=id)
        if not found:
            raise BookTrouble("no-such-row", where=str(self.path), table=table, id=id)
        return found[0]

    def largest(self, table: str, column: str, **equal: object) -> int:
        """The largest value of a column of whole numbers, 0 where there is none."""
        source = schema.TABLES[table]
        query = select(func.max(source.c[column])).where(*(source.c[name] == value for name, value in equal.items()))
        with self._transaction() as connection:
            return int(connection.execute(query).scalar() or 0)

    # changing

    def record(self, table: str, **values: Any) -> int:
        """Adds a fact that no person can undo (something was heard, a run began). Gives its id."""
        with self._transaction() as connection:
            result = connection.execute(insert(schema.TABLES[table]).values(values))
        return int(result.inserted_primary_key[0])  # type: ignore[index]

    def amend(self, table: str, id: int, **values: Any) -> None:
        """Completes a fact (a run has ended)."""
        source = schema.TABLES[table]
        with self._transaction() as connection:
            connection.execute(update(source).where(source.c.id == id).values(values))

    def forget(self, table: str, id: int) -> None:
        """Takes back a fact that nothing refers to. Raises BookTrouble where something does."""
        source = schema.TABLES[table]
        with self._transaction() as connection:
            connection.execute(delete(source).where(source.c.id == id))

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
        with self._transaction() as connection:
            self._set(connection, [(row.table, row.id, row.before, row.after) for row in rows])
            made = connection.execute(insert(schema.change).values(made_at=now(), label=label, rows=kept, state="done"))
        return Change(label, tuple(rows), int(made.inserted_primary_key[0]))  # type: ignore[index]

    def undo(self, change: Change) -> None:
        with self._transaction() as connection:
            self._set(connection, [(row.table, row.id, row.after, row.before) for row in reversed(change.rows)])
            self._mark(connection, change, "undone")

    def redo(self, change: Change) -> None:
        with self._transaction() as connection:
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
            end = self.heard_bytes(row["session"])
            begun = row["begin_byte"] is not None
            self.amend(
                "run",
                row["id"],
                state="closed",
                end_byte=max(end, row["begin_byte"] or 0),
                ending=json.dumps({"code": "program-stopped", "fields": {}}),
            )
            alias = self.row("group", row["group"])["alias"]
            self.notices.append(
                Trouble("run-was-open", alias=alias, number=row["number"], case="begun" if begun else "asked")
            )
        for row in self.rows("session", closed_at=""):
            self.amend("session", row["id"], closed_at=now())

    def as_it_stands(self, run: Row) -> Row:
        """A run that is open in a book that is only read, up to the last byte that is kept: it goes on where another
        program has the book open; else that program was stopped, and it was cut off."""
        if not self.is_readonly or run["state"] == "closed":
            return run
        end = max(self.heard_bytes(run["session"]), run["begin_byte"] or 0)
        if is_held(self.path):
            return {**run, "end_byte": end}
        ending = json.dumps({"code": "cut-off", "fields": {}})
        return {**run, "end_byte": end, "state": "closed", "ending": ending}

    def heard_bytes(self, session: int) -> int:
        """How many bytes of a session the journal holds."""
        j = schema.journal
        query = select(func.max(j.c.first_byte + func.length(j.c.bytes))).where(
            j.c.session == session, j.c.what == "bytes"
        )
        with self._transaction() as connection:
            return int(connection.execute(query).scalar() or 0)

    def check(self) -> list[str]:
        """What is not sound about the book, in sentences; empty where all is."""
        try:
            return [*self._file_problems(), *self._damaged_rows(), *self._journal_problems()]
        except (*REFUSED, BookTrouble) as fault:
            trouble = fault if isinstance(fault, BookTrouble) else refusal(fault, self.path)
            return [trouble.what]

    def _file_problems(self) -> list[str]:
        with self.engine.connect() as connection:
            problems = [str(row[0]) for row in connection.execute(text("PRAGMA integrity_check")) if row[0] != "ok"]
            return problems + [
                f"table {row[0]}, row {row[1]}: belongs to a row of {row[2]} that is not there"
                for row in connection.execute(text("PRAGMA foreign_key_check"))
            ]

    def _damaged_rows(self) -> list[str]:
        for table in schema.TABLES:
            if table != "journal":
                self.rows(table)
        return [f"{table}, row {id}: {why}" for (table, id), why in self.damage.items()]

    def _journal_problems(self) -> list[str]:
        """Row by row, so that a book of any size can be looked at."""
        problems: list[str] = []
        expected: dict[object, int | None] = {}
        columns = [type_coerce(column, NullType()).label(column.name) for column in schema.journal.columns]
        with self.engine.connect() as connection:
            rows = connection.execution_options(yield_per=200).execute(select(*columns).order_by(schema.journal.c.id))
            for found in rows.mappings():
                row = dict(found)
                fault = journal_fault(row)
                if fault:
                    problems.append(f"journal, row {row['id']}: {fault}")
                    expected[row["session"]] = None  # how much it held is not known
                    continue
                before = expected.get(row["session"], 0)
                if before is not None and row["first_byte"] != before:
                    missing = f"bytes {before} to {row['first_byte']} are missing"
                    problems.append(f"journal of session {row['session']}: {missing}")
                if row["what"] == "bytes":
                    expected[row["session"]] = row["first_byte"] + len(row["bytes"])
        return problems
