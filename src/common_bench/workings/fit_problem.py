"""A formula over some readings: what it gives for parameters, how it follows each of them, and how well it fits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from common_bench.model.block import Floats, Ints, Series
from common_bench.model.units import conversion
from common_bench.workings.arithmetic import elementwise, shown_in
from common_bench.workings.compiled import NotCompiled, Worked, as_array, compiled
from common_bench.workings.leaving_off import may_leave_off
from common_bench.workings.peaks import CLOCK_RATE
from common_bench.workings.reading import Node
from common_bench.workings.shapes import TIME
from common_bench.workings.spans import NumberOf
from common_bench.workings.streams import Value

MOVED = 1e-6  # of a parameter's size, by which derivatives are taken where there is no better way
AT_BOUND = 1e-6  # of the way between two bounds, from one of them
MOST_LINES = 6000  # between neighbouring readings, that a curve is looked at between
COMPLEX_STEP = 1e-40  # of a parameter's size


@dataclass(frozen=True)
class Formulated:
    """A formula to be fitted. free: parameters with their units; held: those that are not free; unit: of what is fitted; name: of the line;
    bounds: smallest and largest value of free ones that have any."""

    formula: Node
    free: Mapping[str, str]
    held: Mapping[str, NumberOf]
    unit: str
    name: str
    bounds: Mapping[str, tuple[float, float]] = field(default_factory=dict)


class Problem:
    """The formula over some readings: what it gives for parameters, and how well that fits."""

    def __init__(
        self, what: Formulated, y: Series, leaves: Mapping[int, Value], began: float, clock_u: float = 0.0
    ) -> None:
        """clock_u: relative standard uncertainty of the pace of the clock that told the times."""
        self.what, self.y, self.leaves, self.began = what, y, leaves, began
        self.names = list(what.free)
        self.time = Series(y.t, y.t - began, "s", {CLOCK_RATE: (y.t - began) * clock_u} if clock_u else {})
        self._quick = self._compile()
        self._lines: tuple[Problem, Problem, Problem, float] | None = None

    @property
    def ends(self) -> tuple[Floats, Floats]:
        """(p,) smallest and largest value of each parameter."""
        pairs = [self.what.bounds.get(name, (-np.inf, np.inf)) for name in self.names]
        return np.array([low for low, _ in pairs]), np.array([high for _, high in pairs])

    def holds(self, p: Floats) -> bool:
        """Whether parameters lie within their bounds."""
        low, high = self.ends
        return bool(((p >= low) & (p <= high)).all())

    def at_bounds(self, p: Floats) -> list[str]:
        """Parameters that have run to a bound."""
        found = []
        for name, (low, high) in self.what.bounds.items():
            value = float(p[self.names.index(name)])
            if min(abs(value - low), abs(value - high)) <= AT_BOUND * (high - low):
                found.append(name)
        return found

    def _compile(self) -> tuple[Worked, float, float] | None:
        """A quick function for parameters, leaves and the time, and what brings it to the unit of what is fitted."""
        what, places = self.what, list(self.leaves)

        def inputs(node: Node) -> tuple[int, str] | None:
            if id(node) in self.leaves:
                leaf = self.leaves[id(node)]
                assert isinstance(leaf, Series | NumberOf)
                return len(self.names) + places.index(id(node)), leaf.unit
            if node.form != "name":
                return None
            if node.word in self.names:
                return self.names.index(node.word), what.free[node.word]
            if node.word in what.held:
                return len(self.names) + len(places) + list(what.held).index(node.word), what.held[node.word].unit
            return (len(self.names) + len(places) + len(what.held), "s") if node.word == TIME else None

        try:
            made, unit = compiled(what.formula, inputs)
        except NotCompiled:
            return None
        return made, *conversion(unit, what.unit)

    def of(self, p: Sequence[float], leaves: Mapping[int, Value] | None = None) -> Floats:
        """(n,) what the formula gives, in the unit of what is fitted. Raises LeftOff where nobody waits for it any more."""
        may_leave_off()
        own = leaves or self.leaves
        if self._quick is not None:
            made, factor, offset = self._quick
            values = [each.value if isinstance(each, NumberOf) else each.values for each in own.values()]  # type: ignore[union-attr]
            held = [each.value for each in self.what.held.values()]
            with np.errstate(all="ignore"):
                return np.asarray(as_array(made([*p, *values, *held, self.time.values]), len(self.y)) * factor + offset)
        given = {n: NumberOf(float(v), self.what.free[n]) for n, v in zip(self.names, p, strict=True)}

        def value(node: Node) -> Value:
            if id(node) in own:
                return own[id(node)]
            if node.form == "name" and node.word in given:
                return given[node.word]
            if node.form == "name" and node.word in self.what.held:
                return self.what.held[node.word]
            if node.form == "name" and node.word == TIME:
                return self.time
            return elementwise(node, [value(each) for each in node.operands], self.what.name)

        with np.errstate(all="ignore"):
            found = shown_in(value(self.what.formula), self.what.unit)
        if isinstance(found, Series):
            return np.asarray(found.values, float)
        assert isinstance(found, NumberOf)
        return np.full(len(self.y), found.value)

    def gradient(self, p: Floats, size: Floats) -> Floats:
        """(p, n) how what the formula gives follows each parameter: by a step into the complex plane, which takes no
        difference of nearly equal numbers (Squire, Trapp, SIAM Rev. 40, 110 (1998)), or by differences."""
        exact = self._by_complex_step(p)
        if exact is not None:
            return exact
        rows = []
        for at in range(len(p)):
            step = MOVED * size[at]
            up, down = p.copy(), p.copy()
            up[at] += step
            down[at] -= step
            rows.append((self.of(up.tolist()) - self.of(down.tolist())) / (2 * step))
        return np.array(rows)

    def _by_complex_step(self, p: Floats) -> Floats | None:
        """(p, n); None where the formula has no quick function, or it takes no complex numbers."""
        if self._quick is None:
            return None
        made, factor, _ = self._quick
        others = [each.value if isinstance(each, NumberOf) else each.values for each in self.leaves.values()]  # type: ignore[union-attr]
        others += [each.value for each in self.what.held.values()]
        rows = []
        for at in range(len(p)):
            step = COMPLEX_STEP * (abs(p[at]) or 1.0)
            moved: list[complex] = [*p.tolist()]
            moved[at] += 1j * step
            try:
                with np.errstate(all="ignore"):
                    found: Any = as_array(made([*moved, *others, self.time.values]), len(self.y), complex)
                    rows.append(np.asarray(found.imag / step * factor, float))
            except TypeError:
                return None
        gradient: Floats = np.array(rows)
        return gradient if bool(np.isfinite(gradient).all()) else None

    def straight_columns(self) -> tuple[Any, Any] | None:
        """(n, p) what each parameter counts for where the formula is straight in all of them, and (n,) what it gives without them, in
        numbers of more digits; None where it has no quick function."""
        if self._quick is None:
            return None
        made, factor, offset = self._quick
        others = [each.value if isinstance(each, NumberOf) else each.values for each in self.leaves.values()]  # type: ignore[union-attr]
        others += [each.value for each in self.what.held.values()]
        long = [np.asarray(each, np.longdouble) for each in (*others, self.time.values)]

        def of(p: Sequence[float]) -> Any:
            with np.errstate(all="ignore"):
                return as_array(made([*p, *long]), len(self.y), np.longdouble) * factor + offset

        none = of([0.0] * len(self.names))
        return np.array([of(each) - none for each in np.eye(len(self.names)).tolist()]).T, none

    def steepness(self, p: Floats) -> list[tuple[Series, Floats]]:
        """How what the formula gives follows each quantity in it, the time among them."""
        found = [(self.time, self._over_time(p))] if self.time.parts and self.asks_time else []
        for place, leaf in self.leaves.items():
            if isinstance(leaf, Series) and leaf.parts:
                size = float(np.ptp(leaf.values)) or 1.0
                moved = [Series(leaf.t, leaf.values + sign * MOVED * size, leaf.unit) for sign in (1.0, -1.0)]
                up, down = (self.of(p.tolist(), {**self.leaves, place: each}) for each in moved)
                found.append((leaf, (up - down) / (2 * MOVED * size)))
        return found

    @property
    def asks_time(self) -> bool:
        def within(node: Node) -> bool:
            return (node.form == "name" and node.word == TIME) or any(within(each) for each in node.operands)

        return within(self.what.formula)

    def _over_time(self, p: Floats) -> Floats:
        """(n,) how what the formula gives follows the time, in its unit for each s."""
        size = float(np.ptp(self.time.values)) or 1.0
        up, down = copy(self), copy(self)
        for each, sign in ((up, 1.0), (down, -1.0)):
            each.time = Series(self.y.t, self.time.values + sign * MOVED * size, "s")
        return (up.of(p.tolist()) - down.of(p.tolist())) / (2 * MOVED * size)

    def held_steepness(self, p: Floats) -> list[tuple[NumberOf, Floats]]:
        """How what the formula gives follows each held parameter that is not known exactly."""
        found = []
        for name, held in self.what.held.items():
            u = sum(share * share for share in held.parts.values()) ** 0.5
            if not 0 < u < np.inf:
                continue
            moved = [replace(held, value=held.value + sign * u) for sign in (1.0, -1.0)]
            up, down = (
                Problem(replace(self.what, held={**self.what.held, name: each}), self.y, self.leaves, self.began).of(
                    p.tolist()
                )
                for each in moved
            )
            found.append((held, (up - down) / (2 * u)))
        return found

    def hidden(self, p: Sequence[float]) -> float:
        """Squares by which the curve leaves the straight lines between neighbouring readings: a pace that is too fast for
        them to see fits as well as the true one, and only this tells of it. Of many readings by some of these lines."""
        if self._lines is None:
            self._lines = self._between()
        low, middle, high, share = self._lines
        found = float(((middle.of(p) - (low.of(p) + high.of(p)) / 2) ** 2).sum()) * share
        return found if np.isfinite(found) else 0.0

    def _between(self) -> tuple[Problem, Problem, Problem, float]:
        """The formula at readings, at the next ones along what the quantity is held against, and half-way between them; how many such
        lines there are for one of these."""
        along = next((leaf.values for leaf in self.leaves.values() if isinstance(leaf, Series)), self.y.t)
        order = np.argsort(along, kind="stable")
        chosen = spread_out(len(order) - 1, MOST_LINES)
        one, other = order[chosen], order[chosen + 1]

        def halved(series: Series) -> Series:
            t, values = ((each[one] + each[other]) / 2 for each in (series.t, series.values))
            return Series(t, values, series.unit)

        leaves = {place: halved(leaf) if isinstance(leaf, Series) else leaf for place, leaf in self.leaves.items()}
        middle = Problem(self.what, halved(self.y), leaves, self.began)
        return self.at_rows(one), middle, self.at_rows(other), (len(order) - 1) / max(1, len(chosen))

    def thinned(self, most: int) -> Problem:
        """Some of its readings, evenly."""
        return self.at_rows(np.linspace(0, len(self.y) - 1, most).astype(int)) if len(self.y) > most else self

    def at_rows(self, rows: Ints) -> Problem:
        """Some of its readings, without what they are uncertain by."""
        leaves = {
            place: Series(leaf.t[rows], leaf.values[rows], leaf.unit) if isinstance(leaf, Series) else leaf
            for place, leaf in self.leaves.items()
        }
        y = Series(self.y.t[rows], self.y.values[rows], self.y.unit)
        return Problem(self.what, y, leaves, self.began)


def spread_out(count: int, most: int) -> Ints:
    """Of so many readings `most`, one somewhere in each of as many equal parts: at even distances a swing that is faster than they come
    would look like a slow one. All where there are no more."""
    if count <= most:
        return np.arange(count)
    places = np.arange(most) + np.random.default_rng(13).random(most)
    return np.minimum((places * (count / most)).astype(np.int64), count - 1)


def sizes_of(problem: Problem, p: Floats) -> Floats:
    scale = float(np.ptp(problem.y.values)) or 1.0
    return np.where(p != 0, np.abs(p), scale)


def left_by(problem: Problem, weights: Floats, p: Floats) -> float:
    """The sum of squares that parameters leave; inf where they give no numbers."""
    with np.errstate(all="ignore"):
        found = float((((problem.of(p.tolist()) - problem.y.values) * weights) ** 2).sum())
    return found if np.isfinite(found) else np.inf
