"""Which part of a line belongs to which column, for showing it. A line's text and its format in; spans out."""

from __future__ import annotations

import re
from typing import NamedTuple

from common_bench.model.stream import StreamFormat
from common_bench.reading.pairs import pair_form, pair_pattern

PART = re.compile(r'"([^"]*)"\s*:|[^\s,:{}\[\]"]+')


class Span(NamedTuple):
    """A piece of the line, and the column that it is the value of (None: marks, separators, names)."""

    text: str
    column: int | None


def spans_of(text: str, format: StreamFormat) -> list[Span]:
    """All pieces of the line in order; joined they are the line again."""
    if format.dialect == "named":
        return _named(text, format)
    if format.dialect in ("json", "senml"):
        return _json(text, format)
    begin, end = len(format.start), len(text) - (3 if format.end == "*" else len(format.end))
    if not text.startswith(format.start) or end < begin:
        return [Span(text, None)] if text else []
    body = text[begin:end]
    if format.kit_mark and format.kit_mark != ".":
        front, mark, _ = body.partition(format.kit_mark)
        begin += len(front) + len(mark)
        body = text[begin:end]
    gap = r"\s+" if format.separator == " " else re.escape(format.separator)
    spans, place, at = [Span(text[:begin], None)] if begin else [], 0, 0
    places = list(range(len(format.columns)))
    pieces = re.split(f"({gap})", body)
    if format.dialect == "tagged":
        tag = next((piece.strip() for piece in pieces if piece.strip()), "")
        places = [-1, *(at for at, column in enumerate(format.columns) if column.key == tag)]
    for at, piece in enumerate(pieces):
        if at % 2 or not piece:
            spans.append(Span(piece, None))
            place += 1 if not at % 2 and format.separator != " " else 0
            continue
        column = places[place] if place < len(places) and places[place] >= 0 else None
        spans.append(Span(piece, column))
        place += 1
    spans.append(Span(text[end:], None))
    return [span for span in spans if span.text]


def _named(text: str, format: StreamFormat) -> list[Span]:
    keys = {column.key or column.name: at for at, column in enumerate(format.columns)}
    spans, at = [], 0
    for match in pair_pattern(pair_form(format)).finditer(text):
        group = 3 if match.re.groups == 4 else 2
        name = match[1].rpartition(".")[2] if format.kit_mark == "." else match[1]
        spans += [Span(text[at : match.start(group)], None), Span(match[group], keys.get(name))]
        at = match.end(group)
    return [span for span in [*spans, Span(text[at:], None)] if span.text]


def _json(text: str, format: StreamFormat) -> list[Span]:
    keys = {(column.key or column.name).rpartition(".")[2]: at for at, column in enumerate(format.columns)}
    spans, at, name, place = [], 0, "", 0
    for match in PART.finditer(text):
        spans.append(Span(text[at : match.start()], None))
        if match[1] is not None:
            name = match[1]
            spans.append(Span(match[0], None))
        else:
            place += 1
            spans.append(Span(match[0], keys.get(name or str(place))))
        at = match.end()
    return [span for span in [*spans, Span(text[at:], None)] if span.text]
