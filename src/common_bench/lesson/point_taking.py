"""Stage 4 point by point: a condition is set to one value after the other, and all is taken while it stands still."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Literal, NamedTuple

import msgspec

from common_bench.book.book_file import now
from common_bench.book.changes import Change, RowChange
from common_bench.calibrate.steady import LONG_ENOUGH, steadiness
from common_bench.lesson.changes import Changes
from common_bench.lesson.recording_runs import Recording
from common_bench.lesson.roster import Roster
from common_bench.lesson.sensors import SensorStates
from common_bench.lesson.store import LessonStore
from common_bench.model.block import Series
from common_bench.model.measured import Measured
from common_bench.model.run import Ending, TakenPoint
from common_bench.model.trouble import FindingTrouble, PlanTrouble, Trouble
from common_bench.record.snapshot import KitState
from common_bench.workings.over import over_span
from common_bench.workup.points import as_seen, counted, over_points, seen_mean

LONGEST_MEAN = 10.0  # s of a point at most
APART = 0.3  # s that lie between the end of a point and the beginning of the next at least
SAME = 1e-6  # of a value, within which two settings are one

State = Literal["no-run", "done", "not-heard", "moves", "not-moved", "steady"]


class PointState(NamedTuple):
    """How a bench stands: `no-run` begun, `done` with all points, `not-heard` now, `moves`, `not-moved` since the last point, or `steady` and
    to be taken. next: the value that is proposed, None where all are taken; seconds: it has been steady; expected: s until it
    is, nan where that cannot be said."""

    state: State
    next: float | None
    seconds: float = 0.0
    expected: float = math.nan


class PointTaking:
    """Guarantees that a point is taken from readings that came after the one before it, that each keeps where its readings
    lie in its run, and that a point which is taken again is set aside, not lost. A run whose points are all taken ends."""

    def __init__(
        self, store: LessonStore, changes: Changes, roster: Roster, sensors: SensorStates, recording: Recording
    ) -> None:
        self._store, self._changes, self._roster, self._sensors, self._recording = (
            store,
            changes,
            roster,
            sensors,
            recording,
        )
        self._still: dict[
            int, tuple[int, float]
        ] = {}  # group -> its last point, and until when in its run nothing has moved since

    # how it stands

    @property
    def name(self) -> str:
        """The condition that is set; empty where the plan has no points."""
        visited = self._store.plan.visited
        return visited.name if visited is not None else ""

    @property
    def values(self) -> tuple[float, ...]:
        """The values that the plan wants, in its unit."""
        visited = self._store.plan.visited
        return visited.values if visited is not None else ()

    def run_of(self, group: int) -> int | None:
        """The run whose points are looked at: the one under way, or the last that counts."""
        run = self._roster.run(group)
        if run is not None:
            return run.id
        kept = self._store.kept_runs(group)
        return kept[-1].id if kept else None

    def taken(self, group: int) -> list[TakenPoint]:
        """Points of the bench's run, those set aside included."""
        run = self.run_of(group)
        return self._store.taken_points(run) if run is not None else []

    def at(self, group: int, value: float) -> TakenPoint | None:
        """The point that counts at a value."""
        return next((p for p in counted(self.taken(group)) if _same(p.value.value, value)), None)

    def next_value(self, group: int) -> float | None:
        """The first value of the plan without a point; None where all have one."""
        have = [each.value.value for each in counted(self.taken(group))]
        return next((value for value in self.values if not any(_same(value, each) for each in have)), None)

    def class_value(self) -> float | None:
        """The value that most benches are at: the smallest that one of them waits for."""
        wanted = [
            v for g in self._store.groups if self._roster.recording(g.id) and (v := self.next_value(g.id)) is not None
        ]
        return min(wanted, key=lambda each: self.values.index(each), default=None)

    def state(self, group: int) -> PointState:
        """How a bench stands now."""
        kit = self._roster.state(group)
        value = self.next_value(group)
        if value is None and self.taken(group):
            return PointState("done", None)
        if kit is None or kit.run is None:
            return PointState("no-run", value)
        if kit.trouble is not None:
            return PointState("not-heard", value)
        found = self._steady_since(group, kit)
        if found is None:
            self._still.pop(group, None)
            return PointState("moves", value, 0.0, self._expected(group))
        steady_from, seconds = found
        counting = counted(self.taken(group))
        if counting and self._stands_since(group, counting[-1], steady_from, kit.run.seconds):
            return PointState("not-moved", value, seconds)
        fresh = min(seconds, kit.run.seconds - self._last_end(group) - APART)  # s since what was set aside
        return (
            PointState("steady", value, fresh)
            if fresh >= LONG_ENOUGH
            else PointState("moves", value, 0.0, LONG_ENOUGH - fresh)
        )

    def _stands_since(self, group: int, point: TakenPoint, steady_from: float, now_at: float) -> bool:
        """Whether nothing has moved since a point, however long ago that was: what is seen to be steady at one look reaches back to the
        look before it. steady_from, now_at: s of the run. Where nobody has looked for so long, nothing is known, and it may be taken."""
        known = self._still.get(group)
        stands = point.t_to + APART > steady_from or (
            known is not None and known[0] == point.id and known[1] >= steady_from
        )
        if stands:
            self._still[group] = point.id, now_at
        return stands

    def _expected(self, group: int) -> float:
        found = [
            s.expected
            for each in self._store.plan.sensors
            if (s := self._sensors.steady(group, each.channel)) is not None
        ]
        return max((each for each in found if each == each), default=math.nan)

    def _steady_since(self, group: int, kit: KitState) -> tuple[float, float] | None:
        """Since when, in s of the run, and for how many s all that is measured has stood still; None where it moves."""
        assert kit.run is not None
        lengths = []
        for sensor in self._store.plan.sensors:
            picture = self._sensors.recent(group, sensor.channel)
            after = picture.t >= kit.live.last_t - kit.run.seconds
            found = steadiness(picture.t[after], picture.values[after], self._sensors.limits(group, sensor))
            if not found.steady:
                return None
            lengths.append(found.seconds)
        seconds = min(lengths, default=0.0)
        return (kit.run.seconds - seconds, seconds) if seconds > 0 else None

    def _last_end(self, group: int) -> float:
        return max((each.t_to for each in self.taken(group)), default=-math.inf)

    # what is done

    def take(
        self, groups: Sequence[int], value: float | None = None, *, unmoved: bool = False
    ) -> tuple[list[int], dict[int, State], Change | None]:
        """Takes the next point (or `value`) on each bench that stands still: those taken, why the others were not, and the
        one step that it makes. unmoved: also where nothing has moved since the last point, as somebody says. A run whose points are all
        taken ends. Raises PlanTrouble where the plan has no points."""
        if self._store.plan.visited is None:
            raise PlanTrouble("no-points-planned")
        rows, done, left = [], [], dict[int, State]()
        for group in groups:
            found = self.state(group)
            wanted = value if value is not None else found.next
            if wanted is None or not (found.state == "steady" or (unmoved and self._may_be_taken(group, found))):
                left[group] = found.state
                continue
            rows.append(self._row(group, wanted, found.seconds))
            done.append(group)
        change = self._changes.do(f"Take {len(rows)} point{'s' if len(rows) != 1 else ''}", rows) if rows else None
        ready = [group for group in done if self.next_value(group) is None]
        if ready:
            self._recording.end_runs(ready, Ending("by-rule-words", {"words": f"all {len(self.values)} points"}))
        return done, left, change

    def _may_be_taken(self, group: int, found: PointState) -> bool:
        """Whether there are readings enough after the last point, though nothing has moved since."""
        run = self._roster.run(group)
        return (
            found.state == "not-moved"
            and run is not None
            and run.seconds - self._last_end(group) - APART >= LONG_ENOUGH
        )

    def _row(self, group: int, value: float, seconds: float) -> RowChange:
        kit, plan = self._roster.state(group), self._store.plan
        assert kit is not None
        assert kit.run is not None
        assert plan.visited is not None
        end = kit.run.seconds
        begin = max(end - min(seconds, LONGEST_MEAN), self._last_end(group) + APART)
        zero = kit.live.last_t - end
        shown = {}
        for sensor in plan.sensors:
            recent = kit.live.recent(sensor.quantity, end - begin + 1.0)
            inside = (recent.t >= zero + begin) & (recent.t <= zero + end)
            latest = kit.live.latest(sensor.quantity)
            u = latest.u if latest is not None else math.nan
            shown[sensor.quantity] = seen_mean(recent.t[inside], recent.values[inside], u, sensor.unit)
        return self._store.book.added(
            "taken_point", run=kit.run.id, name=plan.visited.name, value=value, u=plan.visited.u, unit=plan.visited.unit,
            t_from=begin, t_to=end, taken_at=now(), aside="", shown=msgspec.json.encode(shown).decode(),
        )  # fmt: skip

    def take_again(self, group: int, value: float | None = None) -> Change:
        """Sets a point aside, the last one where none is named, so that its value is proposed again. Raises Trouble where
        there is none, or its run is over."""
        points = counted(self.taken(group))
        chosen = points[-1] if points and value is None else self.at(group, value) if value is not None else None
        if chosen is None:
            raise Trouble("no-point-to-take-again")
        return self.set_aside(chosen, "taken again")

    def set_aside(self, point: TakenPoint, reason: str) -> Change:
        """A point that does not count, with a reason; taking it back is an undo."""
        row = self._store.book.changed("taken_point", point.id, aside=reason)
        return self._changes.do(f"Set {self.name} {point.value} aside", [row])

    # what comes of it so far

    def so_far(self, group: int) -> dict[str, Measured]:
        """Findings from the points so far, by name; those that need more are left out."""
        points, store = counted(self.taken(group)), self._store
        if len(points) < 2 or store.plan.visited is None:
            return {}
        quantities = {sensor.channel: sensor.quantity for sensor in store.plan.sensors}
        means = as_seen(quantities, points, store.channels)
        over = over_points(store.workings, means, points, store.plan.visited.name)
        try:
            numbers = over_span(store.workings, over.results, (-math.inf, math.inf))
        except FindingTrouble:
            return {}
        return {name: numbers[name].measured for name in store.plan.findings if name in numbers}

    def at_points(self, group: int) -> dict[str, Series]:
        """What each line gives at the points that count, as seen, in the order in which they were taken."""
        return self._lines(counted(self.taken(group)))

    def now(self, group: int) -> dict[str, Series]:
        """The same of the point that would be taken now."""
        kit, value, visited = self._roster.state(group), self.next_value(group), self._store.plan.visited
        if kit is None or kit.trouble is not None or value is None or visited is None:
            return {}
        shown = {}
        for sensor in self._store.plan.sensors:
            latest = kit.live.latest(sensor.quantity)
            if latest is not None:
                shown[sensor.quantity] = Measured(latest.value, latest.u, latest.unit)
        set_to = Measured(value, visited.u, visited.unit)
        return self._lines([TakenPoint(0, 0, visited.name, set_to, 0.0, 0.0, shown=shown)])

    def _lines(self, points: Sequence[TakenPoint]) -> dict[str, Series]:
        store = self._store
        if not points or store.plan.visited is None:
            return {}
        quantities = {sensor.channel: sensor.quantity for sensor in store.plan.sensors}
        means = as_seen(quantities, points, store.channels)
        results = over_points(store.workings, means, points, store.plan.visited.name).results
        return {name: each for name, each in results.items() if isinstance(each, Series) and len(each) == len(points)}

    @property
    def axes(self) -> tuple[str, str]:
        """What is drawn of the points, upright against across: what the first slope of the plan takes, or else the first
        quantity that is shown against the condition that is set."""
        for line in self._store.workings.lines:
            node = line.read.expression if line.read is not None and line.kind is not None else None
            if node is not None and node.form == "slope" and all(each.form == "name" for each in node.operands):
                return node.operands[0].word, node.operands[1].word
        shown = [name for name in self._store.plan.shown if name != self.name]
        return (shown or [self.name])[0], self.name


def _same(one: float, two: float) -> bool:
    return abs(one - two) <= SAME * max(1.0, abs(one), abs(two))
