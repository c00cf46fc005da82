"""Units: reading them, showing them, changing between them. Text in, text and factors out.

A unit travels through the program as text (`m/s²`), so that values stay plain and can be kept in
a file; the units library is only asked here, and only loaded at the first question.
"""

from __future__ import annotations

import difflib
import math
import re
from fractions import Fraction
from functools import cache, lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from common_bench.model.kept_units import units_registry
from common_bench.model.trouble import UnitTrouble

SUPERSCRIPTS = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻⋅", "0123456789-.")
RAISED = re.compile(r"[⁰¹²³⁴⁵⁶⁷⁸⁹⁻]+(?:⋅[⁰¹²³⁴⁵⁶⁷⁸⁹]+)?")
LONGEST_UNIT = 120  # characters
HIGHEST_POWER = 24
MOST_BRACKETS = 4
EXPONENT = re.compile(
    r"\*\*-?(\d{1,2}(?:\.\d{1,20})?)(?!\*\*|[\w.^(])"
)  # of what the library is asked; no power of a power
TURNS = re.compile(r"\brpm\b")
ANGLES_IN = re.compile(r"rad|turn|revolution|cycle|deg(?!C|F)|°(?![CF])")
MANY_DIGITS = re.compile(r"\d{5}")
ASKED = 4096  # questions that are remembered
COMMON = ("N", "s", "ms", "m", "cm", "mm", "g", "kg", "V", "mV", "A", "mA", "K", "°C", "Pa", "kPa", "Hz", "J", "W")
ATOM = re.compile(r"[^\W\d_]+|[°℃%Ω]\w*")


@cache
def registry() -> Any:
    """The units library's registry, made once (about 0.1 s; 0.5 s the first time on a machine)."""
    import platformdirs

    made = units_registry(Path(platformdirs.user_cache_dir("common-bench")))
    made.formatter.default_format = "~P"
    return made


@cache
def _spellings() -> dict[str, str]:
    pairs = {}
    for line in files("common_bench.model").joinpath("units.txt").read_text("utf-8").splitlines():
        if line.strip() and not line.startswith(("#", "?")):
            written, known = line.split()
            pairs[written] = known
    return pairs


@cache
def two_ways() -> dict[str, tuple[str, str]]:
    """Units that read two ways: as written -> (how it is read, as what it may have been meant)."""
    lines = files("common_bench.model").joinpath("units.txt").read_text("utf-8").splitlines()
    found = [line.split()[1:] for line in lines if line.startswith("?")]
    return {written: (read, meant) for written, read, meant in found}


def _for_library(text: str) -> str:
    raised = RAISED.sub(lambda m: "**" + _whole_share(m[0].translate(SUPERSCRIPTS)), text)
    flat = raised.replace("^", "**").replace("·", "*").replace("⋅", "*")
    return ATOM.sub(lambda m: _spellings().get(m[0], m[0]), flat)


def _whole_share(power: str) -> str:
    """A power that was written with few digits, as the share that it stands for: 0.333333 is a third."""
    if len(power) < len("0.33333"):
        return power
    near = Fraction(power).limit_denominator(HIGHEST_POWER)
    return repr(float(near)) if abs(float(near) - float(power)) < 5e-6 else power


def _refuse_unbounded(text: str, asked: str) -> None:
    """Raises UnitTrouble for what the library would work at without end, as a power of a power."""
    powers = [float(each) for each in EXPONENT.findall(asked)]
    if len(powers) < asked.count("**") or any(each > HIGHEST_POWER for each in powers):
        raise UnitTrouble("unit-too-high", text=text, highest=HIGHEST_POWER)
    if asked.count("(") > MOST_BRACKETS or MANY_DIGITS.search(EXPONENT.sub("", asked)):
        raise UnitTrouble("no-such-unit", text=text, **_near([]))


@lru_cache(maxsize=ASKED)
def unit(text: str) -> Any:
    """The unit written as `text`, as the library holds it. Raises UnitTrouble for one that is not known."""
    if text.strip() in ("", "1"):
        return registry().Unit("dimensionless")
    if len(text) > LONGEST_UNIT:
        raise UnitTrouble("unit-too-long")
    asked = _for_library(text.strip())
    _refuse_unbounded(text, asked)
    try:
        return registry().Unit(asked)
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
    """How a unit of the library is written on the screen, as `m/s²`; a pure number gives ''. Raises UnitTrouble for
    powers that are too high."""
    if any(abs(each) > HIGHEST_POWER for each in found._units.values()):
        raise UnitTrouble("unit-too-high", text=f"{found:~P}"[:LONGEST_UNIT], highest=HIGHEST_POWER)
    turns = found._units.get("hertz", 0)
    if turns and (len(found._units) > 1 or turns != 1):  # in a product, a pace is a number in each second
        found = found / registry().Unit("hertz") ** turns / registry().Unit("second") ** turns
    written = f"{found:~P}".replace("count", "counts").replace("delta_°", "°").replace("Δ°", "°")
    return {"": "", "dimensionless": ""}.get(written, written)


@lru_cache(maxsize=ASKED)
def same_kind(left: str, right: str) -> bool:
    """Whether two units measure the same kind of thing, so that values can be added or compared."""
    return bool(unit(left).dimensionality == unit(right).dimensionality)


@lru_cache(maxsize=ASKED)
def conversion(source: str, target: str) -> tuple[float, float]:
    """(factor, offset) such that value_in_target = factor * value_in_source + offset.

    Raises UnitTrouble where the two measure different kinds of things.
    """
    if source == target:
        return 1.0, 0.0
    if not same_kind(source, target):
        raise UnitTrouble("units-do-not-fit", source=source or "a pure number", target=target or "a pure number")
    source, target = _turns_as_counts(source, target), _turns_as_counts(target, source)
    ask = registry().Quantity
    try:
        zero = float(ask(0.0, unit(source)).to(unit(target)).magnitude)
        one = float(ask(1.0, unit(source)).to(unit(target)).magnitude)
    except ArithmeticError:
        one = zero = math.inf
    if not (math.isfinite(one) and math.isfinite(zero)) or one == 0.0:
        raise UnitTrouble("conversion-too-large", source=source, target=target)
    # Differences are taken far from zero for offset units only, so plain factors stay exact.
    return (one, 0.0) if zero == 0.0 else (one - zero, zero)


def _turns_as_counts(text: str, other: str) -> str:
    """Turns are angles to the units library; beside a pace without an angle, as Hz, each is counted as one."""
    if TURNS.search(text) and not TURNS.search(other) and not ANGLES_IN.search(other):
        return TURNS.sub("(counts/min)", text)
    return text


@lru_cache(maxsize=ASKED)
def product(left: str, right: str, exponent: float = 1.0) -> str:
    """The unit of left * right^exponent."""
    return text_of(unit(left) * unit(right) ** exponent)


@lru_cache(maxsize=ASKED)
def power(text: str, exponent: float) -> str:
    """The unit of text^exponent."""
    return text_of(unit(text) ** exponent)


@lru_cache(maxsize=ASKED)
def counts_from_own_zero(text: str) -> bool:
    """Whether a unit counts from a zero of its own, as °C does."""
    return not registry().Quantity(1, unit(text))._is_multiplicative


@lru_cache(maxsize=ASKED)
def is_logarithmic(text: str) -> bool:
    """Whether a unit is the logarithm of a ratio, as dB, so that its values do not add up as quantities do."""
    return counts_from_own_zero(text) and not same_kind(text, "K")


def interval_of(text: str) -> str:
    """The unit of differences between values in a unit: K for temperatures that count from a zero of their own."""
    return "K" if counts_from_own_zero(text) and not is_logarithmic(text) else text


@lru_cache(maxsize=ASKED)
def degree_of(text: str) -> float:
    """How many K one step of a temperature's unit is: 1 for °C and K, 5/9 for °F."""
    return conversion(text, "K")[0]
