"""How lines are cut into fields, before anything is said of what the fields are. A line's text in; its fields out.

A layout is a stream format without its columns. Each dialect is one entry of CUTS.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import NamedTuple

from common_bench.model.stream import Dialect, StreamFormat
from common_bench.reading.description import number_text
from common_bench.reading.dialects import fields_of, unframed
from common_bench.reading.json_lines import decoded, flat
from common_bench.reading.pairs import pairs_in
from common_bench.reading.rows import LONGEST_NAME
from common_bench.reading.sentences import pattern_expression, values_in_pattern
from common_bench.reading.values import clock_seconds

LONGEST_TAG = 8
TAG = re.compile(rf"[A-Za-z]\w{{0,{LONGEST_TAG - 1}}}|[0-9]{{1,3}}")


class Cut(NamedTuple):
    """keys: which column each field belongs to, one tuple for each kind of line; kit: the id that the line names."""

    keys: tuple[str, ...]
    fields: tuple[str, ...]
    kit: str = ""


@dataclass(frozen=True, slots=True)
class Layout:
    """kit_key: the column that says which kit; counts: how many fields a row has, all of them first; tags: (tag, fields behind it) of each kind of row, a tag
    of `#` and the number of fields where nothing but their number tells kinds apart; patterns: as in a format."""

    dialect: Dialect
    separator: str = ";"
    comma: bool = False
    start: str = ""
    end: str = ""
    kit_mark: str = ""
    kit_key: str = ""
    counts: tuple[int, ...] = ()
    tags: tuple[tuple[str, int], ...] = ()
    patterns: tuple[str, ...] = ()


Cutting = Callable[[str], Cut | None]


def layout_of(format: StreamFormat) -> Layout:
    """A format without its columns."""
    counts: tuple[int, ...] = ()
    tags: tuple[tuple[str, int], ...] = ()
    if format.dialect == "separated":
        counts = (len(format.columns), *format.lengths)
    elif format.dialect == "tagged":
        keys = [column.key for column in format.columns]
        tags = tuple(sorted((key, keys.count(key)) for key in set(keys)))
    kit = next((at for at, column in enumerate(format.columns) if column.role == "kit"), None)
    key = "" if kit is None else str(kit + 1) if format.dialect == "separated" else format.columns[kit].key
    return Layout(
        format.dialect, format.separator, format.decimal_comma, format.start, format.end, format.kit_mark, key, counts,
        tags, format.patterns,
    )  # fmt: skip


@lru_cache(maxsize=256)
def cutter(layout: Layout) -> Cutting:
    """What cuts the lines of a layout. Never raises."""
    inner = CUTS[layout.dialect](layout)
    start, end, mark, key = layout.start, layout.end, layout.kit_mark, layout.kit_key
    if key:
        return _by_column(cutter(replace(layout, kit_key="")), key)
    if not start and not end and mark in ("", "."):
        return inner

    def cut(text: str) -> Cut | None:
        framed = unframed(text, start, end) if start or end else text
        if not framed:
            return None
        if mark in ("", "."):
            return inner(framed)
        kit, found, rest = framed.partition(mark)
        kit = kit.strip()
        if not found or not kit or len(kit) > LONGEST_NAME:
            return None
        made = inner(rest.strip())
        return made._replace(kit=kit) if made is not None else None

    return cut


def _by_column(inner: Cutting, key: str) -> Cutting:
    def cut(text: str) -> Cut | None:
        made = inner(text)
        if made is None or key not in made.keys:
            return None
        return made._replace(kit=made.fields[made.keys.index(key)])

    return cut


@lru_cache(maxsize=128)
def _places(count: int) -> tuple[str, ...]:
    return tuple(str(at) for at in range(1, count + 1))


def _separated(layout: Layout) -> Cutting:
    separator, counts, most = layout.separator, frozenset(layout.counts), max(layout.counts, default=1)

    def cut(text: str) -> Cut | None:
        if most == 1:
            field = text.rstrip(separator).rstrip() if separator != " " else text
            alone = separator not in field and (" " not in field or number_text(field, layout.comma) or _is_time(field))
            return Cut(_places(1), (field,)) if alone and field else None
        fields = fields_of(text, separator)
        count = len(fields)
        if count not in counts:
            if count + 1 != most or separator == " " or not text.endswith(separator):
                return None
            fields.append("")  # the last field was empty, not absent
            count += 1
        return Cut(_places(count), tuple(fields))

    return cut


def _is_time(text: str) -> bool:
    return text[:1].isdigit() and clock_seconds(text) is not None


def _tagged(layout: Layout) -> Cutting:
    separator, known = layout.separator, dict(layout.tags)
    by_length = any(tag.startswith("#") for tag in known)
    keys = {tag: tuple(f"{tag}:{at}" for at in range(1, count + 1)) for tag, count in known.items()}

    def cut(text: str) -> Cut | None:
        fields = fields_of(text, separator)
        tag = f"#{len(fields)}" if by_length else fields.pop(0) if fields else ""
        if known.get(tag) != len(fields):
            return None
        return Cut(keys[tag], tuple(fields))

    return cut


def _named(layout: Layout) -> Cutting:
    form, joined = layout.separator, layout.kit_mark == "."

    def cut(text: str) -> Cut | None:
        pairs = pairs_in(text, form)
        if pairs is None:
            return None
        keys: list[str] = []
        kit = ""
        for name, _, _ in pairs:
            if joined:
                kit, _, name = name.partition(".")
            same = sum(1 for each in keys if each == name or each.startswith(f"{name} "))
            keys.append(name if not same or name not in keys else f"{name} {same + 1}")
        return Cut(tuple(keys), tuple(f"{value} {unit}" if unit else value for _, value, unit in pairs), kit)

    return cut


def _json(_: Layout) -> Cutting:
    def cut(text: str) -> Cut | None:
        value = decoded(text)
        if not isinstance(value, (dict, list)):
            return None
        leaves = flat(value)
        return Cut(
            tuple(leaves), tuple(each if isinstance(each, str) else json.dumps(each) for each in leaves.values())
        )

    return cut


def _sentence(layout: Layout) -> Cutting:
    known = [
        (
            pattern_expression(pattern, layout.comma),
            tuple(f"{place}:{at}" for at in range(1, values_in_pattern(pattern) + 1)),
        )
        for place, pattern in enumerate(layout.patterns)
    ]

    def cut(text: str) -> Cut | None:
        for expression, keys in known:
            met = expression.fullmatch(text)
            if met is not None:
                return Cut(keys, met.groups())
        return None

    return cut


CUTS: dict[str, Callable[[Layout], Cutting]] = {
    "separated": _separated, "tagged": _tagged, "named": _named, "json": _json, "senml": _json, "sentence": _sentence,
}  # fmt: skip
