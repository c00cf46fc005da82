"""A fit on a table, without a lesson: what `common-bench fit` does."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from common_bench.exchange.columns import Columns, columns_from
from common_bench.lesson.table_work import callable_columns, checked_on, quantity_of
from common_bench.model.block import Series
from common_bench.model.measured import written
from common_bench.model.trouble import FileTrouble
from common_bench.model.units import conversion, same_kind
from common_bench.workings.arithmetic import elementwise
from common_bench.workings.evaluate import line_fit
from common_bench.workings.fits_together import fitted_together
from common_bench.workings.fitting import FoundFit
from common_bench.workings.line_fits import chosen_rows
from common_bench.workings.reading import Node
from common_bench.workings.shapes import TIME
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value
from common_bench.workup.findings import note_words

NAME = "the_fit"
BARE = re.compile(r"[-−]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?(?:\s*(?:±|\+-)\s*\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?)?")


def fitted_table(
    path: Path, text: str, *, x: str = "", held: Sequence[str] = (), start: Mapping[str, float] | None = None
) -> FoundFit:
    """`Y = FORMULA` of a table's columns; x: the column that `time` stands for, the first where none is named; held: as `c=0 V`; start: of the free
    parameters, found where none is given. Raises FileTrouble, WorkingTrouble and FindingTrouble."""
    table = columns_from(path, timed=False)
    y, sign, formula = text.partition("=")
    if not sign or not formula.strip():
        raise FileTrouble("fit-needs-formula")
    if x and x not in table.columns:
        raise FileTrouble("table-without-column", where=str(path), name=x, known=", ".join(table.columns))
    own = [name for name in callable_columns(table) if name != TIME]
    if y.strip() not in own:
        raise FileTrouble("table-without-column", where=str(path), name=y.strip(), known=", ".join(own))
    text = f"{NAME} = {y.strip()} fitted by {formula.strip()}"
    if held:  # a bare number is in the parameter's own unit
        free = dict(checked_on(table, own, [text]).kinds[NAME].parameters)
        pairs = [(name.strip(), value.strip()) for name, _, value in (each.partition("=") for each in held)]
        told = [
            (name, f"{value} {free.get(name, '')}".strip() if BARE.fullmatch(value) else value) for name, value in pairs
        ]
        text += "".join(f", {name} held at {value}" for name, value in told)
    workings = checked_on(table, own, [text])
    line = line_fit(NAME, workings.kinds, workings.channels, workings.raw)
    t = _x(table, x or next(iter(table.columns)), path, asked=TIME in formula)
    series = {name: quantity_of(table, name, t) for name in own}
    values = [_value(node, series) for node in line.needed]
    keep = np.isfinite(t) & np.all([np.isfinite(each.values) for each in values if isinstance(each, Series)], axis=0)
    rows = np.flatnonzero(keep)
    first = values[0]
    assert isinstance(first, Series)
    leaves = [chosen_rows(each, rows) if isinstance(each, Series) else each for each in values[1:]]
    given = {name: _value(node, {}) for name, node in line.held.items()}
    held_at = {name: each for name, each in given.items() if isinstance(each, NumberOf)}
    in_turn = any(
        _is_time(table, each, t) for each in _names(line.formula)
    )  # other rows need not follow on one another
    return line.fit(chosen_rows(first, rows), list(leaves), held_at, 0.0, start, in_turn=in_turn)


def fitted_tables(
    paths: Sequence[Path], text: str, shared: Sequence[str], *, x: str = "", held: Sequence[str] = ()
) -> FoundFit:
    """The same formula through several tables at once, each a run, with parameters that are the same in all of them; the others are
    called `A of NAME`, by the file's name. Raises as `fitted_table`."""
    alone = [fitted_table(path, text, x=x, held=held) for path in paths]
    labels = [path.stem for path in paths]
    if len(set(labels)) < len(labels):
        labels = [f"{label} {place}" for place, label in enumerate(labels, 1)]
    return fitted_together(alone, labels, shared)


def _value(node: Node, series: Mapping[str, Series]) -> Value:
    """What a part of the formula without parameters gives at each row, or once."""
    if node.word in series and node.form == "name":
        return series[node.word]
    return elementwise(node, [_value(each, series) for each in node.operands])


def _names(node: Node) -> set[str]:
    """All that a formula names."""
    own = {node.word} if node.form == "name" else set()
    return own.union(*(_names(each) for each in node.operands))


def _is_time(table: Columns, name: str, t: np.ndarray) -> bool:
    """Whether a name stands for when a row was measured."""
    if name == TIME:
        return bool((np.diff(t) >= 0).all())
    column = table.columns.get(name)
    return (
        column is not None
        and column.unit != ""
        and same_kind(column.unit, "s")
        and bool((np.diff(column.values) > 0).all())
    )


def _x(table: Columns, name: str, path: Path, *, asked: bool) -> np.ndarray:
    column = table.columns[name]
    if not asked:
        return table.t
    if column.unit and not same_kind(column.unit, "s"):
        raise FileTrouble("table-without-time", where=str(path), name=name, unit=column.unit)
    return column.values * (conversion(column.unit, "s")[0] if column.unit else 1.0)


def fit_json(fit: FoundFit) -> dict[str, Any]:
    """The object that `fit --json` prints; chi_square is null where no uncertainties are stated."""
    numbers = {name: fit.number(name).measured for name in fit.values}
    return {
        "parameters": {name: {"value": each.value, "u": each.u, "unit": each.unit} for name, each in numbers.items()},
        "covariance": fit.covariance.tolist(),
        "chi_square": fit.chi_square,
        "dof": fit.dof,
        "residual_sd": fit.sd,
        "n": len(fit.t),
        "words": fit_lines(fit),
    }


def fit_lines(fit: FoundFit) -> list[str]:
    """The fit in words: each parameter, how far the readings lie from the curve, what is to be told with it."""
    lines = [f"{name} = {fit.number(name).measured}" for name in fit.values]
    lines.append(f"{len(fit.t)} readings, {written(fit.sd, 0.05 * fit.sd)} from the curve (standard deviation)")
    if np.isfinite(fit.chi_square):
        spread = (2 * fit.dof) ** 0.5
        how = "as far as they say" if abs(fit.chi_square - fit.dof) <= 2 * spread else "farther than they say" if fit.chi_square > fit.dof else "nearer than they say"  # fmt: skip
        lines.append(
            f"chi-square {fit.chi_square:.4g} for {fit.dof} degrees of freedom (expected {fit.dof} ± {spread:.2g}): {how}"
        )
    return [*lines, *map(note_words, fit.notes)]
