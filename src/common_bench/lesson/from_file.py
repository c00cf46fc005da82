"""A calibration from a file of points, without a lesson: what `common-bench calibrate` does."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.copied import cell_of
from common_bench.calibrate.curves import CURVES, curve_name
from common_bench.calibrate.fitting import EVERYWHERE, calibrate
from common_bench.calibrate.judging import (
    check_number,
    check_state,
    fit_words,
    in_a_cell,
    parameter_words,
    sentence,
    worth,
)
from common_bench.exchange.points import points_from
from common_bench.model.calibration import Calibration, CurveChoice
from common_bench.model.measured import plain
from common_bench.model.trouble import CalibrationTrouble


def calibration_from(
    path: Path, curve: str, *, quantity: str, unit: str, steps: tuple[str, ...], formula: str, u: float
) -> Applied:
    """Raises Trouble in words. unit '': as the file's header gives it."""
    table = points_from(path)
    if unit and table.unit and unit != table.unit:
        raise CalibrationTrouble("points-in-another-unit", where=str(path), unit=table.unit, wanted=unit)
    choice = CurveChoice(curve, steps, formula, u, table.raw_unit)
    return Applied(calibrate("reading", quantity, unit or table.unit, choice, table.points))


def as_json(ready: Applied) -> dict[str, Any]:
    """The object that `calibrate --json` prints."""
    c = ready.calibration
    p, covariance = ready.natural()
    names = _names(c)
    return {
        "curve": curve_name(c.curve),
        "parameters": {
            name: {"value": float(value), "u": float(np.sqrt(np.maximum(covariance[at, at], 0.0)))}
            for at, (name, value) in enumerate(zip(names, p, strict=True))
        },
        "covariance": [[float(each) for each in row] for row in covariance],
        "residuals": [ready.residual(point) for point in c.points if not point.check],
        "range": None if c.range == EVERYWHERE else list(c.range),
        "expected": [ready.u_point(point) for point in c.points if not point.check],
        "chi_square": c.chi_square,
        "dof": c.dof,
        "u_dof": c.u_dof,
        "unit": c.unit,
        "sentence": sentence(ready),
        "cell": cell_of(ready) or None,
        "fits": fit_words(ready),
        "check": [
            {
                "label": p.label,
                "residual": ready.residual(p),
                "E_n": check_number(ready, p),
                "is": check_state(ready, p),
            }
            for p in c.points
            if p.check
        ],
    }


def _names(c: Calibration) -> tuple[str, ...]:
    curve = CURVES.get(c.curve)
    if curve is None:
        return ()
    return curve.parameters or tuple(f"value {at}" for at in range(1, len(c.parameters) + 1))


def as_words(ready: Applied) -> list[str]:
    """The lines that `calibrate` prints."""
    c = ready.calibration
    lines = [sentence(ready), worth(ready), fit_words(ready), *parameter_words(ready)]
    if cell := in_a_cell(ready):
        lines.append(cell)
    for point in c.points:
        residual, expected = ready.residual(point), ready.u_point(point)
        decimals = 4 if max(abs(residual), expected) >= 0.001 else 9
        words = (
            f"  check point: {check_state(ready, point)} (E_n = {check_number(ready, point):.2f})"
            if point.check
            else ""
        )
        lines.append(
            f"{point.label:<12} residual {plain(residual, decimals)} expected ± {plain(expected, decimals)}{words}"
        )
    return [line for line in lines if line]
