"""Who has a book open: a small file beside the book, held by the operating system while the book is open."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import socket
from datetime import datetime
from pathlib import Path
from typing import IO

from common_bench.model.trouble import BookTrouble


class BookLock:
    """Held from the moment it is made until `release`. It goes by itself when the process ends, even
    when killed, so that a crash never locks anybody out of a book."""

    def __init__(self, book: Path) -> None:
        self.path = book.with_name(f".{book.name}.open")
        try:
            self._file: IO[str] = open(self.path, "a+", encoding="utf-8")  # noqa: SIM115 - held while the book is open
        except OSError as fault:
            raise BookTrouble("book-folder-read-only", where=str(book.parent)) from fault
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._file.seek(0)
            holder = self._file.read()
            self._file.close()
            raise BookTrouble("book-open-elsewhere", where=str(book), holder=_words(holder)) from None
        self._file.truncate(0)
        started = datetime.now().strftime("%H:%M")
        json.dump({"process": os.getpid(), "machine": socket.gethostname(), "since": started}, self._file)
        self._file.flush()

    def release(self) -> None:
        with contextlib.suppress(OSError):
            self.path.unlink()
        self._file.close()


def _words(holder: str) -> str:
    try:
        found = json.loads(holder)
        return f" (process {found['process']} on {found['machine']}, since {found['since']})"
    except (ValueError, KeyError, TypeError):
        return ""
