"""The class dataset from a table of findings, without a bench book: what `common-bench pool --table` does."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import msgspec

from common_bench.exchange.columns import STATED, cells_from, number_in
from common_bench.exchange.tables import without_nan
from common_bench.model.class_line import ClassLine, ClassResult, GroupPlace
from common_bench.model.measured import Measured, written
from common_bench.model.plan import Plan
from common_bench.model.plan_file import plan_from_file, shipped_names, shipped_plan
from common_bench.model.run import PoolRow
from common_bench.model.trouble import FileTrouble
from common_bench.pool.class_line import class_graph_of, class_result
from common_bench.pool.limits import limit_words
from common_bench.pool.places import stands_in

CLASS, GROUP, RUN, ASIDE = "class", "group", "run", "set aside because"


def pooled_table(path: Path, plan: Path) -> dict[str, ClassResult]:
    """Each class with its result, by its name; without a column `class` one by no name. A column is a condition where the plan
    has one of its name, and a finding otherwise; one that is not stated is left out. Raises FileTrouble, PlanTrouble and
    PoolTrouble."""
    of_plan = shipped_plan(plan.name) if not plan.exists() and plan.name in shipped_names() else plan_from_file(plan)
    names, units, mark, cells = cells_from(path)
    lowered = [name.lower() for name in names]
    if GROUP not in lowered:
        raise FileTrouble("table-without-column", where=str(path), name=GROUP, known=", ".join(names))
    _refuse_missing(path, of_plan, names)
    at = {name: lowered.index(name) for name in (CLASS, GROUP, RUN, ASIDE) if name in lowered}
    classes: dict[str, list[PoolRow]] = {}
    for count, (number, row) in enumerate(cells):
        row = [*row, *[""] * (len(names) - len(row))]
        name = row[at[CLASS]].strip() if CLASS in at else ""
        rows = classes.setdefault(name, [])
        alias = row[at[GROUP]].strip()
        groups = list(dict.fromkeys([*(each.alias for each in rows), alias]))
        values = {
            names[k]: _measured(k, names, units, row, f"{path}, line {number}", mark, of_plan)
            for k in range(len(names))
            if k not in at.values() and names[k] and not _states(names[k], names)
        }
        known = {key: each for key, each in values.items() if each is not None}
        units_of = {each.name: each.unit for each in of_plan.stated}
        conditions = {key: each.to(units_of[key]) for key, each in known.items() if key in units_of}
        rows.append(
            PoolRow(
                count, groups.index(alias), alias, sum(each.alias == alias for each in rows) + 1, conditions,
                {key: each for key, each in known.items() if key not in conditions},
                row[at[ASIDE]].strip() if ASIDE in at else "",
            )
        )  # fmt: skip
    return {name: class_result(of_plan, rows) for name, rows in classes.items()}


def _refuse_missing(path: Path, plan: Plan, names: list[str]) -> None:
    """What the class graph needs must be there."""
    graph = class_graph_of(plan)
    if graph is None:
        return
    for name in [*(each.name for each in plan.stated), *plan.findings]:
        if name not in names and stands_in(name, graph):
            raise FileTrouble("table-without-column", where=str(path), name=name, known=", ".join(names))


def _states(name: str, names: list[str]) -> bool:
    return name.startswith(STATED) and name.removeprefix(STATED) in names


def _measured(
    k: int, names: list[str], units: list[str], row: list[str], where: str, mark: str, plan: Plan
) -> Measured | None:
    """A cell with its uncertainty; None where it holds nothing. An uncertainty that is not stated is not known, and that of a
    condition is taken for none."""
    value = number_in(row[k], names[k], where, mark)
    if math.isnan(value):
        return None
    stated = names.index(STATED + names[k]) if STATED + names[k] in names else -1
    if stated < 0:
        u = 0.0 if names[k] in {each.name for each in plan.stated} else math.nan
        return Measured(value, u, units[k], 0.0 if math.isnan(u) else math.inf)
    u = number_in(row[stated], names[stated], where, mark)
    if u < 0:
        raise FileTrouble("table-u-below-zero", where=where, name=names[stated])
    u = Measured(u, 0.0, units[stated] or units[k]).to(units[k]).value if units[stated] != units[k] else u
    return Measured(value, u, units[k], 0.0 if math.isnan(u) else math.inf)


def pooled_json(result: ClassResult, name: str = "") -> dict[str, Any]:
    """The object that `pool --json` prints for one class; what is not known is null."""
    line, level, y_unit = result.line, result.level, result.points[0].y.unit if result.points else ""
    told: dict[str, Any] = {"class": name} if name else {}
    told |= {
        "finding": None if result.finding is None else {
            "name": result.finding_name, **_number(result.finding), "made_of": msgspec.to_builtins(result.made_of),
        },
        "line": None if line is None else {
            "slope": line.slope, "u_slope": line.covariance[1][1] ** 0.5, "intercept": line.intercept,
            "u_intercept": line.covariance[0][0] ** 0.5, "bend": line.bend, "covariance": line.covariance, "dof": line.u_dof,
            "excess": line.excess, "robust_slope": line.robust, "groups": line.groups, "runs": line.runs, **_bent(line),
        },
        "level": None if level is None else {"mean": _number(level.mean), "scatter": _number(level.scatter)},
        "within": {"value": result.within, "unit": y_unit},
        "between": {"value": result.between, "unit": y_unit},
        "limits": None if result.limits is None else msgspec.structs.asdict(result.limits),
        "seen_from": None if result.seen_from is None else {"value": result.seen_from.value, "unit": result.seen_from.unit},
        "agreement": result.agreement,
        "e_n": result.e_n,
        "groups": [_group(result, group) for group in dict.fromkeys(place.group for place in result.places)],
        "words": " ".join(_sentences(result)),
    }  # fmt: skip
    found: dict[str, Any] = without_nan(told)
    return found


def _bent(line: ClassLine) -> dict[str, Any]:
    """What a power or an exponential is called by; its slope and intercept are those of the logarithms."""
    if not line.logs[1]:
        return {}
    factor, name = math.exp(line.intercept), "exponent" if line.logs[0] else "rate"
    u_factor, u = factor * line.covariance[0][0] ** 0.5, line.covariance[1][1] ** 0.5
    return {
        "form": "power" if line.logs[0] else "exponential", "factor": factor, "u_factor": u_factor, name: line.slope,
        f"u_{name}": u,
    }  # fmt: skip


def _number(value: Measured | None) -> dict[str, Any]:
    return {} if value is None else {"value": value.value, "u": value.u, "unit": value.unit, "dof": value.dof}


def _group(result: ClassResult, group: int) -> dict[str, Any]:
    """A group by the place of its that lies farthest out."""
    own = [place for place in result.places if place.group == group]
    worst = max(own, key=lambda place: abs(place.away) if math.isfinite(place.away) else -1.0)
    off = worst.from_line
    return {
        "group": worst.alias, "from_line": None if off is None else off.value, "u_from_line": None if off is None else off.u,
        "away": worst.away, "stands_out": any(place.stands_out for place in own),
        "cause": next((place.cause for place in own if place.cause), None), "set_aside": worst.aside or None,
        "without": _number(worst.without) or None, "words": worst.words or None,
    }  # fmt: skip


def _sentences(result: ClassResult) -> list[str]:
    said = [place.words for place in _one_each(result)]
    limits = [limit_words(result.limits, result.x_label, result.finding)] if result.limits and result.finding else []
    return [*said, *result.words, *limits, *([result.why_no_line] if result.why_no_line else [])]


def _one_each(result: ClassResult) -> list[GroupPlace]:
    """Of several places of one group those that say something, the first alone."""
    found: dict[int, GroupPlace] = {}
    for place in result.places:
        if place.words:
            found.setdefault(place.group, place)
    return list(found.values())


def pool_lines(result: ClassResult) -> list[str]:
    """The class result for a terminal."""
    lines = _sentences(result)
    if result.finding is not None:
        found = result.finding
        lines.append(f"{result.finding_name} = {written(found.value, found.u, found.unit)}")
    elif not lines:
        lines.append("The pool is empty: send findings to it in stage 5, Work up.")
    return lines
