"""From points to a calibration. Points and the choice of a curve in; a Calibration, or words why not, out."""

from __future__ import annotations

import math
import sys
from collections.abc import Sequence
from functools import cache

import msgspec
import numpy as np

from common_bench.calibrate.curves import AS_IT_COMES, CURVES, FORMULA, TABLE, Curve, find_curve
from common_bench.calibrate.formulas import chain_before, taken
from common_bench.fits.curve_fit import Fit, Model, fit_curve, stated
from common_bench.fits.straight_line import straight_line
from common_bench.model.block import Floats
from common_bench.model.calibration import Calibration, CurveChoice, Frame, ReferencePoint
from common_bench.model.measured import digits, plain
from common_bench.model.trouble import CalibrationTrouble
from common_bench.model.units import is_unit, same_kind

AS_SENT = "value = reading"  # what is kept for a quantity that comes as it is
EVERYWHERE = (-sys.float_info.max, sys.float_info.max)
LOOKED_AT = 400  # places between the points at which a curve is looked at for a turn
EQUAL = 1e-12  # relative: readings closer than this are one
ALIKE = 5.0  # standard uncertainties of the difference below which two readings are one


def calibrate(
    channel: str,
    quantity: str,
    unit: str,
    kind: str | CurveChoice,
    points: Sequence[ReferencePoint],
    made_at: str = "",
) -> Calibration:
    """The curve of a kind through the points that are no check points, for a quantity in `unit`.

    Raises CalibrationTrouble, or WorkingTrouble where a step or the formula cannot be read.
    """
    choice = kind if isinstance(kind, CurveChoice) else CurveChoice(kind)
    name = find_curve(choice.curve)
    needs_u = name == FORMULA
    if name == AS_IT_COMES:
        name, raw_unit = FORMULA, _unit_as_sent(choice.raw_unit, unit)
        choice = CurveChoice(FORMULA, choice.steps, AS_SENT, choice.u, raw_unit)
    used = [point for point in points if not point.check]
    _same_sensor(channel, points)
    before = chain_before(choice, unit, strict=True)
    if name == FORMULA:
        if not choice.formula:
            raise CalibrationTrouble("formula-missing", quantity=quantity)
        if needs_u and choice.u <= 0:
            raise CalibrationTrouble("formula-without-uncertainty", unit=unit)
        held = [point.reading for point in used]
        kept_range = (min(held), max(held)) if len(held) > 1 else EVERYWHERE
        nothing = np.empty(0)
        fit, frame = Fit(nothing, np.empty((0, 0)), nothing, nothing, 0.0, 0), Frame()
    else:
        curve = CURVES[name]
        _enough(curve, used)
        x, u_x, _ = taken(before, used)
        y, u_y = (np.array([getattr(p, each) for p in used], float) for each in ("reference", "u_reference"))
        stated(u_x, u_y)
        _usable(curve, used, x, y, u_x, u_y)
        fit, frame = _fitted(curve, x, y, u_x, u_y, unit, choice.raw_unit if before is None else before.unit)
        kept_range = (float(x.min()), float(x.max()))
        _turns(curve, fit.parameters, frame, kept_range, quantity, unit)
    expected = [np.fmax(abs(float(r)), float(u)) for r, u in zip(fit.residuals, fit.u_residuals, strict=True)]
    known = bool(np.isfinite(fit.covariance).all())
    return Calibration(
        channel, quantity, unit, name, tuple(fit.parameters.tolist()),
        tuple(tuple(r) for r in fit.covariance.tolist()) if known else (),
        kept_range, tuple(points), max((p.scatter for p in used), default=0.0), max((p.step for p in used), default=0.0),
        made_at, 0, frame, msgspec.structs.replace(choice, curve=name),
        fit.chi_square, fit.dof, float(np.sqrt(np.mean(np.square(expected)))) if expected else choice.u,
        u_dof=fit.u_dof if known and math.isfinite(fit.u_dof) else None,
    )  # fmt: skip


def _unit_as_sent(raw_unit: str, unit: str) -> str:
    """The unit of what comes: the one that the kit names where it can be meant, else the quantity's."""
    return raw_unit if raw_unit and is_unit(raw_unit) and same_kind(raw_unit, unit) else unit


@cache
def standing(channel: str, quantity: str, unit: str, choice: CurveChoice) -> Calibration:
    """The calibration that needs no points: a data sheet's formula, or the number as it comes.

    Raises CalibrationTrouble or WorkingTrouble where the formula cannot be read.
    """
    return calibrate(channel, quantity, unit, choice, ())


def _same_sensor(channel: str, points: Sequence[ReferencePoint]) -> None:
    for point in points:
        if point.channel and point.channel != channel:
            raise CalibrationTrouble(
                "point-of-another-channel", label=point.label, channel=point.channel, wanted=channel
            )


def _enough(curve: Curve, used: list[ReferencePoint]) -> None:
    if len(used) < curve.least:
        more = "point" if curve.least == 1 else "points"
        raise CalibrationTrouble("too-few-points", name=curve.name, least=curve.least, more=more, used=len(used))


def _usable(curve: Curve, used: list[ReferencePoint], x: Floats, y: Floats, u_x: Floats, u_y: Floats) -> None:
    """Raises CalibrationTrouble for points that no curve of this kind passes, or that are too few in truth."""
    for point, at, value in zip(used, x, y, strict=True):
        if not np.isfinite(at) or not np.isfinite(value):
            raise CalibrationTrouble("point-without-value", label=point.label)
    if u_y.any() and (u_y <= 0).any():
        worst = used[int(np.argmin(u_y))]
        raise CalibrationTrouble("reference-without-uncertainty", label=worst.label)
    for need in curve.needs:
        met = need.met(x, y)
        if not met.all():
            off = int(np.argmin(met))
            raise CalibrationTrouble("point-unfit-for-curve", name=curve.name, words=need.words, label=used[off].label, x=plain(float(x[off]), 3), y=plain(float(y[off]), 3))  # fmt: skip
    if curve.temperature and (y + 273.15 <= 0).any() and (y <= 0).any():
        raise CalibrationTrouble("below-absolute-zero")
    order = np.argsort(x)
    same = [
        (used[low], used[high])
        for low, high in zip(order[:-1], order[1:], strict=True)
        if x[high] - x[low] <= EQUAL * max(abs(x[high]), abs(x[low]))
    ]
    if same and (curve is TABLE or len(used) - len(same) < curve.least):
        raise CalibrationTrouble("gave-same-reading", label=same[0][0].label, other=same[0][1].label)
    if len(used) > 1 and np.ptp(x) > 0 and curve.least > 1 and np.ptp(y) == 0:
        raise CalibrationTrouble("references-all-alike")
    if curve is TABLE:
        steps = np.diff(y[order])
        if not ((steps > 0).all() or (steps < 0).all()):
            off = used[order[1 + int(np.argmax(steps * np.sign(np.median(steps)) <= 0))]]
            raise CalibrationTrouble("table-turns-round", label=off.label)


def _fitted(
    curve: Curve, x: Floats, y: Floats, u_x: Floats, u_y: Floats, unit: str, raw_unit: str
) -> tuple[Fit, Frame]:
    frame = curve.frame(x, y, unit, raw_unit)
    start = np.array(curve.start(x, y, frame), float)
    if curve is TABLE:
        order = np.argsort(x)
        slope = curve.slope(start, x, frame)
        own = np.sqrt(u_y**2 + (slope * u_x) ** 2) if stated(u_x, u_y) else np.full(len(x), np.nan)
        return Fit(start, np.diag(own[order] ** 2), np.zeros(len(x)), own, 0.0, 0), frame
    if curve.powers == (0, 1):
        line = straight_line((x - frame.origin) / frame.scale, y, u_x / frame.scale, u_y)
        fit = Fit(
            np.array([line.intercept, line.slope]), line.covariance, line.residuals, line.u_residuals,
            line.chi_square, line.dof, line.u_dof,
        )  # fmt: skip
    else:
        model = Model(
            lambda p, at: curve.value(p, at, frame), lambda p, at: curve.gradient(p, at, frame),
            lambda p, at: curve.slope(p, at, frame),
        )  # fmt: skip
        fit = fit_curve(model, x, y, u_x, u_y, start)
    return fit.believed(), frame


def _turns(curve: Curve, p: Floats, frame: Frame, ends: tuple[float, float], quantity: str, unit: str) -> None:
    """Raises CalibrationTrouble where the curve turns round between its points, or does not change at all."""
    if ends[0] == ends[1] or curve is TABLE:
        return
    at = np.linspace(*ends, LOOKED_AT)
    slope = curve.slope(p, at, frame)
    if not slope.any():
        raise CalibrationTrouble("curve-is-flat")
    turned = np.flatnonzero(slope[1:] * slope[:-1] < 0)
    if len(turned):
        place = float(at[turned[0]])
        value = float(curve.value(p, np.array([place]), frame)[0])
        width = (ends[1] - ends[0]) / 100
        raise CalibrationTrouble("curve-turns-round", place=digits(place, width), value=digits(value, 0.0), unit=unit, quantity=quantity)  # fmt: skip


def alike(one: ReferencePoint, other: ReferencePoint) -> bool:
    """Whether two points of different references have one reading, as of a stuck sensor or the same mass."""
    if one.reference == other.reference:
        return False
    spread = np.hypot(max(one.u_reading, one.step), max(other.u_reading, other.step))
    return bool(abs(one.reading - other.reading) <= ALIKE * spread)
