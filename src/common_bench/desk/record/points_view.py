"""Point by point: the points of the selected bench with those of the others, whether it stands still, what is next."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from common_bench.desk.graphs.live_trace import LiveTrace
from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel, label
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Cell, Table, emptied, hbox, say, scrolled, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.exchange.tables import with_unit
from common_bench.lesson.point_taking import PointState, PointTaking
from common_bench.lesson.point_words import bench_dots, point_rows, so_far_words, state_words
from common_bench.model.block import Floats

BESIDE_WIDE = 316  # px
SECONDS = 20.0  # that the strip shows
SYMBOLS = {"circle": "o", "square": "s", "triangle": "t1", "diamond": "d", "hexagon": "h", "cross": "+"}


class PointsView(QWidget):
    """The graph of one quantity against another grows for all benches; the selected one stands out."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self._hub = hub
        self.setObjectName("paper")
        self.emblem_place = hbox()
        self.alias, self.words = ShortLabel("", "name"), ShortLabel("", "soft")
        self.graph = Graph()
        self.graph_card = Card()
        head = hbox(self.emblem_place, self.alias, self.words, spacing=8)
        head.setStretch(2, 1)
        self.graph_card.body.addLayout(head)
        self.graph_card.body.addWidget(self.graph, 1)
        self.steady_words, self.now_words = label("", "name"), label("", "soft", wrap=True)
        self.trace = LiveTrace("#22303C")
        self.trace.setMinimumHeight(px(90))
        self.steady_card = Card()
        line = hbox(label("Steady?", "name"), self.steady_words, self.now_words, spacing=8)
        line.setStretch(2, 1)
        self.now_words.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.steady_card.body.addLayout(line)
        self.steady_card.body.addWidget(self.trace, 1)
        self.table = Table(["", "", ""], left=(0,), stretch=2)
        self.table_card = Card("Points")
        self.table_card.add(self.table)
        self.class_table = Table(["bench", "points", "now"], left=(0, 1), stretch=1, words=(0, 2))
        self.class_card = Card("Every bench")
        self.class_card.add(self.class_table)
        self.finding, self.finding_words = label("", "finding", wrap=True), label("", "small")
        self.finding_card = Card()
        self.finding_card.add(self.finding_words, self.finding)
        beside = scrolled(vbox(self.finding_card, self.table_card, self.class_card, None, spacing=11))
        beside.setFixedWidth(px(BESIDE_WIDE))
        self.steady_card.setMaximumHeight(px(180))
        self.graph_card.setMinimumHeight(px(260))
        left = QVBoxLayout()
        left.setSpacing(px(11))
        left.addWidget(self.graph_card, 5)
        left.addWidget(self.steady_card, 2)
        row = hbox(left, beside, spacing=11)
        row.setStretch(0, 1)
        row.setContentsMargins(0, 0, 0, 0)
        self.setLayout(row)

    @property
    def taking(self) -> PointTaking:
        return self._hub.lesson.point_taking

    def refresh(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        if not group or not self.taking.name:
            return
        bench = lesson.store.group(group)
        emptied(self.emblem_place)
        self.emblem_place.addWidget(EmblemView(bench.emblem.shape, bench.emblem.colour, 20))
        say(self.alias, bench.alias)
        self.trace.recolour(bench.emblem.colour)
        heads, rows = point_rows(lesson, group)
        self.table.setHorizontalHeaderLabels(heads)
        self.table.fill(rows)
        self.table.fit(12)
        say(self.table_card.heading, f"{bench.alias}'s points".upper())
        self._draw_points()
        self.tick()

    def tick(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        if not group or not self.taking.name:
            return
        states = {each.id: self.taking.state(each.id) for each in lesson.store.groups}
        words, tone = state_words(states[group])
        say(self.steady_words, words, tone)
        rows: list[list[Cell]] = []
        for each in lesson.store.groups:
            said, its_tone = state_words(states[each.id])
            rows.append([each.alias, bench_dots(self.taking, each.id), (said, its_tone)])
        self.class_table.fill(rows)
        self.class_table.fit(8 if palette().scale == 1 else 5)
        found = so_far_words(lesson, group)
        self.finding_card.setVisible(bool(found))
        say(self.finding_words, f"so far, from {len([p for p in self.taking.taken(group) if not p.aside])} points")
        say(self.finding, found.replace(" ± ", "\u00a0±\u00a0"))  # a line ends before a value rather than within it
        self._show_now(states[group])

    def _show_now(self, state: PointState) -> None:
        values = self.taking.now(self._hub.group)
        y, x = self.taking.axes
        told = []
        for name in (x, y):
            if name in values and np.isfinite(values[name].values[0]):
                told.append(f"{name} {values[name].values[0]:.4g} {values[name].unit}".rstrip())
        set_to = f"{state.next:g} {self._unit}: " if state.next is not None else ""
        say(self.now_words, f"{set_to}{' · '.join(told)}" if told else "")

    @property
    def _unit(self) -> str:
        visited = self._hub.lesson.store.plan.visited
        return visited.unit if visited is not None else ""

    def _draw_points(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        y, x = self.taking.axes
        kinds = lesson.store.workings.kinds
        units = [kinds[name].unit if name in kinds else "" for name in (y, x)]
        self.graph.wipe()
        self.graph.name_axes(with_unit(y, units[0]), with_unit(x, units[1]))
        say(self.words, f"{with_unit(y, units[0])} against {with_unit(x, units[1])}; the others faint")
        seen: list[Floats] = []
        for each in sorted(lesson.store.groups, key=lambda g: g.id == group):
            points = self.taking.at_points(each.id)
            if x not in points or y not in points:
                continue
            mine, colour = each.id == group, hue(palette(), each.emblem.colour)
            xs, ys = points[x].values, points[y].values
            seen += [np.array([xs, ys])] if len(xs) else []
            if mine and np.isfinite(xs + ys).sum() > 1:
                self._line(xs, ys, colour)
            if mine:
                u_x, u_y = (np.nan_to_num(points[name].u) for name in (x, y))
                self.graph.errors(xs, ys, u_x, u_y, colour)
            self.graph.points(
                xs, ys, SYMBOLS.get(each.emblem.shape, "o"), colour, size=13 if mine else 8, faint=not mine
            )
        now = self.taking.now(group)
        if x in now and y in now and np.isfinite(now[x].values + now[y].values).all():
            at = float(now[x].values[0]), float(now[y].values[0])
            self.graph.points([at[0]], [at[1]], "o", palette().copper, size=16, faint=True)
            self.graph.note("  now, not taken", *at, palette().copper)
            seen.append(np.array([[at[0]], [at[1]]]))
        for side in ("left", "bottom"):  # a scale without anything on it would be invented
            self.graph.getPlotItem().getAxis(side).setStyle(showValues=bool(seen))
        if not seen:
            say(
                self.words,
                "no point yet: R begins a run on every bench, and space takes the first once it stands still",
            )
        if seen:
            all_ = np.concatenate(seen, axis=1)
            self.graph.frame_values(all_[1])
            known = all_[0][np.isfinite(all_[0])]
            if len(known):
                room = 0.12 * (float(np.ptp(known)) or 1.0)
                self.graph.setXRange(float(known.min()) - room, float(known.max()) + 1.8 * room, padding=0)

    def _line(self, xs: Floats, ys: Floats, colour: str) -> None:
        known = np.isfinite(xs + ys)
        if float(np.ptp(xs[known])) > 0:
            slope, level = np.polyfit(xs[known], ys[known], 1)
            ends = np.array([xs[known].min(), xs[known].max() + 0.3 * np.ptp(xs[known])])
            self.graph.line(ends, slope * ends + level, colour, 1.2, dashed=True)

    def draw(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        state = lesson.roster.state(group) if group else None
        sensor = lesson.store.sensor()
        if state is None or sensor is None or math.isnan(state.live.last_t):
            return
        picture = state.live.picture(sensor.quantity, SECONDS, max(200, self.trace.width()))
        self.trace.show_picture(picture.t, picture.values, SECONDS, state.live.last_t, look=8.0)
