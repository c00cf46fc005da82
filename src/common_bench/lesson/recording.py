"""Recording without a window: what `common-bench record` does."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from common_bench.lesson import actions
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import read_address
from common_bench.links.discovery import plugged_in, what_is_wrong
from common_bench.model.bench import Port
from common_bench.model.plan import Plan, RulePlan, plan_from_file
from common_bench.model.trouble import LinkTrouble, Trouble
from common_bench.standins.classes import ALIASES

HEARD_WITHIN = 8.0  # s for a kit to be opened, found readable and its format worked out


def record(
    book: Path, links: Sequence[str], seconds: float, plan: Path | None, *, speed: float, say: Callable[[str], None]
) -> None:
    """One run of `seconds` on each link, one group a link. Raises Trouble in words."""
    if len(set(links)) < len(links):
        raise Trouble("a link is named twice.", do="Name each kit once.")
    for link in links:
        address = read_address(link)
        fault = what_is_wrong(address.path) if address.kind == "serial" else None
        if fault is not None:
            raise fault
    if book.exists():
        if plan is not None:
            raise Trouble(
                "this book has its plan already.", where=str(book), do="Leave --plan away, or give a new book."
            )
        lesson = OpenLesson.open(book, speed=speed)
    else:
        lesson = OpenLesson.make(
            book, plan_from_file(plan) if plan else Plan("Recording"), "", ALIASES[: len(links)], speed=speed
        )
    try:
        for sentence in lesson.told:
            say(sentence)
        groups = _benches(lesson, links)
        _wait(lesson, groups)
        _record(lesson, groups, seconds, say)
    finally:
        lesson.close()


def _benches(lesson: OpenLesson, links: Sequence[str]) -> list[int]:
    known = {port.link: port for port in plugged_in()}
    kits = []
    for link in links:
        address = read_address(link)
        port = known.get(address.name)
        asked = Port(link, Path(address.path or address.name).name, port.identity if port else address.name)
        kits.append(lesson.hear(asked))
    missing = len(kits) - len(lesson.groups)
    if missing > 0:
        taken = {group.alias for group in lesson.groups}
        actions.add_groups(lesson, [alias for alias in ALIASES if alias not in taken][:missing])
    actions.give_kits_in_order(lesson, kits)
    return [group for kit in kits if (group := lesson.group_at(kit)) is not None]


def _wait(lesson: OpenLesson, groups: Sequence[int]) -> None:
    deadline = time.monotonic() + HEARD_WITHIN
    while any(lesson.ready(group) for group in groups):
        lesson.happenings()
        late = next(group for group in groups if lesson.ready(group)) if time.monotonic() > deadline else None
        if late is not None:
            ear = lesson.ear(late)
            raise (ear.trouble if ear and ear.trouble else None) or LinkTrouble(
                "no readings could be made out of what comes.",
                where=ear.address.text if ear else "",
                do="Look at it with: common-bench listen LINK",
            )
        time.sleep(0.05)


def _record(lesson: OpenLesson, groups: Sequence[int], seconds: float, say: Callable[[str], None]) -> None:
    plan = lesson.plan
    if plan.rule.seconds != seconds:
        actions.change_plan(lesson, msgspec.structs.replace(plan, rule=RulePlan(seconds)), "Set the rule")
    begun = lesson.begin_runs(groups)
    limit = time.monotonic() + seconds / lesson.engine.speed + 3.0
    while any(lesson.recording(group) for group in begun) and time.monotonic() < limit:
        _tell(lesson, say)
        time.sleep(0.05)
    lesson.end_runs(begun)
    _tell(lesson, say)
    for group in begun:
        run = lesson.runs(group)[-1]
        try:
            readings = len(lesson.replayed(run.id).t)
        except Trouble as trouble:
            say(f"{lesson.group(group).alias} run {run.number}: {trouble.sentence}")
            continue
        found = ", ".join(f"{f.name} = {f.measured}" for f in lesson.findings(run.id))
        say(
            f"{lesson.group(group).alias} run {run.number}: {readings} readings, {run.ended_by}"
            + (f"; {found}" if found else "")
        )


def _tell(lesson: OpenLesson, say: Callable[[str], None]) -> None:
    for each in lesson.happenings():
        if each.what in ("lost", "back"):
            group = lesson.group_at(each.kit)
            alias = lesson.group(group).alias if group else lesson.kits[each.kit].name
            say(f"{alias}: {each.words or 'connected again; what is missing is kept as a gap.'}")
