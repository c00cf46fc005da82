"""The journal: what was heard, byte for byte with arrival stamps, written into the book as it comes."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import insert, select, update
from sqlalchemy.exc import DatabaseError

from common_bench.book import schema
from common_bench.book.book import Book, connect
from common_bench.model.block import Stamped

EVERY = 0.12  # s between transactions; with the engine's turn and the commit this stays under 0.25 s
MOST_WAITING = 4096  # entries; then the input waits, and the bytes wait in the system's own buffers

HEARD, LOST, SENT, MISSED = "bytes", "lost", "sent", "missed"


class Entry:
    """Something to keep: bytes of a hearing, a mark in it, or a row of a run to complete."""

    __slots__ = ("at", "chunks", "hearing", "run", "values", "what")

    def __init__(
        self, hearing: int, what: str, at: float = 0.0, chunks: Sequence[Stamped] = (), run: int = 0,
        values: dict[str, Any] | None = None,
    ) -> None:  # fmt: skip
        self.hearing, self.what, self.at, self.chunks = hearing, what, at, chunks
        self.run, self.values = run, values or {}


class JournalWriter:
    """Writes entries in the order in which they were put, in one transaction every EVERY seconds.

    Nothing put is dropped: a full queue makes the caller wait. After `close` everything is in the
    book. A kill at any instant loses at most what came since the last transaction.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._queue: queue.Queue[Entry | None] = queue.Queue(MOST_WAITING)
        self._offsets: dict[int, int] = {}
        self._rows: list[dict[str, Any]] = []
        self.trouble: str = ""
        self.kept_bytes = 0
        self.slowest = 0.0  # s, the longest time from putting to the end of a transaction's write
        self._thread = threading.Thread(target=self._write, name="journal", daemon=True)
        self._thread.start()

    def put(self, entry: Entry) -> None:
        self._queue.put(entry)

    def flush(self) -> None:
        """Waits until all that was put is in the book."""
        done = threading.Event()
        self._queue.put(Entry(0, "flush", values={"done": done}))
        done.wait(30)

    def close(self) -> None:
        self._queue.put(None)
        self._thread.join()

    def _write(self) -> None:
        engine = connect(self._path)
        with engine.connect() as connection:
            going = True
            while going:
                first = self._queue.get()
                entries: list[Entry] = []
                going = first is not None
                if first is not None:
                    entries.append(first)
                    if first.what != "flush":
                        time.sleep(EVERY)
                while going:
                    try:
                        more = self._queue.get_nowait()
                    except queue.Empty:
                        break
                    if more is None:
                        going = False
                    else:
                        entries.append(more)
                self._keep(connection, entries)
        engine.dispose()

    def _keep(self, connection: Any, entries: list[Entry]) -> None:
        started = time.perf_counter()
        while True:
            try:
                offsets = dict(self._offsets)
                with connection.begin():
                    self._transaction(connection, entries)
                break
            except DatabaseError as fault:
                # The disk is full or the file is gone: say so, keep everything and try again.
                self._offsets = offsets
                self.trouble = f"the book cannot be written ({fault.orig})"
                time.sleep(1.0)
        self.trouble = ""
        self.slowest = max(self.slowest, time.perf_counter() - started + EVERY)
        for entry in entries:
            if entry.what == "flush":
                entry.values["done"].set()

    def _transaction(self, connection: Any, entries: list[Entry]) -> None:
        waiting: dict[int, list[Stamped]] = {}
        self._rows.clear()
        for entry in entries:
            if entry.what == HEARD:
                waiting.setdefault(entry.hearing, []).extend(entry.chunks)
                continue
            if entry.what == "flush":
                continue
            self._bytes(connection, entry.hearing, waiting.pop(entry.hearing, []))
            if entry.what == "run":
                connection.execute(update(schema.run).where(schema.run.c.id == entry.run).values(entry.values))
            elif entry.what == "hearing":
                connection.execute(
                    update(schema.hearing).where(schema.hearing.c.id == entry.hearing).values(entry.values)
                )
            else:
                self._row(connection, entry.hearing, entry.what, entry.at, entry.chunks)
        for hearing, chunks in waiting.items():
            self._bytes(connection, hearing, chunks)
        if self._rows:
            connection.execute(insert(schema.journal), self._rows)

    def _bytes(self, connection: Any, hearing: int, chunks: list[Stamped]) -> None:
        if chunks:
            self._row(connection, hearing, HEARD, chunks[0].at, chunks)

    def _row(self, connection: Any, hearing: int, what: str, at: float, chunks: Sequence[Stamped]) -> None:
        data = b"".join(chunk.data for chunk in chunks)
        first = self._offsets.get(hearing, 0)
        self._rows.append(
            {
                "hearing": hearing, "what": what, "first_byte": first, "at": at, "bytes": data,
                "stamps": np.array([chunk.at for chunk in chunks], "<f8").tobytes(),
                "sizes": np.array([len(chunk.data) for chunk in chunks], "<u4").tobytes(),
            }
        )  # fmt: skip
        if what == HEARD:
            self._offsets[hearing] = first + len(data)
            self.kept_bytes += len(data)


def heard(book: Book, hearing: int, begin: int, end: int) -> Iterable[tuple[str, float, list[Stamped]]]:
    """What the journal holds of a hearing between two byte offsets, in order: (what, at, chunks)."""
    j = schema.journal
    query = select(j).where(j.c.hearing == hearing, j.c.first_byte < end).order_by(j.c.id)
    with book.engine.connect() as connection:
        for row in connection.execute(query).mappings():
            first, last = row["first_byte"], row["first_byte"] + len(row["bytes"])
            if row["what"] != HEARD:
                if begin < first < end:
                    yield row["what"], row["at"], []
                continue
            if last <= begin:
                continue
            stamps, sizes = np.frombuffer(row["stamps"], "<f8"), np.frombuffer(row["sizes"], "<u4")
            chunks, at = [], first
            for stamp, size in zip(stamps.tolist(), sizes.tolist(), strict=True):
                low, high = max(at, begin), min(at + size, end)
                if low < high:
                    chunks.append(Stamped(stamp, row["bytes"][low - first : high - first]))
                at += size
            yield HEARD, row["at"], chunks
