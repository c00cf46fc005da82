"""The table of curves from reading to quantity. A new curve is one entry with its functions.

Each function takes parameters counted from a Frame, so that a sensor whose readings lie far from
zero loses no digits; `natural` gives them as they stand in the equation. Arrays: x (n,) is what the
curve takes, p (k,) its parameters.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from math import comb
from typing import Any, NamedTuple

import numpy as np

from common_bench.model.block import Bools, Floats
from common_bench.model.calibration import Frame, curve_key
from common_bench.model.trouble import CalibrationTrouble
from common_bench.model.units import conversion, is_unit, power, product, same_kind

ROOM = 298.15  # K, 25 °C, at which data sheets give a thermistor's resistance


class Need(NamedTuple):
    """What every point must fulfil: `met` takes (x, y) and gives (n,) True where it does."""

    words: str
    met: Callable[[Floats, Floats], Bools]


ABOVE_ZERO = Need("a reading above zero", lambda x, y: x > 0)
ONE_SIGN = Need("references above zero, or all below", lambda x, y: (y > 0) if np.median(y) > 0 else (y < 0))


@dataclass(frozen=True)
class Curve:
    """One kind of curve.

    equation: in words; parameters: their names in it; units: of each, as powers of the quantity's
    and the reading's, or as text; least: points that it needs; needs: what they must fulfil. frame(x, y, unit,
    raw_unit), start(x, y, frame), value, gradient (k, n) and slope (p, x, frame); natural(p, frame),
    which must take complex numbers. powers: for polynomials, which powers of (x − origin) / scale
    the parameters belong to; base: what stands beside them.
    """

    name: str
    equation: str
    parameters: tuple[str, ...]
    units: tuple[tuple[int, int] | str, ...]
    least: int
    frame: Callable[[Floats, Floats, str, str], Frame]
    start: Callable[[Floats, Floats, Frame], Floats]
    value: Callable[[Floats, Floats, Frame], Floats]
    gradient: Callable[[Floats, Floats, Frame], Floats]
    slope: Callable[[Floats, Floats, Frame], Floats]
    natural: Callable[[Any, Frame], Any]
    needs: tuple[Need, ...] = ()
    also: tuple[str, ...] = ()
    powers: tuple[int, ...] = ()
    base: Callable[[Frame], tuple[float, ...]] = field(default=lambda frame: (0.0,))
    temperature: bool = False

    @property
    def key(self) -> str:
        """By which it is kept, apart from its name on the screen."""
        return curve_key(self.name)

    def unit_of(self, at: int, unit: str, raw_unit: str) -> str:
        """The unit of a parameter, with the reading's unit left out where it is none that is known."""
        powers = self.units[at]
        if isinstance(powers, str):
            return powers
        known = raw_unit if powers[1] and is_unit(raw_unit) else ""
        whole = unit if powers[0] else ""
        return product(whole, power(known, abs(powers[1])), -1.0 if powers[1] < 0 else 1.0) if known else whole


# polynomials


def _lengths(x: Floats, y: Floats, unit: str, raw_unit: str) -> Frame:
    """Counted from the middle of the points, in halves of their extent."""
    return Frame((float(x.min()) + float(x.max())) / 2, float(np.ptp(x)) / 2 or 1.0)


def _from_zero(x: Floats, y: Floats, unit: str, raw_unit: str) -> Frame:
    return Frame(0.0, float(np.abs(x).max()) or 1.0)


def _raw_to_quantity(x: Floats, y: Floats, unit: str, raw_unit: str) -> Frame:
    factor, offset = conversion(raw_unit, unit) if is_unit(raw_unit) and same_kind(raw_unit, unit) else (1.0, 0.0)
    return Frame(0.0, 1.0, factor, offset)


def _polynomial(name: str, equation: str, powers: tuple[int, ...], parameters: tuple[str, ...], **more: Any) -> Curve:
    base: Callable[[Frame], tuple[float, ...]] = more.get("base", lambda frame: (0.0,))

    def z(x: Floats, frame: Frame) -> Floats:
        return counted(x, frame)

    def value(p: Floats, x: Floats, frame: Frame) -> Floats:
        return horner(row_of(p, powers, base(frame)), z(x, frame))

    def gradient(p: Floats, x: Floats, frame: Frame) -> Floats:
        at = z(x, frame)
        return np.array([at**n for n in powers])

    def slope(p: Floats, x: Floats, frame: Frame) -> Floats:
        return horner(sensitivity_of(row_of(p, powers, base(frame))), z(x, frame)) / frame.scale

    def start(x: Floats, y: Floats, frame: Frame) -> Floats:
        at = z(x, frame)
        beside = horner(np.array(base(frame)), at)
        return np.asarray(np.linalg.lstsq(np.array([at**n for n in powers]).T, y - beside, rcond=None)[0])

    def natural(p: Any, frame: Frame) -> Any:
        return [
            sum(
                c * comb(n, m) * (-frame.origin) ** (n - m) / frame.scale**n
                for c, n in zip(p, powers, strict=True)
                if n >= m
            )
            for m in powers
        ]

    units = tuple((1, -n) for n in powers)
    options = {"frame": _lengths, **more}
    return Curve(name, equation, parameters, units, len(powers), start=start, value=value, gradient=gradient,
                 slope=slope, natural=natural, powers=powers, **options)  # fmt: skip


def counted(x: Floats, frame: Frame) -> Floats:
    """Readings from a frame's origin, in its lengths."""
    return np.asarray((x - frame.origin) * (1.0 / frame.scale))


def row_of(p: Floats, powers: tuple[int, ...], base: tuple[float, ...]) -> Floats:
    """Coefficients by power of a polynomial with these parameters."""
    row = np.zeros(max([*powers, len(base) - 1]) + 1)
    row[: len(base)] = base
    for c, n in zip(p, powers, strict=True):
        row[n] += c
    return row


def sensitivity_of(row: Floats) -> Floats:
    """Coefficients of the derivative."""
    return np.array([n * c for n, c in enumerate(row)][1:] or [0.0])


def horner(row: Floats, z: Floats, out: Floats | None = None) -> Floats:
    """The polynomial with coefficients `row` by power at z (n,), written to `out` where it is given. Works in place
    and element by element, so that equal z give equal bits."""
    out = np.empty_like(z) if out is None else out
    if len(row) == 1:
        out[...] = row[0]
        return out
    np.multiply(z, row[-1], out=out)
    out += row[-2]
    for c in row[-3::-1]:
        out *= z
        out += c
    return out


# curves with a power, a logarithm or an exponential


def _about(x: Floats, y: Floats, unit: str, raw_unit: str) -> Frame:
    """Counted from the geometric middle of the readings."""
    return Frame(float(np.exp(np.mean(np.log(x)))))


def _line(x: Floats, y: Floats) -> Floats:
    """Slope and level of a plain straight line, to start from."""
    return np.asarray(np.polyfit(x, y, 1))


def _power_start(x: Floats, y: Floats, frame: Frame) -> Floats:
    by, level = _line(np.log(x / frame.origin), np.log(np.abs(y)))
    return np.array([np.sign(np.median(y)) * np.exp(level), by])


POWER = Curve(
    "power", "quantity = factor × reading ^ exponent", ("factor", "exponent"), ((1, 0), (0, 0)), 2, _about, _power_start,
    value=lambda p, x, f: p[0] * (x / f.origin) ** p[1],
    gradient=lambda p, x, f: np.array([(x / f.origin) ** p[1], p[0] * (x / f.origin) ** p[1] * np.log(x / f.origin)]),
    slope=lambda p, x, f: p[0] * p[1] * (x / f.origin) ** p[1] / x,
    natural=lambda p, f: [p[0] * f.origin ** (-p[1]), p[1]], needs=(ABOVE_ZERO, ONE_SIGN),
)  # fmt: skip


LOGARITHMIC = Curve(
    "logarithmic", "quantity = level + step × ln(reading)", ("level", "step"), ((1, 0), (1, 0)), 2, _about,
    start=lambda x, y, f: _line(np.log(x / f.origin), y)[::-1],
    value=lambda p, x, f: p[0] + p[1] * np.log(x / f.origin),
    gradient=lambda p, x, f: np.array([np.ones_like(x), np.log(x / f.origin)]),
    slope=lambda p, x, f: p[1] / x,
    natural=lambda p, f: [p[0] - p[1] * np.log(f.origin), p[1]], needs=(ABOVE_ZERO,), also=("logarithm",),
)  # fmt: skip


def _exponential_start(x: Floats, y: Floats, frame: Frame) -> Floats:
    rate, level = _line((x - frame.origin) / frame.scale, np.log(np.abs(y)))
    return np.array([np.sign(np.median(y)) * np.exp(level), rate])


def _grown(p: Floats, x: Floats, frame: Frame) -> Floats:
    return np.asarray(np.exp(p[1] * (x - frame.origin) / frame.scale))


EXPONENTIAL = Curve(
    "exponential", "quantity = factor × e ^ (rate × reading)", ("factor", "rate"), ((1, 0), (0, -1)), 2, _lengths,
    _exponential_start,
    value=lambda p, x, f: p[0] * _grown(p, x, f),
    gradient=lambda p, x, f: np.array([_grown(p, x, f), p[0] * (x - f.origin) / f.scale * _grown(p, x, f)]),
    slope=lambda p, x, f: p[0] * p[1] / f.scale * _grown(p, x, f),
    natural=lambda p, f: [p[0] * np.exp(-p[1] * f.origin / f.scale), p[1] / f.scale], needs=(ONE_SIGN,),
)  # fmt: skip


# thermistors: 1/T over ln R, T in K


def _kelvin(x: Floats, y: Floats, unit: str, raw_unit: str) -> Frame:
    if not same_kind(unit, "K"):
        raise CalibrationTrouble("thermistor-needs-temperature", unit=unit or "a pure number")
    return Frame(float(np.exp(np.mean(np.log(x)))), 1.0, *conversion("K", unit))


def _absolute(y: Floats, frame: Frame) -> Floats:
    return np.asarray((y - frame.offset) / frame.factor)


def _basis(x: Floats, frame: Frame, order: int) -> Floats:
    """1/T is linear in the parameters over these: 1, l and 3 l² ln(origin) + l³, with l = ln(R/origin)."""
    l = np.log(x / frame.origin)  # noqa: E741
    return np.array([np.ones_like(l), l, 3 * np.log(frame.origin) * l**2 + l**3][:order])


def _sum(p: Floats, rows: Floats) -> Floats:
    """Element by element, so that equal readings give equal bits whatever the length of the block."""
    return np.asarray(sum(c * row for c, row in zip(p, rows, strict=True)))


def _thermistor(name: str, equation: str, parameters: tuple[str, ...], order: int, natural: Any, **more: Any) -> Curve:
    def inverse(p: Floats, x: Floats, frame: Frame) -> Floats:
        return _sum(p, _basis(x, frame, order))

    def slope(p: Floats, x: Floats, frame: Frame) -> Floats:
        l = np.log(x / frame.origin)  # noqa: E741
        rows = np.array([np.zeros_like(l), np.ones_like(l), 6 * np.log(frame.origin) * l + 3 * l**2][:order])
        return -frame.factor * _sum(p, rows) / x / inverse(p, x, frame) ** 2

    return Curve(
        name, equation, parameters, more.pop("units"), order, _kelvin,
        start=lambda x, y, f: np.asarray(np.linalg.lstsq(_basis(x, f, order).T, 1 / _absolute(y, f), rcond=None)[0], float),
        value=lambda p, x, f: f.offset + f.factor / inverse(p, x, f),
        gradient=lambda p, x, f: -f.factor * _basis(x, f, order) / inverse(p, x, f) ** 2,
        slope=slope, natural=natural, needs=(ABOVE_ZERO,), temperature=True, **more,
    )  # fmt: skip


def _three(p: Any, frame: Frame) -> Any:
    """A, B, C of 1/T = A + B ln R + C (ln R)³ (Steinhart, Hart, Deep-Sea Res. 15, 497 (1968))."""
    middle = np.log(frame.origin)
    b = p[1] - 3 * p[2] * middle**2
    return [p[0] - b * middle - p[2] * middle**3, b, p[2]]


def _two(p: Any, frame: Frame) -> Any:
    """R at 25 °C and B of 1/T = 1/298.15 K + ln(R/R25)/B."""
    return [frame.origin * np.exp((1 / ROOM - p[0]) / p[1]), 1 / p[1]]


# table


def _knots(x: Floats, y: Floats, unit: str, raw_unit: str) -> Frame:
    return Frame(knots=tuple(np.sort(x).tolist()))


@lru_cache(maxsize=64)
def _interpolant(p: tuple[float, ...], knots: tuple[float, ...]) -> Any:
    """The shape-preserving cubic (Fritsch, Butland, SIAM J. Sci. Stat. Comput. 5, 300 (1984)), carried on
    straight beyond its ends."""
    from scipy.interpolate import PchipInterpolator

    return PchipInterpolator(knots, p)


@lru_cache(maxsize=64)
def _responses(p: tuple[float, ...], knots: tuple[float, ...]) -> Any:
    """How the table moves with each of its values: cubic pieces with the same knots, one column a value."""
    from scipy.interpolate import CubicHermiteSpline

    size = max(np.ptp(p), np.finfo(float).tiny)
    sensitivity = []
    for at in range(len(p)):
        ends = [np.array(p) + np.eye(len(p))[at] * sign * 1e-6 * size for sign in (1, -1)]
        up, down = (_interpolant(tuple(each.tolist()), knots).derivative()(knots) for each in ends)
        sensitivity.append((up - down) / (2e-6 * size))
    return CubicHermiteSpline(knots, np.eye(len(p)), np.array(sensitivity).T)


def _continued(piece: Any, x: Floats, frame: Frame) -> Floats:
    inside = np.clip(x, frame.knots[0], frame.knots[-1])
    beyond = x - inside
    found, sensitivity = np.asarray(piece(inside)), np.asarray(piece.derivative()(inside))
    return found + sensitivity * (beyond if found.ndim == 1 else beyond[:, None])


TABLE = Curve(
    "monotone table", "quantity = a smooth curve through every point, rising or falling all the way", (), (), 3, _knots,
    start=lambda x, y, f: y[np.argsort(x)],
    value=lambda p, x, f: _continued(_interpolant(tuple(p.tolist()), f.knots), x, f),
    gradient=lambda p, x, f: _continued(_responses(tuple(p.tolist()), f.knots), x, f).T,
    slope=lambda p, x, f: np.asarray(
        _interpolant(tuple(p.tolist()), f.knots).derivative()(np.clip(x, f.knots[0], f.knots[-1]))
    ),
    natural=lambda p, f: list(p), also=("table",),
)  # fmt: skip

FORMULA = "formula"  # key and name of a working by hand; it has no parameters of its own
CURVES: dict[str, Curve] = {
    each.key: each
    for each in (
        _polynomial(
            "offset only", "quantity = reading + offset", (0,), ("offset",), frame=_raw_to_quantity,
            base=lambda frame: (frame.offset, frame.factor), also=("offset",),
        ),
        _polynomial("proportion", "quantity = slope × reading", (1,), ("slope",), frame=_from_zero),
        _polynomial("straight line", "quantity = level + slope × reading", (0, 1), ("level", "slope"), also=("line",)),
        _polynomial(
            "polynomial of degree 2", "quantity = level + slope × reading + bend × reading²", (0, 1, 2),
            ("level", "slope", "bend"), also=("polynomial 2", "quadratic", "degree 2"),
        ),
        _polynomial(
            "polynomial of degree 3", "quantity = level + slope × reading + bend × reading² + twist × reading³",
            (0, 1, 2, 3), ("level", "slope", "bend", "twist"), also=("polynomial 3", "cubic", "degree 3"),
        ),
        POWER,
        LOGARITHMIC,
        EXPONENTIAL,
        _thermistor(
            "thermistor, three parameters", "1/T = A + B ln R + C (ln R)³, T in K", ("A", "B", "C"), 3, _three,
            units=("1/K",) * 3, also=("thermistor 3", "thermistor three parameters"),
        ),
        _thermistor(
            "thermistor, two parameters", "1/T = 1/298.15 K + ln(R/R25)/B, T in K", ("R25", "B"), 2, _two,
            units=((0, 1), "K"), also=("thermistor 2", "thermistor", "thermistor two parameters"),
        ),
        TABLE,
    )
}  # fmt: skip
AS_IT_COMES = "as-it-comes"  # key of no curve at all: the kit sends the quantity itself
KINDS = (*CURVES, FORMULA, AS_IT_COMES)


def curve_name(key: str) -> str:
    """The name of a curve on the screen."""
    return CURVES[key].name if key in CURVES else key.replace("-", " ")


def find_curve(text: str) -> str:
    """The key of a curve as somebody may write it, as `straight line`, `straight-line` or `cubic`.

    Raises CalibrationTrouble.
    """
    asked = curve_key(text.replace("_", " "))
    for key in KINDS:
        if asked == key or (key in CURVES and asked in map(curve_key, CURVES[key].also)):
            return key
    raise CalibrationTrouble("no-such-curve", name=text, known=" · ".join(map(curve_name, KINDS)))


def natural(curve: Curve, p: Floats, covariance: Floats, frame: Frame) -> tuple[Floats, Floats]:
    """Parameters as they stand in the equation, (k,), with their covariance (k, k): J C Jᵀ, the derivatives
    by complex steps, which lose no digits (Squire, Trapp, SIAM Rev. 40, 110 (1998))."""
    step = 1e-30
    turned = np.array(curve.natural(p, frame), float)
    jacobian = np.empty((len(turned), len(p)))
    for at in range(len(p)):
        moved = p.astype(complex)
        moved[at] += 1j * step
        jacobian[:, at] = np.imag(np.asarray(curve.natural(moved, frame), complex)) / step
    return turned, jacobian @ covariance @ jacobian.T
