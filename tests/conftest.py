"""Real parts for the tests: stand-in classes in their own process, bench books on disk, a lesson that hears."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import pytest
from hypothesis import HealthCheck, settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from common_bench.lesson import actions
from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import RulePlan
from common_bench.standins.control import StandInProcess

# The same examples each time, so that a test tells of a change; `make fuzz` looks for others, and for more.
ALL = list(HealthCheck)
settings.register_profile("bench", deadline=None, max_examples=60, suppress_health_check=ALL, derandomize=True)
settings.register_profile("explore", deadline=None, max_examples=1500, suppress_health_check=ALL)
settings.load_profile(os.environ.get("PROFILE", "bench"))

SPEED = 6.0
PATIENCE = 90.0  # s: how long something may take on a machine that has much else to do
BEHIND = 0.5  # world s that what was heard last may be older than now


def wait_for(met: Callable[[], object], what: str, *, within: float = PATIENCE) -> None:
    """Waits until something is so; fails in words where it does not come about."""
    deadline = time.monotonic() + within
    while not met():
        if time.monotonic() > deadline:
            pytest.fail(f"within {within} s this did not come about: {what}")
        time.sleep(0.02)


def heard_up_to(lesson: OpenLesson, end: float) -> bool:
    """Whether world time `end` has come, and every bench that is heard has been heard up to it.

    On a busy machine the kits may lag behind the time: what is then on the cell is not yet what is heard.
    """
    engine = lesson.engine
    ears = [ear for ear in list(engine.ears.values()) if ear.ready]
    return engine.now() >= end and all(ear.live.last_t > end - BEHIND for ear in ears)


def is_steady(lesson: OpenLesson, group: int, seconds: float = 0.0) -> bool | None:
    """Whether a bench's load has been steady for so many s; None while nothing is heard of it."""
    found = lesson.steady(group, "load")
    return found.steady and found.seconds > seconds if found is not None else None


@pytest.fixture
def stand_ins(tmp_path: Path) -> Iterator[Callable[..., StandInProcess]]:
    """Starts stand-in classes; all are stopped after the test."""
    started: list[StandInProcess] = []

    def start(*more: str, **options: object) -> StandInProcess:
        folder = tmp_path / f"ports-{len(started)}"
        started.append(StandInProcess(folder, *more, **options))  # type: ignore[arg-type]
        return started[-1]

    yield start
    for each in started:
        each.stop()


class Class:
    """A lesson with its stand-in kits, heard and given to their benches."""

    def __init__(self, lesson: OpenLesson, kits: StandInProcess) -> None:
        self.lesson, self.kits = lesson, kits
        self.group = {group.alias: group.id for group in lesson.groups}

    def until(self, met: Callable[[], object], what: str) -> None:
        def turn() -> object:
            self.lesson.happenings()
            return met()

        wait_for(turn, what)

    def world(self, seconds: float) -> None:
        """Lets world seconds go by on every bench."""
        end = self.lesson.engine.now() + seconds
        self.until(lambda: heard_up_to(self.lesson, end), "time goes by")

    def hang(self, what: str, *aliases: str, settle: float = 2.0) -> None:
        """Hangs something on the cells of these benches, or of all, and waits until it is heard."""
        self.kits.order(kits=list(aliases) or "all", hang=what)
        self.world(settle)

    def by_hand(self) -> None:
        """Runs end when somebody ends them, however long that takes here."""
        plan = msgspec.structs.replace(self.lesson.plan, rule=RulePlan())
        actions.change_plan(self.lesson, plan, "End runs by hand")

    def heard(self) -> None:
        self.until(lambda: all(not self.lesson.ready(g) for g in self.group.values()), "every kit is heard")

    def record(self, seconds: float = 0.0) -> None:
        """One run on every bench: by hand for some world seconds, or as the plan's rule has it."""
        before = len(self.lesson.kept_runs())
        begun = self.lesson.begin_runs(list(self.group.values()))
        if seconds:
            self.world(seconds)
            self.lesson.end_runs(begun)
        self.until(lambda: len(self.lesson.kept_runs()) == before + len(begun), "the runs are kept")


@pytest.fixture
def school(tmp_path: Path, stand_ins: Callable[..., StandInProcess]) -> Iterator[Callable[..., Class]]:
    """Makes a class of `count` stand-in kits that are heard; the book is `tmp_path/lesson.benchbook`."""
    opened: list[OpenLesson] = []

    def make(count: int = 2, speed: float = SPEED, *, wait: bool = True, **options: object) -> Class:
        kits = stand_ins(count=count, world_speed=speed, **options)
        sample = str(options.get("class_name", "swinging-bottles"))
        lesson = prepared_lesson(tmp_path / "lesson.benchbook", speed=speed, count=count, class_name=sample)
        opened.append(lesson)
        plug_in(lesson, kits.folder)
        made = Class(lesson, kits)
        if wait:
            made.heard()
        return made

    yield make
    for lesson in opened:
        lesson.close()
