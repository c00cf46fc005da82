"""Runs of a shared pool as rows of numbers: each where it stands on the plan's class graph, so that an engine that knows nothing of
plans can bring many of them down to the places of groups."""

from __future__ import annotations

import math
from typing import Any

from common_bench.model.class_line import ClassPoint
from common_bench.model.plan import Plan
from common_bench.model.run import PoolRow
from common_bench.model.shared_pool import SharedPool
from common_bench.model.trouble import PoolTrouble, Trouble
from common_bench.pool.class_line import class_graph_of
from common_bench.pool.many_classes import units_of
from common_bench.pool.places import point_of


def run_rows(plan: Plan, shared: SharedPool) -> list[dict[str, Any]]:
    """Runs that stand on the class graph, in the plan's units."""
    graph = class_graph_of(plan)
    if graph is None:
        raise PoolTrouble("no-class-graph")
    units, found = units_of(plan), []
    for each in shared.runs:
        try:
            findings, conditions = (
                {
                    name: number.measured.to(units[name]) if name in units else number.measured
                    for name, number in told.items()
                }
                for told in (each.findings, each.conditions)
            )
        except Trouble:
            continue
        point = point_of(graph, PoolRow(0, 0, each.group, each.number, conditions, findings, each.aside))
        if point is not None:
            found.append(_row(each.id, each.class_id, each.sent_at, point, each_run=graph.point == "run"))
    return found


def _row(run: str, class_id: str, sent_at: str, point: ClassPoint, *, each_run: bool) -> dict[str, Any]:
    known = {axis: getattr(point, axis).u for axis in "xy"}
    return {
        "run": run, "class_id": class_id, "group": point.alias, "number": point.number, "sent_at": sent_at, "aside": point.aside,
        "place": run if each_run else f"{point.x.value:.9g}", "x": float(point.x.value), "y": float(point.y.value),
        **{f"u_{axis}": float(u) if math.isfinite(u) else None for axis, u in known.items()}, "shared_y": float(point.y.shared),
    }  # fmt: skip
