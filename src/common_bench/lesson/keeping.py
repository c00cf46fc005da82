"""What workers have found of runs that ended, kept in the book by a thread of its own: the book may be written to just then, and nobody
waits for it but that thread. Outcomes in; the rows as the book has them then, out."""

from __future__ import annotations

import json
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

from common_bench.book.book import Book
from common_bench.book.changes import Row, RowChange
from common_bench.lesson.run_pictures import keep_picture
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import finding_of, run_of
from common_bench.lesson.worked_runs import Outcome, finding_rows
from common_bench.model.run import Run


@dataclass(frozen=True)
class Kept:
    """What became of an outcome. stands: its run as it was then, None where it is gone; behind: it was changed after it had been asked
    for, so that nothing of the outcome is kept."""

    outcome: Outcome
    stands: Run | None
    behind: bool


@dataclass(frozen=True)
class KeptAll:
    """What one writing has kept, and the rows of its runs and of their findings as the book has them since."""

    each: tuple[Kept, ...]
    runs: tuple[Row, ...]
    findings: tuple[Row, ...]


class Keeping:
    """Guarantees that findings are in the book before anybody sees them, that they are of their run as it stands in the moment in which
    they are written, and that the lesson's own thread waits for neither."""

    def __init__(self, store: LessonStore) -> None:
        self._store = store
        self._writer = ThreadPoolExecutor(1, thread_name_prefix="keeping")
        self._under_way: Future[KeptAll | None] | None = None
        self._state = 0  # of what is known of runs, when it began

    @property
    def is_under_way(self) -> bool:
        return self._under_way is not None

    @property
    def has_kept(self) -> bool:
        return self._under_way is not None and self._under_way.done()

    def begin(self, outcomes: Sequence[Outcome]) -> None:
        """To be asked where nothing is under way."""
        self._state = self._store.state_of_runs
        self._under_way = self._writer.submit(kept_all, self._store.book, tuple(outcomes))

    def take(self) -> tuple[Kept, ...]:
        """What has been kept, nothing where all has to be tried again; the store knows of it. Waits where it is under way. Raises
        BookTrouble where the book is not written."""
        assert self._under_way is not None
        under_way, self._under_way = self._under_way, None
        found = under_way.result()
        if found is None:
            return ()
        if self._store.state_of_runs == self._state:
            self._store.put("run", found.runs)
            self._store.put("finding", found.findings)
        else:  # somebody has changed a run meanwhile, before or after this
            self._store.refresh("run", "finding")
        return found.each

    def close(self) -> None:
        self._writer.shutdown(wait=True)


def kept_all(book: Book, outcomes: Sequence[Outcome]) -> KeptAll | None:
    """Writes what these have given, all or nothing: None where a run was changed while it was written. For any thread. Raises
    BookTrouble."""
    each, rows, seen = list[Kept](), list[RowChange](), list[tuple[str, Row]]()
    with book.beside() as own:
        for outcome in outcomes:
            asked = outcome.asked
            found = own.rows("run", id=asked.run.id)
            stands = run_of(found[0]) if found else None
            behind = stands is not None and stands.setting != asked.run.setting and stands.state == "closed"
            each.append(Kept(outcome, stands, behind))
            if stands is None or behind:
                continue
            keep_picture(own, stands, outcome.picture)
            if asked.to_keep:
                seen.append(("run", found[0]))
                rows += _rows_of(own, outcome)
        if rows and not own.complete_where(rows, seen):
            return None
        ids = [kept.stands.id for kept in each if kept.stands is not None]
        runs = tuple(row for id in ids for row in own.rows("run", id=id))
        return KeptAll(tuple(each), runs, tuple(row for id in ids for row in own.rows("finding", run=id)))


def _rows_of(book: Book, outcome: Outcome) -> list[RowChange]:
    run = outcome.asked.run.id
    old = {row["name"]: finding_of(row) for row in book.rows("finding", run=run)}
    told = json.dumps(outcome.trouble.data) if outcome.trouble is not None else ""
    return [book.changed("run", run, trouble=told), *finding_rows(book, run, old, outcome.findings)]
