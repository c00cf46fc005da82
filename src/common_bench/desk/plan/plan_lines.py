"""The plan's lines with all that can be done with them, as they stand in Plan and beside the graph in Work up."""

from __future__ import annotations

from collections.abc import Callable

from common_bench.desk.plan.lines import LinesCard
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.line_offers import Offer, ready_lines
from common_bench.lesson.plan_editing import (
    PlanLine,
    as_finding,
    copied,
    lines_of,
    looked_over,
    moved,
    shown_first,
    switched,
    with_line,
    with_lines,
    without_line,
)
from common_bench.lesson.plan_effect import effect_words
from common_bench.model.plan import Plan
from common_bench.model.trouble import Trouble


class PlanLines:
    """Guarantees that a line is kept as it was typed once it is left, faults and all; what is lost by a change is told
    before it is done."""

    def __init__(self, hub: Hub, changed: Callable[[], object], chosen: Callable[[PlanLine | None], object]) -> None:
        """changed: told that the list or what is chosen in it is another; chosen: told of a line that is pointed at, before
        that."""
        self._hub, self._changed, self._chosen = hub, changed, chosen
        self.at: int | None = 0  # which line is chosen
        self._read: tuple[Plan, list[PlanLine]] | None = None
        self.card = LinesCard(
            lambda: self.plan, self.channels, lambda line, text: looked_over(self.plan, line, text), self.keep_line, self.choose,
            [("Finding", "A number of each run, or no longer one", self.toggle_finding), ("On tiles", "Shown live, before all others", self.show_it),
             ("↑", "Further up", lambda: self.move_it(-1)), ("↓", "Further down", lambda: self.move_it(1)), ("Off", "Switched off, or on again", self.toggle_off),
             ("Copy", "Once more, under another name", self.copy_it), ("Take off", "Off the plan", self.remove_it)],
            lambda: ready_lines(self.plan, self._columns()),
        )  # fmt: skip

    @property
    def plan(self) -> Plan:
        return self._hub.lesson.store.plan

    def _columns(self) -> list[tuple[str, str]]:
        """(name, unit) of what kits send, the selected bench's first."""
        roster = self._hub.lesson.roster
        kits = [roster.state(self._hub.group)] if self._hub.group else []
        kits += list(roster.kits.values())
        found = [
            (c.name, c.unit)
            for kit in kits
            if kit is not None and kit.format is not None
            for c in kit.format.columns
            if c.role == "channel"
        ]
        return list(dict.fromkeys(found))

    def channels(self) -> list[str]:
        return list(
            dict.fromkeys([*(name for name, _ in self._columns()), *(each.channel for each in self.plan.sensors)])
        )

    @property
    def all(self) -> list[PlanLine]:
        """The plan's lines, read once for each state of it."""
        plan = self.plan
        if self._read is None or self._read[0] is not plan:
            self._read = plan, lines_of(plan)
        return self._read[1]

    @property
    def chosen(self) -> PlanLine | None:
        lines = self.all
        return lines[self.at] if self.at is not None and self.at < len(lines) else None

    def show(self) -> None:
        self.card.show_lines(self.all, self.at)
        line = self.chosen
        for words, made in self.card.acts.items():
            made.setEnabled(line is not None and not (words in ("Off", "Finding") and line.is_measured))

    def choose(self, line: PlanLine | None) -> None:
        """Another line; None: the one that waits to be written."""
        at = next(
            (
                at
                for at, each in enumerate(self.all)
                if line is not None and (each.is_measured, each.at) == (line.is_measured, line.at)
            ),
            None,
        )
        if at != self.at:
            self.at = at
            self._chosen(line)
            self._changed()

    # what is done

    def keep(self, plan: Plan, label: str) -> bool:
        """Keeps another plan. What runs that are there lose by it is told first, and done when somebody says so."""
        if plan == self.plan:
            return True
        words = effect_words(self._hub.lesson.store, plan)
        if not words:
            return self._hub.try_to(lambda: self._hub.lesson.planning.change_plan(plan, label))
        self._hub.tell(
            f"{words} {label}?", "amber", act="Do it", then=lambda: self._do(plan, label), ended=lambda: False
        )
        return True

    def _do(self, plan: Plan, label: str) -> None:
        self._hub.messages.clear()
        if self._hub.try_to(lambda: self._hub.lesson.planning.change_plan(plan, label)):
            done = f"Done: {label[0].lower()}{label[1:]}."
            self._hub.tell(done, "good", act="Take back", then=self._hub.undo)

    def keep_line(self, line: PlanLine | None, text: str) -> None:
        """A line as it was typed; nothing typed takes it off."""
        if not text.strip():
            if line is not None:
                self.keep(without_line(self.plan, line), f"Take {line.name} off")
            return
        try:
            plan = with_line(self.plan, line, text)
        except Trouble as trouble:
            at = self.at if line is not None and self.at is not None else len(self.card.rows) - 1
            self.card.rows[at].refuse(trouble.sentence)
            return
        if line is None:
            lines = lines_of(plan)
            self.at = len(plan.sensors) - 1 if len(plan.sensors) > len(self.plan.sensors) else len(lines) - 1
            self.card.rows[-1].field.put_back()
        self.keep(plan, f"Write {line.name}" if line is not None else "Write a line")
        self._changed()

    def take_offer(self, offer: Offer) -> None:
        """The lines of a form or of ready ones, at the end of the plan; the first of them is chosen."""
        before = self.plan
        self._hub.try_to(
            lambda: self.keep(with_lines(before, offer.lines), f"Add {offer.lines[-1].partition(' =')[0]}")
        )
        if self.plan is not before:
            self.at = len(before.sensors) + len(before.workings)
            self._changed()

    def _with_chosen(self, act: Callable[[PlanLine], Plan], label: str) -> None:
        line = self.chosen
        if line is not None:
            self._hub.try_to(lambda: self.keep(act(line), f"{label} {line.name}"))

    def toggle_finding(self) -> None:
        self._with_chosen(
            lambda line: as_finding(self.plan, line, found=line.name not in self.plan.findings), "Make a finding of"
        )

    def show_it(self) -> None:
        self._with_chosen(lambda line: shown_first(self.plan, line), "Show")

    def move_it(self, by: int) -> None:
        line = self.chosen
        if line is None or self.at is None:
            return
        count = len(self.plan.sensors if line.is_measured else self.plan.workings)
        to = min(count - 1, max(0, line.at + by))
        plan = moved(self.plan, line, by)
        self.at += to - line.at
        self.keep(plan, f"Move {line.name}")

    def toggle_off(self) -> None:
        self._with_chosen(lambda line: switched(self.plan, line), "Switch")

    def copy_it(self) -> None:
        self._with_chosen(lambda line: copied(self.plan, line), "Copy")

    def remove_it(self) -> None:
        self._with_chosen(lambda line: without_line(self.plan, line), "Take off")
