"""Stage 4 as actions: runs that begin and end, moments that are marked."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotInTime
from dataclasses import replace

import msgspec

from common_bench.book.book_file import now
from common_bench.book.changes import Change
from common_bench.book.removing import ASIDE as REMOVED
from common_bench.lesson.calibration_quality import quality
from common_bench.lesson.changes import Changes
from common_bench.lesson.predictions import Predictions
from common_bench.lesson.roster import Roster
from common_bench.lesson.run_words import sends_no
from common_bench.lesson.sensors import SensorStates
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.run import Ending
from common_bench.model.trouble import Trouble
from common_bench.record.apart import AnyEngine
from common_bench.record.rules import End, rule_of

BY_HAND = Ending("by-hand")
BEGUN_BY_MISTAKE = "begun by mistake"  # why a run is set aside whose beginning was undone
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
        predictions: Predictions, sensors: SensorStates,
    ) -> None:  # fmt: skip
        self._store, self._changes, self._roster, self._engine = store, changes, roster, engine
        self._working_up, self._predictions, self._sensors = working_up, predictions, sensors
        self._late: list[tuple[Future[dict[int, Trouble]] | Future[None], Mapping[int, int]]] = []
        self.is_late = False  # whether the last command is still to be done

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
        for each in store.plan.sensors:
            if kit is not None and (cause := quality(store, self._sensors, kit, each).cause):
                told.append(f"{each.quantity} is wrongly calibrated: {cause}")
        stated = store.stated(group)
        return told + [
            f"{each.name} is not set" for each in store.plan.stated if each.name not in stated and not each.per_run
        ]

    def begin_runs(self, groups: Sequence[int], at_most: float = 0.0) -> list[int]:
        """Begins a run on each bench that is ready, or has it wait for what the rule waits for; gives the groups. Each copies
        its conditions of now, and keeps what it lacks. at_most: s after which a run ends whatever the plan's rule says, 0 for as
        the rule says.

        Waits no longer than the engine's patience: where `is_late` then, the runs begin as soon as the engine can, and `tick` says
        what it refused. Raises PlanTrouble where the rule cannot be read, EngineTrouble where nothing is heard any more.
        """
        store = self._store
        asked: dict[int, tuple[int, int, int]] = {}  # group -> kit, run and its number
        rule = rule_of(store.plan, store.workings.kinds)
        if at_most:
            rule = replace(rule, ends=(*rule.ends, End("seconds", f"after {at_most:g} s", at_most)))
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
        refused: dict[int, Trouble] = {}
        if self._engine is not None and asked:
            by_kit = {kit: run for kit, run, _ in asked.values()}
            try:
                refused = self._soon(self._engine.begin_runs([*asked.values()], rule), by_kit)
            except Trouble as trouble:
                self._refuse(dict.fromkeys(by_kit.values(), trouble))
                store.refresh("run", "run_condition")
                raise
        self._refuse({run: refused[kit] for kit, run, _ in asked.values() if kit in refused})
        begun = {group: run for group, (kit, run, _) in asked.items() if kit not in refused}
        for group, run in begun.items():
            self._predictions.begun(group, run)
        store.refresh("run", "run_condition")
        return list(begun)

    def _soon(self, answer: Future[dict[int, Trouble]] | Future[None], runs: Mapping[int, int]) -> dict[int, Trouble]:
        """What the engine refuses, by kit; nothing yet where it is late. runs: kit -> its run, that begins."""
        assert self._engine is not None
        self.is_late = False
        try:
            return answer.result(self._engine.patience) or {}
        except NotInTime:
            self._late.append((answer, runs))
            self.is_late = True
            return {}

    def tick(self) -> list[Trouble]:
        """What was refused of the commands for which nobody waited, once the engine has answered. To be asked a few times a second."""
        told: list[Trouble] = []
        for answer, runs in [each for each in self._late if each[0].done()]:
            self._late.remove((answer, runs))
            try:
                refused = answer.result() or {}
            except Trouble as trouble:
                refused = dict.fromkeys(runs, trouble)
                told.append(trouble)
            self._refuse({runs[kit]: trouble for kit, trouble in refused.items() if kit in runs})
            told += [trouble for _, trouble in zip(range(1), refused.values(), strict=False) if trouble not in told]
            self._store.refresh("run")
        return told

    def _refuse(self, runs: Mapping[int, Trouble]) -> None:
        for run, trouble in runs.items():
            ending = Ending("begin-refused", {"told": trouble.what})
            self._store.book.amend("run", run, state="closed", ending=json.dumps(msgspec.to_builtins(ending)))

    def end_runs(self, groups: Sequence[int], ending: Ending = BY_HAND) -> list[int]:
        """Ends the runs under way on these benches, calls those off that wait; gives the ids of what ended, or ends as soon as the engine
        can, where it `is_late`. ending: why. Raises EngineTrouble where nothing is heard any more."""
        states = [state for group in groups if (state := self._roster.state(group)) is not None]
        under_way = [state for state in states if state.run is not None or state.waits is not None]
        if self._engine is not None and under_way:
            self._end([state.kit for state in under_way], ending)
        return [state.run.id for state in under_way if state.run is not None]

    def resume_runs(self, runs: Sequence[int]) -> list[int]:
        """Takes the end of runs back: they go on, nothing of them missing. Gives those that cannot, which stay ended; raises
        Trouble where that is all of them."""
        refused = self._resume(self._in_book(runs))
        if len(refused) == len(runs) and refused:
            raise next(iter(refused.values()))
        return [*refused]

    def _resume(self, runs: Sequence[int]) -> dict[int, Trouble]:
        """Resumes those of the runs that can go on; gives why each of the others cannot."""
        states = (
            {row["id"]: self._roster.state(row["group"]) for row in self._store.book.rows("run", id=list(runs))}
            if runs
            else {}
        )
        known = {run: state.kit for run, state in states.items() if state is not None}
        refused: dict[int, Trouble] = {run: Trouble("run-cannot-go-on") for run in runs if run not in known}
        if self._engine is not None and known:
            refused |= self._soon(self._engine.resume_runs([(kit, run) for run, kit in known.items()]), {})
        for run in runs:
            if run not in refused:
                self._working_up.reopened(run)
        self._store.refresh("run")
        return refused

    def _end(self, kits: Sequence[int], ending: Ending) -> None:
        assert self._engine is not None
        self._soon(self._engine.end_runs(kits, ending), {})

    def under_way(self, runs: Sequence[int]) -> dict[int, int]:
        """Run -> kit, of those among the runs that are recorded just now, or wait to begin."""
        return {
            each.id: state.kit
            for state in self._roster.kits.values()
            for each in (state.run, state.waits)
            if each is not None and each.id in runs
        }

    def undo_begin(self, runs: Sequence[int]) -> tuple[list[int], list[int]]:
        """Undoes the beginning of runs: those that are recorded end, those that wait are cancelled, and all are set aside;
        their readings stay in the book. Gives the runs that were recorded, and those that waited. Raises Trouble where the
        book has none of them any more, or where the engine does not answer."""
        there = self._in_book(runs)
        kits = self.under_way(runs)
        waited = [
            state.waits.id for state in self._roster.kits.values() if state.waits is not None and state.waits.id in kits
        ]
        if self._engine is not None and kits:
            self._end([*kits.values()], BY_HAND)
        self._set_aside(there, BEGUN_BY_MISTAKE)
        return [run for run in kits if run not in waited], waited

    def redo_begin(self, runs: Sequence[int], recorded: Sequence[int]) -> list[int]:
        """Brings back runs whose beginning was undone; those that were recorded then go on where they still can, and those
        that cannot are given. Raises Trouble where the book has none of them any more."""
        self._set_aside(self._in_book(runs), "")
        return [*self._resume(recorded)]

    def _in_book(self, runs: Sequence[int]) -> list[int]:
        """Those of the runs that were not removed for good; raises Trouble where all of them were."""
        rows = self._store.book.rows("run", id=list(runs)) if runs else []
        there = {row["id"] for row in rows if row["aside"] != REMOVED}
        if runs and not there:
            raise Trouble("runs-removed", count=len(runs))
        return [run for run in runs if run in there]

    def _set_aside(self, runs: Sequence[int], why: str) -> None:
        for run in runs:
            self._store.book.amend("run", run, aside=why)
        self._store.refresh("run")
        self._changes.tell_watchers()

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
