"""A line through the places of several groups: errors in both coordinates, and groups that scatter by more than they state.
Places in, the line with its covariance, its degrees of freedom and the scatter between groups out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from common_bench.fits.group_loops import fitted_line
from common_bench.model.block import Floats, Ints
from common_bench.model.trouble import CalibrationTrouble


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

    def steep_at(self, x: float) -> float:
        """How steep it is at x: dy/dx."""
        if any(self.logs):
            step = 1e-4 * (abs(x) or 1.0)
            high, low = self.at(np.array([x + step, x - step])).tolist()
            return float(high - low) / (2 * step)
        return float(steepness(np.array([x]), self.powers, self.coefficients)[0])

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
        return self.scale * (v + (self.steep_at(x) * u_x) ** 2 + self.between) + float(self.u_at(x)) ** 2


def design(x: Floats, powers: Sequence[int]) -> Floats:
    """(n, p) powers of x."""
    found: Floats = np.power.outer(x, np.array(powers, float))
    return found


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
    of, member = np.unique(groups, return_inverse=True)
    count = len(of)
    if n < p + 1 or count < 2:
        raise CalibrationTrouble("line-needs-two-points")
    if np.ptp(x) == 0 and p > 1:
        raise CalibrationTrouble("line-points-all-alike")
    known = bool(np.isfinite(v).all() and np.isfinite(u_x).all() and (v + u_x > 0).any())
    v, u_x = (v, u_x) if known else (np.zeros(n), np.zeros(n))
    coefficients, inverse, residuals, spread, told = fitted_line(x, y, u_x, v, member, count, np.array(powers), known)
    if not np.isfinite(coefficients).all() or not np.isfinite(inverse).all():
        raise CalibrationTrouble("line-points-all-alike")
    between, factor, within, dof, left, plain = told.tolist()
    scale = 1.0
    if not within:
        scale, dof = left / (n - p), float(count - p) if count > p else math.nan
    return LineOfGroups(
        powers, coefficients, inverse * scale, dof, residuals, scale * (spread + between), between,
        math.sqrt(max(1.0, plain / (n - p))), scale, known, min(dof, float(count - p)) if between or not within else dof,
    )  # fmt: skip
