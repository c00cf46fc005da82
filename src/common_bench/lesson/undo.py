"""The undo history of a lesson: steps that a person took in, one of them undone or redone at a time out."""

from __future__ import annotations

from typing import Protocol

from common_bench.model.trouble import Trouble


class UndoStep(Protocol):
    """One action of a person. A step holds rows and ids, never a part of the window, so that it outlives every view."""

    @property
    def label(self) -> str: ...

    def undo(self) -> str:
        """A sentence to add to the description, mostly none. Raises Trouble where it can no longer be undone; nothing is
        changed then."""

    def redo(self) -> str:
        """As `undo`, in the other direction."""

    def describe(self, *, undone: bool) -> str:
        """The sentence that is shown before it is undone or redone."""


class UndoHistory:
    """Guarantees that a step that is refused stays where it was, and that a change which is made while a step is undone or
    redone becomes a step after it instead of destroying the one that runs. (Qt's own stack deletes the running command there.)
    """

    def __init__(self) -> None:
        self._steps: list[UndoStep] = []
        self._at = 0  # how many of them are done
        self._runs = False
        self._meanwhile: list[UndoStep] = []  # pushed while a step ran

    def count(self) -> int:
        return len(self._steps)

    def undo_label(self) -> str:
        """The label of the step that undo would take; empty where there is none."""
        return self._steps[self._at - 1].label if self._at else ""

    def redo_label(self) -> str:
        """The label of the step that redo would take; empty where there is none."""
        return self._steps[self._at].label if self._at < len(self._steps) else ""

    def push(self, step: UndoStep) -> None:
        """Adds a step that is done already; what could be redone before it is dropped."""
        if self._runs:
            self._meanwhile.append(step)
            return
        self._steps[self._at :] = [step]
        self._at += 1

    def clear(self) -> None:
        self._steps.clear()
        self._at = 0

    def undo(self) -> str:
        """Undoes the last step and returns its sentence. Raises Trouble where there is none, or where it is refused."""
        if not self._at:
            raise Trouble("nothing-to-undo")
        return self._run(self._steps[self._at - 1], undone=True)

    def redo(self) -> str:
        """Redoes the step that was undone last and returns its sentence. Raises Trouble as `undo` does."""
        if self._at == len(self._steps):
            raise Trouble("nothing-to-redo")
        return self._run(self._steps[self._at], undone=False)

    def _run(self, step: UndoStep, *, undone: bool) -> str:
        words = step.describe(undone=undone)
        self._runs = True
        try:
            more = (step.undo if undone else step.redo)()
            self._at += -1 if undone else 1
        finally:
            self._runs = False
            meanwhile, self._meanwhile = self._meanwhile, []
            for each in meanwhile:
                self.push(each)
        return f"{words} {more}".rstrip()
