"""Another calibration for runs that were made before it: previewed, applied as one step, raw readings as they were."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Future

import msgspec

from common_bench.book.book_file import now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.many_runs import Again, ByPlan, reworked_all
from common_bench.lesson.store import LessonStore
from common_bench.lesson.worked_runs import Reworked, finding_rows
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.run import Run, RunSetting
from common_bench.model.trouble import CalibrationTrouble


class Applying:
    """Guarantees that runs keep the calibrations that they were made with until a person says otherwise, and that all that follows from
    another follows in one step of undo."""

    def __init__(self, store: LessonStore, changes: Changes, working_up: WorkingUp) -> None:
        self._store, self._changes, self._working_up = store, changes, working_up

    def runs_before(self, channel: str, groups: Sequence[int] | None = None) -> list[tuple[Run, RunSetting]]:
        """Runs that were made without the calibrations that are kept now, each with the setting that it would have.

        Runs that have them already, or were heard from another kit, are not among them.
        """
        store, found = self._store, []
        for run in store.kept_runs():
            kit = store.kit_of(run.group)
            newest = store.calibration(kit, channel) if kit is not None else None
            if (groups is not None and run.group not in groups) or newest is None or run.setting is None:
                continue
            if kit is None or not store.heard_from(run, kit) or newest.id in {c.id for c in run.setting.calibrations}:
                continue
            others = tuple(each for each in run.setting.calibrations if each.channel != channel)
            setting = msgspec.structs.replace(run.setting, calibrations=(*others, newest), applied_at=now())
            found.append((run, setting))
        return found

    def preview_later(self, channel: str, groups: Sequence[int] | None = None) -> Future[list[Reworked]]:
        """What would change if the calibrations that are kept now were applied to the runs made without them, by a worker."""
        store = self._store
        asked = [
            Again(run, setting, {finding.name: finding for finding in store.findings(run.id)})
            for run, setting in self.runs_before(channel, groups)
        ]
        plan, book = ByPlan(store.channels, store.plan.findings, store.plan.rule.used), store.book
        return self._working_up.submit(lambda: reworked_all(book, asked, plan, self._working_up.closing))

    def apply(self, reworked: Sequence[Reworked], label: str = "Apply the calibration to") -> Change:
        """Puts the calibrations in the place of those the runs were made with and works them up again, as one step of
        undo. Raw readings stay as they are; the pool follows."""
        rows: list[RowChange] = []
        book = self._store.book
        for each in reworked:
            if each.why_not is not None and each.before:
                continue
            values = {"setting": msgspec.json.encode(each.setting).decode(), "trouble": ""}
            rows.append(book.changed("run", each.run.id, **values))
            rows += finding_rows(book, each.run.id, each.before, each.after)
        if not rows:
            raise CalibrationTrouble("no-run-would-change")
        count = sum(1 for row in rows if row.table == "run")
        return self._changes.do(f"{label} {count} run{'s' if count != 1 else ''}", rows)
