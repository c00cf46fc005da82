"""Lines that fit a formula: over a span to one fit, or to one a time an event happens. What the line rests on in; fits out."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from common_bench.model.block import Events, Floats, Ints, Series, Source, joined
from common_bench.model.trouble import FindingTrouble
from common_bench.model.units import conversion, counts_from_own_zero, degree_of
from common_bench.workings.crossings import after, part_of
from common_bench.workings.fit_problem import Formulated
from common_bench.workings.fit_units import constant
from common_bench.workings.fitting import FoundFit, fitted
from common_bench.workings.reading import Node
from common_bench.workings.shapes import TIME, Kind
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import FitsAt, Together, Value


class LineFit:
    """A checked line `y fitted by formula`, taken apart: what must be worked out before it can be fitted."""

    def __init__(self, name: str, kind: Kind, shape_of: Callable[[Node], Kind]) -> None:
        """shape_of: the kind of a part without parameters."""
        assert kind.made is not None
        self.name, self.node = name, kind.made
        y, formula, *clauses = self.node.operands
        self.free, self.unit = dict(kind.parameters), kind.unit
        self.formula = formula
        self.held = {each.word: each.operands[0] for each in clauses if each.form == "held"}
        self.bounds = {each.word: self._ends(each, shape_of) for each in clauses if each.form == "bound"}
        self.each = next((each for each in clauses if each.form == "each"), None)
        self.over = next((each.operands[0] for each in clauses if each.form == "over"), None)
        self.y = y
        self.leaves = list(self._leaves(formula, shape_of))

    def _ends(self, clause: Node, shape_of: Callable[[Node], Kind]) -> tuple[float, float]:
        """Smallest and largest value of a parameter, in its unit."""
        kinds = [shape_of(each) for each in clause.operands]
        low, high = (
            each.value * factor + offset
            for each in kinds
            if each.value is not None
            for factor, offset in (conversion(each.unit, self.free[clause.word]),)
        )
        return low, high

    def _leaves(self, node: Node, shape_of: Callable[[Node], Kind]) -> list[Node]:
        """The largest parts of the formula without parameters or time that are quantities or numbers of other lines; of a power what it is
        taken of, so that a polynomial's powers can be had to more digits than a reading has."""
        if node.form == "name" and (node.word in self.free or node.word in self.held or node.word == TIME):
            return []
        if not self._open(node) and (node.form == "name" or shape_of(node).shape == "series"):
            base = node.operands[0] if node.form == "power" and constant(node.operands[1]) is not None else None
            plain = (
                base is not None and shape_of(base).shape == "series" and not counts_from_own_zero(shape_of(base).unit)
            )
            return self._leaves(base, shape_of) if base is not None and plain else [node]
        return [leaf for each in node.operands for leaf in self._leaves(each, shape_of)]

    def _open(self, node: Node) -> bool:
        """Whether a part holds a parameter or the time, which counts from the beginning of the fit."""
        own = node.form == "name" and (node.word in self.free or node.word in self.held or node.word == TIME)
        return own or any(self._open(each) for each in node.operands)

    @property
    def needed(self) -> list[Node]:
        """What must be worked out at each reading, or once."""
        return [self.y, *self.leaves, *([self.over] if self.over is not None else [])]

    def fit(
        self, y: Series, leaves: list[Value], held: Mapping[str, NumberOf], began: float, start: Mapping[str, float] | None = None,
        *, in_turn: bool = True, clock_u: float = 0.0,
    ) -> FoundFit:  # fmt: skip
        """Of (n,) readings; leaves: in the order of `self.leaves`; in_turn, clock_u: as of `fitted`. Raises FindingTrouble where it
        does not fit."""
        factor = degree_of(y.unit) if counts_from_own_zero(y.unit) else conversion(y.unit, self.unit)[0]
        offset = 0.0 if counts_from_own_zero(y.unit) else conversion(y.unit, self.unit)[1]
        parts = {source: share * factor for source, share in y.parts.items()}
        shown = Series(y.t, y.values * factor + offset, self.unit, parts)
        what = Formulated(self.formula, self.free, dict(held), self.unit, self.name, self.bounds)
        given = {id(node): value for node, value in zip(self.leaves, leaves, strict=True)}
        return fitted(what, shown, given, began, start, in_turn=in_turn, clock_u=clock_u)


def chosen_rows(series: Series, rows: Ints) -> Series:
    """A quantity at these of its readings."""
    guess = None if series.guess is None else series.guess[rows]
    parts = {source: share[rows] for source, share in series.parts.items()}
    return Series(series.t[rows], series.values[rows], series.unit, parts, guess)


def fit_over(
    line: LineFit, span: tuple[float, float], value_of: Callable[[Node], Value], number_of: Callable[[Node], NumberOf],
    clock_u: float = 0.0,
) -> FoundFit:  # fmt: skip
    """One fit over a span. value_of: what a part gives over the whole run; clock_u: as of `fitted`. Raises FindingTrouble."""
    values = [value_of(each) for each in line.needed]
    y = values[0]
    assert isinstance(y, Series)
    keep = (y.t >= span[0]) & (y.t <= span[1]) & np.isfinite(y.values)
    places: list[Ints | None] = [None]
    for each in values[1:]:
        if not isinstance(each, Series):
            places.append(None)
            continue
        at = np.minimum(np.searchsorted(each.t, y.t), max(0, len(each.t) - 1))
        places.append(at)
        if not len(each.t):
            raise FindingTrouble("fit-with-too-few", needed=len(line.free) + 1, name=line.name)
        keep &= (each.t[at] == y.t) & np.isfinite(each.values[at])
    if line.over is not None and places[-1] is not None:
        condition = values[-1]
        assert isinstance(condition, Series)
        keep &= condition.values[places[-1]] == 1.0
    rows = np.flatnonzero(keep)
    leaves = [
        chosen_rows(each, at[rows]) if isinstance(each, Series) and at is not None else each
        for each, at in zip(values[1 : 1 + len(line.leaves)], places[1 : 1 + len(line.leaves)], strict=True)
    ]
    held = {name: number_of(node) for name, node in line.held.items()}
    began = span[0] if np.isfinite(span[0]) and span[0] > -1e8 else (float(y.t[0]) if len(y) else 0.0)
    return line.fit(chosen_rows(y, rows), leaves, held, began, clock_u=clock_u)


class FitEach:
    """A fit from each event on for so long, told once that time has been heard; unknown where a gap lies in it."""

    def __init__(self, line: LineFit, seconds: float, held: Mapping[str, NumberOf]) -> None:
        self._line, self._seconds, self._held = line, seconds, held
        self._together = Together(len(line.needed))
        self._rows: list[Series | None] = [None] * len(line.needed)
        self._events: Events | None = None
        self._start: dict[str, float] | None = None

    def push(self, values: list[Value], events: Events) -> FitsAt:
        level = self._together.push(values)
        for at, each in enumerate(level):
            if isinstance(each, Series):
                before = self._rows[at]
                self._rows[at] = each if before is None else joined([before, each])
        self._events = after(self._events, events)
        y = self._rows[0]
        assert y is not None
        heard = float(y.t[-1]) if len(y) else -np.inf
        ready = int(np.searchsorted(self._events.t + self._seconds, heard))
        told, self._events = part_of(self._events, 0, ready), part_of(self._events, ready)
        found = self._told(told, level)
        oldest = float(self._events.t[0]) if len(self._events) else heard - self._seconds
        cut = int(np.searchsorted(y.t, oldest - self._seconds))
        self._rows = [each.part(cut, len(each)) if each is not None else None for each in self._rows]
        return found

    def _told(self, events: Events, level: list[Value]) -> FitsAt:
        line = self._line
        values = {name: np.full(len(events), np.nan) for name in line.free}
        parts: dict[str, dict[Source, Floats]] = {name: {} for name in line.free}
        for at, began in enumerate(events.t.tolist()):
            fit = self._one(began, level)
            if fit is None:
                continue
            self._start = fit.values
            for k, name in enumerate(line.free):
                values[name][at] = fit.values[name]
                for source, moves in fit.parts.items():
                    parts[name].setdefault(source, np.zeros(len(events)))[at] = moves[k]
        return FitsAt(events.t, events.t + self._seconds, values, parts, dict(line.free))

    def _one(self, began: float, level: list[Value]) -> FoundFit | None:
        y = self._rows[0]
        assert y is not None
        low, high = (int(np.searchsorted(y.t, each)) for each in (began, began + self._seconds))
        if y.rows is not None and y.rows.gap_before[low + 1 : high].any():
            return None
        series = [each.part(low, high) if each is not None else None for each in self._rows]
        keep = np.all([np.isfinite(each.values) for each in series if each is not None], axis=0)
        if self._line.over is not None and series[-1] is not None:
            keep &= series[-1].values == 1.0
        rows = np.flatnonzero(keep)
        chosen = [
            chosen_rows(each, rows) if each is not None else given for each, given in zip(series, level, strict=True)
        ]
        count = len(self._line.leaves)
        first = chosen[0]
        assert isinstance(first, Series)
        clock_u = 0.0 if y.rows is None else float(y.rows.clock_u[low:high].max(initial=0.0))
        try:
            return self._line.fit(first, list(chosen[1 : 1 + count]), self._held, began, self._start, clock_u=clock_u)
        except FindingTrouble:
            return None
