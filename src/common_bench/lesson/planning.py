"""Stage 1 as actions: the plan's workings, conditions and sensors, the groups. Each is one step of undo."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from common_bench.book.changes import Change, Row, RowChange
from common_bench.calibrate.curves import find_curve
from common_bench.calibrate.points import check_reference
from common_bench.lesson.changes import Changes
from common_bench.lesson.plan_checking import checked
from common_bench.lesson.roster import Roster
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row
from common_bench.model.calibration import PlannedPoint
from common_bench.model.measured import Measured, read_measured
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.plan_file import plan_from_text, plan_to_text
from common_bench.model.trouble import CalibrationTrouble, PlanTrouble
from common_bench.workings.formula import Formula


class Planning:
    """What the plan asks for, changed on the way. Each action gives its Change, or raises Trouble and changes nothing."""

    def __init__(self, store: LessonStore, changes: Changes, roster: Roster) -> None:
        self._store, self._changes, self._roster = store, changes, roster

    def change_plan(self, plan: Plan, label: str, also: Sequence[RowChange] = ()) -> Change:
        """Keeps an edited plan, with other rows in the same step. Raises Trouble where the plan cannot be used."""
        text = plan_to_text(plan)
        plan_from_text(text, "the plan")
        row = self._store.book.changed("plan", self._store.row["plan"], name=plan.name, text=text)
        return self._changes.do(label, [row, *also])

    def edit_workings(self, lines: Sequence[str]) -> Change:
        """Replaces the plan's workings. Raises the first WorkingTrouble; the old ones then stay."""
        kept = tuple(line.strip() for line in lines if line.strip())
        plan = msgspec.structs.replace(self._store.plan, workings=kept)
        found = checked(plan)
        if found.troubles:
            raise found.troubles[0]
        return self.change_plan(plan, "Change the workings")

    def set_condition(self, group: int, name: str, text: str) -> Change:
        """A group's condition from now on, as `0.752 ± 0.002 m`; the plan's uncertainty where none is given."""
        store = self._store
        value = read_condition(store.plan, name, text)
        shared = store.plan.condition(name).same_for_all
        label = f"{name} of the class" if shared else f"{name} of {store.group(group).alias}"
        groups = [each.id for each in store.groups] if shared else [group]
        return self._changes.do(label, [self._condition_change(each, name, condition_row(value)) for each in groups])

    def _condition_change(self, group: int, name: str, values: Row) -> RowChange:
        store = self._store
        for row in store.rows("condition_value"):
            if (row["lesson"], row["group"], row["name"]) == (store.id, group, name):
                return store.book.changed("condition_value", row["id"], **values)
        return store.book.added("condition_value", lesson=store.id, group=group, name=name, **values)

    # sensors

    def planned_sensor(self, channel: str) -> SensorPlan:
        """Raises CalibrationTrouble where the plan calibrates no such channel."""
        sensor = self._store.sensor(channel)
        if sensor is None:
            raise CalibrationTrouble("no-such-sensor")
        return sensor

    def change_sensor(self, channel: str, label: str, **changes: object) -> Change:
        """Another curve, other limits or points for a sensor of the plan. Raises Trouble where they cannot be."""
        sensor = msgspec.structs.replace(self.planned_sensor(channel), **changes)
        find_curve(sensor.curve)
        if sensor.steps:
            Formula(sensor.steps, self._roster.raw_unit(None, channel), "")
        if sensor.formula:
            Formula((*sensor.steps, sensor.formula), self._roster.raw_unit(None, channel), sensor.unit)
        sensors = tuple(sensor if each.channel == channel else each for each in self._store.plan.sensors)
        return self.change_plan(msgspec.structs.replace(self._store.plan, sensors=sensors), label)

    def set_formula(self, channel: str, text: str) -> Change:
        """A data sheet's formula with its stated uncertainty, as `temperature = reading / 10 - 50 ± 0.5 °C`."""
        sensor = self.planned_sensor(channel)
        body, mark, off = text.replace("+-", "±").rpartition("±")
        if not mark:
            raise CalibrationTrouble("formula-u-missing", unit=sensor.unit)
        body = body.strip() if "=" in body else f"{sensor.quantity} = {body.strip()}"
        u = read_measured(off, sensor.unit).value
        if u <= 0:
            raise CalibrationTrouble("formula-u-not-above-zero", unit=sensor.unit)
        return self.change_sensor(channel, "Give the formula", curve="formula", formula=body, u=u)

    def set_steps(self, channel: str, text: str) -> Change:
        """What leads from the reading to what the curve takes, as `voltage = reading * 3.3 V / 1023; resistance = …`;
        nothing: the curve takes the reading itself. Raises WorkingTrouble with the step."""
        steps = tuple(step.strip() for step in text.split(";") if step.strip())
        return self.change_sensor(channel, "Set the steps before the curve", steps=steps)

    def set_limits(self, channel: str, text: str) -> Change:
        """`0.001 N/s · 0.01 N`: the drift and the scatter that count as steady; nothing: as the channel proposes."""
        sensor = self.planned_sensor(channel)
        if not text.strip():
            return self.change_sensor(channel, "Set the limits", steady_drift=0.0, steady_scatter=0.0)
        drift, _, scatter = (part.strip() for part in text.replace(";", "·").partition("·"))
        per_second = f"{sensor.unit}/s" if sensor.unit else "1/s"
        values = [read_measured(drift, per_second).value, read_measured(scatter, sensor.unit).value if scatter else 0.0]
        if values[0] <= 0 or values[1] < 0:
            raise CalibrationTrouble("limit-not-above-zero", per_second=per_second, unit=sensor.unit)
        return self.change_sensor(channel, "Set the limits", steady_drift=values[0], steady_scatter=values[1])

    def set_point(self, channel: str, at: int, *, label: str = "", reference: str = "") -> Change:
        """Another name or reference for a planned point. Points that were taken keep what they were taken with."""
        sensor = self.planned_sensor(channel)
        point = sensor.points[at]
        if label:
            _free_label(sensor, label.strip(), at)
            point = msgspec.structs.replace(point, label=label.strip())
        if reference:
            value = read_reference(sensor, point.label, reference, point.u)
            point = msgspec.structs.replace(point, value=value.value, u=value.u)
        points = (*sensor.points[:at], point, *sensor.points[at + 1 :])
        return self.change_sensor(channel, "Change a point of the plan", points=points)

    def add_point(self, channel: str, text: str) -> Change:
        """`400 g = 3.923 ± 0.004 N`, with `check` before it for a check point; put behind the others."""
        sensor = self.planned_sensor(channel)
        label, sign, reference = (part.strip() for part in text.partition("="))
        check_point = label.lower().startswith("check ")
        label = label[6:].strip() if check_point else label
        if not sign or not label:
            raise CalibrationTrouble("not-a-point", unit=sensor.unit)
        _free_label(sensor, label, -1)
        value = read_reference(sensor, label, reference)
        added = PlannedPoint(label, value.value, value.u, check_point)
        return self.change_sensor(channel, f"Add {label}", points=(*sensor.points, added))

    def remove_point(self, channel: str, at: int) -> Change:
        sensor = self.planned_sensor(channel)
        left = sensor.points[:at] + sensor.points[at + 1 :]
        return self.change_sensor(channel, f"Take {sensor.points[at].label} off the plan", points=left)

    def swap_check(self, channel: str, at: int) -> Change:
        """Makes a point the check point, or a point of the curve again; points that were taken follow."""
        store, sensor = self._store, self.planned_sensor(channel)
        point = msgspec.structs.replace(sensor.points[at], check=not sensor.points[at].check)
        points = (*sensor.points[:at], point, *sensor.points[at + 1 :])
        sensors = tuple(
            msgspec.structs.replace(each, points=points) if each.channel == channel else each
            for each in store.plan.sensors
        )
        rows = [
            store.book.changed("reference_point", row["id"], is_check=int(point.check))
            for row in store.rows("reference_point")
            if (row["lesson"], row["channel"], row["label"]) == (store.id, channel, point.label)
        ]
        label = f"{point.label} is {'the check point' if point.check else 'a point of the curve'}"
        return self.change_plan(msgspec.structs.replace(store.plan, sensors=sensors), label, also=rows)


def read_condition(plan: Plan, name: str, text: str) -> Measured | str:
    """A condition as it is typed: a number in the plan's unit, with the plan's uncertainty where none is given; an entry of
    its list; words. Raises Trouble."""
    planned = plan.condition(name)
    if planned.kind == "number":
        value = read_measured(text, planned.unit)
        return value if value.u else Measured(value.value, planned.u, value.unit)
    words = " ".join(text.split())
    if not words:
        raise PlanTrouble("condition-empty", name=name)
    if planned.kind == "choice":
        found = next((each for each in planned.choices if each.lower() == words.lower()), None)
        if found is None:
            raise PlanTrouble("no-such-entry", name=name, words=words, known=", ".join(planned.choices))
        return found
    return words


def read_reference(sensor: SensorPlan, label: str, text: str, u: float = 0.0) -> Measured:
    """`0.981 ± 0.003 N` as a reference for a sensor; a missing unit means the sensor's. Raises Trouble: the wrong kind, no
    uncertainty."""
    value = read_measured(text, sensor.unit)
    value = Measured(value.value, value.u or u, value.unit)
    check_reference(label, value.value, value.u)
    return value


def _free_label(sensor: SensorPlan, label: str, own: int) -> None:
    if not label or any(p.label.lower() == label.lower() for at, p in enumerate(sensor.points) if at != own):
        raise CalibrationTrouble("point-name-taken", label=label)
