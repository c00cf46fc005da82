"""What a book holds of a lesson: plan, groups, kits, points, runs, findings, the pool. Rows in, nouns out."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from common_bench.book.book import Book
from common_bench.book.changes import Row, RowChange
from common_bench.calibrate.fitting import standing
from common_bench.lesson.damage import REFERENCES, usable
from common_bench.lesson.plan_checking import PlanFault, faults_of, watching
from common_bench.lesson.pool_state import is_open, shown_groups
from common_bench.lesson.store_rows import (
    applied_words,
    calibration_of,
    finding_of,
    format_of,
    group_of,
    numbers_in,
    point_of,
    run_of,
    stated_in,
    taken_point_of,
)
from common_bench.model.bench import Group, Kit, emblem_for
from common_bench.model.calibration import Calibration, ReferencePoint
from common_bench.model.class_line import ClassResult
from common_bench.model.measured import Measured
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.plan_file import plan_from_text
from common_bench.model.run import Finding, Moment, PoolRow, Run, TakenPoint
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import BookTrouble, PlanTrouble, Trouble
from common_bench.pool.class_line import class_result
from common_bench.workings.evaluate import Workings, check

NO_ROW: Row = {"id": 0, "name": "", "text": "name = 'Damaged plan'"}


class LessonStore:
    """Questions about the lesson that a book is open at, answered from rows that are read again after every change.

    Used from one thread.
    """

    def __init__(self, book: Book, lesson: int | None = None) -> None:
        """lesson: its id, the last one where none is named. Raises BookTrouble where the book has no such lesson."""
        self.book = book
        self._held: dict[str, list[Row]] = {}
        self._columns: dict[tuple[int | None, str], str] = {}  # found once for each state of the rows
        self._calibrations: dict[tuple[int, str], Calibration | None] = {}  # likewise
        self._runs: dict[int, Run] | None = None  # all of the book by id, likewise
        self.state_of_runs = 0  # is another after each change of a run or a finding that somebody else has made
        self.settled: set[int] | None = None  # runs that have been worked up, or could not be; None: all
        lessons = [int(row["id"]) for row in self.rows("lesson")]
        if not lessons or (lesson is not None and lesson not in lessons):
            raise BookTrouble("book-without-lesson", where=str(book.path))
        self.id = lessons[-1] if lesson is None else lesson
        self._planned: tuple[str, Plan, Workings] = ("", Plan(""), check((), {}))
        self._planned_of: tuple[list[Row] | None, list[Row] | None] = (None, None)  # the rows that it was read from
        self._kits_of: tuple[list[Row] | None, dict[int, int]] = (None, {})  # rows of benches, and group -> kit in them
        self._results: dict[frozenset[int] | None, ClassResult] = {}  # by the groups that count, None: all
        self._faults: tuple[Plan, list[PlanFault]] | None = None
        self._by_run: dict[str, tuple[list[Row], dict[int, list[Row]]]] = {}
        self._groups_of: tuple[list[Row], list[Group]] = [], []

    def damaged(self) -> list[str]:
        """What of the book is damaged and left out, one entry a row."""
        for table in ("group", "kit", *REFERENCES):
            self.rows(table)
        _ = self.plan
        return [f"{table}, row {id}: {why}" for (table, id), why in self.book.damage.items()]

    def rows(self, table: str) -> list[Row]:
        if table not in self._held:
            found, damaged = usable(table, self.book.rows(table), self.book.sound_ids)
            self.book.damage.update({(table, id): why for id, why in damaged.items()})
            self._held[table] = [self.book.as_it_stands(row) for row in found] if table == "run" else found
        return self._held[table]

    def _of_run(self, table: str, run: int) -> list[Row]:
        """Rows of a table that belong to a run, in order."""
        rows = self.rows(table)
        if table not in self._by_run or self._by_run[table][0] is not rows:
            found: dict[int, list[Row]] = {}
            for row in rows:
                found.setdefault(row["run"], []).append(row)
            self._by_run[table] = rows, found
        return self._by_run[table][1].get(run, [])

    def put(self, table: str, rows: Sequence[Row]) -> None:
        """Rows of a table as the book has them now, in the place of what was known of them; others are as they were."""
        if table in self._held:
            self._held[table] = list(
                {**{row["id"]: row for row in self._held[table]}, **{row["id"]: row for row in rows}}.values()
            )
        if table == "run" and self._runs is not None:
            self._runs |= {row["id"]: run_of(row) for row in rows}
        self._results.clear()

    def refresh(self, *tables: str) -> None:
        self.state_of_runs += not tables or "run" in tables or "finding" in tables
        for table in tables or list(self._held):
            self._held.pop(table, None)
        self._columns.clear()
        self._calibrations.clear()
        self._runs = None
        self._results.clear()

    @property
    def row(self) -> Row:
        return next(row for row in self.rows("lesson") if row["id"] == self.id)

    @property
    def plan(self) -> Plan:
        rows = self.rows("plan"), self.rows("lesson")
        if rows[0] is self._planned_of[0] and rows[1] is self._planned_of[1]:
            return self._planned[1]
        row = next((row for row in self.rows("plan") if row["id"] == self.row["plan"]), NO_ROW)
        if row["text"] != self._planned[0]:
            try:
                plan = plan_from_text(row["text"], "the plan in this book")
            except PlanTrouble as trouble:
                self.book.damage["plan", row["id"]] = trouble.sentence
                plan = Plan(row["name"] or "Damaged plan")
            self._planned = row["text"], plan, check(plan.in_use, plan.channels, plan.raw)
        self._planned_of = rows
        return self._planned[1]

    @property
    def faults(self) -> list[PlanFault]:
        """What is wrong with the plan, found once for each state of it."""
        plan = self.plan
        if self._faults is None or self._faults[0] is not plan:
            self._faults = plan, faults_of(plan)
        return self._faults[1]

    @property
    def class_name(self) -> str:
        return str(self.row["class_name"])

    @property
    def channels(self) -> dict[str, str]:
        """Channel -> unit of the quantity that the plan calibrates it to."""
        return self.plan.channels

    @property
    def workings(self) -> Workings:
        return self._planned[2] if self.plan else check((), {})

    @property
    def watching(self) -> Workings:
        """What kits are worked out by; the plan's lines alone where its rule cannot be read."""
        try:
            return watching(self.plan, self.workings)
        except PlanTrouble:
            return self.workings

    @property
    def all_groups(self) -> list[Group]:
        """Every group that was ever in the class, in order."""
        rows = self.rows("group")
        if self._groups_of[0] is not rows:
            self._groups_of = rows, sorted(map(group_of, rows), key=lambda group: group.position)
        return list(self._groups_of[1])

    @property
    def groups(self) -> list[Group]:
        """The groups of the class."""
        return [group for group in self.all_groups if not group.gone]

    def group(self, id: int) -> Group:
        return next(group for group in self.all_groups if group.id == id)

    @property
    def kits(self) -> dict[int, Kit]:
        return {row["id"]: Kit(row["id"], row["identity"], row["name"], row["link"]) for row in self.rows("kit")}

    def kit_of(self, group: int) -> int | None:
        rows = self.rows("bench")
        if self._kits_of[0] is not rows:
            own = [row for row in rows if row["lesson"] == self.id]
            self._kits_of = rows, {row["group"]: row["kit"] for row in reversed(own)}
        return self._kits_of[1].get(group)

    def group_at(self, kit: int) -> int | None:
        return next(
            (row["group"] for row in self.rows("bench") if row["kit"] == kit and row["lesson"] == self.id), None
        )

    def conditions(self, group: int) -> dict[str, Measured]:
        return numbers_in(self.stated(group))

    def stated(self, group: int) -> dict[str, Measured | str]:
        """All that a group has stated: numbers, words and what it chose from a list."""
        own = [row for row in self.rows("condition_value") if row["group"] == group and row["lesson"] == self.id]
        return stated_in(own)

    def run_stated(self, run: int) -> dict[str, Measured | str]:
        """All that was stated for a run."""
        return stated_in(self._of_run("run_condition", run))

    def run_conditions(self, run: int) -> dict[str, Measured]:
        return numbers_in(self.run_stated(run))

    def runs(self, group: int | None = None) -> list[Run]:
        """Closed and open runs in order, those set aside included."""
        return [run for run in self._all_runs().values() if run.lesson == self.id and group in (None, run.group)]

    def run(self, id: int) -> Run:
        return self._all_runs()[id]

    def _all_runs(self) -> dict[int, Run]:
        """Those of every lesson: what is kept of a run takes longer to read than to look up."""
        if self._runs is None:
            self._runs = {row["id"]: run_of(row) for row in self.rows("run")}
        return self._runs

    def kept_runs(self, group: int | None = None) -> list[Run]:
        """Runs that count: they hold something, are worked up as far as can be, are not set aside and no practice."""
        found = self.ended_runs(group)
        return [run for run in found if not (run.aside or run.practice) and run.begin is not None]

    def ended_runs(self, group: int | None = None) -> list[Run]:
        """Runs that are over and worked up as far as can be, those set aside included."""
        settled = self.settled
        return [run for run in self.runs(group) if run.state == "closed" and (settled is None or run.id in settled)]

    def findings(self, run: int) -> list[Finding]:
        return [finding_of(row) for row in self._of_run("finding", run)]

    def moments(self, run: int) -> list[Moment]:
        found = [Moment(row["id"], row["run"], row["t"], row["text"]) for row in self._of_run("moment", run)]
        return sorted(found, key=lambda moment: moment.t)

    def taken_points(self, run: int) -> list[TakenPoint]:
        """Points of a run that is taken point by point, in the order in which they were taken."""
        found = [taken_point_of(row) for row in self._of_run("taken_point", run)]
        return sorted(found, key=lambda each: each.t_to)

    def sensor(self, channel: str | None = None) -> SensorPlan | None:
        """The plan's sensor for a channel, or its first."""
        return next((each for each in self.plan.sensors if channel in (None, each.channel)), None)

    def sensor_of(self, quantity: str) -> SensorPlan | None:
        """What the plan measures under a name."""
        return next((each for each in self.plan.sensors if each.quantity == quantity), None)

    def points(self, kit: int, channel: str) -> list[ReferencePoint]:
        """Points of this lesson that count, in the order in which they were taken."""
        return [
            point_of(row)
            for row in self.rows("reference_point")
            if row["kit"] == kit and row["channel"] == channel and row["lesson"] == self.id and not row["aside"]
        ]

    def calibration(self, kit: int, channel: str) -> Calibration | None:
        """The newest that is kept for a kit's channel and the quantity that the plan makes of it; where the plan needs
        no points, what holds without them."""
        if (kit, channel) not in self._calibrations:
            self._calibrations[kit, channel] = self._find_calibration(kit, channel)
        return self._calibrations[kit, channel]

    def _find_calibration(self, kit: int, channel: str) -> Calibration | None:
        sensor = self.sensor(channel)
        own = self._kept_rows(kit, channel)
        if sensor is not None:
            own = [row for row in own if row["quantity"] == sensor.quantity and row["unit"] == sensor.unit]
        if own:
            return self._in_use(calibration_of(own[-1]), sensor, kit)
        if sensor is None or sensor.needs_points:
            return None
        column = self.column_of(kit, channel)
        format = self.format(kit)
        try:
            choice = sensor.choice(format.unit_of(column) if format is not None else "")
            return self._in_use(standing(channel, sensor.quantity, sensor.unit, choice), sensor, kit)
        except Trouble:
            return None  # the plan says where

    def _in_use(self, kept: Calibration, sensor: SensorPlan | None, kit: int) -> Calibration:
        """A calibration with what the plan says of its use."""
        if sensor is None:
            return kept
        column = self.column_of(kit, sensor.channel)
        heard_as = column if column != sensor.channel else ""
        return msgspec.structs.replace(kept, heard_as=heard_as, believed=sensor.believed, edges=sensor.edges)

    def format(self, kit: int) -> StreamFormat | None:
        """How a kit was read the last time, as a receiver's where it is relayed."""
        rows = {row["identity"]: row for row in self.rows("kit")}
        own = next((row for row in rows.values() if row["id"] == kit), None)
        if own is None:
            return None
        return format_of(own) or format_of(rows.get(own["identity"].rpartition("#")[0], own))

    def column_of(self, kit: int | None, channel: str) -> str:
        """The column in which a kit sends a channel of the plan; the channel's own name where that is not known."""
        if (kit, channel) not in self._columns:
            self._columns[kit, channel] = self._find_column(kit, channel)
        return self._columns[kit, channel]

    def _find_column(self, kit: int | None, channel: str) -> str:
        sensor = self.sensor(channel)
        format = self.format(kit) if kit is not None and sensor is not None and sensor.also else None
        if sensor is None or format is None:
            return channel
        columns = [(each.name, each.unit) for each in format.columns if each.role == "channel"]
        return sensor.heard_in(columns) or channel

    def all_calibrations(self, kit: int, channel: str) -> list[Calibration]:
        """All that were kept for a kit's channel, in this lesson or before, oldest first."""
        return [calibration_of(row) for row in self._kept_rows(kit, channel)]

    def _kept_rows(self, kit: int, channel: str) -> list[Row]:
        rows = self.rows("calibration")
        return [row for row in rows if row["kit"] == kit and row["channel"] == channel and not row["aside"]]

    def calibrations(self, kit: int) -> list[Calibration]:
        found = [self.calibration(kit, sensor.channel) for sensor in self.plan.sensors]
        return [each for each in found if each is not None]

    def heard_from(self, run: Run, kit: int) -> bool:
        """Whether a run was heard from this kit, by itself or through its receiver."""
        source = self.book.row("session", run.session)["kit"]
        own, through = self.kits[kit].identity, self.kits[source].identity
        return source == kit or own.startswith(f"{through}#")

    def bench_rows(self, groups: Sequence[int]) -> list[RowChange]:
        """Benches in this lesson for groups that have none in it, to be added."""
        there = {row["group"] for row in self.rows("bench") if row["lesson"] == self.id}
        return [self.book.added("bench", lesson=self.id, group=each, kit=None) for each in groups if each not in there]

    def group_rows(self, aliases: Sequence[str]) -> list[RowChange]:
        """Groups and their benches, to be added."""
        rows = []
        taken = len(self.all_groups)
        for place, alias in enumerate(aliases, taken):
            emblem = emblem_for(place)
            group = self.book.added("group", alias=alias, shape=emblem.shape, colour=emblem.colour, position=place)
            rows += [group, self.book.added("bench", lesson=self.id, group=group.id, kit=None)]
        return rows

    @property
    def pool_state(self) -> int:
        return int(self.row["pool_open"] or 0)

    @property
    def pool_open(self) -> bool:
        """Whether every group may see all findings, if not whose they are."""
        return is_open(self.pool_state)

    @property
    def pool_shown(self) -> frozenset[int]:
        """Groups whose findings may be seen."""
        return shown_groups(self.pool_state, self.all_groups)

    def pooled(self) -> dict[int, Row]:
        """Run -> its row in the pool of this lesson."""
        known = self._all_runs()
        sent = [row for row in self.rows("pooled") if row["sent_at"] and row["run"] in known]
        return {row["run"]: row for row in sent if known[row["run"]].lesson == self.id}

    def pool_rows(self) -> list[PoolRow]:
        """The class dataset, group by group. A run that was set aside is in it, with the reason."""
        return self.rows_of([(self.run(run), row["aside"], "") for run, row in self.pooled().items()])

    def rows_of(self, runs: Sequence[tuple[Run, str, str]]) -> list[PoolRow]:
        """What is known of runs, group by group, each with why it is set aside and a remark."""
        places, found = {group.id: group for group in self.all_groups}, []
        for run, aside, remark in runs:
            worked = self.findings(run.id)
            guessed = "in part outside the calibration: a guess" if any(f.guesses for f in worked) else ""
            note = "; ".join(each for each in (remark, applied_words(run.setting), guessed) if each)
            words = {name: value for name, value in self.run_stated(run.id).items() if isinstance(value, str)}
            findings = {finding.name: finding.measured for finding in worked}
            conditions = self.run_conditions(run.id)
            found.append(PoolRow(run.id, run.group, places[run.group].alias, run.number, conditions, findings, aside or run.aside, note, words))  # fmt: skip
        return sorted(found, key=lambda row: (places[row.group].position, row.number))

    def class_result(self) -> ClassResult:
        """Raises PoolTrouble where the plan has no class graph."""
        return self._result_of(None)

    def shown_result(self) -> ClassResult:
        """The same of those groups whose findings may be seen. Raises PoolTrouble where the plan has no class graph."""
        return self._result_of(None if self.pool_open else self.pool_shown)

    def _result_of(self, shown: frozenset[int] | None) -> ClassResult:
        if shown not in self._results:
            rows = [row for row in self.pool_rows() if shown is None or row.group in shown]
            self._results[shown] = class_result(self.plan, rows)
        return self._results[shown]
