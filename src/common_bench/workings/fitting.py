"""Fits of a formula with free parameters: readings of a quantity, and of those in the formula, in; parameters with what their
uncertainty is made of out.

Weighted least squares; an uncertainty of what stands in the formula counts by how much the formula moves with it (effective
variance: Orear, Am. J. Phys. 50, 912 (1982)). Parameters that only scale or shift are solved for exactly wherever the others
are tried (Golub, Pereyra, SIAM J. Numer. Anal. 10, 413 (1973)); the others are tried on a grid of many sizes, and the best of
these are put right. What is common to all readings moves the parameters as a whole and does not shrink with their number.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats, Series, Source
from common_bench.model.trouble import FindingTrouble
from common_bench.workings.fit_long import in_long_numbers
from common_bench.workings.fit_minimum import refined
from common_bench.workings.fit_problem import Formulated, Problem, left_by, sizes_of
from common_bench.workings.fit_starts import started
from common_bench.workings.repeated import mean_of_readings, spread_of_sums
from common_bench.workings.spans import MadeBy, Note, NumberOf
from common_bench.workings.streams import Value

TURNED = 1e-6  # of the squares, by which a start with a sign the other way must be better, as in a sine turned round
TURNS = 3  # rounds in which the formula's steepness and the weights are brought together
EXPLAINED = 0.05  # of the squares about the mean, below which a given start has led somewhere
UNMOVED = 1e-9  # of what is fitted: a parameter that moves the curve less by all of its size says nothing
MOST_ALIKE = (
    3e6  # condition of the readings' equations beyond which their parameters cannot be told apart in double precision
)
MOST_ALIKE_LONG = 1e11  # and beyond which the last digit of a reading moves them by some of their own
LEAST = 0.01  # of a reading's own uncertainty, that is left of it where what stands in the formula moves alike
CANCELS = 1e3  # times the curve's own size, from which on its parts are large and only their difference is small
SCATTER = "scatter about the fit"
UNUSUAL = 2.0  # residuals that resemble their neighbours: half as many independent ones


class FoundFit(NamedTuple):
    """values: of the free parameters; parts: source -> what it moves them by; chi_square over dof; residuals (n,) at t (n,); sd: their size;
    usual: standard deviations of the parameters as least squares alone gives them, by the residuals' size and as if these
    were independent; curve, u_curve (n,): what the formula gives, and its standard uncertainty; independent: readings that the
    residuals are as good as; scores: (n, p) what each reading counts in each of the independent parts, squares add up to 1."""

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
    usual: dict[str, float]
    curve: Floats
    u_curve: Floats
    independent: float
    scores: Floats
    problem: Problem | None = None  # what was fitted
    in_turn: bool = True  # its readings were taken one after the other

    @property
    def residual(self) -> Series:
        """What it leaves of each reading."""
        return Series(self.t, self.residuals, self.unit)

    def number(self, name: str, of: str = "") -> NumberOf:
        """A parameter. of: what the formula was fitted to, by which the readings are known."""
        at = list(self.values).index(name)
        parts = {source: float(moves[at]) for source, moves in self.parts.items()}
        own = [source for source in parts if source.name == SCATTER]
        reach = {source: MadeBy(of, self.t, self.scores[:, k]) for k, source in enumerate(own)}
        return NumberOf(self.values[name], self.units[name], parts, len(self.t), notes=self.notes, reach=reach)

    @property
    def covariance(self) -> Floats:
        """(p, p) of the free parameters."""
        return np.asarray((moves := np.array(list(self.parts.values()))).T @ moves)


def fitted(
    what: Formulated, y: Series, leaves: Mapping[int, Value], began: float, start: Mapping[str, float] | None = None,
    *, in_turn: bool = True, clock_u: float = 0.0,
) -> FoundFit:  # fmt: skip
    """y: (n,) what is fitted, in `what.unit`; leaves: the parts of the formula without parameters, by node, at the same
    readings; began: s, from which `time` counts; in_turn: the readings were taken one after the other, so that neighbours
    may share an error; clock_u: relative standard uncertainty of the pace of the clock that told the times. Raises FindingTrouble where nothing fits."""
    problem, count = Problem(what, y, leaves, began, clock_u), len(what.free)
    if len(y) < count + 1:
        raise FindingTrouble("fit-with-too-few", needed=count + 1, name=what.name)
    sigma = _independent(y.parts, len(y))
    stated = bool((sigma > 0).all())
    weights = 1 / sigma if stated else np.ones(len(y))
    p = refined(problem, weights, np.array([start[n] for n in problem.names])) if start is not None else None
    if p is not None:  # a start that was given leads to the best minimum, or not
        with_own = (
            started(problem, weights) if start is not None and len(what.free) > 1 and not _fits(problem, p) else p
        )
        if left_by(problem, weights, with_own) < left_by(problem, weights, p) * (1 - TURNED):
            p = with_own
    else:
        p = started(problem, weights)
    size = sizes_of(problem, p)
    for turn in range(TURNS if stated else 1):
        before, weights = weights, weights_at(problem, p)[0]
        if turn and np.array_equal(before, weights):
            break
        again = refined(problem, weights, p)
        p = again if again is not None else p
    return judged(problem, p, size, weights, stated=stated, in_turn=in_turn)


def weights_at(problem: Problem, p: Floats) -> tuple[Floats, bool]:
    """(n,) one over what each reading is uncertain by on its own, what stands in the formula included; all alike, and False,
    where that is not stated. What stands in it more than once, as in a polynomial, or in what is fitted too, moves a reading as a whole."""
    n = len(problem.y)
    sigma = _independent(problem.y.parts, n)
    if not (sigma > 0).all():
        return np.ones(n), False
    moves = dict(problem.y.parts)
    for leaf, steep in problem.steepness(p):
        for source, share in leaf.parts.items():
            moves[source] = moves.get(source, np.zeros(n)) - steep * share
    return 1 / np.maximum(_independent(moves, n), LEAST * sigma), True


def _fits(problem: Problem, p: Floats) -> bool:
    """Whether a curve explains what a constant does not, so that no other start needs to be tried."""
    return left_by(problem, np.ones(len(problem.y)), p) < EXPLAINED * float(
        ((problem.y.values - problem.y.values.mean()) ** 2).sum()
    )


def _independent(parts: Mapping[Source, Floats], n: int) -> Floats:
    return np.sqrt(sum((share**2 for s, share in parts.items() if not s.common and s.dof > 0), np.zeros(n)))


def _cancelled(problem: Problem, p: Floats, size: Floats, jacobian: Floats, curve: Floats) -> float:
    """How much larger than the curve the parts of a formula are in which it is straight, as the powers of a polynomial."""
    largest = float(np.abs(curve).max())
    if not largest > 0 or float(np.abs(p[:, None] * jacobian).sum(axis=0).max()) <= CANCELS * largest:
        return 0.0
    straight = []
    for at in range(len(p)):
        moved = p.copy()
        moved[at] = 2 * p[at]
        straight.append(np.allclose(problem.gradient(moved, size)[at], jacobian[at], rtol=1e-9))
    found = float(np.abs((p[:, None] * jacobian)[straight]).sum(axis=0).max(initial=0.0)) / largest
    return float(f"{found:.0e}")  # its size is all that counts


def judged(problem: Problem, p: Floats, size: Floats, weights: Floats, *, stated: bool, in_turn: bool) -> FoundFit:
    y, names, what = problem.y, problem.names, problem.what
    n, count = len(y), len(p)
    jacobian = problem.gradient(p, size)
    weighed = jacobian * weights
    scaling = np.sqrt((weighed**2).sum(axis=1))
    moves_all = np.abs(weighed).max(axis=1) * size >= UNMOVED * float(np.abs(y.values * weights).max())
    if not np.isfinite(jacobian).all() or not (scaling > 0).all() or not moves_all.all():
        which = [name for name, moves in zip(names, moves_all.tolist(), strict=True) if not moves] or names
        raise FindingTrouble("fit-says-nothing", name=what.name, which=" and ".join(which))
    q, triangle = np.linalg.qr((weighed / scaling[:, None]).T)
    if np.linalg.cond(triangle) > MOST_ALIKE:
        long = in_long_numbers(problem, weights, p)
        if long is None or long.closeness > MOST_ALIKE_LONG:
            weak = np.abs(np.linalg.svd(triangle)[2][-1])
            which = [name for name, share in zip(names, weak.tolist(), strict=True) if share > 0.3 * weak.max()]
            raise FindingTrouble("fit-says-nothing", name=what.name, which=" and ".join(which), case="alike")
        p, residuals, scaling, q, undone, _ = long
    else:
        residuals = y.values - problem.of(p.tolist())
        undone = np.linalg.inv(triangle)  # of the readings' own equations, not of their squares: twice as many digits
    root = undone / scaling[:, None]
    back = root @ root.T
    gain = root @ (q.T * weights)  # (p, n): what each reading moves the parameters by
    chi_square, dof = float(((residuals * weights) ** 2).sum()), n - count
    by_scatter = back * (chi_square / dof)
    sizes = np.sqrt(np.diag(np.maximum(by_scatter, back) if stated else by_scatter))
    notes: tuple[Note, ...] = ()
    own_dof, independent = float(dof), float(n)
    if n >= 8 * count:
        for k in range(count) if in_turn else ():
            moves = gain[k] * residuals
            found = mean_of_readings(moves - moves.mean())
            sizes[k] = max(sizes[k], found.u * n * (n / dof) ** 0.5)
        together = mean_of_readings((residuals - residuals.mean()) * weights)
        if in_turn:
            independent = min(independent, together.independent)
            left = (independent / max(1.0, independent - count)) ** 0.5  # what the curve has taken of it
            sizes = np.maximum(sizes, spread_of_sums(residuals * weights, gain / weights) * left)
        if together.independent < n / UNUSUAL:
            notes = (Note("residuals-alike", together.independent),)
            own_dof = max(1.0, together.independent - count) if in_turn else own_dof
    root *= (sizes / np.sqrt(np.diag(back)))[:, None]
    parts = {Source(SCATTER, False, f"{k} of {what.name}", own_dof): root[:, k] for k in range(count)}
    notes += tuple(Note("at-bound", 0.0, name) for name in problem.at_bounds(p))
    cancelled = _cancelled(problem, p, size, jacobian, y.values - residuals)
    notes += (Note("cancels", cancelled),) if cancelled > CANCELS else ()
    for leaf, steep in [(y, -np.ones(n)), *problem.steepness(p)]:
        for source, share in leaf.parts.items():
            if source.common:
                parts[source] = parts.get(source, np.zeros(count)) - gain @ (steep * share)
    for number, steep in problem.held_steepness(p):
        for source, of_it in number.parts.items():
            parts[source] = parts.get(source, np.zeros(count)) - gain @ (steep * of_it)
    values = dict(zip(names, p.tolist(), strict=True))
    sd = float(np.sqrt((residuals**2).sum() / dof))
    usual = dict(zip(names, np.sqrt(np.diag(by_scatter)).tolist(), strict=True))
    u_curve = np.sqrt(np.sum([(moves @ jacobian) ** 2 for moves in parts.values()], axis=0))
    return FoundFit(
        values,
        what.free,
        parts,
        chi_square if stated else float("nan"),
        dof,
        y.t,
        residuals,
        sd,
        notes,
        what.unit,
        usual,
        y.values - residuals,
        u_curve,
        independent,
        q,
        problem,
        in_turn,
    )
