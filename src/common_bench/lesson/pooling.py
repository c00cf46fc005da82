"""Stage 6 as actions: findings sent to the pool, set aside and taken back, the pool opened and sealed."""

from __future__ import annotations

from collections.abc import Sequence

from common_bench.book.book_file import now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.pool_state import OPEN, SEALED, WITHOUT_NAMES, with_group
from common_bench.lesson.store import LessonStore
from common_bench.lesson.worked_runs import no_reason
from common_bench.model.class_line import ClassResult
from common_bench.model.trouble import PoolTrouble
from common_bench.workup.findings import ASKED_ABOUT, DOUBTS


class Pooling:
    """The class dataset of a lesson. Nothing in it is deleted: a run is set aside by a person, with a reason."""

    def __init__(self, store: LessonStore, changes: Changes) -> None:
        self._store, self._changes = store, changes

    def class_result(self) -> ClassResult:
        """Points, class line and finding. Raises PoolTrouble where the plan has no class graph."""
        return self._store.class_result()

    def shown_result(self) -> ClassResult:
        """The same of those groups whose findings may be seen."""
        return self._store.shown_result()

    def to_send(self) -> list[int]:
        """Runs that count, have a finding and are not in the pool."""
        there = self._store.pooled()
        return [run.id for run in self._store.kept_runs() if run.id not in there and self._store.findings(run.id)]

    def doubtful(self, runs: Sequence[int]) -> dict[int, str]:
        """run -> why one of its findings should be looked at before it goes to the pool, of those runs that have such a one."""
        found: dict[int, str] = {}
        for run in runs:
            for finding in self._store.findings(run):
                code = next((each for each in finding.doubts if each in ASKED_ABOUT), None)
                if code is not None:
                    found.setdefault(run, f"{finding.name} = {finding.measured}: {DOUBTS[code]}")
        return found

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

    def open_pool(self, *, opened: bool, names: bool = True) -> Change:
        """names: whose findings they are is seen too."""
        state = OPEN if names else WITHOUT_NAMES
        words = "Open the pool" if names else "Open the pool without names"
        return self._to_state(state if opened else SEALED, words if opened else "Seal the pool")

    def show_group(self, group: int) -> Change:
        """Opens the pool for one group more. Raises PoolTrouble where it is open, or the group is shown already."""
        store = self._store
        if store.pool_open:
            raise PoolTrouble("pool-is-open")
        alias = store.group(group).alias
        if group in store.pool_shown:
            raise PoolTrouble("shown-already", alias=alias)
        if not any(row.group == group for row in store.pool_rows()):
            raise PoolTrouble("nothing-to-show", alias=alias)
        return self._to_state(with_group(store.pool_state, store.group(group)), f"Show {alias} in the pool")

    @property
    def next_to_show(self) -> int | None:
        """The first group that has sent findings and is not shown yet."""
        store = self._store
        sent = {row.group for row in store.pool_rows()}
        return next((g.id for g in store.groups if g.id in sent and g.id not in store.pool_shown), None)

    def _to_state(self, state: int, words: str) -> Change:
        return self._changes.do(words, [self._store.book.changed("lesson", self._store.id, pool_open=state)])
