"""What stands under a run: what a curve leaves of each reading, and each value at its events."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, say
from common_bench.desk.look.sheet import palette
from common_bench.desk.work.run_graphs import MOST_DRAWN
from common_bench.exchange.tables import with_unit
from common_bench.model.bench import Emblem
from common_bench.model.block import Series
from common_bench.model.measured import written
from common_bench.model.run import Finding
from common_bench.record.replay import Replayed
from common_bench.workings.fit_problem import spread_out
from common_bench.workup.curves import RunCurve
from common_bench.workup.span_rule import main_span


class ResidualsGraph(Card):
    """What a curve leaves of each reading."""

    def __init__(self) -> None:
        super().__init__("Residuals", name=True)
        self.graph = Graph()
        self.add(self.graph)

    def show_curve(self, curve: RunCurve | None, emblem: Emblem, seconds: float) -> None:
        self.setVisible(curve is not None)
        if curve is None:
            return
        fit = curve.fit
        self.graph.wipe()
        rows = spread_out(len(fit.t), MOST_DRAWN)
        self.graph.level(0.0, palette().soft)
        self.graph.points(fit.t[rows], fit.residuals[rows], "o", hue(palette(), emblem.colour), size=4)
        self.graph.name_time(with_unit("residual", fit.unit), seconds)
        self.graph.setXRange(0, seconds, padding=0.02)
        self.graph.frame_values(fit.residuals)
        say(self.aside, f"scatter {written(fit.sd, 0.05 * fit.sd, fit.unit)}")


class EachGraph(Card):
    """Each value at its events, those that the finding uses and those that it does not."""

    def __init__(self) -> None:
        super().__init__("", name=True)
        self.graph = Graph()
        self.add(self.graph)

    def show_each(self, replayed: Replayed, findings: Sequence[Finding], show: Sequence[str], emblem: Emblem) -> None:
        self.graph.wipe()
        at_events = {
            name: found
            for name, found in replayed.results.items()
            if isinstance(found, Series) and found.since is not None and name in show and len(found)
        }
        name = next(iter(at_events), "")
        self.setVisible(bool(name))
        if not name or not findings:
            return
        each, span, colour = (
            at_events[name],
            main_span(findings) or (0.0, replayed.seconds),
            hue(palette(), emblem.colour),
        )
        used = (each.began >= span[0]) & (each.t <= span[1]) & np.isfinite(each.values)
        say(self.heading, f"Each {name}")
        say(self.aside, f"{with_unit(name, each.unit)} in order · mean ± scatter shaded")
        if used.any():
            mean, scatter = float(each.values[used].mean()), float(each.values[used].std())
            ends = np.array([float(each.t[0]), float(each.t[-1])])
            self.graph.band(ends, np.full(2, mean - scatter), np.full(2, mean + scatter), colour, 35)
            self.graph.level(mean, colour)
            self.graph.points(each.t[used], each.values[used], "o", colour, size=8)
        if (~used).any():
            self.graph.points(each.t[~used], each.values[~used], "o", palette().soft, size=8, faint=True)
        self.graph.name_time(with_unit(name, each.unit), replayed.seconds)
        self.graph.setXRange(0, replayed.seconds, padding=0.02)
        self.graph.frame_values(each.values)
