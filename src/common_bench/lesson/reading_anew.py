"""Runs whose lines were read wrongly, read anew under another stream format: their bytes are the record."""

from __future__ import annotations

import json
from collections.abc import Sequence
from concurrent.futures import Future

import msgspec

from common_bench.book.changes import Change, RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.many_runs import Again, ByPlan, reworked_all
from common_bench.lesson.store import LessonStore
from common_bench.lesson.worked_runs import Reworked, finding_rows
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.model.trouble import CalibrationTrouble


class ReadingAnew:
    """Guarantees that raw bytes stay as they are, and that all that follows from a run follows, as one step of undo."""

    def __init__(self, store: LessonStore, changes: Changes, working_up: WorkingUp) -> None:
        self._store, self._changes, self._working_up = store, changes, working_up

    def runs_of(self, kit: int, format: StreamFormat) -> list[int]:
        """Kept runs of this lesson that were heard from a kit and read otherwise."""
        found = []
        for run in self._store.kept_runs():
            own = run.setting.format if run.setting is not None else None
            if own is not None and self._store.heard_from(run, kit) and own.columns != format.columns:
                found.append(run.id)
        return found

    def preview_later(self, runs: Sequence[int], format: StreamFormat) -> Future[list[Reworked]]:
        """What runs give under another format, by a worker. Changes nothing. The kit's clock is mapped from the run's own
        lines then."""
        store = self._store
        asked = [
            Again(run, msgspec.structs.replace(run.setting, format=format, clock=ClockState()), {f.name: f for f in store.findings(run.id)})
            for run in (store.run(each) for each in runs)
            if run.setting is not None
        ]  # fmt: skip
        wanted, book = store.plan.findings, store.book
        plan = ByPlan(store.channels, wanted, store.plan.rule.used, wanted)
        return self._working_up.submit(lambda: reworked_all(book, asked, plan, self._working_up.closing))

    def keep(self, reworked: Sequence[Reworked]) -> Change:
        """Keeps runs as they are read under the other format. Raises CalibrationTrouble where there are none."""
        rows: list[RowChange] = []
        for each in reworked:
            told = json.dumps(each.why_not.data) if each.why_not is not None else ""
            values = {"setting": msgspec.json.encode(each.setting).decode(), "trouble": told}
            rows.append(self._store.book.changed("run", each.run.id, **values))
            rows += finding_rows(self._store.book, each.run.id, each.before, each.after)
        if not rows:
            raise CalibrationTrouble("no-run-would-change")
        return self._changes.do(f"Read {len(reworked)} run{'s' if len(reworked) != 1 else ''} anew", rows)
