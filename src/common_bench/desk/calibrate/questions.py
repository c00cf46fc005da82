"""What the Calibrate stage asks a person in place, and what it does with the answer: curve, points, reasons, steps, limits."""

from __future__ import annotations

from common_bench.calibrate.curves import curve_name
from common_bench.desk.calibrate.aim import Aim
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.calibration_words import point_example
from common_bench.lesson.worked_runs import no_reason
from common_bench.model.measured import written
from common_bench.model.plan import SensorPlan
from common_bench.model.trouble import CalibrationTrouble, Trouble

NO_SENSOR = "This plan calibrates no sensor. Add one in stage 1, Plan."


class CalibrateQuestions:
    """Each asks about the sensor and the point that are aimed at when it is asked."""

    def __init__(self, hub: Hub, aim: Aim) -> None:
        self._hub, self._aim = hub, aim

    def _sensor(self) -> SensorPlan | None:
        if self._aim.sensor is None:
            self._hub.tell(NO_SENSOR, "amber")
        return self._aim.sensor

    def curve(self, key: str) -> None:
        """Another curve; a formula by hand is asked for."""
        sensor, planning = self._aim.sensor, self._hub.lesson.planning
        if sensor is None or key == sensor.curve:
            return
        if key == "formula":
            self._hub.messages.ask(
                f"The formula for {sensor.quantity}, and how far off it may be", "Use it",
                lambda text: planning.set_formula(sensor.channel, text),
                hint=f"{sensor.quantity} = (reading − 102) * 0.5 {sensor.unit} ± 0.5 {sensor.unit}",
            )  # fmt: skip
            return
        self._hub.try_to(lambda: planning.change_sensor(sensor.channel, f"Use a {curve_name(key)}", curve=key))

    def reference(self) -> None:
        sensor, planned, at = self._sensor(), self._aim.planned, self._aim.at
        if sensor and planned:
            self._hub.messages.ask(
                f"The reference of {planned.label}", "Keep it",
                lambda text: self._hub.lesson.planning.set_point(sensor.channel, at, reference=text),
                text=written(planned.value, planned.u, sensor.unit),
            )  # fmt: skip

    def new_point(self) -> None:
        sensor = self._sensor()
        if sensor:
            self._hub.messages.ask(
                "A new point: what is held = its reference", "Add it",
                lambda text: self._hub.lesson.planning.add_point(sensor.channel, text),
                hint=f"as {point_example(sensor)}; begin with “check ” for a check point",
            )  # fmt: skip

    def swap_check(self) -> None:
        sensor = self._sensor()
        if sensor and self._aim.planned:
            self._hub.try_to(lambda: self._hub.lesson.planning.swap_check(sensor.channel, self._aim.at))

    def remove_point(self) -> None:
        sensor, planned = self._sensor(), self._aim.planned
        if (
            sensor
            and planned
            and self._hub.try_to(lambda: self._hub.lesson.planning.remove_point(sensor.channel, self._aim.at))
        ):
            self._hub.tell(
                f"{planned.label} is off the plan; points that were taken stay.",
                "good",
                act="Take back",
                then=self._hub.undo,
            )

    def set_aside(self) -> None:
        point = self._aim.own_point
        if point is None:
            self._hub.tell("There is no such point to set aside on this bench yet.", "amber")
            return
        self._hub.messages.ask(
            f"Why is {point.label} of {self._hub.alias} set aside?", "Set aside",
            lambda why: self._hub.lesson.calibrating.set_aside_point(point.id, why), hint="as: the mass touched the table",
        )  # fmt: skip

    def early(self) -> None:
        planned, group = self._aim.planned, self._hub.group
        if planned is None or not group:
            return
        self._hub.messages.ask(
            f"Why is {planned.label} of {self._hub.alias} taken before it is steady?", "Take it",
            lambda why: self._take_early(group, why), hint="as: the bath cools all the time",
        )  # fmt: skip

    def _take_early(self, group: int, why: str) -> None:
        taking = self._aim.taking
        label = taking.label
        if not taking.take([group], no_reason(why)):
            found: Trouble | None = taking.waiting.pop(group, None)
            raise CalibrationTrouble("early-point-refused", why=found.what if found is not None else "nothing is heard")
        self._hub.tell(f"{label} taken on {self._hub.alias}, early: {why.strip()}.", "good")

    def steps(self) -> None:
        sensor = self._sensor()
        if sensor:
            self._hub.messages.ask(
                "Steps from the reading to what the curve takes (empty: none)", "Use them",
                lambda text: self._hub.lesson.planning.set_steps(sensor.channel, text), text="; ".join(sensor.steps),
                hint="voltage = reading * 3.3 V / 1023; resistance = 10000 ohm * voltage / (3.3 V - voltage)",
            )  # fmt: skip

    def limits(self) -> None:
        sensor = self._sensor()
        if sensor:
            unit = sensor.unit
            now = f"{sensor.steady_drift:g} {unit}/s · {sensor.steady_scatter:g} {unit}" if sensor.steady_drift else ""
            self._hub.messages.ask(
                "Drift · scatter that count as steady (empty: as the channel proposes)", "Set",
                lambda text: self._hub.lesson.planning.set_limits(sensor.channel, text), text=now,
                hint=f"0.001 {unit}/s · 0.01 {unit}",
            )  # fmt: skip
