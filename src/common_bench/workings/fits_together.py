"""One formula fitted to several runs at once, some of its parameters the same in all of them. Readings of each run in; parameters
with what their uncertainty is made of out, those of single runs called `A of run 2`.

The squares of all runs are made small together; what is common to the readings of several runs, as a calibration, moves their
parameters together.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats, Series, joined
from common_bench.model.trouble import FindingTrouble
from common_bench.workings.fit_minimum import refined
from common_bench.workings.fit_problem import Formulated, Problem, sizes_of
from common_bench.workings.fitting import FoundFit, fitted, judged, weights_at
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value


class OfRun(NamedTuple):
    """One run of several. label: what its own parameters are called by; y: (n,) what is fitted; leaves: the parts of the formula
    without parameters, by node; began: s, from which `time` counts."""

    label: str
    y: Series
    leaves: Mapping[int, Value]
    began: float


class _AllRuns(Problem):
    """The formula over the readings of all runs, one after the other: a problem like that of one run, with more parameters."""

    def __init__(self, what: Formulated, runs: Sequence[OfRun], shared: Sequence[str]) -> None:
        self.runs = [Problem(what, each.y, each.leaves, each.began) for each in runs]
        own = [name for name in what.free if name not in shared]
        free = {name: what.free[name] for name in shared}
        free |= {f"{name} of {run.label}": what.free[name] for run in runs for name in own}
        names = list(free)
        self._places = [
            [names.index(name if name in shared else f"{name} of {run.label}") for name in what.free] for run in runs
        ]
        bounds = {name: what.bounds[each] for name in names if (each := name.partition(" of ")[0]) in what.bounds}
        self.what = replace(what, free=free, bounds=bounds)
        self.names = names
        self.y = joined([each.y for each in runs])
        self.leaves, self.began = {}, runs[0].began
        self._ends = np.cumsum([0, *(len(each.y) for each in runs)])

    def own(self, p: Floats | Sequence[float], run: int) -> Floats:
        """The parameters of one run, in its own order."""
        return np.asarray(p, float)[self._places[run]]

    def of(self, p: Sequence[float], leaves: Mapping[int, Value] | None = None) -> Floats:
        return np.concatenate([each.of(self.own(p, run).tolist()) for run, each in enumerate(self.runs)])

    def gradient(self, p: Floats, size: Floats) -> Floats:
        found = np.zeros((len(self.names), len(self.y)))
        for run, each in enumerate(self.runs):
            rows = each.gradient(self.own(p, run), self.own(size, run))
            found[self._places[run], self._ends[run] : self._ends[run + 1]] += rows
        return found

    def steepness(self, p: Floats) -> list[tuple[Series, Floats]]:
        return [
            (self._padded(leaf, run), self._laid(steep, run))
            for run, each in enumerate(self.runs)
            for leaf, steep in each.steepness(self.own(p, run))
        ]

    def held_steepness(self, p: Floats) -> list[tuple[NumberOf, Floats]]:
        found: dict[int, tuple[NumberOf, Floats]] = {}
        for run, each in enumerate(self.runs):
            for place, (held, steep) in enumerate(each.held_steepness(self.own(p, run))):
                before = found[place][1] if place in found else np.zeros(len(self.y))
                found[place] = held, before + self._laid(steep, run)
        return list(found.values())

    def _laid(self, values: Floats, run: int) -> Floats:
        found = np.zeros(len(self.y))
        found[self._ends[run] : self._ends[run + 1]] = values
        return found

    def _padded(self, leaf: Series, run: int) -> Series:
        parts = {source: self._laid(share, run) for source, share in leaf.parts.items()}
        return Series(self.y.t, self._laid(leaf.values, run), leaf.unit, parts)


def fitted_together(
    what: Formulated, runs: Sequence[OfRun], shared: Sequence[str], *, in_turn: bool = True
) -> FoundFit:
    """shared: parameters that are the same in all runs. Raises FindingTrouble where there is nothing to share, a run is not
    fitted by the formula alone, or nothing fits all."""
    unknown = [name for name in shared if name not in what.free]
    if unknown or not shared or len(runs) < 2:
        raise FindingTrouble("nothing-to-share", name=what.name, asked=", ".join(unknown) or "none", known=", ".join(what.free))  # fmt: skip
    alone = [fitted(what, each.y, each.leaves, each.began, in_turn=in_turn) for each in runs]
    problem = _AllRuns(what, runs, shared)
    start = np.zeros(len(problem.names))
    for name in shared:
        weights = np.array([1 / max(each.usual[name], 1e-300) ** 2 for each in alone])
        start[problem.names.index(name)] = float(np.average([each.values[name] for each in alone], weights=weights))
    for run, each in zip(runs, alone, strict=True):
        for name in set(what.free) - set(shared):
            start[problem.names.index(f"{name} of {run.label}")] = each.values[name]
    weights, stated = _weights(problem, start)
    for _ in range(2):
        found = refined(problem, weights, start)
        if found is None:
            raise FindingTrouble("fit-says-nothing", name=what.name, which=" and ".join(problem.names))
        start = found
        weights, stated = _weights(problem, start)
    return judged(problem, start, sizes_of(problem, start), weights, stated=stated, in_turn=in_turn)


def _weights(problem: _AllRuns, p: Floats) -> tuple[Floats, bool]:
    each = [weights_at(own, problem.own(p, run)) for run, own in enumerate(problem.runs)]
    stated = all(known for _, known in each)
    return (np.concatenate([weights for weights, _ in each]) if stated else np.ones(len(problem.y))), stated
