"""A change taken back or done again, in words: what it was, and from what to what."""

from __future__ import annotations

from collections.abc import Callable

from common_bench.book.changes import Change, Row, RowChange
from common_bench.calibrate.curves import curve_name
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.pool_state import SEALED, WORDS
from common_bench.model.measured import written
from common_bench.model.plan_file import plan_from_text
from common_bench.model.trouble import Trouble

NOTHING = "nothing"


def change_words(lesson: OpenLesson, change: Change, *, undone: bool) -> str:
    """`Taken back: length of Basalt, from 0.600 ± 0.003 m to 0.500 ± 0.003 m.`"""
    head = f"{'Taken back' if undone else 'Done again'}: {change.label}"
    told = [words for row in change.rows if (words := _row_words(lesson, row, undone=undone))]
    if len(told) == 1:
        return f"{head}, {told[0]}."
    benches = {bench for row in change.rows if (bench := _bench_of(lesson, row))}
    return f"{head}, on {len(benches)} benches." if len(benches) > 1 else f"{head}."


def _row_words(lesson: OpenLesson, row: RowChange, *, undone: bool) -> str:
    """From what to what, where a row of this kind can say so."""
    said = SAID.get(row.table)
    if said is None:
        return ""
    before, after = (said(lesson, each) if each is not None else [NOTHING] for each in (row.before, row.after))
    if undone:
        before, after = after, before
    old = [each for each in before if each not in after]
    new = [each for each in after if each not in before]
    return f"from {', '.join(old) or NOTHING} to {', '.join(new) or NOTHING}" if old or new else ""


def _value(lesson: OpenLesson, row: Row) -> list[str]:
    return [written(row["value"], row["u"] or 0.0, row["unit"])] if row.get("value") is not None else [NOTHING]


def _kit(lesson: OpenLesson, row: Row) -> list[str]:
    kit = row.get("kit")
    return [lesson.store.kits[kit].name if kit in lesson.store.kits else "no kit"]


def _aside(lesson: OpenLesson, row: Row) -> list[str]:
    if "aside" not in row:
        return []
    return [f"set aside ({row['aside']})" if row["aside"] else "counted"]


def _pool(lesson: OpenLesson, row: Row) -> list[str]:
    return [WORDS.get(row["pool_open"] or SEALED, "open for some")] if "pool_open" in row else []


def _link(lesson: OpenLesson, row: Row) -> list[str]:
    return [str(row["link"])] if "link" in row else []


def _plan(lesson: OpenLesson, row: Row) -> list[str]:
    """All that a plan says, entry by entry."""
    try:
        plan = plan_from_text(row.get("text", ""), "the plan")
    except Trouble:
        return []
    points = [f"{p.label} = {written(p.value, p.u, s.unit)}" for s in plan.sensors for p in s.points]
    curves = [f"{curve_name(s.curve)} for {s.quantity}" for s in plan.sensors]
    conditions = [f"condition {c.name} ({c.unit}) ± {c.u:g}" for c in plan.conditions]
    runs = [plan.rule.words, f"{plan.runs_per_group} runs of each group"]
    return [*(f"“{line}”" for line in plan.workings), *points, *curves, *conditions, *runs]


SAID: dict[str, Callable[[OpenLesson, Row], list[str]]] = {
    "condition_value": _value, "run_condition": _value, "bench": _kit, "run": _aside, "pooled": _aside, "lesson": _pool,
    "kit": _link, "plan": _plan,
}  # fmt: skip


def _bench_of(lesson: OpenLesson, row: RowChange) -> str:
    """The bench that a row belongs to, as far as the row says it."""
    values = {**(row.before or {}), **(row.after or {})}
    kit = values.get("kit")
    if kit is None and row.table == "reference_point":
        kit = next((each["kit"] for each in lesson.store.rows("reference_point") if each["id"] == row.id), None)
    return f"kit {kit}" if kit is not None else f"run {values['run']}" if "run" in values else ""
