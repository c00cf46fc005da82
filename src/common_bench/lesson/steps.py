"""The steps of the undo history: a change of the book, runs begun, runs ended."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from common_bench.book.changes import Change
from common_bench.lesson.change_words import change_words
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.trouble import Trouble


def counted_runs(count: int) -> str:
    """`1 run`, `6 runs`."""
    return f"{count} run{'s' if count != 1 else ''}"


class ChangeStep:
    """A change of rows of the book."""

    def __init__(self, lesson: OpenLesson, change: Change) -> None:
        self._lesson, self.change = lesson, change
        self.label = change.label

    def undo(self) -> str:
        self._lesson.changes.undo(self.change)
        return ""

    def redo(self) -> str:
        self._lesson.changes.redo(self.change)
        return ""

    def describe(self, *, undone: bool) -> str:
        """From what to what."""
        return change_words(self._lesson, self.change, undone=undone)


class BeginStep:
    """Runs that a person began. Undone, they are set aside with all their readings; redone, the same runs are back, and go
    on where they were recorded when the step was undone. Runs that only waited begin to wait anew."""

    def __init__(self, lesson: OpenLesson, runs: Mapping[int, int]) -> None:
        """runs: group -> its run."""
        self._lesson, self._runs = lesson, dict(runs)
        self.label = f"Begin {counted_runs(len(runs))}"
        self._recorded: list[int] = []
        self._waited: list[int] = []

    def undo(self) -> str:
        self._recorded, self._waited = self._lesson.recording.undo_begin([*self._runs.values()])
        return "The run is kept, set aside." if len(self._runs) == 1 else "The runs are kept, set aside."

    def redo(self) -> str:
        recording, told = self._lesson.recording, []
        back = [run for run in self._runs.values() if run not in self._waited]
        if back and (stopped := recording.redo_begin(back, self._recorded)):
            told.append(f"{counted_runs(len(stopped))} cannot go on; what was recorded counts again.")
        groups = [group for group, run in self._runs.items() if run in self._waited]
        begun = recording.begin_runs(groups) if groups else []
        if not begun and not back:
            raise Trouble("runs-cannot-wait-again")
        if len(begun) < len(groups):
            told.append(f"{len(groups) - len(begun)} of {len(groups)} benches are not ready and do not wait.")
        self._runs.update({group: self._lesson.store.runs(group)[-1].id for group in begun})
        return " ".join(told)

    def describe(self, *, undone: bool) -> str:
        return f"{'Taken back' if undone else 'Done again'}: {self.label}."


class EndStep:
    """Runs that a person ended. Undone, they go on as if they had not ended; redone, those that still go on end."""

    def __init__(self, lesson: OpenLesson, runs: Sequence[int]) -> None:
        self._lesson, self._runs = lesson, list(runs)
        self.label = f"End {counted_runs(len(runs))}"

    def undo(self) -> str:
        stopped = self._lesson.recording.resume_runs(self._runs)
        return f"{counted_runs(len(stopped))} cannot go on." if stopped else ""

    def redo(self) -> str:
        recording = self._lesson.recording
        groups = [self._lesson.store.run(run).group for run in recording.under_way(self._runs)]
        if groups:
            recording.end_runs(groups)
        return ""

    def describe(self, *, undone: bool) -> str:
        return f"{'Taken back' if undone else 'Done again'}: {self.label}."
