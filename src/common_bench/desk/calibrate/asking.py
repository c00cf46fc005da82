"""What stage 3 asks a person in place, and what it does with the answer: curve, points, reasons, steps, limits."""

from __future__ import annotations

from common_bench.lesson import calibrating, sensor_plan
from common_bench.lesson.actions import no_reason
from common_bench.model.measured import written
from common_bench.model.trouble import CalibrationTrouble


class Asking:
    """Questions of the Calibrate stage, which has the sensor, the planned point and the place for a question."""

    def _choose_curve(self, kind: str) -> None:
        sensor = self.sensor
        self.setFocus()
        if sensor is None or kind == sensor.curve:
            return
        if kind == "formula":
            self.question.ask(
                f"The formula for {sensor.quantity}, and how far off it may be", "Use it",
                lambda text: sensor_plan.set_formula(self.hub.lesson, sensor.channel, text),
                hint=f"{sensor.quantity} = (reading − 102) * 0.5 {sensor.unit} ± 0.5 {sensor.unit}",
            )  # fmt: skip
            return
        self.hub.try_to(lambda: sensor_plan.change_sensor(self.hub.lesson, sensor.channel, f"Use a {kind}", curve=kind))

    def _edit_point(self, row: int, column: int, text: str) -> None:
        sensor = self.sensor
        if sensor and row < len(sensor.points):
            label = text.removeprefix("check ") if column == 0 else ""
            self._set_point(row, label=label, reference=text if column == 1 else "")

    def _set_point(self, at: int, **what: str) -> None:
        self.hub.try_to(lambda: sensor_plan.set_point(self.hub.lesson, self.sensor.channel, at, **what))
        self.refresh()

    def _ask_reference(self) -> None:
        sensor, planned, at = self.sensor, self.planned, self._at
        if sensor and planned:
            self.question.ask(
                f"The reference of {planned.label}", "Keep it",
                lambda text: sensor_plan.set_point(self.hub.lesson, sensor.channel, at, reference=text),
                text=written(planned.value, planned.u, sensor.unit),
            )  # fmt: skip

    def _ask_new_point(self) -> None:
        sensor = self.sensor
        if sensor is None:
            self.hub.tell("This plan calibrates no sensor. Add one in stage 1, Plan.", "amber")
            return
        self.question.ask(
            "A new point: what is held = its reference", "Add it",
            lambda text: sensor_plan.add_point(self.hub.lesson, sensor.channel, text),
            hint=f"400 g = 3.923 ± 0.004 {sensor.unit}; begin with “check ” for a check point",
        )  # fmt: skip

    def _swap_check(self) -> None:
        if self.planned:
            self.hub.try_to(lambda: sensor_plan.swap_check(self.hub.lesson, self.sensor.channel, self._at))

    def _remove_point(self) -> None:
        if self.planned:
            self.hub.try_to(lambda: sensor_plan.remove_point(self.hub.lesson, self.sensor.channel, self._at))

    def _ask_aside(self) -> None:
        point = self._own_point()
        if point is None:
            self.hub.tell("There is no such point to set aside on this bench yet.", "amber")
            return
        alias = self.hub.lesson.group(self.hub.group).alias
        self.question.ask(
            f"Why is {point.label} of {alias} set aside?", "Set aside",
            lambda why: calibrating.set_aside_point(self.hub.lesson, point.id, why), hint="as: the mass touched the table",
        )  # fmt: skip

    def _ask_early(self) -> None:
        if self.planned is None or not self.hub.group:
            return
        alias, group = self.hub.lesson.group(self.hub.group).alias, self.hub.group
        self.question.ask(
            f"Why is {self.planned.label} of {alias} taken before it is steady?", "Take it",
            lambda why: self._take_early(group, why), hint="as: the bath cools all the time",
        )  # fmt: skip

    def _take_early(self, group: int, why: str) -> None:
        reason = no_reason(why)
        if not self.taking.take([group], reason):
            raise CalibrationTrouble(f"it is not taken: {self.taking.waiting.pop(group, 'nothing is heard')}.")

    def _ask_steps(self) -> None:
        sensor = self.sensor
        if sensor:
            self.question.ask(
                "Steps from the reading to what the curve takes (empty: none)", "Use them",
                lambda text: sensor_plan.set_steps(self.hub.lesson, sensor.channel, text), text="; ".join(sensor.steps),
                hint="voltage = reading * 3.3 V / 1023; resistance = 10000 ohm * voltage / (3.3 V - voltage)",
            )  # fmt: skip

    def _ask_limits(self) -> None:
        sensor = self.sensor
        if sensor:
            unit = sensor.unit
            now = f"{sensor.steady_drift:g} {unit}/s · {sensor.steady_scatter:g} {unit}" if sensor.steady_drift else ""
            self.question.ask(
                "Drift · scatter that count as steady (empty: as the channel proposes)", "Set",
                lambda text: sensor_plan.set_limits(self.hub.lesson, sensor.channel, text), text=now,
                hint=f"0.001 {unit}/s · 0.01 {unit}",
            )  # fmt: skip
