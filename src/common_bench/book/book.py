"""The bench book: opening it, reading it, changing it. One SQLite file that holds a class."""

from __future__ import annotations

import json
import sqlite3
import tempfile
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from itertools import groupby
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection, Engine, Select, bindparam, case, delete, func, insert, select, text, update

from common_bench.book import schema
from common_bench.book.book_file import check_file, connect, copy_for_writing, identity_of, now, remove
from common_bench.book.changes import Change, Row, RowChange
from common_bench.book.checking import file_problems, journal_problems
from common_bench.book.ids import Ids
from common_bench.book.left_open import close_what_was_left_open
from common_bench.book.lock import BookLock, is_held, refuse_impossible
from common_bench.book.migrations import migrate, migrated_copy
from common_bench.book.packing import as_it_came
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.soundness import unsound
from common_bench.model.trouble import BookTrouble, Trouble

OF = "of_row"  # stands for the id of a row that is changed; no column is called so


class Book:
    """One open book.

    Every change goes through `apply`, in one transaction, and is kept in the table of changes, so
    that nothing is lost between two actions and there is no unsaved state. Rows are never deleted
    but by undoing what made them.
    """

    def __init__(self, path: Path, engine: Engine, lock: BookLock | None, ids: Ids | None = None) -> None:
        self.path = path
        self.engine = engine
        self._identity = identity_of(path)
        self.notices: list[Trouble] = []  # what is to be told of its opening
        if lock is not None and lock.unknown is not None:
            self.notices.append(lock.unknown)
        self.damage: dict[tuple[str, object], str] = {}  # (table, row) -> why it cannot be used
        self.lock = lock  # None of a book that is only read
        self._kept_apart: tempfile.TemporaryDirectory[str] | None = None  # holds a copy that was brought up for reading
        self._ids = ids or Ids()
        self._version: int | None = None  # of what other programs have written, as it was looked at last
        self._staying = threading.Lock()  # held by who writes from another thread, and where the book moves
        self._connection: Connection = engine.connect()

    @classmethod
    def make(cls, path: Path) -> Book:
        """A new book. Raises BookTrouble where a file of that name is already there."""
        refuse_impossible(path)
        path = path.resolve()
        if path.exists():
            raise BookTrouble("book-name-taken", where=str(path))
        if not path.parent.is_dir():
            raise BookTrouble("no-such-folder", where=str(path.parent))
        lock = BookLock(path)
        engine = connect(path)
        try:
            path.touch(mode=0o600)  # it holds more than findings
            with engine.begin() as connection:
                connection.execute(text(f"PRAGMA application_id = {schema.APPLICATION_ID}"))
                connection.execute(text(f"PRAGMA user_version = {schema.SCHEMA_VERSION}"))
                schema.metadata.create_all(connection)
            return cls(path, engine, lock)
        except BaseException as fault:
            engine.dispose()
            remove(path)  # nothing that is not a whole book is left behind
            lock.release()
            if isinstance(fault, REFUSED):
                raise refusal(fault, path) from fault
            raise

    @classmethod
    def open(cls, path: Path, *, readonly: bool = False) -> Book:
        """An existing book; one that an older version made is brought up, with a copy of how it was beside it (for
        reading alone only a copy is). What a crash left open is closed, and told in `notices`. Raises BookTrouble."""
        refuse_impossible(path)
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
            close_what_was_left_open(book)
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
            book = cls._reading(path, source, apart)
        except BookTrouble as trouble:
            if trouble.code not in ("book-unreachable", "book-read-only", "change-refused"):
                raise
            if source.with_name(source.name + "-wal").exists():  # it was not closed; only a copy can be looked into
                apart = tempfile.TemporaryDirectory(prefix="common-bench-")
                source = Path(apart.name) / path.name
                copy_for_writing(path, source)
                return cls._reading(path, source, apart)
            return cls._reading(path, source, apart, still=True)
        return book

    @classmethod
    def _reading(
        cls, path: Path, source: Path, apart: tempfile.TemporaryDirectory[str] | None, *, still: bool = False
    ) -> Book:
        try:
            book = cls(path, connect(source, readonly=True, still=still), None)
            book._kept_apart = apart
            book.rows("lesson")
        except REFUSED as fault:
            raise refusal(fault, path) from fault
        return book

    @contextmanager
    def beside(self) -> Iterator[Book]:
        """The same book for another thread, one at a time, by a connection of its own. Guarantees that it does not move to another
        place while this lasts, so that nothing is written where it no longer is, and that no id is given twice."""
        with self._staying:
            other = Book(self.path, self.engine, self.lock, self._ids)
            try:
                yield other
            finally:
                other._connection.close()

    def close(self) -> None:
        self._connection.close()
        self.engine.dispose()
        if self.lock:
            self.lock.release()
        if self._kept_apart:
            self._kept_apart.cleanup()

    @contextmanager
    def _transaction(self) -> Iterator[Connection]:
        """The one way to the file: all of what is done in it or nothing; what the file refuses becomes a BookTrouble."""
        try:
            with self._connection.begin():
                yield self._connection
        except REFUSED as fault:
            told = refusal(fault, self.path)
            raise (told if told.code != "book-read-only" or self.lock else BookTrouble("book-only-read")) from fault

    def has_changed(self) -> bool:
        """Whether another program has written to it since last asked."""
        with self._transaction() as connection:
            before, self._version = self._version, connection.execute(text("PRAGMA data_version")).scalar()
        return before is not None and before != self._version

    @property
    def is_readonly(self) -> bool:
        return self.lock is None

    @property
    def size(self) -> int:
        """Bytes of the file, as far as it can be told."""
        with suppress(OSError):
            return self.path.stat().st_size
        return 0

    def is_there(self) -> bool:
        """Whether the file at its path is still the one that was opened: not deleted, not replaced, not on a stick that
        was pulled."""
        return identity_of(self.path) == self._identity

    def move(self, path: Path) -> Path:
        """Goes on at another place, with a whole copy of what it holds; the file that was open stays as it is. Raises
        BookTrouble where that cannot be written."""
        with self._staying:
            return self._move(path)

    def _move(self, path: Path) -> Path:
        if path.exists():
            raise BookTrouble("book-name-taken", where=str(path))
        lock = BookLock(path)
        try:
            path.touch(mode=0o600)
            with closing(sqlite3.connect(path)) as target:
                self._raw().backup(target)
                target.execute("PRAGMA journal_mode = WAL")
            engine = connect(path)
            connection = engine.connect()
        except REFUSED as fault:
            lock.release()
            remove(path)
            raise refusal(fault, path) from fault
        with suppress(*REFUSED):
            self._connection.close()
            self.engine.dispose()
        if self.lock is not None:
            self.lock.release()
        self.path, self.engine, self._connection, self.lock = path, engine, connection, lock
        self._identity = identity_of(path)
        return path

    def _raw(self) -> sqlite3.Connection:
        found = self._connection.connection.dbapi_connection
        assert isinstance(found, sqlite3.Connection)
        return found

    # reading

    def rows(self, table: str, **equal: object) -> list[Row]:
        """Rows of a table where the named columns have these values, in the order in which they were made. A row with a
        damaged cell is left out, and told in `damage`."""
        source = schema.TABLES[table]
        with self._transaction() as connection:
            found = [dict(row) for row in connection.execute(_query(table, equal)).mappings()]
        sound = []
        for row in found:
            why = unsound(source, row)
            if table == "journal" and not why and row["packed"]:
                whole = as_it_came(row)
                row, why = whole or row, "" if whole else "its packed cells cannot be read"
            if why:
                self.damage[table, row["id"]] = why
            else:
                sound.append(row)
        return sound

    def sound_ids(self, table: str) -> set[int]:
        """The ids of a table's rows, but for those that are known to be damaged."""
        with self._transaction() as connection:
            found = {int(row[0]) for row in connection.execute(select(schema.TABLES[table].c.id))}
        return {id for id in found if (table, id) not in self.damage}

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

    def rows_apart(self, table: str, **equal: object) -> list[Row]:
        """The same as `rows` by a connection of its own, damaged cells and all: for any thread."""
        try:
            with self.engine.connect() as connection:
                return [dict(row) for row in connection.execute(_query(table, equal)).mappings()]
        except REFUSED as fault:
            raise refusal(fault, self.path) from fault

    def complete(self, rows: Sequence[RowChange]) -> None:
        """Adds and completes several facts, all or none; no person can undo it by itself."""
        with self._transaction() as connection:
            self._set(connection, [(row.table, row.id, row.before, row.after) for row in rows])

    def complete_where(self, rows: Sequence[RowChange], seen: Sequence[tuple[str, Row]]) -> bool:
        """The same, where the rows of these tables are still as they were seen; False, and nothing is done, where one is not."""
        with self._transaction() as connection:
            connection.exec_driver_sql("BEGIN IMMEDIATE")  # before it is looked: nobody writes in between
            for table, row in seen:
                now_there = connection.execute(_query(table, {"id": row["id"]})).mappings().one_or_none()
                if now_there is None or dict(now_there) != row:
                    return False
            self._set(connection, [(row.table, row.id, row.before, row.after) for row in rows])
        return True

    def forget(self, table: str, id: int) -> None:
        """Takes back a fact that nothing refers to. Raises BookTrouble where something does."""
        source = schema.TABLES[table]
        with self._transaction() as connection:
            connection.execute(delete(source).where(source.c.id == id))

    def added(self, table: str, **values: Any) -> RowChange:
        """A row to add, with an id that has never been given before."""
        return RowChange(table, self._ids.after(table, self.largest(table, "id")), None, values)

    def changed(self, table: str, id: int, **values: Any) -> RowChange:
        """A row to change in some columns."""
        before = self.row(table, id)
        return RowChange(table, id, {name: before[name] for name in values}, values)

    def gone(self, table: str, id: int) -> RowChange:
        """A row to take away, which comes back when that is undone."""
        kept = self.row(table, id)
        return RowChange(table, id, {name: value for name, value in kept.items() if name != "id"}, None)

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
        """In their order; what is done alike to several of a table is one statement."""
        for (table, kind, _), alike in groupby(rows, lambda row: (row[0], _kind(*row[2:]), tuple(row[3] or ()))):
            source, several = schema.TABLES[table], list(alike)
            if kind == "changed" and not several[0][3]:
                continue
            statement: Any = insert(source)
            if kind != "added":
                statement = (delete if kind == "gone" else update)(source).where(source.c.id == bindparam(OF))
            name = "id" if kind == "added" else OF
            connection.execute(statement, [{name: id, **(after or {})} for _, id, _, after in several])

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
        query = select(
            func.max(j.c.first_byte + case((j.c.packed > 0, j.c.packed), else_=func.length(j.c.bytes)))
        ).where(j.c.session == session, j.c.what == "bytes")
        with self._transaction() as connection:
            return int(connection.execute(query).scalar() or 0)

    def check(self) -> list[str]:
        """What is not sound about the book, in sentences; empty where all is."""
        try:
            for table in schema.TABLES:
                if table != "journal":
                    self.rows(table)
            damaged = [f"{table}, row {id}: {why}" for (table, id), why in self.damage.items()]
            return [*file_problems(self.engine), *damaged, *journal_problems(self.engine)]
        except (*REFUSED, BookTrouble) as fault:
            trouble = fault if isinstance(fault, BookTrouble) else refusal(fault, self.path)
            return [trouble.what]


def _kind(before: Row | None, after: Row | None) -> str:
    """What is done to a row."""
    return "gone" if after is None else "added" if before is None else "changed"


def _query(table: str, equal: Mapping[str, object]) -> Select[Any]:
    """Rows of a table, as they lie, where the named columns have these values (one of them, where it is a list), in the order in which
    they were made."""
    source = schema.TABLES[table]
    wanted = (
        source.c[name].in_(value) if isinstance(value, list) else source.c[name] == value
        for name, value in equal.items()
    )
    return select(*schema.as_they_lie(source)).where(*wanted).order_by(source.c.id)
