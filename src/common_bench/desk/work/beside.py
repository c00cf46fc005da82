"""What is drawn over a run besides its own line: another run, readings that are set aside, a stretch that
may be, and spans with a name."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import pyqtgraph as pg
from PyQt6.QtCore import QTimer

from common_bench.desk.graphs.plots import pen, translucent
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import say
from common_bench.desk.look.sheet import palette
from common_bench.desk.shell.hub import Hub
from common_bench.desk.work.cards import FindingCard
from common_bench.desk.work.run_graphs import RunGraph
from common_bench.desk.work.run_views import BESIDE
from common_bench.lesson.class_views import line_behind, run_words, start_of
from common_bench.model.run import Run
from common_bench.model.trouble import Trouble
from common_bench.record.replay import Replayed, quantities
from common_bench.workings.over import Stretches
from common_bench.workup.outliers import far_readings


def show_gone(card: RunGraph, replayed: Replayed) -> None:
    """Readings that are set aside, where what is drawn is a measured quantity."""
    for line in replayed.workings.lines:
        node = line.read.expression if line.read is not None else None
        if line.name == card.drawn_name and node is not None and node.form == "calibrated":
            found = replayed.gone.get(node.word)
            if found is not None:
                card.show_gone(*found)


def lay_beside(hub: Hub, card: RunGraph, finding_card: FindingCard, replayed: Replayed, behind: Sequence[Run]) -> None:
    """The run that is chosen among those that can lie beside this one, and how their findings differ."""
    at, lesson = card.beside.currentIndex() - 1, hub.lesson
    if not 0 <= at < len(behind) or not card.over_time:
        return
    other = behind[at]
    try:
        held = lesson.working_up.at_hand(other.id)
    except Trouble as trouble:
        hub.tell(trouble.sentence, "amber")
        return
    if held is None:
        return
    aligned, who = list(BESIDE)[max(0, card.aligned.currentIndex())], run_words(lesson, other)
    here, there = (start_of(each, aligned, lesson.store.moments(each.run.id)) for each in (replayed, held))
    found = line_behind(held, card.drawn_name, there, card.graph.width())
    if here is None or there is None:
        say(card.aside, f"{'this run' if here is None else who} has no {aligned}")
        return
    if found is None:
        say(card.aside, f"{who} has no {card.drawn_name}")
        return
    card.show_beside(found[0] + here, found[1], who, hue(palette(), lesson.store.group(other.group).emblem.colour))
    finding_card.show_difference(lesson.store.findings(replayed.run.id), lesson.store.findings(other.id), who)


def propose_stretch(card: RunGraph, replayed: Replayed) -> str:
    """Marks a stretch that may be set aside: the first that lies far from its neighbours, else the middle of what is seen; says
    how many lie far."""
    series = quantities(replayed).get(card.drawn_name)
    far = far_readings(series) if series is not None else []
    low, high = card.graph.getViewBox().viewRange()[0]
    middle, half = (low + high) / 2, (high - low) / 40
    card.show_out(far[0] if far else (middle - half, middle + half))
    if not far:
        return ""
    return (
        f"{len(far)} stretch{'es lie' if len(far) > 1 else ' lies'} more than 5 scatters from the readings beside it. "
    )


class NamedSpans:
    """The spans of a run that have a name: each drawn, told by it, and dragged where it is one stretch."""

    def __init__(self, card: RunGraph, dragged: Callable[[str, float, float], object]) -> None:
        """dragged: told of a span by name and its new ends in s."""
        self._card, self._dragged = card, dragged
        self.regions: dict[str, pg.LinearRegionItem] = {}

    def show(self, named: Mapping[str, Stretches]) -> None:
        self.regions.clear()
        if not self._card.over_time:
            return
        graph = self._card.graph
        _, (low, high) = graph.getViewBox().viewRange()
        for at, (name, stretches) in enumerate(named.items()):
            if isinstance(stretches, Trouble):
                say(self._card.aside, f"{name}: {stretches.what}")
                continue
            height = low + (0.03 + 0.11 * (at % 4)) * (high - low)
            for stretch in stretches:
                graph.line(stretch, (height, height), palette().verdigris, 3.0)
                graph.points(stretch, (height, height), "|", palette().verdigris, size=9)
            if len(stretches) == 1:
                region = pg.LinearRegionItem(
                    stretches[0], brush=translucent(palette().verdigris, 16), pen=pen(palette().verdigris, 1.4)
                )
                graph.addItem(region, ignoreBounds=True)
                self.regions[name] = region
                region.sigRegionChangeFinished.connect(lambda each, name=name: self._drop(name, each))
            words = f" {name}" if len(stretches) == 1 else f" {name} ({len(stretches)})"
            graph.note(words, stretches[0][0], height, palette().verdigris, anchor=(0, 1))

    def _drop(self, name: str, region: pg.LinearRegionItem) -> None:
        low, high = (round(float(each), 3) for each in region.getRegion())
        QTimer.singleShot(
            0, lambda: self._dragged(name, low, high)
        )  # not while the region that is dragged is told of it
