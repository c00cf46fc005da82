"""One graph of all groups: the first quantity that the plan shows, each group's line with its name at the end."""

from __future__ import annotations

import math
from typing import Any

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, say
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.exchange.tables import with_unit

SECONDS = 20.0


class GroupsGraph(Card):
    """Labels on the lines, no legend."""

    def __init__(self, hub: Hub) -> None:
        super().__init__("", name=True)
        self._hub = hub
        self.graph = Graph()
        self.add(self.graph)
        self._curves: dict[int, tuple[Any, Any]] = {}

    def wipe(self) -> None:
        self.graph.wipe()
        self._curves = {}

    def show_names(self, names: tuple[str, ...]) -> None:
        """names: of what the plan shows, the most important first."""
        kinds = self._hub.lesson.store.workings.kinds
        unit = kinds[names[0]].unit if names and names[0] in kinds else ""
        say(self.heading, f"{names[0] if names else ''} of all groups")
        self.graph.name_axes(with_unit(names[0] if names else "", unit), "time before now (s)")

    def draw(self, names: tuple[str, ...]) -> None:
        if not names:
            return
        ends: list[tuple[float, Any]] = []
        for group in self._hub.lesson.store.groups:
            state = self._hub.lesson.roster.state(group.id)
            if state is None:
                continue
            if group.id not in self._curves:
                colour = hue(palette(), group.emblem.colour)
                curve = self.graph.line([], [], colour, 1.6)
                words = self.graph.note(f" {group.alias}", 0, 0, colour)
                self._curves[group.id] = (curve, words)
            picture = state.live.picture(names[0], SECONDS, self.graph.width())
            curve, words = self._curves[group.id]
            words.setVisible(bool(len(picture.t)))
            if len(picture.t):
                curve.setData(picture.t - state.live.last_t, picture.values, connect="finite")
                latest = state.live.latest(names[0])
                words.setText(f" {group.alias}{' (a guess)' if latest is not None and latest.guess else ''}")
                ends.append((float(picture.values[-1]), words))
        self._place_names(ends)
        self.graph.setXRange(-SECONDS, SECONDS * 0.08, padding=0)

    def _place_names(self, ends: list[tuple[float, Any]]) -> None:
        """Names stand at the ends of their lines, moved apart where they would overlap."""
        low, high = self.graph.getPlotItem().getViewBox().viewRange()[1]
        apart = (high - low) * px(15) / max(1, self.graph.height())
        above = -math.inf
        for value, words in sorted((each for each in ends if math.isfinite(each[0])), key=lambda each: each[0]):
            above = max(value, above + apart)
            words.setPos(0.1, above)
