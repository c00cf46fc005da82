"""Units: reading them, showing them, changing between them. Text in, text and factors out.

A unit travels through the program as text (`m/s²`), so that values stay plain and can be kept in
a file; the units library is only asked here, and only loaded at the first question.
"""

from __future__ import annotations

import difflib
import re
from functools import cache
from importlib.resources import files
from typing import Any

from common_bench.model.trouble import UnitTrouble

SUPERSCRIPTS = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻", "0123456789-")
COMMON = ("N", "s", "ms", "m", "cm", "mm", "g", "kg", "V", "mV", "A", "mA", "K", "°C", "Pa", "kPa", "Hz", "J", "W")
ATOM = re.compile(r"[^\W\d_]+|[°℃%Ω]\w*")


@cache
def registry() -> Any:
    """The units library's registry, made once (about 0.2 s)."""
    import pint

    made = pint.UnitRegistry(autoconvert_offset_to_baseunit=False, cache_folder=None)
    made.formatter.default_format = "~P"
    return made


@cache
def _spellings() -> dict[str, str]:
    pairs = {}
    for line in files("common_bench.model").joinpath("units.txt").read_text("utf-8").splitlines():
        if line.strip() and not line.startswith("#"):
            written, known = line.split()
            pairs[written] = known
    return pairs


def _for_library(text: str) -> str:
    raised = re.sub(r"([⁰¹²³⁴⁵⁶⁷⁸⁹⁻]+)", lambda m: "**" + m[1].translate(SUPERSCRIPTS), text)
    flat = raised.replace("^", "**").replace("·", "*").replace("⋅", "*")
    return ATOM.sub(lambda m: _spellings().get(m[0], m[0]), flat)


@cache
def unit(text: str) -> Any:
    """The unit written as `text`, as the library holds it. Raises UnitTrouble for one that is not known."""
    if text.strip() in ("", "1"):
        return registry().Unit("dimensionless")
    if len(text) > 60:
        raise UnitTrouble("unit-too-long")
    try:
        return registry().Unit(_for_library(text.strip()))
    except Exception as fault:  # the library raises many kinds; all of them mean "not a unit"
        near = difflib.get_close_matches(text, COMMON, 1, 0.5)
        raise UnitTrouble("no-such-unit", text=text, **_near(near)) from fault


def _near(found: list[str]) -> dict[str, str]:
    """The fields that say what was likely meant."""
    return {"near": found[0], "case": "near"} if found else {}


def is_unit(text: str) -> bool:
    """Whether `text` can be read as a unit."""
    try:
        unit(text)
    except UnitTrouble:
        return False
    return True


def text_of(found: Any) -> str:
    """How a unit of the library is written on the screen, as `m/s²`; a pure number gives ''."""
    written = f"{found:~P}".replace("count", "counts").replace("delta_°", "°").replace("Δ°", "°")
    return {"": "", "dimensionless": ""}.get(written, written)


@cache
def same_kind(left: str, right: str) -> bool:
    """Whether two units measure the same kind of thing, so that values can be added or compared."""
    return bool(unit(left).dimensionality == unit(right).dimensionality)


@cache
def conversion(source: str, target: str) -> tuple[float, float]:
    """(factor, offset) such that value_in_target = factor * value_in_source + offset.

    Raises UnitTrouble where the two measure different kinds of things.
    """
    if source == target:
        return 1.0, 0.0
    if not same_kind(source, target):
        raise UnitTrouble("units-do-not-fit", source=source or "a pure number", target=target or "a pure number")
    ask = registry().Quantity
    zero = float(ask(0.0, unit(source)).to(unit(target)).magnitude)
    # Differences are taken far from zero for offset units only, so plain factors stay exact.
    if zero == 0.0:
        return float(ask(1.0, unit(source)).to(unit(target)).magnitude), 0.0
    return float(ask(1.0, unit(source)).to(unit(target)).magnitude) - zero, zero


@cache
def product(left: str, right: str, exponent: float = 1.0) -> str:
    """The unit of left * right^exponent."""
    return text_of(unit(left) * unit(right) ** exponent)


@cache
def power(text: str, exponent: float) -> str:
    """The unit of text^exponent."""
    return text_of(unit(text) ** exponent)


@cache
def counts_from_own_zero(text: str) -> bool:
    """Whether a unit counts from a zero of its own, as °C does."""
    return not registry().Quantity(1, unit(text))._is_multiplicative
