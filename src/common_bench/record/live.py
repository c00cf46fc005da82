"""The live window: the recent past of each kit, kept for drawing. Blocks in, thinned pictures out."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Sequence
from random import choice
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Block, Bools, Events, Floats, Series
from common_bench.record.chain import Flow, Worked
from common_bench.workings.evaluate import INNER
from common_bench.workings.thinning import extremes, moved_on

MOST_READINGS = 1 << 13  # per trace: over two minutes at 50 per second; what is drawn is far shorter


MOST_WAITING = range(
    128, 256
)  # blocks of a quantity that nobody has looked at: not all of many kits are put in place in one turn
MOST_PICTURES = 16  # that go on; a window that is made larger begins new ones
UNKNOWN = (float("nan"), float("nan"))
EVENTS_KEPT = 400  # of each name: their times, to be marked on a trace


class Picture(NamedTuple):
    """What to draw: t (n,) s and values (n,), nan where the line breaks."""

    t: Floats
    values: Floats


class Latest(NamedTuple):
    """The last value of a trace: t in s on the engine's clock; u nan where it is not known; guess: outside a calibration."""

    t: float
    value: float
    u: float
    unit: str
    guess: bool


class Trace:
    """The last MOST_READINGS of one quantity; memory is taken once and never grows. What is added waits until somebody looks,
    or there is much of it: most of what comes is never looked at."""

    def __init__(self) -> None:
        # Filled, not empty: pages that are touched one by one later look like a leak for ten minutes.
        self._t = np.full(2 * MOST_READINGS, np.nan)
        self._v = np.full(2 * MOST_READINGS, np.nan)
        self._end = self._count = 0
        self._waits: list[tuple[Floats, Floats, Bools | None]] = []
        self._waiting, self._most = 0, choice(MOST_WAITING)  # readings, and the most blocks

    def add(self, t: Floats, values: Floats, gap_before: Bools | None = None) -> None:
        """The arrays must stay as they are."""
        self._waits.append((t, values, gap_before))
        self._waiting += len(t)
        if len(self._waits) >= self._most or self._waiting >= MOST_READINGS:
            self._settle()

    @property
    def count(self) -> int:
        """Of all that were ever added, breaks among them."""
        if self._waits:
            self._settle()
        return self._count

    def _settle(self) -> None:
        if not self._waits:
            return
        waits, self._waits, self._waiting = self._waits, [], 0
        if len(waits) == 1:
            t, values = _with_breaks(*waits[0])
        else:
            t, values = (np.concatenate([each[at] for each in waits]) for at in (0, 1))
            if any(each[2] is not None for each in waits):
                no = [np.zeros(len(each[0]), bool) if each[2] is None else each[2] for each in waits]
                t, values = _with_breaks(t, values, np.concatenate(no))
        self._count += len(t)
        t, values = t[-MOST_READINGS:], values[-MOST_READINGS:]
        if self._end + len(t) > len(self._t):
            keep = slice(self._end - MOST_READINGS, self._end)
            self._t[:MOST_READINGS], self._v[:MOST_READINGS] = self._t[keep].copy(), self._v[keep].copy()
            self._end = MOST_READINGS
        stop = self._end + len(t)
        self._t[self._end : stop], self._v[self._end : stop] = t, values
        self._end = stop

    def since(self, start: float) -> Picture:
        """All that is kept from s on."""
        self._settle()
        first = max(0, self._end - MOST_READINGS)
        low = first + int(np.searchsorted(self._t[first : self._end], start))
        return Picture(self._t[low : self._end].copy(), self._v[low : self._end].copy())

    def after(self, number: int) -> Picture:
        """What is kept of all that came after so many; not copied."""
        if self._waits:
            self._settle()
        low = max(0, self._end - MOST_READINGS, self._end - (self._count - number))
        return Picture(self._t[low : self._end], self._v[low : self._end])


def _with_breaks(t: Floats, values: Floats, gap_before: Bools | None) -> tuple[Floats, Floats]:
    """A value that is none stands in each gap."""
    if gap_before is None or not np.count_nonzero(gap_before):
        return t, values
    at = np.flatnonzero(gap_before)
    return np.insert(t, at, t[at]), np.insert(values, at, np.nan)


class Reach:
    """Smallest and largest of all values, and the smallest step between neighbours, worked out once somebody asks."""

    def __init__(self) -> None:
        self._low, self._high, self._smallest, self._last = np.nan, np.nan, np.inf, np.nan
        self._waits: list[Floats] = []
        self._waiting, self._most = 0, choice(MOST_WAITING)  # values, and the most blocks

    def add(self, values: Floats) -> None:
        """The array must stay as it is."""
        self._waits.append(values)
        self._waiting += len(values)
        if len(self._waits) >= self._most or self._waiting >= MOST_READINGS:
            self._settle()

    def _settle(self) -> None:
        if not self._waits:
            return
        values, self._waiting = np.concatenate(self._waits), 0
        self._waits.clear()
        if not len(values):
            return
        steps = np.abs(np.diff(values, prepend=self._last))
        self._smallest = min(self._smallest, float(np.min(steps, where=steps > 0, initial=np.inf)))
        self._last = float(values[-1])
        self._low = float(np.fmin(self._low, np.fmin.reduce(values)))
        self._high = float(np.fmax(self._high, np.fmax.reduce(values)))

    @property
    def ends(self) -> tuple[float, float]:
        """nan before the first value."""
        self._settle()
        return self._low, self._high

    @property
    def smallest(self) -> float:
        """inf before there was a step."""
        self._settle()
        return self._smallest


def thinned(picture: Picture, pixels: int, width: float) -> Picture:
    """At most two points a pixel, the smallest and the largest in it at their own times, so that no
    spike is lost and no step is drawn that was not there.

    `width`: s that the pixels show. Pixels sit at fixed times, so that a moving picture does not
    shimmer. Breaks stay breaks.
    """
    t, values = picture
    if len(t) <= 2 * pixels or width <= 0:
        return picture
    keep = np.zeros(len(t), bool)
    extremes(t, values, pixels / width, keep)
    return Picture(t[keep], values[keep])


_moved_on = moved_on.compiled  # type: ignore[attr-defined]  # all that is given is of the live window's own making


class MovingPicture:
    """A thinned picture that goes on: pixels sit at fixed times, so that those that are full never change, and only what has
    come since is looked at. per_second: pixels in a second."""

    def __init__(self, per_second: float) -> None:
        self._per_second = per_second
        self._seen = 0  # readings of the trace before those of the pixel that is open
        self._t = self._v = np.empty(0)  # of full pixels

    def of(self, trace: Trace, start: float) -> Picture:
        """All of a trace from s on."""
        t, values = trace.after(self._seen)
        count = trace.count
        if count - self._seen > len(t):  # not all that came since is kept
            self._t = self._v = np.empty(0)
        all_t, all_values, whole, full = _moved_on(t, values, self._per_second, self._t, self._v, start)
        self._t, self._v = all_t[:whole], all_values[:whole]
        self._seen = count - (len(t) - full)
        return Picture(all_t, all_values)


class LiveWindow:
    """Traces of one kit by name: raw channels as `raw NAME`, workings by their own names.

    Written by the engine, read by the desk; the lock is held for microseconds.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._traces: dict[str, Trace] = {}
        self._last: dict[
            str, Series | tuple[Floats, Floats]
        ] = {}  # what its last value came in: raw ones as t and values
        self._guesses: dict[str, Trace] = {}
        self._extents: dict[str, Reach] = {}  # of raw channels, since the kit was opened
        self._reach: dict[str, Reach] = {}
        self._happened: dict[str, tuple[int, deque[float]]] = {}
        self._last_t = float("nan")
        self.with_u: frozenset[str] = (
            frozenset()
        )  # names whose uncertainties are kept from now on, to be drawn as a band
        self._us: dict[str, Trace] = {}
        self._pictures: dict[tuple[str, float], tuple[Trace, MovingPicture]] = {}

    @property
    def last_t(self) -> float:
        """Time of the last reading in s on the engine's clock; nan before the first."""
        return self._last_t

    def add(self, flow: Flow, *, sparse: bool = False) -> None:
        """sparse: a line need not hold every column."""
        with self._lock:
            if flow.heard.anew >= 0:  # all has been read anew under another format
                self._clear()
                self._extents.clear()
            for worked in flow.worked:
                self._add_block(worked.block, sparse=sparse)
                self._add_results(worked)

    def _add_results(self, worked: Worked) -> None:
        for name, result in worked.results.items():
            if isinstance(result, Series) and len(result) and INNER not in name:
                gaps = result.rows.gap_before if result.rows is not None else None
                self._trace(name).add(result.t, result.values, gaps)
                self._last[name] = result
                if name in self.with_u and result.parts:
                    u = np.sqrt(sum(share**2 for share in result.parts.values()))
                    self._us.setdefault(name, Trace()).add(result.t, u)
                if name not in self._reach:
                    self._reach[name] = Reach()
                self._reach[name].add(result.values)
                self._add_guess(name, result, gaps)
            elif isinstance(result, Events) and INNER not in name:
                count, times = self._happened.get(name, (0, deque(maxlen=EVENTS_KEPT)))
                times.extend(result.t.tolist())
                self._happened[name] = count + len(result), times

    def again(self, worked: Sequence[Worked]) -> None:
        """Results of readings that have come already, in the place of all results so far."""
        self.forget()
        with self._lock:
            for each in worked:
                self._add_results(each)

    def _add_block(self, block: Block, *, sparse: bool) -> None:
        if not len(block):
            return
        self._last_t = float(block.t[-1])
        for name, values in block.channels.items():
            t, gaps = block.t, block.gap_before
            if sparse:
                there = np.isfinite(values)  # a line that does not hold this column is no missing value
                t, values, gaps = t[there], values[there], gaps[there]
            if name not in self._extents:
                self._extents[name] = Reach()
            self._extents[name].add(values)
            if len(values):
                self._trace(f"raw {name}").add(t, values, gaps)
                self._last[f"raw {name}"] = t, values

    def _add_guess(self, name: str, result: Series, gaps: Bools | None) -> None:
        """What is a guess is kept once more, nan elsewhere, from the first guess on."""
        if name in self._guesses or (result.guess is not None and np.count_nonzero(result.guess)):
            guess = np.zeros(len(result), bool) if result.guess is None else result.guess
            kept = self._guesses.setdefault(name, Trace())
            kept.add(result.t, np.where(guess, result.values, np.nan), gaps)

    def guesses(self, name: str, picture: Picture) -> Floats | None:
        """(n,) the values of a picture again where they are guesses, nan elsewhere; None where there are none."""
        with self._lock:
            if name not in self._guesses or not len(picture.t):
                return None
            t, values = self._guesses[name].since(float(picture.t[0]))
        guessed = t[np.isfinite(values)]
        if not len(guessed):
            return None
        near = np.clip(np.searchsorted(guessed, picture.t), 0, len(guessed) - 1)
        return np.where(guessed[near] == picture.t, picture.values, np.nan)

    def uncertainties(self, name: str, picture: Picture) -> Floats | None:
        """(n,) standard uncertainty of each value of a picture, nan where it was not kept; None where none was."""
        with self._lock:
            if name not in self._us or not len(picture.t):
                return None
            t, u = self._us[name].since(float(picture.t[0]))
        if not len(t):
            return None
        near = np.clip(np.searchsorted(t, picture.t), 0, len(t) - 1)
        return np.where(t[near] == picture.t, u[near], np.nan)

    def _trace(self, name: str) -> Trace:
        if name not in self._traces:
            self._traces[name] = Trace()
        return self._traces[name]

    def extent(self, channel: str) -> tuple[float, float]:
        """Smallest and largest raw value of a channel since it was opened; nan before the first."""
        with self._lock:
            return self._extents[channel].ends if channel in self._extents else UNKNOWN

    def resolution(self, channel: str) -> float:
        """The smallest step between two raw values of a channel since it was opened; 0 before the first."""
        with self._lock:
            found = self._extents[channel].smallest if channel in self._extents else np.inf
        return found if np.isfinite(found) else 0.0

    def latest(self, name: str) -> Latest | None:
        """Its last value; None before the first."""
        found = self._last.get(name)
        if found is None or isinstance(found, Series):
            return _latest(found) if found is not None else None
        t, values = found
        return Latest(float(t[-1]), float(values[-1]), float("nan"), "", False)

    def names(self) -> list[str]:
        return list(self._traces)

    def recent(self, name: str, seconds: float) -> Picture:
        """All readings of the last seconds, not thinned."""
        with self._lock:
            trace = self._traces.get(name)
            if trace is None:
                return Picture(np.empty(0), np.empty(0))
            return trace.since(self._last_t - seconds)

    def since(self, name: str, start: float, pixels: int, width: float) -> Picture:
        """All from s on the engine's clock on that is kept, thinned so that `width` s have so many pixels."""
        with self._lock:
            trace = self._traces.get(name)
            found = trace.since(start) if trace is not None else Picture(np.empty(0), np.empty(0))
        return thinned(found, pixels, width)

    def reach(self, name: str) -> tuple[float, float]:
        """Smallest and largest value of a working since a run began, or the workings were changed; nan before the first."""
        with self._lock:
            return self._reach[name].ends if name in self._reach else UNKNOWN

    def picture(self, name: str, seconds: float, pixels: int) -> Picture:
        """The last seconds, thinned to pixels."""
        with self._lock:
            trace = self._traces.get(name)
            if trace is None or not pixels > 0 < seconds:
                return Picture(np.empty(0), np.empty(0))
            per_second = pixels / seconds
            found = self._pictures.get((name, per_second))
            if found is None or found[0] is not trace:
                if len(self._pictures) >= MOST_PICTURES:
                    self._pictures.clear()
                found = self._pictures[name, per_second] = trace, MovingPicture(per_second)
            return found[1].of(trace, self._last_t - seconds)

    def happened(self, name: str) -> tuple[int, list[float]]:
        """How many events of a name there were since the workings were changed or a run began, and the times of the last
        of them in s."""
        with self._lock:
            count, times = self._happened.get(name, (0, deque()))
            return count, list(times)

    def forget_all(self) -> None:
        """Clears everything, raw channels too, as after another stream format."""
        with self._lock:
            self._clear()

    def _clear(self) -> None:
        self._traces.clear()
        self._guesses.clear()
        self._us.clear()
        self._last.clear()
        self._happened.clear()
        self._reach.clear()

    def forget(self, *names: str) -> None:
        """Clears what a calibration or working gave before it was changed."""
        with self._lock:
            for name in names or [each for each in (*self._traces, *self._happened) if not each.startswith("raw ")]:
                self._traces.pop(name, None)
                self._guesses.pop(name, None)
                self._us.pop(name, None)
                self._last.pop(name, None)
                self._happened.pop(name, None)
                self._reach.pop(name, None)


def _latest(series: Series) -> Latest:
    total = 0.0
    for share in series.parts.values():
        total += float(share[-1]) ** 2
    guess = bool(series.guess[-1]) if series.guess is not None else False
    u = total**0.5 if series.parts else float("nan")
    return Latest(float(series.t[-1]), float(series.values[-1]), u, series.unit, guess)
