"""What a line of the plan gives now on one bench, in few words."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.plan_editing import PlanLine
from common_bench.lesson.words import shown
from common_bench.model.block import Events, Series
from common_bench.model.measured import NO_VALUE
from common_bench.model.run import Finding
from common_bench.model.trouble import Trouble
from common_bench.record.live import Latest
from common_bench.record.replay import Replayed
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


def run_value(replayed: Replayed, findings: Mapping[str, Finding], line: PlanLine) -> str:
    """What a line gives in a run: its number over the span, how many events, its last value; what it is where the run has
    none of it."""
    kind = replayed.workings.kinds.get(line.name)
    if line.kind == "off" or kind is None:
        return "off" if line.kind == "off" else ""
    if line.name in findings:
        return str(findings[line.name].measured)
    found = replayed.results.get(line.name)
    if isinstance(found, Events):
        return f"{len(found)} in this run"
    if isinstance(found, Series):
        known = np.flatnonzero(np.isfinite(found.values))
        if not len(known):
            return NO_VALUE
        last = int(known[-1])
        u = float(found.part(last, last + 1).u[0])
        value = shown(Latest(float(found.t[last]), float(found.values[last]), u, found.unit, False), None)
        return f"last {value} {found.unit}".rstrip()
    if kind.shape == "fit":
        return ", ".join(name for name, _ in kind.parameters)
    return f"over the span, in {kind.unit}" if kind.unit else "over the span"


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
