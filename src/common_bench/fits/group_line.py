"""A line through the places of several groups: errors in both coordinates, and groups that scatter by more than they state.
Places in, the line with its covariance, its degrees of freedom and the scatter between groups out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from common_bench.fits.group_loops import residual_squares
from common_bench.model.block import Floats, Ints
from common_bench.model.trouble import CalibrationTrouble

ROUNDS, SETTLED = 40, 1e-9  # of the slope, and the relative change at which it stands
NEARLY = 1e-7  # of the stated variance, to which that between groups is found; far below what it is known by
MOST_BETWEEN = 1e12  # times the stated variance, beyond which that between groups is not looked for
LEAST_WITHIN = 2  # degrees of freedom within groups, from which their scatter from place to place is told


@dataclass(frozen=True)
class LineOfGroups:
    """y = Σ coefficients[k] x**powers[k]; where `logs` says so, of the logarithm of x, of y: all of it but `at`, `u_at` and
    `variance_of_new` is then told in those.

    covariance: (p, p) of the coefficients, of which the size is known from `u_dof` degrees of freedom; residuals: (n,) y minus
    line; variances: (n,) of single places about the line, the scatter between groups among it; between: variance of the
    groups' own offsets beyond what they state; excess: how much more places scatter than they state.
    """

    powers: tuple[int, ...]
    coefficients: Floats
    covariance: Floats
    u_dof: float
    residuals: Floats
    variances: Floats
    between: float
    excess: float
    scale: float  # by which stated variances and those between groups are multiplied in the end
    stated: bool  # variances were; else all places count alike
    judged_dof: float  # degrees of freedom by which another group is judged
    logs: tuple[bool, bool] = (False, False)

    def _of(self, power: int) -> float:
        return float(self.coefficients[self.powers.index(power)]) if power in self.powers else 0.0

    @property
    def intercept(self) -> float:
        return self._of(0)

    @property
    def slope(self) -> float:
        return self._of(1)

    def _rows(self, x: Floats | float) -> Floats:
        there = np.atleast_1d(np.asarray(x, float))
        if self.logs[0]:
            with np.errstate(invalid="ignore", divide="ignore"):
                there = np.log(there)
        return design(there, self.powers)

    def at(self, x: Floats | float) -> Floats:
        found = np.asarray(self._rows(x) @ self.coefficients).reshape(np.shape(x))
        return np.asarray(np.exp(found)) if self.logs[1] else found

    def u_at(self, x: Floats | float) -> Floats:
        """Standard uncertainty of the line itself at x."""
        rows = self._rows(x)
        found = np.sqrt(np.maximum(np.einsum("ni,ij,nj->n", rows, self.covariance, rows), 0.0)).reshape(np.shape(x))
        return np.asarray(found * self.at(x) if self.logs[1] else found)

    def variance_of_new(self, x: float, u_x: float, v: float) -> float:
        """Of another group's place about this line, of stated variance v and uncertainty of x; where they are not stated, as
        one of these."""
        if any(self.logs):
            if self.logs[0] and not x > 0:
                return math.nan
            y, plain = float(self.at(x)), replace(self, logs=(False, False))
            if self.logs[1] and not 0 < y * y < math.inf:  # so far out, only the place's own uncertainty counts
                return v
            own = (math.log(x), u_x / x) if self.logs[0] else (x, u_x)
            return y * y * plain.variance_of_new(*own, v / (y * y)) if self.logs[1] else plain.variance_of_new(*own, v)
        if not (self.stated and math.isfinite(v) and math.isfinite(u_x)):
            return float(np.mean(self.variances)) + float(self.u_at(x)) ** 2
        steep = float(steepness(np.array([x]), self.powers, self.coefficients)[0])
        return self.scale * (v + (steep * u_x) ** 2 + self.between) + float(self.u_at(x)) ** 2


def design(x: Floats, powers: Sequence[int]) -> Floats:
    """(n, p) powers of x."""
    return np.stack([x**power for power in powers], axis=1)


def steepness(x: Floats, powers: Sequence[int], coefficients: Floats) -> Floats:
    """(n,) slope of the curve at x."""
    found = np.zeros(len(x))
    for power, coefficient in zip(powers, coefficients, strict=True):
        if power:
            found += power * coefficient * x ** (power - 1)
    return found


def group_line(
    x: Floats, y: Floats, u_x: Floats, v: Floats, groups: Ints, powers: tuple[int, ...] = (0, 1)
) -> LineOfGroups:
    """By generalised least squares on x put right by its error (York, Am. J. Phys. 72, 367 (2004), eqs. 13), of which the
    variance between groups is chosen so that the residuals are as large as expected (Paule, Mandel, J. Res. NBS 87, 377
    (1982)); the covariance is scaled by what they are, and known from as many degrees of freedom as the groups leave (Hartung,
    Knapp, Stat. Med. 20, 3875 (2001)). Where groups visit several values of x, what scatters within them is told from there,
    and the degrees of freedom follow from how well both variances are known (Satterthwaite).

    x, y: (n,) places; u_x: (n,) standard uncertainty of x; v: (n,) stated variance of y; groups: (n,) whose each is. With no
    stated variances all places count alike. Raises CalibrationTrouble for places that fix no line.
    """
    n, p = len(x), len(powers)
    count = len(np.unique(groups))
    if n < p + 1 or count < 2:
        raise CalibrationTrouble("line-needs-two-points")
    if np.ptp(x) == 0 and p > 1:
        raise CalibrationTrouble("line-points-all-alike")
    known = bool(np.isfinite(v).all() and np.isfinite(u_x).all() and (v + u_x > 0).any())
    v, u_x = (v, u_x) if known else (np.zeros(n), np.zeros(n))
    own = (np.unique(groups)[:, None] == groups[None, :]).astype(float)
    coefficients = _real(np.linalg.lstsq(design(x, powers), y, rcond=None)[0])
    adjusted = x
    spread, between, within = np.ones(n), 0.0, (1.0, 0)
    for _ in range(ROUNDS):
        steep = steepness(x, powers, coefficients)
        spread = v + (steep * u_x) ** 2 if known else np.ones(n)
        spread = np.maximum(spread, 1e-12 * float(spread.max()))
        within = _within(x, y, spread, own, powers) if n > count else (1.0, 0)
        spread = spread * within[0]
        between = _between(design(x, powers), y, spread, own) if known else 0.0
        before = coefficients
        both = products(design(adjusted, powers), np.column_stack([design(x, powers), y]), spread, between, own)
        coefficients = _real(np.linalg.solve(both[:, :-1], both[:, -1]))
        residuals = y - design(x, powers) @ coefficients
        adjusted = x + steepness(x, powers, coefficients) * u_x**2 * residuals / (spread + between)
        if np.abs(coefficients - before).max() <= SETTLED * np.abs(coefficients).max():
            break
    return _told(x, y, adjusted, spread, between, within, own, powers, coefficients, known)


def _real(found: npt.NDArray[Any]) -> Floats:
    return np.asarray(found, np.float64)


def products(one: Floats, other: Floats, spread: Floats, between: float, own: Floats) -> Floats:
    """(p, q) oneᵀ V⁻¹ other, V the variances of places and what groups' offsets add (Sherman, Morrison, Ann. Math. Stat. 21,
    124 (1950), group by group).

    spread: (n,) variances; between: of the offsets; own: (g, n) 1 where a place is a group's.
    """
    weight = 1 / spread
    found: Floats = one.T @ (weight[:, None] * other)
    if between > 0:
        weights = own * weight
        shares = between / (1 + between * weights.sum(axis=1))
        found = found - (weights @ one).T @ (shares[:, None] * (weights @ other))
    return found


def _left(matrix: Floats, y: Floats, spread: Floats, between: float, own: Floats) -> float:
    """Sum of squares of the residuals over their covariance."""
    return residual_squares(np.column_stack([matrix, y]), spread, between, own.argmax(axis=0), len(own))


def _within(x: Floats, y: Floats, spread: Floats, own: Floats, powers: tuple[int, ...]) -> tuple[float, int]:
    """By how much places of one group scatter more about the line than stated, its own offset aside, as a factor of variances;
    and from how many degrees of freedom that is told."""
    bent = design(x, [power for power in powers if power])
    matrix = np.column_stack([own.T, bent]) / np.sqrt(spread)[:, None]
    solution, _, rank, _ = np.linalg.lstsq(matrix, y / np.sqrt(spread), rcond=None)
    dof = len(y) - int(rank)
    if dof < LEAST_WITHIN:
        return 1.0, 0
    rest = y / np.sqrt(spread) - matrix @ solution
    return max(float(rest @ rest) / dof, 1e-12), dof


def _between(matrix: Floats, y: Floats, spread: Floats, own: Floats) -> float:
    """The variance of groups' offsets with which the residuals are as large as expected."""
    from scipy.optimize import brentq

    expected = float(len(y) - matrix.shape[1])

    both, member, count = np.column_stack([matrix, y]), own.argmax(axis=0), len(own)

    def beyond(between: float) -> float:
        return residual_squares(both, spread, between, member, count) - expected

    if beyond(0.0) <= 0:
        return 0.0
    high = float(np.var(y)) + float(spread.max())
    while beyond(high) > 0 and high < MOST_BETWEEN * float(spread.max()):
        high *= 4
    if beyond(high) > 0:
        return high
    return float(brentq(beyond, 0.0, high, xtol=NEARLY * float(spread.min()), rtol=NEARLY))


def _told(
    x: Floats, y: Floats, adjusted: Floats, spread: Floats, between: float, within: tuple[float, int], own: Floats,
    powers: tuple[int, ...], coefficients: Floats, known: bool,
) -> LineOfGroups:  # fmt: skip
    n, p, count = len(x), len(powers), len(own)
    matrix = design(adjusted, powers)
    inverse = _real(np.linalg.inv(products(matrix, matrix, spread, between, own)))
    residuals = y - design(x, powers) @ coefficients
    left = float(products(residuals[:, None], residuals[:, None], spread, between, own)[0, 0])
    plain = _left(design(x, powers), y, spread / within[0], 0.0, own) / (n - p)
    if not within[1]:
        scale, dof = left / (n - p), float(count - p) if count > p else math.nan
    else:
        alike = own.T @ own
        covariance = np.diag(spread) + between * alike
        scale, dof = 1.0, _satterthwaite(matrix, covariance, [np.diag(spread / within[0]), alike], inverse)
    return LineOfGroups(
        powers, coefficients, inverse * scale, dof, residuals, scale * (spread + between), between, math.sqrt(max(1.0, plain)), scale, known,
        min(dof, float(count - p)) if between or not within[1] else dof,
    )  # fmt: skip


def _satterthwaite(matrix: Floats, covariance: Floats, parts: list[Floats], inverse: Floats) -> float:
    """Degrees of freedom of the variance of the last coefficient, from how well the two variances are known (expected
    information of restricted likelihood; Satterthwaite, Biometrics Bull. 2, 110 (1946))."""
    weighed = np.linalg.inv(covariance)
    projector = weighed - weighed @ matrix @ inverse @ matrix.T @ weighed
    information = np.array([[0.5 * np.trace(projector @ a @ projector @ b) for b in parts] for a in parts])
    last = inverse @ matrix.T @ weighed
    gradient = np.array([float((last @ a @ last.T)[-1, -1]) for a in parts])
    variance = float(gradient @ np.linalg.pinv(information) @ gradient)
    return float(2 * inverse[-1, -1] ** 2 / variance) if variance > 0 else math.inf
