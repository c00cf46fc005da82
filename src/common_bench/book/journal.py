"""The journal: what was heard, byte for byte with arrival stamps, written into the book as it comes."""

from __future__ import annotations

import logging
import queue
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from concurrent.futures import TimeoutError as FutureTimeout
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from common_bench.book import schema
from common_bench.book.book_file import connect
from common_bench.book.packing import packed
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.soundness import journal_fault, journal_sum
from common_bench.model.block import Stamped, bytes_of, stamps_of
from common_bench.model.trouble import EngineTrouble, Trouble

EVERY = 0.14  # s between transactions; with the engine's turn and the commit this stays under 0.25 s
MOST_HELD = 64_000_000  # bytes that wait in memory while the book cannot be written: an hour of 16 kits
AGAIN = 1.0  # s until a refused transaction is tried again
FLUSH_WITHIN = 30.0  # s
PACKED_AT, WORTH_PACKING = 1 << 14, 1 << 10  # bytes of a session that are put into one row; and that are, where it ends

HEARD, LOST, SENT, MISSED, FILE = "bytes", "lost", "sent", "missed", "file"
NO_TEXT = b"\x00"
OF_RUN, OF_SESSION, FLUSH, DROPPED = "run", "session", "flush", "dropped"

log = logging.getLogger(__name__)


@dataclass(slots=True)
class JournalEntry:
    """Something to keep: bytes of a session, a mark in it, or a row of a run or of the session to complete.

    `kept` is called by the writer once it is in the book.
    """

    session: int
    what: str
    at: float = 0.0
    chunks: Sequence[Stamped] = ()
    run: int = 0
    values: dict[str, Any] = field(default_factory=dict)
    kept: Callable[[], object] | None = None


class JournalWriter:
    """Writes entries in the order in which they were put, in one transaction every EVERY seconds.

    Nobody who puts something waits. What cannot be written waits in memory, up to `most_held` bytes; what was heard
    beyond that is dropped, counted, told, and a gap. After `close` everything is in the book. A kill at any instant loses
    at most what came since the last transaction. Whatever fails is told in `trouble` for as long as it lasts, and what
    waited is tried again: the writer never goes on without it, and never ends while entries wait.
    """

    def __init__(self, path: Path, *, most_held: int = MOST_HELD) -> None:
        self._path = path
        self._most_held = most_held
        self._held = self.dropped = 0  # bytes: in memory, not in the book yet; and lost beyond that
        self._counting = threading.Lock()
        self._move: tuple[Callable[[], Path], Future[Path]] | None = None
        self._queue: queue.SimpleQueue[JournalEntry | None] = queue.SimpleQueue()
        self._offsets: dict[int, int] = {}
        self._loose: dict[int, int] = {}  # session -> bytes at its end that are not packed yet
        self._waiting: list[JournalEntry] = []  # taken from the queue, not in the book yet
        self._going, self._dropping = True, False
        self._trouble: Trouble | None = None
        self.kept_bytes = 0
        self.slowest = 0.0  # s, the longest time from putting to the end of a transaction's write
        self._thread = threading.Thread(target=self._run, name="journal", daemon=True)
        self._thread.start()

    @property
    def trouble(self) -> Trouble | None:
        """Why what is heard is not being kept at the moment; None where it is."""
        if self._going and not self._thread.is_alive():
            return EngineTrouble("journal-stopped")
        if self._trouble is not None and self._dropping:
            return EngineTrouble("journal-memory-full", held=self._most_held // 1_000_000, dropped=self.dropped)
        return self._trouble

    def put(self, entry: JournalEntry) -> None:
        size = sum(len(chunk.data) for chunk in entry.chunks)
        with self._counting:
            if entry.what == HEARD and self._held + size > self._most_held:
                self.dropped, self._dropping = self.dropped + size, True
                entry = JournalEntry(entry.session, DROPPED, entry.at, values={"size": size})
            else:
                self._held += size
        self._queue.put(entry)

    def go_on_in(self, move: Callable[[], Path], within: float = FLUSH_WITHIN) -> Path:
        """Between two transactions, has the book moved, and writes on where it is then; gives that place. Raises what
        moving raises, or EngineTrouble where it takes longer than `within` s."""
        done: Future[Path] = Future()
        self._move = move, done
        self._queue.put(JournalEntry(0, FLUSH))
        try:
            return done.result(within)
        except FutureTimeout:
            raise EngineTrouble("journal-late", within=within) from None

    def flush(self, within: float = FLUSH_WITHIN) -> None:
        """Waits until all that was put is in the book. Raises EngineTrouble where that takes longer than `within` s."""
        done = threading.Event()
        self._queue.put(JournalEntry(0, FLUSH, kept=done.set))
        if not done.wait(within):
            raise EngineTrouble("journal-late", within=within)

    def close(self, within: float | None = None) -> None:
        """Keeps all that was put and ends. within: s after which it raises EngineTrouble instead; None: none."""
        self._queue.put(None)
        self._thread.join(within)
        if self._thread.is_alive():
            raise EngineTrouble("journal-late", within=within)

    # in the writer's own thread

    def _run(self) -> None:
        while self._going or self._waiting or self._move is not None:
            try:
                self._move_if_asked()
                self._write()
            except REFUSED as fault:  # the disk is full, the file is gone or held: say so, keep everything, try again
                self._trouble = EngineTrouble("journal-refused", fault=refusal(fault, self._path).fields["fault"])
                time.sleep(AGAIN)
            except Exception as fault:
                log.exception("the journal's writer")
                self._trouble = EngineTrouble("journal-failed", fault=fault)
                time.sleep(AGAIN)

    def _move_if_asked(self) -> None:
        if self._move is None:
            return
        (move, done), self._move = self._move, None
        try:
            self._path = move()
        except BaseException as fault:  # the caller's
            done.set_exception(fault)
        else:
            done.set_result(self._path)

    def _write(self) -> None:
        """Until closed; raises with what is not kept still waiting."""
        engine = connect(self._path)
        try:
            with engine.connect() as connection:
                while (self._going or self._waiting) and self._move is None:
                    if not self._waiting:
                        self._gather()
                    self._keep(connection)
        finally:
            engine.dispose()

    def _gather(self) -> None:
        """Takes what is there, after the time that lets more of it into one transaction."""
        entry = self._queue.get()
        self._going = self._going and entry is not None
        if entry is not None and entry.what != FLUSH:
            self._waiting.append(entry)
            time.sleep(EVERY)
            entry = self._take_one()
        while entry is not None:
            self._waiting.append(entry)
            entry = self._take_one()

    def _take_one(self) -> JournalEntry | None:
        try:
            entry = self._queue.get_nowait()
        except queue.Empty:
            return None
        self._going = self._going and entry is not None
        return entry

    def _keep(self, connection: Connection) -> None:
        started = time.perf_counter()
        offsets, loose = dict(self._offsets), dict(self._loose)
        try:
            with connection.begin():
                if any(entry.what != FLUSH for entry in self._waiting):
                    # before rows that are packed are read: else one could be removed between
                    connection.exec_driver_sql("BEGIN IMMEDIATE")
                self._transaction(connection, self._waiting)
        except BaseException:
            self._offsets, self._loose = offsets, loose
            raise
        self._trouble = None
        with self._counting:
            self._held -= sum(len(chunk.data) for entry in self._waiting for chunk in entry.chunks)
            self._dropping = False
        self.slowest = max(self.slowest, time.perf_counter() - started + EVERY)
        kept, self._waiting = self._waiting, []
        for entry in kept:
            if entry.kept is not None:
                entry.kept()

    def _transaction(self, connection: Connection, entries: list[JournalEntry]) -> None:
        waiting: dict[int, list[Stamped]] = {}
        rows: list[dict[str, Any]] = []

        def write_bytes(session: int, chunks: list[Stamped]) -> None:
            if chunks:
                rows.append(self._row(session, HEARD, chunks[0].at, chunks))

        def write_rows() -> None:
            if rows:
                connection.execute(insert(schema.journal), rows)
                rows.clear()

        for entry in entries:
            if entry.what == HEARD:
                waiting.setdefault(entry.session, []).extend(entry.chunks)
                continue
            if entry.what == FLUSH:
                continue
            write_bytes(entry.session, waiting.pop(entry.session, []))
            if entry.what == OF_RUN:
                connection.execute(update(schema.run).where(schema.run.c.id == entry.run).values(entry.values))
                continue
            write_rows()
            self._pack(connection, entry.session)  # what comes next stands after it
            if entry.what == DROPPED:
                self._offsets[entry.session] = self._offsets.get(entry.session, 0) + entry.values["size"]
                rows.append(self._row(entry.session, LOST, entry.at, ()))
            elif entry.what == OF_SESSION:
                session = schema.session
                connection.execute(update(session).where(session.c.id == entry.session).values(entry.values))
            else:
                rows.append(self._row(entry.session, entry.what, entry.at, entry.chunks))
        for number, chunks in waiting.items():
            write_bytes(number, chunks)
        write_rows()
        for number, size in list(self._loose.items()):
            if size >= PACKED_AT:
                self._pack(connection, number)

    def _row(self, session: int, what: str, at: float, chunks: Sequence[Stamped]) -> dict[str, Any]:
        row = heard_row(session, what, self._offsets.get(session, 0), at, chunks)
        if what == HEARD:
            size = len(row["bytes"])
            self._offsets[session] = row["first_byte"] + size
            self._loose[session] = self._loose.get(session, 0) + size
            self.kept_bytes += size
        return {**row, "check_sum": journal_sum(row)}

    def _pack(self, connection: Connection, session: int) -> None:
        """Puts the rows of a session that lie as they came, and that nothing else stands between, into one."""
        loose, j = self._loose.pop(session, 0), schema.journal
        if loose < WORTH_PACKING:
            return
        end = self._offsets[session]
        lie = (j.c.session == session) & (j.c.what == HEARD) & (j.c.first_byte >= end - loose)
        rows = [
            dict(row)
            for row in connection.execute(select(*schema.as_they_lie(j)).where(lie).order_by(j.c.id)).mappings()
        ]
        if len(rows) < 2 or any(row["packed"] or journal_fault(row) for row in rows):
            return
        connection.execute(insert(j), [packed(rows)])
        connection.execute(delete(j).where(j.c.id.in_([row["id"] for row in rows])))


def heard_row(session: int, what: str, first: int, at: float, chunks: Sequence[Stamped]) -> dict[str, Any]:
    """A row as it came, without its sum."""
    stamps, sizes = stamps_of(chunks)
    return {
        "session": session, "what": what, "first_byte": first, "at": float(at), "bytes": bytes_of(chunks),
        "stamps": stamps.astype("<f8").tobytes(), "sizes": sizes.astype("<u4").tobytes(), "packed": 0,
    }  # fmt: skip
