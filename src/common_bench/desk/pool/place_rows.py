"""The rows of the pool's table: each group's place with its runs, and how far it lies from the class."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from common_bench.desk.look.pieces import Cell
from common_bench.model.class_line import GroupPlace
from common_bench.model.measured import NO_VALUE, Measured, written
from common_bench.model.run import PoolRow


def rows_by_group(rows: Sequence[PoolRow]) -> dict[int, list[PoolRow]]:
    found: dict[int, list[PoolRow]] = {}
    for row in rows:
        found.setdefault(row.group, []).append(row)
    return found


def row_of_place(
    place: GroupPlace, rows: Sequence[PoolRow], finding: str, name_of: Callable[[str, int], str]
) -> list[Cell]:
    """rows: of the group; finding: whose mean is told; name_of: how a group is called, where names may be hidden."""
    mean, u = _mean([row.findings[finding] for row in rows if finding in row.findings])
    away = f"{place.away:+z.1f}".replace("-", "−") if place.away == place.away else NO_VALUE
    state: Cell = (
        ("set aside", "amber") if place.aside else ("stands out", "red") if place.stands_out else ("in", "good")
    )
    return [
        name_of(place.alias, place.group), str(place.runs), written(place.x.value, place.x.u), written(mean, u),
        written(place.y.value, place.y.u), (away, "red" if place.stands_out else ""), state,
    ]  # fmt: skip


def _mean(own: Sequence[Measured]) -> tuple[float, float]:
    """Of a group's runs, and its standard uncertainty: as stated, or as they scatter where that is more."""
    if not own:
        return float("nan"), 0.0
    values, stated = np.array([m.value for m in own]), float(np.sqrt(np.sum(np.square([m.u for m in own])))) / len(own)
    scatter = float(np.std(values, ddof=1)) / len(own) ** 0.5 if len(own) > 1 else 0.0
    return float(values.mean()), max(stated, scatter)
