"""A lesson kept whole whose book has gone, or cannot be written to: it goes on in a copy at another place."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

import platformdirs

from common_bench.book.book import Book
from common_bench.lesson.store import LessonStore
from common_bench.model.trouble import BookTrouble, Trouble
from common_bench.record.apart import AnyJournal

LOOKED_EVERY = 0.5  # s between two looks at whether the book is still there
ROOM = 20_000_000  # bytes that a place must have beyond the book's own size


class Rescue:
    """Guarantees that what is in memory and what comes is never left without a book for longer than a second: a book that
    is deleted, moved over, or whose stick is pulled is found out by its identity, and written anew at another place."""

    def __init__(self, store: LessonStore, journal: AnyJournal | None) -> None:
        self._store, self._journal = store, journal
        self._looked = 0.0

    def look(self) -> Trouble | None:
        """Where the book is gone, writes it anew and tells that; None where all is well. To be asked often."""
        if self._journal is None or time.monotonic() - self._looked < LOOKED_EVERY:
            return None
        self._looked = time.monotonic()
        book = self._store.book
        if book.is_there():
            return None
        before = book.path
        try:
            place = self.move()
        except BookTrouble as trouble:
            return BookTrouble("book-gone-no-rescue", where=before.name, told=trouble.what)
        beside = place.parent == before.parent
        return BookTrouble(
            "book-gone", where=before.name, rescued=f"“{place.name}” beside it" if beside else str(place)
        )

    def move(self) -> Path:
        """The book with all that waits to be written goes on at the first other place that has room. Gives it. Raises
        BookTrouble where there is none."""
        assert self._journal is not None
        book = self._store.book
        refused: BookTrouble | None = None
        for path in places(book):
            try:
                self._journal.go_on_in(lambda path=path: book.move(path))  # type: ignore[misc]
            except BookTrouble as trouble:
                refused = trouble
                continue
            self._store.refresh()
            return path
        raise refused or BookTrouble("no-place-for-rescue", where=str(book.path))


def places(book: Book) -> Iterator[Path]:
    """Where a book could be written anew: beside it, in the user's data place, at home, in the place for what is temporary."""
    name = f"{book.path.stem} rescued {datetime.now():%Y-%m-%d %H.%M.%S}{book.path.suffix}"
    data = Path(platformdirs.user_data_dir("common-bench")) / "rescued"
    for folder in (book.path.parent, data, Path.home(), Path(tempfile.gettempdir())):
        try:
            if folder == data:
                folder.mkdir(parents=True, exist_ok=True)
            room = shutil.disk_usage(folder).free
        except OSError:
            continue
        if room > ROOM + book.size:
            yield folder / name
