"""A value with its standard uncertainty and unit, and how it is written: to the digits it deserves."""

from __future__ import annotations

import math
import re
from typing import Annotated

import msgspec

from common_bench.model.trouble import UnitTrouble
from common_bench.model.units import conversion, unit

NO_VALUE = "—"
MINUS = "−"
NARROW_SPACE = "\u202f"
NUMBER = r"[+\-−]?\d+(?:[.,]\d+)?(?:[eE][+\-−]?\d+)?"
WRITTEN = re.compile(rf"^\s*({NUMBER})\s*(?:(?:±|\+-|\+/-)\s*({NUMBER}))?\s*(\S*)\s*$")


class Measured(msgspec.Struct, frozen=True):
    """`value` ± `u` `unit`; `u` is one standard uncertainty in the same unit, nan where unknown."""

    value: float
    u: Annotated[float, msgspec.Meta(description="standard uncertainty")] = 0.0
    unit: str = ""

    def to(self, target: str) -> Measured:
        """The same in another unit of its kind; raises UnitTrouble otherwise."""
        factor, offset = conversion(self.unit, target)
        return Measured(self.value * factor + offset, abs(factor) * self.u, target)

    def __str__(self) -> str:
        return written(self.value, self.u, self.unit)


def number(text: str) -> float:
    """A number as people type it: decimal comma and a true minus sign are understood."""
    return float(text.replace("−", "-").replace(",", "."))


def read_measured(text: str, expected_unit: str) -> Measured:
    """Reads `0.752 ± 0.002 m`; a missing unit means the expected one.

    Gives the value in the expected unit. Raises UnitTrouble in words.
    """
    found = WRITTEN.match(text)
    if not found:
        example = f"0.752 ± 0.002 {expected_unit}".rstrip()
        raise UnitTrouble("not-a-measured-value", text=text.strip(), example=example)
    value, u = number(found[1]), number(found[2]) if found[2] else 0.0
    if u < 0:
        raise UnitTrouble("typed-u-below-zero")
    if not math.isfinite(value) or not math.isfinite(u):
        raise UnitTrouble("number-too-large", text=text.strip())
    unit(found[3])
    return Measured(value, u, found[3] or expected_unit).to(expected_unit)


def places(u: float) -> int:
    """Decimal places that an uncertainty deserves: one digit of it, two where the first is a 1."""
    exponent = math.floor(math.log10(u))
    leading = round(u / 10.0**exponent, 6)
    if leading < 1.95:
        return 1 - exponent
    if leading >= 9.5:
        return -exponent  # it is written as 10, which has two digits
    return -exponent


def plain(value: float, decimals: int) -> str:
    """`value` to `decimals` places, with a true minus sign and narrow spaces from five digits on."""
    if not math.isfinite(value):
        return NO_VALUE
    rounded = round(value, decimals)
    text = f"{abs(rounded):,.{max(0, decimals)}f}"
    whole, dot, rest = text.partition(".")
    whole = whole.replace(",", NARROW_SPACE if len(whole) > 5 else "")
    return (MINUS if rounded < 0 else "") + whole + dot + rest


def digits(value: float, u: float, *, most: int = 9) -> str:
    """The value alone, to the digits that its uncertainty deserves (4 significant where none is known)."""
    if not math.isfinite(value):
        return NO_VALUE
    if not math.isfinite(u) or u <= 0:
        if value == 0:
            return "0"
        return plain(value, min(most, max(0, 3 - math.floor(math.log10(abs(value))))))
    return plain(value, min(most, places(u)))


def written(value: float, u: float, unit_text: str = "") -> str:
    """`1.903 ± 0.006 s`; without a known uncertainty `1.903 s`; unknown values as a dash."""
    tail = f" {unit_text}" if unit_text else ""
    if not math.isfinite(value):
        return NO_VALUE
    if not math.isfinite(u) or u <= 0:
        return digits(value, 0.0) + tail
    shown = min(12, places(u))
    return f"{plain(value, shown)} ± {plain(u, shown)}{tail}"
