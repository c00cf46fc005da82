"""A lesson in which much goes wrong, as a state machine: what must hold of the book whatever was done in which order.

A rule that has nothing to do at the moment does nothing: what may be drawn must not hang on the clock of real kits.

`make test` plays the same few lessons each time; `make fuzz` looks for others, and shrinks what it finds.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    rule,
    run_state_machine_as_test,
)

from common_bench.book.book import Book
from common_bench.book.changes import Change
from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.exporting import export_all
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.store import LessonStore
from common_bench.lesson.words import STAGES, bench_words, path_words
from common_bench.links.discovery import plugged_in
from common_bench.model.plan import RulePlan
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.standins.control import StandInProcess
from waiting import SPEED, Class, heard_up_to

EXPLORES = os.environ.get("PROFILE") == "explore"
LESSONS, STEPS = (60, 40) if EXPLORES else (2, 26)
COUNT = 3
FAULTS = (
    "unplug", "plug", "replug", "silent", "talk", "restart", "noise", "no noise", "half lines", "whole lines", "bursts",
    "no bursts", "names again", "no text", "long line", "stuck", "good sensor", "overload", "no overload",
)  # fmt: skip
MENDED = ("plug", "talk", "no noise", "whole lines", "no bursts", "good sensor", "no overload")
HELD = ("nothing", "100 g", "200 g", "300 g", "bottle")
FORMULAS = (
    "pull = 2 * mean of tension", "pull = mean of tension", "pull = mean of", "pull = 1 / mean of tension",
    "one = gap between peaks in tension above 2 N, 0.4 s apart\ntwo = gap between peaks in tension above 2 N, 0.4 s apart\npull = one + two",
)  # fmt: skip

BENCHES = st.sets(st.integers(0, COUNT - 1), min_size=1)
ALIASES = ("Basalt", "Chalk", "Flint")


class LessonMachine(RuleBasedStateMachine):
    """Teacher, students, cables and crashes. Remembered beside the book: every run that was begun, the findings
    that each was kept with, and the changes that can be taken back."""

    def __init__(self, kits: StandInProcess, folder: Path) -> None:
        super().__init__()
        self.kits, self.folder = kits, folder
        self.begun: set[tuple[int, int]] = set()  # group, number
        self.findings: dict[int, list[Any]] = {}
        self.done: list[Change] = []
        self.undone: list[Change] = []
        self.copies = 0

    # people

    @initialize()
    def a_lesson_begins(self) -> None:
        for fault in MENDED:
            self.kits.order(kits="all", fault=fault)
        self.kits.order(kits="all", hang="nothing")
        number = len(list(self.folder.iterdir()))
        self.path = self.folder / f"lesson-{number}" / "lesson.benchbook"
        self.path.parent.mkdir()
        self.hold(prepared_lesson(self.path, speed=SPEED, count=COUNT))
        self.made.heard()

    def hold(self, lesson: OpenLesson) -> None:
        self.lesson, self.made = lesson, Class(lesson, self.kits)
        plug_in(lesson, self.kits.folder)
        self.groups = list(self.made.group.values())

    def some(self, benches: set[int]) -> list[int]:
        return [self.groups[at] for at in sorted(benches)]

    def attempt(self, act: Callable[[], Any]) -> Any:
        """What cannot be done is refused in a sentence, and nothing else is raised."""
        refused = ""
        try:
            return act()
        except Trouble as trouble:
            refused = trouble.sentence
        assert refused.endswith((".", "?", "”", "!")), refused
        return None

    def change(self, act: Callable[[], Change]) -> None:
        made = self.attempt(act)
        if made is not None:
            self.done.append(made)
            self.undone.clear()
            self.is_as(made, after=True)

    def is_as(self, change: Change, *, after: bool) -> None:
        """The book holds each row of a change as it was after it, or before it."""
        for each in change.rows:
            wanted = each.after if after else each.before
            found = self.lesson.book.rows(each.table, id=each.id)
            if wanted is None:
                assert found == []
            else:
                assert {name: found[0][name] for name in wanted} == wanted

    @rule(benches=BENCHES)
    def begin(self, benches: set[int]) -> None:
        ready = {group for group in self.some(benches) if not self.lesson.roster.why_not_ready(group)}
        begun = self.attempt(lambda: self.lesson.recording.begin_runs(self.some(benches))) or []
        assert set(begun) <= set(self.some(benches))
        assert ready or not begun
        for group in self.some(benches):
            self.begun |= {(group, run.number) for run in self.lesson.store.runs(group)}

    @rule(benches=BENCHES)
    def end(self, benches: set[int]) -> None:
        self.attempt(lambda: self.lesson.recording.end_runs(self.some(benches)))

    @rule(benches=BENCHES)
    def end_and_take_it_back(self, benches: set[int]) -> None:
        ended = self.attempt(lambda: self.lesson.recording.end_runs(self.some(benches))) or []
        for run in ended:
            self.attempt(lambda run=run: self.lesson.recording.resume_runs([run]))
            self.findings.pop(run, None)

    @rule(benches=BENCHES, at=st.integers(0, 3), reason=st.sampled_from(["", "the bell rings"]))
    def take_a_point(self, benches: set[int], at: int, reason: str) -> None:
        sensor = self.lesson.store.sensor()
        assert sensor is not None
        point = sensor.points[at % len(sensor.points)]
        self.attempt(lambda: self.lesson.calibrating.take_points(self.some(benches), "load", point, reason=reason))

    @rule(benches=BENCHES)
    def keep_a_calibration(self, benches: set[int]) -> None:
        self.attempt(lambda: self.lesson.calibrating.keep_calibrations(self.some(benches), "load"))

    @rule(at=st.integers(0, COUNT - 1), length=st.integers(3, 9))
    def set_a_length(self, at: int, length: int) -> None:
        self.change(lambda: self.lesson.planning.set_condition(self.groups[at], "length", f"0.{length} m"))

    @rule(seconds=st.sampled_from([0.0, 0.5, 3.0]))
    def change_the_rule(self, seconds: float) -> None:
        plan = msgspec.structs.replace(self.lesson.store.plan, rule=RulePlan(seconds))
        self.change(lambda: self.lesson.planning.change_plan(plan, "Another rule"))

    @rule(formula=st.sampled_from(FORMULAS))
    def edit_the_workings(self, formula: str) -> None:
        self.change(
            lambda: self.lesson.planning.edit_workings([*self.lesson.store.plan.workings[:4], *formula.splitlines()])
        )

    @rule(at=st.integers(0, 20), what=st.sampled_from(["aside", "back", "mark", "pool", "span"]))
    def do_with_a_run(self, at: int, what: str) -> None:
        runs = self.lesson.store.kept_runs()
        if not runs:
            return
        run = runs[at % len(runs)].id
        acts: dict[str, Callable[[], Change]] = {
            "aside": lambda: self.lesson.working_up.set_aside_run(run, "bumped"),
            "back": lambda: self.lesson.working_up.take_back_run(run),
            "mark": lambda: self.lesson.recording.mark(run, 0.1, "a remark"),
            "pool": lambda: self.lesson.pooling.send_to_pool([run]),
            "span": lambda: self.lesson.working_up.choose_span(run, (0.2, 0.4)),
        }
        self.change(acts[what])
        if what == "span":
            self.findings[run] = self.lesson.store.findings(run)

    @rule()
    def undo(self) -> None:
        if not self.done:
            return
        self.undone.append(self.done.pop())
        self.lesson.changes.undo(self.undone[-1])
        self.is_as(self.undone[-1], after=False)
        self.look_again(self.undone[-1])

    @rule()
    def redo(self) -> None:
        if not self.undone:
            return
        self.done.append(self.undone.pop())
        self.lesson.changes.redo(self.done[-1])
        self.is_as(self.done[-1], after=True)
        self.look_again(self.done[-1])

    def look_again(self, change: Change) -> None:
        if any(row.table == "finding" for row in change.rows):
            self.findings = {run: self.lesson.store.findings(run) for run in self.findings}

    # kits and cables

    @rule(benches=BENCHES, fault=st.sampled_from(FAULTS))
    def a_kit_fails(self, benches: set[int], fault: str) -> None:
        self.kits.order(kits=[ALIASES[at] for at in sorted(benches)], fault=fault)

    @rule(benches=BENCHES, held=st.sampled_from(HELD))
    def hang(self, benches: set[int], held: str) -> None:
        self.kits.order(kits=[ALIASES[at] for at in sorted(benches)], hang=held)

    @rule(seconds=st.floats(0.0, 2.0))
    def time_goes_by(self, seconds: float) -> None:
        later = self.lesson.engine.now() + seconds
        self.made.until(lambda: self.lesson.engine.now() > later, "time goes by")

    # the program

    @rule()
    def the_program_is_killed(self) -> None:
        """What is on the disk at this moment, opened by another: that is what a kill would leave."""
        if self.copies > 2:
            return
        self.copies += 1
        place = self.path.parent / f"killed-{self.copies}.benchbook"
        kept = {run.id: self.lesson.store.findings(run.id) for run in self.lesson.store.kept_runs()}
        begun = len(self.lesson.store.rows("run"))
        for end in ("", "-wal"):
            if (source := Path(f"{self.path}{end}")).exists():
                shutil.copy(source, f"{place}{end}")
        left = Book.open(place)
        assert left.check() == []
        assert len(left.rows("run")) >= begun
        assert not left.rows("run", state="open")
        assert not left.rows("run", state="asked")
        found = LessonStore(left)
        assert {run: found.findings(run) for run in kept} == kept
        left.close()

    @rule()
    def the_book_is_closed_and_opened_again(self) -> None:
        self.lesson.close()
        self.hold(OpenLesson.open(self.path, speed=SPEED))
        assert self.lesson.notices == [], "it was closed as it should be"
        self.done.clear()
        self.undone.clear()

    # what always holds

    @invariant()
    def all_is_told_and_nothing_is_lost(self) -> None:
        lesson = getattr(self, "lesson", None)
        if lesson is None:
            return
        lesson.roster.appear([port for port in plugged_in(self.kits.folder) if port.stand_in and not port.trouble])
        lesson.tick()
        store = lesson.store
        for run in store.kept_runs():
            assert self.findings.setdefault(run.id, store.findings(run.id)) == store.findings(run.id)
        for group in self.groups:
            numbers = [run.number for run in store.runs(group)]
            assert numbers == list(range(1, len(numbers) + 1)), "numbered one after the other"
            assert all((group, each) in self.begun or each == numbers[-1] for each in numbers)
            assert {number for own, number in self.begun if own == group} <= set(numbers), "none is lost"
            state = lesson.roster.state(group)
            if state is not None and state.run is not None:
                assert lesson.book.row("run", state.run.id)["state"] in ("asked", "open", "closed")
            for stage, _ in STAGES:
                assert bench_words(lesson, group, stage).line
        assert all(path_words(lesson).values())

    def teardown(self) -> None:
        if not hasattr(self, "lesson"):
            return
        try:
            self.all_comes_back()
        finally:
            self.lesson.close()
        self.book_is_sound()
        self.every_number_can_be_had_again()

    def all_comes_back(self) -> None:
        lesson = self.lesson
        for fault in MENDED:
            self.kits.order(kits="all", fault=fault)
        end = lesson.engine.now() + 2

        def back() -> bool:
            self.all_is_told_and_nothing_is_lost()
            lesson.recording.end_runs(self.groups)
            return heard_up_to(lesson, end) and not any(map(lesson.roster.recording, self.groups))

        self.made.until(back, "all come back")
        self.made.heard()
        self.made.record(1.0)
        self.made.until(lambda: not lesson.working_up.is_busy, "all is worked up")
        self.findings = {run.id: lesson.store.findings(run.id) for run in lesson.store.kept_runs()}
        assert len(self.findings) >= COUNT
        export_all(lesson, self.path.parent / "out")

    def book_is_sound(self) -> None:
        book = Book.open(self.path, readonly=True)
        assert book.check() == []
        assert {row["state"] for row in book.rows("change")} <= {"done", "undone"}
        spans = [(run.begin, run.end) for run in LessonStore(book).runs() if run.begin is not None]
        assert all(low is not None and high is not None and low <= high for low, high in spans)
        book.close()

    def every_number_can_be_had_again(self) -> None:
        again = OpenLesson.open(self.path, readonly=True)
        assert again.notices == [], "it was closed as it should be"
        for run in again.store.kept_runs():
            assert again.store.findings(run.id) == self.findings[run.id]
            try:
                replayed = again.working_up.replayed(run.id)
            except FindingTrouble:
                continue  # a run in which nothing was heard
            assert (np.diff(replayed.t) >= 0).all()
            lines = b"".join(row["bytes"] for row in again.book.rows("journal", session=run.session, what="bytes"))
            for offset, value in list(zip(replayed.offset.tolist(), replayed.raw["load"].tolist(), strict=True))[::7]:
                line = lines[offset : lines.index(b"\n", offset)]
                assert float(line.split(b";")[1]) == value, "each number is in the line that it came from"
        again.close()


def test_whatever_goes_wrong_in_a_lesson_the_book_is_sound_and_every_number_can_be_had_again(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    kits = stand_ins(count=COUNT, world_speed=SPEED)
    (tmp_path / "lessons").mkdir()
    run_state_machine_as_test(
        lambda: LessonMachine(kits, tmp_path / "lessons"),
        settings=settings(max_examples=LESSONS, stateful_step_count=STEPS, report_multiple_bugs=False),
    )
    assert len(list((tmp_path / "lessons").glob("*/out"))) >= LESSONS, "each lesson came to its end and went out"
