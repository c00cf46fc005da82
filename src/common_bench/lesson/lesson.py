"""A lesson as it is held: one book, one engine, and the parts of the job, each with what it needs."""

from __future__ import annotations

import itertools
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from common_bench.book.book import Book
from common_bench.book.book_file import copy_for_writing
from common_bench.book.journal import JournalWriter
from common_bench.lesson.applying import Applying
from common_bench.lesson.bringing_in import BringingIn
from common_bench.lesson.calibrating import Calibrating, Taking
from common_bench.lesson.changes import Changes
from common_bench.lesson.chosen_spans import ChosenSpans
from common_bench.lesson.lessons import begin_lesson
from common_bench.lesson.planning import Planning
from common_bench.lesson.point_taking import PointTaking
from common_bench.lesson.pooling import Pooling
from common_bench.lesson.predictions import Predictions
from common_bench.lesson.reading_anew import ReadingAnew
from common_bench.lesson.recording_runs import Recording
from common_bench.lesson.register import Register
from common_bench.lesson.replays import Replays
from common_bench.lesson.rescue import Rescue
from common_bench.lesson.roster import Roster
from common_bench.lesson.runs_in_step import RunsInStep
from common_bench.lesson.sensors import SensorStates
from common_bench.lesson.store import LessonStore
from common_bench.lesson.working_up import WorkingUp
from common_bench.model.plan import Plan
from common_bench.model.run import Run
from common_bench.model.trouble import BookTrouble, Trouble
from common_bench.record.apart import AnyEngine, AnyJournal, engine_apart
from common_bench.record.engine import PATIENCE, Engine
from common_bench.record.events import EngineEvent
from common_bench.record.replay import replay
from common_bench.record.snapshot import KitState

MOST_TOLD = 3  # damaged rows in one sentence
LOOKED_EVERY = 2.0  # s, whether another program has changed a book that is only read
ENDED_AT_ONCE = 8  # runs that have ended, which are given to be worked up in one tick


class OpenLesson:
    """The lesson that a book is open at. Used from one thread.

    store: what the book holds; changes: what a person does and can take back; roster: kits and benches; sensors: how
    they stand; register: the class and its groups; planning, calibrating, recording, working_up, pooling: the stages as actions. `engine` is there for a
    lesson that is held, not for a book that is only read.
    """

    def __init__(
        self,
        book: Book,
        lesson: int | None = None,
        *,
        speed: float = 1.0,
        live: bool = True,
        patience: float = PATIENCE,
        apart: bool = False,
    ) -> None:
        """lesson: its id, the last one where none is named; speed: world s per s; patience: s that a command to the engine may take;
        apart: kits are heard by a process of their own, as it is best beside a window."""
        self.book = book
        self.notices: list[Trouble] = list(book.notices)
        self.store = LessonStore(book, lesson)
        if damaged := self.store.damaged():
            which = "; ".join(damaged[:MOST_TOLD]) + ("; …" if len(damaged) > MOST_TOLD else "")
            self.notices.append(Trouble("book-rows-damaged", count=len(damaged), which=which))
        self.changes = Changes(self.store)
        self._engine: AnyEngine | None = None
        if live and apart:
            held = book.lock.file if book.lock is not None else None
            self._engine = engine_apart(book.path, held, speed=speed, patience=patience)
        elif live:
            self._engine = Engine(JournalWriter(book.path), speed=speed, patience=patience)
        self._journal: AnyJournal | None = self._engine.journal if self._engine is not None else None
        self.roster = Roster(self.store, self.changes, self._engine)
        self.sensors = SensorStates(self.store, self.roster, self.changes, speed)
        self.register = Register(self.store, self.changes, self.roster)
        self.planning = Planning(self.store, self.changes, self.roster)
        self.calibrating = Calibrating(self.store, self.changes, self.roster, self.sensors, self.planning)
        self.working_up = WorkingUp(self.store, self.changes)
        self.spans = ChosenSpans(self.store, self.changes, self.working_up)
        self.reading_anew = ReadingAnew(self.store, self.changes, self.working_up)
        self.runs_in_step = RunsInStep(self.store, self.changes, self.working_up)
        self.predictions = Predictions(self.store, self.changes)
        self.recording = Recording(
            self.store, self.changes, self.roster, self._engine, self.working_up, self.predictions, self.sensors
        )
        self.point_taking = PointTaking(self.store, self.changes, self.roster, self.sensors, self.recording)
        self.applying = Applying(self.store, self.changes, self.working_up)
        self.replays = Replays(self.store)
        self.pooling = Pooling(self.store, self.changes)
        self.bringing_in = BringingIn(self.store, self.changes)
        self.rescue = Rescue(self.store, self._journal)
        self._closed = self._caught_up = False
        self._looked = 0.0  # monotonic s, at a book that is only read
        self._ended: list[EngineEvent] = []  # runs that are still to be given to be worked up
        self._formats: set[int] = set()  # kits whose formats are to be kept
        if self._engine is not None:
            self.roster.take_passwords_out()
            if not apart:
                self._engine.start()

    @classmethod
    def make(
        cls, path: Path, plan: Plan, class_name: str, aliases: Sequence[str], *, speed: float = 1.0,
        patience: float = PATIENCE, origin: str = "", apart: bool = False,
    ) -> OpenLesson:  # fmt: skip
        """A new book with one lesson of a plan, and a group for each alias."""
        book = Book.make(path)
        begin_lesson(book, plan, class_name=class_name, origin=origin)
        lesson = cls(book, speed=speed, patience=patience, apart=apart)
        if aliases:
            lesson.changes.do("Name the groups", lesson.store.group_rows(aliases))
        return lesson

    @classmethod
    def open(
        cls, path: Path, lesson: int | None = None, *, speed: float = 1.0, readonly: bool = False, patience: float = PATIENCE,
        apart: bool = False,
    ) -> OpenLesson:  # fmt: skip
        """A lesson of a book, the last one where none is named. Raises BookTrouble."""
        book = Book.open(path, readonly=readonly)
        return cls(book, lesson, speed=speed, live=not readonly, patience=patience, apart=apart)

    @classmethod
    def open_within_reach(cls, path: Path, lesson: int | None = None, *, apart: bool = False) -> OpenLesson:
        """The same; of a book that lies where nothing can be written, a copy in the user's data place, which is told; one that another
        program holds is only read, which is told too."""
        try:
            return cls.open(path, lesson, apart=apart)
        except BookTrouble as trouble:
            if trouble.code == "book-open-elsewhere":
                read = cls.open(path, lesson, readonly=True)
                read.notices.insert(0, Trouble("book-to-read", where=str(path), holder=trouble.fields["holder"]))
                return read
            if trouble.code not in ("book-folder-read-only", "book-read-only"):
                raise
            folder = Path(platformdirs.user_data_dir("common-bench")) / "copies"
            folder.mkdir(parents=True, exist_ok=True)
            copy = next(place for number in itertools.count(1) if not (place := folder / f"{path.stem} {number}{path.suffix}").exists())  # fmt: skip
            copy_for_writing(path, copy)
            found = cls.open(copy, lesson, apart=apart)
            found.notices.insert(0, Trouble("book-copied", where=str(path), copy=str(copy)))
            return found

    @classmethod
    def begin(
        cls, path: Path, plan: Plan, *, origin: str = "", speed: float = 1.0, patience: float = PATIENCE,
        apart: bool = False,
    ) -> OpenLesson:  # fmt: skip
        """The next lesson of the class of a book, with a copy of a plan. Raises BookTrouble."""
        book = Book.open(path)
        try:
            lesson = begin_lesson(book, plan, origin=origin)
        except Trouble:
            book.close()
            raise
        return cls(book, lesson, speed=speed, patience=patience, apart=apart)

    @property
    def is_live(self) -> bool:
        return self._engine is not None

    @property
    def engine(self) -> AnyEngine:
        assert self._engine is not None, "a book that is only read has no engine"
        return self._engine

    @property
    def journal(self) -> AnyJournal:
        assert self._journal is not None, "a book that is only read has no journal"
        return self._journal

    def seen(self, group: int) -> KitState | None:
        """What the views of a bench show: its run that is played again, or its kit as it is heard; None where there is
        neither."""
        return self.replays.state(group) or self.roster.state(group)

    def all_seen(self, groups: Sequence[int]) -> dict[int, KitState | None]:
        """The same of several at one moment."""
        kits, benches = self.roster.kits, {group: self.store.kit_of(group) for group in groups}
        return {
            group: self.replays.state(group) or (kits.get(kit) if kit is not None else None)
            for group, kit in benches.items()
        }

    def taking(self) -> Taking:
        """A round of taking points."""
        return Taking(self.store, self.calibrating, self.sensors)

    def close(self, within: float | None = None) -> None:
        """Ends runs and links, keeps what they ended with, and lets the book go. Doing it again does nothing.

        within: s that keeping may take. Raises EngineTrouble where it takes longer; the book stays open then.
        """
        if self._closed:
            return
        self.replays.stop()
        if self._engine is not None and self._journal is not None:
            kits = list(self._engine.snapshot.kits)
            self._engine.stop()
            self._journal.close(within)
            for kit in kits:
                self.roster.close_session(kit)
        self._closed = True
        self.runs_in_step.stop()
        self.working_up.close()
        self.book.close()

    def tick(self) -> list[EngineEvent]:
        """What has happened since last asked: runs that have ended are given to be worked up, what has been worked up
        is kept, formats are remembered. To be asked a few times a second, at once where there `is_more`."""
        found = self._engine.events() if self._engine is not None else self._seen_elsewhere()
        found += [EngineEvent("failed", trouble=trouble) for trouble in self.recording.tick()]
        gone = self.rescue.look()
        if gone is not None:
            found.append(EngineEvent("moved", trouble=gone))
        if not self._caught_up and self._engine is not None:
            self._caught_up = True
            self.working_up.catch_up()
        for each in found:
            if each.what == "format":
                self._formats.add(each.kit)
            elif each.what == "relayed":
                self.roster.relay(each.kit, each.id)
            elif each.what == "taken-back":
                self.roster.take_back(each.kit)
            elif each.what == "run-kept":
                self._ended.append(each)
        if self._ended:
            some, self._ended = self._ended[:ENDED_AT_ONCE], self._ended[ENDED_AT_ONCE:]
            asked = [(each.run, each.recorded, each.resumed) for each in some]
            self.working_up.all_ended(asked, many=bool(self._ended))
        self._keep_formats()
        for run in self.working_up.collect():
            found.append(EngineEvent("run-worked", run=run))
            self.runs_in_step.look_at(run)
        if self.runs_in_step.collect():
            found.append(EngineEvent("in-step"))
        return found

    def _seen_elsewhere(self) -> list[EngineEvent]:
        """What another program has changed in a book that is only read."""
        if time.monotonic() - self._looked < LOOKED_EVERY:
            return []
        self._looked = time.monotonic()
        if not self.book.has_changed():
            return []
        self.store.refresh()
        return [EngineEvent("in-step")]

    @property
    def is_more(self) -> bool:
        """Whether the next tick has something to do already."""
        return bool(self._ended) or self.working_up.has_finished

    def _keep_formats(self) -> None:
        """Remembers how kits are read; where the book is held by another program just now, a little later."""
        for kit in tuple(self._formats):
            try:
                self.roster.keep_format(kit)
            except BookTrouble:
                return
            self._formats.discard(kit)


def _readings_so_far(lesson: OpenLesson, run: Run) -> int | None:
    """Of a run that goes on, or was cut off; None for others, whose findings say what came of them."""
    if run.state == "closed" and (run.ending is None or run.ending.code != "cut-off"):
        return None
    try:
        return len(replay(lesson.book, run, lesson.store.channels).t)
    except Trouble:
        return 0


def lesson_summary(lesson: OpenLesson) -> dict[str, Any]:
    """What `show` prints: the lesson with its groups, runs and findings."""
    store = lesson.store
    return {
        "book": str(lesson.book.path),
        "lesson": store.id,
        "plan": store.plan.name,
        "class": store.class_name,
        "held_on": store.row["held_on"],
        "pool": "open" if store.pool_open else "sealed",
        "damaged": store.damaged(),
        "groups": [
            {
                "alias": group.alias,
                "conditions": {name: str(value) for name, value in store.stated(group.id).items()},
                "runs": [
                    {
                        "number": run.number,
                        "state": run.state,
                        "began_at": run.began_at,
                        "ended_by": run.ended_by,
                        "bytes": max(0, (run.end or 0) - (run.begin or 0)),
                        "readings": _readings_so_far(lesson, run),
                        "set_aside": run.aside,
                        "trouble": run.trouble.trouble.sentence if run.trouble is not None else "",
                        "findings": {f.name: msgspec.to_builtins(f.measured) for f in store.findings(run.id)},
                    }
                    for run in store.runs(group.id)
                ],
            }
            for group in store.groups
        ],
    }
