"""A calibration made ready with the language of its steps and formula at hand."""

from __future__ import annotations

from collections.abc import Sequence

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.fitting import calibrate
from common_bench.model.calibration import Calibration, CurveChoice, ReferencePoint
from common_bench.workings.formula import formula


def applied(calibration: Calibration) -> Applied:
    return Applied(calibration, formula)


def calibrated(
    channel: str, quantity: str, unit: str, choice: CurveChoice, points: Sequence[ReferencePoint], made_at: str = ""
) -> Calibration:
    """Raises CalibrationTrouble, or WorkingTrouble where a step or the formula cannot be read."""
    return calibrate(channel, quantity, unit, choice, points, made_at, formula)
