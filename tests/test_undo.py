"""Undo and redo: the history keeps its order whatever a step does, runs come back as they were, and a crash is reported."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from common_bench.lesson.removing import remove_as_typed, run_to_remove
from common_bench.lesson.undo import UndoHistory
from common_bench.model.trouble import Trouble
from common_bench.standins.control import StandInProcess
from person import Desk, open_desk


class Adding:
    """A step that adds its number to a list; it may be refused, or do another step while it runs."""

    def __init__(self, number: int, done: list[int], history: UndoHistory) -> None:
        self.label, self._number, self._done, self._history = f"add {number}", number, done, history
        self.refuses = self.does_another = False

    def undo(self) -> str:
        if self.refuses:
            raise Trouble("run-cannot-go-on")
        assert self._done.pop() == self._number
        return self._another()

    def redo(self) -> str:
        if self.refuses:
            raise Trouble("run-cannot-go-on")
        self._done.append(self._number)
        return self._another()

    def _another(self) -> str:
        if self.does_another:
            self.does_another = False
            other = Adding(self._number + 1000, self._done, self._history)
            self._done.append(self._number + 1000)
            self._history.push(other)
        return ""

    def describe(self, *, undone: bool) -> str:
        return f"{'undone' if undone else 'redone'}: {self.label}"


@given(st.lists(st.sampled_from(["do", "undo", "redo", "refuse", "accept", "another"]), max_size=60))
def test_the_history_is_a_list_with_a_place_whatever_steps_do(acts: list[str]) -> None:
    history, done = UndoHistory(), list[int]()
    made: list[Adding] = []
    steps, at = list[Adding](), 0  # the plain model
    for number, act in enumerate(acts):
        if act == "do":
            step = Adding(number, done, history)
            done.append(number)
            history.push(step)
            made.append(step)
            steps[at:] = [step]
            at += 1
        elif act in ("undo", "redo"):
            step = steps[at - 1] if act == "undo" and at else steps[at] if act == "redo" and at < len(steps) else None
            before = list(done)
            pushes = step is not None and step.does_another and not step.refuses
            try:
                words = history.undo() if act == "undo" else history.redo()
            except Trouble:
                assert step is None or step.refuses
                assert done == before, "what is refused changes nothing"
            else:
                assert step is not None
                assert words == step.describe(undone=act == "undo")
                at += -1 if act == "undo" else 1
                if pushes:  # what was done meanwhile is the last step now
                    del steps[at:]
                    steps.append(Adding(done[-1], done, history))
                    at += 1
        elif made:
            made[-1].refuses = act == "refuse"
            made[-1].does_another |= act == "another"
        assert history.undo_label() == (steps[at - 1].label if at else "")
        assert history.redo_label() == (steps[at].label if at < len(steps) else "")
        assert history.count() == len(steps)


def test_runs_undone_and_redone_come_back_as_they_were(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    made = open_desk(tmp_path, stand_ins(world_speed=8.0))
    store = made.lesson.store
    made.run_lasts(3.0)
    made.record()
    runs = {run.id: run.number for run in store.kept_runs()}
    assert len(runs) == 6
    made.undo()
    made.see("Taken back: Begin 6 runs. The runs are kept, set aside.")
    assert store.kept_runs() == []
    made.redo()
    made.see("Done again: Begin 6 runs.")
    assert {run.id: run.number for run in store.kept_runs()} == runs, (
        "the same runs count again, and no others are there"
    )
    assert len(store.runs()) == 6
    made.change_theme()  # every view is made anew; steps do not need them
    for _ in range(2):
        made.undo()
        made.redo()
    assert {run.id for run in store.kept_runs()} == set(runs)
    # a run that is recorded: undone, redone, it goes on as if nothing had been
    made.run_lasts(0.0)
    made.press("4", "R")
    made.until(lambda: all(made.lesson.roster.recording(g) for g in made.group.values()), "all record")
    under_way = {made.lesson.roster.run(g).id for g in made.group.values()}
    made.undo()
    assert not any(made.lesson.roster.busy(g) for g in made.group.values())
    made.redo()
    made.until(lambda: all(made.lesson.roster.recording(g) for g in made.group.values()), "they go on")
    assert {made.lesson.roster.run(g).id for g in made.group.values()} == under_way
    made.press("R")
    made.until(lambda: len(store.kept_runs()) == 12, "all are kept")
    for _ in range(3):
        made.undo()
    for _ in range(5):
        made.redo()
    made.see("There is nothing to do again.")
    # removed for good: nothing is left to undo, and that is said
    for run in [run.id for run in store.runs()]:
        remove_as_typed(made.lesson, run, run_to_remove(made.lesson, run)[0])
    made.undo()
    made.see("removed for good")
    made.window.close()


def test_a_run_that_waits_is_cancelled_by_undo_and_waits_anew_by_redo(
    stand_ins: Callable[..., StandInProcess], tmp_path: Path
) -> None:
    made: Desk = open_desk(tmp_path, stand_ins(world_speed=8.0))
    made.press("1")
    made.window.stage.run.begins.setText("when tension rises through 900 N")
    made.window.stage.run.begins.editingFinished.emit()
    made.press("4", "R")
    made.until(lambda: all(made.lesson.roster.busy(g) for g in made.group.values()), "all wait")
    made.undo()
    assert not any(made.lesson.roster.busy(g) for g in made.group.values())
    made.redo()
    made.until(lambda: all(made.lesson.roster.busy(g) for g in made.group.values()), "all wait again")
    made.undo()
    made.redo()
    made.window.close()


CRASHES = """
import ctypes
from common_bench.record.crash_report import watch_c_stack, watch_for_crashes
watch_for_crashes("window")
watch_c_stack()
def here_it_fails():
    ctypes.string_at(0)
here_it_fails()
"""
STARTS = """
import sys
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from common_bench.desk.shell.application import _open_after_first_paint, shown_by
from common_bench.desk.shell.house import House

def make(faults):
    house = House(faults, ports=Path(sys.argv[1]))
    window = house.show_shelf()
    def look():
        panel = window.fault_panel
        print(panel.isVisible(), panel.heading.text(), "here_it_fails" in panel.details.toPlainText(), flush=True)
        window.close()
    QTimer.singleShot(300, look)
    return window

_open_after_first_paint("Opening", make)
"""


def test_a_crash_in_native_code_writes_both_stacks_and_the_next_start_says_so(tmp_path: Path) -> None:
    place = {**os.environ, "XDG_STATE_HOME": str(tmp_path), "QT_QPA_PLATFORM": "offscreen"}

    def run(code: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-c", code, str(tmp_path / "ports")], env=place, capture_output=True, text=True, timeout=90
        )

    assert run(CRASHES).returncode < 0
    (report,) = (tmp_path / "common-bench" / "crashes").iterdir()
    words = report.read_text()
    assert "here_it_fails" in words, "the Python stack"
    assert "C stack:" in words
    assert "libc.so" in words.partition("C stack:")[2]
    assert run(STARTS).stdout.strip() == "True The program crashed the last time True"
    assert "here_it_fails" in (tmp_path / "common-bench" / "common-bench.log").read_text()
    assert run(STARTS).stdout.startswith("False"), (
        "it is told once, and a program that ends as it should leaves no report"
    )
    assert [*(tmp_path / "common-bench" / "crashes").iterdir()] == []
