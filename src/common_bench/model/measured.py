"""A value with its standard uncertainty and unit, and how it is written: to the digits it deserves."""

from __future__ import annotations

import math
import re
from typing import Annotated

import msgspec

from common_bench.model.trouble import UnitTrouble
from common_bench.model.uncertainty import coverage_factor
from common_bench.model.units import conversion, unit

NO_VALUE = "—"
MINUS = "−"
NARROW_SPACE = "\u202f"
NUMBER = r"[+\-−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+\-−]?\d+)?"
TIMES_TEN = r"(?:[×x*·]\s*10\^?(?P<power>[+\-−⁻]?[\d⁰¹²³⁴⁵⁶⁷⁸⁹]+))"
WITHIN = r"(?:±|\+-|\+/-)"
WRITTEN = re.compile(
    rf"^\(?\s*(?P<value>{NUMBER})\s*(?P<own>[^\s\d(±+×*·x)][^\s±+]*)?\s*(?:{WITHIN}\s*(?P<u>{NUMBER}|\?))?\s*\)?\s*"
    rf"{TIMES_TEN}?\s*(?P<unit>\S*)$"
)
RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
LOWERED = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻−", "0123456789--")
MANY = 50  # degrees of freedom, from which an uncertainty counts as well known
MOST_DECIMALS = 6  # of a number as it is written; smaller ones take a power of ten
LEAST_POWER = 9  # from which a large number takes one


class Measured(msgspec.Struct, frozen=True):
    """`value` ± `u` `unit`; `u` is one standard uncertainty in the same unit, nan where it is not known, 0 of what is
    exact by itself, as a count. dof: from how many degrees of freedom u is known; shared: the part of u that further runs of the
    same group have too, as that of its calibration."""

    value: float
    u: Annotated[float, msgspec.Meta(description="standard uncertainty")] = 0.0
    unit: str = ""
    dof: float = math.inf
    shared: float = 0.0

    def to(self, target: str) -> Measured:
        """The same in another unit of its kind; raises UnitTrouble otherwise."""
        factor, offset = conversion(self.unit, target)
        return Measured(self.value * factor + offset, abs(factor) * self.u, target, self.dof, abs(factor) * self.shared)

    def __str__(self) -> str:
        return written(self.value, self.u, self.unit)


def number(text: str) -> float:
    """A number as people type it: decimal comma and a true minus sign are understood."""
    return float(text.replace("−", "-").replace(",", "."))


def read_measured(text: str, expected_unit: str | None = None) -> Measured:
    """The one parser of a value that a person types, with its unit and its standard uncertainty.

    `0.752 ± 0.002 m`, `0,752 +- 0,002 m`, `-2`, `.5 V`, `9.81 m/s² ± 0.01 m/s²`, `400 N ± 2 %` (of the value),
    `(1.60 ± 0.04) × 10⁻¹⁹ C`, `5 ± ? V` (not known). A missing unit means the expected one.

    expected_unit: the unit to give the value in; None: the unit that was typed, a pure number where there is none. Raises
    UnitTrouble in words.
    """
    found = WRITTEN.match(text.replace(NARROW_SPACE, "").strip())
    if not found or (found["own"] and found["unit"] and not found["u"]):
        example = f"0.752 ± 0.002 {expected_unit or ''}".rstrip()
        raise UnitTrouble("not-a-measured-value", text=text.strip(), example=example)
    told, own, last = found["u"], found["own"] or "", found["unit"]
    try:
        factor = 10.0 ** int((found["power"] or "0").translate(LOWERED))
        value, u = number(found["value"]) * factor, math.nan if told == "?" else number(told) * factor if told else 0.0
    except OverflowError:
        raise UnitTrouble("number-too-large", text=text.strip()) from None
    if u < 0:
        raise UnitTrouble("typed-u-below-zero")
    if not math.isfinite(value) or math.isinf(u):
        raise UnitTrouble("number-too-large", text=text.strip())
    of_value = own or (expected_unit if expected_unit is not None else "")
    if last == "%" and told and of_value != "%" and (own or of_value):
        u, typed = abs(value) * u / 100.0, own
    elif own and last:
        u, typed = u * conversion(last, own)[0], own
    else:
        typed = own or last
    unit(typed)
    wanted = typed if expected_unit is None else expected_unit
    return Measured(value, u, typed or wanted, 0.0 if told == "?" else math.inf).to(wanted)


def first_place(size: float) -> int:
    """The decimal place at which the first digit of a size above 0 stands."""
    return -math.floor(math.log10(size))


def places(u: float) -> int:
    """Decimal places that an uncertainty deserves: two digits of it where the first is a 1 or a 2, else one, so that
    rounding it changes it by at most a seventh."""
    first = first_place(u)
    leading = round(u * 10.0**first, 6)
    return first + 1 if leading < 2.95 else first  # from 9.5 on it is written as 10, which has two digits


def plain(value: float, decimals: int) -> str:
    """`value` to `decimals` places, with a true minus sign and narrow spaces from five digits on."""
    if not math.isfinite(value):
        return NO_VALUE
    rounded = round(value, decimals)
    text = f"{abs(rounded):,.{max(0, decimals)}f}"
    whole, dot, rest = text.partition(".")
    whole = whole.replace(",", NARROW_SPACE if len(whole) > 5 else "")
    return (MINUS if rounded < 0 else "") + whole + dot + rest


def raised(power: int) -> str:
    """`−9` as the exponent of a power, in small raised figures."""
    return str(power).translate(RAISED)


def in_powers(largest: float, decimals: int) -> int:
    """The power of ten that is written apart where the digits of a number would run out; 0 where none is."""
    power = math.floor(math.log10(largest)) if largest > 0 else 0
    return power if decimals > MOST_DECIMALS or power >= LEAST_POWER else 0


def _apart(power: int) -> str:
    return f" × 10{raised(power)}" if power else ""


def digits(value: float, u: float, *, most: int | None = None) -> str:
    """The value alone, to the digits that its uncertainty deserves (4 significant where none is known).

    most: decimals, where no power of ten is wanted."""
    if not math.isfinite(value):
        return NO_VALUE
    known = math.isfinite(u) and u > 0
    if value == 0 and not known:
        return "0"
    decimals = places(u) if known else max(0, 3 + first_place(abs(value)))
    if most is not None:
        return plain(value, min(most, decimals))
    power = in_powers(max(abs(value), u if known else 0.0), decimals)
    return plain(value / 10.0**power, decimals + power) + _apart(power)


def interval_words(measured: Measured) -> str:
    """`95 of 100: 9.65 … 10.01` with the degrees of freedom where they are few; empty where nothing is known of it."""
    half = coverage_factor(measured.dof) * measured.u
    if not (math.isfinite(half) and half > 0):
        return ""
    low, high = (digits(measured.value + sign * half, measured.u) for sign in (-1, 1))
    few = f" ({plain(measured.dof, 0)} degrees of freedom)" if measured.dof < MANY else ""
    return f"{low} … {high} {measured.unit}".rstrip() + f" holds the truth in 95 of 100 cases{few}"


def u_words(u: float | None) -> str:
    """An uncertainty alone, to the digits that it deserves; `?` where it is not known."""
    return "?" if u is None or not math.isfinite(u) else digits(u, u)


def written(value: float, u: float, unit_text: str = "") -> str:
    """`1.903 ± 0.006 s`; `1.903 s` of what is exact; `1.903 ± ? s` where the uncertainty is not known; an unknown value
    as a dash; powers of ten where the digits would run out: `(1.60 ± 0.04) × 10⁻¹⁹ C`."""
    tail = f" {unit_text}" if unit_text else ""
    if not math.isfinite(value):
        return NO_VALUE
    if not math.isfinite(u):
        return f"{digits(value, 0.0)} ± ?{tail}"
    if u <= 0:
        return digits(value, 0.0) + tail
    shown = places(u)
    power = in_powers(max(abs(value), u), shown)
    both = f"{plain(value / 10.0**power, shown + power)} ± {plain(u / 10.0**power, shown + power)}"
    return (f"({both}){_apart(power)}" if power else both) + tail


HOUR, DAY = 3600.0, 86_400.0
TIMES = (
    (48 * HOUR, DAY, "d", 2),
    (2 * HOUR, HOUR, "h", 2),
    (0.0, 1.0, "s", 1),
)  # from s on: its unit, s of it, decimals


def time_unit(longest: float) -> tuple[str, float]:
    """The unit in which times up to so many s are told, and its s."""
    return next((unit, size) for least, size, unit, _ in TIMES if longest >= least)


def how_long(seconds: float, longest: float | None = None) -> str:
    """`20.0 s`, `5.20 h`, `3.00 d`; longest: s of the longest that stands beside it, in whose unit it is told."""
    most = abs(seconds if longest is None else longest)
    size, unit, decimals = next((size, unit, digits) for least, size, unit, digits in TIMES if most >= least)
    return f"{seconds / size:.{decimals}f} {unit}"
