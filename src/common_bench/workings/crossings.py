"""Crossings of a level and changes of a signal over time. Blocks in, events out, the same for every way of cutting blocks.

A crossing lies between two readings: its time is interpolated on the straight line between them. Where the
quantity jumps from one reading to the next, as an on/off signal does, nothing is known of where in between; the
middle is told, with the uncertainty of a rectangular distribution (JCGM 100, 4.3.7). A signal that is sent as it changes
needs neither: its line tells the time of the change.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np

from common_bench.model.block import NO_FLOATS, Block, Events, Floats, Ints, Rows, Series, Source
from common_bench.model.uncertainty import RECTANGULAR
from common_bench.workings.peaks import CLOCK_RATE, apart
from common_bench.workings.spreads import next_alike, roots_of

Way = Literal["rises", "falls", "changes"]
CROSSING_TIME = Source("time of each crossing", False)
JUMP = 5.0  # times the change before, beyond which the quantity is taken to jump rather than to run on
AROUND = 9  # readings, up to the one behind a crossing, by which the pace of the quantity is told apart from its noise
ARRIVAL = 0.005  # s: how far the arrival of a line may lie from the change that it tells, where the kit sends no clock


@dataclass(frozen=True)
class Crossed:
    """What is looked for. level: None for any change of value; apart: s in which no other counts; depth: how far the
    quantity must have been on the other side, in its unit."""

    way: Way
    level: float | None
    apart: float = 0.0
    depth: float = 0.0


@dataclass
class _Found:
    t: list[float]
    u: list[float]
    fresh: list[bool]
    rate: list[float]
    told: list[float]
    common: dict[Source, list[float]]


class CrossingFinder:
    """A crossing is told with the reading behind it, so that its value never changes. It is not told across a gap; the
    next one is marked `fresh`, so that nobody measures a distance over it."""

    def __init__(self, crossed: Crossed) -> None:
        self._crossed = crossed
        self._before: tuple[float, float, float] | None = None  # t, value, change up to it
        self._shares: dict[Source, float] = {}
        self._past: tuple[Floats, Floats] = (NO_FLOATS, NO_FLOATS)  # t, v of the last readings
        self._low = self._high = np.nan  # of the quantity since the last crossing
        self._last = -np.inf
        self._fresh = True

    def push(self, series: Series, rows: Rows) -> Events:
        """series: (n,) over readings, of which `rows` tells what is known."""
        found = _Found([], [], [], [], [], {source: [] for source in series.parts if source.common})
        breaks = np.flatnonzero(rows.gap_before).tolist()
        if breaks and breaks[0] == 0:
            self._interrupt()
        borders = [0, *(each for each in breaks if each), len(series)]
        for start, stop in itertools.pairwise(borders):
            if start:
                self._interrupt()
            known = start + np.flatnonzero(np.isfinite(series.values[start:stop]))
            if len(known):
                self._stretch(series, rows, known, found)
        return self._events(found)

    def _events(self, found: _Found) -> Events:
        if not found.t:
            return Events(NO_FLOATS, np.empty(0, bool), {CROSSING_TIME: NO_FLOATS})
        at = np.array(found.t)
        parts = {CROSSING_TIME: np.array(found.u), **{source: np.array(each) for source, each in found.common.items()}}
        if any(found.rate):
            parts[CLOCK_RATE] = np.array(found.rate)
        return Events(at, np.array(found.fresh, bool), parts, np.array(found.told))

    def _interrupt(self) -> None:
        self._before, self._shares, self._past = None, {}, (NO_FLOATS, NO_FLOATS)
        self._low = self._high = np.nan
        self._fresh = True

    def _stretch(self, series: Series, of: Rows, known: Ints, found: _Found) -> None:
        """Readings without a gap among them, in order after those before."""
        rows = known
        t, v = series.t[rows], series.values[rows]
        if self._before is None:
            before = float(t[0]), float(v[0]), 0.0
            self._shares = _shares_at(series.parts, int(rows[0]))
            self._low = self._high = before[1]
        else:
            before = self._before
        v_from = np.concatenate([[before[1]], v[:-1]])
        t_from = np.concatenate([[before[0]], t[:-1]])
        change = v - v_from
        change_from = np.concatenate([[before[2]], change[:-1]])
        lead = len(self._past[0])
        t_all, v_all = np.concatenate([self._past[0], t]), np.concatenate([self._past[1], v])
        since = 0
        for at in self._candidates(v_from, v):
            self._reach(v[since:at])
            since = at
            if not self._armed(float(v_from[at])):
                continue
            row = int(rows[at])
            shares = _shares_at(series.parts, int(rows[at - 1])) if at else self._shares
            when, u, common = self._time(
                series, row, (float(t_from[at]), float(v_from[at]), float(change_from[at])), shares, of.clock_step,
                _slowest(t_all[: lead + at + 1], v_all[: lead + at + 1]),
                has_clock=bool(of.clocked[row]),
            )  # fmt: skip
            if when - self._last < self._crossed.apart:
                continue
            found.t.append(when)
            found.u.append(u)
            found.told.append(float(t[at]))
            found.fresh.append(self._fresh)
            found.rate.append(float(of.clock_u[row]))
            for source, each in found.common.items():
                each.append(common.get(source, 0.0))
            self._last, self._fresh = when, False
            self._low = self._high = float(v[at])
        self._reach(v[since:])
        self._before = float(t[-1]), float(v[-1]), float(change[-1])
        self._shares = _shares_at(series.parts, int(rows[-1]))
        self._past = t_all[-AROUND + 1 :], v_all[-AROUND + 1 :]

    def _reach(self, v: Floats) -> None:
        if len(v):
            self._low = float(np.fmin(self._low, v.min()))
            self._high = float(np.fmax(self._high, v.max()))

    def _candidates(self, v_from: Floats, v: Floats) -> Iterator[int]:
        level, way = self._crossed.level, self._crossed.way
        if level is None:
            return iter(np.flatnonzero(v != v_from).tolist())
        up = (v_from < level) & (v >= level)
        down = (v_from > level) & (v <= level)
        chosen = {"rises": up, "falls": down, "changes": up | down}[way]
        return iter(np.flatnonzero(chosen).tolist())

    def _armed(self, v_from: float) -> bool:
        """Whether the quantity has been far enough on the side from which it comes."""
        level, depth = self._crossed.level, self._crossed.depth
        if level is None or depth <= 0:
            return True
        return self._low <= level - depth if v_from < level else self._high >= level + depth

    def _time(
        self, series: Series, row: int, before: tuple[float, float, float], shares: Mapping[Source, float], step: float,
        slowest: float, *, has_clock: bool,
    ) -> tuple[float, float, dict[Source, float]]:  # fmt: skip
        """When it was crossed in s, its independent standard uncertainty, and what common sources move it by."""
        t2, v2 = float(series.t[row]), float(series.values[row])
        if series.edges:
            return t2, step / RECTANGULAR if has_clock else ARRIVAL, {}
        t1, v1, change_before = before
        level = self._crossed.level
        after = {source: float(share[row]) for source, share in series.parts.items()}
        u = {s: (shares.get(s, 0.0), after.get(s, 0.0)) for s in {**shares, **after}}
        noise = sum(one**2 + other**2 for s, (one, other) in u.items() if not s.common) ** 0.5
        spacing = t2 - t1
        if level is None or abs(v2 - v1) > JUMP * (abs(change_before) + noise):
            return (t1 + t2) / 2, max(spacing / RECTANGULAR, step / RECTANGULAR), {}
        part = (level - v1) / (v2 - v1)
        pace = spacing / (v2 - v1)  # s per unit of the quantity
        own = {s: ((1 - part) * one * pace, part * other * pace) for s, (one, other) in u.items() if not s.common}
        common = {s: -((1 - part) * one + part * other) * pace for s, (one, other) in u.items() if s.common}
        alike = _alike(series, row) if series.spreads else {}
        squares = sum(one**2 + other**2 + 2 * alike.get(s, 0.0) * one * other for s, (one, other) in own.items())
        independent = max(squares, (noise * slowest) ** 2 / 2)
        return t1 + part * spacing, float(np.sqrt(independent + step**2 / 12)), common


def _alike(series: Series, row: int) -> dict[Source, float]:
    """How much a value's error from each source resembles its neighbour's."""
    return {
        each: next_alike(series, source, spread, row)
        for source, spread in roots_of(series).items()
        if spread
        for each in (source, *spread)
    }


def _slowest(t: Floats, v: Floats) -> float:
    """s per unit of the quantity by the straight line through the last readings, (n,) each: where they scatter by more
    than they run on, two of them alone say too little of the pace, and the crossing that is met first too little of
    when it was."""
    t, v = t[-AROUND:] - t[-1], v[-AROUND:]
    if len(t) < AROUND:
        return 0.0
    t = t - t.mean()
    spread = float(t @ t)
    if spread == 0.0:  # all came at one time, as from a kit that sends without end
        return 0.0
    slope = abs(float(t @ (v - v.mean())) / spread)
    return 1 / slope if slope > 0 else 0.0


def _shares_at(parts: Mapping[Source, Floats], row: int) -> dict[Source, float]:
    return {source: float(share[row]) for source, share in parts.items()}


class Pairs:
    """Each event with the next of another kind, as long as no gap lies between the two."""

    def __init__(self) -> None:
        self._open: Events | None = None  # first events that wait for their second
        self._second: Events | None = None
        self._gaps: list[float] = []

    def push(self, first: Events, second: Events, block: Block) -> Series:
        """The time from each first event to the next second one, at the second's time."""
        self._gaps += block.t[block.gap_before].tolist()
        ones, others = after(self._open, first), after(self._second, second)
        at = np.searchsorted(others.t, ones.t, side="right")
        paired = np.flatnonzero(at < len(others))
        keep = [k for k in paired.tolist() if not self._gap_between(float(ones.t[k]), float(others.t[at[k]]))]
        left = len(ones) - len(paired)
        self._open = part_of(ones, len(ones) - left)
        newest = float(ones.t[-1]) if len(ones) else -np.inf
        self._second = part_of(others, int(np.searchsorted(others.t, newest, side="right")))
        oldest = float(self._open.t[0]) if left else newest
        self._gaps = [each for each in self._gaps if each > oldest]
        one, other = np.array(keep, int), at[keep]
        parts: dict[Source, Floats] = {}
        for source in {**ones.parts, **others.parts}:
            a = ones.parts.get(source, np.zeros(len(ones)))[one]
            b = others.parts.get(source, np.zeros(len(others)))[other]
            parts[source] = apart(source, a, b, others.t[other] - ones.t[one])
        t = others.t[other]
        return Series(t, t - ones.t[one], "s", parts, None, ones.t[one])

    def _gap_between(self, low: float, high: float) -> bool:
        return any(low < each <= high for each in self._gaps)


def after(before: Events | None, new: Events) -> Events:
    """Events that waited, with new ones behind them."""
    if before is None or not len(before):
        return new
    if not len(new):
        return before
    parts = {
        s: np.concatenate([before.parts.get(s, np.zeros(len(before))), new.parts.get(s, np.zeros(len(new)))])
        for s in {**before.parts, **new.parts}
    }
    return Events(np.concatenate([before.t, new.t]), np.concatenate([before.fresh, new.fresh]), parts)


def part_of(events: Events, start: int, stop: int | None = None) -> Events:
    """Events `start` to `stop` (exclusive)."""
    cut = slice(start, stop)
    return Events(events.t[cut], events.fresh[cut], {s: share[cut] for s, share in events.parts.items()})
