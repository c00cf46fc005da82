"""The benches: one row a group, with emblem, what matters in this stage, and the value now."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QMouseEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel, label, markup, rich
from common_bench.desk.look.pieces import emptied, say, set_property, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stand_in_panel import StandInPanel
from common_bench.lesson.words import bench_words
from common_bench.model.bench import Group

KIT_MIME = "application/x-common-bench-kit"
MANY = 8  # groups from which on rows are lower


class BenchRow(QFrame):
    """One bench: emblem, alias, what matters now, the value now."""

    def __init__(self, hub: Hub, group: Group) -> None:
        super().__init__()
        self.setObjectName("bench")
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._hub, self.group = hub, group.id
        self.setAcceptDrops(True)
        self.emblem = EmblemView(*hub.emblem_of(group), 26)
        self.alias = ShortLabel(group.alias, "name")
        self.line = ShortLabel("", "small")
        self.line.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.value = label("", "value")
        self.unit = label("", "small")
        for right in (self.value, self.unit):
            right.setAlignment(Qt.AlignmentFlag.AlignRight)
        row = QHBoxLayout(self)
        tight = 2 if len(hub.lesson.store.groups) > MANY else 7
        row.setContentsMargins(px(7), px(tight), px(6), px(tight))
        row.setSpacing(px(6))
        row.addWidget(self.emblem)
        row.addLayout(vbox(self.alias, self.line, spacing=2), 1)
        row.addLayout(vbox(self.value, self.unit, spacing=1))

    def refresh(self) -> None:
        words = bench_words(self._hub.lesson, self.group, self._hub.stage)
        say(self.alias, self._hub.name_of(self.group))
        say(self.line, words.line, "small" if words.tone == "plain" else words.tone)
        say(self.value, f"≈ {words.value}" if words.guess else words.value)
        say(self.unit, f"{words.unit} · a guess" if words.guess else words.unit)
        set_property(self, "chosen", self._hub.group == self.group)
        kit = self._hub.lesson.store.kit_of(self.group)
        set_property(self, "lit", kit is not None and kit == self._hub.lit)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        carried = event.mimeData() if event is not None else None
        if event is not None and carried is not None and carried.hasFormat(KIT_MIME):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """A kit is given to this group by dragging it here."""
        carried = event.mimeData() if event is not None else None
        if carried is not None:
            self._hub.give(int(carried.data(KIT_MIME).data()), self.group)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._hub.select(self.group)


class Benches(QFrame):
    """All benches, the quantities of the plan, and hands for stand-in kits."""

    WIDTH = 232

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("benches")
        self.setFixedWidth(px(self.WIDTH))
        self._hub = hub
        self.rows: list[BenchRow] = []
        self._hidden = hub.names_hidden
        self._list = QVBoxLayout()
        self._list.setSpacing(px(3))
        self._quantities = QVBoxLayout()
        self._quantities.setSpacing(px(5))
        self._empty = label("No groups yet. Name them in stage 1, Plan.", "soft", wrap=True)
        self.stand_ins = StandInPanel(hub)
        inner = QWidget()
        inner.setObjectName("paper")
        column = QVBoxLayout(inner)
        column.setContentsMargins(px(8), px(12), px(8), px(6))
        heading = label("BENCHES", "heading")
        heading.setContentsMargins(px(8), 0, 0, px(3))
        column.addWidget(heading)
        column.addWidget(self._empty)
        column.addLayout(self._list)
        column.addSpacing(px(10))
        self._quantities_heading = label("QUANTITIES", "heading")
        self._quantities_heading.setContentsMargins(px(8), 0, 0, px(2))
        column.addWidget(self._quantities_heading)
        column.addLayout(self._quantities)
        column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inner)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area, 1)
        outer.addWidget(self.stand_ins)

    def rebuild(self) -> None:
        groups = self._hub.lesson.store.groups
        hidden = self._hub.names_hidden
        if [row.group for row in self.rows] != [group.id for group in groups] or hidden != self._hidden:
            self._hidden = hidden
            for row in self.rows:
                self._list.removeWidget(row)
                row.hide()
                row.deleteLater()
            self.rows = [BenchRow(self._hub, group) for group in groups]
            for row in self.rows:
                self._list.addWidget(row)
        self._empty.setVisible(not groups)
        self._show_quantities()
        self.refresh()

    def _show_quantities(self) -> None:
        emptied(self._quantities)
        lesson = self._hub.lesson
        for working in lesson.store.workings.lines:
            if working.kind is None or working.read is None:
                continue
            unit = f"{working.kind.unit} · " if working.kind.unit and working.kind.shape != "events" else ""
            node = working.read.expression
            how = f"from {node.word}" if node.form == "calibrated" else working.kind.words
            if node.table is not None and node.table.opening and node.operands[0].form == "name":
                how = f"{node.table.opening} {node.operands[0].word}"
            made = rich(markup("<b>{name}</b> {how}", name=working.name, how=unit + how), "soft")
            made.setContentsMargins(px(8), 0, 0, 0)
            self._quantities.addWidget(made)
        self._quantities_heading.setVisible(bool(lesson.store.workings.lines))

    def refresh(self) -> None:
        many = len(self.rows) > MANY
        for row in self.rows:
            if not (
                many and self.isVisible() and row.visibleRegion().isEmpty()
            ):  # one that is scrolled to has its turn then
                row.refresh()
        self.stand_ins.refresh()
