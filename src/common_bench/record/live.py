"""The live window: the recent past of each kit. Blocks in, pictures and last values out."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from random import choice
from typing import Any, Literal, NamedTuple, Protocol

import numpy as np

from common_bench.model.block import Block, Bools, Events, Floats, Series, one_array
from common_bench.record.chain import Flow, Worked
from common_bench.record.traces import MovingPicture, Picture, Reach, Trace, thinned
from common_bench.workings.evaluate import INNER

MOST_WAITING = range(
    48, 96
)  # blocks that nobody has looked at: those of many kits are not put in place all in one turn
MOST_PICTURES = 16  # that go on; a window that is made larger begins new ones
UNKNOWN = (float("nan"), float("nan"))
EVENTS_KEPT = 400  # of each name: their times, to be marked on a trace
RAW = "raw "


class Latest(NamedTuple):
    """The last value of a trace: t in s on the engine's clock; u nan where it is not known; guess: outside a calibration."""

    t: float
    value: float
    u: float
    unit: str
    guess: bool


class Unplaced(Protocol):
    """What has come and is not in its place yet. last_t: of its last reading in s, nan of readings that have come before;
    layout: the same object for all that have the same names; names: of what it holds."""

    @property
    def last_t(self) -> float: ...

    @property
    def layout(self) -> object: ...

    @property
    def names(self) -> Sequence[str]: ...

    @property
    def events(self) -> Mapping[str, Floats]:
        """Times in s, by name."""

    def raw(self, name: str) -> tuple[Floats, Floats, Bools] | None:
        """Times, values and gaps before them, of a channel."""

    def series(self, name: str) -> Series | None:
        """Of a quantity."""

    def joined(self, pieces: Sequence[Any]) -> Unplaced | None:
        """It and those that came after it (itself the first of `pieces`) as one; None where they cannot be."""


class JustWorked(NamedTuple):
    """Straight from the flow. block: None of readings that have come before; sparse: a line need not hold every column."""

    block: Block | None
    results: Mapping[str, Series | Events]
    sparse: bool

    @property
    def last_t(self) -> float:
        return float(self.block.t[-1]) if self.block is not None and len(self.block) else float("nan")

    @property
    def layout(self) -> object:
        return self

    @property
    def names(self) -> Sequence[str]:
        channels = [RAW + each for each in self.block.channels] if self.block is not None else []
        found = [each for each in channels if (part := self.raw(each)) is not None and len(part[1])]
        return found + [
            name
            for name, result in self.results.items()
            if isinstance(result, Series) and INNER not in name and len(result)
        ]

    @property
    def events(self) -> Mapping[str, Floats]:
        return {
            name: result.t for name, result in self.results.items() if isinstance(result, Events) and INNER not in name
        }

    def raw(self, name: str) -> tuple[Floats, Floats, Bools] | None:
        values = self.block.channels.get(name.removeprefix(RAW)) if self.block is not None else None
        if values is None or self.block is None:
            return None
        t, gaps = self.block.t, self.block.gap_before
        if not self.sparse:
            return t, values, gaps
        there = np.isfinite(values)  # a line that does not hold this column is no missing value
        return t[there], values[there], gaps[there]

    def series(self, name: str) -> Series | None:
        found = self.results.get(name)
        return found if isinstance(found, Series) and len(found) else None

    def joined(self, pieces: Sequence[Any]) -> None:
        return None


class LiveNews(NamedTuple):
    """What changes a live window. what: “came”; “anew” where all has been read anew under another format; “again” for results in the
    place of all so far; “forgotten” with the names, all that was worked out where there are none; “cleared”."""

    what: Literal["came", "anew", "again", "forgotten", "cleared"]
    pieces: Sequence[Unplaced] = ()
    names: tuple[str, ...] = ()


class LiveWindow:
    """Traces of one kit by name: raw channels as `raw NAME`, workings by their own names.

    Written by the engine, read by the desk; the lock is held for microseconds. Guarantees that two windows that follow the same news show
    the same.
    """

    def __init__(self, tell: Callable[[LiveNews], object] | None = None) -> None:
        """tell: hears of all that changes this window, once it has."""
        self._tell = tell
        self._lock = threading.Lock()
        self._traces: dict[str, Trace] = {}  # by name, of those that were looked at or put in place
        self._names: dict[str, None] = {}  # of all that have come, in their order
        self._last: dict[str, Latest] = {}  # of names whose last value waits no more
        self._guesses: dict[str, Trace] = {}
        self._extents: dict[str, Reach] = {}  # of raw channels, since the kit was opened
        self._reach: dict[str, Reach] = {}
        self._happened: dict[str, tuple[int, deque[float]]] = {}
        self._last_t = float("nan")
        self._layout: object = None  # of what came last
        self.with_u: frozenset[str] = (
            frozenset()
        )  # names whose uncertainties are kept from now on, to be drawn as a band
        self._us: dict[str, Trace] = {}
        self._pictures: dict[tuple[str, float], tuple[Trace, MovingPicture]] = {}
        self._waits: list[Unplaced] = []
        self._before, self._most = 0, choice(MOST_WAITING)  # how many came before these; and the most of them
        self._placed: dict[str, int] = {}  # name -> of how many that came it has been put in place
        self._measured: dict[str, int] = {}  # and of how many it is known how far its values reach

    @property
    def last_t(self) -> float:
        """Time of the last reading in s on the engine's clock; nan before the first."""
        return self._last_t

    def add(self, flow: Flow, *, sparse: bool = False) -> None:
        """sparse: a line need not hold every column."""
        pieces = [JustWorked(each.block, each.results, sparse) for each in flow.worked]
        self.follow(LiveNews("anew" if flow.heard.anew >= 0 else "came", pieces))

    def again(self, worked: Sequence[Worked]) -> None:
        """Results of readings that have come already, in the place of all results so far."""
        self.follow(LiveNews("again", [JustWorked(None, each.results, False) for each in worked]))

    def follow(self, news: LiveNews) -> None:
        """What this window, or the one that it shows what is in, has been told."""
        with self._lock:
            if news.what in ("again", "forgotten"):
                self._forget(news.names)
            elif news.what in ("anew", "cleared"):
                self._clear()
            if news.what == "anew":
                self._extents.clear()
            for each in news.pieces:
                if (last := each.last_t) == last:
                    self._last_t = last
                self._wait(each)
        if self._tell is not None and (news.pieces or news.what != "came"):
            self._tell(news)

    def _wait(self, came: Unplaced) -> None:
        """Most of what comes is never looked at: it is put in place together, or when somebody looks; of a window that tells another, where
        it is looked at, only what somebody has asked for."""
        self._waits.append(came)
        if self._tell is None and came.layout is not self._layout:
            self._names.update(dict.fromkeys(came.names))
            self._layout = came.layout
        for name, t in came.events.items():
            count, times = self._happened.get(name, (0, deque(maxlen=EVENTS_KEPT)))
            times.extend(t.tolist())
            self._happened[name] = count + len(t), times
        if len(self._waits) >= self._most:
            self._place_all()

    def _place_all(self) -> None:
        whole = self._waits[0].joined(self._waits) if self._waits else None
        for name in self._names if self._tell is None else [*self._traces]:
            self._place(name, whole)
            self._reached(name, whole)
        self._before += len(self._waits)
        self._waits.clear()

    def _place(self, name: str, whole: Unplaced | None = None) -> Trace | None:
        """The trace of a name, with all that has come of it; None where there is none. whole: all that waits as one piece."""
        waits = self._since(name, self._placed, whole)
        if waits:
            if name not in self._traces:
                self._traces[name] = Trace()
            if name.startswith(RAW):
                self._place_raw(name, waits)
            else:
                self._place_results(name, waits)
        return self._traces.get(name)

    def _since(self, name: str, placed: dict[str, int], whole: Unplaced | None) -> list[Unplaced]:
        """What has come with a name since it was last asked for; placed: of how many it was, for each name."""
        if self._tell is None and name not in self._names:
            return []
        low = placed.get(name, 0) - self._before
        placed[name] = self._before + len(self._waits)
        return self._waits[max(0, low) :] if low > 0 or whole is None else [whole]

    def _reached(self, name: str, whole: Unplaced | None = None) -> Reach | None:
        """How far the values of a name reach; None before the first."""
        waits, raw = self._since(name, self._measured, whole), name.startswith(RAW)
        kept = self._extents if raw else self._reach
        if raw:
            found = [values for _, values, _ in _raw_parts(waits, name)]
        else:
            found = [each.values for each in _series(waits, name)]
        if found:
            kept.setdefault(name, Reach()).add(one_array(found))
        return kept.get(name)

    def _place_raw(self, name: str, waits: Sequence[Unplaced]) -> None:
        parts = _raw_parts(waits, name)
        if not parts:
            return
        t, values, gaps = parts[0] if len(parts) == 1 else (np.concatenate(each) for each in zip(*parts, strict=True))
        if len(t):
            self._traces[name].add(t, values, gaps)
            self._last[name] = Latest(float(t[-1]), float(values[-1]), float("nan"), "", False)

    def _place_results(self, name: str, waits: Sequence[Unplaced]) -> None:
        found = _series(waits, name)
        if not found:
            return
        t, values = one_array([each.t for each in found]), one_array([each.values for each in found])
        gaps = None
        if any(each.rows is not None for each in found):
            gaps = one_array(
                [each.rows.gap_before if each.rows is not None else np.zeros(len(each), bool) for each in found]
            )
        self._traces[name].add(t, values, gaps)
        self._last[name] = _latest(found[-1])
        if name in self.with_u and any(each.parts for each in found):
            u = one_array([each.u for each in found])
            self._us.setdefault(name, Trace()).add(t, u)
        if name in self._guesses or any(each.guess is not None and np.count_nonzero(each.guess) for each in found):
            # what is a guess is kept once more, nan elsewhere, from the first guess on
            guess = one_array([np.zeros(len(each), bool) if each.guess is None else each.guess for each in found])
            self._guesses.setdefault(name, Trace()).add(t, np.where(guess, values, np.nan), gaps)

    def guesses(self, name: str, picture: Picture) -> Floats | None:
        """(n,) the values of a picture again where they are guesses, nan elsewhere; None where there are none."""
        with self._lock:
            self._place(name)
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
            self._place(name)
            if name not in self._us or not len(picture.t):
                return None
            t, u = self._us[name].since(float(picture.t[0]))
        if not len(t):
            return None
        near = np.clip(np.searchsorted(t, picture.t), 0, len(t) - 1)
        return np.where(t[near] == picture.t, u[near], np.nan)

    def extent(self, channel: str) -> tuple[float, float]:
        """Smallest and largest raw value of a channel since it was opened; nan before the first."""
        with self._lock:
            found = self._reached(RAW + channel)
            return found.ends if found is not None else UNKNOWN

    def resolution(self, channel: str) -> float:
        """The smallest step between two raw values of a channel since it was opened; 0 before the first."""
        with self._lock:
            found = self._reached(RAW + channel)
        return found.smallest if found is not None and np.isfinite(found.smallest) else 0.0

    def latest(self, name: str) -> Latest | None:
        """Its last value; None before the first."""
        with self._lock:
            self._place(name)
            return self._last.get(name)

    def names(self) -> list[str]:
        return list(self._names)

    def recent(self, name: str, seconds: float) -> Picture:
        """All readings of the last seconds, not thinned."""
        with self._lock:
            trace = self._place(name)
            if trace is None:
                return Picture(np.empty(0), np.empty(0))
            return trace.since(self._last_t - seconds)

    def since(self, name: str, start: float, pixels: int, width: float) -> Picture:
        """All from s on the engine's clock on that is kept, thinned so that `width` s have so many pixels."""
        with self._lock:
            trace = self._place(name)
            found = trace.since(start) if trace is not None else Picture(np.empty(0), np.empty(0))
        return thinned(found, pixels, width)

    def reach(self, name: str) -> tuple[float, float]:
        """Smallest and largest value of a working since a run began, or the workings were changed; nan before the first."""
        with self._lock:
            found = self._reached(name)
            return found.ends if found is not None else UNKNOWN

    def picture(self, name: str, seconds: float, pixels: int) -> Picture:
        """The last seconds, thinned to pixels."""
        with self._lock:
            trace = self._place(name)
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
        self.follow(LiveNews("cleared"))

    def _clear(self) -> None:
        self._before += len(self._waits)
        self._waits.clear()
        for each in self._by_name:
            each.clear()
        self._layout = None

    @property
    def _by_name(self) -> tuple[dict[str, Any], ...]:
        """All that is kept of a name until that is forgotten."""
        found: tuple[dict[str, Any], ...] = self._names, self._happened, self._traces, self._guesses
        return *found, self._us, self._last, self._reach, self._placed, self._measured

    def forget(self, *names: str) -> None:
        """Clears what a calibration or working gave before it was changed."""
        self.follow(LiveNews("forgotten", names=names))

    def _forget(self, names: Sequence[str]) -> None:
        self._place_all()
        for each in self._by_name:
            for name in names or [name for name in each if not name.startswith(RAW)]:
                each.pop(name, None)
        self._layout = None


def _raw_parts(waits: Sequence[Unplaced], name: str) -> list[tuple[Floats, Floats, Bools]]:
    return [part for each in waits if (part := each.raw(name)) is not None]


def _series(waits: Sequence[Unplaced], name: str) -> list[Series]:
    return [found for each in waits if (found := each.series(name)) is not None]


def _latest(series: Series) -> Latest:
    guess = bool(series.guess[-1]) if series.guess is not None else False
    u = 0.0 if series.parts else float("nan")
    for source, share in series.parts.items():
        if source.dof > 0:
            u += float(share[-1]) ** 2
        elif share[-1]:
            u = float("nan")
    return Latest(float(series.t[-1]), float(series.values[-1]), u**0.5, series.unit, guess)
