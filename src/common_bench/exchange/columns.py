"""A table of readings that anybody can write: a CSV file in, its columns with units out. The first column is the time."""

from __future__ import annotations

import csv
import datetime
import re
from pathlib import Path
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.model.trouble import FileTrouble
from common_bench.model.units import conversion, is_unit, same_kind

HEAD = re.compile(r"^\s*(.*?)\s*(?:[(\[]\s*([^()\[\]]*?)\s*[)\]])?\s*$")
NOTHING = ("", "-", "–", "nan", "na", "n/a", "null", "none", "?")
STATED = "u_"  # before a column's name: the column of its standard uncertainties


class ColumnOf(NamedTuple):
    """One column: (n,) values in `unit`, nan where there is none; u: (n,) their standard uncertainties, None where none are
    stated."""

    unit: str
    values: Floats
    u: Floats | None = None


class Columns(NamedTuple):
    """t: (n,) s, as the file counts it; columns by name; time: the file's own name for its time column, empty where the first
    column is none."""

    t: Floats
    columns: dict[str, ColumnOf]
    time: str = ""


def columns_from(path: Path, *, timed: bool = True) -> Columns:
    """The first line names the columns, each with its unit in brackets, as `load (counts)`; the first is the time, in s
    where its header says nothing else, or as ISO 8601 tells it. `u_load` gives the standard uncertainties of `load`. Parted by commas, semicolons
    or tabs; lines that begin with # are remarks. timed: False where the first column may be anything and `t` only counts the
    rows. Raises FileTrouble with the line."""
    names, units, mark, cells = cells_from(path)
    values = np.full((len(names), len(cells)), np.nan)
    for row, (number, found) in enumerate(cells):
        for at, cell in enumerate(found[: len(names)]):
            where = f"{path}, line {number}"
            values[at, row] = _time(cell, where) if at == 0 and timed else number_in(cell, names[at], where, mark)
    return _placed(path, names, units, values, timed=timed)


def cells_from(path: Path) -> tuple[list[str], list[str], str, list[tuple[int, list[str]]]]:
    """Names of the columns, their units, what parts them, and each row with the number of its line. Raises FileTrouble."""
    try:
        text = path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as fault:
        raise FileTrouble("table-unreadable", where=str(path)) from fault
    lines = [(number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip() and line[0] != "#"]
    if len(lines) < 2:
        raise FileTrouble("table-without-rows", where=str(path))
    mark = max(";\t,", key=lines[0][1].count)
    heads = [HEAD.match(cell) for cell in next(csv.reader([lines[0][1]], delimiter=mark))]
    names = [found[1] if found is not None else "" for found in heads]
    units = [(found[2] or "") if found is not None else "" for found in heads]
    again = next((name for at, name in enumerate(names) if name and name in names[:at]), None)
    if again is not None:
        raise FileTrouble("table-column-twice", where=str(path), name=again)
    for name, unit in zip(names, units, strict=True):
        if unit and not is_unit(unit):
            raise FileTrouble("table-unit-unknown", where=str(path), name=name, unit=unit)
    cells = list(csv.reader((line for _, line in lines[1:]), delimiter=mark))
    return names, units, mark, [(number, row) for (number, _), row in zip(lines[1:], cells, strict=False)]


def _placed(path: Path, names: list[str], units: list[str], values: Floats, *, timed: bool) -> Columns:
    unit = units[0] or "s"
    if timed and not same_kind(unit, "s"):
        raise FileTrouble("table-without-time", where=str(path), name=names[0], unit=unit)
    t = values[0] * conversion(unit, "s")[0] if timed else np.arange(values.shape[1], dtype=float)
    back = np.flatnonzero(~(np.diff(t) >= 0) | ~np.isfinite(t[1:]))
    if len(back) or not np.isfinite(t[0]):
        raise FileTrouble("table-time-goes-back", where=str(path), row=int(back[0]) + 2 if len(back) else 1)
    stated = {name.removeprefix(STATED): values[at] for at, name in enumerate(names) if name.startswith(STATED)}
    return Columns(
        t,
        {
            name: ColumnOf(units[at], values[at], stated.get(name))
            for at, name in enumerate(names)
            if (at or not timed) and name and not (name.startswith(STATED) and name.removeprefix(STATED) in names)
        },
        names[0] if timed else "",
    )


def number_in(cell: str, name: str, where: str, mark: str) -> float:
    """A cell's number, nan where it holds none. Raises FileTrouble for words."""
    plain = cell.strip().replace("−", "-")
    if plain.lower() in NOTHING:
        return float("nan")
    try:
        return float(plain.replace(",", ".") if mark != "," else plain)
    except ValueError:
        raise FileTrouble("points-cell-no-number", where=where, cell=cell, name=name) from None


def _time(cell: str, where: str) -> float:
    try:
        return float(cell.strip().replace(",", ".").replace("−", "-"))
    except ValueError:
        pass
    try:
        told = datetime.datetime.fromisoformat(cell.strip())
    except ValueError:
        raise FileTrouble("points-cell-no-number", where=where, cell=cell, name="the time") from None
    return (told if told.tzinfo is not None else told.replace(tzinfo=datetime.UTC)).timestamp()
