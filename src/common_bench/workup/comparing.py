"""Findings of two runs held against each other."""

from __future__ import annotations

import math

from common_bench.model.measured import digits, written
from common_bench.model.run import Finding
from common_bench.model.trouble import Trouble
from common_bench.model.units import conversion

AGREE = 2.0  # standard uncertainties of a difference


def difference_words(one: Finding, other: Finding, who: str) -> str:
    """Difference and ratio with their uncertainties, and whether the two agree. Shares that both have in common, as of one
    calibration, are taken as independent, which makes the difference look no surer than it is."""
    try:
        factor, offset = conversion(other.measured.unit, one.measured.unit)
    except Trouble as trouble:
        return f"{who}: {trouble.what}"
    value, u = other.measured.value * factor + offset, other.measured.u * factor
    by, u_by = one.measured.value - value, math.hypot(one.measured.u, u)
    difference = written(by, u_by, one.measured.unit)
    if not math.isfinite(u_by):
        return f"{who}: {difference} apart; how sure that is, nothing tells."
    ratio = ""
    if value and one.measured.value:
        part = one.measured.value / value
        u_part = abs(part) * math.hypot(one.measured.u / one.measured.value, u / value)
        ratio = f", a ratio of {written(part, u_part)}"
    agree = (
        "they agree"
        if abs(by) <= AGREE * u_by
        else f"they differ by {digits(abs(by) / u_by, 0.5)} standard uncertainties"
    )
    return f"{who}: {difference} apart{ratio}; {agree}."
