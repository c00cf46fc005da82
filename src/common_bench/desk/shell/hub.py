"""What all parts of the window share: the lesson, the selected bench, the stage, undo, and sentences to show."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from common_bench.book.changes import Change
from common_bench.lesson import actions
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.discovery import notices, plugged_in
from common_bench.model.bench import StandInNotice
from common_bench.model.plan import CommandPlan
from common_bench.model.trouble import Trouble


class ChangeCommand(QUndoCommand):
    """A change of the book on the undo stack. It is done already when it is pushed."""

    def __init__(self, hub: Hub, change: Change) -> None:
        super().__init__(change.label)
        self._hub, self._change, self._first = hub, change, True

    def redo(self) -> None:
        if not self._first:
            self._hub.lesson.redo(self._change)
        self._first = False

    def undo(self) -> None:
        self._hub.lesson.undo(self._change)


class Hub(QObject):
    """Guarantees that every change of the book is one step on the undo stack, and that a problem in an
    action is a sentence on the screen, never an unhandled fault."""

    selected = pyqtSignal(int)
    staged = pyqtSignal(str)
    book_changed = pyqtSignal()
    told = pyqtSignal(str, str)

    def __init__(self, lesson: OpenLesson, ports_folder: Path | None = None, *, only_stand_ins: bool = False) -> None:
        super().__init__()
        self.lesson = lesson
        self.ports_folder, self._only_stand_ins = ports_folder, only_stand_ins
        self.undo_stack = QUndoStack(self)
        self.group = lesson.groups[0].id if lesson.groups else 0
        self.stage = "plan"
        self.lit: int | None = None  # the kit that moves while “which is which” listens
        lesson.changed.append(self._changed)

    def _changed(self, change: Change | None) -> None:
        if change is not None:
            self.undo_stack.push(ChangeCommand(self, change))
        if not any(group.id == self.group for group in self.lesson.groups):
            self.group = self.lesson.groups[0].id if self.lesson.groups else 0
        self.book_changed.emit()

    def try_to(self, act: Callable[[], object]) -> bool:
        """Does something that may raise a Trouble; shows its sentence. True where it worked."""
        try:
            act()
        except Trouble as trouble:
            self.tell(trouble.sentence, "red")
            return False
        return True

    def tell(self, words: str, tone: str = "amber") -> None:
        self.told.emit(words, tone)

    def select(self, group: int) -> None:
        if group != self.group:
            self.group = group
            self.selected.emit(group)

    def step(self, by: int) -> None:
        """Selects the next or previous bench."""
        ids = [group.id for group in self.lesson.groups]
        if ids:
            at = ids.index(self.group) if self.group in ids else 0
            self.select(ids[(at + by) % len(ids)])

    def go(self, stage: str) -> None:
        if stage != self.stage:
            self.stage = stage
            self.staged.emit(stage)

    def look_for_kits(self) -> None:
        """Everything that is plugged in appears by itself."""
        ports = [port for port in plugged_in(self.ports_folder) if port.stand_in or not self._only_stand_ins]
        made = self.lesson.appear([port for port in ports if not port.trouble])
        self.refused = [port for port in ports if port.trouble and port.identity not in self.lesson.heard_identities()]
        gone = self.lesson.forget_gone({port.identity for port in ports})
        if made or gone:
            self.book_changed.emit()

    refused: list = []

    def command(self, command: CommandPlan) -> None:
        """Sends a command of the plan to the selected bench's kit."""
        kit = self.lesson.kit_of(self.group) if self.group else None
        if kit is None:
            self.tell("This bench has no kit to send to.", "amber")
        elif self.try_to(lambda: self.lesson.engine.send(kit, command.data)):
            self.tell(f"Sent to {self.lesson.group(self.group).alias}: {command.name}.", "good")

    def give(self, kit: int, group: int | None) -> None:
        if self.try_to(lambda: actions.give_kit(self.lesson, kit, group)):
            to = self.lesson.group(group).alias if group is not None else "no bench"
            self.tell(f"{self.lesson.kits[kit].name} belongs to {to}.", "good")

    def stand_ins(self) -> list[StandInNotice]:
        return notices(self.ports_folder)
