"""Reading again quickly what has been read once: lines that differ in their digits alone. Lines in; rows out."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from common_bench.model.stream import StreamFormat
from common_bench.reading.rows import LONGEST_NAME, ParsedLine, kit_word, text_of
from common_bench.reading.spans import spans_of
from common_bench.reading.values import NAN, NUM, NUM_COMMA, numbers_of

DIGITS = b"0123456789"
JSON_NUMBER = r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+\-]?[0-9]+)?"
MOST_MOULDS = 200  # of one format; lines beyond them are read the long way
LONGEST_MOULD = 400  # bytes

LongWay = Callable[[bytes], list[ParsedLine] | None]


class LineTemplate(NamedTuple):
    """How lines of one template are read: an expression with a group for each number, the column of each
    (None: one for each column, in order), and the kit that the line names or where its number stands."""

    match: Callable[[bytes], re.Match[bytes] | None]
    places: tuple[int, ...] | None
    kit: str
    kit_at: int | None


class TemplateRun(NamedTuple):
    """What lines in a row gave: one row of numbers for each, and the kit that each names."""

    values: list[list[float]]
    kits: list[str]


class LineTemplates:
    """Reads the lines of one format.

    A line without its digits is its template. The first line of a template is read the long way; from then
    on one expression, which holds everything but the numbers to the letter, reads all of that template. A
    template is only kept where it gives for its first line what the long way gave.
    """

    def __init__(self, format: StreamFormat, long_way: LongWay) -> None:
        self._format, self.long_way = format, long_way
        self._made: dict[bytes, LineTemplate | None] = {}
        kinds = {column.kind for column in format.columns}
        own_way = format.dialect == "separated" and not format.decimal_comma and not format.start and not format.end
        self._possible = format.dialect != "senml" and "time" not in kinds and not (own_way and not format.kit_mark)
        self._mark = format.kit_mark.encode()
        self._strange = numbers_of(frozenset(format.no_value))
        self._blank = [NAN] * len(format.columns)
        self._kit_at = next((at for at, c in enumerate(format.columns) if c.role == "kit" and c.kind == "number"), None)

    def __len__(self) -> int:
        return len(self._made)

    def read(self, line: bytes) -> list[ParsedLine] | None:
        """The rows of one line; None where it is no reading."""
        template = self._mould_of(line)
        if template in self._made:
            run = self.run([line])
            if not run.values:
                return self.long_way(line)
            if self._format.only and run.kits[0] != self._format.only:
                return []
            return [ParsedLine(run.values[0], run.kits[0])]
        found = self.long_way(line)
        if found and self._possible and len(self._made) < MOST_MOULDS and len(line) < LONGEST_MOULD:
            self._made[template] = self._make(line, found[0]) if len(found) == 1 else None
        return found

    def run(self, lines: Sequence[bytes], start: int = 0) -> TemplateRun:
        """Reads lines from start on, up to one that has to be read the long way; rows of other kits are among them."""
        values: list[list[float]] = []
        kits: list[str] = []
        made, mark, comma, strange, blank = (
            self._made, self._mark, self._format.decimal_comma, self._strange, self._blank,
        )  # fmt: skip
        for at in range(start, len(lines)) if made else ():
            line = lines[at]
            template = made.get(line.translate(None, DIGITS) if not mark else self._mould_of(line))
            if template is None:
                break
            match, places, kit, kit_at = template
            met = match(line)
            if met is None:
                break
            numbers = [each.replace(b",", b".") for each in met.groups()] if comma else met.groups()
            try:
                row = list(map(float, numbers))
            except ValueError:
                break
            total = sum(row)
            if total - total != 0.0 or (strange and not strange.isdisjoint(row)):
                break  # infinite, or one that stands for no value: it is looked at field by field
            if places is not None:
                filled = blank.copy()
                for place, number in zip(places, row, strict=True):
                    filled[place] = number
                row = filled
            values.append(row)
            kits.append(kit if kit_at is None else kit_word(row[kit_at]))
        return TemplateRun(values, kits)

    def _mould_of(self, line: bytes) -> bytes:
        template = line.translate(None, DIGITS)
        if not self._mark:
            return template
        return line[:LONGEST_NAME].partition(self._mark)[0] + b"\x00" + template  # ids differ in digits too

    def _make(self, line: bytes, found: ParsedLine) -> LineTemplate | None:
        format, text = self._format, text_of(line, self._format.latin)
        if text is None:
            return None
        parts: list[str] = []
        places: list[int] = []
        for span in spans_of(text, format):
            column = format.columns[span.column] if span.column is not None else None
            if column is None or column.kind != "number":
                if column is not None and column.kind != "text":
                    return None
                parts.append(re.escape(span.text))
                continue
            number = NUM_COMMA if format.decimal_comma else JSON_NUMBER if format.dialect == "json" else NUM
            number = number.replace("−", "")  # a true minus sign is three bytes; it is read the long way
            match = re.match(rf"(\s*)({number})(.*)", span.text, re.S)
            if match is None:
                return None
            parts.append(f"{re.escape(match[1])}({number}){re.escape(match[3])}")
            places.append(span.column or 0)
        if format.end == "*":
            parts[-1] = r"\*.."
        if len(set(places)) != len(places) or len(places) != sum(1 for value in found.values if value == value):
            return None
        encoding = "latin-1" if format.latin else "utf-8"
        expression = re.compile(rb"[ \t]*" + "".join(parts).encode(encoding) + rb"[ \t]*")
        whole = places == list(range(len(format.columns)))
        made = LineTemplate(expression.fullmatch, None if whole else tuple(places), found.kit, self._kit_at)
        return made if self._tried(made, line, found) else None

    def _tried(self, made: LineTemplate, line: bytes, found: ParsedLine) -> bool:
        """Whether a template gives for its first line what the long way gave."""
        template = self._mould_of(line)
        self._made[template] = made
        run = self.run([line])
        del self._made[template]
        return bool(run.values) and all(
            a == b or (a != a and b != b) for a, b in zip(run.values[0], found.values, strict=True)
        )
