"""Waiting for what must come about, and a lesson with its stand-in kits that does."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import msgspec
import pytest

from common_bench.lesson.lesson import OpenLesson
from common_bench.model.calibration import PlannedPoint
from common_bench.model.plan import RulePlan
from common_bench.standins.control import StandInProcess

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


class KitNow:
    """A kit as it stands whenever it is looked at: each attribute is asked of the newest snapshot."""

    def __init__(self, lesson: OpenLesson, kit: int) -> None:
        self._lesson, self._kit = lesson, kit

    @classmethod
    def of_group(cls, lesson: OpenLesson, group: int) -> KitNow:
        kit = lesson.store.kit_of(group)
        assert kit is not None
        return cls(lesson, kit)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._lesson.roster.kits[self._kit], name)


def heard_up_to(lesson: OpenLesson, end: float) -> bool:
    """Whether world time `end` has come, and every bench that is heard has been heard up to it.

    On a busy machine the kits may lag behind the time: what is then on the cell is not yet what is heard.
    """
    engine = lesson.engine
    kits = [kit for kit in lesson.roster.kits.values() if kit.can_record]
    return engine.now() >= end and all(kit.live.last_t > end - BEHIND for kit in kits)


def is_steady(lesson: OpenLesson, group: int, seconds: float = 0.0) -> bool | None:
    """Whether a bench's load has been steady for so many s; None while nothing is heard of it."""
    found = lesson.sensors.steady(group, "load")
    return found.steady and found.seconds > seconds if found is not None else None


class Class:
    """A lesson with its stand-in kits, heard and given to their benches."""

    def __init__(self, lesson: OpenLesson, kits: StandInProcess) -> None:
        self.lesson, self.kits = lesson, kits
        self.group = {group.alias: group.id for group in lesson.store.groups}

    def until(self, met: Callable[[], object], what: str) -> None:
        def turn() -> object:
            self.lesson.tick()
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
        plan = msgspec.structs.replace(self.lesson.store.plan, rule=RulePlan())
        self.lesson.planning.change_plan(plan, "End runs by hand")

    def _has_taken(self, groups: list[int], point: PlannedPoint) -> bool:
        left = [g for g in groups if not self.lesson.calibrating.has_point(g, "load", point.label)]
        if left:
            self.lesson.calibrating.take_points(left, "load", point)
        return not left

    def calibrate(self) -> None:
        """Three points and a straight line on every bench."""
        groups, sensor = list(self.group.values()), self.lesson.store.sensor()
        assert sensor is not None
        for point in sensor.points[:3]:
            self.hang(point.label)
            self.until(lambda p=point: self._has_taken(groups, p), f"{point.label} is taken")
        self.lesson.calibrating.keep_calibrations(groups, "load")

    def heard(self) -> None:
        self.until(
            lambda: all(not self.lesson.roster.why_not_ready(g) for g in self.group.values()), "every kit is heard"
        )

    def record(self, seconds: float = 0.0) -> None:
        """One run on every bench: by hand for some world seconds, or as the plan's rule has it."""
        begun = self.lesson.recording.begin_runs(list(self.group.values()))
        runs = {self.lesson.store.runs(group)[-1].id for group in begun}
        if seconds:
            self.world(seconds)
            self.lesson.recording.end_runs(begun)
        self.until(lambda: runs <= {run.id for run in self.lesson.store.kept_runs()}, "the runs are kept")
