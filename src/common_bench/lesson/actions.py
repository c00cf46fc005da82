"""What a person does in a lesson and can take back. Each action gives its Change and is one step of undo."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from common_bench.book.book import now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.hearing import alike
from common_bench.lesson.kept import finding_row
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import read_address
from common_bench.model.measured import Measured, read_measured
from common_bench.model.plan import AskPlan, Plan, as_bytes, plan_from_text, plan_to_text
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, PoolTrouble
from common_bench.workings.evaluate import check


def no_reason(reason: str) -> str:
    """The reason without spaces around it. Raises PoolTrouble where there is none."""
    if not reason.strip():
        raise PoolTrouble("a reason is missing.", do="Say why it is set aside, so that others can judge it.")
    return reason.strip()


# 1 Plan


def change_plan(lesson: OpenLesson, plan: Plan, label: str, also: Sequence[RowChange] = ()) -> Change:
    """Keeps an edited plan, with other rows in the same step. Raises Trouble where the plan cannot be used."""
    plan_from_text(plan_to_text(plan), "the plan")
    row = lesson.book.changed("plan", lesson.row["plan"], name=plan.name, text=plan_to_text(plan))
    return lesson.do(label, [row, *also])


def edit_workings(lesson: OpenLesson, lines: Sequence[str]) -> Change:
    """Replaces the plan's workings. Raises the first WorkingTrouble; the old ones then stay."""
    kept = tuple(line.strip() for line in lines if line.strip())
    checked = check(kept, lesson.channels)
    if checked.troubles:
        raise checked.troubles[0]
    return change_plan(lesson, msgspec.structs.replace(lesson.plan, workings=kept), "Change the workings")


def set_condition(lesson: OpenLesson, group: int, name: str, text: str) -> Change:
    """A group's condition from now on, as `0.752 ± 0.002 m`; the plan's uncertainty where none is given."""
    planned = lesson.plan.condition(name)
    value = read_measured(text, planned.unit)
    if not value.u:
        value = Measured(value.value, planned.u, value.unit)
    alias = lesson.group(group).alias
    values = {"value": value.value, "u": value.u, "unit": value.unit}
    for row in lesson.rows("condition_value"):
        if (row["lesson"], row["group"], row["name"]) == (lesson.id, group, name):
            return lesson.do(f"{name} of {alias}", [lesson.book.changed("condition_value", row["id"], **values)])
    added = lesson.book.added("condition_value", lesson=lesson.id, group=group, name=name, **values)
    return lesson.do(f"{name} of {alias}", [added])


def set_run_condition(lesson: OpenLesson, run: int, name: str, text: str) -> Change:
    """A condition of one run, corrected afterwards."""
    planned = lesson.plan.condition(name)
    value = read_measured(text, planned.unit)
    if not value.u:
        value = Measured(value.value, planned.u, value.unit)
    values = {"value": value.value, "u": value.u, "unit": value.unit}
    for row in lesson.rows("run_condition"):
        if (row["run"], row["name"]) == (run, name):
            return lesson.do(f"{name} of a run", [lesson.book.changed("run_condition", row["id"], **values)])
    return lesson.do(f"{name} of a run", [lesson.book.added("run_condition", run=run, name=name, **values)])


def add_groups(lesson: OpenLesson, aliases: Sequence[str]) -> Change:
    """Raises PlanTrouble for an alias that is empty or taken."""
    taken = {group.alias.lower() for group in lesson.groups}
    for alias in aliases:
        if not alias.strip() or alias.strip().lower() in taken:
            raise PlanTrouble(
                f"“{alias.strip()}” cannot be the alias of a group.", do="Choose one that no other group has."
            )
        taken.add(alias.strip().lower())
    return lesson.do("Add a group", lesson.group_rows([alias.strip() for alias in aliases]))


# 2 Plug in


def give_kit(lesson: OpenLesson, kit: int, group: int | None) -> Change:
    """Gives a kit to a group's bench (None: to nobody); whoever had it has it no longer."""
    rows: list[RowChange] = []
    for bench in lesson.rows("bench"):
        if bench["lesson"] != lesson.id:
            continue
        if bench["group"] == group:
            rows.append(lesson.book.changed("bench", bench["id"], kit=kit))
        elif bench["kit"] == kit:
            rows.append(lesson.book.changed("bench", bench["id"], kit=None))
    name = lesson.kits[kit].name
    to = lesson.group(group).alias if group is not None else "no bench"
    return lesson.do(f"Give {name} to {to}", rows)


def give_kits_in_order(lesson: OpenLesson, kits: Sequence[int]) -> Change | None:
    """Gives kits that belong to nobody to benches that have none, in order."""
    free = [group.id for group in lesson.groups if lesson.kit_of(group.id) is None]
    loose = [kit for kit in kits if lesson.group_at(kit) is None]
    benches = {row["group"]: row["id"] for row in lesson.rows("bench") if row["lesson"] == lesson.id}
    rows = [lesson.book.changed("bench", benches[group], kit=kit) for group, kit in zip(free, loose, strict=False)]
    return lesson.do("Give the kits to the benches in order", rows) if rows else None


def read_as(lesson: OpenLesson, kit: int, format: StreamFormat, *, every: bool = False) -> Change:
    """Reads a kit's lines in another way from now on; `every`: all kits whose lines have this shape, now and later.

    Raises Trouble while one of them records.
    """
    before = lesson.engine.ears[kit].chain.reader.format
    rows = []
    for each, ear in lesson.engine.ears.items():
        own = ear.chain.reader.format
        if ear.parent is not None or (each != kit and not (every and own and before and alike(own, before))):
            continue
        if any(one.run is not None for one in (ear, *ear.relayed.values())):
            raise PlanTrouble("how a kit is read cannot be changed during its run.", do="End the run first.")
        rows.append(lesson.book.changed("kit", each, format=msgspec.json.encode(format).decode()))
    if every:
        others = tuple(f for f in lesson.plan.formats if not (before and alike(f, before)) and not alike(f, format))
        plan = msgspec.structs.replace(lesson.plan, formats=(*others, format))
        rows.append(lesson.book.changed("plan", lesson.row["plan"], text=plan_to_text(plan)))
    return lesson.do("Read every kit like this" if every else f"Read {lesson.kits[kit].name} like this", rows)


def set_link(lesson: OpenLesson, kit: int, link: str) -> Change:
    """Another speed or other settings for a kit's link. Raises LinkTrouble where they cannot be."""
    address = read_address(link)
    return lesson.do(f"Set the link of {lesson.kits[kit].name}", [lesson.book.changed("kit", kit, link=address.text)])


def ask_for_readings(lesson: OpenLesson, kit: int, plan: AskPlan | None) -> Change:
    """Asks a kit for each reading; None: it sends by itself. Raises PlanTrouble where the plan cannot be."""
    if plan is not None and (not plan.text or not 0.1 <= plan.every <= 3600 or not 0.05 <= plan.within <= 600):
        raise PlanTrouble(
            "a kit is asked with some text, every 0.1 to 3600 s, and has 0.05 to 600 s to answer.", do="Change it."
        )
    text = msgspec.json.encode(plan).decode() if plan else ""
    name = lesson.kits[kit].name
    return lesson.do(f"Ask {name}" if plan else f"Ask {name} no longer", [lesson.book.changed("kit", kit, asking=text)])


ENDINGS = {"no ending": "", "LF": "\n", "CR": "\r", "CRLF": "\r\n"}


def send(lesson: OpenLesson, kit: int, text: str, ending: str = "LF") -> None:
    """Sends what somebody typed to a kit; what is sent is journalled. Raises Trouble where it cannot be."""
    lesson.engine.send(kit, as_bytes(text) + ENDINGS[ending].encode())


# 4 Record, 5 Work up


def set_aside_run(lesson: OpenLesson, run: int, reason: str) -> Change:
    return lesson.do("Set a run aside", [lesson.book.changed("run", run, aside=no_reason(reason))])


def take_back_run(lesson: OpenLesson, run: int) -> Change:
    return lesson.do("Take a run back", [lesson.book.changed("run", run, aside="")])


def choose_span(lesson: OpenLesson, run: int, span: tuple[float, float]) -> Change:
    """Works a run up over another span. Raises Trouble where that gives no finding; the old one then stays."""
    rows: list[RowChange] = []
    old = {finding.name: finding for finding in lesson.findings(run)}
    for finding in lesson.worked_up(run, span):
        values = finding_row(finding)
        if finding.name in old:
            rows.append(lesson.book.changed("finding", old[finding.name].id, made_at=now(), **values))
        else:
            rows.append(lesson.book.added("finding", run=run, made_at=now(), **values))
    return lesson.do("Choose the span", rows)


def mark(lesson: OpenLesson, run: int, t: float, words: str) -> Change:
    return lesson.do("Mark a moment", [lesson.book.added("moment", run=run, t=t, text=words)])


# 6 Pool


def send_to_pool(lesson: OpenLesson, runs: Sequence[int]) -> Change:
    """Sends runs with their findings and conditions. Raises PoolTrouble where something is missing."""
    rows: list[RowChange] = []
    for run_id in runs:
        run = lesson.run(run_id)
        alias = lesson.group(run.group).alias
        if not lesson.findings(run_id):
            raise PoolTrouble(
                f"{alias} run {run.number} has no finding yet.", do="Choose its span in stage 5, Work up."
            )
        conditions = lesson.run_conditions(run_id)
        missing = [each.name for each in lesson.plan.conditions if each.name not in conditions]
        if missing:
            raise PoolTrouble(
                f"the {missing[0]} of {alias} run {run.number} is not known.",
                do=f"Type the {missing[0]} beside the run.",
            )
        if run_id not in lesson.pooled():
            rows.append(lesson.book.added("pooled", run=run_id, sent_at=now(), aside=""))
    if not rows:
        raise PoolTrouble("these findings are in the pool already.", do="Nothing needs doing.")
    return lesson.do("Send findings to the pool", rows)


def set_aside_in_pool(lesson: OpenLesson, runs: Sequence[int], reason: str) -> Change:
    kept = no_reason(reason)
    rows = [lesson.book.changed("pooled", lesson.pooled()[run]["id"], aside=kept) for run in runs]
    return lesson.do("Set aside in the pool", rows)


def take_back_in_pool(lesson: OpenLesson, runs: Sequence[int]) -> Change:
    rows = [lesson.book.changed("pooled", lesson.pooled()[run]["id"], aside="") for run in runs]
    return lesson.do("Take back into the pool", rows)


def open_pool(lesson: OpenLesson, *, opened: bool) -> Change:
    label = "Open the pool" if opened else "Seal the pool"
    return lesson.do(label, [lesson.book.changed("lesson", lesson.id, pool_open=int(opened))])
