"""Forms about events: what a quantity was when they happened, how many there were, how long a signal stayed on. Events and
quantities in; values at events or at readings out, the same for every way of cutting them."""

from __future__ import annotations

from dataclasses import replace

import msgspec
import numpy as np

from common_bench.model.block import Block, Events, Floats, Ints, Rows, Series, joined
from common_bench.workings.averaging import averaged
from common_bench.workings.course import Course
from common_bench.workings.crossings import Crossed, CrossingFinder, Pairs, Way, after, part_of
from common_bench.workings.held import Held
from common_bench.workings.peaks import CLOCK_RATE, PeakFinder
from common_bench.workings.windows import between

REACH = 1.0  # s, beyond what events come late by, for which readings are kept


class ValueAt:
    """What a quantity was at each event, on the straight line between two readings; an error of the event's time enters by
    the quantity's slope there."""

    def __init__(self, late: float, name: str, course: Course) -> None:
        """late: s, by which the events are told later than the quantity; course: of that."""
        self._keep, self._name = late + REACH, name
        self._held = Held(course)
        self._events: Events | None = None

    def push(self, series: Series, events: Events, _: Block) -> Series:
        self._held.add(series)
        held, of = self._held.series, self._held.stretches
        assert held is not None
        waiting = after(self._events, events)
        known = np.flatnonzero(np.isfinite(held.values))
        heard = float(held.t[known[-1]]) if len(known) else -np.inf
        broken = len(of) > 0 and len(known) > 0 and of[-1] > of[known[-1]]
        ready = len(waiting) if broken else int(np.searchsorted(waiting.t, heard, side="right"))
        told = part_of(waiting, 0, ready)
        self._events = part_of(waiting, ready, len(waiting))
        values, parts = between(held, known, of, told.t, None, self._name)
        slope = self._slope(held, known, told.t)
        for source, share in told.parts.items():
            if source == CLOCK_RATE:  # it moves the readings with the events
                continue
            whole = source if source.common else averaged(source, self._name)
            moved = np.where(np.isfinite(values), slope * share, 0.0)
            parts[whole] = parts[whole] + moved if whole in parts else moved
        if len(held.t):
            oldest = min(held.t[-1] - self._keep, self._events.t[0] if len(self._events) else np.inf)
            place = int(np.searchsorted(held.t[known], oldest, side="right")) - 2
            self._held.drop(int(known[place]) if place > 0 else 0)
        return Series(told.t, values, series.unit, parts, None, told.t)

    def _slope(self, held: Series, known: Ints, t: Floats) -> Floats:
        if len(known) < 2:
            return np.zeros(len(t))
        tk, vk = held.t[known], held.values[known]
        high = np.clip(np.searchsorted(tk, t), 1, len(tk) - 1)
        step = tk[high] - tk[high - 1]
        return np.where(step > 0, (vk[high] - vk[high - 1]) / np.where(step > 0, step, 1.0), 0.0)


class Count:
    """How many events there were up to each reading, since the beginning or in the last seconds; not known where a gap lies
    in that time, nor before so long a time has been heard."""

    def __init__(self, late: float, seconds: float = np.inf) -> None:
        """late: s, by which events are told late."""
        self._late, self._seconds = late, seconds
        self._events: list[float] = []
        self._counted = 0
        self._waiting: Series | None = None  # readings up to which events may still be told
        self._unbroken = np.nan  # since when
        self._broken = False

    def push(self, events: Events, block: Block) -> Series:
        self._events += (events.t if events.told is None else events.told).tolist()
        new = Series(block.t, block.t, "s", rows=Rows.of(block))
        whole = new if self._waiting is None else joined([self._waiting, new])
        heard = whole.t[-1] - self._late if len(whole) else -np.inf
        ready = int(np.searchsorted(whole.t, heard, side="right" if self._late == 0 else "left"))
        self._waiting = whole.part(ready, len(whole))
        return self._counts(whole.part(0, ready))

    def _counts(self, told: Series) -> Series:
        assert told.rows is not None
        values = np.full(len(told), np.nan)
        if not len(told):
            return msgspec.structs.replace(told, values=values, unit="")
        if np.isnan(self._unbroken):
            self._unbroken = float(told.t[0])
        gap_at = np.where(told.rows.gap_before, told.t, -np.inf)
        if told.t[0] == self._unbroken:
            gap_at[0] = -np.inf
        since = np.maximum(np.maximum.accumulate(gap_at), self._unbroken)
        times = np.array(self._events)
        until = np.searchsorted(times, told.t, side="right")
        if np.isinf(self._seconds):
            lost = np.cumsum(np.isfinite(gap_at)) > 0
            known = ~(lost | self._broken)
            values[known] = self._counted + until[known]
            self._broken |= bool(lost.any())
            self._counted += int(until[-1])
            self._events = self._events[int(until[-1]) :]
        else:
            known = since <= told.t - self._seconds
            values[known] = (until - np.searchsorted(times, told.t - self._seconds, side="right"))[known]
            kept = int(np.searchsorted(times, told.t[-1] - self._seconds, side="right"))
            self._events = self._events[kept:]
        self._unbroken = float(since[-1])
        return msgspec.structs.replace(told, values=values, unit="")


class FindsIn:
    """What a finder of events finds in a quantity that may miss values."""

    def __init__(self, finder: PeakFinder | CrossingFinder, course: Course) -> None:
        self._finder, self._course = finder, course

    def push(self, series: Series, _: Block) -> Events:
        return self._finder.push(series, self._course.rows(series))


class Within:
    """How long a signal stayed on the side of a level to which it crossed, from each crossing to the way back."""

    def __init__(self, crossed: Crossed, course: Course) -> None:
        back: Way = "falls" if crossed.way == "rises" else "rises"
        self._there = CrossingFinder(crossed)
        self._back = CrossingFinder(replace(crossed, way=back, apart=0.0))
        self._pairs, self._course = Pairs(), course

    def push(self, series: Series, block: Block) -> Series:
        rows = self._course.rows(series)
        return self._pairs.push(self._there.push(series, rows), self._back.push(series, rows), block)
