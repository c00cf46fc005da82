"""The live window: the recent past of each kit, kept for drawing. Blocks in, thinned pictures out."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Block, Bools, Events, Floats, Series
from common_bench.record.chain import Flow, Worked
from common_bench.workings.evaluate import INNER
from common_bench.workings.loops import extremes

MOST_READINGS = 1 << 13  # per trace: over two minutes at 50 per second; what is drawn is far shorter


FEW = 24  # readings of a block that are looked at one by one
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
    """The last MOST_READINGS of one quantity; memory is taken once and never grows."""

    def __init__(self) -> None:
        # Filled, not empty: pages that are touched one by one later look like a leak for ten minutes.
        self._t = np.full(2 * MOST_READINGS, np.nan)
        self._v = np.full(2 * MOST_READINGS, np.nan)
        self._end = 0

    def add(self, t: Floats, values: Floats, gap_before: Bools | None = None) -> None:
        if gap_before is not None and gap_before.any():
            at = np.flatnonzero(gap_before)
            t, values = np.insert(t, at, t[at]), np.insert(values, at, np.nan)
        t, values = t[-MOST_READINGS:], values[-MOST_READINGS:]
        if self._end + len(t) > len(self._t):
            keep = slice(self._end - MOST_READINGS, self._end)
            self._t[:MOST_READINGS], self._v[:MOST_READINGS] = self._t[keep].copy(), self._v[keep].copy()
            self._end = MOST_READINGS
        stop = self._end + len(t)
        self._t[self._end : stop], self._v[self._end : stop] = t, values
        self._end = stop

    def since(self, start: float) -> Picture:
        first = max(0, self._end - MOST_READINGS)
        low = first + int(np.searchsorted(self._t[first : self._end], start))
        return Picture(self._t[low : self._end].copy(), self._v[low : self._end].copy())


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


class LiveWindow:
    """Traces of one kit by name: raw channels as `raw NAME`, workings by their own names.

    Written by the engine, read by the desk; the lock is held for microseconds.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._traces: dict[str, Trace] = {}
        self._latest: dict[str, Latest] = {}
        self._guesses: dict[str, Trace] = {}
        self._extents: dict[str, tuple[float, float]] = {}
        self._reach: dict[str, tuple[float, float]] = {}
        self._smallest: dict[str, float] = {}  # step between neighbours
        self._happened: dict[str, tuple[int, deque[float]]] = {}
        self._last_t = float("nan")
        self.with_u: frozenset[str] = (
            frozenset()
        )  # names whose uncertainties are kept from now on, to be drawn as a band
        self._us: dict[str, Trace] = {}

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
                self._smallest.clear()
            for worked in flow.worked:
                self._add_block(worked.block, sparse=sparse)
                self._add_results(worked)

    def _add_results(self, worked: Worked) -> None:
        for name, result in worked.results.items():
            if isinstance(result, Series) and len(result) and INNER not in name:
                gaps = result.rows.gap_before if result.rows is not None else None
                self._trace(name).add(result.t, result.values, gaps)
                self._latest[name] = _latest(result)
                if name in self.with_u and result.parts:
                    u = np.sqrt(sum(share**2 for share in result.parts.values()))
                    self._us.setdefault(name, Trace()).add(result.t, u)
                low, high = self._reach.get(name, (np.nan, np.nan))
                self._reach[name] = (
                    float(np.fmin(low, np.fmin.reduce(result.values))), float(np.fmax(high, np.fmax.reduce(result.values))),
                )  # fmt: skip
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
            self._widen(name, values)
            if not sparse:
                self._trace(f"raw {name}").add(block.t, values, block.gap_before)
                self._latest[f"raw {name}"] = Latest(self._last_t, float(values[-1]), float("nan"), "", False)
                continue
            there = np.isfinite(values)  # a line that does not hold this column is no missing value
            if there.any():
                self._trace(f"raw {name}").add(block.t[there], values[there], block.gap_before[there])
                self._latest[f"raw {name}"] = Latest(
                    float(block.t[there][-1]), float(values[there][-1]), float("nan"), "", False
                )

    def _widen(self, name: str, values: Floats) -> None:
        """The smallest and largest raw value, and the smallest step, with what has come. Few values go by one by one, which
        takes less time than arrays do."""
        low, high = self._extents.get(name, (np.inf, -np.inf))
        latest = self._latest.get(f"raw {name}")
        last, smallest = latest.value if latest is not None else np.nan, self._smallest.get(name, np.inf)
        if len(values) > FEW:
            steps = np.abs(np.diff(values, prepend=last))
            smallest = min(smallest, float(np.min(steps, where=steps > 0, initial=np.inf)))
            low, high = min(low, float(np.fmin.reduce(values))), max(high, float(np.fmax.reduce(values)))
        else:
            for value in values.tolist():
                low, high = min(low, value), max(high, value)
                if 0 < abs(value - last) < smallest:
                    smallest = abs(value - last)
                last = value
        self._smallest[name], self._extents[name] = smallest, (low, high)

    def _add_guess(self, name: str, result: Series, gaps: Bools | None) -> None:
        """What is a guess is kept once more, nan elsewhere, from the first guess on."""
        if name in self._guesses or (result.guess is not None and result.guess.any()):
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
        return self._extents.get(channel, (float("nan"), float("nan")))

    def resolution(self, channel: str) -> float:
        """The smallest step between two raw values of a channel since it was opened; 0 before the first."""
        found = self._smallest.get(channel, np.inf)
        return found if np.isfinite(found) else 0.0

    def latest(self, name: str) -> Latest | None:
        return self._latest.get(name)

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
        return self._reach.get(name, (float("nan"), float("nan")))

    def picture(self, name: str, seconds: float, pixels: int) -> Picture:
        """The last seconds, thinned to pixels."""
        return thinned(self.recent(name, seconds), pixels, seconds)

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
        self._latest.clear()
        self._happened.clear()
        self._reach.clear()

    def forget(self, *names: str) -> None:
        """Clears what a calibration or working gave before it was changed."""
        with self._lock:
            for name in names or [each for each in (*self._traces, *self._happened) if not each.startswith("raw ")]:
                self._traces.pop(name, None)
                self._guesses.pop(name, None)
                self._us.pop(name, None)
                self._latest.pop(name, None)
                self._happened.pop(name, None)
                self._reach.pop(name, None)


def _latest(series: Series) -> Latest:
    total = 0.0
    for share in series.parts.values():
        total += float(share[-1]) ** 2
    guess = bool(series.guess[-1]) if series.guess is not None else False
    u = total**0.5 if series.parts else float("nan")
    return Latest(float(series.t[-1]), float(series.values[-1]), u, series.unit, guess)
