"""The trace of the chosen line on the selected bench, with the level at which it looks for events and its pause to drag."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyqtgraph as pg

from common_bench.desk.graphs.live_trace import LiveTrace
from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, say
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.plan.level import DraggedLevel, DraggedPause
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.plan_editing import PlanLine, looked_at
from common_bench.record.snapshot import KitState
from common_bench.record.traces import Picture

SECONDS = 30.0  # s that are shown
MOST_MARKS = 60


class TraceCard(Card):
    """Watches one line; tells its text again when the level or the pause was dragged."""

    def __init__(self, hub: Hub, dragged: Callable[[PlanLine, str], object]) -> None:
        super().__init__("", name=True)
        self._hub, self._dragged = hub, dragged
        self.line: PlanLine | None = None
        self._name = ""
        self.trace = LiveTrace("#22303C")
        self.trace.setMinimumHeight(px(90))
        self.empty = label("", "soft", wrap=True)
        self.add(self.empty, self.trace)
        self.body.setStretch(2, 1)
        item = self.trace.getPlotItem()
        self.dragged_level = DraggedLevel(
            lambda each: item.addItem(each, ignoreBounds=True),
            dragged,
            lambda: abs(float(np.subtract(*self.trace._range))),
        )
        self.level = self.dragged_level.item
        self._pause = DraggedPause(lambda each: item.addItem(each, ignoreBounds=True), dragged)
        self.pause = self._pause.item
        self.marks = pg.ScatterPlotItem(symbol="t", size=px(10), brush=pg.mkBrush(palette().ink), pen=None)
        item.addItem(self.marks, ignoreBounds=True)

    def show_line(self, line: PlanLine | None) -> None:
        """What is watched: the quantity itself, or the one in which events are looked for."""
        kinds = self._hub.lesson.store.workings.kinds
        self.line = line
        name = line.name if line is not None else ""
        kind = kinds.get(name)
        if line is not None and (kind is None or kind.shape not in ("series", "at events")):
            name = looked_at(line.text)
        self._name = name if name in kinds else ""
        self._place()

    def _place(self) -> None:
        """Level and pause where the line has them."""
        self.dragged_level.place(self.line if self._name else None, self._unit)
        self._pause.place(None, None)

    @property
    def _unit(self) -> str:
        kind = self._hub.lesson.store.workings.kinds.get(self._name)
        return kind.unit if kind is not None else ""

    def draw(self) -> None:
        """A few times a second: the trace, the events on it, the pause after the last of them."""
        lesson, group = self._hub.lesson, self._hub.group
        state = lesson.roster.state(group) if group else None
        told = self.line is not None and self._name and state is not None
        self.trace.setVisible(bool(told))
        self.empty.setVisible(not told)
        if not told or state is None or self.line is None:
            say(self.heading, "Trace")
            say(self.aside, "")
            say(
                self.empty,
                "Choose a line: what it gives on the selected bench runs here."
                if state is not None
                else "The selected bench has no kit that is heard.",
            )
            return
        say(self.heading, f"{self.line.name} on {self._hub.alias[:18]}, last {SECONDS:g} s")
        dragged = (
            "drag the level or the pause: the line above follows"
            if self.level.isVisible()
            else f"{self._name} in {self._unit}"
            if self._unit
            else self._name
        )
        say(self.aside, dragged)
        self.trace.recolour(lesson.store.group(group).emblem.colour)
        picture = state.live.picture(self._name, SECONDS, max(200, self.trace.width()))
        is_raw = not np.isfinite(picture.values).any()
        if is_raw:
            picture = self._raw(state, picture)
        self.dragged_level.show(self.dragged_level.is_usable and not is_raw)  # the level is in the unit of the quantity
        now = state.live.last_t
        self.trace.show_picture(picture.t, picture.values, SECONDS, now)
        low, high = self.trace._range
        _, times = state.live.happened(self.line.name)
        recent = [each - now for each in times if now - each < SECONDS][-MOST_MARKS:]
        self.marks.setData(np.array(recent), np.full(len(recent), high - 0.06 * (high - low)))
        self.dragged_level.put_words(-0.01 * SECONDS)
        self._pause.place(self.line, next((each for each in recent if each > -SECONDS * 0.9), None))

    def _raw(self, state: KitState, picture: Picture) -> Picture:
        """The channel as it comes, as long as nothing is known of the quantity."""
        sensor = self._hub.lesson.store.sensor()
        if sensor is None:
            return picture
        column = self._hub.lesson.store.column_of(state.kit, sensor.channel)
        say(self.aside, f"not calibrated yet: {column} as it comes")
        return state.live.picture(f"raw {column}", SECONDS, max(200, self.trace.width()))
