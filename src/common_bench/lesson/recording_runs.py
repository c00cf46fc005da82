"""Stage 4 as actions: runs that begin and end, moments that are marked."""

from __future__ import annotations

import json
from collections.abc import Sequence

import msgspec

from common_bench.book.book_file import now
from common_bench.book.changes import Change
from common_bench.lesson.changes import Changes
from common_bench.lesson.roster import Roster
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.run import Ending
from common_bench.model.trouble import Trouble
from common_bench.record.engine import Engine
from common_bench.record.rules import Rule

BY_HAND = Ending("by-hand")


class Recording:
    """Begins and ends runs. A run is a fact: it is numbered, in the book before the engine records it, and never
    overwritten; what a person does to one afterwards is a change."""

    def __init__(
        self, store: LessonStore, changes: Changes, roster: Roster, engine: Engine | None, working_up: WorkingUp
    ) -> None:
        self._store, self._changes, self._roster, self._engine = store, changes, roster, engine
        self._working_up = working_up

    def begin_runs(self, groups: Sequence[int]) -> list[int]:
        """Begins a run on each bench that is ready; gives the groups. Each copies its conditions of now."""
        begun = []
        store, rule = self._store, Rule.of(self._store.plan.rule)
        for group in groups:
            state = self._roster.state(group)
            if self._engine is None or state is None or self._roster.why_not_ready(group):
                continue
            number = store.book.largest("run", "number", lesson=store.id, group=group) + 1
            run = store.book.record(
                "run", lesson=store.id, group=group, number=number, session=state.session, state="asked",
                began_at=now(), ending="", setting="", aside="", trouble="",
            )  # fmt: skip
            for name, value in store.stated(group).items():
                store.book.record("run_condition", run=run, name=name, **condition_row(value))
            try:
                self._engine.begin_run(state.kit, run, number, rule)
            except Trouble as trouble:
                ending = Ending("begin-refused", {"told": trouble.what})
                store.book.amend("run", run, state="closed", ending=json.dumps(msgspec.to_builtins(ending)))
                continue
            begun.append(group)
        store.refresh("run", "run_condition")
        return begun

    def end_runs(self, groups: Sequence[int], ending: Ending = BY_HAND) -> list[int]:
        """Ends the runs under way on these benches; gives their ids. ending: why. Raises EngineTrouble where one could
        not be ended in time; it goes on then."""
        ended = []
        for group in groups:
            state = self._roster.state(group)
            if self._engine is not None and state is not None and state.run is not None:
                self._engine.end_run(state.kit, ending)
                ended.append(state.run.id)
        return ended

    def resume_runs(self, runs: Sequence[int]) -> None:
        """Takes the end of runs back: they go on, nothing of them missing. Raises Trouble where one cannot."""
        kits = {
            row["id"]: self._roster.state(row["group"]) for row in self._store.book.rows("run") if row["id"] in runs
        }
        for run, state in kits.items():
            if self._engine is None or state is None:
                raise Trouble("run-cannot-go-on")
            self._engine.resume_run(state.kit, run)
            self._working_up.reopened(run)
        self._store.refresh("run")

    def set_aside_begun(self, runs: Sequence[int]) -> None:
        """Runs whose beginning was taken back: they stay, set aside, and can be taken back in their turn."""
        for run in runs:
            self._store.book.amend("run", run, aside="begun by mistake")
        self._store.refresh("run")

    def mark(self, run: int, t: float, words: str) -> Change:
        """Stamps a remark on a run, at t s since it began."""
        added = self._store.book.added("moment", run=run, t=t, text=words)
        return self._changes.do("Mark a moment", [added])
