"""Recording without a window: what `common-bench record` does."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.register import MOST_GROUPS
from common_bench.links.address import Address, read_address
from common_bench.links.discovery import plugged_in, what_is_wrong
from common_bench.model.bench import Port
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.plan_file import plan_from_file
from common_bench.model.run import Ending
from common_bench.model.trouble import EngineTrouble, LinkTrouble, Trouble
from common_bench.record.rules import Rule
from common_bench.standins.classes import ALIASES

WORKED_UP_WITHIN = 20.0  # s for runs that have ended to be in the book with their findings
SURE_WITHIN = 4.0  # s for it to be sure how lines are read; then it is recorded as it is read so far
REFUSED_FOR = 3.0  # s that a book may refuse to be written, before it is written elsewhere
CLOSE_WITHIN = 10.0  # s
HEARD_WITHIN = 8.0  # s for a kit to be opened, found readable and its format worked out


def record(
    book: Path, links: Sequence[str], seconds: float | None, plan: Path | None, *, speed: float, say: Callable[[str], None],
    runs: int | None = None,
) -> None:  # fmt: skip
    """Runs on each link as the plan's rule says, one group a link. In a book that exists, a plan begins a further lesson.

    seconds: the longest that a run lasts, and waits to begin, whatever the rule says (None: as the rule says); runs: of each
    group, as many as the plan wants and the group does not have yet where none is said. Raises Trouble in words.
    """
    if len(set(links)) < len(links):
        raise Trouble("link-named-twice")
    for link in links:
        address = read_address(link)
        fault = what_is_wrong(address.path) if address.kind == "serial" else None
        if fault is not None:
            raise fault
    known, given = book.exists(), plan_from_file(plan) if plan is not None else None
    if known and given is not None:
        lesson = OpenLesson.begin(book, given, origin=str(plan), speed=speed)
    elif known:
        lesson = OpenLesson.open(book, speed=speed)
    else:
        by_hand = Plan("Recording", rule=RulePlan(), runs_per_group=1)
        lesson = OpenLesson.make(book, given or by_hand, "", ALIASES[: len(links)], speed=speed)
    told, stopped = Progress(say), False
    try:
        for trouble in lesson.notices:
            say(trouble.sentence)
        _check_rule(lesson.store.plan, seconds)
        groups = _benches(lesson, links, say if known else lambda _: None)
        _wait(lesson, groups)
        recorded = 0
        for _ in range(runs if runs is not None else _wanted(lesson, groups)):
            recorded += _record(lesson, groups, seconds, told)
        if not recorded:
            raise Trouble("nothing-recorded")
    except KeyboardInterrupt:
        stopped = True
    finally:
        _close(lesson, told)
    if told.moved is not None:
        raise told.moved
    if stopped:
        raise KeyboardInterrupt


def _check_rule(plan: Plan, seconds: float | None) -> None:
    """Raises Trouble where nothing but a person could say when a run ends."""
    if plan.rule.points:
        raise Trouble("record-by-points")
    if seconds is None and not Rule.of(plan.rule).ends:
        raise Trouble("record-without-end", plan=plan.name)


def _wanted(lesson: OpenLesson, groups: Sequence[int]) -> int:
    """Runs that the plan wants of each group and not all have yet; one where all have them."""
    kept = min((len(lesson.store.kept_runs(group)) for group in groups), default=0)
    return max(1, lesson.store.plan.runs_per_group - kept)


class Progress:
    """What is said while it goes on. Guarantees that what keeps all from being written is said at once, and once.
    moved: the book had to be written elsewhere."""

    def __init__(self, say: Callable[[str], None]) -> None:
        self.say = say
        self.moved: Trouble | None = None
        self._whole = ""

    def look(self, lesson: OpenLesson) -> None:
        for each in lesson.tick():
            if each.what in ("lost", "back"):
                group = lesson.store.group_at(each.kit)
                alias = lesson.store.group(group).alias if group else lesson.store.kits[each.kit].name
                back = "connected again; what is missing is kept as a gap."
                self.say(f"{alias}: {each.trouble.what if each.trouble is not None else back}")
            elif each.trouble is not None:
                self.moved = each.trouble if each.what == "moved" else self.moved
                self.say(each.trouble.sentence)
        whole = lesson.roster.snapshot.trouble
        code = whole.code if whole is not None else ""
        if whole is not None and code != self._whole:
            self.say(whole.sentence)
        self._whole = code

    def move_if_refused(self, lesson: OpenLesson, within: float = REFUSED_FOR) -> None:
        """Has the book written elsewhere, where it has been refused for so many s. Raises Trouble where there is no place."""
        until = time.monotonic() + within
        while (trouble := lesson.journal.trouble) is not None:
            if time.monotonic() > until:
                try:
                    place = lesson.rescue.move()
                except Trouble as none:
                    raise Trouble("unsaved", told=none.what) from none
                self.moved = Trouble("saved-elsewhere", told=trouble.what, rescued=str(place))
                return
            time.sleep(0.05)


def _close(lesson: OpenLesson, told: Progress) -> None:
    """Never hangs, and never leaves what was recorded in memory alone without saying so."""
    try:
        if lesson.store.runs():
            told.move_if_refused(lesson, 0.0)  # what is refused now would not be taken at the end either
        lesson.close(within=CLOSE_WITHIN)
    except EngineTrouble:
        if lesson.store.runs():
            told.move_if_refused(lesson, 0.0)
            lesson.close(within=CLOSE_WITHIN)


def _benches(lesson: OpenLesson, links: Sequence[str], say: Callable[[str], None]) -> list[int]:
    """A bench for each link: the one that its kit has in the book, a free one, or a new one; which is said."""
    known = {port.link: port for port in plugged_in()}
    kits = []
    for link in links:
        address = read_address(link)
        port = known.get(address.name)
        identity = port.identity if port else _identity(lesson, address)
        named = Port(_whole(link, address), Path(address.path or address.name).name, identity)
        kits.append(
            lesson.roster.hear(named, added=port is None)
        )  # what does not appear by itself is heard again by its address
    loose = [kit for kit in kits if lesson.store.group_at(kit) is None]
    free = [group for group in lesson.store.groups if lesson.store.kit_of(group.id) is None]
    if len(loose) > len(free):
        taken = {group.alias for group in lesson.store.all_groups}
        names = [*ALIASES, *(f"Bench {number}" for number in range(1, 2 * MOST_GROUPS))]
        lesson.register.add_groups([name for name in names if name not in taken][: len(loose) - len(free)])
    lesson.roster.give_kits_in_order(loose)
    for link, kit in zip(links, kits, strict=True):
        if kit in loose and (group := lesson.store.group_at(kit)) is not None:
            say(f"{link} is recorded at the bench of {lesson.store.group(group).alias}.")
    return [group for kit in kits if (group := lesson.store.group_at(kit)) is not None]


def _whole(link: str, address: Address) -> str:
    """A link with the whole path, so that the book's own place in the file system does not matter."""
    return link.replace(address.path, os.path.abspath(address.path), 1) if address.kind in ("serial", "file") else link


def _identity(lesson: OpenLesson, address: Address) -> str:
    """What a kit is known by whose port tells nothing of it: the one that the book has for this place, however its path
    was written."""
    if address.kind not in ("serial", "file"):
        return address.name
    place = os.path.realpath(address.path)
    for row in lesson.store.rows("kit"):
        before = read_address(row["link"])
        if before.kind == address.kind and os.path.realpath(before.path) == place and "#" not in row["identity"]:
            return str(row["identity"])
    return read_address(_whole(address.text, address)).name


def _wait(lesson: OpenLesson, groups: Sequence[int]) -> None:
    began = time.monotonic()
    deadline = began + HEARD_WITHIN
    while any(lesson.roster.why_not_ready(group) for group in groups):
        lesson.tick()
        late = (
            next(group for group in groups if lesson.roster.why_not_ready(group))
            if time.monotonic() > deadline
            else None
        )
        if late is not None:
            state = lesson.roster.state(late)
            if state is not None and state.trouble is not None:
                raise state.trouble
            raise LinkTrouble("no-readings-made-out", where=state.address.text if state is not None else "")
        time.sleep(0.05)
    while not all(lesson.roster.is_read_for_sure(group) for group in groups) and time.monotonic() < began + SURE_WITHIN:
        lesson.tick()
        time.sleep(0.05)


def _record(lesson: OpenLesson, groups: Sequence[int], seconds: float | None, told: Progress) -> int:
    """A run on each bench; gives how many readings they have."""
    before = len(lesson.store.kept_runs())
    begun = lesson.recording.begin_runs(groups, seconds or 0.0)
    for group in groups:
        if group not in begun:
            told.say(
                f"{lesson.store.group(group).alias}: {Trouble(lesson.roster.why_not_ready(group) or 'bench-not-ready').sentence}"
            )
    limit = time.monotonic() + seconds / lesson.engine.speed + 3.0 if seconds is not None else float("inf")
    while any(lesson.roster.busy(group) for group in begun) and time.monotonic() < limit:
        told.look(lesson)
        time.sleep(0.05)
    lesson.recording.end_runs(begun, Ending("time-over"))
    told.move_if_refused(lesson)
    kept_by = time.monotonic() + WORKED_UP_WITHIN
    while len(lesson.store.kept_runs()) < before + len(begun) and time.monotonic() < kept_by:
        told.look(lesson)
        time.sleep(0.05)
    recorded = 0
    for group in begun:
        run = lesson.store.runs(group)[-1]
        try:
            readings = len(lesson.working_up.replayed(run.id).t)
        except Trouble as trouble:
            told.say(f"{lesson.store.group(group).alias} run {run.number}: {trouble.sentence}")
            continue
        recorded += readings
        found = ", ".join(f"{f.name} = {f.measured}" for f in lesson.store.findings(run.id))
        told.say(
            f"{lesson.store.group(group).alias} run {run.number}: {readings} readings, {run.ended_by}"
            + (f"; {found}" if found else "")
        )
    return recorded
