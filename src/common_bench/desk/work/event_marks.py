"""Events of a run, marked on the line in which they were looked for."""

from __future__ import annotations

import numpy as np

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.sheet import palette
from common_bench.lesson.plan_editing import looked_at
from common_bench.model.block import Events, Floats, Series
from common_bench.record.replay import Replayed

SYMBOLS = ("t", "d", "t1", "s")  # of events, by which kinds are told apart
Marks = tuple[str, Floats, Floats]
"""The name of some events, their times in s, and the heights at which their marks stand."""


def draw_events(
    graph: Graph, replayed: Replayed, drawn: str, series: Series, scale: float = 1.0, foot: float = 0.0, *, own: bool = False
) -> list[Marks]:  # fmt: skip
    """All events that are looked for in what is drawn, or the first ones where none are (own: none then), above its line, which is drawn at
    foot + scale × its values; those that are set aside faint. Of several kinds each is called by its name."""
    kinds = {name: each for name, each in replayed.results.items() if isinstance(each, Events) and len(each)}
    looked_for = {line.name for line in replayed.workings.lines if looked_at(line.text) == drawn}
    chosen = [name for name in kinds if name in looked_for] or ([] if own else list(kinds)[:1])
    setting, spread = replayed.run.setting, scale * float(np.nanmax(series.values) - np.nanmin(series.values))
    marks = []
    for at, name in enumerate(chosen):
        gone = [each for each in (setting.left_out if setting is not None else ()) if each.event == name]
        symbol, above = SYMBOLS[at % len(SYMBOLS)], 0.06 * (1 + at) * spread
        for times, faint in ((kinds[name].t, False), (np.array([(e.t_from + e.t_to) / 2 for e in gone]), True)):
            heights = foot + scale * np.interp(times, series.t, series.values) + above
            graph.points(times, heights, symbol, palette().amber if faint else palette().ink, size=7, faint=faint)
            if not faint:
                marks.append((name, times, heights))
                if len(chosen) > 1:
                    graph.note(f" {name}", float(times[0]), float(heights[0]), palette().ink, anchor=(0, 1))
    return marks
