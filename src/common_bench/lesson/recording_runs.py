"""Stage 4 as actions: runs that begin and end, moments that are marked."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

import msgspec

from common_bench.book.book_file import now
from common_bench.book.changes import Change
from common_bench.lesson.changes import Changes
from common_bench.lesson.predictions import Predictions
from common_bench.lesson.roster import Roster
from common_bench.lesson.run_words import sends_no
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.run import Ending
from common_bench.model.trouble import Trouble
from common_bench.record.apart import AnyEngine
from common_bench.record.rules import rule_of

BY_HAND = Ending("by-hand")
BEFORE_IT_SENDS = (
    "silent",
    "dead",
    "button",
    "menu",
    "listening",
)  # why a kit is not ready that is yet to begin to send


class Recording:
    """Begins and ends runs. A run is a fact: it is numbered, in the book before the engine records it, and never
    overwritten; what a person does to one afterwards is a change."""

    def __init__(
        self, store: LessonStore, changes: Changes, roster: Roster, engine: AnyEngine | None, working_up: WorkingUp,
        predictions: Predictions,
    ) -> None:  # fmt: skip
        self._store, self._changes, self._roster, self._engine = store, changes, roster, engine
        self._working_up, self._predictions = working_up, predictions

    def lacks(self, group: int) -> list[str]:
        """What a bench lacks that the plan asks for, in words, though a run could begin; empty where it is ready."""
        store, kit = self._store, self._store.kit_of(group)
        absent = self._roster.absent_channels(kit) if kit is not None else []
        told = [sends_no(channel) for channel in absent]
        told += [
            f"{each.quantity} is not calibrated"
            for each in store.plan.sensors
            if each.channel not in absent and (kit is None or store.calibration(kit, each.channel) is None)
        ]
        stated = store.stated(group)
        return told + [
            f"{each.name} is not set" for each in store.plan.stated if each.name not in stated and not each.per_run
        ]

    def begin_runs(self, groups: Sequence[int]) -> list[int]:
        """Begins a run on each bench that is ready, or has it wait for what the rule waits for; gives the groups. Each copies
        its conditions of now, and keeps what it lacks. Raises PlanTrouble where the rule cannot be read, EngineTrouble where none could
        begin in time."""
        store = self._store
        asked: dict[int, tuple[int, int, int]] = {}  # group -> kit, run and its number
        rule = rule_of(store.plan, store.workings.kinds)
        for group in groups:
            state = self._roster.state(group)
            why = self._roster.why_not_ready(group)
            if self._engine is None or state is None or (why and not (rule.begin.by_kit and why in BEFORE_IT_SENDS)):
                continue
            number = store.book.largest("run", "number", lesson=store.id, group=group) + 1
            run = store.book.record(
                "run", lesson=store.id, group=group, number=number, session=state.session, state="asked",
                began_at=now(), ending="", setting="", aside="", trouble="", lacks="\n".join(self.lacks(group)),
            )  # fmt: skip
            for name, value in store.stated(group).items():
                store.book.record("run_condition", run=run, name=name, **condition_row(value))
            asked[group] = (state.kit, run, number)
        try:
            refused = self._engine.begin_runs([*asked.values()], rule) if self._engine is not None and asked else {}
        except Trouble as trouble:
            if trouble.code != "engine-busy":  # else it is being done still
                self._refuse({run: trouble for _, run, _ in asked.values()})
            store.refresh("run", "run_condition")
            raise
        self._refuse({run: refused[kit] for kit, run, _ in asked.values() if kit in refused})
        begun = {group: run for group, (kit, run, _) in asked.items() if kit not in refused}
        for group, run in begun.items():
            self._predictions.begun(group, run)
        store.refresh("run", "run_condition")
        return list(begun)

    def _refuse(self, runs: Mapping[int, Trouble]) -> None:
        for run, trouble in runs.items():
            ending = Ending("begin-refused", {"told": trouble.what})
            self._store.book.amend("run", run, state="closed", ending=json.dumps(msgspec.to_builtins(ending)))

    def end_runs(self, groups: Sequence[int], ending: Ending = BY_HAND) -> list[int]:
        """Ends the runs under way on these benches, calls those off that wait; gives the ids of what ended. ending: why. Raises EngineTrouble where one could
        not be ended in time; it goes on then."""
        states = [state for group in groups if (state := self._roster.state(group)) is not None]
        under_way = [state for state in states if state.run is not None or state.waits is not None]
        if self._engine is not None and under_way:
            self._engine.end_runs([state.kit for state in under_way], ending)
        return [state.run.id for state in under_way if state.run is not None]

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
        return self.mark_all({run: t}, words)

    def mark_all(self, moments: Mapping[int, float], words: str) -> Change:
        """The same remark on several runs, each at its own s since it began."""
        rows = [self._store.book.added("moment", run=run, t=t, text=words) for run, t in moments.items()]
        return self._changes.do("Mark a moment", rows)

    def change_moment(self, moment: int, words: str) -> Change:
        """Another remark; without words the moment is taken off."""
        book = self._store.book
        if words.strip():
            return self._changes.do("Change a moment", [book.changed("moment", moment, text=words.strip())])
        return self._changes.do("Take a moment off", [book.gone("moment", moment)])

    def set_note(self, run: int, words: str) -> Change:
        """What whoever recorded a run wants to be known of it."""
        return self._changes.do("Note on a run", [self._store.book.changed("run", run, note=words.strip())])

    def set_practice(self, run: int, *, practice: bool) -> Change:
        """A run for practice counts nowhere, and is kept."""
        label = "Make a run practice" if practice else "Count a run"
        return self._changes.do(label, [self._store.book.changed("run", run, practice=int(practice))])
