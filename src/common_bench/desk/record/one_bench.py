"""One bench: its quantities over one another on one time axis, meters beside them, its runs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from common_bench.desk.graphs.plots import Graph, MovingLine, pen
from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import ShortLabel, label
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Cell, Table, emptied, hbox, say, scrolled, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.exchange.tables import with_unit
from common_bench.lesson.one_bench import (
    EachTime,
    Meter,
    each_of,
    each_time,
    headline,
    meter,
    run_rows,
    stretch,
    traces_of,
)
from common_bench.model.run import Moment
from common_bench.record.snapshot import KitState

BESIDE_WIDE = 262  # px
MARKS = 200  # events that are marked


class StackedTrace(Graph):
    """One quantity of several over one another. Its scale grows by whole steps and does not shrink while a run goes on."""

    def __init__(self, name: str) -> None:
        super().__init__(move=True)
        self.name = name
        item = self.getPlotItem()
        item.getViewBox().disableAutoRange()
        self.curve = MovingLine(item.getViewBox(), smooth=True)
        self.guess = MovingLine(item.getViewBox(), smooth=False)
        self.marks = pg.ScatterPlotItem(symbol="t", size=px(9), brush=pg.mkBrush(palette().ink), pen=None)
        self.begin = pg.InfiniteLine(0.0, angle=90, pen=pen(palette().ink, 1.2, dashed=True))
        for each in (self.curve, self.guess, self.marks, self.begin):
            item.addItem(each, ignoreBounds=True)
        self._shades: list[Any] = []
        self._range: tuple[float, float] | None = None
        self._of: object = None

    def show_picture(
        self, t: Any, values: Any, guess: Any, *, of: object, fixed: tuple[float, float] | None, begun: bool
    ) -> None:
        """of: what is drawn, as a run; another one begins with a scale of its own."""
        self.curve.set_data(t, values)
        self.guess.set_data(t, guess if guess is not None else np.full(len(t), np.nan))
        self.begin.setVisible(begun)
        known = values[np.isfinite(values)]
        wanted = fixed or (_stepped(float(known.min()), float(known.max())) if len(known) else None)
        if wanted is None:
            return
        if of == self._of and self._range is not None and fixed is None:
            wanted = min(wanted[0], self._range[0]), max(wanted[1], self._range[1])
        self._of = of
        if wanted != self._range:
            self._range = wanted
            self.setYRange(*wanted, padding=0)

    def mark(self, times: list[float]) -> None:
        top = self._range[1] if self._range is not None else 1.0
        low = self._range[0] if self._range is not None else 0.0
        shown = times[-MARKS:]
        self.marks.setData(np.array(shown), np.full(len(shown), top - 0.05 * (top - low)))


def _stepped(low: float, high: float) -> tuple[float, float]:
    """Ends at whole steps of a tenth of the size of the range, with some room."""
    spread = (high - low) or abs(high) * 0.01 or 1.0
    size = 10 ** math.floor(math.log10(spread / 8))
    step = next(each * size for each in (1, 2, 5, 10) if each * size >= spread / 8)
    return math.floor((low - 0.04 * spread) / step) * step, math.ceil((high + 0.08 * spread) / step) * step


class MeterBar(QWidget):
    """Where a value stands between the ends of its scale, its extremes, and the values at which a tile turns amber."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(px(16))
        self.meter: Meter | None = None
        self.colour = "#22303C"

    def show_meter(self, shown: Meter, colour: str) -> None:
        self.meter, self.colour = shown, colour
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        wide, high = self.width(), self.height()
        painter.setBrush(QColor(palette().wash))
        painter.drawRoundedRect(QRectF(0, high * 0.25, wide, high * 0.5), 4, 4)
        if self.meter is None:
            return
        painter.setBrush(QColor(self.colour))
        painter.drawRoundedRect(QRectF(0, high * 0.25, wide * self.meter.share(self.meter.now), high * 0.5), 4, 4)
        for value, colour in (*((w, palette().amber) for w in self.meter.warnings), (self.meter.high, palette().soft), (self.meter.low, palette().soft)):  # fmt: skip
            if math.isfinite(value):
                painter.setBrush(QColor(colour))
                painter.drawRect(QRectF(min(wide - 2.0, wide * self.meter.share(value)), 0, 2, high))


class MeterCard(Card):
    """A quantity in large figures."""

    def __init__(self, name: str, colour: str) -> None:
        super().__init__()
        self.name, self._colour = name, colour
        self.value = label("")
        self.value.setStyleSheet(f"color: {colour}; font-size: {px(34)}px; font-weight: 650;")
        self.unit = label("", "soft")
        self.bar = MeterBar()
        self.words = label("", "small", wrap=True)
        self.add(label(f"{name} now", "soft"))
        self.body.addLayout(hbox(self.value, self.unit, None, spacing=7))
        self.add(self.bar, self.words)

    def show_meter(self, shown: Meter) -> None:
        say(self.value, shown.value)
        say(self.unit, shown.unit)
        say(self.words, shown.words)
        self.bar.show_meter(shown, self._colour)


class EachCard(Card):
    """The last value at an event."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.value = label("", "finding")
        self.words = label("", "small", wrap=True)
        self.add(label(name, "soft"), self.value, self.words)

    def show_each(self, shown: EachTime) -> None:
        say(self.value, shown.value)
        say(self.words, shown.words)


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
        self._stack = QVBoxLayout()
        self._stack.setSpacing(px(2))
        self.card.body.addLayout(self._stack, 1)
        self._beside = QVBoxLayout()
        self._beside.setSpacing(px(11))
        self.moments = label("", wrap=True)
        self.moments_card = Card("Moments")
        self.moments_card.add(self.moments)
        self.runs = Table(["run", ""], left=(0,), stretch=1)
        self.runs_card = Card("Runs")
        self.runs_card.add(self.runs)
        beside = scrolled(vbox(self._beside, self.moments_card, self.runs_card, None, spacing=11))
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
        say(self.alias, lesson.store.group(group).alias)
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
            trace.curve.set_pen(pg.mkPen(colours[at % 4], width=1.6))
            trace.guess.set_pen(pen(palette().card, 2.4, dashed=True))
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
        return self._hub.lesson.roster.state(self._hub.group) if self._hub.group else None

    def tick(self) -> None:
        lesson, group, state = self._hub.lesson, self._hub.group, self._state
        if not group:
            return
        line, how_far, tone = headline(lesson, group)
        say(self.line, line if self.follows else f"{line} · moved: N follows the time again")
        say(self.how_far, how_far, tone)
        if state is None:
            return
        for card in self.meters:
            card.show_meter(meter(lesson, state, card.name))
        for name, each in self.each.items():
            each.show_each(each_time(state, name))
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
        for at, trace in enumerate(self.traces):
            picture = state.live.since(trace.name, zero + low if self.follows else -math.inf, pixels, high - low)
            sensor = lesson.store.sensor_of(trace.name)
            guess = state.live.guesses(trace.name, picture)
            trace.show_picture(
                picture.t - zero, picture.values, guess, of=(self._hub.group, run),
                fixed=sensor.scale if sensor is not None else None, begun=run != 0,
            )  # fmt: skip
            trace.mark(times if at == 0 else [])
        if self.follows:
            self.traces[0].setXRange(low, high, padding=0.01)
