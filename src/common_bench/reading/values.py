"""Values as kits write them. One field's text in; a number, nan for "no value", or None out."""

from __future__ import annotations

import re
import tomllib
from datetime import UTC, datetime
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any

from common_bench.model.stream import ValueKind

NAN = float("nan")
NOTHING: frozenset[str] = frozenset()  # where no text stands for "no value"
NUM = r"[+\-−]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+\-]?[0-9]+)?"
NUM_COMMA = r"[+\-−]?(?:[0-9]+(?:[.,][0-9]*)?|[.,][0-9]+)(?:[eE][+\-]?[0-9]+)?"
HEX = r"0[xX][0-9a-fA-F]{1,16}"
HEX_TEXT = re.compile(HEX)
BARE_HEX = re.compile(r"[0-9a-fA-F]{2,8}")
CLOCK_TEXT = re.compile(
    r"(?:(?P<y>[0-9]{4})[-/](?P<m>[0-9]{1,2})[-/](?P<d>[0-9]{1,2})[T ]|(?P<d2>[0-9]{1,2})\.(?P<m2>[0-9]{1,2})\.(?P<y2>[0-9]{4}) )?"
    r"(?P<H>[0-9]{1,2}):(?P<M>[0-9]{2}):(?P<S>[0-9]{2}(?:[.,][0-9]{1,9})?)(?P<z>Z|[+-][0-9]{2}:?[0-9]{2})?"
)


USUAL_TEXT = re.compile(r"([0-9]{4}-[0-9]{2}-[0-9]{2})[ T]([0-9]{2}):([0-9]{2}):([0-9]{2}(?:\.[0-9]{1,9})?)")


@cache
def table() -> dict[str, Any]:
    """The table of names, words and odd numbers that kits use."""
    return tomllib.loads(files("common_bench.reading").joinpath("names.toml").read_text("utf-8"))


@cache
def units() -> dict[str, str]:
    """Units as kits write them -> as they are shown."""
    found: dict[str, str] = table()["units"]
    return found


@cache
def unit_pattern() -> str:
    """An expression that any unit of the table matches."""
    return "(?:" + "|".join(re.escape(unit) for unit in sorted(units(), key=len, reverse=True)) + ")"


@cache
def words() -> dict[str, float]:
    """Words that stand for on and off, with their numbers."""
    return {word: float(value) for word, value in table()["words"].items()}


@cache
def number_pattern(decimal_comma: bool) -> re.Pattern[str]:
    """A number and the unit that may stand behind it."""
    return re.compile(f"({NUM_COMMA if decimal_comma else NUM})(?: ?({unit_pattern()}))?")


def plain_number(text: str) -> float:
    """A text that NUM or NUM_COMMA matches, as a number; inf where it is too large to be one."""
    try:
        return float(text)
    except ValueError:
        return float(text.replace("−", "-").replace(",", "."))


def clock_seconds(text: str) -> float | None:
    """Date and time, or the time of day alone, in s (since 1970, or since midnight)."""
    usual = USUAL_TEXT.fullmatch(text)
    if usual is not None:
        begun = _midnight(usual[1])
        return None if begun is None else begun + int(usual[2]) * 3600 + int(usual[3]) * 60 + float(usual[4])
    found = CLOCK_TEXT.fullmatch(text)
    if not found:
        return None
    part = found.groupdict()
    seconds = int(part["H"]) * 3600 + int(part["M"]) * 60 + float(part["S"].replace(",", "."))
    year, month, day = (part[a] or part[a + "2"] for a in ("y", "m", "d"))
    if not year:
        return seconds
    try:
        midnight = datetime(int(year), int(month), int(day), tzinfo=UTC).timestamp()
    except ValueError:
        return None
    zone = part["z"]
    if zone and zone != "Z":
        away = int(zone[1:3]) * 3600 + int(zone[-2:]) * 60
        seconds -= away if zone[0] == "+" else -away
    return midnight + seconds


@lru_cache(maxsize=64)
def _midnight(date: str) -> float | None:
    try:
        return datetime.fromisoformat(f"{date}T00:00:00+00:00").timestamp()
    except ValueError:
        return None


def value_of(
    text: str, kind: ValueKind, decimal_comma: bool, no_value: frozenset[str], told: tuple[str, ...] = ()
) -> float | None:
    """The number that a field stands for under a column's kind; nan for "no value"; None where it is neither. told: the
    words of a column of words."""
    if text in no_value:
        return NAN
    if kind == "number":
        found = number_pattern(decimal_comma).fullmatch(text)
        if found is None:
            return None
        value = plain_number(found[1])
        if value in numbers_of(no_value):
            return NAN
        return value if value - value == 0.0 else None
    if kind == "hexadecimal":
        return float(int(text, 16)) if re.fullmatch(HEX, text) or BARE_HEX.fullmatch(text) else None
    if kind == "on/off":
        return word_value(text) if text not in ("0", "1") else value_of(text, "number", False, no_value)
    if kind == "time":
        return clock_seconds(text)
    if kind == "words":
        return float(told.index(text)) if text in told else None
    return NAN


@cache
def numbers_of(no_value: frozenset[str]) -> frozenset[float]:
    """Those texts that are numbers, so that -127 stands for -127.00 too."""
    found = (number_pattern(False).fullmatch(text) for text in no_value)
    return frozenset(plain_number(each[1]) for each in found if each)


def word_value(text: str) -> float | None:
    """1 or 0 for a word as `on` or `closed`; None for all others."""
    return words().get(text.lower()) if len(text) < 12 else None


def kind_of(text: str, decimal_comma: bool) -> tuple[ValueKind, str] | None:
    """What a field looks like, with the unit written behind it; None where it looks like no value."""
    found = number_pattern(decimal_comma).fullmatch(text)
    if found:
        return "number", units().get(found[2] or "", "")
    if re.fullmatch(HEX, text):
        return "hexadecimal", ""
    if word_value(text) is not None:
        return "on/off", ""
    if clock_seconds(text) is not None:
        return "time", ""
    return None
