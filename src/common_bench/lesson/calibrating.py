"""Stage 3 as actions: taking points on every bench, keeping the curves through them, their history."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

import msgspec
import numpy as np

from common_bench.book.book import now
from common_bench.book.changes import Change, RowChange
from common_bench.calibrate.applied import Applied
from common_bench.calibrate.comparing import Reads, drifted
from common_bench.calibrate.fitting import alike
from common_bench.calibrate.points import take_point
from common_bench.calibrate.steady import HOLD
from common_bench.lesson.actions import no_reason
from common_bench.lesson.kept import calibration_row, point_row
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.sensor_plan import planned_sensor
from common_bench.model.calibration import Calibration, PlannedPoint, ReferencePoint
from common_bench.model.plan import SensorPlan
from common_bench.model.trouble import CalibrationTrouble, Trouble
from common_bench.reading.health import column_health
from common_bench.record.applying import applied, calibrated

# taking points


def take_points(
    lesson: OpenLesson,
    groups: Sequence[int],
    channel: str,
    planned: PlannedPoint,
    *,
    reason: str = "",
    against: int | None = None,
) -> tuple[list[int], dict[int, str]]:
    """Takes a point on every bench of `groups` that is steady now, as one step of undo; with a reason also where
    it is not. against: the bench whose calibrated reading is the reference instead of the plan's value.

    Gives the groups that have it, and why each of the others has not, in words.
    """
    sensor = planned_sensor(lesson, channel)
    reference = ""
    if against is not None:
        planned = _as_read_by(lesson, against, channel, planned)
        reference = lesson.group(against).alias
    rows: list[RowChange] = []
    taken: list[int] = []
    waiting: dict[int, str] = {}
    for group in groups:
        if group == against:
            continue
        try:
            point = _taken(lesson, group, sensor, planned, reason, reference)
        except Trouble as trouble:
            waiting[group] = trouble.what
            continue
        kit = lesson.kit_of(group)
        assert kit is not None
        rows += [
            lesson.book.changed("reference_point", old.id, aside="taken again")
            for old in lesson.points(kit, channel)
            if old.label == planned.label
        ]
        rows.append(lesson.book.added("reference_point", lesson=lesson.id, kit=kit, **point_row(point)))
        taken.append(group)
    if rows:
        lesson.do(f"Take {planned.label}", rows)
    return taken, waiting


def _taken(
    lesson: OpenLesson, group: int, sensor: SensorPlan, planned: PlannedPoint, reason: str, against: str
) -> ReferencePoint:
    """Raises Trouble whose `what` says in a few words why the bench has to wait."""
    ear, kit = lesson.ear(group), lesson.kit_of(group)
    if ear is None or kit is None or ear.link is None or ear.trouble is not None:
        raise CalibrationTrouble("has no kit that is heard")
    if sensor.channel in lesson.absent_channels(kit):
        raise CalibrationTrouble(f"sends no “{sensor.channel}”")
    bad = next((h for h in lesson.health(kit) if h.name == sensor.channel and h.cause in BAD_SENSOR), None)
    if bad is not None:
        raise CalibrationTrouble(bad.words)
    recent = lesson.recent(group, sensor.channel)
    try:
        point = take_point(
            planned, sensor.unit, recent.t, recent.values, channel=sensor.channel, taken_at=now(),
            limits=lesson.limits(group, sensor), reason=reason, board=lesson.board_temperature(group), against=against,
        )  # fmt: skip
    except CalibrationTrouble as trouble:
        still = "still moves" in trouble.what or "too little" in trouble.what
        raise CalibrationTrouble("is not steady" if still else trouble.what) from None
    # A sensor that has only now reached its end is steady there; the readings of the point alone show it.
    own = column_health(
        sensor.channel, np.array(point.readings.t), np.array(point.readings.raw), ear.live.extent(sensor.channel)
    )
    if own.cause in BAD_SENSOR:
        raise CalibrationTrouble(own.words)
    if not reason:
        for other in lesson.points(kit, sensor.channel):
            if other.label != point.label and alike(other, point):
                stuck = point.scatter == 0 and point.reading == other.reading
                asked = " to the last digit: is it stuck?" if stuck else ""
                raise CalibrationTrouble(f"reads as it did at “{other.label}”{asked}")
    return point


MOVED = "waits: what is held has moved"
BAD_SENSOR = ("saturated", "floating")


def _as_read_by(lesson: OpenLesson, group: int, channel: str, planned: PlannedPoint) -> PlannedPoint:
    """The point with what a trusted bench reads now in the place of the plan's value."""
    alias = lesson.group(group).alias
    ready, steady = lesson.applied(group, channel), lesson.steady(group, channel)
    if ready is None:
        raise CalibrationTrouble(f"{alias} has no calibration that could be the reference.", do="Keep one there first.")
    if steady is None or not steady.steady:
        raise CalibrationTrouble(f"{alias}, the reference, is not steady.", do="Wait until it is.")
    at = np.array([steady.mean])
    if bool(ready.outside(at)[0]):
        raise CalibrationTrouble(f"{alias} reads outside its own points; that would be a guess.", do="Go back inside.")
    u = float(np.hypot(ready.u(at)[0], ready.steep(at)[0] * steady.u))
    return msgspec.structs.replace(planned, value=float(ready.value(at)[0]), u=u)


@dataclass
class Taking:
    """Who still has to have the point that was asked for. Benches that are not steady yet follow as they become so.

    Guarantees that a bench is only ever given the point that stands here now: changing the point or
    the sensor lets the waiting ones go.
    """

    lesson: OpenLesson
    channel: str = ""
    label: str = ""
    waiting: dict[int, str] = field(default_factory=dict)
    automatic: bool = False
    against: int | None = None

    def about(self, channel: str, label: str) -> None:
        """What is to be taken from now on."""
        if (channel, label) != (self.channel, self.label):
            self.channel, self.label = channel, label
            self.waiting.clear()

    @property
    def planned(self) -> PlannedPoint | None:
        sensor = self.lesson.sensor(self.channel) if self.channel else None
        return next((p for p in sensor.points if p.label == self.label), None) if sensor else None

    def missing(self) -> list[int]:
        """Benches that do not have the point yet."""
        return [g.id for g in self.lesson.groups if g.id != self.against and not has_point(self.lesson, g.id, self.channel, self.label)]  # fmt: skip

    def take(self, groups: Sequence[int] | None = None, reason: str = "") -> list[int]:
        """Takes the point where it is steady and lets the rest follow; gives who has it. Raises CalibrationTrouble."""
        planned = self.planned
        if planned is None:
            raise CalibrationTrouble("the plan names no reference points.", do="Add one with “Add a point”.")
        asked = list(groups) if groups is not None else self.missing() or [g.id for g in self.lesson.groups]
        taken, waiting = take_points(self.lesson, asked, self.channel, planned, reason=reason, against=self.against)
        self.waiting = waiting
        return taken

    def follow(self) -> list[int]:
        """Takes the point on benches that have become steady since; gives them. To be asked a few times a second."""
        if self.planned is None or not (self.waiting or self.automatic):
            return []
        missing = self.missing()
        if not still_held(self.lesson, self.channel, self.label):
            self.waiting = {g: MOVED if g in missing else why for g, why in self.waiting.items()}
            return []  # whoever still waits may hold something else by now
        asked = [g for g in missing if self.automatic or g in self.waiting]
        asked = [g for g in asked if (found := self.lesson.steady(g, self.channel)) is not None and found.steady]
        if not asked:
            self.waiting = {g: why for g, why in self.waiting.items() if g in missing}
            return []
        try:
            taken, waiting = take_points(self.lesson, asked, self.channel, self.planned, against=self.against)
        except CalibrationTrouble:
            return []  # the bench that is the reference moves, or reads outside its own points: all wait with it
        self.waiting = {g: waiting.get(g, why) for g, why in self.waiting.items() if g not in taken}
        return taken


def has_point(lesson: OpenLesson, group: int, channel: str, label: str) -> bool:
    kit = lesson.kit_of(group)
    return kit is not None and any(point.label == label for point in lesson.points(kit, channel))


def set_aside_point(lesson: OpenLesson, point: int, reason: str) -> Change:
    return lesson.do("Set a point aside", [lesson.book.changed("reference_point", point, aside=no_reason(reason))])


def _reads(lesson: OpenLesson, channel: str, label: str) -> tuple[dict[str, ReferencePoint], dict[str, Reads]]:
    """The point of each bench that has it, and what those of them read now that are steady."""
    taken, reads = {}, {}
    for group in lesson.groups:
        kit = lesson.kit_of(group.id)
        point = next((p for p in lesson.points(kit, channel) if p.label == label), None) if kit is not None else None
        if point is None:
            continue
        taken[group.alias] = point
        steady = lesson.steady(group.id, channel)
        if steady is not None and steady.steady:
            reads[group.alias] = Reads(steady.mean, steady.u, HOLD * steady.limits.drift_limit)
    return taken, reads


def bath_has_moved(lesson: OpenLesson, channel: str, label: str) -> bool:
    """Whether what all benches share has drifted since the point was taken on the first of them."""
    return drifted(*_reads(lesson, channel, label))


def still_held(lesson: OpenLesson, channel: str, label: str) -> bool:
    """Whether at least half of the benches that have the point still rest where it was taken (or fewer than two
    have it): only then is a bench that becomes steady now likely to hold the same."""
    taken, reads = _reads(lesson, channel, label)
    here = [alias for alias, now in reads.items() if not now.away_from(taken[alias])]
    return len(taken) < 2 or 2 * len(here) >= len(taken)


# curves


def curve_through(lesson: OpenLesson, group: int, channel: str) -> Calibration:
    """The curve through the points that a bench has now. Raises CalibrationTrouble."""
    sensor, kit = planned_sensor(lesson, channel), lesson.kit_of(group)
    if kit is None:
        raise CalibrationTrouble("this bench has no kit.", do="Give it one in stage 2, Plug in.")
    choice = sensor.choice(lesson.raw_unit(group, channel))
    return calibrated(channel, sensor.quantity, sensor.unit, choice, lesson.points(kit, channel), now())


def keep_calibrations(lesson: OpenLesson, groups: Sequence[int], channel: str) -> list[int]:
    """Keeps the curve of every bench that has points enough, as one step of undo; gives those groups.

    Raises CalibrationTrouble where no bench has.
    """
    rows, kept, last = [], [], None
    for group in groups:
        try:
            curve = curve_through(lesson, group, channel)
        except Trouble as trouble:
            last = trouble
            continue
        kit = lesson.kit_of(group)
        assert kit is not None
        rows.append(lesson.book.added("calibration", **calibration_row(kit, curve)))
        kept.append(group)
    if not rows:
        raise last or CalibrationTrouble("there is no bench.", do="Add a group in stage 1, Plan.")
    lesson.do("Keep calibration" if len(rows) == 1 else f"Keep {len(rows)} calibrations", rows)
    return kept


@dataclass(frozen=True)
class Kept:
    """One calibration in a kit's history: off: what it gives at the middle of the newest one's points minus what
    the newest gives there, u: its standard uncertainty there (both in the quantity's unit)."""

    made_at: datetime
    off: float
    u: float
    ready: Applied


def history(lesson: OpenLesson, kit: int, channel: str) -> list[Kept]:
    """All calibrations that were ever kept for a channel of a kit, oldest first."""
    all_kept = [applied(each) for each in lesson.all_calibrations(kit, channel)]
    if not all_kept:
        return []
    newest = all_kept[-1]
    held = [point.reading for point in newest.calibration.points if not point.check] or [0.0]
    middle = np.array([(min(held) + max(held)) / 2])
    at = float(newest.value(middle)[0])
    found = [
        Kept(datetime.fromisoformat(each.calibration.made_at), float(each.value(middle)[0]) - at, float(each.u(middle)[0]), each)
        for each in all_kept
        if each.calibration.unit == newest.calibration.unit
    ]  # fmt: skip
    return [each for each in found if np.isfinite([each.off, each.u]).all()]
