"""A lesson as it is held: one book, one engine, and what everybody who looks at it needs to know."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path
from typing import Any

import msgspec

from common_bench.book.book import Book, now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.kept import finding_row
from common_bench.lesson.sensors import Sensors
from common_bench.model.plan import Plan, plan_to_text
from common_bench.model.run import Finding
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.record.engine import Happening
from common_bench.record.replay import Replayed, replay
from common_bench.record.rules import Rule
from common_bench.workup.findings import findings_of


class OpenLesson(Sensors):
    """The lesson that a book is open at, with the engine that hears its kits.

    Questions are answered from what the book holds (read again after every change); actions that a
    person can take back give a Change and tell `changed`; facts (heard, recorded) are added for good.
    Used from one thread.
    """

    def __init__(self, book: Book, *, speed: float = 1.0, live: bool = True) -> None:
        super().__init__(book, speed=speed, live=live)
        self._closed = False
        self.changed: list[Callable[[Change | None], None]] = []
        self._replays: dict[int, Replayed] = {}
        self._worked: set[int] = set()  # runs that were worked up or tried; 0 once any were looked at

    @classmethod
    def make(cls, path: Path, plan: Plan, class_name: str, aliases: Sequence[str], *, speed: float = 1.0) -> OpenLesson:
        """A new book with one lesson of a plan, and a group for each alias."""
        book = Book.make(path)
        rows = [book.added("plan", name=plan.name, text=plan_to_text(plan), kept_at=now())]
        rows.append(
            book.added("lesson", plan=rows[0].id, class_name=class_name, held_on=date.today().isoformat(), pool_open=0)
        )
        book.apply("Make the book", rows)
        lesson = cls(book, speed=speed)
        if aliases:
            lesson.do("Name the groups", lesson.group_rows(aliases))
        return lesson

    @classmethod
    def open(cls, path: Path, *, speed: float = 1.0, readonly: bool = False) -> OpenLesson:
        return cls(Book.open(path, readonly=readonly), speed=speed, live=not readonly)

    def close(self) -> None:
        """Ends runs and links, keeps what they ended with, and lets the book go. Doing it again does nothing."""
        if self._closed:
            return
        self._closed = True
        if self.live:
            self.engine.stop()
            self.journal.close()
            for kit in list(self.engine.ears):
                self._close_hearing(kit)
        self.book.close()

    def do(self, label: str, rows: Sequence[RowChange]) -> Change:
        """Makes a change that can be undone, and tells everybody who watches."""
        change = self.book.apply(label, rows)
        self._follow(change, change)
        return change

    def undo(self, change: Change) -> None:
        self.book.undo(change)
        self._follow(change, None)

    def redo(self, change: Change) -> None:
        self.book.redo(change)
        self._follow(change, None)

    def _follow(self, change: Change, new: Change | None) -> None:
        tables = {row.table for row in change.rows}
        self.refresh(*tables)
        self._steady.clear()
        for row in change.rows:
            if row.table == "run":
                self._replays.pop(row.id, None)
        if self.live:
            if tables & {"calibration", "bench", "kit"}:
                for kit in list(self.engine.ears):
                    self.engine.calibrate(kit, self.calibrations(kit))
            if "kit" in tables:
                self._follow_kits()
            if "plan" in tables:
                self.engine.work(self.workings)
        for tell in self.changed:
            tell(new)

    def begin_runs(self, groups: Sequence[int]) -> list[int]:
        """Begins a run on each bench that is ready; gives the groups. Each copies its conditions of now."""
        begun = []
        rule = Rule.of(self.plan.rule)
        for group in groups:
            ear = self.ear(group)
            if self.ready(group) or ear is None or ear.run is not None:
                continue
            number = self.book.largest("run", "number", lesson=self.id, group=group) + 1
            run = self.book.record(
                "run", lesson=self.id, group=group, number=number, hearing=ear.hearing, state="asked", began_at=now(),
                ended_by="", setting="", aside="",
            )  # fmt: skip
            for name, value in self.conditions(group).items():
                self.book.record("run_condition", run=run, name=name, value=value.value, u=value.u, unit=value.unit)
            try:
                self.engine.begin_run(ear.kit, run, number, rule)
            except Trouble as trouble:
                self.book.amend("run", run, state="closed", ended_by=trouble.what)
                continue
            begun.append(group)
        self._look_at_runs("run_condition")
        return begun

    def end_runs(self, groups: Sequence[int]) -> None:
        for group in groups:
            ear = self.ear(group)
            if ear is not None and ear.run is not None:
                self.engine.end_run(ear.kit, "ended by hand")

    def keep_moment(self, run: int, t: float, words: str) -> None:
        """Stamps a remark on a run that is being recorded, at t s since it began."""
        self.book.record("moment", run=run, t=t, text=words)
        self.refresh("moment")

    def happenings(self) -> list[Happening]:
        """What the engine tells since last asked; ended runs are worked up and formats kept."""
        found: list[Happening] = []
        while not self.engine.happenings.empty():
            found.append(self.engine.happenings.get())
        if any(each.what.startswith("run-") for each in found) or not self._worked:
            self.journal.flush()
            self._look_at_runs()
        for each in found:
            ear = self.engine.ears.get(each.kit)
            if each.what == "format" and ear is not None and ear.chain.reader.format is not None:
                self._keep_format(each.kit, ear)
            elif each.what == "relayed" and ear is not None:
                self._relay(each.kit, each.words)
        return found

    def _look_at_runs(self, *tables: str) -> None:
        """Reads the runs again; whatever has ended and has no finding yet is worked up before anybody sees it."""
        self.refresh("run", *tables)
        known = {row["run"] for row in self.rows("finding")} | self._worked
        for run in self.kept_runs():
            if run.id not in known:
                self._work_up_ended(run.id)
        self._worked |= {run.id for run in self.kept_runs()} | {0}

    def _work_up_ended(self, run: int) -> None:
        try:
            for finding in self.worked_up(run, None):
                self.book.record("finding", run=run, made_at=now(), **finding_row(finding))
        except Trouble:
            return  # a run with nothing in it; the work-up stage says why
        finally:
            self.refresh("finding")

    def replayed(self, run: int) -> Replayed:
        """The run computed again from its bytes. Raises FindingTrouble for an empty or open one."""
        if run not in self._replays:
            found = self.run(run)
            if found.state != "closed":
                raise FindingTrouble(f"run {found.number} is still being recorded.", do="Wait until it has ended.")
            if len(self._replays) >= 8:
                self._replays.pop(next(iter(self._replays)))
            self._replays[run] = replay(self.book, found, self.channels)
        return self._replays[run]

    def worked_up(self, run: int, span: tuple[float, float] | None) -> list[Finding]:
        """The plan's findings over a span of a run (None: all of it). Raises Trouble in words."""
        replayed = self.replayed(run)
        workings = replayed.workings
        wanted = [name for name in self.plan.findings if name in workings.kinds] or list(self.plan.findings)
        return findings_of(workings, replayed.results, span or (0.0, replayed.seconds), wanted)


def lesson_summary(lesson: OpenLesson) -> dict[str, Any]:
    """What `show` prints: the lesson with its groups, runs and findings."""
    return {
        "book": str(lesson.book.path),
        "plan": lesson.plan.name,
        "class": lesson.class_name,
        "held_on": lesson.row["held_on"],
        "pool": "open" if lesson.pool_open else "sealed",
        "groups": [
            {
                "alias": group.alias,
                "conditions": {name: str(value) for name, value in lesson.conditions(group.id).items()},
                "runs": [
                    {
                        "number": run.number,
                        "state": run.state,
                        "began_at": run.began_at,
                        "ended_by": run.ended_by,
                        "bytes": (run.end or 0) - (run.begin or 0),
                        "set_aside": run.aside,
                        "findings": {f.name: msgspec.to_builtins(f.measured) for f in lesson.findings(run.id)},
                    }
                    for run in lesson.runs(group.id)
                ],
            }
            for group in lesson.groups
        ],
    }
