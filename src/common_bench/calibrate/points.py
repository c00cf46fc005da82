"""Taking a reference point. Recent raw readings and what is held in; a point with all that it was taken from out."""

from __future__ import annotations

import numpy as np

from common_bench.calibrate.steady import (
    LONG_ENOUGH,
    PROPOSED,
    Limits,
    Steadiness,
    digits_of,
    independent_of,
    steadiness,
)
from common_bench.model.block import Floats
from common_bench.model.calibration import PlannedPoint, Readings, ReferencePoint
from common_bench.model.trouble import CalibrationTrouble

SEEN = 2.0  # standard uncertainties from which a drift is one
LEAST_STEADY = 15  # readings of a steady stretch
SHARES = 0.8 ** np.arange(12)  # of the steady stretch, of which the best is taken
LEAST = 5  # readings from which a point can be taken with a reason


def take_point(
    planned: PlannedPoint,
    unit: str,
    t: Floats,
    raw: Floats,
    *,
    channel: str = "",
    taken_at: str = "",
    limits: Limits = PROPOSED,
    reason: str = "",
    board: float | None = None,
    against: str = "",
    resolution: float = 0.0,
) -> ReferencePoint:
    """A point from the steady stretch that ends now; t in s, raw (n,) with nan for no value; resolution: the smallest
    step that the kit has ever shown, 0 where that is not known.

    Raises CalibrationTrouble where it is not steady and no reason is given, or the reference is none.
    Its uncertainty is that of the mean (as few independent readings as the neighbours' likeness
    leaves), of the resolution (step/√12, common to all readings: JCGM 100, F.2.2.1), of the drift over the stretch and
    of what may still come (both rectangular, JCGM 100, 4.3.7).
    """
    check_reference(planned.label, planned.value, planned.u)
    known = np.isfinite(raw)
    t, raw = t[known], raw[known]
    found = steadiness(t, raw, limits)
    seconds = found.seconds
    if not found.steady:
        if not reason.strip():
            raise CalibrationTrouble("not-steady-yet", label=planned.label, case="moves" if found.n else "few")
        if len(raw) < LEAST:
            raise CalibrationTrouble("too-little-heard", label=planned.label)
        seconds = LONG_ENOUGH
    else:
        seconds = _best_length(t, raw, found)
    inside = t >= t[-1] - seconds if found.steady or len(t[t >= t[-1] - seconds]) >= LEAST else t >= t[-LEAST]
    t, raw = t[inside] - t[-1], raw[inside]
    scatter = float(np.std(raw, ddof=1))
    independent = independent_of(raw)
    drift = found.drift if np.isfinite(found.drift) else 0.0
    seen = abs(drift) > SEEN * found.u_drift or not found.steady
    moved = abs(drift) * float(t[-1] - t[0]) if seen else 0.0
    step = max(resolution or found.step, 10.0 ** -digits_of(raw))
    lag = found.tail.mean_over(float(t[-1] - t[0]))
    u = np.sqrt(scatter**2 / independent + (step**2 + moved**2) / 12 + found.tail.may_come**2 + lag**2 / 3)
    return ReferencePoint(
        planned.label, float(raw.mean()), float(u), planned.value, planned.u, unit, len(raw),
        min(scatter, found.noise) if found.steady and found.noise else scatter, float(t[-1] - t[0]), taken_at, planned.check,
        step=step, independent=round(independent, 2), drift=drift, board=board,
        reason="" if found.steady else reason.strip(), against=against, channel=channel,
        readings=Readings(tuple(np.round(t, 4).tolist()), tuple(raw.tolist())),
    )  # fmt: skip


def _best_length(t: Floats, raw: Floats, found: Steadiness) -> float:
    """How many s at the end of the steady stretch give the mean that is known best: more readings scatter less, but
    those that came while the reading still moved pull it."""
    best, length = np.inf, found.seconds
    for seconds in found.seconds * SHARES:
        kept = raw[t >= t[-1] - seconds]
        if len(kept) < LEAST_STEADY:
            break
        square = float(np.var(kept)) / independent_of(kept) + found.tail.mean_over(float(seconds)) ** 2 / 3
        if square < best:
            best, length = square, float(seconds)
    return length


def check_reference(label: str, value: float, u: float) -> None:
    """Raises CalibrationTrouble for a reference that cannot be one."""
    if not np.isfinite(value):
        raise CalibrationTrouble("reference-is-no-number", label=label)
    if not (np.isfinite(u) and u > 0):
        raise CalibrationTrouble("reference-typed-without-uncertainty", label=label)
