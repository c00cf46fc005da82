"""Stage 6, Pool: the class graph, the class finding, who stands out; sealed until it is opened."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QWidget

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import (
    Card,
    Cell,
    Table,
    button,
    hbox,
    names_choice,
    pretty,
    say,
    scrolled,
    set_property,
    shortened,
    vbox,
)
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.pool.class_drawing import draw_class
from common_bench.desk.pool.finding_card import ClassFindingCard
from common_bench.desk.pool.out import ask_for_folder, export_to
from common_bench.desk.pool.place_rows import row_of_place, rows_by_group
from common_bench.desk.pool.scatter_bar import ScatterBar
from common_bench.desk.pool.sorting import Sorting
from common_bench.desk.pool.together_view import TogetherView
from common_bench.desk.pool.walk import WalkBack
from common_bench.desk.pool.who import WhoCard
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.exchange.tables import with_unit
from common_bench.lesson.pool_state import WITHOUT_NAMES
from common_bench.model.class_line import ClassResult, GroupPlace
from common_bench.model.measured import NO_VALUE, u_words
from common_bench.model.run import PoolRow
from common_bench.model.trouble import Trouble
from common_bench.pool.class_line import class_graph_of
from common_bench.pool.limits import limit_words
from common_bench.pool.power import power_words

NAMED = 76  # px that a group's name needs
THIS_LESSON = "this lesson"
STAYS_SEALED = " The pool stays sealed until you open it to the class."
SEALED = "Sealed. Groups cannot see each other's findings until you open the pool."
NAMELESS = "Open without names: everybody sees the values, nobody whose they are."


class PoolStage(StageView):
    """Sealed: how many are in. Open: the class graph, or a table of findings where the plan has none."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self._order: list[int] = []  # of groups by what they found, which says nothing of whose it is
        self.names = button("", self.hide_names)
        self.out = button("Export… (E)", self.export)
        self.aside = button("", self.ask_aside)
        self.open = button("", self.open_or_seal, role="main")
        self.which = names_choice(tip="Which pools are looked at")
        self.which.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.which.activated.connect(lambda _: self._show_which())
        self.steps, self.nameless = button("", self.show_next), button("Values first (V)", self.open_without_names)
        for widget in (self.which, self.nameless, self.steps, self.out, self.open):
            self.head.addWidget(widget)
        self.sealed_card = Card()
        self.sealed_words = label("", "title", wrap=True)
        self.sealed_more = label("", "soft", wrap=True)
        for words in (self.sealed_words, self.sealed_more):
            words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.sealed_count = label("", "huge")
        self.sealed_count.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.sealed_card.body.addStretch(1)
        self.sealed_card.add(self.sealed_count)
        self.sealed_card.add(self.sealed_words, self.sealed_more)
        self.sealed_card.body.addStretch(2)
        self.sealed_card.body.setContentsMargins(px(40), px(20), px(40), px(20))
        self.graph_card = Card()
        self.graph = Graph()
        self.graph_card.add(self.graph)
        self.table_card = Card()
        self.table = Table(["bench", "runs", "", "", "", "off the line (u)", "in?"], left=(0,), stretch=0)
        self.table.itemSelectionChanged.connect(self._choose_row)
        self.table_card.add(self.table)
        self.how = button("How it came about (K)", lambda: self.walk(), role="link")
        self.table_card.body.addLayout(hbox(self.names, None, self.how, self.aside))
        self.findings_card = Card("Findings of all groups")
        self.findings = Table(["bench"], left=(0,), stretch=0)
        self.findings_card.add(self.findings)
        self.findings_card.body.addStretch(1)
        self.sorts, self.findings_sort = Sorting(self.table, self.refresh), Sorting(self.findings, self.refresh)
        self._places: list[GroupPlace] = []  # as the table shows them
        self.walk = WalkBack(
            hub, self.graph, lambda: None if self._nameless else self._result(), (self.table, self.findings), self._name
        )
        left = vbox(self.sealed_card, self.graph_card, self.table_card, self.findings_card, spacing=11)
        left.setStretch(0, 1)
        left.setStretch(1, 1)
        left.setStretch(3, 1)
        self.finding_card = ClassFindingCard()
        self.scatter_card = Card("Where the scatter comes from")
        self.scatter = ScatterBar()
        self.within = label()
        self.between = label()
        self.more = label("", "soft", wrap=True)
        self.scatter_card.add(self.scatter)
        self.scatter_card.add(self.within, self.between, self.more)
        self.who_card = WhoCard(hub)
        self.state_card = Card()
        self.state = label("", wrap=True)
        self.state_card.add(self.state)
        self.state_card.body.addLayout(hbox(button("Export the lesson… (E)", self.export, role="link"), None))
        right = scrolled(vbox(self.finding_card, self.scatter_card, self.who_card, self.state_card, None, spacing=11))
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 67)
        body.setStretch(1, 33)
        self._own = QWidget()
        self._own.setLayout(body)
        self.together = TogetherView(hub, self.ask)
        self.column.addWidget(self._own, 1)
        self.column.addWidget(self.together, 1)

    def keys(self) -> Keys:
        return {
            "O": ("open or seal the pool", self.open_or_seal),
            "V": ("open it with values alone, names later", self.open_without_names),
            "P": ("send what counts and is not in", self.who_card.send_all),
            "G": ("show one group after another", self.show_next),
            "X": ("set this bench's findings aside or take them back", self.ask_aside),
            "N": ("hide or show the groups' names", self.hide_names),
            "E": ("export the lesson", self.export),
            "L": ("this lesson alone, or together with others", self.turn),
            "K": ("how a bench's number came about", self.walk),
            "S": (
                "sort the table by its next column",
                lambda: (self.sorts if self.table.isVisible() else self.findings_sort).next(),
            ),
        }

    # what is done

    def open_or_seal(self) -> None:
        opened = not self.store.pool_open or self._nameless
        if self.hub.try_to(lambda: self.lesson.pooling.open_pool(opened=opened)):
            words = "The pool is open: every group sees every finding." if opened else "The pool is sealed."
            self.hub.tell(words, "good", act="Take back", then=self.hub.undo)

    def open_without_names(self) -> None:
        if self.hub.try_to(lambda: self.lesson.pooling.open_pool(opened=True, names=False)):
            words = "The pool is open, and nobody sees whose findings they are until you show the names (O)."
            self.hub.tell(words, "good", act="Take back", then=self.hub.undo)

    def show_next(self) -> None:
        """The chosen bench, or the next that has sent something."""
        own = self._to_show
        if own is not None and self.hub.try_to(lambda: self.lesson.pooling.show_group(own)):
            self.hub.select(own)
            self.hub.tell(f"{self.hub.name_of(own)} is shown.", "good", act="Take back", then=self.hub.undo)

    @property
    def _to_show(self) -> int | None:
        chosen = self.hub.group
        return chosen if chosen not in self.store.pool_shown and self._own_rows() else self.lesson.pooling.next_to_show

    def turn(self) -> None:
        """To this lesson's pool alone, or to all together."""
        self.which.setCurrentIndex((self.which.currentIndex() + 1) % max(1, self.which.count()))
        self._show_which()

    def _show_which(self) -> None:
        together = self.which.currentIndex() > 0 and self.store.pool_open
        if together:
            self.together.look()
        self.refresh()

    def hide_names(self) -> None:
        self.hub.hide_names(hidden=not self.hub.names_hidden)
        self.refresh()

    @property
    def _nameless(self) -> bool:
        return bool(self.store.pool_state == WITHOUT_NAMES)

    def _own_rows(self) -> list[PoolRow]:
        return [row for row in self.hub.lesson.store.pool_rows() if row.group == self.hub.group]

    def ask_aside(self) -> None:
        rows = self._own_rows()
        if not rows or not self.hub.lesson.store.pool_open:
            self.hub.tell("Choose a bench whose findings are in the opened pool.", "amber")
            return
        runs = [row.run for row in rows]
        if all(row.aside for row in rows):
            self.hub.try_to(lambda: self.hub.lesson.pooling.take_back_in_pool(runs))
            return
        alias = self.hub.alias
        self.ask(
            f"Why is {alias} set aside?", "Set aside", lambda why: self.hub.lesson.pooling.set_aside_in_pool(runs, why),
            hint="as: length to be measured again",
        )  # fmt: skip

    def export(self) -> None:
        ask_for_folder(self.hub)

    def export_to(self, folder: str) -> None:
        export_to(self.hub, folder)

    def _result(self) -> ClassResult | None:
        try:
            return self.lesson.pooling.shown_result() if self.store.pool_shown else None
        except Trouble:
            return None

    def _choose_row(self) -> None:
        row = self.table.currentRow()
        if not self._nameless and self._result() is not None and 0 <= row < len(self._places):
            self.hub.select(self._places[row].group)

    # what is seen

    def refresh(self) -> None:
        lesson = self.hub.lesson
        graph, opened = class_graph_of(lesson.store.plan), bool(lesson.store.pool_shown)
        whole, nameless = lesson.store.pool_open, self._nameless
        title = (
            "Pool"
            if graph is None
            else f"{pretty(graph.y)} against {graph.x}"
            if graph.x
            else f"{pretty(graph.y)} of all groups"
        )
        say(self.title, title)
        together = opened and self.which.currentIndex() > 0
        say(self.subtitle, ("all classes together" if together else "all groups · this lesson") if opened else "sealed")
        self.open.setText(
            "Show the names (O)" if nameless else "Seal the pool (O)" if whole else "Open the pool to the class (O)"
        )
        set_property(self.open, "role", "" if whole and not nameless else "main")
        own = self._to_show
        self.steps.setVisible(not whole and own is not None)
        if own is not None:
            self.steps.setText(f"Show {shortened(self.hub.name_of(own))} (G)")
        self.nameless.setVisible(not opened)
        self.how.setVisible(not nameless)
        self.names.setText("Show groups' names (N)" if self.hub.names_hidden else "Hide groups' names (N)")
        for widget in (self.names, self.aside, self.out):
            widget.setVisible(whole and not nameless)
        self._offer_pools(opened=whole and not nameless)
        rows = self._own_rows()
        alias = shortened(self.hub.alias)
        self.aside.setText(
            f"Take {alias} back (X)" if rows and all(row.aside for row in rows) else f"Set {alias} aside… (X)"
        )
        self.aside.setEnabled(bool(rows))
        self.who_card.show_lesson(lesson)
        self.state_card.setVisible(not whole or nameless)
        sent, drawn = len({row.group for row in lesson.store.pool_rows()}), lesson.store.plan.graph is not None
        for card in (self.graph_card, self.finding_card, self.scatter_card):
            card.setVisible(opened and graph is not None)
        self.table_card.setVisible(opened and drawn and bool(sent))
        self.findings_card.setVisible(opened and not drawn and bool(sent))
        self.sealed_card.setVisible(not (opened and sent))
        say(self.sealed_count, f"{sent} of {len(lesson.store.groups)}")
        say(self.sealed_words, "groups have sent their findings")
        say(
            self.sealed_more,
            "The pool is sealed: nobody sees a neighbour's findings, so nobody copies them. Open it to the class when you are ready; "
            "it can be sealed again." if sent else f"Each group sends its own in stage 5, Work up, or all are sent here (P).{'' if opened else STAYS_SEALED}",
        )  # fmt: skip
        shown = len(lesson.store.pool_shown)
        say(self.state, NAMELESS if nameless else f"{shown} of {len(lesson.store.groups)} groups are shown, one after another." if opened and not whole else SEALED)  # fmt: skip
        if opened and graph is not None:
            self._show_result()
        if opened and not drawn:
            self._show_findings()

    def _offer_pools(self, *, opened: bool) -> None:
        others = len(self.together.pools.lessons())
        with_others = (
            f"with {others} other lesson{'s' if others != 1 else ''} of this plan" if others else "with other classes…"
        )
        offered = [THIS_LESSON, with_others] if opened else [THIS_LESSON]
        if [self.which.itemText(at) for at in range(self.which.count())] != offered:
            chosen = min(max(0, self.which.currentIndex()), len(offered) - 1)
            self.which.clear()
            self.which.addItems(offered)
            self.which.setCurrentIndex(chosen)
        self.which.setVisible(opened)
        together = self.which.currentIndex() > 0
        self._own.setVisible(not together)
        self.together.setVisible(together)

    def _name(self, alias: str, group: int) -> str:
        if self._nameless:
            return f"group {chr(65 + self._order.index(group) % 26)}" if group in self._order else "a group"
        if not self.hub.names_hidden:
            return alias
        return self.hub.name_of(group)

    def _show_result(self) -> None:
        try:
            result = self.hub.lesson.pooling.shown_result()
        except Trouble as trouble:
            self.finding_card.show_trouble(trouble.sentence)
            self.graph.wipe()
            return
        self.graph_card.setVisible(bool(result.points))
        by_value = sorted(result.places, key=lambda place: place.y.value)
        self._order = list(dict.fromkeys(place.group for place in by_value))
        draw_class(self.graph, result, self.store, self._name, alike=self._nameless or self.hub.names_hidden)
        self._show_table(result)
        self.finding_card.show_result(result, self.store.plan, self.hub.group, self._name)
        known = result.within == result.within and result.between == result.between
        own = [self.hub.anonymous(place.words) for place in result.places if place.group == self.hub.group and place.words]  # fmt: skip
        words = [
            *(own[:1] if palette().scale <= 1 and not self._nameless else []),
            *result.words,
            *self._limits(result),
        ]  # larger type has no room for more than the graph says
        self.scatter_card.setVisible(known or bool(words))
        for widget in (self.scatter, self.within, self.between):
            widget.setVisible(known)
        say(self.more, pretty(" ".join(words)))
        self.more.setVisible(bool(words))
        if known:
            unit = result.points[0].y.unit
            self.scatter.show_shares(result.within, result.between)
            say(self.within, f"within a group {u_words(result.within)} {unit}")
            say(self.between, f"between groups {u_words(result.between)} {unit}")

    def _limits(self, result: ClassResult) -> list[str]:
        if result.limits is None or result.finding is None or palette().scale > 1 or self._nameless:
            return []
        told = [limit_words(result.limits, result.x_label, result.finding)]
        chosen = any(place.words for place in result.places if place.group == self.hub.group)
        return told if chosen else [*told, power_words(result.seen_from)]  # a cause needs the room

    def _show_findings(self) -> None:
        """A plan without a class graph pools its findings all the same: one row a run, one column each."""
        plan, shown_groups = self.store.plan, self.store.pool_shown
        rows = [row for row in self.store.pool_rows() if row.group in shown_groups]
        conditions = [each.name for each in plan.stated]
        names = list(dict.fromkeys([*plan.findings, *(name for row in rows for name in row.findings)]))
        heads = ["bench", "run", *conditions, *names, "in?"]
        if self.findings.columnCount() != len(heads):
            self.findings.setColumnCount(len(heads))
        self.findings.setHorizontalHeaderLabels(self.findings_sort.heads(heads))
        cells: list[list[Cell]] = []
        for row in rows:
            tone = "soft" if row.aside else ""
            values = [row.conditions.get(name) for name in conditions] + [row.findings.get(name) for name in names]
            shown: list[Cell] = [(str(value) if value is not None else NO_VALUE, tone) for value in values]
            state: Cell = (f"set aside: {row.aside}", "amber") if row.aside else ("in", "good")
            cells.append([(self._name(row.alias, row.group), tone), (str(row.number), tone), *shown, state])
        order = self.findings_sort.order(cells)
        self.walk.runs[self.findings] = [rows[at].run for at in order]
        self.findings.fill([cells[at] for at in order])
        self.findings.fit(8 if self.graph_card.isVisibleTo(self) else 16)  # the strip of values needs the room
        say(self.subtitle, "all groups · this lesson" if rows else "nothing has been sent yet")

    def _show_table(self, result: ClassResult) -> None:
        lesson = self.hub.lesson
        finding = lesson.store.plan.findings[0] if lesson.store.plan.findings else ""
        by_group = rows_by_group(lesson.store.pool_rows())
        x_unit = result.points[0].x.unit if result.points else ""
        y_unit = result.points[0].y.unit if result.points else ""
        units = {row.findings[finding].unit for own in by_group.values() for row in own if finding in row.findings}
        heads = [
            "bench",
            "runs",
            with_unit(result.x_label, x_unit),
            with_unit(finding, next(iter(units), "")),
            with_unit(pretty(result.y_label), y_unit),
            "off the line (u)" if result.level is None else "off the others (u)",
            "in?",
        ]
        self.table.setColumnHidden(2, not result.x_label)
        self.table.setHorizontalHeaderLabels(self.sorts.heads(heads))
        self.table.setColumnHidden(
            3, palette().scale > 1 or finding == result.y_label
        )  # what it is made from stands in stage 5; larger type has no room
        rows = [row_of_place(place, by_group[place.group], finding, self._name) for place in result.places]
        order = sorted(range(len(rows)), key=lambda row: self._order.index(result.places[row].group)) if self._nameless else self.sorts.order(rows)  # fmt: skip
        self._places = [result.places[at] for at in order]
        self.walk.runs[self.table] = [min(place.of) for place in self._places]
        self.table.fill([rows[at] for at in order])
        self.table.fit(7)
        if self.table.columnWidth(0) < px(NAMED):  # names before numbers that stand in stage 5
            self.table.setColumnHidden(3, True)
        at = next((at for at, place in enumerate(self._places) if place.group == self.hub.group), -1)
        self.table.blockSignals(True)
        if self._nameless:
            self.table.setCurrentCell(-1, -1)
        else:
            self.table.selectRow(at)
        self.table.blockSignals(False)
