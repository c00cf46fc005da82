"""Stage 3 as actions: taking points on every bench, keeping the curves through them, their history."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

import msgspec
import numpy as np

from common_bench.book.book_file import now
from common_bench.book.changes import Change, RowChange
from common_bench.calibrate.applied import Applied
from common_bench.calibrate.comparing import Reads, drifted
from common_bench.calibrate.fitting import alike, calibrate
from common_bench.calibrate.points import take_point
from common_bench.calibrate.steady import HOLD
from common_bench.lesson.calibration_quality import quality_of_new
from common_bench.lesson.changes import Changes
from common_bench.lesson.planning import Planning
from common_bench.lesson.roster import Roster
from common_bench.lesson.sensors import SensorStates
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import calibration_row, point_row
from common_bench.lesson.worked_runs import no_reason
from common_bench.model.calibration import Calibration, PlannedPoint, ReferencePoint
from common_bench.model.plan import SensorPlan
from common_bench.model.trouble import CalibrationTrouble, Trouble
from common_bench.reading.health import ColumnHealth, column_health

BAD_SENSOR = ("saturated", "floating")
MOVED = CalibrationTrouble("held-has-moved")
NOT_STEADY = "is-not-steady"


@dataclass(frozen=True)
class KeptCalibration:
    """One calibration in a kit's history: off: what it gives at the middle of the newest one's points minus what
    the newest gives there, u: its standard uncertainty there (both in the quantity's unit)."""

    made_at: datetime
    off: float
    u: float
    ready: Applied


class Calibrating:
    """Reference points and the curves through them, for any number of benches in one step of undo."""

    def __init__(
        self, store: LessonStore, changes: Changes, roster: Roster, sensors: SensorStates, planning: Planning
    ) -> None:
        self._store, self._changes, self._roster, self._sensors = store, changes, roster, sensors
        self._planning = planning
        self.channel: str | None = None  # of the sensor that is being calibrated, once one was chosen

    @property
    def sensor(self) -> SensorPlan | None:
        """The sensor that is being calibrated: the one that was chosen, or the plan's first."""
        return self._store.sensor(self.channel) or self._store.sensor()

    # taking points

    def take_points(
        self,
        groups: Sequence[int],
        channel: str,
        planned: PlannedPoint,
        *,
        reason: str = "",
        against: int | None = None,
    ) -> tuple[list[int], dict[int, Trouble]]:
        """Takes a point on every bench of `groups` that is steady now, as one step of undo; with a reason also where
        it is not. against: the bench whose calibrated reading is the reference instead of the plan's value.

        Gives the groups that have it, and why each of the others has not.
        """
        store = self._store
        sensor = self._planning.planned_sensor(channel)
        reference = ""
        if against is not None:
            planned = self._as_read_by(against, channel, planned)
            reference = store.group(against).alias
        rows: list[RowChange] = []
        taken: list[int] = []
        waiting: dict[int, Trouble] = {}
        for group in groups:
            if group == against:
                continue
            try:
                point = self._taken(group, sensor, planned, reason, reference)
            except Trouble as trouble:
                waiting[group] = trouble
                continue
            kit = store.kit_of(group)
            assert kit is not None
            rows += [
                store.book.changed("reference_point", old.id, aside="taken again")
                for old in store.points(kit, channel)
                if old.label == planned.label
            ]
            rows.append(store.book.added("reference_point", lesson=store.id, kit=kit, **point_row(point)))
            taken.append(group)
        if rows:
            self._changes.do(f"Take {planned.label}", rows)
        return taken, waiting

    def _taken(
        self, group: int, sensor: SensorPlan, planned: PlannedPoint, reason: str, against: str
    ) -> ReferencePoint:
        """Raises Trouble whose `what` says in a few words why the bench has to wait."""
        state, kit = self._roster.state(group), self._store.kit_of(group)
        if state is None or kit is None or not state.is_open or state.trouble is not None:
            raise CalibrationTrouble("no-kit-heard")
        if sensor.channel in self._roster.absent_channels(kit):
            raise CalibrationTrouble("sends-no-channel", channel=sensor.channel)
        column = self._store.column_of(kit, sensor.channel)
        bad = next((h for h in self._sensors.health(kit) if h.name == column and h.cause in BAD_SENSOR), None)
        if bad is not None:
            raise _bad(bad)
        recent = self._sensors.recent(group, sensor.channel)
        try:
            point = take_point(
                planned, sensor.unit, recent.t, recent.values, channel=sensor.channel, taken_at=now(),
                limits=self._sensors.limits(group, sensor), reason=reason,
                board=self._roster.board_temperature(group), against=against, resolution=state.live.resolution(column),
            )  # fmt: skip
        except CalibrationTrouble as trouble:
            if trouble.code in ("not-steady-yet", "too-little-heard"):
                raise CalibrationTrouble(NOT_STEADY) from None
            raise
        # A sensor that has only now reached its end is steady there; the readings of the point alone show it.
        times, values = np.array(point.readings.t), np.array(point.readings.raw)
        own = column_health(sensor.channel, times, values, state.live.extent(column))
        if own.cause in BAD_SENSOR:
            raise _bad(own)
        if not reason:
            self._refuse_what_reads_alike(kit, sensor, point)
        return point

    def _refuse_what_reads_alike(self, kit: int, sensor: SensorPlan, point: ReferencePoint) -> None:
        for other in self._store.points(kit, sensor.channel):
            if other.label != point.label and alike(other, point):
                stuck = point.scatter == 0 and point.reading == other.reading
                raise CalibrationTrouble("reads-as-before", label=other.label, case="stuck" if stuck else "alike")

    def _as_read_by(self, group: int, channel: str, planned: PlannedPoint) -> PlannedPoint:
        """The point with what a trusted bench reads now in the place of the plan's value."""
        alias = self._store.group(group).alias
        ready, steady = self._sensors.applied(group, channel), self._sensors.steady(group, channel)
        if ready is None:
            raise CalibrationTrouble("reference-bench-uncalibrated", alias=alias)
        if steady is None or not steady.steady:
            raise CalibrationTrouble("reference-bench-moves", alias=alias)
        at = np.array([steady.mean])
        if bool(ready.outside(at)[0]):
            raise CalibrationTrouble("reference-bench-outside", alias=alias)
        u = float(np.hypot(ready.u(at)[0], ready.sensitivity(at)[0] * steady.u))
        return msgspec.structs.replace(planned, value=float(ready.value(at)[0]), u=u)

    def has_point(self, group: int, channel: str, label: str) -> bool:
        kit = self._store.kit_of(group)
        return kit is not None and any(point.label == label for point in self._store.points(kit, channel))

    def set_aside_point(self, point: int, reason: str) -> Change:
        row = self._store.book.changed("reference_point", point, aside=no_reason(reason))
        return self._changes.do("Set a point aside", [row])

    def _reads(self, channel: str, label: str) -> tuple[dict[str, ReferencePoint], dict[str, Reads]]:
        """The point of each bench that has it, and what those of them read now that are steady."""
        taken, reads = {}, {}
        for group in self._store.groups:
            kit = self._store.kit_of(group.id)
            own = self._store.points(kit, channel) if kit is not None else []
            point = next((p for p in own if p.label == label), None)
            if point is None:
                continue
            taken[group.alias] = point
            now_reads = self._reads_now(group.id, channel)
            if now_reads is not None:
                reads[group.alias] = now_reads
        return taken, reads

    def _reads_now(self, group: int, channel: str) -> Reads | None:
        """What a bench reads now; None where it is not steady."""
        steady = self._sensors.steady(group, channel)
        if steady is None or not steady.steady:
            return None
        return Reads(steady.mean, steady.u, HOLD * steady.limits.drift_limit)

    def bath_has_moved(self, channel: str, label: str) -> bool:
        """Whether what all benches share has drifted since the point was taken on the first of them."""
        return drifted(*self._reads(channel, label))

    def still_held(self, channel: str, label: str) -> bool:
        """Whether at least half of the benches that have the point still rest where it was taken (or none has it yet): only then is
        a bench that becomes steady now likely to hold the same."""
        taken, reads = self._reads(channel, label)
        here = [alias for alias, now in reads.items() if not now.away_from(taken[alias])]
        return 2 * len(here) >= len(taken)

    def has_moved_on(self, group: int, channel: str) -> bool:
        """Whether a bench reads another level now than at each point that it has: what it holds is new."""
        kit, now_reads = self._store.kit_of(group), self._reads_now(group, channel)
        if kit is None or now_reads is None:
            return False
        return all(now_reads.away_from(point) for point in self._store.points(kit, channel))

    # curves

    def curve_through(self, group: int, channel: str) -> Calibration:
        """The curve through the points that a bench has now. Raises CalibrationTrouble."""
        sensor, kit = self._planning.planned_sensor(channel), self._store.kit_of(group)
        if kit is None:
            raise CalibrationTrouble("bench-without-kit")
        choice = sensor.choice(self._roster.raw_unit(group, channel))
        return calibrate(channel, sensor.quantity, sensor.unit, choice, self._store.points(kit, channel), now())

    def doubtful(self, groups: Sequence[int], channel: str) -> dict[int, str]:
        """group -> why its curve should be looked at before it is kept, of those that have one."""
        found = {}
        for group in groups:
            try:
                ready = Applied(self.curve_through(group, channel))
            except Trouble:
                continue
            wrong = quality_of_new(self._sensors, self._store.group(group).alias, ready)
            if wrong is not None:
                found[group] = wrong.cause
        return found

    def keep_calibrations(self, groups: Sequence[int], channel: str) -> list[int]:
        """Keeps the curve of every bench that has points enough, as one step of undo; gives those groups.

        Raises CalibrationTrouble where no bench has.
        """
        rows: list[RowChange] = []
        kept: list[int] = []
        last: Trouble | None = None
        for group in groups:
            try:
                curve = self.curve_through(group, channel)
            except Trouble as trouble:
                last = trouble
                continue
            kit = self._store.kit_of(group)
            assert kit is not None
            rows.append(self._store.book.added("calibration", **calibration_row(kit, curve)))
            kept.append(group)
        if not rows:
            raise last or CalibrationTrouble("no-bench")
        self._changes.do("Keep calibration" if len(rows) == 1 else f"Keep {len(rows)} calibrations", rows)
        return kept

    def history(self, kit: int, channel: str) -> list[KeptCalibration]:
        """All calibrations that were ever kept for a channel of a kit, oldest first."""
        all_kept = [Applied(each) for each in self._store.all_calibrations(kit, channel)]
        if not all_kept:
            return []
        newest = all_kept[-1]
        held = [point.reading for point in newest.calibration.points if not point.check] or [0.0]
        middle = np.array([(min(held) + max(held)) / 2])
        at = float(newest.value(middle)[0])
        found = [
            KeptCalibration(
                datetime.fromisoformat(each.calibration.made_at), float(each.value(middle)[0]) - at,
                float(each.u(middle)[0]), each,
            )
            for each in all_kept
            if each.calibration.unit == newest.calibration.unit
        ]  # fmt: skip
        return [each for each in found if np.isfinite([each.off, each.u]).all()]


def _bad(health: ColumnHealth) -> CalibrationTrouble:
    """What is wrong with a sensor's column, as the reason why its bench waits."""
    trouble = CalibrationTrouble(f"column-{health.state}")
    trouble.fields.update(health.fields)
    return trouble


@dataclass
class Taking:
    """Who still has to have the point that was asked for. Benches that are not steady yet follow as they become so.

    Guarantees that a bench is only ever given the point that stands here now: changing the point or
    the sensor lets the waiting ones go. By itself (`automatic`) a point is only taken on a bench whose
    reading has moved to a new level since its last one.

    One exception: a bench that waited while its kit was not heard, so that the class went on without it, still gets
    the point that it missed if it is back while the others rest there and nobody has the next point.
    """

    store: LessonStore
    calibrating: Calibrating
    sensors: SensorStates
    channel: str = ""
    label: str = ""
    waiting: dict[int, Trouble] = field(default_factory=dict)
    missed: dict[int, str] = field(default_factory=dict)  # benches that the class went on without, and at which point
    automatic: bool = False
    against: int | None = None

    def about(self, channel: str, label: str) -> None:
        """What is to be taken from now on."""
        if (channel, label) != (self.channel, self.label):
            self.channel, self.label = channel, label
            self.waiting.clear()
            self.missed.clear()

    def go_on_to(self, label: str) -> None:
        """The class goes on to its next point; who still waits has missed this one."""
        missed = dict.fromkeys(self.waiting, self.label)
        self.about(self.channel, label)
        self.missed = missed

    @property
    def planned(self) -> PlannedPoint | None:
        return self._point(self.label)

    def _point(self, label: str) -> PlannedPoint | None:
        sensor = self.store.sensor(self.channel) if self.channel else None
        return next((p for p in sensor.points if p.label == label), None) if sensor else None

    def missing(self) -> list[int]:
        """Benches that do not have the point yet."""
        return [
            group.id
            for group in self.store.groups
            if group.id != self.against and not self.calibrating.has_point(group.id, self.channel, self.label)
        ]

    def take(self, groups: Sequence[int] | None = None, reason: str = "") -> list[int]:
        """Takes the point where it is steady and lets the rest follow; gives who has it. Where all have it, it is taken
        again on all. Raises CalibrationTrouble."""
        planned = self.planned
        if planned is None:
            raise CalibrationTrouble("no-planned-points")
        asked = list(groups) if groups is not None else self.missing() or [g.id for g in self.store.groups]
        taken, waiting = self.calibrating.take_points(asked, self.channel, planned, reason=reason, against=self.against)
        self.waiting = waiting
        return taken

    def catch_up(self) -> dict[int, str]:
        """Takes the point that the class went on from on benches that missed it and are steady there now; gives them,
        each with its point. To be asked a few times a second."""
        caught_up: dict[int, str] = {}
        if not self.missed:
            return caught_up
        if len(self.missing()) < len(self.store.groups) - (self.against is not None):
            self.missed.clear()  # somebody holds the next already: what a bench holds now could be either
        for group, label in list(self.missed.items()):
            point = self._point(label)
            if point is None or self.calibrating.has_point(group, self.channel, label):
                del self.missed[group]
            elif self.calibrating.still_held(self.channel, label) and self._holds_something_new(group):
                try:
                    taken, _ = self.calibrating.take_points([group], self.channel, point, against=self.against)
                except CalibrationTrouble:
                    continue
                caught_up |= dict.fromkeys(taken, label)
        return caught_up

    def follow(self) -> list[int]:
        """Takes the point on benches that have become steady since; gives them. To be asked a few times a second."""
        if self.planned is None or not (self.waiting or self.automatic):
            return []
        missing = self.missing()
        if not self.calibrating.still_held(self.channel, self.label):
            self.waiting = {g: MOVED if g in missing else why for g, why in self.waiting.items()}
            return []  # whoever still waits may hold something else by now
        asked = [g for g in missing if g in self.waiting or (self.automatic and self._holds_something_new(g))]
        asked = [g for g in asked if self.sensors.is_steady(g, self.channel)]
        if not asked:
            self.waiting = {g: why for g, why in self.waiting.items() if g in missing}
            return []
        try:
            taken, waiting = self.calibrating.take_points(asked, self.channel, self.planned, against=self.against)
        except CalibrationTrouble:
            return []  # the bench that is the reference moves, or reads outside its own points: all wait with it
        self.waiting = {g: waiting.get(g, why) for g, why in self.waiting.items() if g not in taken}
        return taken

    def _holds_something_new(self, group: int) -> bool:
        return self.calibrating.has_moved_on(group, self.channel)
