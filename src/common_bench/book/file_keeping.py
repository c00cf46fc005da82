"""A file that was brought in, as the journal of a session that heard nothing: its lines, and the file whole, or the rows of the file that
stand for its lines. Lines in; rows in the book out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import delete, insert, select

from common_bench.book import schema
from common_bench.book.book import Book
from common_bench.book.deflate import deflated, inflated
from common_bench.book.journal import FILE, HEARD, heard_row
from common_bench.book.packing import file_bytes, packed, packed_rows
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.row_lines import RowsAsLines
from common_bench.book.soundness import journal_fault, journal_sum
from common_bench.model.block import Arrived, Floats, Ints, LaterBytes, NumberColumns, Stamped

PACKERS = 2  # threads that pack, beside the one that hears lines; on two cores, while that one waits
CHUNKS_A_ROW = 8192
ROWS_AT_ONCE = 8  # of the journal, that are written in one transaction


class StampedLines(NamedTuple):
    """Lines that were not heard live. t: (n,) s of each; sizes: (n,) bytes of each; data: all of them, one after the other."""

    t: Floats
    sizes: Ints
    data: bytes | memoryview


class StampedRows(NamedTuple):
    """Rows of a file, as it has them, that stand for lines. t, sizes: as of lines; rows: all bytes of the file from those before
    on; starts: (n,) byte of these at which each begins; made: how lines are made of them; pieces: in which they are kept, one after the
    other: the byte of these and the row with which each begins, and its bytes deflated; numbers: those of the lines, where all are
    known."""

    t: Floats
    sizes: Ints
    rows: memoryview
    starts: Ints
    made: RowsAsLines
    pieces: Sequence[tuple[int, int, Future[bytes]]]
    numbers: NumberColumns | None = None


def keep_file(
    book: Book,
    session: int,
    whole: bytes | None,
    pieces: Iterable[StampedLines | StampedRows],
    heard: Callable[[Arrived], object] | None = None,
    meanwhile: Callable[[], object] = lambda: None,
) -> int:
    """Puts a file that was brought in, whole (None where its rows stand for lines, so that these are all of it) and line by line, into the
    journal of a session that holds nothing yet; gives how many bytes its lines have. All of it or nothing. heard: is told its lines
    while others are packed, as they will be read from the book; meanwhile: is done while the book is written. Raises BookTrouble, and what
    `pieces`, `heard` and `meanwhile` do."""
    written: list[Future[None]] = []
    waits: list[Future[dict[str, Any]]] = []
    first = 0
    with ThreadPoolExecutor(1) as writer, ThreadPoolExecutor(PACKERS) as packers:  # these do not hold the interpreter
        try:
            if whole is not None:
                waits.append(packers.submit(_file_row, session, whole))
            for piece in pieces:
                for makes, arrived in _in_rows(piece, session, first):
                    waits += map(packers.submit, makes)
                    first += len(arrived.held)
                    if len(waits) >= ROWS_AT_ONCE:
                        written.append(writer.submit(_write, book, waits))
                        waits = []
                    if heard is not None:
                        heard(arrived)
            if waits:
                written.append(writer.submit(_write, book, waits))
            meanwhile()
            for each in written:
                each.result()
        except BaseException:
            packers.shutdown(wait=False, cancel_futures=True)
            writer.shutdown(cancel_futures=True)
            _take_back(book, session)
            raise
    return first


def _write(book: Book, waits: Sequence[Future[dict[str, Any]]]) -> None:
    """In several short transactions, so that runs that are recorded meanwhile do not wait for the book."""
    rows = [each.result() for each in waits]
    try:
        with book.engine.connect() as connection, connection.begin():
            connection.execute(insert(schema.journal), rows)
    except REFUSED as fault:
        raise refusal(fault, book.path) from fault


def _take_back(book: Book, session: int) -> None:
    """What was written before something failed. Where the book cannot be written at all, it stays, and belongs to no run."""
    with suppress(*REFUSED), book.engine.connect() as connection, connection.begin():
        connection.execute(delete(schema.journal).where(schema.journal.c.session == session))


def _file_row(session: int, whole: bytes) -> dict[str, Any]:
    row = heard_row(session, FILE, 0, 0.0, [Stamped(0.0, deflated(whole, quick=True))])
    return {**row, "check_sum": journal_sum(row)}


def _in_rows(
    piece: StampedLines | StampedRows, session: int, first: int
) -> Iterator[tuple[Sequence[Callable[[], dict[str, Any]]], Arrived]]:
    """What makes rows of a journal, and what was heard in these. first: offset of its first byte."""
    ends = np.cumsum(piece.sizes)

    def until(row: int) -> int:
        """The byte with which a row begins."""
        return int(ends[row - 1]) if row else 0

    if isinstance(piece, StampedRows):
        rows, made, t = piece.rows, piece.made, piece.t
        makes = []
        highs = [low for _, low, _ in piece.pieces[1:]] + [len(t)]
        for (begin, low, small), high in zip(piece.pieces, highs, strict=True):
            own = replace(made, first=made.first + low, skip=int(piece.starts[low]) - begin)
            size = until(high) - until(low)
            makes.append(partial(packed_rows, session, HEARD, first + until(low), small, own, t[low:high], size))
        later = LaterBytes(until(len(t)), lambda: made.lines(rows, t)[0])
        yield makes, Arrived(later, t, piece.sizes, piece.numbers, ends)
        return
    data = memoryview(piece.data)
    for low in range(0, len(piece.t), CHUNKS_A_ROW):
        part = slice(low, min(low + CHUNKS_A_ROW, len(piece.t)))
        arrived = Arrived(bytes(data[until(low) : until(part.stop)]), piece.t[part], piece.sizes[part])
        yield [partial(_row, session, first + until(low), float(piece.t[low]), arrived)], arrived


def _row(session: int, first: int, at: float, arrived: Arrived) -> dict[str, Any]:
    return packed([heard_row(session, HEARD, first, at, arrived)], quick=True)


def kept_file(book: Book, session: int) -> bytes:
    """The file that a session was brought in from; nothing where it was none, or something of it is gone."""
    j = schema.journal
    parts: list[bytes] = []
    try:
        with book.engine.connect() as connection:
            query = select(*schema.as_they_lie(j)).where(j.c.session == session).order_by(j.c.id)
            for row in map(dict, connection.execution_options(yield_per=200).execute(query).mappings()):
                if journal_fault(row):
                    return b""
                parts.append(inflated(row["bytes"]) if row["what"] == FILE else file_bytes(row))
    except REFUSED as fault:
        raise refusal(fault, book.path) from fault
    except ValueError:
        return b""
    return b"".join(parts)
