"""How the sensors of a lesson stand now: steady or not, calibrated or not, healthy or not, at odds with the class or not."""

from __future__ import annotations

import numpy as np

from common_bench.book.book import Book
from common_bench.calibrate.applied import Applied
from common_bench.calibrate.comparing import Disagreement, disagreeing
from common_bench.calibrate.steady import STRETCHES, Limits, Steadiness, steadiness
from common_bench.lesson.hearing import Hearing
from common_bench.model.calibration import Calibration
from common_bench.model.plan import SensorPlan
from common_bench.reading.health import ColumnHealth, column_health
from common_bench.record.applying import applied
from common_bench.record.live import Picture

STEADY_LOOK = 1.1 * STRETCHES[-1]  # s of readings that are looked at, more of a kit that sends slowly
USUAL_RATE = 10.0  # readings per s, below which more is looked at
HEALTH_WINDOW = 10.0  # s of readings from which a column is judged


class Sensors(Hearing):
    """A lesson with its sensors, each judged from the readings of the last seconds; nothing here changes the book."""

    def __init__(self, book: Book, *, speed: float = 1.0, live: bool = True) -> None:
        super().__init__(book, speed=speed, live=live)
        self._steady: dict[tuple[int, str], tuple[float, Steadiness]] = {}
        self._ready: dict[int, Applied] = {}

    def recent(self, group: int, channel: str) -> Picture:
        """The readings of a channel that steadiness is judged by; times in s on the engine's clock."""
        ear = self.ear(group)
        if ear is None:
            return Picture(np.empty(0), np.empty(0))
        rate = ear.rate if ear.rate == ear.rate and ear.rate > 0 else USUAL_RATE
        return ear.live.recent(f"raw {channel}", STEADY_LOOK * max(1.0, USUAL_RATE / rate))

    def steady(self, group: int, channel: str) -> Steadiness | None:
        """How steady a bench's channel is now; None where nothing is heard."""
        ear, sensor = self.ear(group), self.sensor(channel)
        if ear is None or ear.link is None or ear.trouble is not None or sensor is None:
            return None
        key, at = (group, channel), ear.live.last_t
        if key not in self._steady or self._steady[key][0] != at:
            picture = self.recent(group, channel)
            self._steady[key] = at, steadiness(picture.t, picture.values, self.limits(group, sensor))
        return self._steady[key][1]

    def limits(self, group: int, sensor: SensorPlan) -> Limits:
        """The plan's limits of steadiness in the raw unit; what it leaves open, or cannot be turned into raw
        numbers before there is a curve, is proposed from the channel itself."""
        if not (sensor.steady_drift or sensor.steady_scatter):
            return Limits()
        kit = self.kit_of(group)
        ready = self.applied(group, sensor.channel)
        points = self.points(kit, sensor.channel) if kit is not None else []
        steep = 0.0
        if ready is not None:
            steep = abs(float(ready.steep(np.array([np.mean(ready.calibration.range)]))[0]))
        elif len(points) > 1 and points[0].reading != points[-1].reading:
            steep = abs((points[0].reference - points[-1].reference) / (points[0].reading - points[-1].reading))
        if not (np.isfinite(steep) and steep > 0):
            return Limits()
        drift, scatter = (value / steep if value else None for value in (sensor.steady_drift, sensor.steady_scatter))
        return Limits(drift, scatter)

    def applied(self, group: int, channel: str) -> Applied | None:
        kit = self.kit_of(group)
        found = self.calibration(kit, channel) if kit is not None else None
        return self.made_ready(found) if found is not None else None

    def made_ready(self, kept: Calibration) -> Applied:
        """A kept calibration ready to be applied, made once."""
        if self._ready.get(kept.id) is None or self._ready[kept.id].calibration != kept:
            self._ready[kept.id] = applied(kept)
        return self._ready[kept.id]

    def disagreements(self, channel: str) -> list[Disagreement]:
        """Benches that disagree with the class at a common point, the farthest first."""
        taken = {
            group.alias: {point.label: point for point in self.points(kit, channel)}
            for group in self.groups
            if (kit := self.kit_of(group.id)) is not None
        }
        labels = dict.fromkeys(label for points in taken.values() for label in points)
        found = [each for label in labels for each in disagreeing(taken, label)]
        return sorted(found, key=lambda each: -abs(each.share - 1))

    def health(self, kit: int) -> list[ColumnHealth]:
        """What can be said of each channel of a kit, from its last readings."""
        ear = self.engine.ears.get(kit)
        if ear is None or ear.chain.reader.format is None:
            return []
        found = []
        for name in ear.chain.reader.format.channels:
            seconds = HEALTH_WINDOW * self.engine.speed
            picture = ear.live.recent(f"raw {name}", seconds)
            found.append(column_health(name, picture.t, picture.values, ear.live.extent(name)))
        return found
