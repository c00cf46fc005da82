"""All groups in one graph: over time, aligned as is asked for; one quantity against another; bars of now; spectra. The lesson in;
arrays to draw out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from common_bench.exchange.tables import with_unit
from common_bench.lesson.calibration_quality import age_words
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.one_bench import began
from common_bench.model.block import Events, Floats
from common_bench.model.measured import how_long, plain
from common_bench.model.run import Moment, Run
from common_bench.record.replay import Replayed, quantities
from common_bench.record.snapshot import KitState
from common_bench.record.traces import Picture, thinned

Kind = Literal["time", "against", "bars", "spectrum"]
Aligned = Literal["clock", "begin", "event"]
KINDS: dict[Kind, str] = {"time": "over time", "against": "against", "bars": "bars of now", "spectrum": "spectrum"}
ALIGNED: dict[Aligned, str] = {"clock": "by the clock", "begin": "where each began", "event": "at the first event"}
SECONDS = 20.0  # that are looked at by the clock, and for a spectrum
BEFORE = 1.0  # s before the event at which lines are aligned
MOST_SECONDS = 60.0  # of runs that are aligned
MAINS = (50.0, 60.0)  # Hz
STANDS_OUT = 8.0  # times the density around it, from which a line of a spectrum is called hum
LEAST_READINGS = 32  # for a spectrum


@dataclass(frozen=True)
class GroupLine:
    """One group's line, bar or curve. group: its id; u: standard uncertainty of a bar, nan where it is not known."""

    group: int
    x: Floats
    y: Floats
    guess: bool = False
    u: float = math.nan


@dataclass(frozen=True)
class ClassView:
    """What is drawn. marks: where on the x axis something stands, with its words; without: groups that have nothing to
    show yet."""

    x_label: str
    y_label: str
    lines: tuple[GroupLine, ...]
    marks: tuple[tuple[float, str], ...] = ()
    low: float = 0.0
    high: float = 1.0


def names_of(lesson: OpenLesson) -> list[str]:
    """Quantities over time that can be drawn, those first that the plan shows."""
    kinds = lesson.store.workings.kinds
    names = dict.fromkeys([*lesson.store.plan.shown, *(each.quantity for each in lesson.store.plan.sensors), *kinds])
    return [name for name in names if name in kinds and kinds[name].shape == "series" and not kinds[name].late]


def class_view(lesson: OpenLesson, kind: Kind, name: str, other: str, aligned: Aligned, pixels: int) -> ClassView:
    """name: of the quantity; other: what it is drawn against, where it is; pixels: of the graph's width."""
    states = [(group.id, state) for group in lesson.store.groups if (state := lesson.seen(group.id)) is not None]
    if kind == "bars":
        return _bars(lesson, states, name)
    if kind == "against":
        return _against(lesson, states, name, other or "", pixels)
    if kind == "spectrum":
        return _spectra(lesson, states, name)
    return _over_time(lesson, states, name, aligned, pixels)


def _labelled(lesson: OpenLesson, name: str) -> str:
    kind = lesson.store.workings.kinds.get(name)
    return with_unit(name, kind.unit if kind is not None else "")


def _over_time(
    lesson: OpenLesson, states: Sequence[tuple[int, KitState]], name: str, aligned: Aligned, pixels: int
) -> ClassView:
    lines, longest = [], 10.0
    for group, state in states:
        start = _start(lesson, state, aligned)
        if start is None:
            continue
        if aligned == "clock":
            picture = state.live.since(name, start - SECONDS, pixels, SECONDS)
        else:
            run = state.run.seconds if state.run is not None else 0.0
            longest = max(longest, min(MOST_SECONDS, 10.0 * math.ceil(run / 10.0)))
            picture = state.live.since(name, start - (BEFORE if aligned == "event" else 0.0), pixels, longest)
        latest = state.live.latest(name)
        if len(picture.t):
            lines.append(GroupLine(group, picture.t - start, picture.values, bool(latest is not None and latest.guess)))
    if aligned == "clock":
        return ClassView("time before now (s)", _labelled(lesson, name), tuple(lines), (), -SECONDS, SECONDS * 0.08)
    since = "since each began (s)" if aligned == "begin" else f"since the first {first_events(lesson) or 'event'} (s)"
    low = 0.0 if aligned == "begin" else -BEFORE
    return ClassView(f"time {since}", _labelled(lesson, name), tuple(lines), (), low, longest * 1.13)


def _start(lesson: OpenLesson, state: KitState, aligned: Aligned) -> float | None:
    """s on the engine's clock where a group's time is counted from; None where it has none yet."""
    if aligned == "clock":
        at = lesson.roster.snapshot.at
        return (
            at
            if at == at and not math.isnan(state.live.last_t) and at >= state.live.last_t - 1.0
            else state.live.last_t
        )
    if aligned == "begin" or state.run is None:
        return began(state)
    count, times = state.live.happened(first_events(lesson))
    return times[0] if count and count == len(times) else None


def first_events(lesson: OpenLesson) -> str:
    """The first line of the plan that gives events; empty where none does."""
    return next((name for name, kind in lesson.store.workings.kinds.items() if kind.shape == "events"), "")


def _against(
    lesson: OpenLesson, states: Sequence[tuple[int, KitState]], name: str, other: str, pixels: int
) -> ClassView:
    lines = []
    for group, state in states:
        start = began(state)
        y = state.live.since(name, state.live.last_t - SECONDS if start is None else start, 10**9, 1.0)
        x = state.live.since(other, y.t[0] if len(y.t) else 0.0, 10**9, 1.0)
        both = np.intersect1d(x.t[np.isfinite(x.values)], y.t[np.isfinite(y.values)])[-4 * pixels :]
        if len(both):
            across, up = (_values_at(each, both) for each in (x, y))
            lines.append(GroupLine(group, across, up))
    known = np.concatenate([each.x for each in lines]) if lines else np.array([0.0, 1.0])
    low, high = float(known.min()), float(known.max())
    room = 0.06 * ((high - low) or abs(high) or 1.0)
    return ClassView(_labelled(lesson, other), _labelled(lesson, name), tuple(lines), (), low - room, high + room)


def _values_at(picture: Picture, times: Floats) -> Floats:
    """The values at times that are among the picture's own."""
    known = np.isfinite(picture.values)
    values: Floats = picture.values[known][np.searchsorted(picture.t[known], times)]
    return values


def _bars(lesson: OpenLesson, states: Sequence[tuple[int, KitState]], name: str) -> ClassView:
    found = {group: state.live.latest(name) for group, state in states}
    places = {group.id: at for at, group in enumerate(lesson.store.groups)}
    lines = tuple(
        GroupLine(group, np.array([float(places[group])]), np.array([latest.value]), latest.guess, latest.u)
        for group, latest in found.items()
        if latest is not None and math.isfinite(latest.value)
    )
    return ClassView("", _labelled(lesson, name), lines, (), -0.6, len(places) - 0.4)


def _spectra(lesson: OpenLesson, states: Sequence[tuple[int, KitState]], name: str) -> ClassView:
    lines, marks, top = [], {}, 0.0
    for group, state in states:
        found = spectrum(state.live.recent(name, SECONDS))
        if found is None:
            continue
        frequencies, density, rate = found
        lines.append(GroupLine(group, frequencies, density))
        top = max(top, rate / 2)
        for mains in hum(frequencies, density, rate):
            at = aliased(mains, rate)
            marks[round(at, 1)] = f"{mains:g} Hz hum" + ("" if at == mains else f", seen at {at:.1f} Hz")
    kind = lesson.store.workings.kinds.get(name)
    unit = f"{kind.unit}/√Hz" if kind is not None and kind.unit else "1/√Hz"
    return ClassView(
        "frequency (Hz)", f"{name} ({unit}, logarithmic)", tuple(lines), tuple(sorted(marks.items())), 0.0, (top or 1.0) * 1.08
    )  # fmt: skip


def spectrum(recent: Picture) -> tuple[Floats, Floats, float] | None:
    """(frequencies (n,) in Hz, amplitude density (n,) in unit/√Hz, readings per s) of the longest stretch without a break, on
    an even grid, by overlapping averaged pieces (P. D. Welch, IEEE Trans. AU-15, 70 (1967)); None where there is too little.
    """
    from scipy import signal  # which takes a second and a half to load

    t, values = recent
    known = np.isfinite(values)
    ends = np.flatnonzero(np.diff(known, prepend=False, append=False)).reshape(-1, 2)
    if not len(ends):
        return None
    first, stop = max(ends.tolist(), key=lambda each: each[1] - each[0])
    t, values = t[first:stop], values[first:stop]
    if len(t) < LEAST_READINGS or t[-1] <= t[0]:
        return None
    rate = (len(t) - 1) / float(t[-1] - t[0])
    even = np.interp(np.linspace(t[0], t[-1], len(t)), t, values)
    frequencies, power = signal.welch(even, rate, nperseg=min(len(t), 512), detrend="linear")
    return frequencies[1:-1], np.sqrt(power[1:-1]), rate  # of the ends, detrending and folding leave half


def aliased(frequency: float, rate: float) -> float:
    """Where a frequency in Hz shows in readings at `rate` per s: folded at half of it."""
    return abs(frequency - round(frequency / rate) * rate)


def hum(frequencies: Floats, density: Floats, rate: float) -> list[float]:
    """Mains frequencies in Hz that stand out of a spectrum."""
    found = []
    step = float(frequencies[1] - frequencies[0]) if len(frequencies) > 1 else 1.0
    for mains in MAINS:
        at = aliased(mains, rate)
        near = np.abs(frequencies - at)
        around = density[(near > 2.5 * step) & (near < 12 * step)]
        line = density[near <= 1.5 * step]
        if at > 3 * step and len(line) and len(around) and line.max() > STANDS_OUT * float(np.median(around)):
            found.append(mains)
    return found


# one run


def run_against(replayed: Replayed, name: str, other: str, span: tuple[float, float]) -> tuple[Floats, Floats]:
    """(n,) values of another quantity and of this one, at the readings of a span that have both."""
    known = quantities(replayed)
    x, y = known[other].values, known[name].values
    both = (replayed.t >= span[0]) & (replayed.t <= span[1]) & np.isfinite(x) & np.isfinite(y)
    return x[both], y[both]


def run_spectrum(replayed: Replayed, name: str, span: tuple[float, float]) -> tuple[Floats, Floats, float] | None:
    """As of `spectrum`, of a quantity in a span; a gap breaks it."""
    low, high = np.searchsorted(replayed.t, span[0]), np.searchsorted(replayed.t, span[1], side="right")
    t, values = replayed.t[low:high], quantities(replayed)[name].values[low:high]
    gaps = np.searchsorted(t, [end for _, end in replayed.gaps if span[0] < end <= span[1]])
    return spectrum(Picture(np.insert(t, gaps, np.nan), np.insert(values, gaps, np.nan)))


# a run of another day behind


def runs_behind(lesson: OpenLesson) -> list[Run]:
    """Runs that can be laid behind: those of every lesson of this plan that count, newest first."""
    store = lesson.store
    names = {row["id"]: row["name"] for row in store.rows("plan")}
    same = {row["id"] for row in store.rows("lesson") if names.get(row["plan"]) == store.plan.name}
    with_findings = {row["run"] for row in store.rows("finding")}
    found = [store.run(row["id"]) for row in store.rows("run") if row["lesson"] in same and row["state"] == "closed"]
    kept = [each for each in found if each.begin is not None and not each.aside and each.id in with_findings]
    return sorted(kept, key=lambda each: each.began_at, reverse=True)


def run_words(lesson: OpenLesson, run: Run) -> str:
    """`Gneiss run 2, 24 Nov`."""
    from datetime import datetime

    day = f", {datetime.fromisoformat(run.began_at):%-d %b}" if run.began_at else ""
    return f"{lesson.store.group(run.group).alias} run {run.number}{day}"


def start_of(replayed: Replayed, aligned: Aligned | Literal["moment"], moments: Sequence[Moment] = ()) -> float | None:
    """Where in a run the time begins that it is aligned by, s; None where it has nothing like that."""
    if aligned == "event":
        events = next((each for each in replayed.results.values() if isinstance(each, Events) and len(each)), None)
        return float(events.t[0]) if events is not None else None
    if aligned == "moment":
        return min((each.t for each in moments), default=None)
    return 0.0 if aligned == "begin" else None


def line_behind(replayed: Replayed, name: str, start: float | None, pixels: int) -> tuple[Floats, Floats] | None:
    """A run of another day as (time, values), counted from `start` in it."""
    series = quantities(replayed).get(name)
    if series is None or start is None:
        return None
    found = thinned(Picture(series.t - start, series.values), pixels, max(replayed.seconds, 1e-9))
    return found.t, found.values


AS_PLANNED = {"as-it-comes": "read as it comes", "formula": "by its formula"}
"""How a run was read whose kit has no calibration of its own."""


def read_words(run: Run, replayed: Replayed) -> str:
    """How long a run is, how many readings it has and what they were calibrated by, in a line."""
    used = run.setting.calibrations if run.setting else ()
    calibration = "not calibrated"
    if used:
        own = used[0]
        calibration = (
            f"calibration of {age_words(own.made_at)}"
            if own.made_at
            else AS_PLANNED.get(own.curve, "as the plan has it")
        )
    if run.setting and run.setting.applied_at:
        calibration += ", applied afterwards"
    return " · ".join([how_long(replayed.seconds), f"{plain(len(replayed.t), 0)} readings", calibration])
