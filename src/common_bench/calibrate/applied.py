"""A calibration made ready for blocks, following JCGM 100 (GUM). Raw readings in, a quantity with its uncertainty out."""

from __future__ import annotations

import math
import sys

import numpy as np

from common_bench.calibrate.between import Between
from common_bench.calibrate.curves import CURVES, counted, horner, natural, row_of, sensitivity_of
from common_bench.calibrate.formulas import chain_before, taken
from common_bench.model.block import Bools, Floats, Series, Source
from common_bench.model.calibration import Calibration, ReferencePoint
from common_bench.model.uncertainty import RECTANGULAR

PIECE = 1 << 13  # readings that are worked on at a time, so that they stay in the processor's cache
DITHERED = 0.5  # noise of so many steps and more makes the resolution part of the scatter
SLACK = 3.0  # of the noise of single readings, by which a reading may lie outside the points


class Applied:
    """Guarantees that each share of the uncertainty keeps its own source, common ones apart from those of
    single readings, so that a later average shrinks only what it may: the correlated parameters are
    turned into independent sources once (covariance = L Lᵀ). Equal readings give equal bits whatever
    the length of the block."""

    def __init__(self, calibration: Calibration) -> None:
        """Raises WorkingTrouble where a step or the formula of the calibration cannot be read."""
        c = self.calibration = calibration
        self._before = chain_before(c.choice, c.unit)
        self._curve = CURVES.get(c.curve)
        self._p = np.array(c.parameters)
        self._frame = c.frame
        self._noise = Source(f"noise of {c.channel}", False)
        self._resolution = Source(f"resolution of {c.channel}", True)
        self._beyond = Source(f"outside the points of {c.channel}", True)
        self._stated = Source(f"formula of {c.channel}", True)
        self._known = bool(np.any(c.covariance)) or not len(self._p)
        size = len(self._p) if self._known else 0
        self._factors = _factors(np.array(c.covariance[:size], float).reshape(size, size))
        dof = math.inf if c.u_dof is None else c.u_dof
        self._sources = [Source(f"calibration of {c.channel}", True, k, dof) for k in range(size)]
        self._unknown = () if self._known else (Source(f"calibration of {c.channel}", True, 0, 0.0),)
        self._between = Between(self._p, c.frame) if c.frame.knots else None
        dithered = c.noise >= DITHERED * c.step
        self._single: dict[Source, float] = {}
        if c.noise > 0:
            self._single[self._noise] = c.noise
        if c.step > 0 and not dithered:
            self._single[self._resolution] = c.step / RECTANGULAR
        plain = self._before is not None and self._before.as_it_comes and not self._single
        self._as_it_comes = self._curve is None and plain and not c.choice.u > 0 and not self._has_ends
        self._followed, self._moved = self._taken_up(), self._by_reference()
        self._rows = self._polynomials()

    def _polynomials(self) -> dict[Source | None, Floats] | None:
        """Value (None) and every share as a polynomial of (reading − origin) / scale, where the curve is one."""
        curve, frame = self._curve, self._frame
        if self._before is not None or curve is None or not curve.powers:
            return None
        value = row_of(self._p, curve.powers, curve.base(frame))
        rows: dict[Source | None, Floats] = {None: value}
        for source, column in zip(self._sources, self._factors.T, strict=True):
            rows[source] = _short(row_of(column, curve.powers, (0.0,)))
        for source, change in self._moved.items():
            rows[source] = _short(row_of(change, curve.powers, (0.0,)))
        rows |= dict.fromkeys(self._unknown, np.ones(1))
        for source, size in self._single.items():
            rows[source] = _short(sensitivity_of(value) / frame.scale * size)
        return rows

    # values

    def taken(self, raw: Floats) -> Floats:
        """(n,) raw readings -> what the curve takes."""
        if self._before is None or self._curve is None:
            return np.asarray(raw, float)
        return self._before.of(Series(np.zeros(len(raw)), np.asarray(raw, float))).values

    def value(self, raw: Floats) -> Floats:
        """(n,) raw readings -> (n,) values in the quantity's unit; nan stays nan."""
        raw = np.asarray(raw, float)
        if self._curve is None:
            assert self._before is not None
            return self._before.of(Series(np.zeros(len(raw)), raw)).values
        with np.errstate(all="ignore"):
            return _known(self._curve.value(self._p, self.taken(raw), self._frame))

    def series(self, t: Floats, raw: Floats) -> Series:
        """(n,) raw readings -> the quantity with its uncertainty by source and where it is a guess."""
        found = self._series(t, raw)
        c = self.calibration
        if c.believed is None and not c.edges:
            return found
        guess = found.guess
        if c.believed is not None:
            beyond = (found.values < c.believed[0]) | (found.values > c.believed[1])
            guess = beyond if guess is None else guess | beyond
        return Series(found.t, found.values, found.unit, found.parts, guess, found.since, c.edges)

    def _series(self, t: Floats, raw: Floats) -> Series:
        raw = np.asarray(raw, float)
        if self._as_it_comes:
            return Series(t, raw, self.calibration.unit)
        if self._rows is None:
            with np.errstate(all="ignore"):
                return self._through_steps(t, raw)
        n = len(raw)
        values, guess = np.empty(n), np.empty(n, bool)
        rows = {source: row for source, row in self._rows.items() if source is not None}
        parts = {s: np.empty(n) if len(row) > 1 else np.broadcast_to(row[0], n) for s, row in rows.items()}
        moving = [(row, parts[source]) for source, row in rows.items() if len(row) > 1]
        for low in range(0, n, PIECE):
            cut = slice(low, low + PIECE)
            z = counted(raw[cut], self._frame)
            horner(self._rows[None], z, values[cut])
            for row, share in moving:
                horner(row, z, share[cut])
            guess[cut] = self._outside(raw[cut], self.calibration.noise)
        self._add_beyond(parts, raw, values, guess)
        return Series(t, values, self.calibration.unit, parts, guess)

    def _through_steps(self, t: Floats, raw: Floats) -> Series:
        parts = {source: np.full(len(raw), size) for source, size in self._single.items()}
        entering = Series(t, raw, "", parts)
        if self._before is not None:
            entering = self._before.of(entering)
        if self._curve is None:
            shares = dict(entering.parts)
            if self.calibration.choice.u > 0:
                shares[self._stated] = np.full(len(raw), self.calibration.choice.u)
            return Series(t, entering.values, self.calibration.unit, shares, self._outside(raw, self.calibration.noise))
        x = entering.values
        values = _known(self._curve.value(self._p, x, self._frame))
        slope = self._curve.slope(self._p, x, self._frame)
        made = {source: slope * share for source, share in entering.parts.items()}
        gradient = self._curve.gradient(self._p, x, self._frame)
        made |= dict(zip(self._sources, self._shares(gradient), strict=True))
        own = np.abs(entering.parts.get(self._noise, np.zeros(len(raw))))
        guess = self._outside(x, own)
        for source, change in self._followed.items():
            made[source] = made[source] + _sum(change, gradient)
        made |= {source: _sum(change, gradient) for source, change in self._moved.items()}
        made |= dict.fromkeys(self._unknown, np.ones(len(raw)))
        if self._between is not None:
            name = f"between the points of {self.calibration.channel}"
            for which, share in enumerate(self._between.at(x)):
                made[Source(name, True, which, self._between.dof)] = share
        self._add_beyond(made, x, values, guess)
        return Series(t, values, self.calibration.unit, made, guess)

    def _taken_up(self) -> dict[Source, Floats]:
        """How the parameters went along with each constant of the steps: it moved the points as it moves the
        readings, so the fit has taken most of it up. source -> (k,) change of the parameters for one standard
        uncertainty, by weighted least squares over the points."""
        points = [point for point in self.calibration.points if not point.check]
        if self._before is None or self._curve is None or not points:
            return {}
        x, _, shares = taken(self._before, points)
        slope = self._curve.slope(self._p, x, self._frame)
        return {source: -self._fitted_to(points, slope * share) for source, share in shares.items()}

    def _by_reference(self) -> dict[Source, Floats]:
        """How the parameters go along with an error that all references have in common: an amount of its own and a share
        of each. source -> (k,) change of the parameters for one standard uncertainty."""
        choice = self.calibration.choice
        points = [point for point in self.calibration.points if not point.check]
        if self._curve is None or not points:
            return {}
        reference = np.array([point.reference for point in points])
        name = choice.against or f"what {self.calibration.channel} was held against"
        moved = (choice.common_u * np.ones(len(points)), choice.common_share * reference)
        return {
            Source(name, True, which): self._fitted_to(points, move) for which, move in enumerate(moved) if move.any()
        }

    def _fitted_to(self, points: list[ReferencePoint], moved: Floats) -> Floats:
        """(k,) by which the parameters change where the references move by (n,), by weighted least squares."""
        assert self._curve is not None
        x, u_x, _ = taken(self._before, points)
        slope = self._curve.slope(self._p, x, self._frame)
        gradient = self._curve.gradient(self._p, x, self._frame)
        own = np.sqrt(np.array([point.u_reference for point in points]) ** 2 + (slope * u_x) ** 2)
        weight = 1 / own if own.all() else np.ones(len(x))
        return np.asarray(np.linalg.lstsq((gradient * weight).T, moved * weight, rcond=None)[0], float)

    # uncertainty

    def outside(self, raw: Floats) -> Bools:
        """(n,) True where a reading lies outside the points by more than its noise; nowhere for a channel that is taken as it
        comes, which has no points."""
        guess = self.series(np.zeros(len(raw)), raw).guess
        return np.zeros(len(raw), bool) if guess is None else guess

    @property
    def _has_ends(self) -> bool:
        low, high = self.calibration.range
        return low > -sys.float_info.max or high < sys.float_info.max

    def _outside(self, x: Floats, noise: Floats | float) -> Bools:
        low, high = self.calibration.range
        if not self._has_ends:  # or none that are known
            return np.zeros(len(x), bool)
        slack = SLACK * noise
        return np.asarray((x < low - slack) | (x > high + slack))

    def _add_beyond(self, parts: dict[Source, Floats], x: Floats, values: Floats, guess: Bools) -> None:
        """Out there nothing has tested that the curve goes on as it is: besides its own uncertainty, which
        grows by itself, it may leave the truth by as much as the points leave it, for each width of the
        range; a table, whose shape ends with its points, by all that it has been carried on."""
        if not np.count_nonzero(guess):
            return
        low, high = self.calibration.range
        share = np.zeros(len(x))
        far = np.where(x < low, low - x, x - high)[guess]
        share[guess] = self.calibration.rms_residual * far / ((high - low) or 1.0)
        if self._frame.knots and self._curve is not None:
            ends = self._curve.value(self._p, np.clip(x, low, high), self._frame)
            share[guess] += np.abs(values - ends)[guess] / 3**0.5
        parts[self._beyond] = share

    def u(self, raw: Floats) -> Floats:
        """(n,) standard uncertainty of the curve itself, all that is common to readings, noise left out."""
        series = self.series(np.zeros(len(raw)), np.asarray(raw, float))
        left_out = (self._noise, self._resolution)
        common = {source: share for source, share in series.parts.items() if source not in left_out}
        if not common:
            return np.zeros(len(series))
        with np.errstate(all="ignore"):
            return Series(series.t, series.values, series.unit, common).u

    def sensitivity(self, raw: Floats) -> Floats:
        """(n,) change of the quantity for a change of the raw reading, in its unit per raw unit."""
        raw = np.asarray(raw, float)
        one = Source("one", False)
        entering = Series(np.zeros(len(raw)), raw, "", {one: np.ones(len(raw))})
        if self._before is not None:
            entering = self._before.of(entering)
        before = np.asarray(entering.parts[one])
        if self._curve is None:
            return before
        with np.errstate(all="ignore"):
            return before * self._curve.slope(self._p, entering.values, self._frame)

    def _shares(self, gradient: Floats) -> list[Floats]:
        """(k, n) gradient -> one (n,) share per source, element by element."""
        return [
            np.asarray(sum(row * factor for row, factor in zip(gradient, column, strict=True)))
            for column in self._factors.T
        ]

    # parameters and points

    def natural(self) -> tuple[Floats, Floats]:
        """(k,) parameters as they stand in the curve's equation and their (k, k) covariance."""
        if self._curve is None:
            return self._p, np.empty((0, 0))
        covariance = self._factors @ self._factors.T if self._known else np.full((len(self._p),) * 2, np.nan)
        for change in self._moved.values():
            covariance = covariance + np.outer(change, change)
        with np.errstate(all="ignore"):
            return natural(self._curve, self._p, covariance, self._frame)

    def residual(self, point: ReferencePoint) -> float:
        """Reference minus curve at a point, in the quantity's unit."""
        return point.reference - float(self.value(np.array([point.reading]))[0])

    def u_point(self, point: ReferencePoint) -> float:
        """Expected size of a residual from the point's own uncertainties: hypot(u_reference, slope × u_reading)."""
        return float(
            np.hypot(point.u_reference, float(self.sensitivity(np.array([point.reading]))[0]) * point.u_reading)
        )


def _sum(change: Floats, gradient: Floats) -> Floats:
    """(k,) change of the parameters and (k, n) gradient -> (n,), element by element."""
    return np.asarray(sum(c * row for c, row in zip(change, gradient, strict=True)))


def _known(values: Floats) -> Floats:
    """A value beyond all numbers, as far outside the points of an exponential, is unknown."""
    return np.where(np.isfinite(values), values, np.nan)


def _short(row: Floats) -> Floats:
    """Without the zeros at the end, which cost a pass each."""
    last = np.flatnonzero(row)
    return row[: last[-1] + 1] if len(last) else row[:1]


def _factors(covariance: Floats) -> Floats:
    """L with covariance = L Lᵀ, lower triangular: the first source moves all parameters, the last its own only."""
    if not covariance.size:
        return covariance
    scale = np.sqrt(np.maximum(np.diag(covariance), np.finfo(float).tiny))
    correlation = covariance / np.outer(scale, scale)
    size = len(scale)
    found = np.zeros((size, size))
    for row in range(size):  # Cholesky's method, where a parameter that adds nothing of its own gets a zero
        for column in range(row + 1):
            rest = correlation[row, column] - found[row, :column] @ found[column, :column]
            if row == column:
                found[row, row] = np.sqrt(max(rest, 0.0))
            elif found[column, column] > 1e-9:
                found[row, column] = rest / found[column, column]
    return np.asarray(scale[:, None] * found)
