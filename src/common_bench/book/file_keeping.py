"""A file that was brought in, as the journal of a session that heard nothing: the file whole, and line by line. Lines in; rows in the
book out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import insert

from common_bench.book import schema
from common_bench.book.book import Book
from common_bench.book.deflate import deflated, inflated
from common_bench.book.journal import FILE, HEARD, heard_row
from common_bench.book.packing import packed
from common_bench.book.refusals import REFUSED, refusal
from common_bench.book.soundness import journal_sum
from common_bench.model.block import Arrived, Floats, Ints, Stamped

PACKERS = 1  # threads that pack, beside the one that makes lines and the one that hears them
CHUNKS_A_ROW = 8192


class StampedLines(NamedTuple):
    """Lines that were not heard live. t: (n,) s of each; sizes: (n,) bytes of each; data: all of them, one after the other; numbers: (n,
    columns) that they hold, where they are known."""

    t: Floats
    sizes: Ints
    data: bytes | memoryview
    numbers: Floats | None = None


def keep_file(
    book: Book,
    session: int,
    whole: bytes,
    pieces: Iterable[StampedLines],
    heard: Callable[[Arrived], object] | None = None,
) -> int:
    """Puts a file that was brought in, whole (compressed) and line by line, into the journal of a session that holds nothing yet;
    gives how many bytes its lines have. All of it or nothing. heard: is told its lines while others are packed, as they will be read
    from the book. Raises BookTrouble, and what `pieces` and `heard` do."""
    waits: list[Future[dict[str, Any]]] = []
    first = 0
    with ThreadPoolExecutor(PACKERS) as packers:  # what packs does not hold the interpreter
        file = packers.submit(deflated, whole, quick=True)
        try:
            for lines in pieces:
                for at, arrived in _in_rows(lines):
                    waits.append(packers.submit(_row, session, first, at, arrived))
                    first += len(arrived.data)
                    if heard is not None:
                        heard(arrived)
        except BaseException:
            packers.shutdown(wait=False, cancel_futures=True)
            raise
        row = heard_row(session, FILE, 0, 0.0, [Stamped(0.0, file.result())])
        rows = [{**row, "check_sum": journal_sum(row)}, *(each.result() for each in waits)]
    try:  # what takes its time is done: runs that are recorded meanwhile do not wait for the book
        with book.engine.connect() as connection, connection.begin():
            connection.execute(insert(schema.journal), rows)
    except REFUSED as fault:
        raise refusal(fault, book.path) from fault
    return first


def _in_rows(lines: StampedLines) -> Iterator[tuple[float, Arrived]]:
    """Lines as the rows of a journal take them: when, and what came."""
    ends, data = np.concatenate([[0], np.cumsum(lines.sizes)]), memoryview(lines.data)
    for low in range(0, len(lines.t), CHUNKS_A_ROW):
        part = slice(low, low + CHUNKS_A_ROW)
        begin, end = int(ends[low]), int(ends[min(low + CHUNKS_A_ROW, len(lines.t))])
        numbers = None if lines.numbers is None else lines.numbers[part]
        yield float(lines.t[low]), Arrived(bytes(data[begin:end]), lines.t[part], lines.sizes[part], numbers)


def _row(session: int, first: int, at: float, arrived: Arrived) -> dict[str, Any]:
    return packed([heard_row(session, HEARD, first, at, arrived)], quick=True)


def kept_file(book: Book, session: int) -> bytes:
    """The file that a session was brought in from; nothing where it was none, or is gone."""
    rows = book.rows("journal", session=session, what=FILE)
    try:
        return inflated(rows[0]["bytes"]) if rows else b""
    except ValueError:
        return b""
