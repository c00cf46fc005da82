"""Tables as CSV (RFC 4180: comma, CRLF, quotes doubled, a header) with units in the headers, and as JSON."""

from __future__ import annotations

import csv
import io
import math
import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import msgspec
import numpy as np

from common_bench.model.block import Series
from common_bench.model.class_line import ClassResult
from common_bench.model.measured import Measured
from common_bench.model.run import PoolRow
from common_bench.model.visible import visible

FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r", "＝", "＋", "－", "＠")
MOST_DOF = 1e6
DOF_KEYS = ("dof", "u_dof")
NUMBER_ALONE = re.compile(r"[+\-]?[0-9]+(?:\.[0-9]*)?(?:[eE][+\-]?[0-9]+)?")


def csv_text(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """One table as RFC 4180 has it. Unknown numbers are empty fields, never zero."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow([_field(name) for name in header])
    for row in rows:
        writer.writerow([_field(value) for value in row])
    return out.getvalue()


def _field(value: Any) -> str:
    if isinstance(value, float):
        return repr(float(value)) if math.isfinite(value) else ""
    return "" if value is None else harmless(str(value))


def harmless(text: str) -> str:
    """Words of a cell that no spreadsheet takes for a formula: such ones get a `'` in front; what steers is written out."""
    shown = "\r".join(visible(part) for part in text.split("\r"))  # a line's end within a cell stays one
    if shown[:1] in FORMULA_SIGNS and not NUMBER_ALONE.fullmatch(shown):
        return f"'{shown}"
    return shown


def with_unit(name: str, unit: str) -> str:
    """A header with its unit in brackets."""
    return f"{name} ({unit})" if unit else name


def pool_csv(rows: Sequence[PoolRow], result: ClassResult | None) -> str:
    """One line a run: group, run, conditions and findings with uncertainties, place on the class graph. What the graph draws
    stands in columns of its own unless it is a finding or a condition that is there already."""
    conditions = _columns([row.conditions for row in rows])
    findings = _columns([row.findings for row in rows])
    drawn = {point.run: point for point in result.points} if result else {}
    header = ["group", "run"]
    for name, unit in {**conditions, **findings}.items():
        header += [with_unit(name, unit), with_unit(f"u_{name}", unit)]
    own_y = result is not None and result.y_label not in {**conditions, **findings}
    if result and result.points:
        unit = result.points[0].y.unit
        header += [with_unit(result.y_label, unit), with_unit(f"u_{result.y_label}", unit)] if own_y else []
        header.append(with_unit("from class mean" if result.level else "from class line", unit))
    words = list(dict.fromkeys(name for row in rows for name in row.words))
    header += [*words, "note", "set aside because"]

    def line(row: PoolRow) -> list[Any]:
        fields: list[Any] = [row.alias, row.number]
        for name, unit in conditions.items():
            fields += _pair(row.conditions.get(name), unit)
        for name, unit in findings.items():
            fields += _pair(row.findings.get(name), unit)
        if result and result.points:
            point = drawn.get(row.run)
            off = point.y.value - result.line.at(point.x.value) if point and result.line else None
            if point and result.level:
                off = point.y.value - result.level.mean.value
            drawn_y = [point.y.value, point.y.u] if point else [None, None]
            fields += [*(drawn_y if own_y else []), off if point else None]
        return [*fields, *(row.words.get(name, "") for name in words), row.note, row.aside]

    return csv_text(header, [line(row) for row in rows])


def _columns(rows: Sequence[Mapping[str, Measured]]) -> dict[str, str]:
    return {name: value.unit for row in rows for name, value in row.items()}


def _pair(value: Measured | None, unit: str) -> list[float | None]:
    if value is None:
        return [None, None]
    shown = value.to(unit)
    return [shown.value, shown.u]


def pool_json(plan: str, class_name: str, rows: Sequence[PoolRow], result: ClassResult | None) -> bytes:
    """The class dataset and its statistics. Unknown numbers are null, and so are degrees of freedom without a limit that
    matters (`told_dof`)."""
    body: dict[str, Any] = {"plan": plan, "class": class_name, "runs": msgspec.to_builtins(list(rows))}
    if result is not None:
        body["class_result"] = msgspec.to_builtins(result)
        body["class_result"]["agreement"] = result.agreement
        body["class_result"]["e_n"] = result.e_n
        body["class_result"]["too_wide_to_tell"] = result.is_too_wide
    return msgspec.json.format(msgspec.json.encode(without_nan(body)), indent=2)


def told_dof(dof: float) -> float | None:
    """Degrees of freedom as they are exported: None from MOST_DOF on, where Student's t is a normal distribution to every digit
    that is shown, and a number of nine digits would only tell of rounding."""
    return dof if dof < MOST_DOF else None


def without_nan(value: Any) -> Any:
    """Unknown numbers as None, through lists and objects; degrees of freedom as `told_dof` has them."""
    if isinstance(value, float):
        return float(value) if math.isfinite(value) else None
    if isinstance(value, dict):
        known = {
            key: told_dof(each) if key in DOF_KEYS and isinstance(each, float) else each for key, each in value.items()
        }
        return {key: without_nan(each) for key, each in known.items()}
    if isinstance(value, (list, tuple)):
        return [without_nan(each) for each in value]
    return value


def run_csv(
    t: np.ndarray[Any, Any], raw: Mapping[str, Any], units: Mapping[str, str], quantities: Mapping[str, Series]
) -> str:
    """One run: time, raw channels, quantities with their standard uncertainty and where they are guesses."""
    header, columns = ["time (s)"], [t.tolist()]
    for name, values in raw.items():
        header.append(with_unit(f"raw {name}", units.get(name, "")))
        columns.append(values.tolist())
    for name, series in quantities.items():
        header += [with_unit(name, series.unit), with_unit(f"u_{name}", series.unit)]
        columns += [series.values.tolist(), series.u.tolist()]
        if series.guess is not None:
            header.append(f"{name} is a guess")
            columns.append(["yes" if guess else "" for guess in series.guess])
    return csv_text(header, zip(*columns, strict=True))


def series_csv(name: str, series: Series) -> str:
    """A quantity at events, as each swing."""
    header = ["time (s)", "since (s)", with_unit(name, series.unit), with_unit(f"u_{name}", series.unit)]
    columns: list[list[Any]] = [series.t.tolist(), series.began.tolist(), series.values.tolist(), series.u.tolist()]
    if series.guess is not None:
        header.append(f"{name} is a guess")
        columns.append(["yes" if guess else "" for guess in series.guess])
    return csv_text(header, zip(*columns, strict=True))
