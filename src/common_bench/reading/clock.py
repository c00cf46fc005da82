"""A kit's clock mapped to ours. Clock values with arrival times in, times on our clock out.

A line's arrival is late by a delay that is never negative, so the earliest arrival in each second
says most; what these tell of its rate is worked out in `clock_rate`. A better map is gone over to gradually, so that no time runs back and no
gap is made. During a run the map is held still: all times of a run lie on the kit's own clock times
one constant rate; only where it restarts, it is found anew where the new stretch lies. A look at the rate
that was due meanwhile is taken after it.

A kit without a clock that sends evenly is put on an even grid: each reading one usual step after the
one before, never later than it arrived, and drawn slowly towards the arrivals, so that what a bus adds
by sending several lines at once is taken out. What comes more than a few steps late is a gap, and
stands where it arrived.
"""

from __future__ import annotations

import math

import numpy as np

from common_bench.model.block import Bools, Floats
from common_bench.model.stream import ClockState
from common_bench.reading.clock_rate import LEAST, rate_believed, rate_seen
from common_bench.reading.even_grid import EvenGrid
from common_bench.reading.gaps import FEW, GapFinder

WINDOW = 1.0  # s of the kit's clock per earliest arrival
MOST_WINDOWS = 64
STAIRCASE = (
    1.1 / 3**0.5
)  # of a tick over the whole time: a clock that counts in ticks is a staircase, whose slope may be
# off by up to about one step (rectangular, JCGM 100, 4.3.7)
SLEW = 0.5  # of the rate, by which the map may run fast or slow while it goes over to a better one
ROUNDED = 1e-12  # of two numbers, more than what their sum is rounded by
STALLED, SURELY = (
    0.1,
    4.0,
)  # s, or times what the rate is not known by, that earliest arrivals are apart only where some lay in a stall
MOST_OFF = 0.1  # of the rate; no clock is off by more: windows that tell so lie in stalls
AHEAD = 2.0  # s that a reading may seem to lie in the future, before its clock value is not believed
AGAIN_WITHIN = 60.0  # s by which the second of two strange clock values may follow the first, where it is a restart
RANGES = (2.0**16, 2.0**32)  # counts at which counters in kits wrap round
DAY = 86_400.0  # s, where a time of day wraps round


class ClockMap:
    """Guarantees that the times given depend on the lines alone (their clock values and arrivals),
    not on how they were cut into blocks, and that they never run backwards."""

    def __init__(self, tick: float, state: ClockState | None = None, *, held: bool = False, day: bool = False) -> None:
        """tick: s of one unit of the kit's clock, 0 where it has none; day: the clock is a time of day."""
        self.tick = tick
        self.held = held
        self._ranges = (DAY,) if day else tuple(r * tick for r in RANGES)
        self.restarts = 0
        state = state or ClockState()
        self.rate, self.u_rate, self._wraps, self._pace = state.rate, state.u_rate, state.wraps, state.pace
        self._kit, self._ours, spacing, self._last_raw, self._last_t, step, self._last_arrival = (
            math.nan if each is None else each
            for each in (
                state.at_kit, state.at_ours, state.spacing, state.last_raw, state.last_t, state.step, state.last_arrival,
            )
        )  # fmt: skip
        self._grid = EvenGrid(step)
        self._gaps = GapFinder(spacing, self._last_t, watch_uneven=tick > 0)
        self._fresh = False  # a restart while it is held: where it lies is not known yet, its rate is
        self._slew = self._slew_for = 0.0  # extra rate, and for how many s of the kit's clock
        self._leapt_to = self._leapt_at = math.nan  # the clock's value that leapt, and when it arrived
        self._windows: list[tuple[float, float]] = []  # clock and arrival of the earliest line of each
        self._width = WINDOW * self._pace
        self._window_end = -math.inf
        self._earliest: tuple[float, float] | None = None
        self._closed = self._seen = 0
        self._put_off = False  # whether the rate was to be looked at while it was held

    @property
    def state(self) -> ClockState:
        kit, ours, spacing, last_raw, last_t, step, last_arrival = (
            None if math.isnan(each) else each
            for each in (
                self._kit, self._ours, self.spacing, self._last_raw, self._last_t, self._grid.step, self._last_arrival,
            )
        )  # fmt: skip
        return ClockState(
            kit, ours, self.rate, self.u_rate, spacing, last_raw, self._wraps, last_t, step, last_arrival, self._pace
        )

    @property
    def spacing(self) -> float:
        """Usual s between readings; nan before it is known."""
        return self._gaps.spacing

    @property
    def even_step(self) -> float:
        """s between the lines of a kit that has no clock and sends evenly; nan for any other, and before it is known."""
        return self._grid.step

    @property
    def uneven(self) -> bool:
        """Whether readings come unevenly, as from a kit that sends only what changes."""
        return self._gaps.uneven or self._grid.uneven

    @property
    def last_raw(self) -> float | None:
        """The last value of the kit's clock in s; None where it has sent none."""
        return None if math.isnan(self._last_raw) else self._last_raw

    @property
    def last_t(self) -> float:
        return self._last_t

    def hold(self) -> ClockState:
        """Holds the map still from here on (a run begins) and gives its state for keeping."""
        self.held, self._fresh = True, False
        if self._slew and not math.isnan(self._last_raw):
            self._anchor(self._last_raw + self._wraps)
        self._gaps.forget_steps()
        self._grid.forget_arrivals()
        self._leapt_to = math.nan
        return self.state

    def release(self) -> None:
        self.held = False

    def map(self, raw: Floats | None, arrival: Floats) -> tuple[Floats, Floats, Floats, Bools]:
        """raw: (n,) clock values in s or None for a kit without a clock; arrival: (n,) s.

        Gives t (n,) s, the unwrapped clock (n,) s, the rate's relative uncertainty (n,), gap_before (n,).
        """
        count = len(arrival)
        if raw is not None and count <= FEW and self._runs_on(few := raw.tolist(), float(arrival[0])):
            t, clock = self._run_on(few, arrival.tolist())
            return t, clock, np.full(count, self.u_rate), self._gaps.before(t, held=self.held)
        t, clock, u = np.empty(count), np.empty(count), np.empty(count)
        if raw is None:
            clock.fill(np.nan)
            u.fill(0.0)
            if count:
                t = np.array(self._grid.times(arrival.tolist(), self._last_t, held=self.held), float)
                self._last_t = float(t[-1])
            return t, clock, u, self._gaps.before(t, held=self.held)
        breaks = np.flatnonzero(~(raw[1:] >= raw[:-1])) + 1  # restarts, wraps, unknown clock values
        start = 0
        while start < count:
            if math.isnan(raw[start]):
                t[start] = self._not_before(float(arrival[start]))
                clock[start], u[start] = np.nan, 0.0
                self._last_t = float(t[start])
                start += 1
                continue
            if self._leaps(float(raw[start]), float(arrival[start])):
                t[start] = self._not_before(float(arrival[start]))
                clock[start], u[start] = float(raw[start]), self.u_rate
                self._last_t = float(t[start])
                start += 1
                continue
            self._enter(float(raw[start]), float(arrival[start]))
            later = int(np.searchsorted(breaks, start, side="right"))
            stop = int(breaks[later]) if later < len(breaks) else count
            beyond = self._window_end - self._wraps + ROUNDED * (abs(self._window_end) + self._wraps)
            near = start + int(
                np.searchsorted(raw[start:stop], beyond)
            )  # what lies far behind the window is not looked at
            unwrapped = raw[start:near] + self._wraps
            stop = start + int(np.searchsorted(unwrapped, self._window_end, side="left"))
            mapped = self._mapped(unwrapped[: stop - start])
            future = mapped > arrival[start:stop] + AHEAD
            if future.any():
                later_by = np.diff(unwrapped[: stop - start], prepend=unwrapped[0])
                future &= later_by > np.diff(arrival[start:stop], prepend=arrival[start]) + AHEAD
            ahead = np.flatnonzero(future)
            if len(ahead) and ahead[0] > 0:
                stop = start + int(ahead[0])
            unwrapped, mapped = unwrapped[: stop - start], mapped[: stop - start]
            self._see(unwrapped, arrival[start:stop])
            clock[start:stop] = unwrapped
            u[start:stop] = self.u_rate
            t[start:stop] = mapped if math.isnan(self._last_t) else np.maximum(mapped, self._last_t)
            self._last_raw, self._last_t = float(raw[stop - 1]), float(t[stop - 1])
            self._last_arrival = float(arrival[stop - 1])
            start = stop
        return t, clock, u, self._gaps.before(t, held=self.held)

    def _runs_on(self, raw: list[float], arrival: float) -> bool:
        """Whether a handful of clock values go on from the last one, inside the window that is open."""
        last = self._last_raw
        if not raw or self._leapt_to == self._leapt_to or self._earliest is None or self._last_t != self._last_t:
            return False
        for value in raw:
            if not value >= last:
                return False
            last = value
        clock = last + self._wraps
        return clock < self._window_end and self._mapped_one(clock) <= arrival + AHEAD

    def _run_on(self, raw: list[float], arrival: list[float]) -> tuple[Floats, Floats]:
        """Of those, t and the unwrapped clock, (n,) s each: the same as for many, without setting arrays up."""
        clock = [value + self._wraps for value in raw]
        self._see_few(clock, arrival)
        last, t = self._last_t, []
        for value in clock:
            last = max(self._mapped_one(value), last)
            t.append(last)
        self._last_raw, self._last_t, self._last_arrival = raw[-1], last, arrival[-1]
        return np.array(t), np.array(clock)

    def _mapped(self, clock: Floats) -> Floats:
        """Our time of the kit's unwrapped clock."""
        since = clock - self._kit
        t = self._ours + self.rate * since
        return t + self._slew * np.minimum(since, self._slew_for) if self._slew else t

    def _mapped_one(self, clock: float) -> float:
        since = clock - self._kit
        t = self._ours + self.rate * since
        return t + self._slew * min(since, self._slew_for) if self._slew else t

    def _anchor(self, clock: float) -> None:
        """Lets the map go on from here at its rate alone."""
        self._kit, self._ours, self._slew = clock, self._mapped_one(clock), 0.0

    def _leaps(self, raw: float, arrival: float) -> bool:
        """Whether a clock value goes back, or leaps into the future, once: a damaged line may do that.
        What only seems to lie there because earlier lines came late has not leapt from them.

        The one reading then stands at its arrival, and nothing else is changed by it. Two in a row
        that go on from each other are a restart.
        """
        if math.isnan(self._last_raw):
            return False
        wrapped = self._wrap(raw) if raw < self._last_raw else 0.0
        back = raw < self._last_raw and not wrapped
        ahead = self._mapped_one(raw + self._wraps + wrapped) > arrival + AHEAD
        if ahead and not back and self._last_arrival == self._last_arrival:
            ahead = raw + wrapped - self._last_raw > arrival - self._last_arrival + AHEAD
        if not (back or ahead):
            self._leapt_to = math.nan
            return False
        if self._leapt_to <= raw <= self._leapt_to + AGAIN_WITHIN:
            least_late = min(arrival, self._leapt_at + self.rate * (raw - self._leapt_to))
            self._leapt_to = math.nan
            self._restart(raw, arrival, least_late)
            return False
        self._leapt_to, self._leapt_at = raw, arrival
        return True

    def _wrap(self, raw: float) -> float:
        """The range that the clock has wrapped round at, 0 where it has not."""
        return next((r for r in self._ranges if 0.9 * r < self._last_raw <= r and raw < 0.1 * r), 0.0)

    def _not_before(self, t: float) -> float:
        return t if math.isnan(self._last_t) else max(t, self._last_t)

    def _enter(self, raw: float, arrival: float) -> None:
        """Puts the map where it belongs before a line that may be the first, wrapped, restarted or the
        first of a window."""
        if math.isnan(self._kit):
            self._kit, self._ours = raw, arrival
        elif raw < self._last_raw:
            span = self._wrap(raw)
            self._wraps += span
            if not span:
                self._restart(raw, arrival, arrival)
        clock = raw + self._wraps
        if self._earliest is None:
            self._window_end = self._end_of_window(clock)
            self._earliest = (clock, math.inf)
        elif clock >= self._window_end:
            self._close_window(clock)

    def _restart(self, raw: float, arrival: float, at: float) -> None:
        """at: s, where the reading lies as far as its own arrival and that of the one before it tell."""
        self.restarts += 1
        self._last_raw = raw
        self._windows.clear()
        self._wraps, self._width, self._closed, self._earliest = 0.0, WINDOW * self._pace, 0, None
        self._seen = 0
        self._kit, self._ours, self._slew = raw, self._not_before(at), 0.0
        self._last_arrival, self._fresh = arrival, True

    def _see(self, clock: Floats, arrival: Floats) -> None:
        assert self._earliest is not None
        self._seen += len(clock)
        late = arrival - clock
        best = int(np.argmin(late))
        if late[best] < self._earliest[1] - self._earliest[0]:
            self._earliest = (float(clock[best]), float(arrival[best]))

    def _see_few(self, clock: list[float], arrival: list[float]) -> None:
        assert self._earliest is not None
        self._seen += len(clock)
        least = self._earliest[1] - self._earliest[0]
        for ours, came in zip(clock, arrival, strict=True):
            if came - ours < least:
                self._earliest, least = (ours, came), came - ours

    def _close_window(self, clock: float) -> None:
        assert self._earliest is not None
        self._windows.append(self._earliest)
        self._closed += 1
        self._window_end, self._earliest = self._end_of_window(clock), (clock, math.inf)
        if len(self._windows) == MOST_WINDOWS:
            pairs = zip(self._windows[::2], self._windows[1::2], strict=True)
            self._windows = [min(pair, key=lambda each: each[1] - each[0]) for pair in pairs]
            self._width *= 2
        often = self._closed < 8
        due = often or self._closed % 8 == 0 or self._put_off
        self._put_off = due and self.held
        if not self.held and due:
            self._fit(clock, self._width * (1 if often else 8))
        elif self.held and self._fresh:
            self._go_over(clock, self._width)
            self._fresh = often or abs(self._slew) == SLEW

    def _end_of_window(self, clock: float) -> float:
        """Always beyond the clock value itself, however large that is."""
        return max(clock + self._width, math.nextafter(clock, math.inf))

    def _fit(self, clock: float, until: float) -> None:
        """The rate from the windows so far, and a map that goes over to theirs within s of the kit's clock."""
        self._anchor(clock)
        points = np.array(self._windows)
        if len(points) >= LEAST:
            seen, u = rate_seen(points[:, 0], points[:, 1])
            apart, lasted = float(np.ptp(points[:, 1])) / max(1, self._seen), float(np.ptp(points[:, 0]))
            tick = min(self.tick, apart)  # a coarse one is told by the first reading after it
            if abs(seen) < MOST_OFF:
                off, self.u_rate = rate_believed(seen, math.hypot(u, STAIRCASE * tick / lasted), lasted / self._pace)
                self.rate = 1.0 + off
        self._go_over(clock, until)

    def _go_over(self, clock: float, until: float) -> None:
        """Brings the map to where the windows so far have it, within s of the kit's clock."""
        self._anchor(clock)
        points = np.array(self._windows)
        near = max(STALLED * self._pace, SURELY * self.u_rate * float(np.ptp(points[:, 0])))
        level = _level(points[:, 1] - self.rate * points[:, 0], near)
        off = level + self.rate * clock - self._ours
        self._slew, self._slew_for = min(max(off / until, -SLEW), SLEW), until


def _level(late: Floats, near: float) -> float:
    """How late lines come that lay nowhere, from how late the earliest of each window did: the median of those that are near the least
    late ones. One alone says nothing, since its line may have been damaged; where no two are near each other, the median of all."""
    ordered = np.sort(late)
    pairs = np.flatnonzero(np.diff(ordered) <= near)
    if len(pairs):
        least = ordered[pairs[0]]
        ordered = ordered[(ordered >= least) & (ordered <= least + near)]
    return float(np.median(ordered))
