"""Which sensor and which reference point the Calibrate stage is about: the graph, the button and the table all ask here."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from common_bench.desk.shell.hub import Hub
from common_bench.lesson.calibrating import Taking
from common_bench.model.calibration import PlannedPoint, ReferencePoint
from common_bench.model.plan import SensorPlan


class Aim(QObject):
    """Guarantees that what is named anywhere as the next point is the one that is taken."""

    moved = pyqtSignal()

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self._hub = hub
        self.taking: Taking = hub.lesson.taking()
        self.at = self._sensor_at = 0

    @property
    def sensor(self) -> SensorPlan | None:
        sensors = self._hub.lesson.store.plan.sensors
        return sensors[self._sensor_at % len(sensors)] if sensors else None

    @property
    def planned(self) -> PlannedPoint | None:
        sensor = self.sensor
        return sensor.points[self.at % len(sensor.points)] if sensor and sensor.points else None

    @property
    def kit(self) -> int | None:
        return self._hub.lesson.store.kit_of(self._hub.group) if self._hub.group else None

    @property
    def own_points(self) -> list[ReferencePoint]:
        """Points of the selected bench that count."""
        kit = self.kit
        return self._hub.lesson.store.points(kit, self.sensor.channel) if self.sensor and kit is not None else []

    @property
    def own_point(self) -> ReferencePoint | None:
        planned = self.planned
        return next((p for p in self.own_points if planned and p.label == planned.label), None)

    def go_to(self, at: int) -> None:
        sensor = self.sensor
        if sensor and sensor.points:
            self.at = at % len(sensor.points)
            self.follow()

    def next_sensor(self) -> None:
        self._sensor_at, self.at = self._sensor_at + 1, 0
        self.follow()

    def go_on(self) -> None:
        """To the next point that somebody lacks, once everybody has this one whose kit is heard: one that is dead holds up
        nobody."""
        sensor, lesson = self.sensor, self._hub.lesson
        if sensor is None:
            return
        has_point = lesson.calibrating.has_point
        groups = [g.id for g in lesson.store.groups if g.id != self.taking.against]
        missing = self.taking.missing()
        if len(missing) == len(groups) or any(lesson.roster.is_heard(group) for group in missing):
            return
        for at in range(self.at + 1, len(sensor.points)):
            if not all(has_point(g, sensor.channel, sensor.points[at].label) for g in groups):
                self.taking.go_on_to(sensor.points[at].label)
                self.go_to(at)
                return

    def follow(self) -> None:
        """Tells the core which point is meant, so that waiting benches never get another one, and all who name it."""
        sensor, planned = self.sensor, self.planned
        self._hub.lesson.calibrating.channel = sensor.channel if sensor else None
        self.taking.about(sensor.channel if sensor else "", planned.label if planned else "")
        self.moved.emit()

    def take_over(self, other: Aim) -> None:
        """Goes on where another was, with who waits there."""
        self._sensor_at, self.at, self.taking = other._sensor_at, other.at, other.taking
        self.follow()
