"""Every shipped plan in the real window, through every stage: with nothing done, in the midst of runs, and with an open pool: nothing
fails, and no text is painted where it cannot be read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtTest import QTest

from common_bench.desk.shell.application import demo_window
from common_bench.desk.shell.window import Bench
from common_bench.model.plan_file import shipped_names
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import world_of
from person import Desk, open_desk
from walk import Walk


def from_cards(folder: Path, name: str) -> Desk:
    """The window on a class whose kits have logged on their own."""
    window = demo_window(folder, folder / "ports", 1.0, name)
    assert isinstance(window, Bench)
    window.show()
    window.activateWindow()
    assert QTest.qWaitForWindowActive(window)
    return Desk(window, None)  # type: ignore[arg-type]


@pytest.mark.parametrize("name", sorted(shipped_names()))
def test_every_shipped_plan_goes_through_every_stage_with_nothing_done_half_done_and_done(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path, faults: list[BaseException], name: str
) -> None:
    logs = world_of(name).logs
    made = from_cards(tmp_path, name) if logs else open_desk(tmp_path, stand_ins(class_name=name, world_speed=8.0), class_name=name)  # fmt: skip
    walk, lesson = Walk(made), made.lesson
    groups = [group.id for group in lesson.store.groups]
    walk.look("nothing done")
    if logs:
        record = made.window.stages["record"]
        made.hub.go("record")
        record.bring_in(sorted((tmp_path / "memory cards").iterdir()))
        walk.look("bringing in")
        made.hub.go("record")
        walk.own_names()  # which the files are called by
        record = made.window.stages["record"]  # the theme has made all anew
        record.bring_in(sorted((tmp_path / "memory cards").iterdir()))
        for _ in groups:
            record.bringing.main.click()
    else:
        lesson.recording.begin_runs(groups[:3])
        made.world(6)
        walk.look("recording")
        lesson.recording.end_runs(groups)
    made.until(
        lambda: not lesson.working_up.is_busy and not any(lesson.roster.busy(group) for group in groups),
        "nothing is under way",
    )
    lesson.pooling.open_pool(opened=True)
    if lesson.pooling.to_send():
        lesson.pooling.send_to_pool(lesson.pooling.to_send())
    walk.look("pool open")
    made.window.close()
    assert faults == []
    assert walk.found == [], "\n".join(walk.found)
