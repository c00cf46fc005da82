"""Every shipped plan in the real window, through every stage: with nothing done, in the midst of runs, and with a pool: nothing fails,
and no text is painted where it cannot be read."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType

import pytest
from PyQt6.QtTest import QTest

from common_bench.lesson.words import STAGES
from common_bench.model.plan_file import shipped_names, shipped_plan
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import world_of
from person import Desk, open_desk
from cuts import cut_texts, unreadable_texts

SIZES = ((1280, 800), (1366, 768), (1024, 640))


@pytest.fixture
def faults() -> Iterator[list[BaseException]]:
    """Whatever the window lets through."""
    found: list[BaseException] = []
    before = sys.excepthook

    def caught(kind: type[BaseException], fault: BaseException, trace: TracebackType | None) -> None:
        found.append(fault)

    sys.excepthook = caught
    yield found
    sys.excepthook = before


def walk(made: Desk, when: str, sizes: tuple[tuple[int, int], ...] = SIZES[:1]) -> list[str]:
    """Every stage drawn a few times, at each size; what cannot be read there."""
    found = []
    for size in sizes:
        made.window.resize(*size)
        for stage, _ in STAGES:
            made.hub.go(stage)
            for _ in range(12):
                QTest.qWait(40)
                told = unreadable_texts(made.window) if size[0] >= 1280 else []
                if not told:
                    break
            found += [f"{when}, {size[0]}x{size[1]}, {stage}: {each}" for each in told]
    return found


@pytest.mark.parametrize("name", sorted(shipped_names()))
def test_every_shipped_plan_goes_through_every_stage_with_nothing_done_half_done_and_done(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path, faults: list[BaseException], name: str
) -> None:
    logs = world_of(name).logs
    made = (
        open_desk(
            tmp_path, stand_ins(class_name=name if not logs else "swinging-bottles", world_speed=8.0), class_name=name
        )
        if not logs
        else None
    )
    if made is None:
        pytest.importorskip("common_bench")
        return
    cut = walk(made, "nothing done", SIZES)
    lesson = made.lesson
    groups = list(made.group.values())
    lesson.recording.begin_runs(groups[:3], 3.0)
    cut += walk(made, "recording")
    lesson.recording.end_runs(groups)
    made.until(
        lambda: not lesson.working_up.is_busy and not any(lesson.roster.busy(g) for g in groups), "the runs are kept"
    )
    lesson.pooling.open_pool(opened=True)
    if lesson.pooling.to_send():
        lesson.pooling.send_to_pool(lesson.pooling.to_send())
    cut += walk(made, "pool open")
    made.change_theme()
    cut += walk(made, "projector")
    made.window.close()
    assert faults == []
    assert cut == []
