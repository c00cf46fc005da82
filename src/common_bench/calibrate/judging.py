"""What a calibration is worth, in words. A calibration made ready in; sentences and the E_n number out."""

from __future__ import annotations

import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.copied import cell_of, figures_of, rounded
from common_bench.calibrate.curves import CURVES, FORMULA
from common_bench.calibrate.fitting import AS_SENT
from common_bench.fits.curve_fit import UNLIKELY, chance, growth
from common_bench.model.calibration import ReferencePoint
from common_bench.model.measured import NO_VALUE, digits, places, plain, raised, written

DOUBTFUL, BAD = 1.0, 2.0  # of the E_n number, ISO/IEC 17043
TOO_GOOD = 0.99  # share of chance that would scatter more: the stated uncertainties are then too large
LONGEST = 9  # digits of a whole number that is written without a power of ten
FAR_OFF = 3.0  # expected sizes of a residual: a point that needs a look
PREFIXES = ((1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m"), (1e-6, "µ"), (1e-9, "n"), (1e-12, "p"))
PREFIXED = ("N", "V", "A", "Pa", "Ω", "ohm", "W", "J", "m", "s", "Hz", "g")


def check_number(applied: Applied, point: ReferencePoint) -> float:
    """Difference over its combined expanded uncertainty (k = 2): E_n of ISO/IEC 17043, 9.4."""
    u_curve = float(applied.u(np.array([point.reading]))[0])
    combined = float(np.hypot(u_curve, applied.u_point(point)))
    return abs(applied.residual(point)) / (2 * combined) if combined > 0 else float("inf")


def check_state(applied: Applied, point: ReferencePoint) -> str:
    """How a check point came out: `good`, `doubtful` or `bad`; one for which the curve has no value is bad."""
    number = check_number(applied, point)
    return "good" if number <= DOUBTFUL else "doubtful" if number <= BAD else "bad"


def fit_words(applied: Applied) -> str:
    """Whether the curve fits, in a plain sentence, with the reduced chi-square and the point to look at."""
    c = applied.calibration
    used = [point for point in c.points if not point.check]
    if c.choice.formula == AS_SENT:
        return "The kit sends the quantity itself; points would only test it."
    if c.curve == FORMULA:
        return "A formula by hand: the points do not change it, they test it."
    if not any(point.u_reference or point.u_reading for point in used):
        if c.dof < 1:
            return (
                "No uncertainties are stated, and the curve passes through every point: how sure it is, nobody knows."
            )
        return "No uncertainties are stated; they are taken from how far the points lie off the curve."
    if c.dof < 1:
        tests = "the check point tests it" if len(used) < len(c.points) else "one more point would test it"
        return f"The curve passes through every point because it must; {tests}."
    reduced = c.chi_square / c.dof
    number = f"reduced chi-square {reduced:.2g}"
    likely = chance(c.chi_square, c.dof)
    if likely < UNLIKELY:
        worst = max(used, key=lambda p: abs(applied.residual(p)) / (applied.u_point(p) or 1.0))
        return (
            f"The points lie farther off than their uncertainties allow ({number}), most of all “{worst.label}”: "
            "take it again, or choose another curve. Until then the uncertainty is grown "
            f"{growth(c.chi_square, c.dof)[0] ** 0.5:.2g} times to cover it."
        )
    if likely > TOO_GOOD:
        return f"The points lie closer to the curve than their uncertainties say ({number}); these may be too large."
    grown = growth(c.chi_square, c.dof)[0] ** 0.5
    told = f"; the uncertainty is grown {grown:.2g} times for it" if grown > 1 else ""
    return f"The curve fits: the points lie off it as their uncertainties let expect ({number}{told})."


def sentence(applied: Applied) -> str:
    """The calibration in a line that a student can copy into a report."""
    c = applied.calibration
    p, _ = applied.natural()
    figures = figures_of(applied)
    steps = "; ".join(_pretty(step) for step in c.choice.steps)
    where = f"; where {steps}" if steps else ""
    if c.choice.formula == AS_SENT:
        return f"{c.quantity} as it comes" + where
    if c.curve == FORMULA:
        return _pretty(c.choice.formula) + where
    entering = c.choice.steps[-1].split("=")[0].strip() if c.choice.steps else "reading"
    numbers = [rounded(each, figures) for each in p.tolist()]
    if c.curve == "straight-line" and p[1]:
        numbers[0] = -rounded(float(p[1]), figures) * rounded(float(-p[0] / p[1]), figures)
    return _equation(c.curve, c.quantity, c.unit, numbers, entering, len(c.points), figures) + where


def in_a_cell(applied: Applied) -> str:
    """What is copied for a spreadsheet, with what belongs into its cell A1; empty where the curve has no formula."""
    cell, steps = cell_of(applied), applied.calibration.choice.steps
    holds = steps[-1].split("=")[0].strip() if steps else "the reading"
    return f"In a spreadsheet, with {holds} in A1: {cell}" if cell else ""


def _pretty(working: str) -> str:
    """A working as it is printed."""
    return working.replace(" * ", " × ").replace(" - ", " − ")


def _equation(curve: str, q: str, unit: str, p: list[float], x: str, points: int, figures: int) -> str:
    if curve == "offset-only":
        return f"{q} = {x} {_signed(p[0], unit, figures)}"
    if curve == "proportion":
        return f"{q} = {scaled(p[0], unit, figures)} × {x}"
    if curve == "straight-line" and p[1]:
        zero = -p[0] / p[1]
        return f"{q} = {scaled(p[1], unit, figures)} × ({x} {'−' if zero >= 0 else '+'} {_short(abs(zero), figures)})"
    if curve.startswith(("straight", "polynomial")):
        powers = ["", f" × {x}", f" × {x}²", f" × {x}³"]
        later = "".join(f" {_signed(c, unit, figures)}{power}" for c, power in zip(p[1:], powers[1:], strict=False))
        return f"{q} = {scaled(p[0], unit, figures)}{later}"
    if curve == "power":
        return f"{q} = {scaled(p[0], unit, figures)} × {x}^{_short(p[1], figures)}"
    if curve == "logarithmic":
        return f"{q} = {scaled(p[0], unit, figures)} {_signed(p[1], unit, figures)} × ln({x})"
    if curve == "exponential":
        return f"{q} = {scaled(p[0], unit, figures)} × e^({_short(p[1], figures)} × {x})"
    if curve == "thermistor-three-parameters":
        terms = (
            f"{_short(p[0], figures)} {_signed(p[1], '', figures)} × ln({x}) {_signed(p[2], '', figures)} × ln({x})³"
        )
        return f"{q} = {_from_kelvin(unit)}, 1/T = ({terms}) 1/K"
    if curve == "thermistor-two-parameters":
        return f"{q} = {_from_kelvin(unit)}, 1/T = 1/298.15 K + ln({x} / {_short(p[0], figures)}) / {_short(p[1], figures)} K"
    return f"{q} = a smooth monotone table through {points} points"


def _from_kelvin(unit: str) -> str:
    return "T − 273.15 K in °C" if unit == "°C" else "T"


def worth(applied: Applied) -> str:
    """How good it is and where it holds, in words."""
    c = applied.calibration
    held = [point.reading for point in c.points if not point.check]
    if len(held) < 2:
        u = float(applied.u(np.array([held[0] if held else 1.0]))[0])
        if np.isnan(u):
            return "± ?"
        return f"± {plain(u, places(u))} {c.unit}." if np.isfinite(u) and u > 0 else ""
    inside = np.linspace(min(held), max(held), 50)
    sizes = applied.u(inside)
    u = float(np.nanmax(sizes)) if np.isfinite(sizes).any() else np.nan
    if np.isnan(u):
        return f"± ?, for readings {plain(min(held), 0)} … {plain(max(held), 0)}."
    if not (np.isfinite(u) and u > 0):
        return f"Holds for readings {plain(min(held), 0)} … {plain(max(held), 0)}."
    low, high = (digits(end, u) for end in sorted(applied.value(np.array([min(held), max(held)])).tolist()))
    return f"± {plain(u, places(u))} {c.unit} at most, inside {low} … {high} {c.unit}; marked as a guess outside."


def parameter_words(applied: Applied) -> list[str]:
    """Each parameter with its uncertainty and unit, as `slope = 9.836 ± 0.004 µN`."""
    c = applied.calibration
    p, covariance = applied.natural()
    if c.curve not in CURVES or c.curve == "monotone-table":
        return []
    curve = CURVES[c.curve]
    found = []
    for at, name in enumerate(curve.parameters):
        u = float(np.sqrt(np.maximum(0.0, covariance[at, at])))
        if not np.isfinite(p[at]):
            continue
        size = abs(p[at]) or u or 1.0
        power = int(np.floor(np.log10(size)))
        unit = curve.unit_of(at, c.unit, c.choice.raw_unit)
        if -3 <= power < 6:
            found.append(f"{name} = {written(float(p[at]), u, unit)}")
        else:
            value = written(float(p[at]) / 10.0**power, u / 10.0**power)
            found.append(f"{name} = ({value}) × 10{raised(power)} {unit}".rstrip())
    return found


def scaled(value: float, unit: str, figures: int = 4) -> str:
    """A small or large value with a prefix to its unit: `9.836 µN`."""
    factor, prefix = prefix_of(value, unit)
    return f"{_short(value / factor, figures)} {prefix}{unit}".rstrip()


def prefix_of(value: float, unit: str) -> tuple[float, str]:
    """The factor and letter that bring a value of this unit above 1; 1 and '' for units that take none."""
    if unit in PREFIXED and value and np.isfinite(value):
        return next(((factor, prefix) for factor, prefix in PREFIXES if abs(value) >= factor), (1.0, ""))
    return 1.0, ""


def _signed(value: float, unit: str = "", figures: int = 4) -> str:
    return f"{'−' if value < 0 else '+'} {scaled(abs(value), unit, figures)}"


def _short(value: float, figures: int = 4) -> str:
    """So many digits, with a power of ten where it takes one, as 3.354 × 10⁻³; a dash for what is beyond all numbers."""
    if not np.isfinite(value):
        return NO_VALUE
    text = f"{value:.{figures}g}"
    if "e" in text and abs(value) >= 1 and abs(value) < 10.0**LONGEST:
        text = f"{rounded(value, figures):.0f}"
    if "e" in text:
        head, _, power = text.partition("e")
        text = f"{head} × 10{raised(int(power))}"
    return text.replace("-", "−")
