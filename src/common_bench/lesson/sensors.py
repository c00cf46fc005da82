"""How the sensors of a lesson stand now: steady or not, calibrated or not, healthy or not, at odds with the class or not."""

from __future__ import annotations

import numpy as np

from common_bench.book.changes import Change, Row
from common_bench.calibrate.applied import Applied
from common_bench.calibrate.comparing import Disagreement, disagreeing
from common_bench.calibrate.steady import STRETCHES, Limits, Steadiness, steadiness
from common_bench.lesson.changes import Changes
from common_bench.lesson.roster import Roster
from common_bench.lesson.store import LessonStore
from common_bench.model.calibration import Calibration
from common_bench.model.plan import SensorPlan
from common_bench.reading.health import ColumnHealth, column_health
from common_bench.record.traces import Picture

STEADY_LOOK = 1.1 * STRETCHES[-1]  # s of readings that are looked at, more of a kit that sends slowly
USUAL_RATE = 10.0  # readings per s, below which more is looked at
HEALTH_WINDOW = 10.0  # s of readings from which a column is judged


class SensorStates:
    """Each sensor judged from the readings of the last seconds; nothing here changes the book."""

    def __init__(self, store: LessonStore, roster: Roster, changes: Changes, speed: float) -> None:
        """speed: world s per s."""
        self._store, self._roster, self._speed = store, roster, speed
        self._steady: dict[tuple[int, str], tuple[float, Steadiness]] = {}
        self._ready: dict[tuple[int, str], Applied] = {}
        self._wrong: dict[
            tuple[str, bool], tuple[tuple[list[Row], list[Row]], dict[str, str]]
        ] = {}  # for a state of the rows
        changes.followers.append(self._forget)

    def _forget(self, _: Change) -> None:
        self._steady.clear()

    def recent(self, group: int, channel: str) -> Picture:
        """The readings of a channel that steadiness is judged by; times in s on the engine's clock."""
        state = self._roster.state(group)
        if state is None:
            return Picture(np.empty(0), np.empty(0))
        rate = state.rate if state.rate == state.rate and state.rate > 0 else USUAL_RATE
        return state.live.recent(
            f"raw {self._store.column_of(state.kit, channel)}", STEADY_LOOK * max(1.0, USUAL_RATE / rate)
        )

    def steady(self, group: int, channel: str) -> Steadiness | None:
        """How steady a bench's channel is now; None where nothing is heard."""
        state, sensor = self._roster.state(group), self._store.sensor(channel)
        if state is None or not state.is_open or state.trouble is not None or sensor is None:
            return None
        key, at = (group, channel), state.live.last_t
        if key not in self._steady or self._steady[key][0] != at:
            picture = self.recent(group, channel)
            self._steady[key] = at, steadiness(picture.t, picture.values, self.limits(group, sensor))
        return self._steady[key][1]

    def is_steady(self, group: int, channel: str) -> bool:
        found = self.steady(group, channel)
        return found is not None and found.steady

    def limits(self, group: int, sensor: SensorPlan) -> Limits:
        """The plan's limits of steadiness in the raw unit; what it leaves open, or cannot be turned into raw
        numbers before there is a curve, is proposed from the channel itself."""
        if not (sensor.steady_drift or sensor.steady_scatter):
            return Limits()
        kit = self._store.kit_of(group)
        ready = self.applied(group, sensor.channel)
        points = self._store.points(kit, sensor.channel) if kit is not None else []
        sensitivity = 0.0
        if ready is not None:
            sensitivity = abs(float(ready.sensitivity(np.array([np.mean(ready.calibration.range)]))[0]))
        elif len(points) > 1 and points[0].reading != points[-1].reading:
            sensitivity = abs((points[0].reference - points[-1].reference) / (points[0].reading - points[-1].reading))
        if not (np.isfinite(sensitivity) and sensitivity > 0):
            return Limits()
        planned = (sensor.steady_drift, sensor.steady_scatter)
        drift, scatter = (value / sensitivity if value else None for value in planned)
        return Limits(drift, scatter)

    def applied(self, group: int, channel: str) -> Applied | None:
        """The newest calibration of a bench's channel, ready to be applied."""
        kit = self._store.kit_of(group)
        found = self._store.calibration(kit, channel) if kit is not None else None
        return self.made_ready(found) if found is not None else None

    def made_ready(self, kept: Calibration) -> Applied:
        """A kept calibration ready to be applied, made once."""
        key = kept.id, kept.channel
        if self._ready.get(key) is None or self._ready[key].calibration != kept:
            self._ready[key] = Applied(kept)
        return self._ready[key]

    def disagreements(self, channel: str) -> list[Disagreement]:
        """Benches that disagree with the class at a common point, the farthest first."""
        taken = {
            group.alias: {point.label: point for point in self._store.points(kit, channel)}
            for group in self._store.groups
            if (kit := self._store.kit_of(group.id)) is not None
        }
        labels = dict.fromkeys(label for points in taken.values() for label in points)
        found = [each for label in labels for each in disagreeing(taken, label)]
        return sorted(found, key=lambda each: -abs(each.share - 1))

    def wrong_points(self, channel: str, *, kept: bool) -> dict[str, str]:
        """alias -> the label of the point at which a bench disagrees with the class most, by the points of the calibrations that are
        kept, or by those that were taken in this lesson."""
        rows = self._store.rows("calibration" if kept else "reference_point"), self._store.rows("bench")
        known = self._wrong.get((channel, kept))
        if known is None or known[0][0] is not rows[0] or known[0][1] is not rows[1]:
            taken = {}
            for group in self._store.groups:
                kit = self._store.kit_of(group.id)
                found = self._store.calibration(kit, channel) if kit is not None and kept else None
                points = (
                    found.points
                    if found is not None
                    else self._store.points(kit, channel)
                    if kit is not None and not kept
                    else ()
                )
                taken[group.alias] = {point.label: point for point in points}
            labels = dict.fromkeys(label for points in taken.values() for label in points)
            far = sorted(
                (each for label in labels for each in disagreeing(taken, label)), key=lambda each: abs(each.share - 1)
            )
            known = self._wrong[channel, kept] = rows, {each.alias: each.label for each in far}
        return known[1]

    def health(self, kit: int) -> list[ColumnHealth]:
        """What can be said of each channel of a kit, from its last readings."""
        state = self._roster.kits.get(kit)
        found = []
        for name in state.channels if state is not None else ():
            assert state is not None
            picture = state.live.recent(f"raw {name}", HEALTH_WINDOW * self._speed)
            found.append(column_health(name, picture.t, picture.values, state.live.extent(name)))
        return found
