"""Stage 1, Plan: what is measured and what comes of it, line by line; conditions, the run, what the class finds."""

from __future__ import annotations

import msgspec
from PyQt6.QtWidgets import QStackedWidget

from common_bench.desk.look.labels import set_tip
from common_bench.desk.look.pieces import (
    Card,
    Cell,
    Field,
    FoldedField,
    Table,
    button,
    hbox,
    say,
    scrolled,
    set_property,
    vbox,
)
from common_bench.desk.look.sheet import px
from common_bench.desk.plan.cards import (
    BenchWordsCard,
    ClassFindsCard,
    DetailsCard,
    PagesHead,
    TextFields,
)
from common_bench.desk.plan.editor import CheckedEditor
from common_bench.desk.plan.forms_list import FormsList
from common_bench.desk.plan.plan_files import PlanFiles
from common_bench.desk.plan.plan_lines import PlanLines
from common_bench.desk.plan.rule_card import RuleCard
from common_bench.desk.plan.trace import TraceCard
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.lesson.condition_text import condition_faults, condition_line, read_condition_line
from common_bench.lesson.line_offers import offers
from common_bench.lesson.line_values import line_value
from common_bench.lesson.plan_details import with_detail
from common_bench.lesson.plan_editing import PlanLine, lines_of
from common_bench.model.plan import Plan

RIGHT_WIDE = 312  # px
FORMS_PAGE = 3
BESIDE_BENCHES = 100  # px of their page that the head of the table and the field under it take


class PlanStage(StageView):
    """One list of lines; under it the trace, the details or the benches' conditions; the rest at the right.

    Whatever is typed is kept when it is left, faults and all: a line that cannot be used says why, and the others go on.
    """

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self.written = PlanLines(hub, self.refresh, self._line_chosen)
        self.texts = TextFields(self._keep_text)
        self.name = self.texts.add("name", "what the plan is called")
        self.name.setObjectName("quiet")
        set_property(self.name, "large", "true")
        self.name.setFixedWidth(px(270))
        self.about = self.texts.add("about", "what it is about, for people", FoldedField())
        self.about.setObjectName("quiet")
        self.title.hide()
        self.head.insertWidget(0, self.name)
        self.files = PlanFiles(hub, self)
        self.library = button("Keep among my plans", self.files.keep_in_library)
        self.head.addWidget(self.library)
        self.head.addWidget(button("A copy for a colleague…", self.files.ask_copy))
        self.head.addWidget(button("Go on: Plug in (2)", lambda: hub.go("plug"), role="main"))
        self.lines = self.written.card
        self.trace = TraceCard(hub, self.written.keep_line)
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
        self.forms = FormsList(lambda: offers(self.plan), self.written.take_offer)
        for page in (self.trace, self.details, benches, self.forms):
            self.pages.addWidget(page)
        self.which = PagesHead(
            [("Trace", lambda: self.turn_to(0)), ("Details (D)", lambda: self.turn_to(1)), ("Conditions of each bench (B)", lambda: self.turn_to(2)), ("Forms and ready lines (F)", lambda: self.turn_to(3))]
        )  # fmt: skip
        self.conditions = CheckedEditor(condition_faults, self._keep_conditions, 2)
        conditions = Card("Each group sets")
        say(conditions.aside, "name (unit) ± u")
        conditions.body.addLayout(self.conditions.layout_with_actions)
        self.run = RuleCard(
            lambda: self.plan, self.written.keep, lambda words: hub.tell(words, "red"), hub.messages.mended
        )
        self.finds = ClassFindsCard(lambda: self.plan, self.written.keep)
        self.told = BenchWordsCard(lambda: self.plan, self.written.keep)
        inside = vbox(conditions, self.run, self.finds, self.told, None, spacing=11)
        inside.setContentsMargins(0, 0, px(6), 0)
        right = scrolled(inside)
        right.setFixedWidth(px(RIGHT_WIDE))
        self.conditions.setMinimumWidth(px(60))
        left = vbox(self.about, self.lines, self.which, self.pages, spacing=8)
        self.lines.setMinimumHeight(px(150))
        self.pages.setMinimumHeight(px(70))
        left.setStretch(1, 3)
        left.setStretch(3, 2)
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

    def _line_chosen(self, line: PlanLine | None) -> None:
        if self.pages.currentIndex() == 1 and (line is None or not line.is_measured):
            self.pages.setCurrentIndex(0)

    # what is seen

    def refresh(self) -> None:
        plan = self.plan
        faults = self.store.faults
        self.texts.show("name", plan.name)
        self.texts.show("about", plan.about)
        self.written.show()
        self.lines.setMaximumHeight(self.lines.wanted)
        self.trace.show_line(self.written.chosen)
        line = self.written.chosen
        if line is not None and line.is_measured:
            self.details.show_quantity(plan, line.at)
        self.which.buttons[1].setEnabled(bool(plan.sensors))
        self.which.show_page(self.pages.currentIndex())
        self.conditions.show_kept("\n".join(condition_line(each) for each in plan.conditions))
        self.run.show_plan(plan, faults)
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
            for condition in plan.stated:
                value = kept.get(condition.name)
                shown: Cell = str(value) if value else ("not set", "amber")
                rows.append([group.alias, f"{condition.name}", shown])
        self.by_bench.fill(rows)
        self.by_bench.fit(max(2, (self.pages.height() - px(BESIDE_BENCHES)) // px(28)))

    def tick(self) -> None:
        lines = self.written.all
        self.lines.show_values([line_value(self.lesson, self.hub.group, line) for line in lines])

    def draw(self) -> None:
        self._ticks += 1
        if self._ticks % 2 == 0 and self.pages.currentIndex() == 0:
            self.trace.draw()

    def turn_to(self, page: int) -> None:
        line = self.written.chosen
        if page == 1 and (line is None or not line.is_measured):
            if not self.plan.sensors:
                self.hub.tell("Nothing is measured yet: begin with Measure…", "amber")
                return
            self.written.choose(lines_of(self.plan)[0])
        self.pages.setCurrentIndex(page)
        self.refresh()
        if page == FORMS_PAGE:
            self.forms.search.setFocus()

    # what is done

    def _keep_text(self, name: str, text: str) -> bool:
        words = " ".join(text.split())
        if name == "name" and not words:
            self.hub.tell("A plan needs a name. Nothing was changed.", "red")
            return False
        return self.written.keep(
            msgspec.structs.replace(self.plan, **{name: words}),
            "Rename the plan" if name == "name" else "Change what it is about",
        )

    def _keep_detail(self, entry: str, text: str) -> bool:
        line = self.written.chosen
        if line is None or not line.is_measured:
            return False
        return self.hub.try_to(
            lambda: self.written.keep(with_detail(self.plan, line.at, entry, text), f"Change {line.name}")
        )

    def _keep_conditions(self, lines: list[str]) -> None:
        kept = tuple(read_condition_line(line) for line in lines if line.strip())
        self.written.keep(msgspec.structs.replace(self.plan, conditions=kept), "Change the conditions")

    def _set_condition(self, row: int, _: int, text: str) -> None:
        conditions = self.plan.stated
        group = self.store.groups[row // len(conditions)]
        name = conditions[row % len(conditions)].name
        if self.hub.try_to(lambda: self.lesson.planning.set_condition(group.id, name, text)):
            value = self.store.stated(group.id)[name]
            self.hub.tell(f"{name} of {group.alias} is {value}.", "good", act="Take back", then=self.hub.undo)
        self.by_bench.refill()

    def _add_group(self) -> None:
        if self.alias.text().strip() and self.hub.try_to(
            lambda: self.hub.lesson.register.add_groups([self.alias.text()])
        ):
            self.alias.clear()
