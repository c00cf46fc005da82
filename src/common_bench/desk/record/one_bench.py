"""One bench: its quantities over one another on one time axis, meters beside them, its runs."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel, label
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Cell, Table, emptied, hbox, say, scrolled, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.record.meters import EachCard, MeterCard
from common_bench.desk.record.stacked_trace import StackedTrace
from common_bench.desk.shell.hub import Hub
from common_bench.exchange.tables import with_unit
from common_bench.lesson.one_bench import (
    each_of,
    each_time,
    headline,
    meter,
    run_rows,
    stretch,
    traces_of,
    without_values,
)
from common_bench.model.run import Moment, Prediction
from common_bench.record.snapshot import KitState

BESIDE_WIDE = 262  # px
DRAWN_SECONDS = 20.0  # over which a group draws what it expects of a run that ends in some other way


class OneBench(QWidget):
    """The selected bench. Its graphs follow the time until somebody moves them; N lets them follow again."""

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self._hub = hub
        self.setObjectName("paper")
        self.follows = True
        self._built: object = None
        self.traces: list[StackedTrace] = []
        self._flags: list[tuple[StackedTrace, Any]] = []
        self._flagged: list[tuple[float, str]] = []
        self.meters: list[MeterCard] = []
        self.each: dict[str, EachCard] = {}
        self.emblem_place = hbox()
        self.alias, self.line = ShortLabel("", "name"), ShortLabel("", "soft")
        self.how_far = label("", "copper")
        self.card = Card()
        head = hbox(self.emblem_place, self.alias, self.line, self.how_far, spacing=8)
        head.setStretch(2, 1)
        self.card.body.addLayout(head)
        self.wanting = label("", "soft", wrap=True)
        self.card.add(self.wanting)
        self._stack = QVBoxLayout()
        self._stack.setSpacing(px(2))
        self.card.body.addLayout(self._stack, 1)
        self._beside = QVBoxLayout()
        self._beside.setSpacing(px(11))
        self.moments = label("", wrap=True)
        self.moments_card = Card("Moments")
        self.moments_card.add(self.moments)
        self.expected_card = Card("Expected by the group")
        self.expected = Graph(grid=False)
        self.expected.setFixedHeight(px(74))
        for side in ("left", "bottom"):
            self.expected.getPlotItem().hideAxis(side)
        self.expected_words = label("", "small", wrap=True)
        self.expected_card.add(self.expected, self.expected_words)
        self._expects: Prediction | None = None
        self.banded = False  # one standard uncertainty is drawn about each line
        self.runs = Table(["run", ""], left=(0,), stretch=1)
        self.runs_card = Card("Runs")
        self.runs_card.add(self.runs)
        beside = scrolled(vbox(self._beside, self.expected_card, self.moments_card, self.runs_card, None, spacing=11))
        beside.setFixedWidth(px(BESIDE_WIDE))
        row = hbox(self.card, beside, spacing=11)
        row.setStretch(0, 1)
        row.setContentsMargins(0, 0, 0, 0)
        self.setLayout(row)

    # what is built

    def refresh(self) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        if not group:
            return
        names, each = traces_of(lesson), each_of(lesson)
        emblem = lesson.store.group(group).emblem
        wanted = group, names, each, palette().name
        if wanted != self._built:
            self._build(names, each, hue(palette(), emblem.colour))
            emptied(self.emblem_place)
            self.emblem_place.addWidget(EmblemView(emblem.shape, emblem.colour, 20))
            self._built = wanted
        say(self.alias, self._hub.name_of(group))
        rows: list[list[Cell]] = [
            [name, (value, "soft") if aside else value] for name, value, aside in run_rows(lesson, group)
        ]
        self.runs.fill(rows)
        self.runs.fit(6)
        self.runs_card.setVisible(bool(rows))
        self.tick()

    def _build(self, names: list[str], each: list[str], colour: str) -> None:
        emptied(self._stack)
        emptied(self._beside)
        kinds = self._hub.lesson.store.workings.kinds
        self.traces, self.meters, self.each, self.follows = [], [], {}, True
        self._flags, self._flagged = [], []
        colours = [colour, palette().verdigris, palette().amber, palette().soft]
        for at, name in enumerate(names):
            title = label(with_unit(name, kinds[name].unit), "name")
            title.setStyleSheet(f"color: {colours[at % 4]};")
            trace = StackedTrace(name)
            trace.setProperty("paper_name", with_unit(name, kinds[name].unit))
            trace.curve.set_pen(pg.mkPen(colours[at % 4], width=1.6))
            if at < len(names) - 1:
                trace.getPlotItem().hideAxis("bottom")
            else:
                trace.name_axes("", "time (s)")
            trace.getPlotItem().getViewBox().sigRangeChangedManually.connect(self._moved)
            if self.traces:
                trace.setXLink(self.traces[0])
            self.traces.append(trace)
            self._stack.addWidget(title)
            self._stack.addWidget(trace, 3 if at == 0 else 2)
        for at, name in enumerate(names[:2]):
            card = MeterCard(name, colours[at % 4])
            self.meters.append(card)
            self._beside.addWidget(card)
        for name in each:
            self.each[name] = EachCard(name)
            self._beside.addWidget(self.each[name])

    def _moved(self, *_: object) -> None:
        self.follows = False

    def turn_band(self) -> None:
        """One standard uncertainty drawn about each line, or not."""
        self.banded = not self.banded

    def let_draw(self, drawn: Callable[[list[tuple[float, float]]], object] | None) -> str:
        """Has the mouse draw on the first graph, over the time that a run takes; None: no longer. Gives the quantity."""
        if not self.traces:
            return ""
        first = self.traces[0]
        first.drawn = drawn
        first.setCursor(Qt.CursorShape.CrossCursor if drawn is not None else Qt.CursorShape.ArrowCursor)
        first.getPlotItem().getViewBox().setMouseEnabled(x=drawn is None, y=False)
        first.expected.set_data(np.empty(0), np.empty(0))
        self.follows = drawn is None
        if drawn is not None:
            first.setXRange(0.0, self._hub.lesson.store.plan.rule.seconds or DRAWN_SECONDS, padding=0.02)
        return first.name

    def _show_expected(self, run: int | None) -> None:
        """What the group expects of the run under way, or of the next."""
        predictions, group = self._hub.lesson.predictions, self._hub.group
        found = predictions.of_run(run) if run is not None else predictions.waiting(group)
        self.expected_card.setVisible(found is not None)
        if found is None or found == self._expects:
            return
        self._expects = found
        self.expected.wipe()
        self.expected.line(found.t, found.values, palette().ink, 1.6, dashed=True)
        self.expected.frame_values(found.values)
        when = "drawn before the run" if found.run is not None else "drawn for the next run"
        say(self.expected_words, f"{found.quantity}, {when}; laid over it in Work up when it has ended")

    def back_to_now(self) -> None:
        """The graphs follow the time again."""
        self.follows = True

    def zoom(self, factor: float) -> None:
        """A shorter or longer time is drawn, about its middle."""
        if self.traces:
            low, high = self.traces[0].getViewBox().viewRange()[0]
            middle, half = (low + high) / 2, (high - low) / 2 * factor
            self.follows = False
            self.traces[0].setXRange(middle - half, middle + half, padding=0)

    def pan(self, share: float) -> None:
        """Back or forth by a share of what is drawn."""
        if self.traces:
            low, high = self.traces[0].getViewBox().viewRange()[0]
            by = (high - low) * share
            self.follows = False
            self.traces[0].setXRange(low + by, high + by, padding=0)

    # what is seen

    @property
    def _state(self) -> KitState | None:
        return self._hub.lesson.seen(self._hub.group) if self._hub.group else None

    def tick(self) -> None:
        lesson, group, state = self._hub.lesson, self._hub.group, self._state
        if not group:
            return
        line, how_far, tone = headline(lesson, group)
        say(self.line, line if self.follows else f"{line} · moved: N follows the time again")
        say(self.how_far, how_far, tone)
        why = without_values(lesson, group) if not lesson.replays.playing else ""
        say(self.wanting, why)
        self.wanting.setVisible(bool(why))
        if state is None:
            return
        for card in self.meters:
            card.show_meter(meter(lesson, state, card.name))
        for name, each in self.each.items():
            each.show_each(each_time(state, name))
        self._show_expected(state.run.id if state.run is not None else None)
        moments = lesson.store.moments(state.run.id) if state.run is not None else []
        self.moments_card.setVisible(bool(moments))
        say(self.moments, "\n".join(f"{each.t:.1f} s {each.text}" for each in moments))
        self._flag(moments)

    def _flag(self, moments: Sequence[Moment]) -> None:
        """Each moment as a line across all graphs, with its words on the first."""
        wanted = [(each.t, each.text) for each in moments]
        if wanted == self._flagged:
            return
        self._flagged = wanted
        for trace, item in self._flags:
            trace.removeItem(item)
        self._flags = []
        for t, text in wanted:
            self._flags += [(trace, trace.upright(t, palette().verdigris)) for trace in self.traces]
            if self.traces:
                top = self.traces[0].getViewBox().viewRange()[1][1]
                note = self.traces[0].note(f" {text}", t, top, palette().verdigris, anchor=(0, 0))
                self._flags.append((self.traces[0], note))

    def draw(self) -> None:
        state, lesson = self._state, self._hub.lesson
        if state is None or not self.traces:
            return
        zero, low, high = stretch(lesson, state)
        run = state.run.id if state.run is not None else 0
        pixels = max(200, self.traces[0].width())
        events = [name for name, kind in lesson.store.workings.kinds.items() if kind.shape == "events"]
        times = [t - zero for name in events[:1] for t in state.live.happened(name)[1]]
        state.live.with_u = frozenset(each.name for each in self.traces) if self.banded else frozenset()
        for at, trace in enumerate(self.traces):
            picture = state.live.since(trace.name, zero + low if self.follows else -math.inf, pixels, high - low)
            sensor = lesson.store.sensor_of(trace.name)
            guess = state.live.guesses(trace.name, picture)
            trace.show_picture(
                picture.t - zero, picture.values, guess, of=(self._hub.group, run), seconds=high - low,
                fixed=sensor.scale if sensor is not None else None, begun=run != 0,
            )  # fmt: skip
            trace.show_band(
                picture.t - zero, picture.values, state.live.uncertainties(trace.name, picture) if self.banded else None
            )
            trace.mark(times if at == 0 else [])
        if self.follows:
            self.traces[0].setXRange(low, high, padding=0.01)
