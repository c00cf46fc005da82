"""Workings on a table of readings, without a lesson: what `common-bench work` does."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from common_bench.exchange.columns import Columns, columns_from
from common_bench.model.block import Block, Events, Floats, Series, Source
from common_bench.model.measured import written
from common_bench.reading.gaps import GapFinder
from common_bench.workings.evaluate import Evaluator, Workings, check
from common_bench.workings.over import over_span
from common_bench.workings.reading import WORDS, renamed_in
from common_bench.workings.spans import NumberOf

TIME = "time"  # how the language calls it
Result = Series | Events | NumberOf


def worked_table(path: Path, lines: Sequence[str]) -> dict[str, Result]:
    """What each line gives on the table: a column is called by its name, or as `calibrated "its name"` where that is no word. Raises
    FileTrouble, and WorkingTrouble for the first line that is refused."""
    table = columns_from(path)
    named = {line.partition("=")[0].strip().lower() for line in lines}
    own = [name for name in callable_columns(table) if name.lower() not in named]
    workings = checked_on(table, own, lines)
    quantities = {name: quantity_of(table, name, table.t) for name in table.columns}
    results = Evaluator(workings).push(_block(table), quantities)
    numbers = over_span(workings, results, (float(table.t[0]), float(table.t[-1])))
    asked = [line.name for line in workings.lines[len(workings.lines) - len(lines) :]]
    return {name: numbers[name] if name in numbers else results[name] for name in asked}


def callable_columns(table: Columns) -> list[str]:
    """The columns whose names may stand in a working as they are."""
    return [name for name in table.columns if name.isidentifier() and name not in WORDS]


def checked_on(table: Columns, own: Sequence[str], lines: Sequence[str]) -> Workings:
    """The lines behind columns that are called by their own names; the table's own name for its time column, as `t`, is `time`.
    Raises the first WorkingTrouble."""
    given = {line.partition("=")[0].strip() for line in lines}
    if table.time.isidentifier() and table.time not in (TIME, *WORDS, *own, *given):
        lines = [renamed_in(line, table.time, TIME) for line in lines]
    workings = check(
        [*(f'{name} = calibrated "{name}"' for name in own), *lines],
        {name: each.unit for name, each in table.columns.items()},
    )
    if workings.troubles:
        raise workings.troubles[0]
    return workings


def quantity_of(table: Columns, name: str, t: Floats) -> Series:
    """A column at times t (n,) in s, with the uncertainties that the table states."""
    column = table.columns[name]
    parts = {} if column.u is None else {Source(f"readings of {name}", False): column.u}
    return Series(t, column.values, column.unit, parts)


def _block(table: Columns) -> Block:
    n = len(table.t)
    gaps = GapFinder(float(np.median(np.diff(table.t))) if n > 1 else 1.0, float("nan"), watch_uneven=False)
    return Block(
        table.t, np.full(n, np.nan), table.t, np.arange(n), gaps.before(table.t, held=True),
        {name: each.values for name, each in table.columns.items()}, np.zeros(n),
    )  # fmt: skip


def result_json(result: Result) -> dict[str, Any]:
    """The object that `work --json` prints for one line; u is null where it is not known."""
    if isinstance(result, NumberOf):
        told = result.measured
        return {"unit": told.unit, "value": told.value, "u": told.u, "dof": told.dof}
    if isinstance(result, Events):
        times = Series(result.t, result.t, "s", result.parts)
        return {"unit": "s", "t": result.t.tolist(), "values": result.t.tolist(), "u": times.u.tolist()}
    return {"unit": result.unit, "t": result.t.tolist(), "values": result.values.tolist(), "u": result.u.tolist()}


def result_words(name: str, result: Result) -> str:
    """The line that `work` prints."""
    if isinstance(result, NumberOf):
        return f"{name} = {result.measured}"
    if isinstance(result, Events):
        when = f", the first at {result.t[0]:.6g} s, the last at {result.t[-1]:.6g} s" if len(result) else ""
        return f"{name}: {len(result)} event{'s' if len(result) != 1 else ''}{when}"
    known = np.flatnonzero(np.isfinite(result.values))
    if not len(known):
        return f"{name}: no value is known"
    u = result.u
    ends = [written(float(result.values[at]), float(u[at]), result.unit) for at in known[[0, -1]]]
    return f"{name}: {len(known)} of {len(result)} values, first {ends[0]}, last {ends[1]}"
