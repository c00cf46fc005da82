"""All quantities of a run on one time axis: each in a lane of its own, or over one another, every one on its own scale."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.desk.graphs.plots import Graph, breaks
from common_bench.desk.graphs.strokes import broken_at, broken_where
from common_bench.desk.look.palette import hue
from common_bench.desk.look.sheet import palette
from common_bench.desk.work.event_marks import draw_events
from common_bench.exchange.tables import with_unit
from common_bench.model.bench import HUES
from common_bench.model.block import NO_FLOATS, Floats, Series
from common_bench.model.measured import places, plain
from common_bench.model.run import Moment
from common_bench.record.replay import Replayed, quantities
from common_bench.record.traces import Picture, thinned
from common_bench.workup.curves import pieces_of

STACKED, TOGETHER = "all, stacked", "all over one another"
RAW = "raw"  # in the place of a unit
MOST = 8  # quantities that are drawn at once
FOOT, HEAD = 0.1, 0.25  # of a lane, below its line, and above it, where its name stands
MOST_IN_BAND = 2000  # points of each edge of a band


class DrawnLine:
    """A line over the time of a run, as fine as the time that is seen lets it be, broken by dashes of the card's colour where it is a
    guess."""

    def __init__(self, graph: Graph, whole: Picture, edges: Floats, colour: str, seen: tuple[float, float]) -> None:
        """edges: s, where a guess begins, and where it ends; seen: from and to in s."""
        self._graph, self._whole, self._edges = graph, whole, edges
        line, cover = self._seen_of(seen)
        self.item = graph.line(*line, colour, 1.5)
        self._cover = graph.plot(*cover, pen=breaks(), connect="finite")

    def look_closer(self, seen: tuple[float, float]) -> None:
        for each, picture in zip((self.item, self._cover), self._seen_of(seen), strict=True):
            each.setData(*picture)

    def _seen_of(self, seen: tuple[float, float]) -> tuple[Picture, Picture]:
        """What of the line is near a time that is seen, and what dashes of the card's colour break."""
        (low, high), whole = seen, self._whole
        rows = slice(*np.searchsorted(whole.t, (low - (high - low), high + (high - low))).tolist())
        found = thinned(Picture(whole.t[rows], whole.values[rows]), max(300, self._graph.width()), high - low)
        guessed = np.searchsorted(self._edges, found.t, side="right") % 2 == 1
        line, cover = broken_where(guessed, *found, high - low)
        return Picture(found.t, line), Picture(found.t, cover)


def drawable(replayed: Replayed) -> dict[str, Series]:
    """The quantities of a run; of one without any its columns, raw."""
    known = {name: each for name, each in quantities(replayed).items() if np.isfinite(each.values).any()}
    if known:
        return known
    return {name: Series(replayed.t, values, RAW) for name, values in replayed.raw.items() if np.isfinite(values).any()}


def edges_of(series: Series | None) -> Floats:
    """s at which a quantity begins to be a guess, and ends."""
    if series is None or series.guess is None:
        return NO_FLOATS
    return series.t[np.flatnonzero(np.diff(series.guess, prepend=False))]


def draw_band(
    graph: Graph, replayed: Replayed, series: Series, colour: str, scale: float = 1.0, foot: float = 0.0
) -> None:
    """One standard uncertainty about a quantity, nothing in gaps; drawn at foot + scale × its values."""
    all_u = series.u
    for piece in pieces_of(series.t, MOST_IN_BAND, replayed.gaps):
        values, u = series.values[piece], all_u[piece]
        known = np.isfinite(values) & np.isfinite(u)
        t, values, u = series.t[piece][known], values[known], u[known]
        if len(t) > 1:
            graph.band(t, foot + scale * (values - u), foot + scale * (values + u), colour, 60)


def draw_all(
    graph: Graph, view: str, replayed: Replayed, moments: Sequence[Moment], span: tuple[float, float],
    seen: tuple[float, float], own: str, *, banded: bool,
) -> tuple[list[DrawnLine], str]:  # fmt: skip
    """All quantities on a graph that was wiped, stacked or together, with gaps, events, moments and the span; the lines, and a remark. own:
    the group's colour, for the first; banded: with one standard uncertainty about each."""
    known = drawable(replayed)
    shown = list(known.items())[:MOST]
    count = len(shown) if view == STACKED else 1
    colours = [own, *(hue(palette(), each) for each in HUES if each != own)]
    lines, ticks = [], list[tuple[float, str]]()
    for low, high in replayed.gaps:
        graph.shade(low, high, palette().amber)
    for at, (name, series) in enumerate(shown):
        low, high = float(np.nanmin(series.values)), float(np.nanmax(series.values))
        spread = high - low or 1.0
        lane = float(count - 1 - at) if view == STACKED else 0.0
        scale = (1 - FOOT - HEAD) / spread
        foot = lane + (FOOT if high > low else 0.5) - scale * low
        if banded:
            draw_band(graph, replayed, series, colours[at], scale, foot)
        picture = Picture(*broken_at(replayed.gaps, series.t, foot + scale * series.values))
        lines.append(DrawnLine(graph, picture, edges_of(series), colours[at], seen))
        draw_events(graph, replayed, name, series, scale, foot, own=True)
        if view == STACKED:
            ticks += [(foot + scale * each, _short(each, spread)) for each in dict.fromkeys((low, high))]
            graph.note(f" {with_unit(name, series.unit)}", seen[0], lane + 1, colours[at], anchor=(0, 0))
            if at:
                graph.level(lane + 1.0, palette().hairline)
        else:
            words = f" {with_unit(name, series.unit)}: {_short(low, spread)} to {_short(high, spread)}"
            graph.note(words, seen[0], 1.0 + 0.09 * (len(shown) - at), colours[at], anchor=(0, 0.5))
    for moment in moments:
        graph.upright(moment.t, palette().verdigris)
        graph.note(f" {moment.text}", moment.t, 0.0, palette().verdigris, anchor=(0, 1))
    for edge in span:
        graph.upright(edge, palette().copper)
    graph.getPlotItem().getAxis("left").setTicks([ticks])
    graph.name_time(" ", replayed.seconds)
    graph.setYRange(0.0, count + (0.0 if view == STACKED else 0.09 * (len(shown) + 1)), padding=0.01)
    graph.setXRange(*seen, padding=0.02)
    return lines, f"{MOST} of {len(known)} quantities" if len(known) > MOST else "each on its own scale"


def _short(value: float, spread: float) -> str:
    return plain(value, places(0.01 * spread))
