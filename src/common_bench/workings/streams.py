"""Values that are worked out together though they come at different times: some late, some in lines of their own.

Pieces of quantities in, pieces of equal length out, the same for every way of cutting them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from common_bench.model.block import NO_FLOATS, Bools, Events, Floats, Ints, Rows, Series, Source, joined
from common_bench.workings.spans import NumberOf


class FitsAt(NamedTuple):
    """Fits from events that are over: since (n,) when each event was, t (n,) when its fit was over, values and parts of each
    parameter (n,), in `units`."""

    since: Floats
    t: Floats
    values: dict[str, Floats]
    parts: dict[str, dict[Source, Floats]]
    units: dict[str, str]

    def __len__(self) -> int:
        return len(self.t)

    def of(self, parameter: str) -> Series:
        return Series(self.t, self.values[parameter], self.units[parameter], self.parts[parameter], None, self.since)


Value = Series | Events | NumberOf | FitsAt

KNOWN_BY = 8  # readings of each of two columns, by which it is told whether they come in lines of their own
TOGETHER = 0.5  # share of the slower one's readings, from which on two columns share their lines
HELD_FOR = 1.1  # usual spacings, for which a value is carried on to another column's reading


class Together:
    """Guarantees that what is worked out value by value has all its values at one reading: what comes early waits for what
    comes late; a faster column's last value meets a slower one's reading."""

    def __init__(self, count: int) -> None:
        self._waiting: list[list[Series]] = [[] for _ in range(count)]
        self._meetings: dict[tuple[int, int], Meeting] = {}

    def push(self, given: Sequence[Value]) -> list[Value]:
        """given: one of each, numbers as they are. Gives as many values of each as all of them have."""
        timed = [at for at, each in enumerate(given) if isinstance(each, Series)]
        if len(timed) < 2:
            return given if isinstance(given, list) else list(given)
        found = self._level(given, timed)
        first = timed[0]
        for other in timed[1:]:
            one, two = found[first], found[other]
            assert isinstance(one, Series)
            assert isinstance(two, Series)
            if one.rows is not two.rows and one.rows is not None and two.rows is not None:
                met = self._meetings.setdefault((first, other), Meeting())
                found[first], found[other] = met.push(one, two)
        return found

    def _level(self, given: Sequence[Value], timed: list[int]) -> list[Value]:
        found = list(given)
        lengths = {len(given[at]) for at in timed}  # type: ignore[arg-type]
        if len(lengths) == 1 and not any(self._waiting):
            return found
        for at in timed:
            value = given[at]
            assert isinstance(value, Series)
            self._waiting[at].append(value)
        ready = min(sum(map(len, self._waiting[at])) for at in timed)
        for at in timed:
            whole = joined(self._waiting[at])
            found[at] = whole.part(0, ready)
            self._waiting[at] = [whole.part(ready, len(whole))] if len(whole) > ready else []
        return found


def _sparse(series: Series) -> Bools | None:
    return series.rows.there if series.rows is not None else None


@dataclass
class _Pace:
    count: int = 0
    first: float = 0.0
    last: float = 0.0

    @property
    def spacing(self) -> float:
        return (self.last - self.first) / max(1, self.count - 1)


class Meeting:
    """Two columns of which each may come in lines without the other. Where they do so from the beginning, the faster one's
    last value is carried on to the slower one's readings, no longer than its own usual spacing; where they come in the same
    lines, nothing is carried on."""

    def __init__(self) -> None:
        self._paces = _Pace(), _Pace()
        self._together = 0
        self._slower: int | None = None  # 0 or 1; -1 where they share their lines; None as long as that is open
        self._held: list[Series | None] = [None, None]

    def push(self, one: Series, two: Series) -> tuple[Series, Series]:
        there = [_there(each) for each in (one, two)]
        begin = 0 if self._slower is not None else self._decide(one.t, there)
        given = (one, two)
        if self._slower is None or self._slower < 0:
            for at in (0, 1):
                self._hold(at, given[at], there[at])
            if begin:
                both = there[0] & there[1]
                one, two = (_until(each, has, both, begin) for each, has in zip(given, there, strict=True))
            return one, two
        slow, fast = self._slower, 1 - self._slower
        where = there[slow].copy()
        where[:begin] &= there[fast][:begin]
        carried = self._carried(fast, given[fast], there[fast], begin)
        for at in (0, 1):
            self._hold(at, given[at], there[at])
        met = _only(given[slow], where), _only(carried, where)
        return met if slow == 0 else (met[1], met[0])

    def _hold(self, at: int, series: Series, there: Bools) -> None:
        """The last value, as long as nothing is missing behind it."""
        known = np.flatnonzero(there)
        gaps = series.rows.gap_before if series.rows is not None else np.zeros(len(series), bool)
        last = int(known[-1]) if len(known) else -1
        if last >= 0:
            self._held[at] = series.part(last, last + 1)
        if gaps[last + 1 :].any():
            self._held[at] = None

    def _decide(self, t: Floats, there: list[Bools]) -> int:
        """The row from which it is known how they come."""
        for row in range(len(t)):
            for pace, column in zip(self._paces, there, strict=True):
                if column[row]:
                    pace.first = float(t[row]) if not pace.count else pace.first
                    pace.count, pace.last = pace.count + 1, float(t[row])
            self._together += bool(there[0][row] and there[1][row])
            fewest = min(pace.count for pace in self._paces)
            if fewest >= KNOWN_BY:
                one, two = self._paces
                shares = self._together >= TOGETHER * fewest
                self._slower = -1 if shares else 0 if one.count < two.count else 1
                return row + 1
        return len(t)

    def _carried(self, at: int, fast: Series, there: Bools, begin: int) -> Series:
        """The faster quantity with its last value in each row where it has none."""
        held = self._held[at]
        whole = fast if held is None else joined([held, fast])
        lead = len(whole) - len(fast)
        has = np.concatenate([np.ones(lead, bool), there])
        gaps = whole.rows.gap_before.copy() if whole.rows is not None else np.zeros(len(whole), bool)
        gaps[:lead] = False
        stretch = np.cumsum(gaps)
        row: Ints = np.maximum.accumulate(np.where(has, np.arange(len(whole)), -1))
        last = np.maximum(row, 0)
        usual = self._paces[at].spacing
        fresh = (row >= 0) & (whole.t - whole.t[last] <= HELD_FOR * usual) & (stretch == stretch[last])
        fresh[lead : lead + begin] = has[lead : lead + begin]
        values = np.where(fresh, whole.values[last], np.nan)
        parts = {source: share[last] for source, share in whole.parts.items()}
        guess = None if whole.guess is None else whole.guess[last]
        return replace(whole, values=values, parts=parts, guess=guess).part(lead, len(whole))


def _there(series: Series) -> Bools:
    there = _sparse(series)
    return np.ones(len(series), bool) if there is None else there.copy()


def _only(series: Series, there: Bools) -> Series:
    """A quantity that is there only in these rows."""
    rows = series.rows
    assert rows is not None
    values = np.where(there, series.values, np.nan)
    return replace(
        series, values=values, rows=Rows(rows.gap_before, rows.clock_u, rows.clocked, rows.clock_step, there)
    )


def _until(series: Series, there: Bools, both: Bools, begin: int) -> Series:
    """A quantity that is there up to row `begin` only where both are."""
    there[:begin] = both[:begin]
    values = series.values.copy()
    values[:begin] = np.where(both[:begin], values[:begin], np.nan)
    return replace(_only(series, there), values=values)


def nothing(series: Series, unit: str) -> Series:
    """An empty piece of what is made of a quantity."""
    rows = series.rows.part(0, 0) if series.rows is not None else None
    return Series(NO_FLOATS, NO_FLOATS, unit, dict.fromkeys(series.parts, NO_FLOATS), None, None, False, rows)
