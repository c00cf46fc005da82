"""Stage 6 as actions: findings sent to the pool, set aside and taken back, the pool opened and sealed."""

from __future__ import annotations

from collections.abc import Sequence

from common_bench.book.book_file import now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.store import LessonStore
from common_bench.lesson.worked_runs import no_reason
from common_bench.model.class_line import ClassResult
from common_bench.model.trouble import PoolTrouble


class Pooling:
    """The class dataset of a lesson. Nothing in it is deleted: a run is set aside by a person, with a reason."""

    def __init__(self, store: LessonStore, changes: Changes) -> None:
        self._store, self._changes = store, changes

    def class_result(self) -> ClassResult:
        """Points, class line and finding. Raises PoolTrouble where the plan has no class graph."""
        return self._store.class_result()

    def send_to_pool(self, runs: Sequence[int]) -> Change:
        """Sends runs with their findings and conditions. Raises PoolTrouble where something is missing."""
        store = self._store
        rows: list[RowChange] = []
        for run_id in runs:
            run = store.run(run_id)
            alias = store.group(run.group).alias
            if not store.findings(run_id):
                raise PoolTrouble("run-without-finding", alias=alias, number=run.number)
            told = store.run_stated(run_id)
            missing = [each.name for each in store.plan.stated if each.name not in told]
            if missing:
                raise PoolTrouble("run-without-condition", missing=missing[0], alias=alias, number=run.number)
            if run_id not in store.pooled():
                rows.append(store.book.added("pooled", run=run_id, sent_at=now(), aside=""))
        if not rows:
            raise PoolTrouble("in-the-pool-already")
        return self._changes.do("Send findings to the pool", rows)

    def set_aside_in_pool(self, runs: Sequence[int], reason: str) -> Change:
        kept = no_reason(reason)
        rows = [self._store.book.changed("pooled", self._store.pooled()[run]["id"], aside=kept) for run in runs]
        return self._changes.do("Set aside in the pool", rows)

    def take_back_in_pool(self, runs: Sequence[int]) -> Change:
        rows = [self._store.book.changed("pooled", self._store.pooled()[run]["id"], aside="") for run in runs]
        return self._changes.do("Take back into the pool", rows)

    def open_pool(self, *, opened: bool) -> Change:
        row = self._store.book.changed("lesson", self._store.id, pool_open=int(opened))
        return self._changes.do("Open the pool" if opened else "Seal the pool", [row])
