"""Rows of the journal made smaller: what was heard a while ago, several rows as one, and each row as it came out of it again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from typing import Any

import numpy as np

from common_bench.book.deflate import deflated, inflated
from common_bench.book.row_lines import BEGINS, RowsAsLines
from common_bench.book.soundness import journal_fault, journal_sum
from common_bench.model.block import Floats

Row = dict[str, Any]


def packed(rows: Sequence[Mapping[str, Any]], *, quick: bool = False) -> Row:
    """Rows of one session that follow one another, as they came, as one row in less room. The very bytes and stamps come out
    of it again (`unpacked`)."""
    first = rows[0]
    stamps = np.frombuffer(b"".join(row["stamps"] for row in rows), "<i8")
    sizes = np.frombuffer(b"".join(row["sizes"] for row in rows), "<u4")
    data = b"".join(row["bytes"] for row in rows)
    row = {
        "session": first["session"], "what": first["what"], "first_byte": first["first_byte"], "at": first["at"],
        "stamps": _stamps(stamps, quick=quick),
        "sizes": _narrow(sizes, quick=quick), "bytes": deflated(data, quick=quick), "packed": len(data),
    }  # fmt: skip
    return {**row, "check_sum": journal_sum(row)}


def packed_rows(
    session: int, what: str, first: int, rows: Future[bytes], made: RowsAsLines, t: Floats, size: int
) -> Row:
    """Rows of a file (deflated) as one row of the journal, out of which their lines come again. first: offset of the first line; size:
    bytes of all of them."""
    row = {
        "session": session, "what": what, "first_byte": first, "at": float(t[0]), "stamps": _stamps(t.view("<i8"), quick=True),
        "sizes": made.kept(), "bytes": rows.result(), "packed": size,
    }  # fmt: skip
    return {**row, "check_sum": journal_sum(row)}


def file_bytes(row: Mapping[str, Any]) -> bytes:
    """The bytes of a file that stand for the lines of a row; nothing where they are kept as lines. Raises ValueError."""
    return inflated(row["bytes"]) if row.get("packed") and row["sizes"].startswith(BEGINS) else b""


def unpacked(row: Mapping[str, Any]) -> Row:
    """A row as it came; one that is not packed as it is. Raises ValueError where its cells are no longer what was packed."""
    whole = row.get("packed") or 0
    if not whole:
        return dict(row)
    stamps, data = np.cumsum(_wide(row["stamps"], "<i8")), inflated(row["bytes"])
    if row["sizes"].startswith(BEGINS):
        data, found = RowsAsLines.of(row["sizes"]).lines(data, stamps.view("<f8"))
        sizes = found.astype("<u4")
    else:
        sizes = _wide(row["sizes"], "<u4")
    if len(data) != whole or len(stamps) != len(sizes) or int(sizes.sum()) != whole:
        raise ValueError("its packed cells hold less than they should")
    return {**row, "stamps": stamps.astype("<i8").tobytes(), "sizes": sizes.tobytes(), "bytes": data, "packed": 0}


def as_it_came(row: Mapping[str, Any]) -> Row | None:
    """A row of the journal, unpacked; None where it cannot be believed."""
    if journal_fault(row):
        return None
    try:
        return unpacked(row)
    except ValueError:
        return None


def whole_size(row: Mapping[str, Any]) -> int:
    """How many bytes were heard in a row, as far as it tells."""
    packed = row.get("packed")
    return packed if isinstance(packed, int) and packed > 0 else len(row["bytes"] or b"")


def _stamps(stamps: np.ndarray, *, quick: bool) -> bytes:
    return _narrow(np.diff(stamps, prepend=stamps[:1] * 0), quick=quick)


def _narrow(numbers: np.ndarray, *, quick: bool) -> bytes:
    """Whole numbers, the first bytes of all of them before the second ones and so on: like lies beside like."""
    return deflated(numbers.view("u1").reshape(len(numbers), numbers.itemsize).T.tobytes(), quick=quick)


def _wide(data: bytes, kind: str) -> np.ndarray:
    size = np.dtype(kind).itemsize
    plain = np.frombuffer(inflated(data), "u1")
    if len(plain) % size:
        raise ValueError("its packed cells hold less than they should")
    return np.ascontiguousarray(plain.reshape(size, -1).T).view(kind).ravel()
