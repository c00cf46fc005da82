"""Lines that are JSON: objects and lists inside each other, one a line. A format in; what reads its lines out."""

from __future__ import annotations

from typing import Any

import msgspec

from common_bench.model.stream import StreamFormat
from common_bench.reading.rows import LONGEST_NAME, ParsedLine, Reads
from common_bench.reading.values import NAN, numbers_of, value_of

DEEPEST = 4  # objects inside each other that are looked into
MOST_KEYS = 64


def decoded(text: str) -> Any:
    """The JSON value of a line; None where it is none."""
    try:
        return msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError, UnicodeError, ValueError):
        return None


def flat(value: Any, name: str = "", depth: int = 0) -> dict[str, Any]:
    """The leaves of objects inside each other, as `air.temp`; lists as `acc.1`, `acc.2`."""
    if depth > DEEPEST:
        return {}
    items: list[tuple[str, Any]]
    if isinstance(value, dict):
        items = [(str(key)[:LONGEST_NAME], each) for key, each in list(value.items())[:MOST_KEYS]]
    elif isinstance(value, list):
        items = [(str(place), each) for place, each in enumerate(value[:MOST_KEYS], 1)]
    else:
        return {name: value}
    found: dict[str, Any] = {}
    for key, each in items:
        found |= flat(each, f"{name}.{key}" if name else key, depth + 1)
        if len(found) > MOST_KEYS:
            break
    return found


def json_number(value: Any, no_value: frozenset[str] = frozenset()) -> float | None:
    """A leaf as a number: true is 1, null is "no value", a text is read as one; None where it is none."""
    if value is None:
        return NAN
    if isinstance(value, bool):
        return float(value)
    if isinstance(value, (int, float)):
        try:
            number = float(value)
        except OverflowError:
            return None
        if number in numbers_of(no_value):
            return NAN
        return number if number - number == 0 else None
    if isinstance(value, str):
        found = value_of(value.strip(), "number", False, no_value)
        if found is None:
            found = value_of(value.strip(), "on/off", False, no_value)
        return found if found is not None else value_of(value.strip(), "time", False, no_value)
    return None


def json_reads(format: StreamFormat) -> Reads:
    """What reads lines of JSON under a format."""
    no_value = frozenset(format.no_value)
    places = {column.key or column.name: at for at, column in enumerate(format.columns)}
    texts = {at for at, column in enumerate(format.columns) if column.kind == "text"}
    kit_key = next((column.key or column.name for column in format.columns if column.role == "kit"), None)
    blank = [NAN] * len(format.columns)

    def read(text: str) -> list[ParsedLine] | None:
        value = decoded(text)
        if not isinstance(value, (dict, list)):
            return None
        values, known = blank.copy(), 0
        leaves = flat(value)
        for key, leaf in leaves.items():
            at = places.get(key)
            if at is None:
                if json_number(leaf) is not None and leaf is not None:
                    return None
                continue
            if at in texts:
                continue
            told = format.columns[at].words
            number = json_number(leaf, no_value) if not told else float(told.index(leaf)) if leaf in told else None
            if number is None:
                return None
            values[at] = number
            known += 1
        return [ParsedLine(values, str(leaves.get(kit_key, ""))[:LONGEST_NAME] if kit_key else "")] if known else None

    return read
