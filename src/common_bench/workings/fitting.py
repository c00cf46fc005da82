"""Fits of a formula with free parameters: readings of a quantity, and of those in the formula, in; parameters with what their
uncertainty is made of out.

Weighted least squares; an uncertainty of what stands in the formula counts by how much the formula moves with it (effective
variance: Orear, Am. J. Phys. 50, 912 (1982)). Parameters that only scale or shift are solved for exactly wherever the others
are tried (Golub, Pereyra, SIAM J. Numer. Anal. 10, 413 (1973)); the others are tried on a grid of many sizes, and the best of
these are put right. What is common to all readings moves the parameters as a whole and does not shrink with their number.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats, Series, Source
from common_bench.model.trouble import FindingTrouble
from common_bench.model.units import conversion, power, same_kind
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.compiled import NotCompiled, Worked, as_array, compiled
from common_bench.workings.reading import Node
from common_bench.workings.repeated import mean_of_readings
from common_bench.workings.shapes import TIME
from common_bench.workings.spans import Note, NumberOf
from common_bench.workings.streams import Value

THINNED = 240  # readings by which starts are tried
SIZES = np.geomspace(1e-3, 1e3, 37)  # of a parameter, in what its unit is measured by
MOST_STARTS, BEST = 1600, 4
TURNED = 1e-6  # of the squares, by which a start with a sign the other way must be better, as in a sine turned round
MOVED = 1e-6  # of a parameter's size, by which derivatives are taken
TURNS = 3  # rounds in which the formula's steepness and the weights are brought together
UNUSUAL = 2.0  # residuals that resemble their neighbours: half as many independent ones


@dataclass(frozen=True)
class Formulated:
    """A formula to be fitted. free: parameters with their units; held: those that are not free; unit: of what is fitted; name: of the line."""

    formula: Node
    free: Mapping[str, str]
    held: Mapping[str, NumberOf]
    unit: str
    name: str


class FoundFit(NamedTuple):
    """values: of the free parameters; parts: source -> what it moves them by; chi_square over dof; residuals (n,) at t (n,); sd: their size."""

    values: dict[str, float]
    units: Mapping[str, str]
    parts: dict[Source, Floats]
    chi_square: float
    dof: int
    t: Floats
    residuals: Floats
    sd: float
    notes: tuple[Note, ...]
    unit: str

    @property
    def residual(self) -> Series:
        """What it leaves of each reading."""
        return Series(self.t, self.residuals, self.unit)

    def number(self, name: str) -> NumberOf:
        at = list(self.values).index(name)
        parts = {source: float(moves[at]) for source, moves in self.parts.items()}
        return NumberOf(self.values[name], self.units[name], parts, len(self.t), notes=self.notes)

    @property
    def covariance(self) -> Floats:
        """(p, p) of the free parameters."""
        return np.asarray((moves := np.array(list(self.parts.values()))).T @ moves)


class _Problem:
    """The formula over some readings: what it gives for parameters, and how well that fits."""

    def __init__(self, what: Formulated, y: Series, leaves: Mapping[int, Value], began: float) -> None:
        self.what, self.y, self.leaves, self.began = what, y, leaves, began
        self.names = list(what.free)
        self.time = Series(y.t, y.t - began, "s")
        self._quick = self._compile()

    def _compile(self) -> tuple[Worked, float, float] | None:
        """A quick function for parameters, leaves and the time, and what brings it to the unit of what is fitted."""
        what, places = self.what, list(self.leaves)

        def inputs(node: Node) -> tuple[int, str] | None:
            if id(node) in self.leaves:
                leaf = self.leaves[id(node)]
                assert isinstance(leaf, Series | NumberOf)
                return len(self.names) + places.index(id(node)), leaf.unit
            if node.form != "name":
                return None
            if node.word in self.names:
                return self.names.index(node.word), what.free[node.word]
            if node.word in what.held:
                return len(self.names) + len(places) + list(what.held).index(node.word), what.held[node.word].unit
            return (len(self.names) + len(places) + len(what.held), "s") if node.word == TIME else None

        try:
            made, unit = compiled(what.formula, inputs)
        except NotCompiled:
            return None
        return made, *conversion(unit, what.unit)

    def of(self, p: Sequence[float], leaves: Mapping[int, Value] | None = None) -> Floats:
        """(n,) what the formula gives, in the unit of what is fitted."""
        own = leaves or self.leaves
        if self._quick is not None:
            made, factor, offset = self._quick
            values = [each.value if isinstance(each, NumberOf) else each.values for each in own.values()]  # type: ignore[union-attr]
            held = [each.value for each in self.what.held.values()]
            with np.errstate(all="ignore"):
                return as_array(made([*p, *values, *held, self.time.values]), len(self.y)) * factor + offset
        given = {n: NumberOf(float(v), self.what.free[n]) for n, v in zip(self.names, p, strict=True)}

        def value(node: Node) -> Value:
            if id(node) in own:
                return own[id(node)]
            if node.form == "name" and node.word in given:
                return given[node.word]
            if node.form == "name" and node.word in self.what.held:
                return self.what.held[node.word]
            if node.form == "name" and node.word == TIME:
                return self.time
            return elementwise(node, [value(each) for each in node.operands], self.what.name)

        with np.errstate(all="ignore"):
            found = shown_in(value(self.what.formula), self.what.unit)
        if isinstance(found, Series):
            return np.asarray(found.values, float)
        assert isinstance(found, NumberOf)
        return np.full(len(self.y), found.value)

    def gradient(self, p: Floats, size: Floats) -> Floats:
        """(p, n) how what the formula gives follows each parameter."""
        rows = []
        for at in range(len(p)):
            step = MOVED * size[at]
            up, down = p.copy(), p.copy()
            up[at] += step
            down[at] -= step
            rows.append((self.of(up.tolist()) - self.of(down.tolist())) / (2 * step))
        return np.array(rows)

    def steepness(self, p: Floats) -> list[tuple[Series, Floats]]:
        """How what the formula gives follows each quantity in it."""
        found = []
        for place, leaf in self.leaves.items():
            if isinstance(leaf, Series) and leaf.parts:
                size = float(np.ptp(leaf.values)) or 1.0
                moved = [Series(leaf.t, leaf.values + sign * MOVED * size, leaf.unit) for sign in (1.0, -1.0)]
                up, down = (self.of(p.tolist(), {**self.leaves, place: each}) for each in moved)
                found.append((leaf, (up - down) / (2 * MOVED * size)))
        return found

    def thinned(self, most: int) -> _Problem:
        if len(self.y) <= most:
            return self
        rows = np.linspace(0, len(self.y) - 1, most).astype(int)
        leaves = {
            place: Series(leaf.t[rows], leaf.values[rows], leaf.unit) if isinstance(leaf, Series) else leaf
            for place, leaf in self.leaves.items()
        }
        y = Series(self.y.t[rows], self.y.values[rows], self.y.unit)
        return _Problem(self.what, y, leaves, self.began)


def fitted(
    what: Formulated, y: Series, leaves: Mapping[int, Value], began: float, start: Mapping[str, float] | None = None
) -> FoundFit:
    """y: (n,) what is fitted, in `what.unit`; leaves: the parts of the formula without parameters, by node, at the same
    readings; began: s, from which `time` counts. Raises FindingTrouble where nothing fits."""
    problem, count = _Problem(what, y, leaves, began), len(what.free)
    if len(y) < count + 1:
        raise FindingTrouble("fit-with-too-few", needed=count + 1, name=what.name)
    sigma = _independent(y.parts, len(y))
    stated = bool((sigma > 0).all())
    weights = 1 / sigma if stated else np.ones(len(y))
    p = _refined(problem, weights, np.array([start[n] for n in problem.names])) if start is not None else None
    if p is None:
        p = _started(problem, weights)
    size = _sizes(problem, p)
    for _ in range(TURNS if stated else 1):
        extra = [(steep * _independent(leaf.parts, len(y))) ** 2 for leaf, steep in problem.steepness(p)]
        if stated and extra and any(each.any() for each in extra):
            weights = 1 / np.sqrt(sigma**2 + np.sum(extra, axis=0))
        again = _refined(problem, weights, p)
        p = again if again is not None else p
    return _judged(problem, p, size, weights, stated=stated)


def _independent(parts: Mapping[Source, Floats], n: int) -> Floats:
    return np.sqrt(sum((share**2 for s, share in parts.items() if not s.common and s.dof > 0), np.zeros(n)))


def _sizes(problem: _Problem, p: Floats) -> Floats:
    scale = float(np.ptp(problem.y.values)) or 1.0
    return np.where(p != 0, np.abs(p), scale)


def _judged(problem: _Problem, p: Floats, size: Floats, weights: Floats, *, stated: bool) -> FoundFit:
    y, names, what = problem.y, problem.names, problem.what
    residuals = y.values - problem.of(p.tolist())
    n, count = len(y), len(p)
    jacobian = problem.gradient(p, size)
    weighed = jacobian * weights
    scaling = np.sqrt((weighed**2).sum(axis=1))
    if not np.isfinite(jacobian).all() or not (scaling > 0).all():
        raise FindingTrouble("fit-says-nothing", name=what.name)
    normal = (weighed / scaling[:, None]) @ (weighed / scaling[:, None]).T
    if np.linalg.cond(normal) > 1e13:
        raise FindingTrouble("fit-says-nothing", name=what.name)
    back = np.linalg.inv(normal) / np.outer(scaling, scaling)
    gain = back @ (weighed * weights)  # (p, n): what each reading moves the parameters by
    chi_square, dof = float(((residuals * weights) ** 2).sum()), n - count
    by_scatter = back * (chi_square / dof)
    sizes = np.sqrt(np.diag(np.maximum(by_scatter, back) if stated else by_scatter))
    notes: tuple[Note, ...] = ()
    own_dof = float(dof)
    if n >= 8 * count:
        for k in range(count):
            moves = gain[k] * residuals
            found = mean_of_readings(moves - moves.mean())
            sizes[k] = max(sizes[k], found.u * n * (n / dof) ** 0.5)
        together = mean_of_readings((residuals - residuals.mean()) * weights)
        if together.independent < n / UNUSUAL:
            notes = (Note("residuals-alike", together.independent),)
            own_dof = max(1.0, together.independent - count)
    diagonal = np.sqrt(np.diag(back))
    likeness = back / np.outer(diagonal, diagonal)
    root = np.linalg.cholesky(likeness + 1e-12 * np.eye(count)) * sizes[:, None]
    parts = {Source("scatter about the fit", False, f"{k} of {what.name}", own_dof): root[:, k] for k in range(count)}
    for leaf, steep in [(y, -np.ones(n)), *problem.steepness(p)]:
        for source, share in leaf.parts.items():
            if source.common:
                parts[source] = parts.get(source, np.zeros(count)) - gain @ (steep * share)
    values = dict(zip(names, p.tolist(), strict=True))
    sd = float(np.sqrt((residuals**2).sum() / dof))
    return FoundFit(
        values, what.free, parts, chi_square if stated else float("nan"), dof, y.t, residuals, sd, notes, what.unit
    )


def _refined(problem: _Problem, weights: Floats, start: Floats) -> Floats | None:
    """The nearest minimum; None where none is near."""
    from scipy.optimize import least_squares

    size = _sizes(problem, start)

    def off(scaled: Floats) -> Floats:
        found = (problem.of((scaled * size).tolist()) - problem.y.values) * weights
        return np.where(np.isfinite(found), found, 1e12)

    try:
        told = least_squares(off, start / size, method="lm" if len(problem.y) >= len(start) else "trf", max_nfev=400)
    except (ValueError, np.linalg.LinAlgError):
        return None
    found = np.asarray(told.x * size, float)
    return found if np.isfinite(found).all() and np.isfinite(told.cost) and told.cost < 1e20 else None


def _started(problem: _Problem, weights: Floats) -> Floats:
    """The best of many starts, refined."""
    small = problem.thinned(THINNED)
    plain = _plain_ones(small)
    others = [name for name in small.names if name not in plain]
    tried = sorted(_tries(small, plain, others), key=lambda each: each[0] * (1 + TURNED * float(np.sum(each[1] < 0))))
    best: tuple[float, Floats] | None = None
    for _, start in tried[: BEST if others else 1]:
        found = _refined(problem, weights, start)
        if found is None:
            continue
        left = float((((problem.of(found.tolist()) - problem.y.values) * weights) ** 2).sum())
        left *= 1 + TURNED * float(np.sum(found < 0))
        if best is None or left < best[0]:
            best = left, found
    if best is None:
        raise FindingTrouble("fit-says-nothing", name=problem.what.name)
    return _turned(problem, weights, *best)


def _turned(problem: _Problem, weights: Floats, left: float, p: Floats) -> Floats:
    """With the signs that people expect, where others fit as well."""
    for at in np.flatnonzero(p < 0).tolist():
        other = p.copy()
        other[at] = -other[at]
        its = float((((problem.of(other.tolist()) - problem.y.values) * weights) ** 2).sum())
        if its <= left * (1 + TURNED):
            p = other
    return p


def _plain_ones(problem: _Problem) -> list[str]:
    """Parameters that only scale or shift: the formula is straight in all of them together."""
    dice = np.random.default_rng(7)
    plain: list[str] = []
    for name in problem.names:
        asked = [*plain, name]
        rows = [problem.names.index(each) for each in asked]
        straight = True
        for _ in range(2):
            base = dice.uniform(0.5, 1.5, len(problem.names)) * _units(problem)
            one, two = dice.uniform(0.3, 0.9, (2, len(rows)))
            p00, p10, p01, p11 = (base.copy() for _ in range(4))
            p10[rows] += one
            p01[rows] += two
            p11[rows] += one + two
            f00, f10, f01, f11 = (problem.of(each.tolist()) for each in (p00, p10, p01, p11))
            off = np.abs(f11 - f10 - f01 + f00)
            large = np.abs(f11) + np.abs(f10) + np.abs(f01) + np.abs(f00)
            known = np.isfinite(off)
            straight &= bool(known.all() and (off <= 1e-9 * np.maximum(large, 1e-300)).all())
        if straight:
            plain.append(name)
    return plain


def _units(problem: _Problem) -> Floats:
    """By what each parameter may be measured: a quantity of its kind, or of its inverse, in the formula."""
    scales = []
    series = [problem.time, problem.y, *(leaf for leaf in problem.leaves.values() if isinstance(leaf, Series))]
    for name in problem.names:
        unit, scale = problem.what.free[name], 1.0
        for each in series:
            size = float(np.nanmax(np.abs(each.values))) if len(each) else 0.0
            if not each.unit or not size > 0:
                continue
            if same_kind(each.unit, unit):
                scale = size * conversion(each.unit, unit)[0]
                break
            if same_kind(power(each.unit, -1.0), unit):
                scale = conversion(power(each.unit, -1.0), unit)[0] / size
                break
        scales.append(scale)
    return np.array(scales)


def _tries(problem: _Problem, plain: list[str], others: list[str]) -> list[tuple[float, Floats]]:
    units = dict(zip(problem.names, _units(problem), strict=True))
    y = problem.y.values
    grids = []
    for name in others:
        sizes = np.concatenate([SIZES, -SIZES, [0.0]]) * units[name]
        if len(others) < 3:
            sizes = np.unique(np.concatenate([sizes, _paces(problem, problem.what.free[name])]))
        grids.append(sizes)
    dice, total = np.random.default_rng(11), 1
    for grid in grids:
        total *= len(grid)
    if total <= MOST_STARTS:
        chosen: list[tuple[float, ...]] = list(itertools.product(*grids))
    else:
        chosen = [tuple(float(dice.choice(grid)) for grid in grids) for _ in range(MOST_STARTS)]
    found = []
    for values in chosen:
        p = np.zeros(len(problem.names))
        p[[problem.names.index(each) for each in others]] = values
        solved = _solved(problem, p, [problem.names.index(each) for each in plain], y)
        if solved is not None:
            found.append(solved)
    return found


def _paces(problem: _Problem, unit: str) -> Floats:
    """What the strongest oscillation of the quantity would make of a parameter in 1/s, s or turns."""
    t, v = problem.y.t, problem.y.values
    if len(t) < 8 or (not same_kind(unit, "s") and not same_kind(unit, "1/s")):
        return np.empty(0)
    even = np.interp(np.linspace(t[0], t[-1], len(t)), t, v)
    spectrum = np.abs(np.fft.rfft((even - even.mean()) * np.hanning(len(t)), 4 * len(t)))
    pace = max(1, int(np.argmax(spectrum))) / (4 * (t[-1] - t[0]))
    near = pace * np.array([0.5, 0.8, 0.9, 0.95, 1.0, 1.05, 1.1, 1.25, 2.0])
    if same_kind(unit, "s"):
        return np.asarray(conversion("s", unit)[0] / near)
    return np.asarray(np.concatenate([near, 2 * np.pi * near]) * conversion("1/s", unit)[0])


def _solved(problem: _Problem, p: Floats, plain: list[int], y: Floats) -> tuple[float, Floats] | None:
    """The best parameters that only scale or shift, where the others are given; what is left of the squares."""
    base = problem.of(p.tolist())
    columns = []
    for at in plain:
        one = p.copy()
        one[at] = 1.0
        columns.append(problem.of(one.tolist()) - base)
    if not np.isfinite(base).all() or not all(np.isfinite(each).all() for each in columns):
        return None
    if columns:
        design = np.array(columns).T
        p[plain], *_ = np.linalg.lstsq(design, y - base, rcond=1e-12)
        base = base + design @ p[plain]
    left = float(((y - base) ** 2).sum())
    return (left, p) if np.isfinite(left) else None
