"""Reading one line under a stream format. A line's bytes in; its rows of numbers out, or None where it is no reading.

One reader for each dialect, made once from the format. What a line gives depends on the line alone.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cache, lru_cache
from typing import Any, NamedTuple

import msgspec

from common_bench.model.stream import StreamFormat
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
    words,
)

LEAST_ABSOLUTE = 2.0**28  # s; RFC 8428, 4.5.3: a smaller time counts from now
DEEPEST = 4  # objects inside each other that are looked into
MOST_KEYS = 64
LONGEST_NAME = 40
DIGITS = b"0123456789"
JSON_NUMBER = r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+\-]?[0-9]+)?"
MOST_MOULDS = 200  # of one format; lines beyond them are read the long way
LONGEST_MOULD = 400  # bytes


class Row(NamedTuple):
    """values: one per column, nan where the line holds none; kit: the id that the line names, or '';
    shift: s by which the reading is older than the line."""

    values: list[float]
    kit: str = ""
    shift: float = 0.0


Reads = Callable[[str], list[Row] | None]


def text_of(line: bytes, latin: bool = False) -> str | None:
    """The line as text; None where its bytes are no text."""
    try:
        return line.decode("latin-1" if latin else "utf-8").strip(" \t\x00\ufeff")
    except UnicodeDecodeError:
        return None


@lru_cache(maxsize=256)
def line_reader(format: StreamFormat) -> Callable[[bytes], list[Row] | None]:
    """What reads the lines of a format. Never raises, whatever a line holds."""
    reads: Reads = {"named": _named, "tagged": _tagged, "json": _json, "senml": _senml}.get(format.dialect, _separated)(
        format
    )
    start, end, latin, mark = format.start, format.end, format.latin, format.kit_mark
    only = format.only
    kit_at = next((at for at, column in enumerate(format.columns) if column.role == "kit"), None)

    def read(line: bytes) -> list[Row] | None:
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

    return Moulds(format, read).read


class Moulds:
    """Reads again quickly what has been read once: lines that differ in their digits alone.

    A line without its digits is its mould. The first line of a mould is read the long way; from then
    on one expression, which holds everything but the numbers to the letter, reads all of that mould. A
    mould is only kept where it gives for its first line what the long way gave.
    """

    def __init__(self, format: StreamFormat, read: Callable[[bytes], list[Row] | None]) -> None:
        self._format, self._long = format, read
        self._made: dict[bytes, Callable[[bytes], list[Row] | None] | None] = {}
        kinds = {column.kind for column in format.columns}
        own_way = format.dialect == "separated" and not format.decimal_comma and not format.start and not format.end
        self._possible = format.dialect != "senml" and "time" not in kinds and not (own_way and not format.kit_mark)
        self._mark = format.kit_mark.encode()

    def read(self, line: bytes) -> list[Row] | None:
        mould = line.translate(None, DIGITS)
        if self._mark:
            mould = line[:LONGEST_NAME].partition(self._mark)[0] + b"\x00" + mould  # ids differ in digits too
        quick = self._made.get(mould, self)
        if quick is self and self._possible and len(self._made) < MOST_MOULDS and len(line) < LONGEST_MOULD:
            return self._first(mould, line)
        if quick is None or quick is self:
            return self._long(line)
        found = quick(line)  # type: ignore[operator]
        return found if found is not None else self._long(line)

    def _first(self, mould: bytes, line: bytes) -> list[Row] | None:
        found = self._long(line)
        if found:
            self._made[mould] = self._make(line, found) if len(found) == 1 else None
        return found

    def _make(self, line: bytes, found: list[Row]) -> Callable[[bytes], list[Row] | None] | None:
        from common_bench.reading.spans import spans_of

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
        if len(set(places)) != len(places) or len(places) != sum(1 for value in found[0].values if value == value):
            return None
        encoding = "latin-1" if format.latin else "utf-8"
        expression = re.compile(rb"[ \t]*" + "".join(parts).encode(encoding) + rb"[ \t]*")
        quick = _quick(expression.fullmatch, places, found[0].kit, format)
        again = quick(line)
        return quick if again and _same(again[0].values, found[0].values) else None


def _quick(
    match: Callable[[bytes], re.Match[bytes] | None], places: list[int], kit: str, format: StreamFormat
) -> Callable[[bytes], list[Row] | None]:
    blank, comma = [NAN] * len(format.columns), format.decimal_comma
    strange = numbers_of(frozenset(format.no_value))
    whole = places == list(range(len(blank)))
    kit_at = next((at for at, c in enumerate(format.columns) if c.role == "kit" and c.kind == "number"), None)
    only = format.only

    def read(line: bytes) -> list[Row] | None:
        met = match(line)
        if met is None:
            return None
        try:
            if comma:
                numbers = [float(each.replace(b",", b".")) for each in met.groups()]
            else:
                numbers = list(map(float, met.groups()))
        except ValueError:
            return None
        for number in numbers:
            if number - number != 0.0 or (strange and number in strange):
                return None
        if whole:
            values = numbers
        else:
            values = blank.copy()
            for place, number in zip(places, numbers, strict=True):
                values[place] = number
        name = kit if kit_at is None else kit_word(values[kit_at])
        if only and name != only:
            return []
        return [Row(values, name)]

    return read


def _same(one: list[float], other: list[float]) -> bool:
    return all(a == b or (a != a and b != b) for a, b in zip(one, other, strict=True))


def kit_word(value: float) -> str:
    return f"{value:g}" if value == value else ""


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
    convert = [CONVERT[kind] for kind in kinds]
    strange = numbers_of(no_value)

    def read(text: str) -> list[Row] | None:
        met = whole.fullmatch(text) if not comma else None
        if met is not None:
            groups = met.groups()
            values = [make(group) for make, group in zip(convert, groups, strict=True)]
            # Anything out of the ordinary is looked at field by field below.
            if all(
                (v - v == 0.0 and v not in strange) or kind == "text" for v, kind in zip(values, kinds, strict=True)
            ):
                return [Row(values, groups[kit_at] if word_kit else "")]
        return by_fields(text)

    def by_fields(text: str) -> list[Row] | None:
        fields = fields_of(text, format.separator)
        missing = wanted - len(fields)
        if missing == 1 and format.separator != " " and text.endswith(format.separator):
            fields.append("")  # the last field was empty, not absent
        elif missing:
            return None
        values: list[float] = []
        known = 0
        for field, kind in zip(fields, kinds, strict=True):
            value = value_of(field, kind, comma, no_value)
            if value is None:
                return None
            known += value == value
            values.append(value)
        return [Row(values, fields[kit_at] if word_kit else "")] if known else None

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
}


@cache
def _glued() -> re.Pattern[str]:
    return re.compile(rf"(?:{NUM_COMMA} {unit_pattern()}(?=\s|$))|\S+")


def fields_of(text: str, separator: str) -> list[str]:
    """The fields of a line; a trailing separator makes no field; a unit stays with its number."""
    if separator == " ":
        return _glued().findall(text) if len(text) < 400 else text.split()
    fields = [field.strip() for field in text.split(separator)]
    return fields[:-1] if len(fields) > 1 and not fields[-1] else fields


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
        if match is None or len(found) >= MOST_KEYS:
            return None
        groups = match.groups()
        found.append((groups[0], groups[-2], (groups[-1] or (groups[1] if len(groups) == 4 else "") or "")))
        at = match.end()
    return found or None


def pair_form(format: StreamFormat) -> str:
    return format.separator if format.separator in (":", ",") else " "


def _named(format: StreamFormat) -> Reads:
    form, no_value, comma = pair_form(format), frozenset(format.no_value), format.decimal_comma
    places = {column.key or column.name: at for at, column in enumerate(format.columns)}
    kinds = [column.kind for column in format.columns]
    blank = [NAN] * len(kinds)
    joined = format.kit_mark == "."

    def read(text: str) -> list[Row] | None:
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
            value = value_of(written, kinds[at], comma, no_value)
            if value is None and written.lower() in ("nan", "null", "none", "n/a", "-", "--", "---"):
                value = NAN
            if value is None:
                return None
            values[at] = value
            known += 1
        return [Row(values, kit)] if known else None

    return read


def _tagged(format: StreamFormat) -> Reads:
    no_value, comma = frozenset(format.no_value), format.decimal_comma
    rows: dict[str, list[int]] = {}
    for at, column in enumerate(format.columns):
        rows.setdefault(column.key, []).append(at)
    kinds = [column.kind for column in format.columns]
    blank = [NAN] * len(kinds)

    def read(text: str) -> list[Row] | None:
        tag, *fields = fields_of(text, format.separator)
        places = rows.get(tag)
        if places is None or len(fields) != len(places):
            return None
        values = blank.copy()
        for at, field in zip(places, fields, strict=True):
            value = value_of(field, kinds[at], comma, no_value)
            if value is None:
                return None
            values[at] = value
        return [Row(values)]

    return read


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


def _json(format: StreamFormat) -> Reads:
    no_value = frozenset(format.no_value)
    places = {column.key or column.name: at for at, column in enumerate(format.columns)}
    texts = {at for at, column in enumerate(format.columns) if column.kind == "text"}
    kit_key = next((column.key or column.name for column in format.columns if column.role == "kit"), None)
    blank = [NAN] * len(format.columns)

    def read(text: str) -> list[Row] | None:
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
            number = json_number(leaf, no_value)
            if number is None:
                return None
            values[at] = number
            known += 1
        return [Row(values, str(leaves.get(kit_key, ""))[:LONGEST_NAME] if kit_key else "")] if known else None

    return read


class Pack(NamedTuple):
    """One SenML record, its base fields put in: name, unit, value (None where it holds no number), time in s."""

    name: str
    unit: str
    value: float | None
    time: float


def senml_records(value: Any) -> list[Pack] | None:
    """The records of a SenML pack (RFC 8428, 4.1 to 4.6); None where it is none."""
    if isinstance(value, dict):
        value = [value]
    if not isinstance(value, list) or not value or not all(isinstance(each, dict) for each in value):
        return None
    if not any({"n", "bn"} & each.keys() for each in value):
        return None
    base_name, base_unit, base_time, base_value = "", "", 0.0, 0.0
    found: list[Pack] = []
    for record in value[:MOST_KEYS]:
        base_name, base_unit = str(record.get("bn", base_name)), str(record.get("bu", base_unit))
        base_time, base_value = _number(record, "bt", base_time), _number(record, "bv", base_value)
        name = (base_name + str(record.get("n", "")))[: 2 * LONGEST_NAME]
        if "v" in record:
            number: float | None = base_value + _number(record, "v", NAN)
        elif "vb" in record and isinstance(record["vb"], bool):
            number = float(record["vb"])
        elif "bv" in record and not {"vs", "vd", "s"} & record.keys():
            number = base_value
        else:
            continue
        if number is not None and number - number != 0:
            number = NAN
        when = base_time + _number(record, "t", 0.0)
        found.append(Pack(name, str(record.get("u", base_unit))[:16], number, when if when - when == 0 else 0.0))
    return found or None


def _number(record: dict[str, Any], key: str, otherwise: float) -> float:
    value = record.get(key, otherwise)
    try:
        return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else otherwise
    except OverflowError:
        return otherwise


class SenmlRecord(msgspec.Struct):
    """The fields of a record that hold numbers (RFC 8428, 4.2 and 4.3)."""

    n: str = ""
    bn: str = ""
    t: float = 0.0
    bt: float | None = None
    v: float | None = None
    bv: float | None = None
    vb: bool | None = None
    vs: str | None = None
    vd: str | None = None
    s: float | None = None


SENML_PACK = msgspec.json.Decoder(list[SenmlRecord])


def _packs(text: str) -> list[Pack] | None:
    """The records of a pack in the usual form quickly; any other form the long way."""
    try:
        records = SENML_PACK.decode(text)
    except (msgspec.DecodeError, RecursionError, UnicodeError, ValueError):
        return senml_records(decoded(text))
    if len(records) > MOST_KEYS or any(r.bv is not None or r.vs is not None or r.vd is not None for r in records):
        return senml_records(decoded(text))
    base_name, base_time, found = "", 0.0, []
    for record in records:
        base_name = record.bn or base_name
        base_time = base_time if record.bt is None else record.bt
        value = record.v if record.v is not None else None if record.vb is None else float(record.vb)
        if value is None:
            continue
        found.append(Pack(base_name + record.n, "", value, base_time + record.t))
    return found or None


def _senml(format: StreamFormat) -> Reads:
    places = {column.key or column.name: at for at, column in enumerate(format.columns)}
    clock = format.clock
    blank = [NAN] * len(format.columns)

    def read(text: str) -> list[Row] | None:
        records = _packs(text)
        if records is None:
            return None
        times: dict[float, list[float]] = {}
        for record in records:
            at = places.get(record.name)
            if at is None or record.value is None:
                return None
            row = times.get(record.time)
            if row is None:
                row = times[record.time] = blank.copy()
            row[at] = record.value
        rows = []
        for when in sorted(times):
            values, shift = times[when], 0.0
            if when >= LEAST_ABSOLUTE and clock is not None:
                values[clock] = when
            elif when < 0:
                shift = when
            rows.append(Row(values, "", shift))
        return rows

    return read
