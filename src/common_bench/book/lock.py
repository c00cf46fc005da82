"""Who has a book open: a small file beside the book, held by the operating system while the book is open."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import json
import os
import socket
import time
from datetime import datetime
from pathlib import Path
from typing import IO

from common_bench.model.trouble import BookTrouble, Trouble

KEPT_WITHIN = 5.0  # s that a process that outlives its program may take to keep what was heard
AGAIN = 0.05  # s between two looks
LONGEST_FILE_NAME = 255  # bytes, of most file systems


class BookLock:
    """Held from the moment it is made until `release`. It goes by itself when the process ends, even
    when killed, so that a crash never locks anybody out of a book."""

    def __init__(self, book: Path) -> None:
        self.path = lock_path(book)
        self.unknown: Trouble | None = None  # told where this file system cannot say who has the book open
        self._file: IO[str] = self._held(book)
        self._file.truncate(0)
        started = datetime.now().strftime("%H:%M")
        json.dump({"process": os.getpid(), "machine": socket.gethostname(), "since": started}, self._file)
        self._file.flush()

    def _held(self, book: Path) -> IO[str]:
        """The file, held. One who lets it go takes its name away too: a file that has no longer that name when it is held
        is none, and it is tried again; so there is no moment at which two hold it. Where the program that held it has ended, what that heard
        is still being kept, and that is waited for."""
        until = time.monotonic() + KEPT_WITHIN
        while True:
            try:
                file = open(self.path, "a+", encoding="utf-8")  # noqa: SIM115 - held while the book is open
            except OSError as fault:
                raise BookTrouble("book-folder-read-only", where=str(book.parent)) from fault
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as fault:
                if fault.errno not in (errno.EWOULDBLOCK, errno.EACCES):
                    self.unknown = Trouble("lock-unknown", where=str(book))
                    return file
                file.seek(0)
                holder = file.read()
                file.close()
                if _has_ended(holder) and time.monotonic() < until:
                    time.sleep(AGAIN)
                    continue
                raise BookTrouble("book-open-elsewhere", where=str(book), holder=_words(holder)) from None
            with contextlib.suppress(OSError):
                if os.path.samestat(os.fstat(file.fileno()), os.stat(self.path)):
                    return file
            file.close()

    @property
    def file(self) -> int:
        """The one that is held, for another process that writes to the book to hold it too."""
        return self._file.fileno()

    def release(self) -> None:
        with contextlib.suppress(OSError):
            self.path.unlink()
        self._file.close()


def lock_path(book: Path) -> Path:
    """The file beside a book that is held while it is open."""
    name = f".{book.name}.open"
    if len(os.fsencode(name)) > LONGEST_FILE_NAME:
        raise BookTrouble("book-name-too-long", where=str(book))
    return book.with_name(name)


def refuse_impossible(path: Path) -> None:
    """Raises BookTrouble for what cannot be the name of a file."""
    if "\0" in str(path):
        raise BookTrouble("book-name-impossible", where=str(path))
    if any(len(os.fsencode(part)) > LONGEST_FILE_NAME for part in path.parts):
        raise BookTrouble("book-name-too-long", where=str(path))


def is_held(book: Path) -> bool:
    """Whether another process has a book open just now."""
    try:
        with open(lock_path(book), encoding="utf-8") as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except (OSError, BookTrouble):
        return False
    return False


def _has_ended(holder: str) -> bool:
    """Whether the program that held it ran on this machine and does not any more."""
    try:
        found = json.loads(holder)
        if found["machine"] != socket.gethostname():
            return False
        os.kill(found["process"], 0)
    except ProcessLookupError:
        return True
    except (ValueError, KeyError, TypeError, OSError):
        return False
    return False


def _words(holder: str) -> str:
    try:
        found = json.loads(holder)
        return f" (process {found['process']} on {found['machine']}, since {found['since']})"
    except (ValueError, KeyError, TypeError):
        return ""
