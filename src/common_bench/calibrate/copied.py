"""A curve as somebody copies it: how many digits its numbers need, and a line for a spreadsheet's cell. An applied
calibration in; numbers and text out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.curves import ROOM
from common_bench.model.block import Floats
from common_bench.model.calibration import Frame

OFF = 0.1  # of its uncertainty, by which the curve from the copied numbers may differ from the curve
LEAST, MOST = 4, 17  # significant digits; float64 has no more
LOOKED_AT = 200  # places between the points
UNSURE = 1e-7  # of the curve's extent, where its uncertainty is not known or 0


@dataclass(frozen=True)
class CopiedAs:
    """numbers: out of the natural parameters, those that are written; value(numbers, x, frame): (n,) what they give;
    cell: the same for a spreadsheet with x in A1, its numbers in braces."""

    value: Callable[[list[float], Floats, Frame], Floats]
    cell: str
    numbers: Callable[[list[float]], list[float]] = list


def _kelvin(numbers: list[float], x: Floats) -> Floats:
    logs = np.log(x)
    return np.asarray(1 / (numbers[0] + numbers[1] * logs + numbers[2] * logs**3))


FORMS: dict[str, CopiedAs] = {
    "offset-only": CopiedAs(lambda p, x, f: f.factor * x + f.offset + p[0], "{factor}*A1+{offset}+{0}"),
    "proportion": CopiedAs(lambda p, x, f: p[0] * x, "{0}*A1"),
    "straight-line": CopiedAs(
        lambda p, x, f: p[0] * (x - p[1]), "{0}*(A1-{1})", lambda p: [p[1], -p[0] / p[1]] if p[1] else [0.0, 0.0]
    ),
    "polynomial-of-degree-2": CopiedAs(lambda p, x, f: p[0] + p[1] * x + p[2] * x**2, "{0}+{1}*A1+{2}*A1^2"),
    "polynomial-of-degree-3": CopiedAs(
        lambda p, x, f: p[0] + p[1] * x + p[2] * x**2 + p[3] * x**3, "{0}+{1}*A1+{2}*A1^2+{3}*A1^3"
    ),
    "power": CopiedAs(lambda p, x, f: p[0] * x ** p[1], "{0}*A1^{1}"),
    "logarithmic": CopiedAs(lambda p, x, f: p[0] + p[1] * np.log(x), "{0}+{1}*LN(A1)"),
    "exponential": CopiedAs(lambda p, x, f: p[0] * np.exp(p[1] * x), "{0}*EXP({1}*A1)"),
    "thermistor-three-parameters": CopiedAs(
        lambda p, x, f: f.offset + f.factor * _kelvin(p, x), "{factor}/({0}+{1}*LN(A1)+{2}*LN(A1)^3)+{offset}"
    ),
    "thermistor-two-parameters": CopiedAs(
        lambda p, x, f: f.offset + f.factor / (1 / ROOM + np.log(x / p[0]) / p[1]),
        f"{{factor}}/(1/{ROOM}+LN(A1/{{0}})/{{1}})+{{offset}}",
    ),
}


def rounded(value: float, figures: int) -> float:
    """To so many significant digits."""
    return float(f"{value:.{figures - 1}e}") if np.isfinite(value) else value


def figures_of(applied: Applied) -> int:
    """The fewest significant digits with which the written numbers give the curve within a tenth of its uncertainty,
    anywhere between its points."""
    c = applied.calibration
    form = FORMS.get(c.curve)
    if form is None:
        return LEAST
    natural = form.numbers(applied.natural()[0].tolist())
    held = [point.reading for point in c.points if not point.check]
    low, high = (min(held), max(held)) if held else (0.0, 1.0)
    raw = np.linspace(low, high, LOOKED_AT)
    x, value, u = applied.taken(raw), applied.value(raw), applied.u(raw)
    extent = float(np.ptp(value)) or float(np.abs(value).max())
    allowed = np.where(np.isfinite(u) & (u > 0), OFF * u, UNSURE * extent)
    with np.errstate(all="ignore"):
        for figures in range(LEAST, MOST):
            found = form.value([rounded(each, figures) for each in natural], x, c.frame)
            if (np.abs(found - value) < allowed / 2).all():
                return figures
    return MOST


def cell_of(applied: Applied) -> str:
    """A line for a spreadsheet that takes what the curve takes from the cell A1; empty where the curve has no formula."""
    c = applied.calibration
    form = FORMS.get(c.curve)
    if form is None:
        return ""
    figures = figures_of(applied)
    numbers = [_number(rounded(each, figures)) for each in form.numbers(applied.natural()[0].tolist())]
    text = form.cell.format(*numbers, factor=_number(c.frame.factor), offset=_number(c.frame.offset))
    return "=" + text.replace("+-", "-").replace("--", "+")


def _number(value: float) -> str:
    return repr(float(value)).removesuffix(".0")
