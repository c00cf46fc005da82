"""What can be damaged in a book, cell by cell: a row in; why it cannot be used out. The sum by which a flipped bit shows."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from typing import Any

from sqlalchemy import Float, Integer, LargeBinary, Table

KINDS: tuple[tuple[type, tuple[type, ...], str], ...] = (
    (Integer, (int,), "a whole number"),
    (Float, (float, int), "a number"),
    (LargeBinary, (bytes,), "bytes"),
)
STAMP_BYTES, SIZE_BYTES = 8, 4


def unsound(table: Table, row: Mapping[str, Any]) -> str:
    """Why a row cannot be used: a cell that is missing, or is no value of its column. Empty where it can."""
    for column in table.columns:
        value = row[column.name]
        if value is None:
            if not column.nullable:
                return f"its {column.name} is missing"
            continue
        kinds, words = next(
            ((kinds, words) for kind, kinds, words in KINDS if isinstance(column.type, kind)), ((str,), "text")
        )
        if not isinstance(value, kinds):
            return f"its {column.name} is no longer {words}"
        if isinstance(value, str) and not _is_text(value):
            return f"its {column.name} holds bytes that are no text"
    return ""


def decoded(data: bytes) -> str:
    """A text cell; bytes that are no UTF-8 are kept as such, so that only their row is lost."""
    return data.decode("utf-8", "surrogateescape")


def _is_text(value: str) -> bool:
    return value.isascii() or not any("\ud800" <= each <= "\udfff" for each in value)


def journal_sum(row: Mapping[str, Any]) -> int:
    """CRC-32 (ISO 3309) over all that a row of the journal says, packed or not, as it lies there."""
    packed = f"packed {row['packed']} " if row.get("packed") else ""
    found = zlib.crc32(
        f"{row['session']} {row['what']} {row['first_byte']} {float(row['at'] or 0.0)!r} {packed}".encode()
    )
    for name in ("stamps", "sizes", "bytes"):
        found = zlib.crc32(row[name] or b"", found)
    return found


def journal_fault(row: Mapping[str, Any]) -> str:
    """Why a row of the journal cannot be believed as it lies there; empty where it can. A row without a sum is looked at by its
    shape."""
    if not all(isinstance(row[name], bytes) for name in ("stamps", "sizes", "bytes")) or not isinstance(
        row["what"], str
    ):
        return "its cells are no longer what they were"
    if not isinstance(row["first_byte"], int) or not isinstance(row["at"], (int, float)):
        return "its place is no longer a number"
    if row.get("packed"):
        fits = isinstance(row["packed"], int) and row["check_sum"] == journal_sum(row)
        return "" if fits else "its check sum does not fit: something in it has changed"
    stamps, sizes = len(row["stamps"]), len(row["sizes"])
    if stamps % STAMP_BYTES or sizes % SIZE_BYTES or stamps // STAMP_BYTES != sizes // SIZE_BYTES:
        return "its stamps and sizes do not fit together"
    if sum(memoryview(row["sizes"]).cast("I")) != len(row["bytes"]):
        return "its sizes and bytes do not fit together"
    if row["check_sum"] is not None and row["check_sum"] != journal_sum(row):
        return "its check sum does not fit: something in it has changed"
    return ""
