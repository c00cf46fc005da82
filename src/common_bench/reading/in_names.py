"""Formats of lines that name each value: pairs, JSON, SenML. Lines of text in; a format or nothing out."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import msgspec

from common_bench.model.stream import Column, StreamFormat, ValueKind
from common_bench.reading.in_columns import FEW_WITH_NAMES, KIT_TAG, columns_of, few_values, kind_of_column, unlike
from common_bench.reading.json_lines import MOST_KEYS, decoded, flat, json_number
from common_bench.reading.naming import MOST_COLUMNS, NAME, name_and_unit, names_in
from common_bench.reading.pairs import pairs_in
from common_bench.reading.rows import text_of
from common_bench.reading.senml import LEAST_ABSOLUTE, senml_records
from common_bench.reading.values import clock_seconds, table, units


def named(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    """A format of lines that name each value, or None."""
    best: tuple[int, str, list[list[tuple[str, str, str]]]] | None = None
    for form in (":", ",", " "):
        lines = [pairs for text in texts if (pairs := pairs_in(text, form))]
        if lines and (best is None or len(lines) > best[0]):
            best = len(lines), form, lines
    if best is None or best[0] < FEW_WITH_NAMES:
        return None
    _, form, lines = best
    mark = "." if _prefixes(lines) else ""
    order: dict[str, list[tuple[str, str]]] = {}
    for pairs in lines:
        seen: Counter[str] = Counter()
        for name, value, unit in pairs:
            own = name.partition(".")[2] if mark else name
            seen[own] += 1
            key = own if seen[own] == 1 else f"{own} {seen[own]}"
            order.setdefault(key, []).append((value, unit))
    if len(order) > MOST_COLUMNS or (
        form == " " and any(re.fullmatch(r"(?i)v|ver|version|no|nr", name) for name in order)
    ):
        return None
    kinds: list[ValueKind] = []
    names, seen_units, fields = [], [], []
    for key, found in order.items():
        values = [value for value, _ in found]
        kind = kind_of_column(values, form == ",")
        if kind is None:
            return None
        kinds.append(kind[0])
        name, unit = name_and_unit(key, "")
        written = Counter(units().get(unit, unit) for _, unit in found if unit).most_common(1)
        names.append((name, unit))
        seen_units.append(written[0][0] if written else "")
        fields.append(values)
    made = columns_of(names, fields, kinds, seen_units)
    columns = [msgspec.structs.replace(column, key=key) for column, key in zip(made, order, strict=True)]
    if not any(column.role == "channel" for column in columns):
        return None
    return StreamFormat(form, tuple(columns), dialect="named", decimal_comma=form == ",", kit_mark=mark)


def _prefixes(lines: Sequence[Sequence[tuple[str, str, str]]]) -> bool:
    """Whether every name of a line begins with the id of a kit and a point, as in `k1.temp`."""
    ids = [{name.partition(".")[0] for name, _, _ in pairs if "." in name} for pairs in lines]
    whole = all(all("." in name for name, _, _ in pairs) for pairs in lines)
    found = {kit for each in ids for kit in each}
    return whole and all(len(each) == 1 for each in ids) and len(found) > 1 and all(KIT_TAG.fullmatch(k) for k in found)


def json_format(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    """A format of lines that are JSON, or None."""
    lines = [value for text in texts if isinstance(value := decoded(text), (dict, list)) and not _only_names(value)]
    if len(lines) < 2 or any(senml_records(value) and _looks_like_senml(value) for value in lines):
        return None
    order: dict[str, list[object]] = {}
    for value in lines:
        for key, leaf in flat(value).items():
            order.setdefault(key, []).append(leaf)
    if not order or len(order) > MOST_KEYS:
        return None
    array = all(isinstance(value, list) for value in lines)
    named = None
    if array:
        named = next((n for w in reversed(words) if (n := _json_names(w)) and len(n) == len(order)), None)
    columns: list[Column] = []
    for at, (key, found_leaves) in enumerate(order.items()):
        leaves = [leaf for leaf in found_leaves if leaf is not None]
        texts_of = [str(leaf) for leaf in leaves]
        kit = key.lower() in table()["kit"]["names"] and few_values(texts_of)
        times = all(isinstance(leaf, str) and clock_seconds(leaf) is not None for leaf in leaves)
        numbers = all(json_number(leaf) is not None for leaf in leaves)
        name, unit = named[at] if named else name_and_unit(f"column {key}" if array and "." not in key else key, "")
        kind: ValueKind = "time" if times else "number" if numbers else "text"
        made = columns_of([(name, unit)], [texts_of], [kind], [""])[0]
        clocked = any(column.role == "clock" for column in columns)
        if made.role == "clock" and clocked:
            made = Column(made.name, made.unit)
        if kit:
            made = Column(key, "", "kit", kind="text")
        columns.append(msgspec.structs.replace(made, key=key))
    if not any(column.role == "channel" for column in columns):
        return None
    return StreamFormat(",", tuple(unlike(columns)), dialect="json")


def _only_names(value: object) -> bool:
    return isinstance(value, list) and all(isinstance(each, str) for each in value)


def _json_names(line: bytes) -> list[tuple[str, str]] | None:
    value = decoded(text_of(line) or "")
    if isinstance(value, list) and value and all(isinstance(each, str) for each in value):
        found = [NAME.match(each) for each in value]
        return [name_and_unit(m[1], m[2] or m[3] or "") for m in found if m] if all(found) else None
    return names_in(line, ",")


def _looks_like_senml(value: object) -> bool:
    records = value if isinstance(value, list) else [value]
    return any(isinstance(each, dict) and {"v", "vb", "bn", "bt", "bv"} & each.keys() for each in records)


def senml_format(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    """A format of lines that are SenML packs (RFC 8428), or None."""
    packs = [
        records for text in texts if _looks_like_senml(value := decoded(text)) and (records := senml_records(value))
    ]
    if len(packs) < 2:
        return None
    order: dict[str, str] = {}
    absolute = False
    for records in packs:
        for record in records:
            if record.value is not None:
                order[record.name] = order.get(record.name) or record.unit
            absolute = absolute or record.time >= LEAST_ABSOLUTE
    if not order or len(order) > MOST_COLUMNS:
        return None
    front = _common_front(list(order))
    columns = [
        Column(name[len(front) :] or name, SENML_UNITS.get(unit, unit), key=name) for name, unit in order.items()
    ]
    if absolute:
        columns.insert(0, Column("time", "s", "clock", 1.0, "time", key="\x00time"))
    return StreamFormat(",", tuple(unlike(columns)), dialect="senml")


SENML_UNITS = {"Cel": "°C", "%RH": "%", "lx": "lx", "Ohm": "Ω", "deg": "°", "/": "", "rad": "rad"}


def _common_front(names: Sequence[str]) -> str:
    """What all names begin with up to a border, as a device's address in SenML."""
    front = names[0]
    for name in names[1:]:
        while not name.startswith(front):
            front = front[:-1]
    cut = max(front.rfind(each) for each in ":/.")
    return front[: cut + 1]
