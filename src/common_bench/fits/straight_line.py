"""A straight line through points with errors in both coordinates. Points in, line with covariance out."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from common_bench.fits.curve_fit import growth
from common_bench.model.block import Floats
from common_bench.model.trouble import CalibrationTrouble

MOST_ROUNDS = 100
SETTLED = 1e-14  # relative change of the slope, a few rounding steps of float64


@dataclass(frozen=True)
class Line:
    """y = intercept + slope * x.

    covariance: (2, 2) of (intercept, slope); residuals: (n,) y minus line; u_residuals: (n,) their
    standard uncertainty expected from the points' own; chi_square over `dof` degrees; u_dof: from how many degrees of
    freedom the covariance is known, which is nan with none.
    """

    intercept: float
    slope: float
    covariance: Floats
    residuals: Floats
    u_residuals: Floats
    chi_square: float
    dof: int
    u_dof: float = math.inf

    @property
    def excess(self) -> float:
        """How much more the points scatter than their uncertainties say (Birge ratio), at least 1."""
        return math.sqrt(growth(self.chi_square, self.dof)[0])

    def at(self, x: Floats | float) -> Floats:
        return np.asarray(self.intercept + self.slope * np.asarray(x, float))

    def u_at(self, x: Floats | float) -> Floats:
        """Standard uncertainty of the line itself at x: sqrt(J C Jᵀ) with J = (1, x) (JCGM 100, eq. 13)."""
        x = np.asarray(x, float)
        c = self.covariance
        return np.asarray(np.sqrt(np.maximum(0.0, c[0, 0] + 2 * x * c[0, 1] + x * x * c[1, 1])))

    def widened(self) -> Line:
        """The same line with its covariance grown by the excess scatter."""
        factor, u_dof = growth(self.chi_square, self.dof)
        return replace(self, covariance=self.covariance * factor, u_dof=min(u_dof, self.u_dof))


def straight_line(x: Floats, y: Floats, u_x: Floats, u_y: Floats) -> Line:
    """The line by the solution of York, Evensen, Martínez and De Basabe, Am. J. Phys. 72, 367 (2004),
    eqs. 13a-b and 14, without correlation between a point's x and y. With u_x = 0 this is weighted
    least squares; with no uncertainties at all, least squares with the scatter taken from the points.

    x, y, u_x, u_y: (n,), n >= 2. Raises CalibrationTrouble for points that fix no line.
    """
    x, y, u_x, u_y = (np.asarray(each, float) for each in (x, y, u_x, u_y))
    if len(x) < 2:
        raise CalibrationTrouble("line-needs-two-points")
    if not all(np.isfinite(each).all() for each in (x, y, u_x, u_y)):
        raise CalibrationTrouble("line-point-without-value")
    if np.ptp(x) == 0:
        raise CalibrationTrouble("line-points-all-alike")
    if (u_x < 0).any() or (u_y < 0).any():
        raise CalibrationTrouble("line-u-below-zero")
    unweighted = not (u_x.any() or u_y.any())
    if unweighted:
        u_y = np.ones_like(y)
    slope = float(np.polyfit(x - x.mean(), y, 1)[0])
    if (u_y**2 + (slope * u_x) ** 2 == 0).any():
        raise CalibrationTrouble("line-point-u-zero")
    weight = u = v = np.zeros_like(x)
    mean_x = mean_y = 0.0
    for _ in range(MOST_ROUNDS):
        weight = 1.0 / (u_y**2 + (slope * u_x) ** 2)
        mean_x, mean_y = float(np.average(x, weights=weight)), float(np.average(y, weights=weight))
        u, v = x - mean_x, y - mean_y
        beta = weight * (u * u_y**2 + slope * v * u_x**2)
        before, slope = slope, float(np.sum(weight * beta * v) / np.sum(weight * beta * u))
        if abs(slope - before) <= SETTLED * abs(slope):
            break
    intercept = mean_y - slope * mean_x
    beta = weight * (u * u_y**2 + slope * v * u_x**2)
    adjusted = mean_x + beta
    centre = float(np.average(adjusted, weights=weight))
    var_slope = 1.0 / float(np.sum(weight * (adjusted - centre) ** 2))
    var_level = 1.0 / float(np.sum(weight)) + centre**2 * var_slope
    covariance = np.array([[var_level, -centre * var_slope], [-centre * var_slope, var_slope]])
    residuals = y - intercept - slope * x
    chi_square = float(np.sum(weight * residuals**2))
    if unweighted:
        scale = chi_square / (len(x) - 2) if len(x) > 2 else math.nan
        covariance, u_y = covariance * scale, u_y * scale**0.5
        chi_square = float(max(0, len(x) - 2))
    u_dof = float(len(x) - 2) if unweighted else math.inf
    expected = np.sqrt(u_y**2 + (slope * u_x) ** 2)
    return Line(intercept, slope, covariance, residuals, expected, chi_square, len(x) - 2, u_dof)
