"""A lesson in which much goes wrong, in an order that a seed gives: what must hold of the book whatever happened."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest

from common_bench.book.book import Book
from common_bench.book.changes import Change
from common_bench.lesson import actions, calibrating
from common_bench.lesson.exporting import export_all
from common_bench.lesson.in_book import InBook
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.words import STAGES, bench_words, path_words
from common_bench.links.discovery import plugged_in
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.trouble import FindingTrouble, Trouble
from conftest import Class, heard_up_to

School = Callable[..., Class]

FAULTS = (
    "unplug", "plug", "replug", "silent", "talk", "restart", "noise", "no noise", "half lines", "whole lines", "bursts",
    "no bursts", "names again", "no text", "long line", "stuck", "good sensor", "overload", "no overload",
)  # fmt: skip
MENDED = ("plug", "talk", "no noise", "whole lines", "no bursts", "good sensor", "no overload")
HELD = ("nothing", "100 g", "200 g", "300 g", "bottle")


class Hands:
    """Does at random what people and kits do in a lesson; remembers the changes that can be taken back."""

    def __init__(self, made: Class, seed: int) -> None:
        self.made, self.lesson, self.dice = made, made.lesson, random.Random(seed)
        self.done: list[Change] = []
        self.undone: list[Change] = []

    def move(self) -> None:
        acts = [self.fault, self.hang, self.begin, self.end, self.take, self.keep, self.change, self.undo, self.redo]
        what = self.dice.choices(acts, weights=[2, 1, 2, 1, 1, 1, 2, 1, 1])[0]
        refused = ""
        try:
            what()
        except Trouble as trouble:
            refused = trouble.sentence
        assert not refused or refused.endswith((".", "?", "”")), "what cannot be done is refused in a sentence"
        self.look()
        for group in self.made.group.values():
            for stage, _ in STAGES:
                assert bench_words(self.lesson, group, stage).line
        assert all(path_words(self.lesson).values())

    def look(self) -> None:
        """What the window does every second: a kit may be back under another path."""
        self.lesson.appear([port for port in plugged_in(self.made.kits.folder) if port.stand_in and not port.trouble])

    def some(self) -> list[int]:
        groups = list(self.made.group.values())
        return self.dice.sample(groups, self.dice.randint(1, len(groups)))

    def kits(self) -> list[str]:
        return [alias for alias, group in self.made.group.items() if group in self.some()] or ["Basalt"]

    def fault(self) -> None:
        self.made.kits.order(kits=self.kits(), fault=self.dice.choice(FAULTS))

    def hang(self) -> None:
        self.made.kits.order(kits=self.kits(), hang=self.dice.choice(HELD))

    def begin(self) -> None:
        self.lesson.begin_runs(self.some())

    def end(self) -> None:
        self.lesson.end_runs(self.some())

    def take(self) -> None:
        sensor = self.lesson.sensor()
        assert sensor is not None
        point = self.dice.choice(sensor.points)
        calibrating.take_points(
            self.lesson, self.some(), "load", point, reason=self.dice.choice(["", "the bell rings"])
        )

    def keep(self) -> None:
        calibrating.keep_calibrations(self.lesson, self.some(), "load")

    def change(self) -> None:
        lesson, dice, group = self.lesson, self.dice, self.some()[0]
        kept = lesson.kept_runs(group)
        rule = RulePlan(dice.choice([0.0, 0.5, 3.0]))
        acts: list[Callable[[], Change]] = [
            lambda: actions.set_condition(lesson, group, "length", f"0.{dice.randint(4, 9)} m"),
            lambda: actions.change_plan(lesson, plan_with(lesson, rule), "Another rule"),
            lambda: actions.edit_workings(lesson, [*lesson.plan.workings[:4], f"pull = {dice.randint(1, 9)} * mean of tension"]),
        ]  # fmt: skip
        if kept:
            run = dice.choice(kept).id
            acts += [
                lambda: actions.set_aside_run(lesson, run, "bumped"),
                lambda: actions.mark(lesson, run, 0.1, "a remark"),
                lambda: actions.send_to_pool(lesson, [run]),
            ]
        self.done.append(dice.choice(acts)())
        self.undone.clear()

    def undo(self) -> None:
        if self.done:
            self.undone.append(self.done.pop())
            self.lesson.undo(self.undone[-1])

    def redo(self) -> None:
        if self.undone:
            self.done.append(self.undone.pop())
            self.lesson.redo(self.done[-1])


def plan_with(lesson: OpenLesson, rule: RulePlan) -> Plan:
    return msgspec.structs.replace(lesson.plan, rule=rule)


@pytest.mark.parametrize("seed", [1, 3])
def test_whatever_goes_wrong_in_a_lesson_the_book_is_sound_and_every_number_can_be_had_again(
    school: School, tmp_path: Path, seed: int
) -> None:
    made = school(count=3)
    lesson, hands = made.lesson, Hands(made, seed)
    for _ in range(60):
        hands.move()
        later = lesson.engine.now() + hands.dice.uniform(0.0, 1.0)
        made.until(lambda later=later: lesson.engine.now() > later, "time goes by")
    for fault in MENDED:
        made.kits.order(kits="all", fault=fault)
    lesson.end_runs(list(made.group.values()))
    hands.look()
    end = lesson.engine.now() + 2
    made.until(
        lambda: heard_up_to(lesson, end) and not any(map(lesson.recording, made.group.values())), "all come back"
    )
    made.heard()
    made.record(2.0)
    lesson.happenings()
    findings = {run.id: lesson.findings(run.id) for run in lesson.kept_runs()}
    export_all(lesson, tmp_path / "out")
    lesson.close()

    book = Book.open(lesson.book.path, readonly=True)
    assert book.check() == []
    assert {row["state"] for row in book.rows("change")} <= {"done", "undone"}
    kept = InBook(book)
    for group in kept.groups:
        numbers = [run.number for run in kept.runs(group.id)]
        assert numbers == list(range(1, len(numbers) + 1)), "numbered one after the other, none is lost"
        spans = [(run.begin, run.end) for run in kept.runs(group.id) if run.begin is not None]
        assert all(low is not None and high is not None and low <= high for low, high in spans)
    book.close()

    again = OpenLesson.open(lesson.book.path, readonly=True)
    assert again.told == [], "it was closed as it should be"
    assert len(again.kept_runs()) >= 3
    for run in again.kept_runs():
        assert again.findings(run.id) == findings[run.id]
        try:
            replayed = again.replayed(run.id)
        except FindingTrouble:
            continue  # a run in which nothing was heard
        assert (np.diff(replayed.t) >= 0).all()
        lines = b"".join(row["bytes"] for row in again.book.rows("journal", hearing=run.hearing, what="bytes"))
        for offset, value in list(zip(replayed.offset.tolist(), replayed.raw["load"].tolist(), strict=True))[::7]:
            line = lines[offset : lines.index(b"\n", offset)]
            assert float(line.split(b";")[1]) == value, "each number is in the line that it came from"
    again.close()
