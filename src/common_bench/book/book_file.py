"""The file of a bench book: reaching it, telling whether it is one, copying it, telling it from another."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing, suppress
from datetime import datetime
from pathlib import Path

from sqlalchemy import Engine, create_engine, event
from sqlalchemy.pool import NullPool

from common_bench.book import schema
from common_bench.book.lock import refuse_impossible
from common_bench.book.migrations import whole_copy
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.soundness import decoded
from common_bench.model.trouble import BookTrouble

CACHE = 256  # KB of pages per connection: a journal that only grows is never read back while it is written
BUSY = 5.0  # s to wait for the journal's transaction to end


def now() -> str:
    """This moment as ISO 8601 local time with offset."""
    return datetime.now().astimezone().isoformat(timespec="milliseconds")


def connect(path: Path, *, readonly: bool = False, still: bool = False) -> Engine:
    """An engine on the book; every commit is on the disk when it returns (synchronous FULL). still: nobody writes to it,
    as on media that cannot be written to."""

    def opened() -> sqlite3.Connection:
        mode = ("ro&immutable=1" if still else "ro") if readonly else "rwc"
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


def identity_of(path: Path) -> tuple[int, int]:
    """(device, inode) of what lies at a path; zeros where nothing does."""
    with suppress(OSError):
        found = path.stat()
        return found.st_dev, found.st_ino
    return 0, 0


def remove(path: Path) -> None:
    """A book's file with all that the database keeps beside it, as far as they can be removed."""
    for ending in ("", "-wal", "-shm", "-journal"):
        with suppress(OSError):
            path.with_name(path.name + ending).unlink(missing_ok=True)


def check_file(path: Path) -> int:
    """The version of the book at `path`. Raises BookTrouble where it is none that this version can read."""
    refuse_impossible(path)
    if not path.is_file():
        near = sorted(each.name for each in path.parent.glob("*.benchbook"))[:5] if path.parent.is_dir() else []
        raise BookTrouble("no-such-book", where=str(path), near=", ".join(near), case="near" if near else "none")
    try:
        try:
            application, version = _header(path, "mode=ro")
        except sqlite3.OperationalError:  # as on media that cannot be written to
            application, version = _header(path, "mode=ro&immutable=1")
    except (sqlite3.Error, UnicodeDecodeError) as fault:
        raise BookTrouble("no-book-database", where=str(path), fault=fault) from fault
    if application != schema.APPLICATION_ID:
        raise BookTrouble("no-book", where=str(path))
    if version > schema.SCHEMA_VERSION:
        raise BookTrouble(
            "book-from-newer-version", where=str(path), version=version, schema_version=schema.SCHEMA_VERSION
        )
    return int(version)


def _header(path: Path, mode: str) -> tuple[int, int]:
    with closing(sqlite3.connect(f"file:{_quoted(path)}?{mode}", uri=True, timeout=BUSY)) as connection:
        application = connection.execute("PRAGMA application_id").fetchone()[0]
        return application, connection.execute("PRAGMA user_version").fetchone()[0]


def copy_for_writing(path: Path, to: Path) -> None:
    """A copy of a book that lies where nothing can be written, with what is in its write-ahead log. Raises BookTrouble."""
    try:
        for ending in ("-wal", ""):
            source = path.with_name(path.name + ending)
            if source.exists():
                shutil.copyfile(source, to.with_name(to.name + ending))
    except OSError as fault:
        raise refusal(fault, to) from fault


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
