"""The sums by which a line through groups is fitted, compiled to machine code: a class with its groups judged one by one asks for
some hundred lines. Places and powers of x in, coefficients, scatter and degrees of freedom out; `group_line` says by which sources.
"""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats, Ints
from common_bench.workings.loops import part_of_loop, short_loop

ROUNDS, SETTLED = 40, 1e-9  # of the slope, and the relative change at which it stands
NEARLY = 1e-7  # of the stated variance, to which that between groups is found; far below what it is known by
MOST_BETWEEN = 1e12  # times the stated variance, beyond which that between groups is not looked for
STEPS = 200  # of a search that at worst halves what is left, from MOST_BETWEEN to NEARLY
LEAST_WITHIN = 2  # degrees of freedom within groups, from which their scatter from place to place is told
TINY = 1e-12  # of the largest variance, below which none is taken
SINGULAR = 1e-13  # share of a product of two informations, below which they tell the same
LOST = 1e-15  # of a column's largest sum, below which what is left of it is rounding
UNMOVED = 1e-10  # of a column's size, by which it must differ within groups to tell anything there


@part_of_loop
def _powers_of(x: Floats, powers: Ints) -> Floats:
    """(n, p) powers of x."""
    found = np.empty((len(x), len(powers)))
    for i in range(len(x)):
        for k in range(len(powers)):
            found[i, k] = x[i] ** powers[k]
    return found


@part_of_loop
def _steepness(x: Floats, powers: Ints, coefficients: Floats) -> Floats:
    """(n,) slope of the curve at x."""
    found = np.zeros(len(x))
    for i in range(len(x)):
        for k in range(len(powers)):
            if powers[k]:
                found[i] += powers[k] * coefficients[k] * x[i] ** (powers[k] - 1)
    return found


@part_of_loop
def _largest(of: Floats) -> float:
    """The largest size; no number where one is none."""
    found = 0.0
    for each in of:
        found = max(found, abs(each)) if each == each else each
        if found != found:
            break
    return found


@part_of_loop
def _residuals(powered: Floats, y: Floats, coefficients: Floats) -> Floats:
    """(n,) what the line leaves of y."""
    found = y.copy()
    for i in range(len(y)):
        for k in range(len(coefficients)):
            found[i] -= powered[i, k] * coefficients[k]
    return found


@part_of_loop
def _products(one: Floats, other: Floats, spread: Floats, between: float, member: Ints, count: int) -> Floats:
    """(p, q) oneᵀ V⁻¹ other, V the variances of places and what groups' offsets add (Sherman, Morrison, Ann. Math. Stat. 21,
    124 (1950), group by group)."""
    n, p, q = len(one), one.shape[1], other.shape[1]
    found, ones, others = np.zeros((p, q)), np.zeros((count, p)), np.zeros((count, q))
    weights = np.zeros(count)
    for i in range(n):
        weight, g = 1.0 / spread[i], member[i]
        weights[g] += weight
        for k in range(q):
            others[g, k] += weight * other[i, k]
        for j in range(p):
            weighed = weight * one[i, j]
            ones[g, j] += weighed
            for k in range(q):
                found[j, k] += weighed * other[i, k]
    if between > 0:
        for g in range(count):
            share = between / (1.0 + between * weights[g])
            for j in range(p):
                for k in range(q):
                    found[j, k] -= share * ones[g, j] * others[g, k]
    return found


@part_of_loop
def _solved(sums: Floats, right: Floats) -> Floats:
    """(p, q) what (p, p) `sums` must be multiplied by to give (p, q) `right`, by elimination with the largest pivot; no numbers where
    the sums do not tell it."""
    p, q = right.shape
    a, found = sums[:, :p].copy(), right.copy()
    for j in range(p):
        best, size = j, 0.0
        for i in range(j, p):
            size = max(size, np.abs(sums[i, j]))
            if np.abs(a[i, j]) > np.abs(a[best, j]):
                best = i
        if not np.abs(a[best, j]) > LOST * size:
            found[:] = np.nan
            return found
        for k in range(p):
            a[j, k], a[best, k] = a[best, k], a[j, k]
        for k in range(q):
            found[j, k], found[best, k] = found[best, k], found[j, k]
        for i in range(p):
            if i != j:
                part = a[i, j] / a[j, j]
                for k in range(j, p):
                    a[i, k] -= part * a[j, k]
                for k in range(q):
                    found[i, k] -= part * found[j, k]
    for j in range(p):
        for k in range(q):
            found[j, k] /= a[j, j]
    return found


@part_of_loop
def _left(both: Floats, spread: Floats, between: float, member: Ints, count: int) -> float:
    """Sum of squares of the residuals over their covariance, of the line by least squares; both: (n, p + 1) the powers of x
    and y. Solved by elimination."""
    q = both.shape[1]
    all_ = _products(both, both, spread, between, member, count)
    for j in range(q - 1):
        if all_[j, j] > 0:
            for k in range(j + 1, q):
                part = all_[k, j] / all_[j, j]
                for i in range(j, q):
                    all_[k, i] -= part * all_[j, i]
    found: float = all_[q - 1, q - 1]
    return found


@part_of_loop
def _within(powered: Floats, y: Floats, powers: Ints, spread: Floats, member: Ints, count: int) -> tuple[float, int]:
    """By how much places of one group scatter more about the line than stated, its own offset aside, as a factor of variances;
    and from how many degrees of freedom that is told."""
    n, p = powered.shape
    weights, means = np.zeros(count), np.zeros((count, p + 1))
    for i in range(n):
        weights[member[i]] += 1.0 / spread[i]
        for k in range(p):
            means[member[i], k] += powered[i, k] / spread[i]
        means[member[i], p] += y[i] / spread[i]
    moved, bent, rest = np.zeros((n, p)), 0, np.empty(n)
    for i in range(n):
        g = member[i]
        rest[i] = (y[i] - means[g, p] / weights[g]) / np.sqrt(spread[i])
    for k in range(p):
        if powers[k] == 0:
            continue
        size, apart = 0.0, 0.0
        for i in range(n):
            g = member[i]
            moved[i, bent] = (powered[i, k] - means[g, k] / weights[g]) / np.sqrt(spread[i])
            apart += moved[i, bent] ** 2
            size += powered[i, k] ** 2 / spread[i]
        # What is left beside the columns before it: where nothing is, it tells nothing new.
        for _twice in range(2):
            for j in range(bent):
                shared = 0.0
                for i in range(n):
                    shared += moved[i, j] * moved[i, bent]
                for i in range(n):
                    moved[i, bent] -= shared * moved[i, j]
        alone = 0.0
        for i in range(n):
            alone += moved[i, bent] ** 2
        if alone <= UNMOVED**2 * size or alone <= UNMOVED**2 * apart:
            continue
        shared = 0.0
        for i in range(n):
            moved[i, bent] /= np.sqrt(alone)
            shared += moved[i, bent] * rest[i]
        for i in range(n):
            rest[i] -= shared * moved[i, bent]
        bent += 1
    dof = n - count - bent
    if dof < LEAST_WITHIN:
        return 1.0, 0
    total = 0.0
    for i in range(n):
        total += rest[i] * rest[i]
    return max(total / dof, TINY), dof


@part_of_loop
def _between(both: Floats, spread: Floats, member: Ints, count: int) -> float:
    """The variance of groups' offsets with which the residuals are as large as expected. What is left of them falls as it grows:
    by false position, in which an end that stays counts half the next time (the “Illinois” rule, Dowell and Jarratt, BIT 11, 168
    (1971)), and by halving where that is slow."""
    expected = float(len(both) - both.shape[1] + 1)
    low, over = 0.0, _left(both, spread, 0.0, member, count) - expected
    if over <= 0:
        return 0.0
    most, least, mean, squares, n = _largest(spread), spread[0], 0.0, 0.0, len(both)
    for i in range(n):
        least = min(least, spread[i])
        mean += both[i, both.shape[1] - 1] / n
    for i in range(n):
        squares += (both[i, both.shape[1] - 1] - mean) ** 2
    high = squares / n + most
    under = _left(both, spread, high, member, count) - expected
    while under > 0 and high < MOST_BETWEEN * most:
        low, over = high, under
        high *= 4
        under = _left(both, spread, high, member, count) - expected
    if under > 0:
        return high
    side = 0
    for step in range(STEPS):
        if high - low <= NEARLY * (least + low):
            break
        at = high - under * (high - low) / (under - over)
        if step % 4 == 3 or not low < at < high:
            at = (low + high) / 2
        found = _left(both, spread, at, member, count) - expected
        if found == 0:
            return at
        if found > 0:
            if side > 0:
                under /= 2
            low, over, side = at, found, 1
        else:
            if side < 0:
                over /= 2
            high, under, side = at, found, -1
    return (low + high) / 2


@part_of_loop
def _dof_of_last(
    matrix: Floats, inverse: Floats, spread: Floats, between: float, factor: float, member: Ints, count: int
) -> float:
    """Degrees of freedom of the variance of the last coefficient, from how well the two variances are known: `factor`, by which what
    places state is multiplied, and `between` (expected information of restricted likelihood; Satterthwaite, Biometrics Bull. 2, 110
    (1946)).

    P V P = P and V = factor S + between Z Zᵀ, so that all traces follow from those of Zᵀ P Z, (g, g).
    """
    n, p = matrix.shape
    weights, rows = np.zeros(count), np.zeros((count, p))
    for i in range(n):
        weights[member[i]] += 1.0 / spread[i]
        for k in range(p):
            rows[member[i], k] += matrix[i, k] / spread[i]
    for g in range(count):
        for k in range(p):
            rows[g, k] /= 1.0 + between * weights[g]
    trace, squares = 0.0, 0.0
    for g in range(count):
        for h in range(count):
            each = weights[g] / (1.0 + between * weights[g]) if g == h else 0.0
            for j in range(p):
                for k in range(p):
                    each -= rows[g, j] * inverse[j, k] * rows[h, k]
            squares += each * each
            if g == h:
                trace += each
    of_groups = 0.0
    for g in range(count):
        each = 0.0
        for k in range(p):
            each += inverse[p - 1, k] * rows[g, k]
        of_groups += each * each
    information = np.empty((2, 2))
    information[0, 0] = ((n - p) - 2 * between * trace + between * between * squares) / factor**2 / 2
    information[0, 1] = information[1, 0] = (trace - between * squares) / factor / 2
    information[1, 1] = squares / 2
    a, b = (inverse[p - 1, p - 1] - between * of_groups) / factor, of_groups
    aa, ab, bb = information[0, 0], information[0, 1], information[1, 1]
    determinant = aa * bb - ab * ab
    if determinant > SINGULAR * aa * bb:
        variance = (a * a * bb - 2 * a * b * ab + b * b * aa) / determinant
    elif aa + bb > 0:  # both tell the same: the pseudoinverse of a matrix of rank one is itself over its trace squared
        variance = (a * a * aa + 2 * a * b * ab + b * b * bb) / (aa + bb) ** 2
    else:
        variance = 0.0
    return 2 * inverse[p - 1, p - 1] ** 2 / variance if variance > 0 else np.inf


@short_loop
def fitted_line(
    x: Floats, y: Floats, u_x: Floats, v: Floats, member: Ints, count: int, powers: Ints, known: bool
) -> tuple[Floats, Floats, Floats, Floats, Floats]:
    """The line by generalised least squares, as `group_line` says.

    x, y, u_x, v: (n,) places; member: (n,) 0 to count - 1, whose each is; powers: (p,) of x; known: whether v and u_x are; else all
    places count alike. Gives (p,) coefficients, (p, p) the inverse of their information, (n,) residuals, (n,) variances of places without
    what is between groups, and (6,) the variance between groups, the factor of what places state, the degrees of freedom that tell it
    (0: none do), those of the last coefficient's variance (nan: not told by both variances), and the sum of squares of the residuals over
    their covariance at the end, and over what places state, of the line that is best by that.
    """
    n, p = len(x), len(powers)
    powered = _powers_of(x, powers)
    both = np.empty((n, p + 1))
    for i in range(n):
        both[i, p] = y[i]
        for k in range(p):
            both[i, k] = powered[i, k]
    adjusted, spread = x.copy(), np.ones(n)
    sums = _products(powered, both, spread, 0.0, member, count)
    coefficients = _solved(sums, sums[:, p:].copy())[:, 0].copy()
    between, factor, dof = 0.0, 1.0, 0
    for _ in range(ROUNDS):
        if known:
            steep = _steepness(x, powers, coefficients)
            for i in range(n):
                spread[i] = v[i] + (steep[i] * u_x[i]) ** 2
        else:
            spread[:] = 1.0
        least = TINY * _largest(spread)
        for i in range(n):
            spread[i] = max(spread[i], least)
        if n > count:
            factor, dof = _within(powered, y, powers, spread, member, count)
        for i in range(n):
            spread[i] *= factor
        if known:
            between = _between(both, spread, member, count)
        sums = _products(_powers_of(adjusted, powers), both, spread, between, member, count)
        found = _solved(sums, sums[:, p:].copy())[:, 0].copy()
        moved = _largest(found - coefficients)
        coefficients = found
        residuals, steep = _residuals(powered, y, coefficients), _steepness(x, powers, coefficients)
        for i in range(n):
            adjusted[i] = x[i] + steep[i] * u_x[i] ** 2 * residuals[i] / (spread[i] + between)
        if not moved > SETTLED * _largest(coefficients):
            break
    matrix = _powers_of(adjusted, powers)
    inverse = _solved(_products(matrix, matrix, spread, between, member, count), np.eye(p))
    residuals = _residuals(powered, y, coefficients)
    rest = residuals.reshape(n, 1)
    left = _products(rest, rest, spread, between, member, count)[0, 0]
    plain = _left(both, spread / factor, 0.0, member, count)
    told = _dof_of_last(matrix, inverse, spread, between, factor, member, count) if dof else np.nan
    return coefficients, inverse, residuals, spread, np.array([between, factor, float(dof), told, left, plain])


@short_loop
def products(one: Floats, other: Floats, spread: Floats, between: float, member: Ints, count: int) -> Floats:
    """(p, q) oneᵀ V⁻¹ other of (n, p) and (n, q); V: the variances (n,) `spread` of places, and between those of one group what its
    offset adds, of variance `between`; member: (n,) 0 to count - 1, whose each place is."""
    return _products(one, other, spread, between, member, count)
