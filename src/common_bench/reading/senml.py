"""Lines that are packs of the Sensor Measurement Lists (SenML, RFC 8428). A format in; what reads its lines out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import msgspec

from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.json_lines import MOST_KEYS, decoded
from common_bench.reading.rows import LONGEST_NAME, ParsedLine, Reads
from common_bench.reading.values import NAN

LEAST_ABSOLUTE = 2.0**28  # s; RFC 8428, 4.5.3: a smaller time counts from now


class Pack(NamedTuple):
    """One SenML record, its base fields put in: name, unit, value (None where it holds no number), time in s."""

    name: str
    unit: str
    value: float | None
    time: float


def senml_records(value: Any, most: int = MOST_KEYS) -> list[Pack] | None:
    """The records of a SenML pack (RFC 8428, 4.1 to 4.6), so many at most; None where it is none."""
    if isinstance(value, dict):
        value = [value]
    if not isinstance(value, list) or not value or not all(isinstance(each, dict) for each in value):
        return None
    if not any({"n", "bn"} & each.keys() for each in value):
        return None
    base_name, base_unit, base_time, base_value = "", "", 0.0, 0.0
    found: list[Pack] = []
    for record in value[:most]:
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


def looks_like_senml(value: object) -> bool:
    """Whether any record has a field that only SenML has."""
    records = value if isinstance(value, list) else [value]
    return any(isinstance(each, dict) and {"v", "vb", "bn", "bt", "bv"} & each.keys() for each in records)


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
    base_name, base_time, found = "", 0.0, []
    for record in records:
        if record.bv is not None or record.vs is not None or record.vd is not None or len(records) > MOST_KEYS:
            return senml_records(decoded(text))
        base_name = record.bn or base_name
        if record.bt is not None:
            base_time = record.bt
        value = record.v
        if value is None:
            if record.vb is None:
                continue
            value = float(record.vb)
        found.append(Pack(base_name + record.n, "", value, base_time + record.t))
    return found or None


def senml_reads(format: StreamFormat) -> Reads:
    """What reads SenML packs under a format."""
    places = {column.key or column.name: at for at, column in enumerate(format.columns)}
    clock = format.clock
    blank = [NAN] * len(format.columns)

    def read(text: str) -> list[ParsedLine] | None:
        records = _packs(text)
        if records is None:
            return None
        times: dict[float, list[float]] = {}
        for name, _, value, time in records:
            at = places.get(name)
            if at is None or value is None:
                return None
            row = times.get(time)
            if row is None:
                row = times[time] = blank.copy()
            row[at] = value
        rows = []
        for when in sorted(times):
            values, shift = times[when], 0.0
            if when >= LEAST_ABSOLUTE and clock is not None:
                values[clock] = when
            elif when < 0:
                shift = when
            rows.append(ParsedLine(values, "", shift))
        return rows

    return read


def senml_format(texts: Sequence[str]) -> StreamFormat | None:
    """A format of lines that are SenML packs (RFC 8428), or None."""
    packs = [
        records for text in texts if looks_like_senml(value := decoded(text)) and (records := senml_records(value))
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
    if not order or len(order) > MOST_KEYS:
        return None
    front = common_front(list(order))
    columns = [
        Column(name[len(front) :] or name, SENML_UNITS.get(unit, unit), key=name) for name, unit in order.items()
    ]
    if absolute:
        columns.insert(0, Column("time", "s", "clock", 1.0, "time", key="\x00time"))
    return StreamFormat(",", tuple(columns), dialect="senml")


SENML_UNITS = {"Cel": "°C", "%RH": "%", "lx": "lx", "Ohm": "Ω", "deg": "°", "/": "", "rad": "rad"}


def common_front(names: Sequence[str]) -> str:
    """What all names begin with up to a border, as a device's address in SenML."""
    front = names[0]
    for name in names[1:]:
        while not name.startswith(front):
            front = front[:-1]
    cut = max(front.rfind(each) for each in ":/.")
    return front[: cut + 1]
