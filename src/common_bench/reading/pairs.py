"""Lines that name each value, as `temp: 21.4 °C` or `T 21.4C H 40%`. A line's text in; its pairs out."""

from __future__ import annotations

import re
from functools import cache

from common_bench.model.stream import StreamFormat
from common_bench.reading.values import HEX, NUM, NUM_COMMA, unit_pattern, words

MOST_PAIRS = 64  # in a line


@cache
def pair_pattern(form: str) -> re.Pattern[str]:
    """A name and its value, as `temp: 21.4 °C` (form ":") or `T 21.4C` (form " "), from a place in the line on."""
    words_too = "|".join(sorted(words(), key=len, reverse=True))
    value = rf"{HEX}|{NUM_COMMA if form == ',' else NUM}|(?i:{words_too}|nan|null|none|n/a)\b|-{{1,3}}"
    unit = rf"(?: ?({unit_pattern()})(?=[\s,;|]|$))?(?=[\s,;|]|$)"
    if form == " ":
        return re.compile(rf"[\s,;|]*([^\W\d_]{{1,12}}) {{0,3}}({value}){unit}")
    name = r'"?([^\W\d][\w.\-/]{0,40}(?: [^\W\d][\w.\-/]{0,40}){0,2})"?'
    inside = rf"(?: ?[\[(]({unit_pattern()})[\])])?"
    return re.compile(rf'[\s,;|]*{name}{inside} {{0,3}}[:=]\s{{0,3}}"?({value})"?{unit}')


def pairs_in(text: str, form: str) -> list[tuple[str, str, str]] | None:
    """(name, value, unit) of all pairs of a line; None where anything else is in it."""
    pattern, at = pair_pattern(form), 0
    found: list[tuple[str, str, str]] = []
    text = text.rstrip(" \t,;|")
    while at < len(text):
        match = pattern.match(text, at)
        if match is None or len(found) >= MOST_PAIRS:
            return None
        groups = match.groups()
        found.append((groups[0], groups[-2], (groups[-1] or (groups[1] if len(groups) == 4 else "") or "")))
        at = match.end()
    return found or None


def pair_form(format: StreamFormat) -> str:
    """How names and values stand together in a format, as `=`, `:` or side by side."""
    return format.separator if format.separator in (":", ",") else " "
