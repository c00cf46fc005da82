"""The right side of Plan: what groups set, what a run is, what the class finds, what is told to the benches."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
from PyQt6.QtWidgets import QGridLayout, QWidget

from common_bench.desk.look.labels import label, set_tip
from common_bench.desk.look.pieces import Card, Field, button, choice, hbox, say, scrolled, set_property, vbox
from common_bench.desk.look.sheet import px
from common_bench.lesson.plan_checking import LINES, PlanFault
from common_bench.lesson.plan_details import DETAILS
from common_bench.model.plan import ClassGraph, Plan

LONG = 22  # characters of a field from which all of it is told when it is pointed at
Change = Callable[[Plan, str], bool]
"""Keeps another plan, with the words for it; whether it was kept."""


def keys_back(field: QWidget) -> None:
    """Enter has taken what was typed: keys do what their labels say again."""
    window = field.window()
    if window is not None:
        window.setFocus()


class TextFields:
    """Fields with names that are kept when they are left, and shown again as they stand."""

    def __init__(self, kept: Callable[[str, str], bool], *, brief: bool = False) -> None:
        """brief: there is little room, so that of a hint no more stands on a field than what comes before its “;”."""
        self._kept, self._brief = kept, brief
        self.fields: dict[str, Field] = {}
        self._shown: dict[str, str] = {}
        self._hints: dict[str, str] = {}

    def add(self, name: str, hint: str = "", field: Field | None = None) -> Field:
        """hint: what may be typed; all of it is told where the field is pointed at."""
        field = field or Field()
        field.setPlaceholderText(hint.partition(";")[0] if self._brief else hint)
        self._hints[name] = hint
        set_tip(field, hint)
        field.setMinimumWidth(px(40))
        field.editingFinished.connect(lambda: self._finished(name))
        field.returnPressed.connect(lambda: keys_back(field))
        self.fields[name] = field
        return field

    def show(self, name: str, text: str) -> None:
        field = self.fields[name]
        if field.hasFocus() and field.isModified():
            return
        if self._shown.get(name) != text or not field.property("wrong"):
            self._shown[name] = text
            if field.text() != text:
                field.setText(text)
                field.home(False)
                set_tip(field, text if len(text) > LONG else self._hints[name])
            set_property(field, "wrong", False)

    def _finished(self, name: str) -> None:
        field = self.fields[name]
        if not field.isModified() or field.text() == self._shown.get(name):
            return
        field.setModified(False)
        set_property(field, "wrong", not self._kept(name, field.text()))


class ClassFindsCard(Card):
    """y against x, the class finding, the accepted value; what is wrong under it."""

    def __init__(self, plan: Callable[[], Plan], change: Change) -> None:
        super().__init__("The class finds")
        self._plan, self._change = plan, change
        self.texts = TextFields(self._keep, brief=True)
        grid = QGridLayout()
        grid.setSpacing(px(4))
        rows = (
            ("y", "draws", "as tau, or period ^ 2; nothing: a table"), ("x", "against", "as resistance; nothing: groups compared"),
            ("finding", "finds", "as g = 4 * pi^2 / slope"), ("accepted", "expected", "as 9.81 ± 0.01 m/s²"),
        )  # fmt: skip
        for at, (name, words, hint) in enumerate(rows):
            grid.addWidget(label(words, "soft"), at, 0)
            grid.addWidget(self.texts.add(name, hint), at, 1)
        self.point = choice(["one a group", "one a run"])
        self.line = choice(list(LINES.values()))
        for box in (self.point, self.line):
            box.setMinimumWidth(px(60))
            box.activated.connect(lambda _: self._keep("", ""))
        self.of_line = [label("points", "soft"), label("with", "soft"), self.point, self.line]
        for at, each in enumerate(self.of_line):
            grid.addWidget(each, len(rows) + at % 2, at // 2)
        self.trouble = label("", "red", wrap=True)
        self.body.addLayout(grid)
        self.add(self.trouble)

    def show_plan(self, plan: Plan, faults: Sequence[PlanFault]) -> None:
        graph = plan.graph or ClassGraph("")
        for name in ("y", "x", "finding", "accepted"):
            self.texts.show(name, getattr(graph, name))
        self.point.setCurrentIndex(("group", "run").index(graph.point))
        self.line.setCurrentIndex(list(LINES).index(graph.line))
        for box in self.of_line:
            box.setVisible(plan.graph is not None and bool(graph.x))
        wrong = [each.sentence for each in faults if each.part == "graph"][:1]
        say(self.trouble, wrong[0] if wrong else "")
        self.trouble.setVisible(bool(wrong))

    def _keep(self, name: str, text: str) -> bool:
        plan = self._plan()
        graph = plan.graph or ClassGraph("")
        if name:
            graph = msgspec.structs.replace(graph, **{name: " ".join(text.split())})
        graph = msgspec.structs.replace(
            graph,
            point=("group", "run")[self.point.currentIndex()],
            line=list(LINES)[self.line.currentIndex()],
        )
        return self._change(
            msgspec.structs.replace(
                plan, graph=graph if graph.y or graph.x or graph.finding or graph.accepted else None
            ),
            "Change what the class finds",
        )


class BenchWordsCard(Card):
    """A few words on the tiles, and remarks that are proposed for moments."""

    def __init__(self, plan: Callable[[], Plan], change: Change) -> None:
        super().__init__("For the benches")
        self._plan, self._change = plan, change
        self.texts = TextFields(self._keep, brief=True)
        grid = QGridLayout()
        grid.setSpacing(px(4))
        rows = (
            ("calibrate", "calibrating", "as: touch nothing; they stand on each tile in stage 3"), ("record", "recording", "as: charge, then let go; they stand on each tile in stage 4"),
            ("remarks", "remarks", "as: bumped, let go early; offered for what is marked in a run"), ("gives", "in a word", "as: time constant; what the experiment gives, on the shelf"),
        )  # fmt: skip
        for at, (name, words, hint) in enumerate(rows):
            grid.addWidget(label(words, "soft"), at, 0)
            grid.addWidget(self.texts.add(name, hint), at, 1)
        self.body.addLayout(grid)

    def show_plan(self, plan: Plan) -> None:
        for stage in ("calibrate", "record"):
            self.texts.show(stage, plan.tiles.get(stage, ""))
        self.texts.show("remarks", ", ".join(plan.remarks))
        self.texts.show("gives", plan.gives)

    def _keep(self, name: str, text: str) -> bool:
        plan, words = self._plan(), " ".join(text.split())
        if name == "remarks":
            changed = msgspec.structs.replace(
                plan, remarks=tuple(each.strip() for each in words.split(",") if each.strip())
            )
        elif name == "gives":
            changed = msgspec.structs.replace(plan, gives=words)
        else:
            tiles = {**plan.tiles, name: words}
            changed = msgspec.structs.replace(plan, tiles={stage: said for stage, said in tiles.items() if said})
        return self._change(changed, "Change the words for the benches")


class DetailsCard(Card):
    """What is said of the chosen measured quantity besides its line."""

    def __init__(self, keep: Callable[[str, str], bool]) -> None:
        super().__init__("", name=True)
        self.texts = TextFields(keep)
        grid = QGridLayout()
        grid.setSpacing(px(4))
        grid.setColumnStretch(1, 1)
        for at, (entry, (words, hint, _)) in enumerate(DETAILS.items()):
            grid.addWidget(label(words, "soft"), at, 0)
            grid.addWidget(self.texts.add(entry, hint), at, 1)
        inside = vbox(grid, None, spacing=0)
        inside.setContentsMargins(0, 0, px(6), 0)
        self.body.addWidget(scrolled(inside), 1)

    def show_quantity(self, plan: Plan, at: int) -> None:
        sensor = plan.sensors[at]
        say(self.heading, f"{sensor.quantity[:24]}: details")
        say(self.aside, f"in {sensor.unit}" if sensor.unit else "a pure number")
        for entry, (_, _, shown) in DETAILS.items():
            self.texts.show(entry, shown(sensor))


class PagesHead(Card):
    """Which of the pages under the lines is shown."""

    def show_page(self, at: int) -> None:
        for place, made in enumerate(self.buttons):
            set_property(made, "role", "here" if place == at else "link")

    def __init__(self, pages: Sequence[tuple[str, Callable[[], object]]]) -> None:
        super().__init__()
        self.buttons = [button(words, act, role="link") for words, act in pages]
        self.body.setContentsMargins(px(4), 0, px(4), 0)
        self.body.addLayout(hbox(*self.buttons, None, spacing=10))
