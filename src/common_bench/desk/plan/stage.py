"""Stage 1, Plan: what is measured; its workings and conditions can be changed, with errors in place."""

from __future__ import annotations

import html
import re

import msgspec

from common_bench.calibrate.curves import curve_name
from common_bench.desk.look.pieces import Card, Cell, Field, Table, button, hbox, label, pretty, rich, say, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.plan.editor import CheckedEditor, Found
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.model.measured import number
from common_bench.model.plan import Condition, Plan, RulePlan
from common_bench.model.trouble import UnitTrouble
from common_bench.model.units import unit
from common_bench.workings.evaluate import check

CONDITION = re.compile(r"^\s*([^\W\d_]\w*)\s*(?:\(([^)]*)\))?\s*(?:(?:±|\+-)\s*([\d.,eE+-]+))?\s*(?:#\s*(.*))?$")


def condition_line(condition: Condition) -> str:
    """A condition as it is typed; `read_condition` reads it again."""
    unit_text = f" ({condition.unit})" if condition.unit else ""
    about = f"   # {condition.about}" if condition.about else ""
    return f"{condition.name}{unit_text} ± {condition.u:g}{about}"


def read_condition(line: str) -> Condition:
    """`length (m) ± 0.003   # remark`. Raises UnitTrouble in words."""
    found = CONDITION.match(line)
    if not found:
        raise UnitTrouble("not-a-condition")
    unit(found[2] or "")
    try:
        u = number(found[3]) if found[3] else 0.0
    except ValueError:
        raise UnitTrouble("condition-u-no-number", found=found[3]) from None
    return Condition(found[1], (found[2] or "").strip(), u, (found[4] or "").strip())


class PlanStage(StageView):
    """What is measured, workings and conditions with their troubles in place, the rule, the groups."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self.about = label("", "soft", wrap=True)
        self.measured = rich()
        self.workings = CheckedEditor(self._check_workings, self._keep_workings, 5)
        self.conditions = CheckedEditor(self._check_conditions, self._keep_conditions, 2)
        self.by_bench = Table(["bench", "condition", "type value ± uncertainty"], left=(0, 1), stretch=0, edit=(2,))
        self.by_bench.edited.connect(self._set_condition)
        self.rule = Field()
        self.runs = Field()
        for field in (self.rule, self.runs):
            field.setFixedWidth(px(70))
            field.editingFinished.connect(self._set_rule)
        self.by_bench.refilled.connect(self.refresh)
        self.pool = rich()
        self.alias = Field()
        self.alias.setPlaceholderText("name of another group")
        self.alias.setToolTip("A name for the bench, as Basalt; no student needs to be named")
        self.alias.returnPressed.connect(self._add_group)
        measured = Card("What is measured")
        measured.add(self.about, self.measured)
        workings = Card("Workings")
        say(workings.aside, "one a line: name = formula")
        workings.body.addLayout(self.workings.layout_with_actions)
        conditions = Card("Conditions")
        say(conditions.aside, "name (unit) ± usual uncertainty")
        conditions.body.addLayout(self.conditions.layout_with_actions)
        benches = Card("Conditions of each bench")
        benches.add(self.by_bench)
        benches.body.addStretch(1)
        benches.body.addLayout(hbox(self.alias, button("Add a group", self._add_group)))
        runs = Card("Runs")
        runs.body.addLayout(hbox(label("A run ends after"), self.rule, label("s  (0: by hand)", "soft"), None))
        runs.body.addLayout(hbox(label("Runs of each group"), self.runs, None))
        pool = Card("Pool")
        pool.add(self.pool)
        left = vbox(measured, workings, conditions, spacing=11)
        left.setStretch(1, 2)
        left.setStretch(2, 1)
        right = vbox(benches, runs, pool, spacing=11)
        right.setStretch(0, 1)
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 3)
        body.setStretch(1, 2)
        self.column.addLayout(body, 1)
        self.head.addWidget(button("Go on: Plug in (2)", lambda: hub.go("plug"), role="main"))

    def refresh(self) -> None:
        plan = self.hub.lesson.store.plan
        say(self.title, plan.name)
        say(
            self.subtitle,
            f"plan for class {self.hub.lesson.store.class_name}" if self.hub.lesson.store.class_name else "plan",
        )
        say(self.about, plan.about or "This plan has no description.")
        say(self.measured, self._measured_words(plan))
        self.workings.show_kept("\n".join(plan.workings))
        self.conditions.show_kept("\n".join(condition_line(each) for each in plan.conditions))
        for field, kept_text in ((self.rule, f"{plan.rule.seconds:g}"), (self.runs, str(plan.runs_per_group))):
            if not (field.hasFocus() and field.isModified()):
                field.setText(kept_text)
        rows: list[list[Cell]] = []
        for group in self.hub.lesson.store.groups:
            kept = self.hub.lesson.store.stated(group.id)
            for condition in plan.conditions:
                value = kept.get(condition.name)
                shown: Cell = str(value) if value else ("not set", "amber")
                rows.append([group.alias, f"{condition.name}", shown])
        self.by_bench.fill(rows)
        self.by_bench.fit(16)
        say(self.pool, self._pool_words(plan))

    def _measured_words(self, plan: Plan) -> str:
        lines = []
        for sensor in plan.sensors:
            points = ", ".join(f"{p.label}{' (check)' if p.check else ''}" for p in sensor.points)
            lines.append(
                f"<b>{html.escape(sensor.quantity)}</b> in {html.escape(sensor.unit)}, from the channel "
                f"<b>{html.escape(sensor.channel)}</b> through a {html.escape(curve_name(sensor.curve))}; reference points: {html.escape(points)}"
            )
            if sensor.steps:
                lines.append(f"&nbsp;&nbsp;before the curve: {html.escape('; '.join(sensor.steps))}")
            if sensor.old_after:
                lines.append(f"&nbsp;&nbsp;a calibration is old after {sensor.old_after} days")
        return "<br>".join(lines) or "No sensor is calibrated in this plan."

    def _pool_words(self, plan: Plan) -> str:
        graph = plan.graph
        findings = ", ".join(plan.findings) or "none"
        if graph is None:
            return f"Findings: <b>{html.escape(findings)}</b>. This plan has no class graph."
        accepted = f"; accepted value {html.escape(pretty(graph.accepted))}" if graph.accepted else ""
        return (
            f"Findings: <b>{html.escape(findings)}</b><br><b>{html.escape(pretty(graph.y))}</b> against <b>{html.escape(graph.x)}</b>; "
            f"class finding <b>{html.escape(pretty(graph.finding))}</b>{accepted}"
        )

    def _check_workings(self, lines: list[str]) -> list[Found]:
        filled = [(at, line) for at, line in enumerate(lines) if line.strip()]
        checked = check([line for _, line in filled], self.hub.lesson.store.channels)
        return [
            (at, working.trouble.start, working.trouble.end, f"{working.trouble.what} {working.trouble.do}")
            for (at, _), working in zip(filled, checked.lines, strict=True)
            if working.trouble
        ]

    def _keep_workings(self, lines: list[str]) -> None:
        self.hub.try_to(lambda: self.hub.lesson.planning.edit_workings(lines))

    def _check_conditions(self, lines: list[str]) -> list[Found]:
        found, names = [], set()
        for at, line in enumerate(lines):
            if not line.strip():
                continue
            try:
                condition = read_condition(line)
                if condition.name in names:
                    raise UnitTrouble("condition-twice", name=condition.name)
                names.add(condition.name)
            except UnitTrouble as trouble:
                found.append((at, 0, len(line), trouble.sentence))
        return found

    def _keep_conditions(self, lines: list[str]) -> None:
        kept = tuple(read_condition(line) for line in lines if line.strip())
        plan = msgspec.structs.replace(self.hub.lesson.store.plan, conditions=kept)
        self.hub.try_to(lambda: self.hub.lesson.planning.change_plan(plan, "Change the conditions"))

    def _set_condition(self, row: int, _: int, text: str) -> None:
        conditions = self.hub.lesson.store.plan.conditions
        group = self.hub.lesson.store.groups[row // len(conditions)]
        name = conditions[row % len(conditions)].name
        if self.hub.try_to(lambda: self.hub.lesson.planning.set_condition(group.id, name, text)):
            value = self.hub.lesson.store.stated(group.id)[name]
            self.hub.tell(f"{name} of {group.alias} is {value}.", "good", act="Take back", then=self.hub.undo)
        self.by_bench.refill()

    def _set_rule(self) -> None:
        plan = self.hub.lesson.store.plan
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
            if self.hub.try_to(lambda: self.hub.lesson.planning.change_plan(changed, "Change the rule")):
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

    def keys(self) -> Keys:
        return {"W": ("write workings", self.workings.setFocus)}
