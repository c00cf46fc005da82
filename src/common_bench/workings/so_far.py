"""Forms that look back to the beginning: totals, changes, extremes so far. Pieces of a quantity in, as long pieces out."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np
from msgspec.structs import replace

from common_bench.model.block import NO_SPREADS, Block, Bools, Floats, Ints, Series, Source
from common_bench.model.units import conversion, counts_from_own_zero, interval_of, product
from common_bench.workings.averaging import averaged
from common_bench.workings.course import Course
from common_bench.workings.loops import independent_in_trapezoids, trapezoids
from common_bench.workings.peaks import moved_by_clock
from common_bench.workings.spreads import at_ends, in_long_sums, roots_of


class Total:
    """The integral since the beginning, by trapezoids; what a gap holds is not known, nor is the total behind it.

    An independent error of a reading enters with half the time to each neighbour, that of the last reading with half the
    time since the one before.
    """

    def __init__(self, name: str, course: Course) -> None:
        self._name, self._course = name, course
        self._last: tuple[float, float, dict[Source, float], float] | None = None  # t, value, shares, time before it
        self._total, self._shares = 0.0, dict[Source, float]()
        self._squares = dict[Source, float]()
        self._broken = False

    def push(self, series: Series, _: Block) -> Series:
        unit = product(series.unit, "s")
        values = np.full(len(series), np.nan)
        parts = {source: np.zeros(len(series)) for source in self._made(series)}
        known = np.flatnonzero(np.isfinite(series.values))
        gaps = self._course.gaps(series)
        if self._last is None and len(known):
            gaps = gaps.copy()
            gaps[: known[0] + 1] = False  # before the first value nothing is missing
        passed = np.cumsum(gaps) > 0
        use = known[~passed[known]] if not self._broken else known[:0]
        if len(use):
            self._add(series, use, values, parts)
        self._broken |= bool(passed.any()) and self._last is not None
        made = replace(series, values=values, unit=unit, parts=parts, edges=False, spreads=NO_SPREADS)
        return moved_by_clock(made, 1)

    def _made(self, series: Series) -> list[Source]:
        return [
            made
            for source in [*roots_of(series), *(each for each in series.parts if each.common)]
            for made in ([source] if source.common else [source, self._before(source)])
        ]  # fmt: skip

    def _shares_of(self, series: Series) -> Iterator[tuple[Source, Floats]]:
        """Each source with its shares; what several values have in common, as it enters a sum of all of them."""
        yield from ((source, share) for source, share in series.parts.items() if source.common)
        for source, spread in roots_of(series).items():
            yield source, in_long_sums(series, source, spread) if spread else series.parts[source]

    def _before(self, source: Source) -> Source:
        return averaged(source, self._name)

    def _add(self, series: Series, known: Ints, values: Floats, parts: dict[Source, Floats]) -> None:
        use = slice(None) if len(known) == len(series) else known
        t, v = series.t[use], series.values[use]
        first = self._last is None
        t0, v0, shares0, before0 = self._last or (float(t[0]), float(v[0]), {}, 0.0)
        step = np.diff(t, prepend=t0)
        values[use] = trapezoids(t, v, t0, v0, self._total)
        self._total = float(values[use][-1])
        lasting: dict[Source, float] = {}
        spreads = {source: spread for source, spread in roots_of(series).items() if spread}
        for source, share in self._shares_of(series):
            own = share[use]
            before = shares0.get(source, float(own[0]) if first else 0.0)
            lasting[source] = float(own[-1])
            if source.common:
                found = trapezoids(t, own, t0, before, self._shares.get(source, 0.0))
                parts[source][use], self._shares[source] = found, float(found[-1])
                continue
            squares = self._squares.get(source, 0.0)
            of_last, of_others, self._squares[source] = independent_in_trapezoids(step, own, before0, before, squares)
            if source in spreads:
                ends = at_ends(series, source, spreads[source])[use] * step * step
                of_others = np.sqrt(np.maximum(of_others * of_others + ends, 0.0))
            parts[source][use], parts[self._before(source)][use] = of_last, of_others
        self._last = float(t[-1]), float(v[-1]), lasting, float(step[-1])


class ChangeIn:
    """The difference to the first value."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._first: tuple[float, dict[Source, float]] | None = None

    def push(self, series: Series, _: Block) -> Series:
        known = np.flatnonzero(np.isfinite(series.values))
        begins = len(series)
        if self._first is None and len(known):
            begins = int(known[0])
            self._first = float(series.values[begins]), {s: float(share[begins]) for s, share in series.parts.items()}
        own_zero = counts_from_own_zero(series.unit)
        step = conversion(series.unit, "K")[0] if own_zero else 1.0
        unit = interval_of(series.unit)
        if self._first is None:
            return replace(series, values=np.full(len(series), np.nan), unit=unit, parts={}, edges=False)
        value, shares = self._first
        parts: dict[Source, Floats] = {}
        unknown = min(begins + 1, len(series)) if begins < len(series) else 0  # up to the first one, which is exactly 0
        for source in {**series.parts, **dict.fromkeys(shares)}:
            share, first = series.parts.get(source, np.zeros(len(series))), shares.get(source, 0.0)
            if source.common:
                parts[source] = (share - first) * step
                parts[source][:unknown] = 0.0
                continue
            own = share * step
            of_first = np.full(len(series), -first * step)
            own[:unknown] = of_first[:unknown] = 0.0
            parts[source] = own
            parts[source._replace(common=True, which=f"first reading of {self._name}")] = of_first
        return replace(series, values=(series.values - value) * step, unit=unit, parts=parts, edges=False)


class Extreme:
    """The largest or smallest value since the beginning, as read: it lies further out than the quantity itself by what the
    readings scatter."""

    def __init__(self, of: Literal["largest", "smallest"]) -> None:
        self._sign = 1.0 if of == "largest" else -1.0
        self._so_far: tuple[float, dict[Source, float]] = (-np.inf, {})

    def push(self, series: Series, _: Block) -> Series:
        v = np.where(np.isfinite(series.values), self._sign * series.values, -np.inf)
        highest, shares = self._so_far
        risen = np.maximum.accumulate(np.concatenate([[highest], v]))
        new: Bools = risen[1:] > risen[:-1]
        at = np.maximum.accumulate(np.where(new, np.arange(len(v)), -1))
        parts = {
            source: np.where(
                at >= 0, series.parts.get(source, np.zeros(len(v)))[np.maximum(at, 0)], shares.get(source, 0.0)
            )
            if len(v)
            else np.zeros(0)
            for source in {**series.parts, **dict.fromkeys(shares)}
        }
        values = np.where(np.isfinite(risen[1:]), self._sign * risen[1:], np.nan)
        if len(v):
            self._so_far = float(risen[-1]), {source: float(share[-1]) for source, share in parts.items()}
        return replace(series, values=values, parts=parts, edges=False, spreads=NO_SPREADS)
