"""A run drawn: its trace with span, gaps, events and moments; and each value at its events."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QTimer

from common_bench.desk.graphs.plots import Graph, pen, translucent
from common_bench.desk.graphs.strokes import broken_at
from common_bench.desk.look.labels import ShortLabel
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, choice, is_open, say
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.plan.level import DraggedLevel, DraggedPause
from common_bench.desk.work.all_quantities import (
    RAW,
    STACKED,
    TOGETHER,
    DrawnLine,
    draw_all,
    draw_band,
    drawable,
    edges_of,
)
from common_bench.desk.work.event_marks import Marks, draw_events
from common_bench.desk.work.run_views import BESIDE, OVER_TIME, draw_taken, draw_view, views_of
from common_bench.exchange.tables import with_unit
from common_bench.lesson.plan_editing import PlanLine, looked_at
from common_bench.model.bench import Emblem
from common_bench.model.block import Events, Floats, Series
from common_bench.model.measured import how_long
from common_bench.model.run import Finding, Moment, Prediction, TakenPoint
from common_bench.record.replay import Replayed
from common_bench.record.traces import Picture
from common_bench.workup.curves import RunCurve
from common_bench.workup.span_rule import main_span

MOST_DRAWN = 2000  # points of a curve or of residuals
LOOK_AFTER = 40  # ms after the last change of what is seen until the line is drawn finer
MARKED = 9  # px from the mark of an event within which it is meant


class RunGraph(Card):
    """The quantity over the run; the edges of the span can be dragged. A run that is set aside is drawn faint."""

    def __init__(
        self, drawn: Callable[[float, float], object], level: Callable[[PlanLine, str], object],
        pointed: Callable[[float, str], str], chosen: Callable[[], object], picked: Callable[[float, str], object],
    ) -> None:  # fmt: skip
        """drawn: told of a span that was dragged, in s; level: of a line whose level was dragged, with its new text; pointed: gives
        what the reading at a time is, of a quantity; chosen: told that another quantity, or another run beside it, was chosen;
        picked: told of a time that was clicked twice, with the name of the events one of which is marked there."""
        super().__init__("", name=True)
        self.graph = Graph(move=True)
        self.name, self.beside, self.aligned = choice([]), choice([]), choice(list(BESIDE.values()))
        self.view = choice([OVER_TIME])
        self._boxes = (self.name, self.view, self.beside, self.aligned)
        for box in self._boxes:
            box.activated.connect(lambda _: chosen())
            box.setSizeAdjustPolicy(box.SizeAdjustPolicy.AdjustToContents)
        self.top.insertWidget(1, self.name)
        self.top.insertWidget(2, self.view)
        self.top.addWidget(self.beside)
        self.top.addWidget(self.aligned)
        self.here = ShortLabel("", "small")
        self.here.hide()
        self.add(self.graph, self.here)
        self._pointed = pointed
        self._picked, self._marks = picked, list[Marks]()
        self.graph.scene().sigMouseMoved.connect(self._point)
        self.graph.scene().sigMouseClicked.connect(self._clicked)
        self.out = pg.LinearRegionItem(brush=translucent(palette().amber, 70), pen=pen(palette().amber, 2))
        self.look_at: float | None = None  # a time that is marked, as by a step of how a number came about
        self._unit, self._name, self._seen = "", "", (0.0, 1.0)
        self.level = DraggedLevel(lambda each: None, level, lambda: self._seen[1] - self._seen[0])
        self.pause = DraggedPause(lambda each: None, level)
        self.region = pg.LinearRegionItem(brush=translucent(palette().copper, 18), pen=pen(palette().copper, 2))
        self.region.sigRegionChangeFinished.connect(self._dragged)
        self.region.sigRegionChanged.connect(self._say_used)
        self._used: Any = None  # the words at the span
        self._drawn, self.is_showing = drawn, False
        self._line: DrawnLine | None = None  # of the quantity over time
        self._lines: list[DrawnLine] = []  # of all of them
        self._banded = False  # one standard uncertainty is drawn about each line
        self._of, self._ends = 0, (0.0, 1.0)  # the run that is shown, its ends in s
        self._zoomed: tuple[float, float] | None = None  # what of it is seen in s; None: all
        self._closer = QTimer(self)
        self._closer.setSingleShot(True)
        self._closer.timeout.connect(self._look_closer)
        self.graph.getViewBox().sigXRangeChanged.connect(self._range_changed)
        self.lays_over = True  # what the group expected

    def _point(self, place: object) -> None:
        """What the reading under the pointer is."""
        view = self.graph.getViewBox()
        if self.over_time and self.graph.isVisible() and self.graph.sceneBoundingRect().contains(place):
            t = float(view.mapSceneToView(place).x())
            say(self.here, self._pointed(t, self._name))
            self.here.setVisible(bool(self.here.text()))

    def _clicked(self, event: Any) -> None:
        """A second click on a mark means its event, elsewhere the reading there."""
        if not event.double() or not self.over_time or not self.graph.sceneBoundingRect().contains(event.scenePos()):
            return
        view = self.graph.getViewBox()
        for name, times, heights in self._marks:
            for t, height in zip(times.tolist(), heights.tolist(), strict=True):
                seen = view.mapViewToScene(QPointF(t, height)) - event.scenePos()
                if max(abs(seen.x()), abs(seen.y())) <= px(MARKED):
                    self._picked(t, name)
                    return
        self._picked(float(view.mapSceneToView(event.scenePos()).x()), "")

    def show_out(self, stretch: tuple[float, float] | None) -> None:
        """A stretch that may be set aside, to be dragged; None: no longer."""
        if stretch is None:
            self.graph.removeItem(self.out)
            return
        self.out.setRegion(stretch)
        self.graph.addItem(self.out, ignoreBounds=True)

    @property
    def stretch(self) -> tuple[float, float]:
        low, high = self.out.getRegion()
        return float(low), float(high)

    def offer(self, drawn: Mapping[str, Series], runs: Sequence[str]) -> None:
        """What can be drawn of a run, and runs that can lie beside it."""
        names, raw = list(drawn), all(each.unit == RAW for each in drawn.values())
        views = views_of(names, self.name.currentText() or next(iter(names), ""), raw=raw)
        for box, items in ((self.name, names), (self.view, views), (self.beside, ["no run beside", *runs])):
            if [box.itemText(at) for at in range(box.count())] != items and not is_open(box):
                kept = box.currentText()
                box.clear()
                box.addItems(items)
                box.setCurrentIndex(max(0, box.findText(kept)))
        self.view.show()
        self.beside.setVisible(bool(runs) and self.over_time)
        self.name.setVisible(len(names) > 1 and (self.over_time or not self.has_time))
        self.aligned.setVisible(self.beside.currentIndex() > 0 and self.over_time)

    @property
    def over_time(self) -> bool:
        """Whether one quantity of the run is drawn over its time, rather than otherwise."""
        return self.view.currentIndex() <= 0

    @property
    def has_time(self) -> bool:
        """Whether what is drawn has the time along it."""
        return self.over_time or self.view.currentText() in (STACKED, TOGETHER)

    def turn_band(self) -> None:
        """One standard uncertainty about each line, or not."""
        self._banded = not self._banded
        self.view.activated.emit(self.view.currentIndex())

    def next_view(self) -> None:
        """Over time, its spectrum, against each other quantity, and over time again."""
        self.view.setCurrentIndex((self.view.currentIndex() + 1) % self.view.count())
        self.view.activated.emit(self.view.currentIndex())

    def next_name(self) -> None:
        """The next quantity."""
        if self.name.count() > 1:
            self.name.setCurrentIndex((self.name.currentIndex() + 1) % self.name.count())
            self.name.activated.emit(self.name.currentIndex())

    def show_beside(self, t: Floats, values: Floats, words: str, colour: str) -> None:
        """Another run, faint."""
        line = self.graph.line(t, values, colour, 1.4)
        line.setOpacity(0.6)
        line.setZValue(-3)
        known = np.flatnonzero(np.isfinite(values))
        if len(known):
            at = int(known[len(known) // 2])
            self.graph.note(words, float(t[at]), float(values[at]), colour, anchor=(0, 1))

    def show_curve(self, curve: RunCurve | None, gaps: Sequence[tuple[float, float]]) -> None:
        """A fit over the span with its band of one standard uncertainty, and between broken lines where one more reading
        would lie; nothing in gaps (from and to in s)."""
        if curve is None or not self.over_time:
            return
        t, low, high = curve.band
        for rows in curve.pieces(MOST_DRAWN, gaps):
            self.graph.band(t[rows], low[rows], high[rows], palette().ink, 60)
            self.graph.line(t[rows], curve.fit.curve[rows], palette().ink, 1.8)
            for edge in curve.prediction[1:]:
                self.graph.line(t[rows], edge[rows], palette().soft, 1.0, dashed=True)

    def show_gone(self, t: Floats, values: Floats) -> None:
        """Readings that are set aside: seen, hollow, and not in the line."""
        if not self.over_time:
            return
        rows = np.linspace(0, len(t) - 1, min(len(t), MOST_DRAWN)).astype(int) if len(t) else np.empty(0, int)
        item = pg.ScatterPlotItem(
            t[rows], values[rows], symbol="o", size=px(6), brush=None, pen=pen(palette().amber, 1.2)
        )
        self.graph.addItem(item)

    def _dragged(self) -> None:
        if not self.is_showing:
            low, high = (round(float(each), 3) for each in self.region.getRegion())
            self._drawn(low, high)

    @property
    def drawn_name(self) -> str:
        """The quantity that is drawn."""
        return self._name

    @property
    def span(self) -> tuple[float, float]:
        low, high = self.region.getRegion()
        return float(low), float(high)

    def show_nothing(self, words: str) -> None:
        """Words alone: never an empty graph."""
        self._line, self._lines = None, []
        self.graph.wipe()
        self.show_words_alone(words, (self.graph, self.here, *self._boxes))

    def show_run(
        self, replayed: Replayed, findings: Sequence[Finding], moments: Sequence[Moment], show: Sequence[str],
        emblem: Emblem, *, aside: bool, taken: Sequence[TakenPoint] = (), expected: Prediction | None = None,
        span: tuple[float, float] | None = None,
    ) -> None:  # fmt: skip
        """taken: points of a run that was taken point by point; show: names of workings, the most important first; span: that is
        used, where the findings do not tell it."""
        self.is_showing, self._line, self._lines = True, None, []
        self.graph.wipe()
        self.graph.getPlotItem().getAxis("left").setTicks(None)
        self.graph.show()
        self.words_no_longer_alone()
        known = drawable(replayed)
        wanted = self.name.currentText()
        name = next((name for name in [*([wanted] if wanted in known else []), *show, *known] if name in known), "")
        series = known.get(name)
        values, unit = (series.values, series.unit) if series is not None else (np.full(len(replayed.t), np.nan), RAW)
        self._unit, self._name = unit, name
        ends = min(0.0, float(replayed.t[0])) if len(replayed.t) else 0.0, replayed.seconds
        if replayed.run.id != self._of:
            self._of, self._zoomed = replayed.run.id, None
        self._ends = ends
        span = span or main_span(findings) or (0.0, replayed.seconds)
        self.graph.getPlotItem().setLogMode(y=False)
        if not self.over_time and name in known:
            self.region.setBounds(ends)
            self.region.setRegion(span)
            colour = palette().soft if aside else hue(palette(), emblem.colour)
            if self.has_time:
                self._lines, said = draw_all(
                    self.graph, self.view.currentText(), replayed, moments, span, self._zoomed or ends, colour, banded=self._banded
                )  # fmt: skip
            else:
                said = draw_view(self.graph, self.view.currentText(), replayed, name, span, colour)
            say(self.heading, "" if self.has_time or (self.name.isVisibleTo(self) and self.name.count() > 1) else name)
            say(self.aside, said)
            self.is_showing = False
            return
        self._draw_trace(replayed, values, series, palette().soft if aside else hue(palette(), emblem.colour))
        self.graph.name_time(with_unit(name, unit), replayed.seconds)
        for low, high in replayed.gaps:
            shade = pg.LinearRegionItem(
                (low, high), movable=False, brush=translucent(palette().amber, 70), pen=pen(palette().card, 0)
            )
            self.graph.addItem(shade)
        self._marks = draw_events(self.graph, replayed, name, series) if series is not None else []
        draw_taken(self.graph, taken, values)
        self._draw_moments(moments, values)
        if expected is not None and self.lays_over and expected.quantity == name:
            self.graph.line(expected.t, expected.values, palette().ink, 1.8, dashed=True)
            at = int(np.argmax(expected.values))
            words = " expected by the group (E hides it)"
            self.graph.note(words, expected.t[at], expected.values[at], palette().ink, anchor=(0, 1))
        self._draw_span(span, ends, values)
        if self.look_at is not None:
            self.graph.upright(self.look_at, palette().copper)
        say(self.heading, "" if self.name.isVisibleTo(self) and self.name.count() > 1 else name)
        unsure = self._banded and not (series is not None and np.isfinite(series.u).any())
        none = "nothing says how sure it is (U)" if unsure else ""
        say(self.aside, none if findings or none else "no finding yet: drag the edges of the span")
        self.is_showing = False

    def show_level(self, line: PlanLine | None, replayed: Replayed) -> None:
        """The level of a line that looks for events in what is drawn, and the pause after the first of them, to be dragged."""
        line = line if self.over_time and line is not None and looked_at(line.text) == self._name else None
        self.level.place(line, self._unit)
        events = replayed.results.get(line.name) if line is not None else None
        self.pause.place(line, float(events.t[0]) if isinstance(events, Events) and len(events) else None)
        if self.pause.item.isVisible():
            self.graph.addItem(self.pause.item, ignoreBounds=True)
        if self.level.is_usable:
            for each in (self.level.item, self.level.words):
                self.graph.addItem(each, ignoreBounds=True)
            self.level.put_words(float(self.graph.getViewBox().viewRange()[0][1]))
            both = "the level or the pause" if self.pause.item.isVisible() else "the level"
            say(self.aside, f"drag {both}: the line follows, all runs too")

    def _draw_trace(self, replayed: Replayed, values: Floats, series: Series | None, colour: str) -> None:
        if self._banded and series is not None:
            draw_band(self.graph, replayed, series, colour)
        edges = edges_of(series)
        whole = Picture(*broken_at(replayed.gaps, replayed.t, values))
        self._line = DrawnLine(self.graph, whole, edges, colour, (0.0, max(replayed.seconds, 1e-9)))
        if len(edges) and series is not None and series.guess is not None:
            words = f" broken: outside the calibration, a guess ({series.guess.mean():.0%})"
            self.graph.note(words, float(edges[0]), float(np.nanmin(values)), palette().amber, anchor=(0, 0))

    def _range_changed(self, _: object, seen: tuple[float, float]) -> None:
        if not self.is_showing and self.has_time:
            self._zoomed = float(seen[0]), float(seen[1])
            self._closer.start(LOOK_AFTER)

    def _look_closer(self) -> None:
        """The line as fine as the time that is seen lets it be."""
        for each in (*([self._line] if self._line is not None else []), *self._lines):
            each.look_closer(self._zoomed or self._ends)

    def zoom(self, factor: float) -> None:
        """Shows so many times the time about the middle of what is seen; never more than the run."""
        low, high = self._zoomed or self._ends
        half = 0.5 * (high - low) * factor
        if 2 * half >= self._ends[1] - self._ends[0]:
            self.see_whole()
        else:
            self._see(0.5 * (low + high) - half, 2 * half)

    def pan(self, share: float) -> None:
        """Earlier or later by a share of what is seen."""
        if self._zoomed is not None:
            low, high = self._zoomed
            self._see(low + share * (high - low), high - low)

    def see_whole(self) -> None:
        """All of the run."""
        if self.has_time:
            self.graph.setXRange(*self._ends, padding=0.02)
            self._zoomed = None

    def _see(self, low: float, width: float) -> None:
        if self.has_time:
            low = min(max(low, self._ends[0]), self._ends[1] - width)
            self.graph.setXRange(low, low + width, padding=0)

    def _draw_span(self, span: tuple[float, float], ends: tuple[float, float], values: Floats) -> None:
        """ends: of the run; what was kept from before it began lies at negative times."""
        self.region.setBounds(ends)
        self.region.setRegion(span)
        self.graph.addItem(self.region)
        if self._zoomed is None:
            self.graph.setXRange(*ends, padding=0.02)
        else:
            self.graph.setXRange(*self._zoomed, padding=0)
            self._look_closer()
        if ends[0] < 0:
            self.graph.upright(0.0, palette().ink)
        known = values[np.isfinite(values)]
        if len(known):
            room = 0.12 * float(np.ptp(known) or 1.0)
            self._seen = float(known.min()) - room, float(known.max()) + 1.6 * room
            self.graph.setYRange(*self._seen, padding=0)
            top = float(known.max()) + 1.5 * room
            self._used = self.graph.note(" used", span[0], top, palette().copper, anchor=(0, 0))
            self._say_used()

    def _say_used(self) -> None:
        """Where the span lies, as it is dragged too."""
        if self._used is not None:
            low, high = (how_long(each, self._ends[1]) for each in self.span)
            self._used.setText(f" used: {low} to {high} (drag the edges)")
            self._used.setPos(self.span[0], self._used.pos().y())

    def _draw_moments(self, moments: Sequence[Moment], values: Floats) -> None:
        """Each marked moment at its time, with its words."""
        known = values[np.isfinite(values)]
        foot = float(known.min()) if len(known) else 0.0
        for moment in moments:
            self.graph.upright(moment.t, palette().verdigris)
            self.graph.note(f" {moment.text}", moment.t, foot, palette().verdigris, anchor=(0, 0.2))
