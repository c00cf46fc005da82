"""Whether a book is sound: its file, and its journal row by row. An engine on the book in; what is not, in sentences, out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Engine, select, text

from common_bench.book import schema
from common_bench.book.packing import unpacked, whole_size
from common_bench.book.soundness import journal_fault


def file_problems(engine: Engine) -> list[str]:
    """What the database itself finds wrong: pages, and rows that belong to none."""
    with engine.connect() as connection:
        problems = [str(row[0]) for row in connection.execute(text("PRAGMA integrity_check")) if row[0] != "ok"]
        return problems + [
            f"table {row[0]}, row {row[1]}: belongs to a row of {row[2]} that is not there"
            for row in connection.execute(text("PRAGMA foreign_key_check"))
        ]


def journal_problems(engine: Engine) -> list[str]:
    """Row by row, so that a book of any size can be looked at."""
    problems: list[str] = []
    expected: dict[object, int | None] = {}
    query = select(*schema.as_they_lie(schema.journal)).order_by(schema.journal.c.id)
    with engine.connect() as connection:
        rows = connection.execution_options(yield_per=200).execute(query)
        for found in rows.mappings():
            row = dict(found)
            fault = journal_fault(row) or _shape_fault(row)
            if fault:
                problems.append(f"journal, row {row['id']}: {fault}")
                expected[row["session"]] = None  # how much it held is not known
                continue
            before = expected.get(row["session"], 0)
            if before is not None and row["first_byte"] != before:
                missing = f"bytes {before} to {row['first_byte']} are missing"
                problems.append(f"journal of session {row['session']}: {missing}")
            if row["what"] == "bytes":
                expected[row["session"]] = row["first_byte"] + whole_size(row)
    return problems


def _shape_fault(row: Mapping[str, Any]) -> str:
    """Why a packed row does not give what came; empty where it does."""
    try:
        unpacked(row)
    except ValueError as fault:
        return str(fault)
    return ""
