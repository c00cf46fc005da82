"""One graph of all groups: over time, one quantity against another, bars of now, spectra; a run of another day behind."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pyqtgraph as pg

from common_bench.desk.graphs.plots import Graph, pen, translucent
from common_bench.desk.graphs.ranges import whole_steps
from common_bench.desk.look.labels import label
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, choice, hbox, is_open, say
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.class_views import (
    ALIGNED,
    KINDS,
    Aligned,
    ClassView,
    Kind,
    class_view,
    line_behind,
    names_of,
    run_words,
    runs_behind,
    start_of,
)
from common_bench.model.measured import digits
from common_bench.model.trouble import Trouble

NOBODY = "no run behind"
MOST_BEHIND = 30  # runs that are offered
BAR = 0.34  # half of a bar's width, of the room for one


class GroupsGraph(Card):
    """Labels on the lines, no legend. Its scale grows by whole steps while it shows the same, and never shrinks by itself."""

    def __init__(self, hub: Hub) -> None:
        super().__init__("", name=True)
        self._hub = hub
        self.kind = choice(list(KINDS.values()))
        self.name, self.other = choice([]), choice([])
        self.aligned = choice(list(ALIGNED.values()))
        self.behind = choice([NOBODY])
        self._at = label("aligned", "soft")
        row = hbox(self.name, self.kind, self.other, self._at, self.aligned, self.behind, None, spacing=7)
        self.body.addLayout(row)
        self.graph = Graph()
        self.add(self.graph)
        self._curves: dict[int, tuple[Any, Any]] = {}
        self._more: list[Any] = []  # bars and marks, new each time
        self._range: tuple[float, float] | None = None
        self._of: object = None
        self._runs: list[int] = []  # that are offered to lie behind
        self._lain: tuple[object, Any] | None = None
        for box in (self.kind, self.name, self.other, self.aligned, self.behind):
            box.activated.connect(lambda _: self._chosen())

    # what is chosen

    def _kind(self) -> Kind:
        return list(KINDS)[max(0, self.kind.currentIndex())]

    def _aligned(self) -> Aligned:
        return list(ALIGNED)[max(0, self.aligned.currentIndex())]

    def next_kind(self) -> None:
        """The next way to draw."""
        self.kind.setCurrentIndex((self.kind.currentIndex() + 1) % self.kind.count())
        self._chosen()

    def next_alignment(self) -> None:
        """The next moment at which lines are laid over one another."""
        self.aligned.setCurrentIndex((self.aligned.currentIndex() + 1) % self.aligned.count())
        self._chosen()

    def next_name(self) -> None:
        """The next quantity."""
        if self.name.count():
            self.name.setCurrentIndex((self.name.currentIndex() + 1) % self.name.count())
            self._chosen()

    def chosen(self) -> tuple[str, ...]:
        """What is chosen, by its words, to be chosen again."""
        return tuple(box.currentText() for box in (self.kind, self.name, self.other, self.aligned))

    def choose_again(self, words: tuple[str, ...]) -> None:
        """Takes what `chosen` gave."""
        self._offer_names()
        for box, text in zip((self.kind, self.name, self.other, self.aligned), words, strict=False):
            if box.findText(text) >= 0:
                box.setCurrentText(text)
        self._chosen()

    def _chosen(self) -> None:
        if self.behind.currentIndex() > 0 and self._aligned() == "clock":
            self.aligned.setCurrentIndex(1)  # of another day: only from where it began
        self.wipe()
        self._show_choices()

    def _show_choices(self) -> None:
        kind = self._kind()
        self.other.setVisible(kind == "against")
        for each in (self._at, self.aligned, self.behind):
            each.setVisible(kind == "time")

    def _offer_names(self) -> None:
        names = names_of(self._hub.lesson)
        for box in (self.name, self.other):
            if [box.itemText(at) for at in range(box.count())] != names and not is_open(box):
                kept = box.currentText()
                box.clear()
                box.addItems(names)
                box.setCurrentIndex(
                    max(0, names.index(kept) if kept in names else (len(names) > 1) * (box is self.other))
                )

    def _offer_runs(self) -> None:
        runs = runs_behind(self._hub.lesson)[:MOST_BEHIND]
        if [each.id for each in runs] != self._runs and not is_open(self.behind):
            kept = self._runs[self.behind.currentIndex() - 1] if self.behind.currentIndex() > 0 else 0
            self._runs = [each.id for each in runs]
            self.behind.clear()
            self.behind.addItems([NOBODY, *(f"behind: {run_words(self._hub.lesson, each)}" for each in runs)])
            self.behind.setCurrentIndex(self._runs.index(kept) + 1 if kept in self._runs else 0)

    def show_names(self) -> None:
        """Offers what can be drawn now."""
        self._offer_names()
        self._offer_runs()
        self._show_choices()

    # what is seen

    def wipe(self) -> None:
        self.graph.wipe()
        self._curves, self._more, self._range, self._lain = {}, [], None, None

    def draw(self) -> None:
        name = self.name.currentText()
        if not name:
            return
        lesson, kind = self._hub.lesson, self._kind()
        view = class_view(lesson, kind, name, self.other.currentText(), self._aligned(), self.graph.width())
        of = (kind, name, self.other.currentText(), self._aligned())
        if of != self._of:
            self.wipe()
            self._of = of
            item = self.graph.getPlotItem()
            item.setLogMode(y=kind == "spectrum")
            item.getAxis("bottom").setStyle(showValues=kind != "bars")
        say(self.heading, "All groups")
        self.graph.name_axes(view.y_label, view.x_label or " ")
        for each in self._more:
            self.graph.removeItem(each)
        self._more = []
        if kind == "bars":
            self._draw_bars(view)
        else:
            self._draw_lines(view, kind)
        self.graph.setXRange(view.low, view.high, padding=0)
        self._set_range(view, kind)
        for at, words in view.marks:
            top = self.graph.getPlotItem().getViewBox().viewRange()[1][1]
            self._more += [self.graph.upright(at, palette().amber), self.graph.note(f" {words}", at, top, palette().amber, anchor=(0, 0))]  # fmt: skip
        self._draw_behind(name)
        self._draw_moments()

    def _draw_lines(self, view: ClassView, kind: Kind) -> None:
        lesson = self._hub.lesson
        shown = {each.group: each for each in view.lines}
        ends: list[tuple[float, float, Any]] = []
        for group in lesson.store.groups:
            if group.id not in self._curves:
                colour = hue(palette(), group.emblem.colour)
                self._curves[group.id] = (
                    self.graph.line([], [], colour, 1.6),
                    self.graph.note(f" {self._hub.name_of(group.id)}", 0, 0, colour),
                )
            curve, words = self._curves[group.id]
            line = shown.get(group.id)
            words.setVisible(line is not None)
            if line is None:
                curve.setData([], [])
                continue
            curve.setData(line.x, line.y, connect="finite")
            words.setText(f" {self._hub.name_of(group.id)}{' (a guess)' if line.guess else ''}")
            known = np.flatnonzero(np.isfinite(line.y) & (line.x <= view.high))
            if len(known):
                y = float(line.y[known[-1]])
                ends.append((float(line.x[known[-1]]), math.log10(y) if kind == "spectrum" and y > 0 else y, words))
        self._place_names(ends)

    def _place_names(self, ends: list[tuple[float, float, Any]]) -> None:
        """Names stand at the ends of their lines, moved apart where they would overlap."""
        low, high = self.graph.getPlotItem().getViewBox().viewRange()[1]
        apart = (high - low) * px(15) / max(1, self.graph.height())
        above = -math.inf
        for x, y, words in sorted((each for each in ends if math.isfinite(each[1])), key=lambda each: each[1]):
            above = max(y, above + apart)
            words.setPos(x, above)

    def _draw_bars(self, view: ClassView) -> None:
        groups = {group.id: group for group in self._hub.lesson.store.groups}
        for line in view.lines:
            group, at, value = groups[line.group], float(line.x[0]), float(line.y[0])
            colour = hue(palette(), group.emblem.colour)
            brush = translucent(colour, 90 if line.guess else 220)
            bar = pg.BarGraphItem(x=[at], height=[value], width=2 * BAR, brush=brush, pen=pen(colour, 1))
            self.graph.addItem(bar)
            self._more.append(bar)
            if line.u == line.u and line.u > 0:
                error = pg.ErrorBarItem(
                    x=line.x, y=line.y, height=np.array([2 * line.u]), beam=0.2, pen=pen(palette().ink, 1.4)
                )
                self.graph.addItem(error)
                self._more.append(error)
            said = f"{digits(value, line.u if line.u == line.u else 0.0, most=3)}{' a guess' if line.guess else ''}"
            self._more.append(self.graph.note(said, at, value, palette().ink, anchor=(0.5, 1), size=13))
        for at, group in enumerate(self._hub.lesson.store.groups):
            foot = min(0.0, self._range[0] if self._range is not None else 0.0)
            note = self.graph.note(
                self._hub.name_of(group.id), at, foot, hue(palette(), group.emblem.colour), anchor=(0.5, 1), size=13
            )
            self._more.append(note)

    def _set_range(self, view: ClassView, kind: Kind) -> None:
        drawn = [each.y for each in view.lines]
        drawn += [each.y + side * each.u for each in view.lines for side in (-1, 1) if each.u == each.u]
        if kind == "time" and self._lain is not None and self._lain[1] is not None:
            drawn.append(self._lain[1].yData)
        known = np.concatenate(drawn) if drawn else np.empty(0)
        known = known[np.isfinite(known)]
        if kind == "spectrum":
            known = np.log10(known[known > 0])
        if not len(known):
            return
        sensor = self._hub.lesson.store.sensor_of(self.name.currentText())
        if kind == "time" and sensor is not None and sensor.scale is not None:
            wanted = sensor.scale
        else:
            ends = [float(known.min()), float(known.max()), *([0.0] if kind == "bars" else [])]
            wanted = whole_steps(min(ends), max(ends))
            if kind == "bars":
                wanted = wanted[0] - 0.1 * (wanted[1] - wanted[0]), wanted[1]
            if self._range is not None:
                wanted = min(wanted[0], self._range[0]), max(wanted[1], self._range[1])
        if wanted != self._range:
            self._range = wanted
            self.graph.setYRange(*wanted, padding=0)

    def _draw_behind(self, name: str) -> None:
        """The run of another day, once it has been read."""
        at = self.behind.currentIndex() - 1
        if not (0 <= at < len(self._runs)) or self._kind() != "time":
            return
        run, wanted = self._runs[at], (self._runs[at], name, self._aligned())
        if self._lain is not None and self._lain[0] == wanted:
            return
        try:
            replayed = self._hub.lesson.working_up.at_hand(run)
        except Trouble as trouble:
            self.behind.setCurrentIndex(0)
            self._hub.tell(trouble.sentence, "amber")
            return
        if replayed is None:
            return
        found = line_behind(replayed, name, start_of(replayed, self._aligned()), self.graph.width())
        if found is None:
            self._lain = wanted, None
            return
        line = self.graph.line(*found, palette().soft, 3.0)
        line.setZValue(-4)
        line.setOpacity(0.55)
        top = float(np.nanmax(found[1])) if np.isfinite(found[1]).any() else 0.0
        at_top = float(found[0][int(np.nanargmax(found[1]))]) if np.isfinite(found[1]).any() else 0.0
        self.graph.note(run_words(self._hub.lesson, replayed.run), at_top, top, palette().soft, anchor=(0, 1))
        self._lain = wanted, line

    def _draw_moments(self) -> None:
        """Moments of the runs under way, each in its group's colour."""
        if self._kind() != "time" or self._aligned() == "event":
            return
        lesson, top = self._hub.lesson, self.graph.getPlotItem().getViewBox().viewRange()[1][1]
        for group in lesson.store.groups:
            state = lesson.seen(group.id)
            if state is None or state.run is None:
                continue
            back = 0.0 if self._aligned() == "begin" else state.run.seconds
            for moment in lesson.store.moments(state.run.id):
                colour, at = hue(palette(), group.emblem.colour), moment.t - back
                self._more += [
                    self.graph.upright(at, colour),
                    self.graph.note(f" {moment.text}", at, top, colour, anchor=(0, 0)),
                ]
