"""Reading one line under a stream format. A line's bytes in; its rows of numbers out, or None where it is no reading.

One reader for each dialect, made once from the format. What a line gives depends on the line alone.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cache, lru_cache

from common_bench.model.stream import StreamFormat
from common_bench.reading.json_lines import json_reads
from common_bench.reading.line_templates import LineTemplates
from common_bench.reading.pairs import pair_form, pairs_in
from common_bench.reading.rows import LONGEST_NAME, ParsedLine, Reads, kit_word, text_of
from common_bench.reading.senml import senml_reads
from common_bench.reading.sentences import pattern_expression, values_in_pattern
from common_bench.reading.values import (
    HEX,
    NAN,
    NUM,
    NUM_COMMA,
    clock_seconds,
    numbers_of,
    unit_pattern,
    value_of,
    word_value,
)


def line_reader(format: StreamFormat) -> Callable[[bytes], list[ParsedLine] | None]:
    """What reads the lines of a format one by one. Never raises, whatever a line holds."""
    return templates_of(format).read


@lru_cache(maxsize=256)
def templates_of(format: StreamFormat) -> LineTemplates:
    """What reads the lines of a format, one or many at a time, made once."""
    return LineTemplates(format, long_way(format))


def long_way(format: StreamFormat) -> Callable[[bytes], list[ParsedLine] | None]:
    """What reads a line of a format whatever came before it."""
    reads: Reads = READERS.get(format.dialect, _separated)(format)
    start, end, latin, mark = format.start, format.end, format.latin, format.kit_mark
    only = format.only
    kit_at = next((at for at, column in enumerate(format.columns) if column.role == "kit"), None)

    def read(line: bytes) -> list[ParsedLine] | None:
        text = text_of(line, latin)
        if not text:
            return None
        if start or end:
            text = unframed(text, start, end)
            if not text:
                return None
        kit = ""
        if mark and mark != ".":
            kit, found, text = text.partition(mark)
            text, kit = text.strip(), kit.strip()
            if not found or not kit or len(kit) > LONGEST_NAME:
                return None
        rows = reads(text)
        if rows is None:
            return None
        if kit:
            rows = [row._replace(kit=kit) for row in rows]
        elif kit_at is not None:
            rows = [row._replace(kit=row.kit or kit_word(row.values[kit_at])) for row in rows]
        if only:
            rows = [row for row in rows if row.kit == only]
        return rows

    return read


def unframed(text: str, start: str, end: str) -> str | None:
    """The text between its marks; None where they are not there."""
    if not text.startswith(start):
        return None
    text = text[len(start) :]
    if end == "*":
        body, found, check = text.rpartition("*")
        return body if found and len(check) == 2 else None
    if end:
        return text.removesuffix(end).rstrip() if text.endswith(end) else None
    return text.strip()


def _separated(format: StreamFormat) -> Reads:
    columns, no_value, comma = format.columns, frozenset(format.no_value), format.decimal_comma
    kinds = [column.kind for column in columns]
    wanted = len(columns)
    word_kit = any(column.role == "kit" and column.kind == "text" for column in columns)
    kit_at = next((at for at, column in enumerate(columns) if column.role == "kit"), 0)
    whole = re.compile(_row_expression(format))
    words = [column.words for column in columns]
    convert = [CONVERT[kind] for kind in kinds]
    lengths = frozenset(format.lengths)
    strange = numbers_of(no_value)

    def read(text: str) -> list[ParsedLine] | None:
        met = whole.fullmatch(text) if not comma else None
        if met is not None:
            groups = met.groups()
            values = [make(group) for make, group in zip(convert, groups, strict=True)]
            # Anything out of the ordinary is looked at field by field below.
            if all(
                (v - v == 0.0 and v not in strange) or kind == "text" for v, kind in zip(values, kinds, strict=True)
            ):  # words have no number here, and are looked up below
                return [ParsedLine(values, groups[kit_at] if word_kit else "")]
        return by_fields(text)

    def by_fields(text: str) -> list[ParsedLine] | None:
        fields = fields_of(text, format.separator)
        missing = wanted - len(fields)
        if missing == 1 and format.separator != " " and text.endswith(format.separator):
            fields.append("")  # the last field was empty, not absent
        elif missing and len(fields) not in lengths:
            return None
        values: list[float] = []
        known = 0
        for field, kind, told in zip(fields, kinds, words, strict=False):
            value = value_of(field, kind, comma, no_value, told)
            if value is None:
                return None
            known += value == value
            values.append(value)
        values += [NAN] * (wanted - len(values))
        return [ParsedLine(values, fields[kit_at] if word_kit else "")] if known else None

    return read


def _row_expression(format: StreamFormat) -> str:
    """What a row of ordinary values looks like; rows with anything else in them are read field by field."""
    separator = format.separator
    plain = NUM.replace("−", "")
    other = r"[^\s" + (re.escape(separator) if separator != " " else "") + "]"
    forms = {
        "number": f"({plain})",
        "hexadecimal": f"({HEX})",
        "on/off": "([A-Za-z]{2,8})",
        "time": r"([0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]{1,9})?)",
        "text": f"({other}+)",
        "words": f"({other}+(?: {other}+)*)" if separator != " " else f"({other}+)",
    }
    between = r"\s+" if separator == " " else rf"\s*{re.escape(separator)}\s*"
    end = "" if separator == " " else rf"(?:\s*{re.escape(separator)})?"
    return between.join(forms[column.kind] for column in format.columns) + end


def _word(text: str) -> float:
    found = word_value(text)
    return NAN if found is None else found


def _clock(text: str) -> float:
    found = clock_seconds(text)
    return NAN if found is None else found


CONVERT: dict[str, Callable[[str], float]] = {
    "number": float,
    "hexadecimal": lambda text: float(int(text, 16)),
    "on/off": _word,
    "time": _clock,
    "text": lambda _: NAN,
    "words": lambda _: NAN,
}


@cache
def _glued() -> re.Pattern[str]:
    date = r"[0-9]{4}[-/][0-9]{2}[-/][0-9]{2} [0-9]{2}:[0-9]{2}:[0-9]{2}\S*"
    return re.compile(rf"{date}|(?:{NUM_COMMA} {unit_pattern()}(?=\s|$))|\S+")


@cache
def _time_between() -> re.Pattern[str]:
    """A time among fields that colons part, which must show that it is one: by a date before it, or by its decimals."""
    date, time = r"[0-9]{4}[-/][0-9]{2}[-/][0-9]{2}[ T]", r"[0-9]{1,2}:[0-9]{2}:[0-9]{2}"
    return re.compile(rf"(?<![0-9:])(?:{date}{time}(?:[.,][0-9]+)?|{time}[.,][0-9]+)(?![0-9])")


def fields_of(text: str, separator: str) -> list[str]:
    """The fields of a line; a trailing separator makes no field; a unit stays with its number."""
    if separator == " ":
        return _glued().findall(text) if len(text) < 400 else text.split()
    if separator == ":" and (time := _time_between().search(text)) is not None:
        before, behind = text[: time.start()].rstrip(" :"), text[time.end() :].lstrip(" :")
        parts = [fields_of(part, separator) if part else [] for part in (before, behind)]
        return [*parts[0], time[0], *parts[1]]
    fields = [field.strip() for field in text.split(separator)]
    return fields[:-1] if len(fields) > 1 and not fields[-1] else fields


def _named(format: StreamFormat) -> Reads:
    form, no_value, comma = pair_form(format), frozenset(format.no_value), format.decimal_comma
    places = {column.key or column.name: at for at, column in enumerate(format.columns)}
    kinds = [column.kind for column in format.columns]
    words = [column.words for column in format.columns]
    blank = [NAN] * len(kinds)
    joined = format.kit_mark == "."

    def read(text: str) -> list[ParsedLine] | None:
        pairs = pairs_in(text, form)
        if pairs is None:
            return None
        values, known, kit = blank.copy(), 0, ""
        seen: dict[str, int] = {}
        for name, written, _ in pairs:
            if joined:
                kit, _, name = name.partition(".")
            seen[name] = seen.get(name, 0) + 1
            at = places.get(name if seen[name] == 1 else f"{name} {seen[name]}")
            if at is None:
                return None
            value = value_of(written, kinds[at], comma, no_value, words[at])
            if value is None and written.lower() in ("nan", "null", "none", "n/a", "-", "--", "---"):
                value = NAN
            if value is None:
                return None
            values[at] = value
            known += 1
        return [ParsedLine(values, kit)] if known else None

    return read


def _tagged(format: StreamFormat) -> Reads:
    no_value, comma = frozenset(format.no_value), format.decimal_comma
    rows: dict[str, list[int]] = {}
    for at, column in enumerate(format.columns):
        rows.setdefault(column.key, []).append(at)
    kinds = [column.kind for column in format.columns]
    words = [column.words for column in format.columns]
    blank = [NAN] * len(kinds)
    by_length = any(tag.startswith("#") for tag in rows)

    def read(text: str) -> list[ParsedLine] | None:
        fields = fields_of(text, format.separator)
        tag = f"#{len(fields)}" if by_length else fields.pop(0) if fields else ""
        places = rows.get(tag)
        if places is None or len(fields) != len(places):
            return None
        values = blank.copy()
        for at, field in zip(places, fields, strict=True):
            value = value_of(field, kinds[at], comma, no_value, words[at])
            if value is None:
                return None
            values[at] = value
        return [ParsedLine(values)]

    return read


def _sentence(format: StreamFormat) -> Reads:
    no_value, comma = frozenset(format.no_value), format.decimal_comma
    first, known = 0, []
    for pattern in format.patterns:
        after = first + values_in_pattern(pattern)
        known.append((pattern_expression(pattern, comma), first, format.columns[first:after]))
        first = after
    blank = [NAN] * len(format.columns)

    def read(text: str) -> list[ParsedLine] | None:
        for expression, begin, columns in known:
            met = expression.fullmatch(text)
            if met is None:
                continue
            row, some = blank.copy(), False
            for at, (field, column) in enumerate(zip(met.groups(), columns, strict=True), begin):
                value = value_of(field, column.kind, comma, no_value, column.words)
                if value is None:
                    return None
                row[at] = value
                some = some or value == value
            return [ParsedLine(row)] if some else None
        return None

    return read


READERS: dict[str, Callable[[StreamFormat], Reads]] = {
    "named": _named, "tagged": _tagged, "json": json_reads, "senml": senml_reads, "sentence": _sentence,
}  # fmt: skip
