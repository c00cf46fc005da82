"""Reference points from a table that anybody can write. A CSV file in; points with their units out."""

from __future__ import annotations

import csv
import re
from pathlib import Path
from typing import NamedTuple

from common_bench.model.calibration import ReferencePoint
from common_bench.model.trouble import CalibrationTrouble

COLUMNS = ("reading", "u_reading", "reference", "u_reference")
NEEDED = ("reading", "reference")
HEAD = re.compile(r"^\s*([^()\[\]]+?)\s*(?:[(\[]\s*(.*?)\s*[)\]])?\s*$")
YES = ("yes", "y", "1", "true", "x", "check")


class PointsTable(NamedTuple):
    """unit, raw_unit: as the headers give them, '' where they give none."""

    points: list[ReferencePoint]
    unit: str
    raw_unit: str


def points_from(path: Path) -> PointsTable:
    """Columns `reading`, `u_reading`, `reference`, `u_reference`, and if wanted `label` and `check`; a header
    may carry a unit, as `reference (N)`. Parted by commas, semicolons or tabs; empty uncertainties mean
    that none are stated. Raises CalibrationTrouble with the line."""
    try:
        text = path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as fault:
        raise CalibrationTrouble("points-file-unreadable", where=str(path)) from fault
    lines = [(number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip() and line[0] != "#"]
    if not lines:
        raise CalibrationTrouble("points-file-empty", where=str(path), columns=",".join(COLUMNS))
    mark = max(";\t,", key=lines[0][1].count)
    heads = [HEAD.match(cell) for cell in next(csv.reader([lines[0][1]], delimiter=mark))]
    names = [found[1].strip().lower().replace(" ", "_") if found else "" for found in heads]
    units = {name: (found[2] or "" if found else "") for name, found in zip(names, heads, strict=True)}
    missing = [name for name in NEEDED if name not in names]
    if missing:
        raise CalibrationTrouble(
            "points-file-without-column", where=str(path), name=missing[0], columns=",".join(COLUMNS)
        )
    points = [_point(path, number, next(csv.reader([line], delimiter=mark)), names, mark) for number, line in lines[1:]]
    return PointsTable(points, units.get("reference", ""), units.get("reading", ""))


def _point(path: Path, number: int, cells: list[str], names: list[str], mark: str) -> ReferencePoint:
    row = dict(zip(names, cells, strict=False))
    values = {}
    for name in COLUMNS:
        cell = row.get(name, "").strip().replace("−", "-")
        cell = cell.replace(",", ".") if mark != "," else cell
        try:
            values[name] = float(cell) if cell or name in NEEDED else 0.0
        except ValueError:
            raise CalibrationTrouble(
                "points-cell-no-number", where=f"{path}, line {number}", cell=cell, name=name
            ) from None
        if name.startswith("u_") and not 0 <= values[name] < float("inf"):
            raise CalibrationTrouble("points-u-below-zero", where=f"{path}, line {number}", name=name)
    label = row.get("label", "").strip() or f"line {number}"
    check = row.get("check", "").strip().lower() in YES
    return ReferencePoint(
        label, values["reading"], values["u_reading"], values["reference"], values["u_reference"], "", check=check
    )
