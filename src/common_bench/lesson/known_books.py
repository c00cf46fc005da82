"""The bench books that were opened on this machine, newest first: a small file in the user's data."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import msgspec
import platformdirs

MOST_KNOWN = 60


class KnownBook(msgspec.Struct, frozen=True):
    """A book's file and the lesson that was open last."""

    path: str
    lesson: int | None = None


def place() -> Path:
    """Where the list lies."""
    return Path(platformdirs.user_data_dir("common-bench")) / "books.json"


def known_books() -> list[KnownBook]:
    """The books that were opened here, the last first; those whose file has gone are left out."""
    try:
        found = msgspec.json.decode(place().read_bytes(), type=list[KnownBook])
    except (OSError, msgspec.MsgspecError):
        return []
    return [each for each in found if Path(each.path).is_file()]


def remember(path: Path, lesson: int | None = None) -> None:
    """Puts a book in front. Where the list cannot be written nothing is remembered, and nothing else happens."""
    known = KnownBook(str(path.resolve()), lesson)
    _write([known, *(each for each in known_books() if each.path != known.path)])


def forget(path: Path) -> None:
    """Takes a book off the shelf; its file stays where it is."""
    _write([each for each in known_books() if each.path != str(path.resolve())])


def _write(books: list[KnownBook]) -> None:
    at = place()
    with contextlib.suppress(OSError):
        at.parent.mkdir(parents=True, exist_ok=True)
        part = at.with_suffix(".new")
        part.write_bytes(msgspec.json.format(msgspec.json.encode(books[:MOST_KNOWN])))
        os.replace(part, at)


def books_folder() -> Path:
    """Where new books are proposed to lie: the user's documents, or at home where there is no folder for them."""
    documents = Path(platformdirs.user_documents_dir())
    return documents if documents.is_dir() else Path.home()
