"""A run seen otherwise than over time: one quantity against another, and what swings in it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
import pyqtgraph as pg

from common_bench.desk.graphs.plots import Graph, pen, translucent
from common_bench.desk.look.sheet import palette
from common_bench.desk.work.all_quantities import STACKED, TOGETHER
from common_bench.exchange.tables import with_unit
from common_bench.lesson.class_views import ALIGNED, aliased, hum, run_against, run_spectrum
from common_bench.model.block import Floats
from common_bench.model.measured import how_long
from common_bench.model.run import TakenPoint
from common_bench.record.replay import Replayed, quantities

OVER_TIME, SPECTRUM, AGAINST = "over time", "spectrum", "against "
BESIDE: dict[Literal["begin", "event", "moment"], str] = {
    "begin": ALIGNED["begin"], "event": ALIGNED["event"], "moment": "at the first moment",
}  # fmt: skip
"""Where runs are laid over one another."""
MOST_DRAWN = 4000  # points of one quantity against another


def views_of(names: Sequence[str], name: str, *, raw: bool) -> list[str]:
    """How a quantity of a run can be drawn, beside others; raw: there are none, and columns are drawn."""
    several = [STACKED, TOGETHER] if len(names) > 1 else []
    return (
        [OVER_TIME, *several]
        if raw
        else [OVER_TIME, *several, SPECTRUM, *(f"{AGAINST}{other}" for other in names if other != name)]
    )


def draw_view(graph: Graph, view: str, replayed: Replayed, name: str, span: tuple[float, float], colour: str) -> str:
    """Everything on a graph that was wiped, of the span alone; gives a remark on it."""
    known = quantities(replayed)
    unit, other = known[name].unit, view.removeprefix(AGAINST)
    if view == SPECTRUM:
        return _draw_spectrum(graph, run_spectrum(replayed, name, span), name, unit, colour)
    x, y = run_against(replayed, name, other, span)
    rows = np.linspace(0, len(x) - 1, min(len(x), MOST_DRAWN)).astype(int) if len(x) else np.empty(0, int)
    graph.line(x[rows], y[rows], colour, 1.0)
    graph.points(x[rows], y[rows], "o", colour, size=4, faint=True)
    graph.getPlotItem().getAxis("bottom").setScale(1.0)
    graph.name_axes(with_unit(name, unit), with_unit(other, known[other].unit))
    _frame(graph, x)
    graph.frame_values(y)
    return f"{len(x)} readings, {how_long(span[0], span[1])} to {how_long(span[1])}"


def _draw_spectrum(graph: Graph, found: tuple[Floats, Floats, float] | None, name: str, unit: str, colour: str) -> str:
    graph.getPlotItem().getAxis("bottom").setScale(1.0)
    graph.name_axes(f"{name} ({f'{unit}/√Hz' if unit else '1/√Hz'})", "frequency (Hz)")
    if found is None:
        return "too few readings in one stretch for a spectrum"
    frequencies, density, rate = found
    seen = density > 0
    graph.getPlotItem().setLogMode(y=True)
    graph.line(frequencies[seen], density[seen], colour, 1.5)
    _frame(graph, np.array([0.0, rate / 2]))
    if seen.any():
        graph.frame_values(np.log10(density[seen]))
        top = int(np.argmax(np.where(seen, density, 0.0)))
        words = f" {frequencies[top]:.3g} Hz"
        graph.note(words, float(frequencies[top]), float(np.log10(density[top])), palette().ink)
        low = float(np.log10(density[seen]).min())
        for mains in hum(frequencies, density, rate):
            at = aliased(mains, rate)
            graph.upright(at, palette().amber)
            folded = "" if at == mains else f", seen at {at:.1f} Hz"
            graph.note(f" {mains:g} Hz hum{folded}", at, low, palette().amber, anchor=(0, 1))
    return f"of the span, {rate:.3g} readings per s"


def _frame(graph: Graph, x: Floats) -> None:
    if len(x):
        room = 0.04 * (float(np.ptp(x)) or abs(float(x[0])) or 1.0)
        graph.setXRange(float(x.min()) - room, float(x.max()) + room, padding=0)


def draw_taken(graph: Graph, taken: Sequence[TakenPoint], values: Floats) -> None:
    """Where each point was taken; those that do not count are faint."""
    known = values[np.isfinite(values)]
    top = float(known.max()) if len(known) else 0.0
    for each in taken:
        colour = palette().soft if each.aside else palette().green
        shade = pg.LinearRegionItem(
            (each.t_from, each.t_to), movable=False, brush=translucent(colour, 60), pen=pen(palette().card, 0)
        )
        graph.addItem(shade)
        words = f"{each.value.value:g}" + (" (set aside)" if each.aside else "")
        graph.note(words, each.t_from, top, colour, anchor=(0, 1))
