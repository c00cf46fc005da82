"""Where a fit begins: parameters of many sizes and those that the readings themselves propose, the best of them improved.

Parameters that only scale or shift are solved for exactly wherever the others are tried (Golub, Pereyra, SIAM J. Numer. Anal. 10,
413 (1973)).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from common_bench.model.block import Floats, Series
from common_bench.model.trouble import FindingTrouble
from common_bench.model.units import conversion, power, same_kind
from common_bench.workings.fit_minimum import refined
from common_bench.workings.fit_problem import Problem, left_by, sizes_of, spread_out

THINNED = 240  # readings by which starts are tried
TOLD_BY = 6000  # readings by which starts are put right and told apart
SIZES = np.geomspace(1e-3, 1e3, 37)  # of a parameter, in what its unit is measured by
MOST_STARTS, BEST = 1600, 5
REACHES = (
    1e-4,
    1e-2,
    1.0,
    1e2,
)  # sizes of parameters, of what their units are measured by, at which the formula is looked at
WIDTHS = np.array([1 / 60, 1 / 30, 1 / 12, 1 / 5, 1 / 2, 1.0, 3.0])  # of the reach of what a quantity is held against
HIDDEN, LOOKED_THROUGH = (
    0.05,
    240,
)  # share of what a curve does between readings that counts against a start; starts looked at
EQUAL = 1e-6  # of the squares, by which two minima are the same
MOST_FINE = 1 << 19  # readings whose spectrum is looked at between its own places
OSCILLATIONS = 6  # whose periods are proposed
MOST_LOOKS, FEW_LOOKS = 2000, 150  # at the formula on the way to a minimum
LOOKS_A_START = 500  # at the formula, before the best of the starts is put right to the last digit
MANY_BENT, IMPROVED = 3, 32  # parameters that bend the curve, from which on so many starts are improved first
CROWDED = 5  # such parameters, from which on the best starts are mixed
MIXED, GENERATIONS, FAR = 60, 150, 1e300  # starts that are mixed, how often, and what counts for one that says nothing
MOST_PART = 5.0  # reaches of the values, beyond which parts of a sum only cancel one another
TURNED = 1e-6  # of the squares, by which a start with a sign the other way must be better, as in a sine turned round


def started(problem: Problem, weights: Floats) -> Floats:
    """The best of many starts, refined."""
    small = problem.thinned(THINNED)
    plain = _plain_ones(small)
    others = [name for name in small.names if name not in plain]
    tried = sorted(
        _tries(small, problem, plain, others), key=lambda each: each[0] * (1 + TURNED * float(np.sum(each[1] < 0)))
    )
    some = spread_out(len(problem.y), TOLD_BY)
    fewer, its_weights = (problem, weights) if len(some) == len(problem.y) else (problem.at_rows(some), weights[some])
    share, even = len(fewer.y) / len(problem.y), np.ones(len(fewer.y))
    looked = [
        ((left if share == 1.0 else left_by(fewer, even, p)) + HIDDEN * share * problem.hidden(p.tolist()), p)
        for left, p in tried[:LOOKED_THROUGH]
    ]
    tried = [*sorted(looked, key=lambda each: each[0]), *tried[LOOKED_THROUGH:]]
    starts = [start for _, start in tried[: BEST if others else 1]]
    if len(others) >= MANY_BENT:
        evolved = [] if len(others) < CROWDED else _evolved(small, plain, [start for _, start in tried])
        starts = _improved(small, [*evolved, *(start for _, start in tried[:IMPROVED])])[:BEST]
    kept: list[tuple[bool, float, Floats]] = []
    for start in starts:
        found = refined(fewer, its_weights, start, LOOKS_A_START)
        if found is None:
            continue
        left = left_by(problem, weights, found) * (1 + TURNED * float(np.sum(found < 0)))
        dumb = not (np.abs(fewer.gradient(found, sizes_of(fewer, found)) * its_weights).max(axis=1) > 0).all()
        kept.append((dumb, left, found))  # one that every parameter still moves goes before all others
    if not kept:
        raise FindingTrouble("fit-says-nothing", name=problem.what.name, which=" and ".join(problem.names))
    best = min(kept, key=lambda each: each[:2])
    equal = [each for each in kept if each[0] == best[0] and each[1] <= best[1] * (1 + EQUAL)]
    chosen = min(equal, key=lambda each: problem.hidden(each[2].tolist())) if len(equal) > 1 else best
    return _turned(problem, weights, *chosen[1:])


def _improved(small: Problem, starts: list[Floats]) -> list[Floats]:
    """Starts after a few steps on some of the readings, the best first: where many parameters bend the curve, what is near
    the truth shows only then."""
    even = np.ones(len(small.y))
    found = [moved for start in starts if (moved := refined(small, even, start, FEW_LOOKS)) is not None]
    return sorted(found, key=lambda each: left_by(small, even, each))


def _evolved(small: Problem, plain: list[str], starts: list[Floats]) -> list[Floats]:
    """One start more where so many parameters bend the curve that no throw of dice comes near: the best ones are mixed again
    and again (differential evolution: Storn, Price, J. Glob. Optim. 11, 341 (1997)), those that only scale or shift being
    solved for."""
    from scipy.optimize import differential_evolution  # which takes its time to load

    rows = [at for at, name in enumerate(small.names) if name not in plain]
    straight = [at for at, name in enumerate(small.names) if name in plain]
    best = np.unique(np.array([start[rows] for start in starts[:MIXED]]), axis=0)
    low, high = best.min(axis=0), best.max(axis=0)
    if len(best) < 2 * len(rows) or not (high > low).all():
        return []

    reach = float(np.ptp(small.y.values))

    def solved(values: Floats) -> tuple[float, Floats, float] | None:
        p = np.zeros(len(small.names))
        p[rows] = values
        return _solved(small, np.clip(p, *small.ends), straight, small.y.values)

    def left(values: Floats) -> float:
        found = solved(values)
        if found is None:
            return FAR
        return found[0] * (1 + (found[2] / (MOST_PART * reach)) ** 4)  # not by parts that cancel one another

    with np.errstate(all="ignore"):
        mixed = differential_evolution(
            left, list(zip(low, high, strict=True)), init=best, maxiter=GENERATIONS, polish=False, rng=3, tol=1e-8
        )
    found = solved(mixed.x)
    return [] if found is None else [found[1]]


def _turned(problem: Problem, weights: Floats, left: float, p: Floats) -> Floats:
    """With the signs that people expect, and without whole turns of a phase, where others fit as well: a size may change its sign alone,
    or with half a turn of a phase."""

    def fits_as_well(other: Floats) -> bool:
        return problem.holds(other) and left_by(problem, weights, other) <= left * (1 + TURNED)

    phases = [at for at, name in enumerate(problem.names) if not problem.what.free[name]]
    for at in np.flatnonzero(p < 0).tolist():
        other = p.copy()
        other[at] = -other[at]
        if fits_as_well(other):
            p = other
            continue
        for phase in phases:
            half = other.copy()
            half[phase] += np.pi if half[phase] <= 0 else -np.pi
            if phase != at and fits_as_well(half):
                p = half
                break
    for at in np.flatnonzero(np.abs(p) > np.pi).tolist():
        other = p.copy()
        other[at] -= 2 * np.pi * round(other[at] / (2 * np.pi))
        if fits_as_well(other):
            p = other
    return p


def _plain_ones(problem: Problem) -> list[str]:
    """Parameters that only scale or shift: the formula is straight in all of them together."""
    dice = np.random.default_rng(7)
    plain: list[str] = []
    for name in problem.names:
        asked = [*plain, name]
        rows = [problem.names.index(each) for each in asked]
        straight = [_is_straight(problem, rows, size, dice) for size in REACHES]
        known = [each for each in straight if each is not None]
        if known and all(known):
            plain.append(name)
    return plain


def _is_straight(problem: Problem, rows: list[int], size: float, dice: np.random.Generator) -> bool | None:
    """Whether the formula is straight in these parameters together, about parameters of some size; None where it gives no
    numbers there, or does not follow them at all."""
    for _ in range(2):
        base = dice.uniform(0.5, 1.5, len(problem.names)) * _units(problem) * size
        one, two = dice.uniform(0.3, 0.9, (2, len(rows))) * size
        p00, p10, p01, p11 = (base.copy() for _ in range(4))
        p10[rows] += one
        p01[rows] += two
        p11[rows] += one + two
        f00, f10, f01, f11 = (problem.of(each.tolist()) for each in (p00, p10, p01, p11))
        off = np.abs(f11 - f10 - f01 + f00)
        large = np.abs(f11) + np.abs(f10) + np.abs(f01) + np.abs(f00)
        if not np.isfinite(off).all() or not (f11 != f00).any():
            return None
        if (off > 1e-9 * np.maximum(large, 1e-300)).any():
            return False
    return True


def _units(problem: Problem) -> Floats:
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


def _tries(problem: Problem, whole: Problem, plain: list[str], others: list[str]) -> list[tuple[float, Floats]]:
    """Parameters to begin with and what they leave of the squares: of every size, and those that the readings themselves
    propose. whole: the problem of which this is a part."""
    units = dict(zip(problem.names, _units(problem), strict=True))
    y = problem.y.values
    along = [(each, _periods_of(each, own, problem, whole)) for each, own in zip(_along(problem), _along(whole), strict=True)] if others else []  # fmt: skip
    proposed = [_proposed(problem, along, problem.what.free[name]) for name in others]
    sizes = [np.concatenate([SIZES, -SIZES, [0.0]]) * units[name] for name in others]
    grids = [np.unique(np.concatenate(each)) for each in zip(sizes, proposed, strict=True)]
    dice, total = np.random.default_rng(11), 1
    for grid in grids:
        total *= len(grid)
    if total <= MOST_STARTS:
        chosen: list[tuple[float, ...]] = list(itertools.product(*grids))
    else:
        chosen = [tuple(float(dice.choice(grid)) for grid in grids) for _ in range(MOST_STARTS // 2)]
        likely = [own if len(own) else grid for own, grid in zip(proposed, grids, strict=True)]
        chosen += [tuple(float(dice.choice(each)) for each in likely) for _ in range(MOST_STARTS // 2)]
    found = []
    for values in chosen:
        p = np.zeros(len(problem.names))
        p[[problem.names.index(each) for each in others]] = values
        p = np.clip(p, *problem.ends)
        solved = _solved(problem, p, [problem.names.index(each) for each in plain], y)
        if solved is not None:
            found.append(solved[:2])
    return found


def _proposed(problem: Problem, along: Sequence[tuple[Series, Floats]], unit: str) -> Floats:
    """What the readings propose for a parameter of some unit: places along what the quantity is held against, where it is
    largest and smallest, shares of its reach, periods of its strongest oscillations; or the inverse of these. along: what it is
    held against, with these periods."""
    found: list[Floats] = []
    for each, periods in along:
        x, y = each.values, problem.y.values
        reach = float(np.ptp(x))
        if not reach > 0 or not np.isfinite(reach):
            continue
        if same_kind(each.unit, unit):
            places = [np.quantile(x, np.linspace(0, 1, 13)), x[[int(np.argmax(y)), int(np.argmin(y))]]]
            own = np.concatenate([*places, reach * WIDTHS, *([periods] if len(periods) else [])])
            found.append(own * conversion(each.unit, unit)[0])
        if same_kind(power(each.unit, -1.0), unit) if each.unit else not unit:
            own = np.concatenate([1 / (reach * WIDTHS), 1 / periods, 2 * np.pi / periods])
            found.append(own * (conversion(power(each.unit, -1.0), unit)[0] if each.unit else 1.0))
    return np.unique(np.concatenate(found)) if found else np.empty(0)


def _along(problem: Problem) -> list[Series]:
    """What the quantity is held against."""
    known = [leaf for leaf in problem.leaves.values() if isinstance(leaf, Series)]
    return [*known, *([] if known and not problem.asks_time else [problem.time])]


def _periods_of(some: Series, all_of_it: Series, problem: Problem, whole: Problem) -> Floats:
    """Of the strongest oscillations of a part of the readings, and of all of them."""
    if not 0 < float(np.ptp(some.values)) < np.inf:
        return np.empty(0)
    periods = _periods(some.values, problem.y.values)
    if len(whole.y) == len(problem.y):
        return periods
    return np.concatenate([periods, _periods(all_of_it.values, whole.y.values)])


def _periods(x: Floats, y: Floats) -> Floats:
    """Of the strongest oscillations along x, and a little beside them."""
    if len(x) < 8:
        return np.empty(0)
    order = np.argsort(x)
    even = np.interp(np.linspace(x[order[0]], x[order[-1]], len(x)), x[order], y[order])
    finer = 4 if len(x) <= MOST_FINE else 1
    spectrum = np.abs(np.fft.rfft((even - even.mean()) * np.hanning(len(x)), finer * len(x)))
    inner = np.flatnonzero((spectrum[1:-1] > spectrum[:-2]) & (spectrum[1:-1] >= spectrum[2:])) + 1
    if not len(inner):
        inner = np.array([max(1, int(np.argmax(spectrum)))])
    strongest = inner[np.argsort(spectrum[inner])[::-1][:OSCILLATIONS]]
    near = np.array([0.5, 0.9, 0.95, 1.0, 1.05, 1.1, 2.0])
    return np.asarray(np.outer(finer * float(np.ptp(x)) / strongest, near).ravel())


@np.errstate(all="ignore")  # what overflows is told by the number that it leaves
def _solved(problem: Problem, p: Floats, plain: list[int], y: Floats) -> tuple[float, Floats, float] | None:
    """The best parameters that only scale or shift, where the others are given: what is left of the squares, all parameters,
    and the largest that one of these adds to the curve."""
    base = problem.of(p.tolist())
    columns = []
    for at in plain:
        one = p.copy()
        one[at] = 1.0
        columns.append(problem.of(one.tolist()) - base)
    if not np.isfinite(base).all() or not all(np.isfinite(each).all() for each in columns):
        return None
    largest = 0.0
    if columns:
        design = np.array(columns).T
        scale = np.abs(design).max(axis=0)
        scale = np.where(scale > 0, scale, 1.0)  # so that none is taken for nothing beside one that is much larger
        p[plain] = np.linalg.lstsq(design / scale, y - base, rcond=1e-12)[0] / scale
        largest = float((np.abs(p[plain]) * scale).max())
        base = base + design @ p[plain]
        if not problem.holds(p):
            p = np.clip(p, *problem.ends)
            base = problem.of(p.tolist())
    left = float(((y - base) ** 2).sum())
    return (left, p, largest) if np.isfinite(left) else None
