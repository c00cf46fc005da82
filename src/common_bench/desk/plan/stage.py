"""Stage 1, Plan: what is measured and what comes of it, line by line; conditions, the run, what the class finds."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import msgspec
from PyQt6.QtWidgets import QStackedWidget

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Cell, Field, Table, button, hbox, say, scrolled, set_property, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.plan.anew import Anew
from common_bench.desk.plan.cards import (
    BenchWordsCard,
    ClassFindsCard,
    DetailsCard,
    PagesHead,
    TextFields,
    keys_back,
)
from common_bench.desk.plan.editor import CheckedEditor
from common_bench.desk.plan.forms_list import FormsList
from common_bench.desk.plan.lines import LinesCard
from common_bench.desk.plan.plan_files import PlanFiles
from common_bench.desk.plan.trace import TraceCard
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.lesson.condition_text import condition_faults, condition_line, read_condition_line
from common_bench.lesson.line_offers import Offer, offers, ready_lines
from common_bench.lesson.line_values import line_value
from common_bench.lesson.plan_details import with_detail
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
from common_bench.model.measured import number
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.trouble import Trouble

RIGHT_WIDE = 312  # px
FORMS_PAGE = 3


class PlanStage(StageView):
    """One list of lines; under it the trace, the details or the benches' conditions; the rest at the right.

    Whatever is typed is kept when it is left, faults and all: a line that cannot be used says why, and the others go on.
    """

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self._at: int | None = 0  # which line is chosen
        self._read: tuple[Plan, list[PlanLine]] | None = None
        self.texts = TextFields(self._keep_text)
        self.name = self.texts.add("name", "what the plan is called")
        self.name.setObjectName("quiet")
        set_property(self.name, "large", "true")
        self.name.setFixedWidth(px(270))
        self.about = self.texts.add("about", "what it is about, for people")
        self.about.setObjectName("quiet")
        self.title.hide()
        self.head.insertWidget(0, self.name)
        self.files, self.anew = PlanFiles(hub, self), Anew(hub)
        self.library = button("Keep among my plans", self.files.keep_in_library)
        self.head.addWidget(self.library)
        self.head.addWidget(button("A copy for a colleague…", self.files.ask_copy))
        self.head.addWidget(button("Go on: Plug in (2)", lambda: hub.go("plug"), role="main"))
        self.lines = LinesCard(
            lambda: self.plan, self._channels, lambda line, text: looked_over(self.plan, line, text), self.keep_line, self.choose,
            [("Finding", "A number of each run, or no longer one", self.toggle_finding), ("On tiles", "Shown live, before all others", self.show_it),
             ("↑", "Further up", lambda: self.move_it(-1)), ("↓", "Further down", lambda: self.move_it(1)), ("Off", "Switched off, or on again", self.toggle_off),
             ("Copy", "Once more, under another name", self.copy_it), ("Take off", "Off the plan", self.remove_it)],
            lambda: ready_lines(self.plan, self._columns()),
        )  # fmt: skip
        self.trace = TraceCard(hub, self.keep_line)
        self.details = DetailsCard(self._keep_detail)
        self.by_bench = Table(["bench", "condition", "type value ± uncertainty"], left=(0, 1), stretch=0, edit=(2,))
        self.by_bench.edited.connect(self._set_condition)
        self.by_bench.refilled.connect(self.refresh)
        self.alias = Field()
        self.alias.setPlaceholderText("name of another group")
        self.alias.setMinimumWidth(px(200))
        set_tip(self.alias, "A name for the bench, as Basalt; no student needs to be named")
        self.alias.returnPressed.connect(self._add_group)
        benches = Card()
        benches.add(self.by_bench)
        benches.body.addStretch(1)
        benches.body.addLayout(hbox(self.alias, button("Add a group", self._add_group), None))
        self.pages = QStackedWidget()
        self.forms = FormsList(lambda: offers(self.plan), self._take_offer)
        for page in (self.trace, self.details, benches, self.forms):
            self.pages.addWidget(page)
        self.which = PagesHead(
            [("Trace", lambda: self.turn_to(0)), ("Details (D)", lambda: self.turn_to(1)), ("Conditions of each bench (B)", lambda: self.turn_to(2)), ("Forms and ready lines (F)", lambda: self.turn_to(3))]
        )  # fmt: skip
        self.conditions = CheckedEditor(condition_faults, self._keep_conditions, 2)
        conditions = Card("Each group sets")
        say(conditions.aside, "name (unit) ± u")
        conditions.body.addLayout(self.conditions.layout_with_actions)
        self.rule, self.runs = Field(), Field()
        for field in (self.rule, self.runs):
            field.setFixedWidth(px(58))
            field.editingFinished.connect(self._set_rule)
            field.returnPressed.connect(partial(keys_back, field))
        run = Card("A run")
        run.body.addLayout(hbox(label("begins at once; ends after"), self.rule, label("s"), None, spacing=5))
        run.body.addLayout(hbox(label("(0: by hand);"), self.runs, label("runs of each group"), None, spacing=5))
        self.finds = ClassFindsCard(lambda: self.plan, self._keep)
        self.told = BenchWordsCard(lambda: self.plan, self._keep)
        inside = vbox(conditions, run, self.finds, self.told, None, spacing=11)
        inside.setContentsMargins(0, 0, px(6), 0)
        right = scrolled(inside)
        right.setFixedWidth(px(RIGHT_WIDE))
        self.conditions.setMinimumWidth(px(60))
        left = vbox(self.about, self.lines, self.which, self.pages, spacing=8)
        self.lines.setMinimumHeight(px(190))
        left.setStretch(1, 5)
        left.setStretch(3, 4)
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 1)
        self.column.addLayout(body, 1)
        self._ticks = 0

    def keys(self) -> Keys:
        return {
            "W": ("write a line", self.lines.new_line), "D": ("details of what is measured", lambda: self.turn_to(1)),
            "B": ("conditions of each bench", lambda: self.turn_to(2)), "F": ("forms and ready lines", lambda: self.turn_to(3)),
        }  # fmt: skip

    @property
    def plan(self) -> Plan:
        return self.store.plan

    def _columns(self) -> list[tuple[str, str]]:
        """(name, unit) of what kits send, the selected bench's first."""
        kits = [self.lesson.roster.state(self.hub.group)] if self.hub.group else []
        kits += list(self.lesson.roster.kits.values())
        found = [
            (c.name, c.unit)
            for kit in kits
            if kit is not None and kit.format is not None
            for c in kit.format.columns
            if c.role == "channel"
        ]
        return list(dict.fromkeys(found))

    def _channels(self) -> list[str]:
        return list(
            dict.fromkeys([*(name for name, _ in self._columns()), *(each.channel for each in self.plan.sensors)])
        )

    @property
    def all_lines(self) -> list[PlanLine]:
        """The plan's lines, read once for each state of it."""
        plan = self.plan
        if self._read is None or self._read[0] is not plan:
            self._read = plan, lines_of(plan)
        return self._read[1]

    @property
    def chosen_line(self) -> PlanLine | None:
        lines = self.all_lines
        return lines[self._at] if self._at is not None and self._at < len(lines) else None

    # what is seen

    def refresh(self) -> None:
        plan = self.plan
        faults, lines = self.store.faults, self.all_lines
        self.texts.show("name", plan.name)
        self.texts.show("about", plan.about)
        self.lines.show_lines(lines, self._at)
        self.trace.show_line(self.chosen_line)
        for words, made in self.lines.acts.items():
            made.setEnabled(
                self.chosen_line is not None and not (words in ("Off", "Finding") and self.chosen_line.is_measured)
            )
        line = self.chosen_line
        if line is not None and line.is_measured:
            self.details.show_quantity(plan, line.at)
        self.which.buttons[1].setEnabled(bool(plan.sensors))
        self.which.show_page(self.pages.currentIndex())
        self.conditions.show_kept("\n".join(condition_line(each) for each in plan.conditions))
        for field, kept_text in ((self.rule, f"{plan.rule.seconds:g}"), (self.runs, str(plan.runs_per_group))):
            if not (field.hasFocus() and field.isModified()):
                field.setText(kept_text)
        if self.pages.currentIndex() == FORMS_PAGE:
            self.forms.show_offers()
        self.finds.show_plan(plan, faults)
        self.told.show_plan(plan)
        self._show_benches(plan)
        self.tick()

    def _show_benches(self, plan: Plan) -> None:
        rows: list[list[Cell]] = []
        for group in self.store.groups:
            kept = self.store.stated(group.id)
            for condition in plan.conditions:
                value = kept.get(condition.name)
                shown: Cell = str(value) if value else ("not set", "amber")
                rows.append([group.alias, f"{condition.name}", shown])
        self.by_bench.fill(rows)
        self.by_bench.fit(6 if palette().scale == 1 else 3)

    def tick(self) -> None:
        lines = self.all_lines
        self.lines.show_values([line_value(self.lesson, self.hub.group, line) for line in lines])

    def draw(self) -> None:
        self._ticks += 1
        if self._ticks % 2 == 0 and self.pages.currentIndex() == 0:
            self.trace.draw()

    def turn_to(self, page: int) -> None:
        line = self.chosen_line
        if page == 1 and (line is None or not line.is_measured):
            if not self.plan.sensors:
                self.hub.tell("Nothing is measured yet: begin with Measure…", "amber")
                return
            self.choose(lines_of(self.plan)[0])
        self.pages.setCurrentIndex(page)
        self.refresh()
        if page == FORMS_PAGE:
            self.forms.search.setFocus()

    def choose(self, line: PlanLine | None) -> None:
        """Another line; None: the one that waits to be written."""
        lines = self.all_lines
        at = next(
            (
                at
                for at, each in enumerate(lines)
                if line is not None and (each.is_measured, each.at) == (line.is_measured, line.at)
            ),
            None,
        )
        if at != self._at:
            self._at = at
            if self.pages.currentIndex() == 1 and (line is None or not line.is_measured):
                self.pages.setCurrentIndex(0)
            self.refresh()

    # what is done

    def _keep(self, plan: Plan, label: str) -> bool:
        """Keeps another plan. What it does to runs that are there is told first, and done when somebody says so."""
        if plan == self.plan:
            return True
        words = effect_words(self.store, plan)
        if not words:
            kept = self.hub.try_to(lambda: self.lesson.planning.change_plan(plan, label))
            if kept:
                self.anew.offer("Kept.")
            return kept
        self.hub.tell(
            f"{words} {label}?", "amber", act="Do it", then=lambda: self._do(plan, label), ended=lambda: False
        )
        return True

    def _do(self, plan: Plan, label: str) -> None:
        self.hub.messages.clear()
        if self.hub.try_to(lambda: self.lesson.planning.change_plan(plan, label)):
            done = f"Done: {label[0].lower()}{label[1:]}."
            self.hub.tell(done, "good", act="Take back", then=self.hub.undo)
            self.anew.offer(done)

    def keep_line(self, line: PlanLine | None, text: str) -> None:
        """A line as it was typed; nothing typed takes it off."""
        if not text.strip():
            if line is not None:
                self._keep(without_line(self.plan, line), f"Take {line.name} off")
            return
        try:
            plan = with_line(self.plan, line, text)
        except Trouble as trouble:
            at = self._at if line is not None and self._at is not None else len(self.lines.rows) - 1
            self.lines.rows[at].refuse(trouble.sentence)
            return
        if line is None:
            lines = lines_of(plan)
            self._at = len(plan.sensors) - 1 if len(plan.sensors) > len(self.plan.sensors) else len(lines) - 1
            self.lines.rows[-1].field.put_back()
        self._keep(plan, f"Write {line.name}" if line is not None else "Write a line")
        self.refresh()

    def _take_offer(self, offer: Offer) -> None:
        """The lines of a form or of ready ones, at the end of the plan; the first of them is chosen."""
        before = self.plan
        self.hub.try_to(
            lambda: self._keep(with_lines(before, offer.lines), f"Add {offer.lines[-1].partition(' =')[0]}")
        )
        if self.plan is not before:
            self._at = len(before.sensors) + len(before.workings)
            self.refresh()

    def _with_chosen(self, act: Callable[[PlanLine], Plan], label: str) -> None:
        line = self.chosen_line
        if line is not None:
            self.hub.try_to(lambda: self._keep(act(line), f"{label} {line.name}"))

    def toggle_finding(self) -> None:
        self._with_chosen(
            lambda line: as_finding(self.plan, line, found=line.name not in self.plan.findings), "Make a finding of"
        )

    def show_it(self) -> None:
        self._with_chosen(lambda line: shown_first(self.plan, line), "Show")

    def move_it(self, by: int) -> None:
        line = self.chosen_line
        if line is None or self._at is None:
            return
        count = len(self.plan.sensors if line.is_measured else self.plan.workings)
        to = min(count - 1, max(0, line.at + by))
        plan = moved(self.plan, line, by)
        self._at += to - line.at
        self._keep(plan, f"Move {line.name}")

    def toggle_off(self) -> None:
        self._with_chosen(lambda line: switched(self.plan, line), "Switch")

    def copy_it(self) -> None:
        self._with_chosen(lambda line: copied(self.plan, line), "Copy")

    def remove_it(self) -> None:
        self._with_chosen(lambda line: without_line(self.plan, line), "Take off")

    def _keep_text(self, name: str, text: str) -> bool:
        words = " ".join(text.split())
        if name == "name" and not words:
            self.hub.tell("A plan needs a name. Nothing was changed.", "red")
            return False
        return self._keep(
            msgspec.structs.replace(self.plan, **{name: words}),
            "Rename the plan" if name == "name" else "Change what it is about",
        )

    def _keep_detail(self, entry: str, text: str) -> bool:
        line = self.chosen_line
        if line is None or not line.is_measured:
            return False
        return self.hub.try_to(lambda: self._keep(with_detail(self.plan, line.at, entry, text), f"Change {line.name}"))

    def _keep_conditions(self, lines: list[str]) -> None:
        kept = tuple(read_condition_line(line) for line in lines if line.strip())
        self._keep(msgspec.structs.replace(self.plan, conditions=kept), "Change the conditions")

    def _set_condition(self, row: int, _: int, text: str) -> None:
        conditions = self.plan.conditions
        group = self.store.groups[row // len(conditions)]
        name = conditions[row % len(conditions)].name
        if self.hub.try_to(lambda: self.lesson.planning.set_condition(group.id, name, text)):
            value = self.store.stated(group.id)[name]
            self.hub.tell(f"{name} of {group.alias} is {value}.", "good", act="Take back", then=self.hub.undo)
        self.by_bench.refill()

    def _set_rule(self) -> None:
        plan = self.plan
        try:
            seconds, runs = number(self.rule.text()), int(self.runs.text())
            if not 0 <= seconds <= 86_400 or not 1 <= runs <= 99:
                raise ValueError
        except ValueError:
            self.hub.tell(
                "A run lasts 0 to 86 400 s, and there are 1 to 99 runs for each group. Nothing was changed.", "red"
            )
            for field, kept_text in ((self.rule, f"{plan.rule.seconds:g}"), (self.runs, str(plan.runs_per_group))):
                field.setText(kept_text)
            return
        if (seconds, runs) != (plan.rule.seconds, plan.runs_per_group):
            changed = msgspec.structs.replace(plan, rule=RulePlan(seconds), runs_per_group=runs)
            if self.hub.try_to(lambda: self.lesson.planning.change_plan(changed, "Change the rule")):
                self.hub.tell(
                    f"Kept: {changed.rule.words}, {runs} run{'s' if runs != 1 else ''} of each group.", "good",
                    act="Take back", then=self.hub.undo,
                )  # fmt: skip
        for field, kept_text in ((self.rule, f"{seconds:g}"), (self.runs, str(runs))):
            field.setText(kept_text)

    def _add_group(self) -> None:
        if self.alias.text().strip() and self.hub.try_to(
            lambda: self.hub.lesson.register.add_groups([self.alias.text()])
        ):
            self.alias.clear()
