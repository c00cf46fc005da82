"""What stage 3 shows, in words and rows. A lesson in; cells with their tones out."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.calibrate.judging import (
    FAR_OFF,
    check_number,
    check_state,
    fit_words,
    in_a_cell,
    prefix_of,
    sentence,
    worth,
)
from common_bench.calibrate.steady import HOLD, Steadiness
from common_bench.lesson.calibrating import NOT_STEADY, Taking
from common_bench.lesson.calibration_quality import age_words, days_old
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.run_words import sends_no
from common_bench.lesson.words import Tone, bench_note
from common_bench.model.calibration import Calibration, ReferencePoint
from common_bench.model.measured import NO_VALUE, digits, first_place, plain, written
from common_bench.model.plan import SensorPlan
from common_bench.model.trouble import Trouble

Cell = str | tuple[str, str]
CHECKED: dict[str, tuple[str, Tone]] = {"good": ("✓ good", "good"), "doubtful": ("? doubtful", "amber"), "bad": ("✗ bad", "red")}  # fmt: skip


BAND = 2.0  # standard deviations of single readings on both sides of what the reading may move


@dataclass(frozen=True)
class Shown:
    """The curve that a bench has: through the points of now, or kept before; else why there is none."""

    ready: Applied | None
    why: str = ""
    new: bool = False


def curve_shown(lesson: OpenLesson, group: int, sensor: SensorPlan) -> Shown:
    """The curve of a bench for a sensor as it is to be shown now, or why there is none."""
    kit = lesson.store.kit_of(group)
    points = lesson.store.points(kit, sensor.channel) if kit is not None else []
    if not points and (lack := not_sent(lesson, group, sensor)):
        return Shown(None, f"It {lack}. Give one of its columns that name in Plug in.")
    if not points and sensor.curve != "formula":
        kept = lesson.sensors.applied(group, sensor.channel)
        if kept is not None:
            return Shown(kept)
        first = sensor.points[0].label if sensor.points else ""
        if not first:
            return Shown(
                None, f"The plan names no reference points yet. Press N and add the first, as: {point_example(sensor)}"
            )
        return Shown(None, f"No points yet. Hold the sensor at “{first}” and press space.")
    try:
        return Shown(Applied(lesson.calibrating.curve_through(group, sensor.channel)), new=True)
    except Trouble as trouble:
        return Shown(None, trouble.sentence)


HELD = {
    "N": "100 g = 0.981 ± 0.003", "g": "100 g = 100.0 ± 0.2", "kg": "1 kg = 1.000 ± 0.002", "°C": "ice water = 0.0 ± 0.2", "K": "ice water = 273.2 ± 0.2",
    "lx": "under the lamp = 400 ± 8", "V": "cell = 1.50 ± 0.01", "mV": "cell = 1500 ± 10", "Pa": "open = 101300 ± 100", "hPa": "open = 1013 ± 1",
    "m": "at the mark = 0.200 ± 0.001", "cm": "at the mark = 20.0 ± 0.1", "mm": "at the mark = 200 ± 1",
}  # fmt: skip
"""What may be held against a sensor, and its reference with its uncertainty, by the unit of what it measures."""


def point_example(sensor: SensorPlan) -> str:
    """A reference point as it may be typed for a sensor, in its unit; the first of its own where it has one."""
    if sensor.points:
        first = sensor.points[0]
        return f"{first.label} = {written(first.value, first.u, sensor.unit)}"
    return f"{HELD.get(sensor.unit, 'the first = 1.00 ± 0.01')} {sensor.unit}".strip()


def not_sent(lesson: OpenLesson, group: int, sensor: SensorPlan) -> str:
    """`sends no “load”`, of a bench whose kit is heard without the column that a sensor is in; else nothing."""
    kit = lesson.store.kit_of(group)
    absent = lesson.roster.absent_channels(kit) if kit is not None else []
    return sends_no(sensor.channel) if sensor.channel in absent else ""


def steady_line(found: Steadiness | None) -> tuple[str, Tone]:
    """`steady for 4 s`, `steady in about 6 s`, `still moving`."""
    if found is None or found.n == 0:
        return "nothing heard", "red"
    if found.steady:
        return f"steady for {found.seconds:.0f} s", "good"
    if math.isinf(found.expected):
        return "drifts without end", "amber"
    if found.expected == found.expected and found.expected > 0:
        return f"settling, steady in about {_time(found.expected)}", "amber"
    return "still moving", "amber"


def _time(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"


def inside_limits(found: Steadiness | None) -> tuple[float, float] | None:
    """(low, high) raw, between which the reading may move and still count as steady; None where it is not."""
    if found is None or not math.isfinite(found.mean) or found.limits.drift is None or not found.steady:
        return None
    room = found.limits.drift * HOLD + BAND * found.noise
    return found.mean - room, found.mean + room


def steady_numbers(lesson: OpenLesson, group: int, sensor: SensorPlan, ready: Applied | None) -> str:
    """Drift with its confidence and scatter beside their limits, in the quantity's unit where there is a curve."""
    found = lesson.sensors.steady(group, sensor.channel)
    if found is None or found.n == 0 or not math.isfinite(found.drift):
        return ""
    scale, unit = 1.0, "raw"
    if ready is not None:
        sensitivity = abs(float(ready.sensitivity(np.array([found.mean]))[0]))
        if math.isfinite(sensitivity) and sensitivity > 0:
            scale, unit = sensitivity, sensor.unit
    drift, scatter = found.limits.drift or 0.0, found.limits.scatter or 0.0
    small = max(drift, scatter) * scale
    factor, prefix = prefix_of(small, unit) if small > 0 else (1.0, "")
    scale /= factor
    u = max(found.u_drift * scale, 1e-12)
    return (
        f"drift {written(found.drift * scale, u)} {prefix}{unit}/s (≤ {_two(drift * scale)}) · "
        f"scatter {_two(found.scatter * scale)} {prefix}{unit} (≤ {_two(scatter * scale)})"
    )


def _two(value: float) -> str:
    """Two digits."""
    if not math.isfinite(value) or value == 0:
        return "0"
    return plain(value, max(0, first_place(abs(value)) + 1))


def point_rows(lesson: OpenLesson, group: int, sensor: SensorPlan, ready: Applied | None) -> list[list[Cell]]:
    """The table of reference points: what is held, its reference, the reading, its residual."""
    kit = lesson.store.kit_of(group)
    own = lesson.store.points(kit, sensor.channel) if kit is not None else []
    taken = {p.label: p for p in own or (ready.calibration.points if ready is not None else ())}
    rows: list[list[Cell]] = []
    for planned in sensor.points:
        point = taken.pop(planned.label, None)
        name: Cell = (f"check {planned.label}", "soft") if planned.check else planned.label
        rows.append([name, *_point_cells(point, planned.value, planned.u, ready)])
    for label, point in taken.items():
        rows.append(
            [(f"{label} (not in the plan)", "soft"), *_point_cells(point, point.reference, point.u_reference, ready)]
        )
    return rows


def _point_cells(point: ReferencePoint | None, value: float, u: float, ready: Applied | None) -> list[Cell]:
    if point is None:
        return [_reference(value, u), NO_VALUE, NO_VALUE]
    reading = written(point.reading, point.u_reading) + (" early" if point.reason else "")
    return [
        _reference(point.reference, point.u_reference),
        (reading, "amber" if point.reason else ""),
        _residual(point, ready),
    ]


def _reference(value: float, u: float) -> str:
    return written(value, u) if u > 0 else digits(value, 0.0)


def _residual(point: ReferencePoint, ready: Applied | None) -> Cell:
    if ready is None:
        return NO_VALUE
    off, expected = ready.residual(point), ready.u_point(point)
    decimals = min(4, max(0, first_place(expected) + 1)) if expected > 0 else 4
    text = plain(0.0, decimals) if round(off, decimals) == 0 else ("+" if off > 0 else "") + plain(off, decimals)
    if point.check:
        words, tone = CHECKED[check_state(ready, point)]
        return f"{text} {words[0]}", tone
    far = expected > 0 and abs(off) > FAR_OFF * expected
    return text, "red" if far else ""


def point_words(point: ReferencePoint) -> str:
    """What a point keeps besides its row, in a line."""
    parts = [
        f"{point.n} readings, as good as {point.independent:.0f} independent ones",
        f"scatter {_two(point.scatter)}", f"resolution {_two(point.step)}",
        f"drift {_two(point.drift)}/s", point.taken_at[11:16],
        f"board {point.board:.1f} °C" if point.board is not None else "",
        f"against {point.against}" if point.against else "", f"taken early: {point.reason}" if point.reason else "",
    ]  # fmt: skip
    return " · ".join(part for part in parts if part)


def grid_heads(sensor: SensorPlan) -> list[str]:
    """The heads of the grid: a short one for each point, then the check, then now."""
    labels = [_head(p.label) for p in sensor.points if not p.check]
    return ["bench", *labels, "check", "now"]


def _head(label: str) -> str:
    number, _, unit = label.partition(" ")
    return "0" if label == "nothing" else number if number[:1].isdigit() and len(unit) <= 3 else label[:7]


def grid_rows(lesson: OpenLesson, sensor: SensorPlan, taking: Taking) -> list[list[Cell]]:
    """Who has which point, how the check came out, and who is steady now."""
    rows: list[list[Cell]] = []
    bad = {each.alias: each.label for each in reversed(lesson.sensors.disagreements(sensor.channel))}
    for group in lesson.store.groups:
        kit = lesson.store.kit_of(group.id)
        taken = {p.label: p for p in lesson.store.points(kit, sensor.channel)} if kit is not None else {}
        kept = lesson.sensors.applied(group.id, sensor.channel)
        held = {p.label for p in kept.calibration.points} if kept is not None and not taken else set()
        cells: list[Cell] = [group.alias]
        for p in sensor.points:
            if not p.check:
                wrong = bad.get(group.alias) == p.label
                early = p.label in taken and taken[p.label].reason
                mark = ("✗", "red") if wrong else ("◐", "amber") if early else "●" if p.label in taken else ("●", "soft") if p.label in held else ("·", "soft")  # fmt: skip
                cells.append(mark)
        cells += [_check_cell(kept, taken, sensor), _now_cell(lesson, group.id, sensor, taking)]
        rows.append(cells)
    return rows


def _check_cell(kept: Applied | None, taken: dict[str, ReferencePoint], sensor: SensorPlan) -> Cell:
    labels = [p.label for p in sensor.points if p.check]
    if not labels:
        return (NO_VALUE, "soft")
    point = next((taken[label] for label in labels if label in taken), None)
    if kept is None:
        return "●" if point is not None else ("○", "soft")
    point = point or next((p for p in kept.calibration.points if p.check), None)
    return CHECKED[check_state(kept, point)] if point is not None else ("○", "soft")


def _now_cell(lesson: OpenLesson, group: int, sensor: SensorPlan, taking: Taking) -> Cell:
    why = lesson.roster.why_not_ready(group)
    if why not in ("", "recording", "waits"):
        return bench_note(why), "red"
    if lack := not_sent(lesson, group, sensor):
        return lack, "amber"
    found = lesson.sensors.steady(group, sensor.channel)
    waits_for = taking.waiting.get(group)
    if waits_for is not None and waits_for.code != NOT_STEADY:
        return waits_for.what, "amber"
    waits = " · follows" if waits_for is not None else ""
    if found is None or found.n == 0:
        return "listening", "amber"
    if found.steady:
        return "✓ steady", "good"
    if found.expected == found.expected and 0 < found.expected < 3600:
        return f"in {_time(found.expected)}{waits}", "amber"
    return f"moving{waits}", "amber"


def sentence_words(lesson: OpenLesson, group: int, shown: Shown, sensor: SensorPlan) -> tuple[str, str]:
    """The calibration in a sentence, and what it is worth: to be copied into a report."""
    if shown.ready is None:
        return "No curve yet", shown.why
    kit = lesson.store.kit_of(group)
    kept = lesson.store.calibration(kit, sensor.channel) if kit is not None else None
    head, _, where = sentence(shown.ready).partition("; where ")
    kept_words = _kept_words(kept, shown.ready, sensor)
    parts = [f"Where {where}." if where else "", worth(shown.ready), fit_words(shown.ready), kept_words]
    return head, " ".join(part for part in parts if part)


def _kept_words(kept: Calibration | None, ready: Applied, sensor: SensorPlan) -> str:
    if kept is None:
        return "Not kept yet: press K."
    if kept.parameters != ready.calibration.parameters:
        return f"Not kept yet: press K. It replaces “{age_words(kept.made_at)}” for new runs; earlier runs keep theirs."
    old = sensor.old_after and days_old(kept.made_at) > sensor.old_after
    if not kept.made_at:
        return "It holds as the plan has it."
    return f"Kept {age_words(kept.made_at)}." + (
        f" That is old: the plan allows {sensor.old_after} days." if old else ""
    )


def report(lesson: OpenLesson, group: int, shown: Shown, sensor: SensorPlan) -> str:
    """What is copied: sentence, worth, points with residuals."""
    head, more = sentence_words(lesson, group, shown, sensor)
    if shown.ready is None:
        return f"{head}. {more}"
    lines = [f"{sensor.channel} of {lesson.store.group(group).alias}: {head}.", more, in_a_cell(shown.ready)]
    lines = [line for line in lines if line]
    for point in shown.ready.calibration.points:
        number = f", E_n = {check_number(shown.ready, point):.2f}" if point.check else ""
        residual = plain(shown.ready.residual(point), 4)
        lines.append(
            f"{point.label}: reference {written(point.reference, point.u_reference, sensor.unit)}, reading "
            f"{written(point.reading, point.u_reading)}, residual {residual} {sensor.unit}{number}"
        )
    return "\n".join(lines)
