"""Rows of a book that hold no value of their table any more: each is left out and told, and the rest is used."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from datetime import date

from common_bench.book.changes import Row
from common_bench.calibrate.curves import find_curve
from common_bench.lesson.store_rows import (
    calibration_of,
    finding_of,
    format_of,
    group_of,
    measured_of,
    point_of,
    run_of,
    taken_point_of,
)
from common_bench.links.address import read_address
from common_bench.model.bench import SHAPES
from common_bench.model.units import unit

REFERENCES = {
    "lesson": ("plan",), "bench": ("lesson", "group"), "condition_value": ("lesson", "group"), "reference_point": ("lesson", "kit"),
    "calibration": ("kit",), "session": ("lesson", "kit"), "run": ("lesson", "group", "session"), "run_condition": ("run",),
    "moment": ("run",), "taken_point": ("run",), "finding": ("run",), "pooled": ("run",),
}  # fmt: skip
"""Table -> tables of which each of its rows needs one; a plan that is damaged costs no lesson."""


def _group(row: Row) -> None:
    if group_of(row).emblem.shape not in SHAPES or len(row["colour"]) != 7 or row["colour"][0] != "#":
        raise ValueError("its emblem is none")
    int(row["colour"][1:], 16)


def _kit(row: Row) -> None:
    format_of(row)
    read_address(row["link"])
    if row["asking"]:
        json.loads(row["asking"])


def _calibration(row: Row) -> None:
    find_curve(calibration_of(row).curve)


def _run(row: Row) -> None:
    str(run_of(row).ended_by)
    if row["state"] not in ("asked", "open", "closed"):
        raise ValueError("its state is none")


def _value(row: Row) -> None:
    if row["value"] is not None:
        unit(measured_of(row).unit)


def _finding(row: Row) -> None:
    unit(finding_of(row).measured.unit)
    if row["value"] is None:
        raise ValueError("its value is missing")


CHECKS: Mapping[str, Callable[[Row], object]] = {
    "lesson": lambda row: date.fromisoformat(row["held_on"]),
    "group": _group, "kit": _kit, "reference_point": point_of, "calibration": _calibration, "run": _run, "finding": _finding,
    "condition_value": _value, "run_condition": _value, "moment": lambda row: float(row["t"]), "taken_point": lambda row: (taken_point_of(row), float(row["t_to"] - row["t_from"])),
}  # fmt: skip


def usable(table: str, rows: Sequence[Row], ids: Callable[[str], set[int]]) -> tuple[list[Row], dict[int, str]]:
    """The rows that can be used, and for each of the others why it cannot. ids: of the sound rows of another table."""
    check = CHECKS.get(table)
    known = {each: ids(each) for each in REFERENCES.get(table, ()) if each != "plan"} if rows else {}
    good: list[Row] = []
    bad: dict[int, str] = {}
    for row in rows:
        missing = next((each for each, ids in known.items() if row[each] not in ids), None)
        if missing is not None:
            bad[row["id"]] = f"the {missing} that it belongs to is not there"
            continue
        if check is not None:
            try:
                check(row)
            except Exception as fault:  # whatever a damaged cell makes of it
                bad[row["id"]] = f"it cannot be read ({type(fault).__name__}: {fault})"
                continue
        good.append(row)
    return good, bad
