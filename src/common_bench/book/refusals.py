"""What a database or a disk refuses, as a trouble of ours: one place for every read and write of a book."""

from __future__ import annotations

import errno
import sqlite3
from pathlib import Path

from sqlalchemy.exc import DBAPIError

from common_bench.model.trouble import BookTrouble

REFUSED = (DBAPIError, sqlite3.Error, OSError, UnicodeDecodeError)
"""What may be raised by reading or writing the file; a damaged one is told of in bytes that are no text."""

CODES = {
    "SQLITE_BUSY": "book-locked",
    "SQLITE_LOCKED": "book-locked",
    "SQLITE_FULL": "book-disk-full",
    "SQLITE_READONLY": "book-read-only",
    "SQLITE_CANTOPEN": "book-unreachable",
    "SQLITE_IOERR": "book-unreachable",
    "SQLITE_CORRUPT": "book-damaged",
    "SQLITE_NOTADB": "book-damaged",
}
OF_SYSTEM = {errno.ENOSPC: "book-disk-full", errno.EDQUOT: "book-disk-full", errno.EROFS: "book-read-only", errno.EACCES: "book-read-only"}  # fmt: skip


def refusal(fault: BaseException, path: Path) -> BookTrouble:
    """The trouble for what was raised: locked, full, not writable, damaged, or refused for another reason."""
    cause = fault.orig if isinstance(fault, DBAPIError) and fault.orig is not None else fault
    name = str(getattr(cause, "sqlite_errorname", ""))
    code = next((code for start, code in CODES.items() if name.startswith(start)), "change-refused")
    if isinstance(cause, UnicodeDecodeError):
        code = "book-damaged"
    if isinstance(cause, OSError):
        code = OF_SYSTEM.get(cause.errno or 0, "book-unreachable")
    return BookTrouble(code, where=str(path), fault=str(cause))
