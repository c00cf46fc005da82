"""Real parts for the tests: stand-in classes in their own process, bench books on disk, a lesson that hears."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.lesson import OpenLesson
from common_bench.standins.control import StandInProcess

settings.register_profile("bench", deadline=None, max_examples=60, suppress_health_check=list(HealthCheck))
settings.load_profile("bench")

SPEED = 6.0


def wait_for(met: Callable[[], object], what: str, *, within: float = 25.0) -> None:
    """Waits until something is so; fails in words where it does not come about."""
    deadline = time.monotonic() + within
    while not met():
        if time.monotonic() > deadline:
            pytest.fail(f"within {within} s this did not come about: {what}")
        time.sleep(0.02)


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

    def until(self, met: Callable[[], object], what: str, *, within: float = 25.0) -> None:
        def turn() -> object:
            self.lesson.happenings()
            return met()

        wait_for(turn, what, within=within)

    def world(self, seconds: float) -> None:
        """Lets world seconds go by."""
        end = self.lesson.engine.now() + seconds
        self.until(lambda: self.lesson.engine.now() > end, "time goes by")

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
