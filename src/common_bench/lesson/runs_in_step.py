"""Runs that follow the plan: when its lines change, every kept run is worked up by the lines of now."""

from __future__ import annotations

import json
import math
import threading
import time
from collections.abc import Sequence
from concurrent.futures import Future
from dataclasses import dataclass

import msgspec

from common_bench.book.changes import Change, RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.many_runs import Again, ByPlan, reworked_all
from common_bench.lesson.store import LessonStore
from common_bench.lesson.worked_runs import Reworked, finding_rows
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.run import Run, RunSetting

TELLS_AFTER = 1.5  # s of work, from which it is told how far it has come
QUIET = 0.3  # s without another change of the plan, after which its runs follow


@dataclass(frozen=True)
class InStep:
    """What came of it: runs that are worked up by the lines of now, and those that cannot be and stay as they were."""

    followed: tuple[Reworked, ...]
    refused: tuple[Reworked, ...]
    left: int = 0  # that were not reached before somebody stopped it


class RunsInStep:
    """Guarantees that runs and findings follow the lines of the plan as soon as nobody changes them any more, and follow
    them back when a change is taken back; that a run which the lines of now cannot work up keeps what it had; and that what
    was computed from a state that has changed meanwhile is not kept.

    It makes no step of undo: what follows from a change is taken back with it.
    """

    def __init__(self, store: LessonStore, changes: Changes, working_up: WorkingUp) -> None:
        self._store, self._working_up = store, working_up
        self._due = False
        self._since = 0.0
        self._under_way: Future[list[Reworked]] | None = None
        self._stop = threading.Event()
        self._begun = math.inf
        self._asked = 0
        self._stopped = self._once_more = False  # somebody has said stop; a run has come that is still to follow
        self.done = 0  # runs, of those that follow just now
        self.last: InStep | None = None
        changes.followers.append(self._follow)

    @property
    def is_busy(self) -> bool:
        return self._due or self._under_way is not None

    @property
    def progress(self) -> tuple[int, int] | None:
        """How many runs of how many have followed, where that takes long enough to be told."""
        lasts = self._under_way is not None and time.monotonic() - self._begun > TELLS_AFTER
        return (self.done, self._asked) if lasts else None

    def stop(self) -> None:
        """What has followed so far is kept; the other runs keep what they had, until `look` is asked for again."""
        self._stopped = True
        self._stop.set()

    def _follow(self, change: Change) -> None:
        tables = {row.table for row in change.rows}
        if "plan" in tables or (self._under_way is not None and tables & {"run", "finding"}):
            self.look()

    def look(self) -> None:
        """Looks anew, a little later, whether runs are behind the plan; what is under way is given up."""
        self._due, self._since = True, time.monotonic()
        self._stopped = self._once_more = False
        self._stop.set()
        self._under_way = None

    def look_at(self, run: int) -> None:
        """A run has ended: the plan's lines may have changed since it began. It follows after those that follow just now, and not where
        somebody has said stop."""
        setting = self._store.run(run).setting
        if setting is None or self._stopped or not self._is_other(setting):
            return
        if self.is_busy:
            self._once_more = True
        else:
            self.look()

    def _is_other(self, setting: RunSetting) -> bool:
        """Whether a run was worked up by other lines than the plan has now."""
        return (setting.workings, setting.raw) != (self._store.plan.in_use, self._store.plan.raw)

    def behind(self) -> list[tuple[Run, RunSetting]]:
        """Runs that were worked up by other lines than the plan has now, or without one of its findings, each with the
        setting that it would have."""
        plan, found = self._store.plan, []
        for run in self._store.kept_runs():
            if run.setting is None:
                continue
            if self._is_other(run.setting) or set(plan.findings) - {each.name for each in self._store.findings(run.id)}:
                found.append((run, msgspec.structs.replace(run.setting, workings=plan.in_use, raw=plan.raw)))
        return found

    def collect(self) -> bool:
        """Goes on; whether runs have followed just now, as `last` says. To be asked a few times a second."""
        if self._due and time.monotonic() - self._since >= QUIET:
            self._due = False
            self._begin()
        if self._under_way is None or not self._under_way.done():
            return False
        made, self._under_way = self._under_way.result(), None
        able = tuple(each for each in made if each.why_not is None)
        refused = tuple(each for each in made if each.why_not is not None)
        self._keep([*able, *(each for each in refused if not each.before)])
        self.last = InStep(able, refused, self._asked - len(made))
        if self._once_more:
            self.look()
        return True

    def _begin(self) -> None:
        store = self._store
        asked = [Again(*each, {f.name: f for f in store.findings(each[0].id)}) for each in self.behind()]
        if not asked:
            return
        self._stop = stop = threading.Event()
        self._begun, self._asked, self.done = time.monotonic(), len(asked), 0
        wanted, book = store.plan.findings, store.book
        plan = ByPlan(store.channels, wanted, store.plan.rule.used, wanted)

        def told(done: int) -> None:
            if self._stop is stop:
                self.done = done

        self._under_way = self._working_up.submit(lambda: reworked_all(book, asked, plan, stop, told))

    def _keep(self, reworked: Sequence[Reworked]) -> None:
        book, rows = self._store.book, list[RowChange]()
        for each in reworked:
            told = json.dumps(each.why_not.data) if each.why_not is not None else ""
            values = {"setting": msgspec.json.encode(each.setting).decode(), "trouble": told}
            rows.append(book.changed("run", each.run.id, **values))
            rows += finding_rows(book, each.run.id, each.before, each.after)
            self._working_up.let_go(each.run.id)
        book.complete(rows)
        self._store.refresh("run", "finding")
