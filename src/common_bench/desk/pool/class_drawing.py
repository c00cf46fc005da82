"""The class dataset drawn: points with their line, or the groups side by side where nothing is drawn against."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import numpy as np
import pyqtgraph as pg

from common_bench.desk.graphs.plots import Graph, pen, translucent
from common_bench.desk.look.emblems import SYMBOLS
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import pretty
from common_bench.desk.look.sheet import palette
from common_bench.exchange.tables import with_unit
from common_bench.lesson.store import LessonStore
from common_bench.model.class_line import ClassPoint, ClassResult, GroupPlace

FIRST_SENTENCE = re.compile(r"[^?]*?[?]|.*?[.](?=\s[A-Z]|$)|.*", re.DOTALL)  # the rest stands beside the graph
NOTE = 44  # characters of a line beside a point
MANY = 20  # runs of groups compared, from which on it is shown how often each value came
FEWEST_BARS, MOST_BARS, HISTOGRAM = 5, 30, 0.25  # bars; share of the graph that they take


def draw_class(
    graph: Graph, result: ClassResult, store: LessonStore, name_of: Callable[[str, int], str], *, alike: bool = False
) -> None:
    """Everything on a graph that was wiped; name_of: how a group is called, where names may be hidden; alike: all groups wear
    one mark, so that nothing tells whose a point is."""
    graph.wipe()
    if not result.points:
        return
    compared = not result.x_label
    at, left, right = draw_ground(graph, result)
    for place in result.places:
        own = [point for point in result.points if point.run in place.of]
        _draw_place(graph, place, own, at, store, name_of, result.places, compared=compared, alike=alike)
    if compared and len(result.points) >= MANY:
        right = _draw_histogram(graph, [point.y.value for point in result.points if not point.aside], right)
    graph.setXRange(left, right, padding=0)
    ys = [p.y.value for p in result.points]
    spread = float(np.ptp(ys))
    low = [p.y.value for p in result.places if p.stands_out and p.y.value < min(ys) + 0.4 * spread]
    bars = [p.y.value + side * p.y.u for p in result.points for side in (-1, 1)] if compared else []
    graph.frame_values([*ys, *bars, *(y - 0.4 * spread for y in low)], room=0.12)  # what is said fits below


def draw_ground(graph: Graph, result: ClassResult) -> tuple[dict[int, float], float, float]:
    """The axes and the class line of a class that has points: run -> where it stands across, and the ends of what is seen."""
    x_unit, y_unit = result.points[0].x.unit, result.points[0].y.unit
    compared = not result.x_label
    bottom = "groups, each run a point" if compared else with_unit(result.x_label, x_unit)
    graph.name_axes(with_unit(pretty(result.y_label), y_unit), bottom)
    graph.getPlotItem().getAxis("bottom").setStyle(showValues=not compared)
    at = result.across()
    first, last = min(at.values()), max(at.values())
    margin = 0.7 if compared else 0.08 * ((last - first) or 1.0)
    _draw_class_line(graph, result, first - margin, last + margin)
    return at, first - margin, last + (1.0 if compared else 1.6) * margin


def _draw_histogram(graph: Graph, values: list[float], left: float) -> float:
    """How often each value came, as bars that lie beside the strip of groups; gives where they end."""
    edges = np.histogram_bin_edges(values, "fd")
    if not FEWEST_BARS <= len(edges) - 1 <= MOST_BARS:
        edges = np.linspace(min(values), max(values), min(max(len(edges) - 1, FEWEST_BARS), MOST_BARS) + 1)
    counts, _ = np.histogram(values, edges)
    room = HISTOGRAM * left
    bars = pg.BarGraphItem(
        x0=np.full(len(counts), left), x1=left + room * counts / max(1, counts.max()), y0=edges[:-1], y1=edges[1:],
        brush=translucent(palette().verdigris, 90), pen=pen(palette().card, 1),
    )  # fmt: skip
    graph.addItem(bars)
    graph.note(f"{len(values)} runs, how often", left, float(edges[-1]), palette().soft, anchor=(0, 1))
    return left + 1.05 * room


def _draw_class_line(graph: Graph, result: ClassResult, low: float, high: float) -> None:
    """The class line, or the level where groups are compared, with its band."""
    x = np.linspace(low, high, 80)
    drawn = result.line_and_band(x.tolist())
    if drawn is None:
        return
    y, wide = map(np.array, drawn)
    graph.band(x, y - wide, y + wide, palette().verdigris, 45)
    graph.line(x, y, palette().verdigris, 2)


def _draw_place(
    graph: Graph, place: GroupPlace, own: list[ClassPoint], at: dict[int, float], store: LessonStore,
    name_of: Callable[[str, int], str], all_: Sequence[GroupPlace], *, compared: bool, alike: bool,
) -> None:  # fmt: skip
    emblem = store.group(place.group).emblem
    colour, shape = (palette().ink, "circle") if alike else (hue(palette(), emblem.colour), emblem.shape)
    x, y = np.array([at[p.run] for p in own]), np.array([p.y.value for p in own])
    u_x, u_y = np.array([0.0 if compared else p.x.u for p in own]), np.array([p.y.u for p in own])
    graph.errors(x, y, u_x, u_y, colour)
    graph.points(x, y, SYMBOLS[shape], colour, size=13, faint=bool(place.aside))
    alias = name_of(place.alias, place.group)
    words = f"   {alias}" + (f" · set aside: {place.aside}" if place.aside else "")
    if place.stands_out and place.words:
        told = place.words
        for each in all_:  # the cause may name another group
            told = told.replace(each.alias, name_of(each.alias, each.group))
        words = f"   {FIRST_SENTENCE.match(told)[0]}"  # type: ignore[index]
    where = float(np.mean(x)) if compared else place.x.value
    far = where > (max(at.values()) + min(at.values())) / 2 and (place.stands_out or bool(place.aside))
    words = words.strip() + "   " if far else words  # a long note has its room on the left there
    graph.note(
        words,
        where,
        place.y.value,
        palette().red if place.stands_out else colour,
        anchor=(1 if far else 0, 0),
        wide=NOTE,
    )
