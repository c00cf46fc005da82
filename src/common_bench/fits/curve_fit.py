"""A curve through points with errors in both coordinates. A model and points in, a fit with covariance out.

The work is done by the ODRPACK library (Boggs, Byrd, Rogers, Schnabel, ACM TOMS 15, 348 (1989)):
orthogonal distance regression weighted by the points' uncertainties, with the model's own derivatives.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from common_bench.model.block import Floats
from common_bench.model.trouble import CalibrationTrouble

UNLIKELY = 0.01  # a chi-square that so few would exceed says that the points scatter too much
DOUBTED = (
    0.05  # where so few would exceed it, uncertainties are grown; intervals that were right then hold 0.4 of 100 more
)
CONVERGED = (1, 2, 3)  # ODRPACK's last digit: sum of squares, parameters, both
MOST_ROUNDS = 200


@dataclass(frozen=True)
class Model:
    """value(p, x): (n,); gradient(p, x): (parameters, n), by parameters; slope(p, x): (n,), by x."""

    value: Callable[[Floats, Floats], Floats]
    gradient: Callable[[Floats, Floats], Floats]
    slope: Callable[[Floats, Floats], Floats]


@dataclass(frozen=True)
class Fit:
    """parameters (k,) with covariance (k, k) as the points' uncertainties give them, or as their scatter
    gives it where none are stated, nan where neither does; residuals (n,): y minus curve; u_residuals (n,): their
    expected size; chi_square over `dof` degrees; u_dof: from how many degrees of freedom the covariance is known."""

    parameters: Floats
    covariance: Floats
    residuals: Floats
    u_residuals: Floats
    chi_square: float
    dof: int
    u_dof: float = math.inf

    @property
    def likely(self) -> float:
        """The share of cases in which points with these uncertainties lie off the curve at least so far."""
        return chance(self.chi_square, self.dof)

    def believed(self) -> Fit:
        """The same, its covariance grown by what the points scatter beyond their uncertainties."""
        factor, u_dof = growth(self.chi_square, self.dof)
        return replace(self, covariance=self.covariance * factor, u_dof=min(u_dof, self.u_dof))


def growth(chi_square: float, dof: int) -> tuple[float, float]:
    """The one rule by which a covariance grows where points scatter more than they say: by chi-square over its degrees of
    freedom (Birge, Phys. Rev. 40, 207 (1932)), where one case in twenty or fewer would by chance; and the degrees of freedom
    of what is grown, of which only the excess comes from the points (Welch, Satterthwaite; JCGM 100, G.4.1)."""
    reduced = chi_square / dof if dof > 0 else 0.0
    if reduced <= 1.0 or chance(chi_square, dof) >= DOUBTED:
        return 1.0, math.inf
    return reduced, dof * (reduced / (reduced - 1.0)) ** 2


def _usual_sizes(model: Model, x: Floats, y: Floats, start: Floats) -> Floats:
    """(k,) how large each parameter may be expected: as it begins, or as much as would move the curve by its extent, so
    that one that begins near 0 is not taken to stay there."""
    reach = np.sqrt(np.mean(model.gradient(start, x) ** 2, axis=1))
    extent = float(np.ptp(y)) or float(np.abs(y).max()) or 1.0
    moves = np.divide(extent, reach, out=np.ones_like(reach), where=reach > 0)
    return np.asarray(np.maximum(np.abs(start), moves))


def chance(chi_square: float, dof: int) -> float:
    """Share of a chi-square distribution at or above a value; 1 with no degree of dof."""
    from scipy.special import gammaincc

    return float(gammaincc(dof / 2, chi_square / 2)) if dof > 0 else 1.0


def stated(u_x: Floats, u_y: Floats) -> bool:
    """Whether the points say how uncertain they are. Raises CalibrationTrouble where only some do."""
    if (u_x < 0).any() or (u_y < 0).any() or not np.isfinite(u_x).all() or not np.isfinite(u_y).all():
        raise CalibrationTrouble("u-below-zero-or-none")
    return bool(u_x.any() or u_y.any())


def fit_curve(model: Model, x: Floats, y: Floats, u_x: Floats, u_y: Floats, start: Floats) -> Fit:
    """x, y, u_x, u_y: (n,); start: (k,). A point with u_x 0 has an exact reading; with no uncertainty at all
    it is least squares. Raises CalibrationTrouble where no curve comes near the points."""
    import odrpack

    weighted = stated(u_x, u_y)
    if not weighted:
        u_y = np.ones_like(y)
    if (u_y == 0).any():
        raise CalibrationTrouble("reference-u-zero")
    exact = u_x == 0
    with np.errstate(all="ignore"):
        found = odrpack.odr_fit(
            lambda at, p: model.value(p, at), x, y, start,
            weight_y=u_y**-2.0, weight_x=np.where(exact, 1.0, np.where(exact, 1.0, u_x) ** -2.0),
            fix_x=None if exact.all() else exact, task="OLS" if exact.all() else "explicit-ODR",
            jac_beta=lambda at, p: model.gradient(p, at), jac_x=lambda at, p: model.slope(p, at),
            scale_beta=_usual_sizes(model, x, y, start) ** -1.0,
            scale_delta=np.where(exact, 1.0, np.where(exact, 1.0, u_x) ** -1.0), sstol=1e-15, partol=1e-13, maxit=MOST_ROUNDS,
        )  # fmt: skip
        parameters = np.asarray(found.beta, float)
        value, slope = model.value(parameters, x), model.slope(parameters, x)
    covariance = np.asarray(found.cov_beta, float)
    if found.info % 10 not in CONVERGED or not np.isfinite([*parameters, *value, *covariance.ravel()]).all():
        raise CalibrationTrouble("no-curve-comes-near")
    residuals, u_residuals = y - value, np.sqrt(u_y**2 + (slope * u_x) ** 2)
    chi_square, dof = float(found.sum_square), len(x) - len(parameters)
    if not weighted:
        scale = chi_square / dof if dof > 0 else math.nan
        return Fit(
            parameters, covariance * scale, residuals, u_residuals * scale**0.5, float(max(dof, 0)), dof, max(dof, 0)
        )
    return Fit(parameters, covariance, residuals, u_residuals, chi_square, dof)
