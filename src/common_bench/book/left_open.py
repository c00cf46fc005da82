"""What a crash left open in a book is closed when it is opened next."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from common_bench.book.book_file import now
from common_bench.model.trouble import Trouble

if TYPE_CHECKING:
    from common_bench.book.book import Book


def close_what_was_left_open(book: Book) -> None:
    """Runs that went on end where the journal does; each is told in the book's `notices`."""
    for row in [*book.rows("run", state="open"), *book.rows("run", state="asked")]:
        end = max(book.heard_bytes(row["session"]), row["begin_byte"] or 0)
        ending = json.dumps({"code": "program-stopped", "fields": {}})
        book.amend("run", row["id"], state="closed", end_byte=end, ending=ending)
        alias = book.row("group", row["group"])["alias"]
        case = "begun" if row["begin_byte"] is not None else "asked"
        book.notices.append(Trouble("run-was-open", alias=alias, number=row["number"], case=case))
    for row in book.rows("session", closed_at=""):
        book.amend("session", row["id"], closed_at=now())
