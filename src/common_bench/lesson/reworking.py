"""Another calibration for runs that were made before it: looked at first, applied on request, undone in one step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec

from common_bench.book.book import now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.kept import finding_row
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.run import Finding, Run, RunSetting
from common_bench.model.trouble import CalibrationTrouble, Trouble
from common_bench.record.replay import replay
from common_bench.workup.findings import findings_of


@dataclass(frozen=True)
class Reworked:
    """A run as another calibration would make it: its findings before and after, by name."""

    run: Run
    setting: RunSetting
    before: dict[str, Finding]
    after: list[Finding]
    why_not: str = ""


def preview_applying(lesson: OpenLesson, channel: str, groups: Sequence[int] | None = None) -> list[Reworked]:
    """What would change if the calibrations that are kept now were applied to the runs made without them.

    Changes nothing. Runs that have them already, or were heard from another kit, are not in it.
    """
    found = []
    for run in lesson.kept_runs():
        kit = lesson.kit_of(run.group)
        newest = lesson.calibration(kit, channel) if kit is not None else None
        if (groups is not None and run.group not in groups) or newest is None or run.setting is None:
            continue
        if kit is None or not lesson.heard_from(run, kit) or newest.id in {c.id for c in run.setting.calibrations}:
            continue
        others = tuple(each for each in run.setting.calibrations if each.channel != channel)
        setting = msgspec.structs.replace(run.setting, calibrations=(*others, newest), applied_at=now())
        found.append(_reworked(lesson, run, setting))
    return found


def _reworked(lesson: OpenLesson, run: Run, setting: RunSetting) -> Reworked:
    before = {finding.name: finding for finding in lesson.findings(run.id)}
    try:
        replayed = replay(lesson.book, msgspec.structs.replace(run, setting=setting), lesson.channels)
        span = next((f.span for f in before.values()), (0.0, replayed.seconds))
        wanted = list(before) or [name for name in lesson.plan.findings if name in replayed.workings.kinds]
        after = findings_of(replayed.workings, replayed.results, span, wanted)
    except Trouble as trouble:
        return Reworked(run, setting, before, [], trouble.sentence)
    return Reworked(run, setting, before, after)


def apply_to_runs(lesson: OpenLesson, reworked: Sequence[Reworked]) -> Change:
    """Puts the calibrations in the place of those the runs were made with and works them up again, as one step of
    undo. Raw readings stay as they are; the pool follows."""
    rows: list[RowChange] = []
    for each in reworked:
        if each.why_not and each.before:
            continue
        setting = msgspec.json.encode(each.setting).decode()
        rows.append(lesson.book.changed("run", each.run.id, setting=setting))
        for finding in each.after:
            values = finding_row(finding)
            if finding.name in each.before:
                rows.append(lesson.book.changed("finding", each.before[finding.name].id, made_at=now(), **values))
            else:
                rows.append(lesson.book.added("finding", run=each.run.id, made_at=now(), **values))
    if not rows:
        raise CalibrationTrouble("no earlier run would change.", do="Nothing needs doing.")
    count = sum(1 for row in rows if row.table == "run")
    return lesson.do(f"Apply the calibration to {count} run{'s' if count != 1 else ''}", rows)
