"""One bench watched closely: what it shows of each quantity, how far its run is, its moments and its runs."""

from __future__ import annotations

import math
from dataclasses import dataclass

from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.replays import played_words
from common_bench.lesson.words import bench_note, progress_words, shown, stated_words, wait_words
from common_bench.model.measured import NO_VALUE, digits, plain, written
from common_bench.model.plan import SensorPlan
from common_bench.record.snapshot import KitState

MOST_TRACES = 4
IDLE_SECONDS = 20.0  # that are shown while no run is under way
STEP_SECONDS, MOST_SECONDS = 10.0, 60.0  # by which the time that is shown of a run grows, and up to which


@dataclass(frozen=True)
class Meter:
    """A quantity now: value and unit as shown; low, high: extremes so far; ends of its bar; warnings: values at which a tile
    turns amber; words under it."""

    name: str
    value: str
    unit: str
    now: float
    low: float
    high: float
    ends: tuple[float, float]
    warnings: tuple[float, ...]
    words: str

    def share(self, value: float) -> float:
        """Where a value lies on the bar, 0 to 1."""
        low, high = self.ends
        return min(1.0, max(0.0, (value - low) / (high - low))) if high > low and math.isfinite(value) else 0.0


@dataclass(frozen=True)
class EachTime:
    """A quantity that has a value at each event: the last as shown, and words of those before."""

    name: str
    value: str
    words: str


def traces_of(lesson: OpenLesson) -> list[str]:
    """Quantities over time that are drawn, the most important first: those that the plan shows, then what is measured."""
    kinds = lesson.store.workings.kinds
    names = [*lesson.store.plan.shown, *(each.quantity for each in lesson.store.plan.sensors)]
    known = [name for name in dict.fromkeys(names) if name in kinds and kinds[name].shape == "series"]
    return [name for name in known if not kinds[name].late][:MOST_TRACES]


def each_of(lesson: OpenLesson) -> list[str]:
    """Quantities with a value at each event that the plan shows."""
    kinds = lesson.store.workings.kinds
    return [name for name in lesson.store.plan.shown if name in kinds and kinds[name].shape == "at events"]


def began(state: KitState) -> float | None:
    """When the run under way began, in s on the engine's clock; None where there is none yet."""
    if state.run is None or math.isnan(state.live.last_t):
        return None
    return state.live.last_t - state.run.seconds


def stretch(lesson: OpenLesson, state: KitState) -> tuple[float, float, float]:
    """What is drawn: s on the engine's clock where time counts from, and from and to in s counted from there."""
    start = began(state)
    if start is None:
        now = state.live.last_t if not math.isnan(state.live.last_t) else 0.0
        return now, -IDLE_SECONDS, 0.0
    seconds = state.run.seconds if state.run is not None else 0.0
    wide = max(STEP_SECONDS, math.ceil((seconds + 0.5) / STEP_SECONDS) * STEP_SECONDS)
    before = lesson.store.plan.rule.before if lesson.store.plan.rule.begins else 0.0
    if wide <= MOST_SECONDS:
        return start, -before, wide
    return start, seconds - MOST_SECONDS, seconds


def meter(lesson: OpenLesson, state: KitState, name: str) -> Meter:
    """How a quantity stands."""
    sensor = lesson.store.sensor_of(name)
    latest = state.live.latest(name)
    low, high = state.live.reach(name)
    kind = lesson.store.workings.kinds.get(name)
    unit = kind.unit if kind is not None else ""
    warned = sensor.warn if sensor is not None else ()
    warnings = tuple(v for each in warned for v in (each.above, each.below) if v is not None)
    told = []
    if math.isfinite(high):
        u = latest.u if latest is not None and latest.u == latest.u else 0.0
        told.append(f"smallest {_value(low, u, sensor)} · largest {_value(high, u, sensor)}")
    told += [f"amber {'above' if each.above is not None else 'below'} {(each.above if each.above is not None else each.below):g} {unit}" for each in warned]  # fmt: skip
    known = latest is not None and latest.value == latest.value
    value = shown(latest, sensor) if latest is not None and known else NO_VALUE
    guess = " · a guess" if latest is not None and latest.guess and known else ""
    now = latest.value if latest is not None and known else math.nan
    return Meter(
        name, value, unit + guess, now, low, high, _ends(sensor, warnings, low, high), warnings, " · ".join(told)
    )


def _value(value: float, u: float, sensor: SensorPlan | None) -> str:
    fixed = sensor.digits if sensor is not None else None
    return plain(value, fixed) if fixed is not None else digits(value, u, most=3)


def _ends(sensor: SensorPlan | None, warnings: tuple[float, ...], low: float, high: float) -> tuple[float, float]:
    if sensor is not None and sensor.scale is not None:
        return sensor.scale
    values = [each for each in (*warnings, low, high, 0.0) if math.isfinite(each)]
    return min(values), max(values) * 1.1 if max(values) > 0 else max(values)


def each_time(state: KitState, name: str) -> EachTime:
    """The last values at events."""
    recent = state.live.recent(name, math.inf)
    known = [value for value in recent.values.tolist() if value == value]
    latest = state.live.latest(name)
    if not known or latest is None:
        return EachTime(name, NO_VALUE, "none yet")
    u = latest.u if latest.u == latest.u else 0.0
    before = ", ".join(digits(value, u, most=3) for value in known[-4:-1])
    count = f"the {_ordinal(len(known))}" + (f" · before it {before}" if before else "")
    return EachTime(name, f"{digits(known[-1], u, most=3)} {latest.unit}".rstrip(), count)


def _ordinal(number: int) -> str:
    ending = "th" if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"


def headline(lesson: OpenLesson, group: int) -> tuple[str, str, str]:
    """`run 2 · mass 60.0 kg`, how far it is, and its tone."""
    state = lesson.seen(group)
    conditions = [f"{name} {stated_words(value)}" for name, value in lesson.store.stated(group).items()]
    if state is None:
        return " · ".join(conditions), bench_note(lesson.roster.why_not_ready(group)), "red"
    playing = lesson.replays.playing
    if playing is not None and playing.run.group == group:
        return f"run {playing.run.number}", played_words(playing.played), "amber"
    if state.run is not None:
        return " · ".join([f"run {state.run.number}", *conditions]), f"● {progress_words(state.run)}", "copper"
    if state.waits is not None:
        return " · ".join([f"run {state.waits.number}", *conditions]), wait_words(lesson, state.waits), "amber"
    if state.trouble is not None:
        return " · ".join(conditions), state.trouble.what, "red"
    lacks = lesson.recording.lacks(group)
    return " · ".join(conditions), *((lacks[0], "amber") if lacks else ("ready", "good"))


def without_values(lesson: OpenLesson, group: int) -> str:
    """Why quantities that are drawn have no value, and what to do; empty where they have."""
    store, kit, drawn = lesson.store, lesson.store.kit_of(group), traces_of(lesson)
    missing = [
        each.quantity
        for each in store.plan.sensors
        if each.quantity in drawn and (kit is None or store.calibration(kit, each.channel) is None)
    ]
    if not missing:
        return ""
    named = " and ".join(missing)
    verb = "is" if len(missing) == 1 else "are"
    return f"{named} {verb} not calibrated, so there is no value to draw. Take the points in stage 3, Calibrate; the class wall shows raw numbers."


def run_rows(lesson: OpenLesson, group: int) -> list[tuple[str, str, bool]]:
    """Each run of a bench with its first finding, and whether it is set aside; then the one under way."""
    rows = []
    for run in lesson.store.ended_runs(group):
        findings = lesson.store.findings(run.id)
        value = written(findings[0].measured.value, findings[0].measured.u, findings[0].measured.unit) if findings else "no finding"  # fmt: skip
        rows.append((f"run {run.number}", f"{value}, set aside" if run.aside else value, bool(run.aside)))
    state = lesson.roster.state(group)
    if state is not None and state.run is not None:
        rows.append((f"run {state.run.number}", "recording", False))
    return rows
