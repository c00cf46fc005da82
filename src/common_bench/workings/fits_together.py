"""One formula fitted to several runs at once, some of its parameters the same in all of them. Readings of each run in; parameters
with what their uncertainty is made of out, those of single runs called `A of run 2`.

The squares of all runs are made small together; what is common to the readings of several runs, as a calibration, moves their
parameters together.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from common_bench.model.block import Floats, Series, joined
from common_bench.model.trouble import FindingTrouble
from common_bench.workings.fit_minimum import refined
from common_bench.workings.fit_problem import Problem, sizes_of
from common_bench.workings.fitting import FoundFit, judged, weights_at
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value

LEAST_U = 1e-150  # of a parameter that fits exactly


class _AllRuns(Problem):
    """The formula over the readings of all runs, one after the other: a problem like that of one run, with more parameters."""

    def __init__(self, runs: Sequence[Problem], labels: Sequence[str], shared: Sequence[str]) -> None:
        self.runs, what = runs, runs[0].what
        own = [name for name in what.free if name not in shared]
        free = {name: what.free[name] for name in shared}
        free |= {own_name(name, label): what.free[name] for label in labels for name in own}
        names = list(free)
        self._places = [
            [names.index(name if name in shared else own_name(name, label)) for name in what.free] for label in labels
        ]
        bounds = {
            names[place]: what.bounds[name]
            for places in self._places
            for place, name in zip(places, what.free, strict=True)
            if name in what.bounds
        }
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

    def straight_columns(self) -> tuple[Any, Any] | None:
        parts = [each.straight_columns() for each in self.runs]
        found = np.zeros((len(self.y), len(self.names)), np.longdouble)
        for run, part in enumerate(parts):
            if part is None:
                return None
            found[self._ends[run] : self._ends[run + 1], self._places[run]] = part[0]
        return found, np.concatenate([part[1] for part in parts if part is not None])

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


def own_name(name: str, label: str) -> str:
    """What a parameter that one run has for itself is called."""
    return f"{name} of {label}"


def fitted_together(alone: Sequence[FoundFit], labels: Sequence[str], shared: Sequence[str]) -> FoundFit:
    """alone: the same formula fitted to each run; labels: what the runs are called; shared: parameters that are the same in all of
    them. Raises FindingTrouble where there is nothing to share, or nothing fits all."""
    runs = [each.problem for each in alone if each.problem is not None]
    what = runs[0].what
    unknown = [name for name in shared if name not in what.free]
    if unknown or not shared or len(runs) < 2:
        raise FindingTrouble("nothing-to-share", name=what.name, asked=", ".join(unknown) or "none", known=", ".join(what.free))  # fmt: skip
    problem, in_turn = _AllRuns(runs, labels, shared), all(each.in_turn for each in alone)
    start = np.zeros(len(problem.names))
    for name in shared:
        weights = np.array([1 / max(each.usual[name], LEAST_U) ** 2 for each in alone])
        start[problem.names.index(name)] = float(np.average([each.values[name] for each in alone], weights=weights))
    for label, each in zip(labels, alone, strict=True):
        for name in set(what.free) - set(shared):
            start[problem.names.index(own_name(name, label))] = each.values[name]
    weights, stated = _weights(problem, start)
    for _ in range(2):
        found = refined(problem, weights, start)
        if found is None:
            raise FindingTrouble("fit-says-nothing", name=problem.what.name, which=" and ".join(problem.names))
        start = found
        weights, stated = _weights(problem, start)
    return judged(problem, start, sizes_of(problem, start), weights, stated=stated, in_turn=in_turn)


def _weights(problem: _AllRuns, p: Floats) -> tuple[Floats, bool]:
    each = [weights_at(own, problem.own(p, run)) for run, own in enumerate(problem.runs)]
    stated = all(known for _, known in each)
    return (np.concatenate([weights for weights, _ in each]) if stated else np.ones(len(problem.y))), stated
