"""What a line of the plan gives now on one bench, in few words."""

from __future__ import annotations

from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.plan_editing import PlanLine
from common_bench.lesson.words import shown
from common_bench.model.measured import NO_VALUE
from common_bench.model.trouble import Trouble
from common_bench.workings.over import number_from


def line_value(lesson: OpenLesson, group: int, line: PlanLine) -> str:
    """`4.92 V`, `12 so far`, the finding of the newest run; a dash where nothing is known yet."""
    kind = lesson.store.workings.kinds.get(line.name)
    if line.kind == "off" or kind is None:
        return "off" if line.kind == "off" else ""
    if kind.shape == "number":
        return _number(lesson, group, line, late=kind.late)
    state = lesson.roster.state(group) if group else None
    if state is None:
        return NO_VALUE
    if kind.shape == "fit":
        return ", ".join(name for name, _ in kind.parameters)
    if kind.shape == "events":
        count, _ = state.live.happened(line.name)
        return f"{count} so far"
    latest = state.live.latest(line.name)
    if latest is None or latest.value != latest.value:
        return NO_VALUE
    return f"{'≈ ' if latest.guess else ''}{shown(latest, lesson.store.sensor_of(line.name))} {latest.unit}".rstrip()


def _number(lesson: OpenLesson, group: int, line: PlanLine, *, late: bool) -> str:
    if not late:
        try:
            return str(number_from(line.text, {}))
        except Trouble:
            return ""
    for run in reversed(lesson.store.kept_runs(group)):
        for finding in lesson.store.findings(run.id):
            if finding.name == line.name:
                return str(finding.measured)
    return "after a run" if line.kind == "finding" else NO_VALUE
