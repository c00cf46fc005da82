"""The whole tape of a kit, from the journal. A session in; its lines by pages, searched backwards, out."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import desc, select

from common_bench.book import schema
from common_bench.book.book import Book
from common_bench.book.heard_again import in_its_place
from common_bench.book.journal import HEARD, SENT
from common_bench.book.packing import as_it_came

PAGE = 400  # lines
MOST_ROWS = 20_000  # journal rows that one search looks through


class KeptLine(NamedTuple):
    """at: s on the engine's clock; offset: byte in what was heard; sent: by us to the kit."""

    at: float
    offset: int
    line: bytes
    sent: bool = False

    @property
    def text(self) -> str:
        return self.line[:400].decode("utf-8", "backslashreplace")


def lines_before(
    book: Book, session: int, before: int | None, *, find: str = "", most: int = PAGE
) -> tuple[list[KeptLine], int | None]:
    """The last `most` lines that begin before a byte (None: the end), oldest first, and the byte to go on from.

    `find` keeps only lines that hold this text, whatever the case. The second value is None at the beginning.
    """
    found: list[KeptLine] = []
    wanted = find.lower().encode()
    later = b""  # the rest of a line whose beginning lies in an earlier row
    for number, row in enumerate(_rows(book, session, before)):
        if row["what"] != HEARD:
            if row["what"] == SENT:
                _keep(found, KeptLine(row["at"], row["first_byte"], bytes(row["bytes"]).strip(), True), wanted)
            continue
        first = int(row["first_byte"])
        data = bytes(row["bytes"])
        stamps, ends = np.frombuffer(row["stamps"], "<f8"), np.cumsum(np.frombuffer(row["sizes"], "<u4"))
        data = (data if before is None else data[: max(0, before - first)]) + later
        begin = 0 if first == 0 else data.find(b"\n") + 1
        if begin == 0 and first > 0:
            later = data
            continue
        later, offset, page = data[:begin], first + begin, []
        for line in data[begin:].splitlines(keepends=True):
            chunk = min(int(np.searchsorted(ends, offset - first, "right")), len(stamps) - 1)
            page.append(KeptLine(float(stamps[chunk]), offset, line.rstrip(b"\r\n")))
            offset += len(line)
        for each in reversed(page):
            _keep(found, each, wanted)
        if first > 0 and (len(found) >= most or number >= MOST_ROWS):
            return list(reversed(found)), first + begin
    return list(reversed(found)), None


def _keep(found: list[KeptLine], line: KeptLine, wanted: bytes) -> None:
    if line.line and (not wanted or wanted in line.line.lower()):
        found.append(line)


def _rows(book: Book, session: int, before: int | None) -> Iterator[dict[str, Any]]:
    j = schema.journal
    query = select(*schema.as_they_lie(j)).where(j.c.session == session)
    if before is not None:
        query = query.where(j.c.first_byte < before)
    with book.engine.connect() as connection:
        for row in connection.execution_options(yield_per=200).execute(query.order_by(desc(j.c.id))).mappings():
            lies = dict(row)
            yield as_it_came(lies) or in_its_place(lies)
