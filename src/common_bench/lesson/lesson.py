"""A lesson as it is held: one book, one engine, and what everybody who looks at it needs to know."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from common_bench.book.book import Book, now
from common_bench.book.changes import Change, Row, RowChange
from common_bench.book.journal import JournalWriter
from common_bench.calibrate.applied import Applied
from common_bench.calibrate.comparing import Disagreement, disagreeing
from common_bench.calibrate.steady import STRETCHES, Limits, Steadiness, steadiness
from common_bench.lesson.kept import (
    calibration_of,
    finding_of,
    finding_row,
    format_of,
    group_of,
    measured_of,
    point_of,
    run_of,
)
from common_bench.links.address import Address, read_address
from common_bench.model.bench import Group, Kit, Port, emblem_for
from common_bench.model.calibration import Calibration, ReferencePoint
from common_bench.model.class_line import ClassResult
from common_bench.model.measured import Measured
from common_bench.model.plan import AskPlan, Plan, SensorPlan, plan_from_text, plan_to_text
from common_bench.model.run import Finding, Moment, PoolRow, Run, RunSetting
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import BookTrouble, FindingTrouble, Trouble
from common_bench.pool.class_line import class_result
from common_bench.reading.health import ColumnHealth, column_health
from common_bench.record.applying import applied
from common_bench.record.ear import Ear
from common_bench.record.engine import Engine, Happening
from common_bench.record.live import Picture
from common_bench.record.replay import Replayed, replay
from common_bench.record.rules import Rule
from common_bench.workings.evaluate import Workings, check, number_from
from common_bench.workup.findings import GUESS, findings_of

STEADY_LOOK = 1.1 * STRETCHES[-1]  # s of readings that are looked at, more of a kit that sends slowly
USUAL_RATE = 10.0  # readings per s, below which more is looked at
HEALTH_WINDOW = 10.0  # s of readings from which a column is judged
WHY = {
    "silent": "kit silent", "dead": "kit silent", "menu": "waits for a key", "button": "waits for its button",
    "asked": "waits to be asked", "lost": "unplugged", "unreadable": "unreadable", "no-host": "not reached",
    "ended": "not reached", "file-ended": "at its end", "taken": "held elsewhere", "not-allowed": "not allowed",
}  # fmt: skip


class OpenLesson:
    """The lesson that a book is open at, with the engine that hears its kits.

    Questions are answered from what the book holds (read again after every change); actions that a
    person can take back give a Change and tell `changed`; facts (heard, recorded) are added for good.
    Used from one thread.
    """

    def __init__(self, book: Book, *, speed: float = 1.0, live: bool = True) -> None:
        self.book = book
        self.told = list(book.told)
        self.live = live
        self._closed = False
        self.changed: list[Callable[[Change | None], None]] = []
        self._held: dict[str, list[Row]] = {}
        lessons = book.rows("lesson")
        if not lessons:
            raise BookTrouble("this book holds no lesson.", where=str(book.path), do="Make a new book.")
        self.id = int(lessons[-1]["id"])
        self._replays: dict[int, Replayed] = {}
        self._steady: dict[tuple[int, str], tuple[float, Steadiness]] = {}
        self._ready: dict[int, Applied] = {}
        self._worked: set[int] = set()  # runs that were worked up or tried; 0 once any were looked at
        self._planned: tuple[str, Plan, Workings] = ("", Plan(""), check((), {}))
        self._result: ClassResult | None = None
        if live:
            self.journal = JournalWriter(book.path)
            self.engine = Engine(self.journal, speed=speed)
            self.engine.start()

    @classmethod
    def make(cls, path: Path, plan: Plan, class_name: str, aliases: Sequence[str], *, speed: float = 1.0) -> OpenLesson:
        """A new book with one lesson of a plan, and a group for each alias."""
        book = Book.make(path)
        rows = [book.added("plan", name=plan.name, text=plan_to_text(plan), kept_at=now())]
        rows.append(
            book.added("lesson", plan=rows[0].id, class_name=class_name, held_on=date.today().isoformat(), pool_open=0)
        )
        book.apply("Make the book", rows)
        lesson = cls(book, speed=speed)
        if aliases:
            lesson.do("Name the groups", lesson.group_rows(aliases))
        return lesson

    @classmethod
    def open(cls, path: Path, *, speed: float = 1.0, readonly: bool = False) -> OpenLesson:
        return cls(Book.open(path, readonly=readonly), speed=speed, live=not readonly)

    def close(self) -> None:
        """Ends runs and links, keeps what they ended with, and lets the book go. Doing it again does nothing."""
        if self._closed:
            return
        self._closed = True
        if self.live:
            self.engine.stop()
            self.journal.close()
            for kit in list(self.engine.ears):
                self._close_hearing(kit)
        self.book.close()

    # what the book holds

    def rows(self, table: str) -> list[Row]:
        if table not in self._held:
            self._held[table] = self.book.rows(table)
        return self._held[table]

    def refresh(self, *tables: str) -> None:
        for table in tables or list(self._held):
            self._held.pop(table, None)
        self._result = None

    @property
    def row(self) -> Row:
        return next(row for row in self.rows("lesson") if row["id"] == self.id)

    @property
    def plan(self) -> Plan:
        row = next(row for row in self.rows("plan") if row["id"] == self.row["plan"])
        if row["text"] != self._planned[0]:
            plan = plan_from_text(row["text"], "the plan in this book")
            channels = {sensor.channel: sensor.unit for sensor in plan.sensors}
            self._planned = row["text"], plan, check(plan.workings, channels)
        return self._planned[1]

    @property
    def class_name(self) -> str:
        return str(self.row["class_name"])

    @property
    def channels(self) -> dict[str, str]:
        """Channel -> unit of the quantity that the plan calibrates it to."""
        return {sensor.channel: sensor.unit for sensor in self.plan.sensors}

    @property
    def workings(self) -> Workings:
        return self._planned[2] if self.plan else check((), {})

    @property
    def groups(self) -> list[Group]:
        return sorted((group_of(row) for row in self.rows("group")), key=lambda group: group.position)

    def group(self, id: int) -> Group:
        return next(group for group in self.groups if group.id == id)

    @property
    def kits(self) -> dict[int, Kit]:
        return {row["id"]: Kit(row["id"], row["identity"], row["name"], row["link"]) for row in self.rows("kit")}

    def kit_of(self, group: int) -> int | None:
        return next(
            (row["kit"] for row in self.rows("bench") if row["group"] == group and row["lesson"] == self.id), None
        )

    def group_at(self, kit: int) -> int | None:
        return next(
            (row["group"] for row in self.rows("bench") if row["kit"] == kit and row["lesson"] == self.id), None
        )

    def ear(self, group: int) -> Ear | None:
        kit = self.kit_of(group)
        return self.engine.ears.get(kit) if self.live and kit is not None else None

    def conditions(self, group: int) -> dict[str, Measured]:
        return {
            row["name"]: measured_of(row)
            for row in self.rows("condition_value")
            if row["group"] == group and row["lesson"] == self.id and row["value"] is not None
        }

    def run_conditions(self, run: int) -> dict[str, Measured]:
        return {
            row["name"]: measured_of(row)
            for row in self.rows("run_condition")
            if row["run"] == run and row["value"] is not None
        }

    def runs(self, group: int | None = None) -> list[Run]:
        """Closed and open runs in order, those set aside included."""
        return [run_of(row) for row in self.rows("run") if row["lesson"] == self.id and group in (None, row["group"])]

    def run(self, id: int) -> Run:
        return run_of(next(row for row in self.rows("run") if row["id"] == id))

    def kept_runs(self, group: int | None = None) -> list[Run]:
        return [run for run in self.runs(group) if run.state == "closed" and not run.aside and run.begin is not None]

    def findings(self, run: int) -> list[Finding]:
        return [finding_of(row) for row in self.rows("finding") if row["run"] == run]

    def moments(self, run: int) -> list[Moment]:
        found = [
            Moment(row["id"], row["run"], row["t"], row["text"]) for row in self.rows("moment") if row["run"] == run
        ]
        return sorted(found, key=lambda moment: moment.t)

    # calibration

    def sensor(self, channel: str | None = None) -> SensorPlan | None:
        """The plan's sensor for a channel, or its first."""
        return next((each for each in self.plan.sensors if channel in (None, each.channel)), None)

    def points(self, kit: int, channel: str) -> list[ReferencePoint]:
        """Points of this lesson that count, in the order in which they were taken."""
        return [
            point_of(row)
            for row in self.rows("reference_point")
            if row["kit"] == kit and row["channel"] == channel and row["lesson"] == self.id and not row["aside"]
        ]

    def calibration(self, kit: int, channel: str) -> Calibration | None:
        """The newest that is kept for a kit's channel."""
        own = self._kept_rows(kit, channel)
        return calibration_of(own[-1]) if own else None

    def all_calibrations(self, kit: int, channel: str) -> list[Calibration]:
        """All that were kept for a kit's channel, in this lesson or before, oldest first."""
        return [calibration_of(row) for row in self._kept_rows(kit, channel)]

    def _kept_rows(self, kit: int, channel: str) -> list[Row]:
        rows = self.rows("calibration")
        return [row for row in rows if row["kit"] == kit and row["channel"] == channel and not row["aside"]]

    def calibrations(self, kit: int) -> list[Calibration]:
        found = [self.calibration(kit, sensor.channel) for sensor in self.plan.sensors]
        return [each for each in found if each is not None]

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

    def raw_unit(self, group: int | None, channel: str) -> str:
        """The unit in which a channel comes, as the stream format has it (any kit's where no group is named)."""
        kits = [self.kit_of(group)] if group is not None else list(self.engine.ears) if self.live else []
        for kit in kits:
            ear = self.engine.ears.get(kit) if kit is not None and self.live else None
            format = ear.chain.reader.format if ear is not None else None
            column = next((c for c in format.columns if c.name == channel), None) if format is not None else None
            if column is not None:
                return column.unit
        return ""

    def board_temperature(self, group: int) -> float | None:
        """What the kit's own thermometer shows in °C, where it sends one beside its sensors."""
        ear = self.ear(group)
        format = ear.chain.reader.format if ear is not None else None
        for column in format.columns if format is not None else ():
            board = column.role == "channel" and column.name not in self.channels
            if board and column.name.lower().startswith("temp") and column.unit in ("", "°C"):
                latest = ear.live.latest(f"raw {column.name}") if ear is not None else None
                return latest.value if latest is not None and latest.value == latest.value else None
        return None

    def heard_from(self, run: Run, kit: int) -> bool:
        """Whether a run was heard from this kit, by itself or through its receiver."""
        source = self.book.row("hearing", run.hearing)["kit"]
        own, through = self.kits[kit].identity, self.kits[source].identity
        return source == kit or own.startswith(f"{through}#")

    # changing

    def do(self, label: str, rows: Sequence[RowChange]) -> Change:
        """Makes a change that can be undone, and tells everybody who watches."""
        change = self.book.apply(label, rows)
        self._follow(change, change)
        return change

    def undo(self, change: Change) -> None:
        self.book.undo(change)
        self._follow(change, None)

    def redo(self, change: Change) -> None:
        self.book.redo(change)
        self._follow(change, None)

    def _follow(self, change: Change, new: Change | None) -> None:
        tables = {row.table for row in change.rows}
        self.refresh(*tables)
        self._steady.clear()
        for row in change.rows:
            if row.table == "run":
                self._replays.pop(row.id, None)
        if self.live:
            if tables & {"calibration", "bench", "kit"}:
                for kit in list(self.engine.ears):
                    self.engine.calibrate(kit, self.calibrations(kit))
            if "kit" in tables:
                self._follow_kits()
            if "plan" in tables:
                self.engine.work(self.workings)
        for tell in self.changed:
            tell(new)

    def _follow_kits(self) -> None:
        """Brings what the engine does with each kit in step with what the book says of it."""
        for row in self.rows("kit"):
            ear = self.engine.ears.get(row["id"])
            if ear is None or ear.parent is not None:
                continue
            format = format_of(row)
            if format is not None and format != ear.chain.reader.format:
                self.engine.read_as(row["id"], format)
            wanted = _as_remembered(read_address(row["link"]), row["link"])
            if wanted.settings != ear.address.settings or wanted.speed != ear.address.speed:
                self.engine.set_address(row["id"], wanted)
            self._follow_asking(row["id"])

    def group_rows(self, aliases: Sequence[str]) -> list[RowChange]:
        """Groups and their benches, to be added."""
        rows = []
        taken = len(self.groups)
        for place, alias in enumerate(aliases, taken):
            emblem = emblem_for(place)
            group = self.book.added("group", alias=alias, shape=emblem.shape, colour=emblem.colour, position=place)
            rows += [group, self.book.added("bench", lesson=self.id, group=group.id, kit=None)]
        return rows

    # hearing

    def hear(self, port: Port) -> int:
        """Listens to a port from now on; the kit is known again by its identity. Gives the kit's id."""
        known = next((row for row in self.rows("kit") if row["identity"] == port.identity), None)
        address = read_address(port.link)
        if known is None:
            kit = self.book.record("kit", identity=port.identity, name=port.name, link=port.link, format="", asking="")
        else:
            kit = int(known["id"])
            address = _as_remembered(address, known["link"]) if "?" not in port.link else address
            self.book.amend("kit", kit, link=address.text, name=port.name)
        hearing = self.book.record(
            "hearing",
            lesson=self.id,
            kit=kit,
            link=address.text,
            opened_at=now(),
            world_speed=self.engine.speed,
            closed_at="",
        )
        self.refresh("kit")
        format = format_of(known) if known else None
        self.engine.hear(
            kit, hearing, address, self.workings, self.calibrations(kit), format,
            settled="speed=" in port.link or format is not None,
        )  # fmt: skip
        self._follow_asking(kit)
        return kit

    def _follow_asking(self, kit: int) -> None:
        text = next(row["asking"] for row in self.rows("kit") if row["id"] == kit)
        plan = msgspec.json.decode(text, type=AskPlan) if text else self.plan.ask
        ear = self.engine.ears[kit]
        if plan != (ear.asking.plan if ear.asking else None):
            self.engine.ask_kit(kit, plan)

    def _relay(self, parent: int, id: str) -> None:
        """A kit of its own for an id that was heard on a shared port; given back to its bench if it had one."""
        source = next(row for row in self.rows("kit") if row["id"] == parent)
        identity = f"{source['identity']}#{id}"
        known = next((row for row in self.rows("kit") if row["identity"] == identity), None)
        if known is not None:
            kit = int(known["id"])
        else:
            name = f"{source['name']} · kit {id.lstrip('@')}"
            kit = self.book.record("kit", identity=identity, name=name, link=source["link"], format="", asking="")
            self.refresh("kit")
        self.engine.relay(parent, kit, id, self.workings, self.calibrations(kit))

    def is_receiver(self, kit: int) -> bool:
        """Whether a kit only relays others, and so belongs to no bench itself."""
        ear = self.engine.ears.get(kit)
        return ear is not None and bool(ear.relayed)

    def leave(self, kit: int) -> None:
        self.engine.leave(kit)
        self._close_hearing(kit)

    def _close_hearing(self, kit: int) -> None:
        for row in self.book.rows("hearing", kit=kit, lesson=self.id, closed_at=""):
            self.book.amend("hearing", row["id"], closed_at=now())

    def heard_identities(self) -> set[str]:
        known = self.kits
        return {known[kit].identity for kit, ear in self.engine.ears.items() if kit in known and ear.parent is None}

    def forget_gone(self, plugged: set[str]) -> list[int]:
        """Leaves kits that were pulled out and belong to no bench, so that they disappear as they came.

        plugged: identities of the ports that are there. What was added by address stays.
        """
        gone = []
        for kit, ear in list(self.engine.ears.items()):
            benches = [kit, *(each.kit for each in ear.relayed.values())]
            lost = ear.link is None and ear.trouble is not None and ear.trouble.cause in ("lost", "missing")
            loose = ear.parent is None and all(self.group_at(each) is None for each in benches)
            if lost and loose and ear.losses and self.kits[kit].identity not in plugged:
                self.leave(kit)
                gone.append(kit)
        return gone

    def appear(self, ports: Sequence[Port]) -> list[int]:
        """Listens to every port that is not heard yet, and gives each known kit back to its bench."""
        known = self.kits
        heard = {
            known[kit].identity: kit for kit, ear in self.engine.ears.items() if kit in known and ear.parent is None
        }
        made = []
        for port in ports:
            if port.identity not in heard:
                made.append(self.hear(port))
                continue
            ear = self.engine.ears[heard[port.identity]]
            address = read_address(port.link)
            if address.kind == "serial" and ear.address.path != address.path and ear.link is None:
                ear.address = replace(ear.address, path=address.path)  # back under another path
        return made

    # recording

    def ready(self, group: int) -> str:
        """Empty where a run can begin; otherwise why not, in words."""
        ear = self.ear(group)
        if ear is None:
            return "no kit"
        if ear.trouble is not None:
            return WHY.get(ear.trouble.cause, "not open")
        if not ear.ready:
            return "listening"
        return "recording" if ear.run is not None else ""

    def recording(self, group: int) -> bool:
        """Whether a run is under way, be its kit heard or not."""
        ear = self.ear(group)
        return ear is not None and ear.run is not None

    def begin_runs(self, groups: Sequence[int]) -> list[int]:
        """Begins a run on each bench that is ready; gives the groups. Each copies its conditions of now."""
        begun = []
        rule = Rule.of(self.plan.rule)
        for group in groups:
            ear = self.ear(group)
            if self.ready(group) or ear is None or ear.run is not None:
                continue
            number = self.book.largest("run", "number", lesson=self.id, group=group) + 1
            run = self.book.record(
                "run", lesson=self.id, group=group, number=number, hearing=ear.hearing, state="asked", began_at=now(),
                ended_by="", setting="", aside="",
            )  # fmt: skip
            for name, value in self.conditions(group).items():
                self.book.record("run_condition", run=run, name=name, value=value.value, u=value.u, unit=value.unit)
            try:
                self.engine.begin_run(ear.kit, run, number, rule)
            except Trouble as trouble:
                self.book.amend("run", run, state="closed", ended_by=trouble.what)
                continue
            begun.append(group)
        self._look_at_runs("run_condition")
        return begun

    def end_runs(self, groups: Sequence[int]) -> None:
        for group in groups:
            ear = self.ear(group)
            if ear is not None and ear.run is not None:
                self.engine.end_run(ear.kit, "ended by hand")

    def keep_moment(self, run: int, t: float, words: str) -> None:
        """Stamps a remark on a run that is being recorded, at t s since it began."""
        self.book.record("moment", run=run, t=t, text=words)
        self.refresh("moment")

    def happenings(self) -> list[Happening]:
        """What the engine tells since last asked; ended runs are worked up and formats kept."""
        found: list[Happening] = []
        while not self.engine.happenings.empty():
            found.append(self.engine.happenings.get())
        if any(each.what.startswith("run-") for each in found) or not self._worked:
            self.journal.flush()
            self._look_at_runs()
        for each in found:
            ear = self.engine.ears.get(each.kit)
            if each.what == "format" and ear is not None and ear.chain.reader.format is not None:
                self._keep_format(each.kit, ear)
            elif each.what == "relayed" and ear is not None:
                self._relay(each.kit, each.words)
        return found

    def _keep_format(self, kit: int, ear: Ear) -> None:
        """Remembers how a kit is read; a format of the plan for lines of this shape goes before what was worked out."""
        found = ear.chain.reader.format
        assert found is not None
        wanted = next((each for each in self.plan.formats if alike(each, found)), None)
        if wanted is not None and wanted != found and not any(e.run for e in (ear, *ear.relayed.values())):
            self.engine.read_as(kit, wanted)
            found = wanted
        text = msgspec.json.encode(found).decode()
        if ear.parent is None:
            self.book.amend("kit", kit, format=text, link=ear.address.text)
            self.refresh("kit")

    def absent_channels(self, kit: int) -> list[str]:
        """Channels that the plan asks for and the kit's lines do not hold."""
        ear = self.engine.ears.get(kit)
        format = ear.chain.reader.format if ear is not None else None
        return [name for name in self.channels if name not in format.channels] if format is not None else []

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

    def _look_at_runs(self, *tables: str) -> None:
        """Reads the runs again; whatever has ended and has no finding yet is worked up before anybody sees it."""
        self.refresh("run", *tables)
        known = {row["run"] for row in self.rows("finding")} | self._worked
        for run in self.kept_runs():
            if run.id not in known:
                self._work_up_ended(run.id)
        self._worked |= {run.id for run in self.kept_runs()} | {0}

    def _work_up_ended(self, run: int) -> None:
        try:
            for finding in self.worked_up(run, None):
                self.book.record("finding", run=run, made_at=now(), **finding_row(finding))
        except Trouble:
            return  # a run with nothing in it; the work-up stage says why
        finally:
            self.refresh("finding")

    # work-up

    def replayed(self, run: int) -> Replayed:
        """The run computed again from its bytes. Raises FindingTrouble for an empty or open one."""
        if run not in self._replays:
            found = self.run(run)
            if found.state != "closed":
                raise FindingTrouble(f"run {found.number} is still being recorded.", do="Wait until it has ended.")
            if len(self._replays) >= 8:
                self._replays.pop(next(iter(self._replays)))
            self._replays[run] = replay(self.book, found, self.channels)
        return self._replays[run]

    def worked_up(self, run: int, span: tuple[float, float] | None) -> list[Finding]:
        """The plan's findings over a span of a run (None: all of it). Raises Trouble in words."""
        replayed = self.replayed(run)
        workings = replayed.workings
        wanted = [name for name in self.plan.findings if name in workings.kinds] or list(self.plan.findings)
        return findings_of(workings, replayed.results, span or (0.0, replayed.seconds), wanted)

    # pool

    @property
    def pool_open(self) -> bool:
        return bool(self.row["pool_open"])

    def pooled(self) -> dict[int, Row]:
        """Run -> its row in the pool."""
        return {row["run"]: row for row in self.rows("pooled") if row["sent_at"]}

    def pool_rows(self) -> list[PoolRow]:
        """The class dataset, group by group. A run that was set aside is in it, with the reason."""
        found = []
        places = {group.id: group for group in self.groups}
        for run_id, row in self.pooled().items():
            run = self.run(run_id)
            worked = self.findings(run_id)
            findings = {finding.name: finding.measured for finding in worked}
            guessed = "in part outside the calibration: a guess" if any(f.words.endswith(GUESS) for f in worked) else ""
            note = "; ".join(each for each in (applied_words(run.setting), guessed) if each)
            found.append(
                PoolRow(
                    run_id, run.group, places[run.group].alias, run.number, self.run_conditions(run_id), findings,
                    row["aside"] or run.aside, note,
                )
            )  # fmt: skip
        return sorted(found, key=lambda row: (places[row.group].position, row.number))

    def class_result(self) -> ClassResult:
        """Raises PoolTrouble where the plan has no class graph."""
        if self._result is None:
            self._result = class_result(self.plan, self.pool_rows(), _evaluate)
        return self._result


def applied_words(setting: RunSetting | None) -> str:
    """`calibrated afterwards, 25 Nov 12:03` for a run that did not keep the calibration it was made with."""
    if setting is None or not setting.applied_at:
        return ""
    return f"calibrated afterwards, {datetime.fromisoformat(setting.applied_at):%-d %b %H:%M}"


def _evaluate(formula: str, names: Mapping[str, Measured]) -> Measured:
    return number_from(formula, names)


def _as_remembered(address: Address, link: str) -> Address:
    """The address with the speed and settings under which the kit was last heard."""
    try:
        kept = read_address(link)
    except Trouble:
        return address
    return replace(address, speed=kept.speed, settings=kept.settings) if kept.kind == address.kind else address


def alike(one: StreamFormat, other: StreamFormat) -> bool:
    """Whether two formats are for lines of the same shape."""
    shape = [
        (f.dialect, f.separator, len(f.columns), f.start, f.end, f.decimal_comma, f.kit_mark) for f in (one, other)
    ]
    return shape[0] == shape[1]


def lesson_summary(lesson: OpenLesson) -> dict[str, Any]:
    """What `show` prints: the lesson with its groups, runs and findings."""
    return {
        "book": str(lesson.book.path),
        "plan": lesson.plan.name,
        "class": lesson.class_name,
        "held_on": lesson.row["held_on"],
        "pool": "open" if lesson.pool_open else "sealed",
        "groups": [
            {
                "alias": group.alias,
                "conditions": {name: str(value) for name, value in lesson.conditions(group.id).items()},
                "runs": [
                    {
                        "number": run.number,
                        "state": run.state,
                        "began_at": run.began_at,
                        "ended_by": run.ended_by,
                        "bytes": (run.end or 0) - (run.begin or 0),
                        "set_aside": run.aside,
                        "findings": {f.name: msgspec.to_builtins(f.measured) for f in lesson.findings(run.id)},
                    }
                    for run in lesson.runs(group.id)
                ],
            }
            for group in lesson.groups
        ],
    }
