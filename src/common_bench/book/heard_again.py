"""What was heard, as the journal has it: bytes of a session with their stamps, in order, damaged rows told. A book in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from sqlalchemy import func, select

from common_bench.book import schema
from common_bench.book.book import Book
from common_bench.book.journal import HEARD, LOST, NO_TEXT
from common_bench.book.packing import as_it_came, whole_size
from common_bench.book.refusals import REFUSED, refusal
from common_bench.model.block import Arrived, Stamped, together

MOST_TOGETHER = 1 << 18  # bytes that are given to be read at once


def heard(book: Book, session: int, begin: int, end: int) -> Iterable[tuple[str, float, Sequence[Stamped]]]:
    """What the journal holds of a session between two byte offsets, in order: (what, at, chunks), as it stands at one time, whatever
    is written or packed meanwhile.

    Only what holds these bytes is read, however long was listened before. What a damaged row holds is not believed: as
    many bytes that are no text stand in its place, and then the link counts as lost. Raises BookTrouble.
    """
    j = schema.journal
    try:
        with book.engine.connect() as connection:
            earlier = select(func.coalesce(func.max(j.c.first_byte), 0)).where(
                j.c.session == session, j.c.first_byte <= begin, j.c.what == HEARD
            )
            query = select(*schema.as_they_lie(j)).where(
                j.c.session == session, j.c.first_byte >= earlier.scalar_subquery(), j.c.first_byte < end
            )  # one statement: between two of them rows may have become one that begins elsewhere
            rows = connection.execution_options(yield_per=200).execute(query.order_by(j.c.id)).mappings()
            for row in rows:
                yield from _between(dict(row), begin, end)
    except REFUSED as fault:
        raise refusal(fault, book.path) from fault


def many_at_once(
    rows: Iterable[tuple[str, float, Sequence[Stamped]]],
) -> Iterable[tuple[str, float, Sequence[Stamped]]]:
    """The same, with rows of bytes that follow each other as one, up to MOST_TOGETHER bytes or a little more: what is worked out of them is the same."""
    open_: list[Arrived] = []
    since = 0.0
    for what, at, chunks in rows:
        if open_ and (not isinstance(chunks, Arrived) or sum(len(each.data) for each in open_) >= MOST_TOGETHER):
            yield HEARD, since, together(open_)
            open_ = []
        if what == HEARD and isinstance(chunks, Arrived):
            since = since if open_ else at
            open_.append(chunks)
        else:
            yield what, at, chunks
    if open_:
        yield HEARD, since, together(open_)


def _between(lies: dict[str, Any], begin: int, end: int) -> Iterable[tuple[str, float, Sequence[Stamped]]]:
    row = as_it_came(lies)
    if row is None:
        yield from _in_place_of(lies, begin, end)
        return
    first, last = row["first_byte"], row["first_byte"] + len(row["bytes"])
    if row["what"] != HEARD:
        if begin < first < end:
            yield row["what"], row["at"], []
        return
    if last <= begin:
        return
    ends = first + np.cumsum(np.frombuffer(row["sizes"], "<u4"), dtype=np.int64)
    within = np.clip(np.concatenate([[first], ends]), begin, end)
    sizes = np.diff(within)
    some = sizes > 0
    data = row["bytes"][max(begin - first, 0) : max(end - first, 0)]
    yield HEARD, row["at"], Arrived(data, np.frombuffer(row["stamps"], "<f8")[some], sizes[some])


def _in_place_of(row: dict[str, Any], begin: int, end: int) -> Iterable[tuple[str, float, list[Stamped]]]:
    first, at = row["first_byte"], _at(row)
    if isinstance(first, int) and isinstance(row["bytes"], (bytes, str)):
        low, high = max(first, begin), min(first + whole_size(row), end)
        if low < high:
            yield HEARD, at, [Stamped(at, NO_TEXT * (high - low))]
    yield LOST, at, []


def in_its_place(row: dict[str, Any]) -> dict[str, Any]:
    """A row that cannot be believed, with as many bytes that are no text."""
    size = whole_size(row) if isinstance(row["bytes"], (bytes, str)) else 0
    first = row["first_byte"] if isinstance(row["first_byte"], int) else 0
    sizes, stamps = np.array([size], "<u4").tobytes(), np.array([_at(row)], "<f8").tobytes()
    return {**row, "what": HEARD, "first_byte": first, "bytes": NO_TEXT * size, "sizes": sizes, "stamps": stamps}


def _at(row: dict[str, Any]) -> float:
    return float(row["at"]) if isinstance(row["at"], (int, float)) else 0.0
