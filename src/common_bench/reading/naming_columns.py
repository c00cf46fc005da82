"""Which name and unit each column gets: from lines of names, legends, and the words in the lines themselves. A weighed
layout and the lines beside it in; names out.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import msgspec

from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.json_lines import decoded
from common_bench.reading.naming import NAME, are_names, legend_in, name_and_unit, names_in
from common_bench.reading.rows import text_of, unnamed
from common_bench.reading.sentences import names_of
from common_bench.reading.weighing import Weight

Names = list[tuple[str, str]]


def column_names(weight: Weight, order: Sequence[str], words: Sequence[bytes]) -> Names:
    """(name, unit) of each column, in the order of the format."""
    dialect = weight.layout.dialect
    if dialect == "separated":
        return _of_rows(weight, words)
    if dialect == "tagged":
        return _of_kinds(weight, words)
    if dialect == "sentence":
        return _of_sentences(weight)
    if dialect == "json":
        return _of_objects(weight, order, words)
    return [name_and_unit(key, "") for key in order]


def _of_rows(weight: Weight, words: Sequence[bytes]) -> Names:
    layout, count = weight.layout, max(weight.layout.counts)
    for line in reversed(words):
        for start, end in dict.fromkeys([(layout.start, layout.end), ("", "")]):
            text = text_of(line) or text_of(line, latin=True) or ""
            if start and text.startswith(start):
                text = text[len(start) :]
            if end and end != "*":
                text = text.removesuffix(end)
            found = names_in(text.encode(), layout.separator)
            if found and len(found) == count and are_names(found):
                return found
            if (
                found
                and layout.kit_mark not in ("", ".")
                and len(found) == count + 1
                and layout.kit_mark == layout.separator
            ):
                return found[1:]
    found = [(unnamed(at), "") for at in range(1, count + 1)]
    for at in range(1, count):  # a word that stands still before a number is its name
        word, number = weight.columns.get(str(at)), weight.columns.get(str(at + 1))
        if word is not None and number is not None and word.kind == "text" and len(word.words) == 1:
            name = word.words[0].rstrip(":= ")
            if number.kind == "number" and re.fullmatch(r"[^\W\d_][\w .\-]{0,24}", name):
                found[at] = name_and_unit(name, "")
    return found


def _of_kinds(weight: Weight, words: Sequence[bytes]) -> Names:
    legend = legend_in(words)
    found: Names = []
    for tag, count in sorted(weight.layout.tags, key=lambda each: (len(each[0]), each[0])):
        names = legend.get(tag, [])
        if len(names) == count:
            found += names
            continue
        if len(names) == 1:
            base, unit = names[0]
        else:
            base, unit = (f"row {tag.lstrip('#')} value" if tag.lstrip("#").isdigit() else tag), ""
        if count == 1:
            found.append((f"row {tag}" if tag.isdigit() and not names else base.removesuffix(" value"), unit))
        else:
            found += [(f"{base} {at}", unit) for at in range(1, count + 1)]
    return found


def _of_sentences(weight: Weight) -> Names:
    found = [each for pattern in weight.layout.patterns for each in names_of(pattern)]
    return [(name or unnamed(at), unit) for at, (name, unit) in enumerate(found, 1)]


def _of_objects(weight: Weight, order: Sequence[str], words: Sequence[bytes]) -> Names:
    if not all(key.replace(".", "").isdigit() for key in order):
        return [name_and_unit(key, "") for key in order]
    for line in reversed(words):
        value = decoded(text_of(line) or "")
        if isinstance(value, list) and value and all(isinstance(each, str) for each in value):
            met = [NAME.match(each) for each in value]
            found = [name_and_unit(m[1], m[2] or m[3] or "") for m in met if m]
        else:
            found = names_in(line, ",") or []
        if len(found) == len(order):
            return found
    return [(unnamed(key) if "." not in key else key, "") for key in order]


def renamed(old: StreamFormat, names: Names) -> StreamFormat:
    """The same format under other names; a clock stays one."""
    columns = [
        msgspec.structs.replace(column, name=name, unit=column.unit if column.role == "clock" else unit or column.unit)
        for column, (name, unit) in zip(old.columns, names, strict=True)
    ]
    return msgspec.structs.replace(old, columns=tuple(unlike(columns)))


def unlike(columns: Sequence[Column]) -> list[Column]:
    """Columns with names of their own: one that comes again gets a number."""
    taken: Counter[str] = Counter()
    made: list[Column] = []
    names = {column.name for column in columns}
    for column in columns:
        taken[column.name] += 1
        name = column.name
        while taken[column.name] > 1 and (name == column.name or name in names):
            name = f"{column.name} {taken[column.name]}"
            if name in names:
                taken[column.name] += 1
        names.add(name)
        made.append(msgspec.structs.replace(column, name=name))
    return made
