"""What the plan asks of a sensor, changed on the way: curve, steps, limits, points. Text in; one step of undo out."""

from __future__ import annotations

import msgspec

from common_bench.book.changes import Change
from common_bench.calibrate.curves import find_kind
from common_bench.calibrate.points import check_reference
from common_bench.lesson.actions import change_plan
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.calibration import PlannedPoint
from common_bench.model.measured import Measured, read_measured
from common_bench.model.plan import SensorPlan
from common_bench.model.trouble import CalibrationTrouble
from common_bench.workings.formula import formula


def planned_sensor(lesson: OpenLesson, channel: str) -> SensorPlan:
    """Raises CalibrationTrouble where the plan calibrates no such channel."""
    sensor = lesson.sensor(channel)
    if sensor is None:
        raise CalibrationTrouble("the plan calibrates no such sensor.", do="Add it in stage 1, Plan.")
    return sensor


def change_sensor(lesson: OpenLesson, channel: str, label: str, **changes: object) -> Change:
    """Another curve, other limits or points for a sensor of the plan. Raises Trouble where they cannot be."""
    sensor = msgspec.structs.replace(planned_sensor(lesson, channel), **changes)
    find_kind(sensor.curve)
    if sensor.steps:
        formula(sensor.steps, lesson.raw_unit(None, channel), "")
    if sensor.formula:
        formula((*sensor.steps, sensor.formula), lesson.raw_unit(None, channel), sensor.unit)
    sensors = tuple(sensor if each.channel == channel else each for each in lesson.plan.sensors)
    return change_plan(lesson, msgspec.structs.replace(lesson.plan, sensors=sensors), label)


def set_formula(lesson: OpenLesson, channel: str, text: str) -> Change:
    """A data sheet's formula with its stated uncertainty, as `temperature = reading / 10 - 50 ± 0.5 °C`."""
    sensor = planned_sensor(lesson, channel)
    body, mark, off = text.replace("+-", "±").rpartition("±")
    if not mark:
        raise CalibrationTrouble(
            "the formula's uncertainty is missing.", do=f"End it with how far off it may be, as ± 0.5 {sensor.unit}."
        )
    body = body.strip() if "=" in body else f"{sensor.quantity} = {body.strip()}"
    u = read_measured(off, sensor.unit).value
    if u <= 0:
        raise CalibrationTrouble("an uncertainty is above zero.", do=f"Write it as ± 0.5 {sensor.unit}.")
    return change_sensor(lesson, channel, "Give the formula", curve="formula", formula=body, u=u)


def set_steps(lesson: OpenLesson, channel: str, text: str) -> Change:
    """What leads from the reading to what the curve takes, as `voltage = reading * 3.3 V / 1023; resistance = …`;
    nothing: the curve takes the reading itself. Raises WorkingTrouble with the step."""
    steps = tuple(step.strip() for step in text.split(";") if step.strip())
    return change_sensor(lesson, channel, "Set the steps before the curve", steps=steps)


def set_limits(lesson: OpenLesson, channel: str, text: str) -> Change:
    """`0.001 N/s · 0.01 N`: the drift and the scatter that count as steady; nothing: as the channel proposes."""
    sensor = planned_sensor(lesson, channel)
    if not text.strip():
        return change_sensor(lesson, channel, "Set the limits", steady_drift=0.0, steady_scatter=0.0)
    drift, _, scatter = (part.strip() for part in text.replace(";", "·").partition("·"))
    per_second = f"{sensor.unit}/s" if sensor.unit else "1/s"
    values = [read_measured(drift, per_second).value, read_measured(scatter, sensor.unit).value if scatter else 0.0]
    if values[0] <= 0 or values[1] < 0:
        raise CalibrationTrouble(
            "a limit is above zero.", do=f"Write both, as 0.001 {per_second} · 0.01 {sensor.unit}."
        )
    return change_sensor(lesson, channel, "Set the limits", steady_drift=values[0], steady_scatter=values[1])


def read_reference(sensor: SensorPlan, label: str, text: str, u: float = 0.0) -> Measured:
    """`0.981 ± 0.003 N` as a reference for a sensor. Raises Trouble: no unit, the wrong kind, no uncertainty."""
    value = read_measured(text, sensor.unit)
    if sensor.unit and not text.rstrip().endswith(tuple(_letters(text))):
        raise CalibrationTrouble(f"“{text.strip()}” has no unit.", do=f"Write it as {text.strip()} {sensor.unit}.")
    value = Measured(value.value, value.u or u, value.unit)
    check_reference(label, value.value, value.u)
    return value


def _letters(text: str) -> list[str]:
    """The unit at the end of what was typed, as a list of none or one."""
    last = text.strip().split()[-1] if text.split() else ""
    tail = last.lstrip("+-−±0123456789.,eE")
    return [tail] if tail else []


def set_point(lesson: OpenLesson, channel: str, at: int, *, label: str = "", reference: str = "") -> Change:
    """Another name or reference for a planned point. Points that were taken keep what they were taken with."""
    sensor = planned_sensor(lesson, channel)
    point = sensor.points[at]
    if label:
        _free_label(sensor, label.strip(), at)
        point = msgspec.structs.replace(point, label=label.strip())
    if reference:
        value = read_reference(sensor, point.label, reference, point.u)
        point = msgspec.structs.replace(point, value=value.value, u=value.u)
    return _points(lesson, sensor, (*sensor.points[:at], point, *sensor.points[at + 1 :]), "Change a point of the plan")


def add_point(lesson: OpenLesson, channel: str, text: str) -> Change:
    """`400 g = 3.923 ± 0.004 N`, with `check` before it for a check point; put behind the others."""
    sensor = planned_sensor(lesson, channel)
    label, sign, reference = (part.strip() for part in text.partition("="))
    check = label.lower().startswith("check ")
    label = label[6:].strip() if check else label
    if not sign or not label:
        raise CalibrationTrouble(
            "a point has a name and a reference.", do=f"Write it as: 400 g = 3.923 ± 0.004 {sensor.unit}"
        )
    _free_label(sensor, label, -1)
    value = read_reference(sensor, label, reference)
    added = PlannedPoint(label, value.value, value.u, check)
    return _points(lesson, sensor, (*sensor.points, added), f"Add {label}")


def _free_label(sensor: SensorPlan, label: str, own: int) -> None:
    if not label or any(p.label.lower() == label.lower() for at, p in enumerate(sensor.points) if at != own):
        raise CalibrationTrouble(f"“{label}” is the name of another point.", do="Give each point a name of its own.")


def remove_point(lesson: OpenLesson, channel: str, at: int) -> Change:
    sensor = planned_sensor(lesson, channel)
    left = sensor.points[:at] + sensor.points[at + 1 :]
    return _points(lesson, sensor, left, f"Take {sensor.points[at].label} off the plan")


def swap_check(lesson: OpenLesson, channel: str, at: int) -> Change:
    """Makes a point the check point, or a point of the curve again; points that were taken follow."""
    sensor = planned_sensor(lesson, channel)
    point = msgspec.structs.replace(sensor.points[at], check=not sensor.points[at].check)
    sensors = tuple(
        msgspec.structs.replace(s, points=(*s.points[:at], point, *s.points[at + 1 :])) if s.channel == channel else s
        for s in lesson.plan.sensors
    )
    rows = [
        lesson.book.changed("reference_point", row["id"], is_check=int(point.check))
        for row in lesson.rows("reference_point")
        if (row["lesson"], row["channel"], row["label"]) == (lesson.id, channel, point.label)
    ]
    label = f"{point.label} is {'the check point' if point.check else 'a point of the curve'}"
    return change_plan(lesson, msgspec.structs.replace(lesson.plan, sensors=sensors), label, also=rows)


def _points(lesson: OpenLesson, sensor: SensorPlan, points: tuple[PlannedPoint, ...], label: str) -> Change:
    return change_sensor(lesson, sensor.channel, label, points=points)
