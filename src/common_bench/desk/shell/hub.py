"""What all parts of the window share: the lesson, the selected bench, the stage, undo, and messages."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotInTime
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QApplication, QLineEdit, QPlainTextEdit

from common_bench.book.changes import Change
from common_bench.desk.look.messages import Ended, MessagePlace
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.steps import ChangeStep, counted_runs
from common_bench.lesson.undo import UndoHistory, UndoStep
from common_bench.lesson.words import Stage
from common_bench.lesson.working_up import Rework
from common_bench.links.discovery import notices, plugged_in
from common_bench.model.bench import Group, Port, StandInNotice
from common_bench.model.plan import CommandPlan
from common_bench.model.trouble import Trouble

Given = TypeVar("Given")
Refused = Callable[[Trouble], object]
"""What is done with a Trouble that comes later."""
HIDDEN_COLOUR = "#6B7680"
WAIT_AT_MOST = 0.1  # s that the window's thread waits for the engine


class Hub(QObject):
    """Guarantees that every change of the book is one step on the undo stack, and that a problem in an
    action is a sentence on the screen, never an unhandled fault."""

    selected = pyqtSignal(int)
    staged = pyqtSignal(str)
    book_changed = pyqtSignal()

    def __init__(self, lesson: OpenLesson, ports_folder: Path | None = None, *, only_stand_ins: bool = False) -> None:
        super().__init__()
        self.lesson = lesson
        if lesson.is_live:
            lesson.engine.patience = WAIT_AT_MOST
        self.ports_folder, self._only_stand_ins = ports_folder, only_stand_ins
        self._looker = ThreadPoolExecutor(1, thread_name_prefix="ports")
        self._looking: Future[list[Port]] | None = None
        self.history = UndoHistory()
        self.group = lesson.store.groups[0].id if lesson.store.groups else 0
        self.stage: Stage = "plan"
        self.lit: int | None = None  # the kit that moves while “which is which” listens
        self.names_hidden = (
            False  # groups are called by letters, and wear one mark, everywhere until they are shown again
        )
        self.refused: list[Port] = []  # ports that cannot be opened
        self.messages = MessagePlace(self._keys_back)
        self.play_again: Callable[[int], object] = lambda run: None  # shows a run in Record as if it were live
        self.walk_back: Callable[[int], object] = lambda run: None  # shows how a run's finding came about, in Work up
        self.open_again: Callable[[], object] | None = None  # this lesson, where that can be
        self.keys_back: Callable[[], object] = lambda: None  # gives the keyboard to the stage
        self._awaited: list[tuple[Future[object], Callable[[object], object], Refused | None]] = []
        lesson.changes.watchers.append(self._changed)

    def _keys_back(self) -> None:
        self.keys_back()

    def _changed(self, change: Change | None) -> None:
        if change is not None:
            self.history.push(ChangeStep(self.lesson, change))
        if not any(group.id == self.group for group in self.lesson.store.groups):
            self.group = self.lesson.store.groups[0].id if self.lesson.store.groups else 0
        self.book_changed.emit()

    # doing

    def try_to(self, act: Callable[[], object]) -> bool:
        """Does something that may raise a Trouble; shows its sentence. True where it worked."""
        try:
            act()
        except Trouble as trouble:
            self.tell(trouble.alone, "red")
            return False
        return True

    def later(self, answer: Future[Given], then: Callable[[Given], object], refused: Refused | None = None) -> None:
        """Has `then` called with what a worker gives, once it does; a Trouble that it raises is shown, or given to `refused`."""
        self._awaited.append((answer, then, refused))  # type: ignore[arg-type]

    def soon(
        self,
        answer: Future[Given],
        then: Callable[[Given], object],
        words: str = "Working …",
        refused: Refused | None = None,
    ) -> None:
        """Has `then` called with what a worker gives: at once where that takes no longer than WAIT_AT_MOST, later otherwise, which
        the words say. Raises what the worker raises at once."""
        try:
            found = answer.result(WAIT_AT_MOST)
        except NotInTime:
            self.tell(words, "amber", ended=answer.done)
            self.later(answer, then, refused)
        else:
            then(found)

    def rework(self, work: Rework, then: Callable[[], object]) -> None:
        """Has a worker do the slow part of a change of a run; then: once it is kept. Raises Trouble where that is seen at once."""

        def keep(found: object) -> None:
            work.keep(found)
            then()

        self.soon(self.lesson.working_up.submit(work.compute), keep, "The run is being worked up again …")

    def tick(self) -> None:
        """Looks whether workers have answered."""
        done = [each for each in self._awaited if each[0].done()]
        self._awaited = [each for each in self._awaited if not each[0].done()]
        for answer, then, refused in done:
            try:
                then(answer.result())
            except Trouble as trouble:
                if refused is not None:
                    refused(trouble)
                else:
                    self.tell(trouble.alone, "red")

    def remember(self, step: UndoStep) -> None:
        """Something that was done and is no change of the book, as one step of undo."""
        self.history.push(step)

    def undo(self) -> None:
        """One step back, and what it changed; one that is refused stays where it was, and says why."""
        self.try_to(lambda: self.tell(self.history.undo(), "good"))

    def redo(self) -> None:
        """One step forward again, alike."""
        self.try_to(lambda: self.tell(self.history.redo(), "good"))

    # telling

    def tell(
        self, words: str, tone: str = "amber", *, act: str = "", then: Callable[[], object] | None = None,
        ended: Ended | None = None,
    ) -> None:  # fmt: skip
        self.messages.tell(self.anonymous(words), tone, act=act, then=then, ended=ended)

    def write_elsewhere(self) -> None:
        """The book, with all that waits in memory, goes on at the first other place that has room."""
        try:
            place = self.lesson.rescue.move()
        except Trouble as trouble:
            self.tell(trouble.alone, "red")
            return
        self.tell(f"The book, with all that was heard, is now in {place}. Go on with that file.", "amber")

    # where one is

    def keep_typed(self) -> None:
        """Has the field or cell that is typed into keep its text, or refuse it, while it still belongs to what is shown."""
        focus = QApplication.focusWidget()
        if isinstance(focus, (QLineEdit, QPlainTextEdit)) and not self.messages.isAncestorOf(focus):
            self.keys_back()

    def select(self, group: int) -> None:
        if group != self.group:
            self.keep_typed()
            self.group = group
            self.selected.emit(group)

    def step(self, by: int) -> None:
        """Selects the next or previous bench."""
        ids = [group.id for group in self.lesson.store.groups]
        if ids:
            at = ids.index(self.group) if self.group in ids else 0
            self.select(ids[(at + by) % len(ids)])

    def go(self, stage: Stage) -> None:
        if stage != self.stage:
            self.keep_typed()
            self.stage = stage
            self.staged.emit(stage)

    def hide_names(self, *, hidden: bool) -> None:
        """Everywhere in the window, until they are shown again."""
        self.names_hidden = hidden
        self.book_changed.emit()

    def name_of(self, group: int) -> str:
        """The alias of a group; a letter while names are hidden."""
        places = [each.id for each in self.lesson.store.all_groups]
        if self.names_hidden and group in places:
            return f"Group {chr(65 + places.index(group) % 26)}"
        return self.lesson.store.group(group).alias

    def anonymous(self, words: str) -> str:
        """Words with every alias in them as `name_of` has it."""
        if self.names_hidden:
            for group in sorted(self.lesson.store.all_groups, key=lambda each: -len(each.alias)):
                words = words.replace(group.alias, self.name_of(group.id)) if group.alias else words
        return words

    def emblem_of(self, group: Group) -> tuple[str, str]:
        """Shape and colour of a group's emblem; one mark for all while names are hidden."""
        return ("circle", HIDDEN_COLOUR) if self.names_hidden else (group.emblem.shape, group.emblem.colour)

    @property
    def alias(self) -> str:
        """Of the selected bench; empty where there is none."""
        return self.name_of(self.group) if self.group else ""

    # kits

    def look_for_kits(self) -> None:
        """Everything that is plugged in appears by itself. Waits for the system; `begin_to_look` does not."""
        self._take_ports(self._ports())

    def begin_to_look(self) -> None:
        """The same by a worker, unless it looks already: what the system says of its ports it says slowly."""
        if self.lesson.is_live and (self._looking is None or self._looking.done()):
            self._looking = self._looker.submit(self._ports)
            self.later(self._looking, self._take_ports)

    def close(self) -> None:
        """No further look."""
        self._looker.shutdown(wait=True, cancel_futures=True)

    def _ports(self) -> list[Port]:
        return [port for port in plugged_in(self.ports_folder) if port.stand_in or not self._only_stand_ins]

    def _take_ports(self, ports: list[Port]) -> None:
        roster = self.lesson.roster
        made = roster.appear([port for port in ports if not port.trouble])
        heard = roster.heard_identities()
        self.refused = [port for port in ports if port.trouble and port.identity not in heard]
        gone = roster.forget_gone({port.identity for port in ports})
        if made or gone:
            self.book_changed.emit()

    def command(self, command: CommandPlan) -> None:
        """Sends a command of the plan to the selected bench's kit."""
        kit = self.lesson.store.kit_of(self.group) if self.group else None
        if kit is None:
            self.tell("This bench has no kit to send to.", "amber")
        elif self.try_to(lambda: self.lesson.roster.send_data(kit, command.data)):
            self.tell(f"Sent to {self.alias}: {command.name}.", "good")

    def send_to_pool(self, runs: list[int], who: str) -> None:
        """Sends what can be trusted; findings that say little are sent only when a person says so."""
        if not runs:
            self.tell(f"{who} has no run that is not in the pool already.", "amber")
            return
        doubtful = self.lesson.pooling.doubtful(runs)
        sound = [run for run in runs if run not in doubtful]
        if sound and not self.try_to(lambda: self.lesson.pooling.send_to_pool(sound)):
            return
        sent = f"{who}: {counted_runs(len(sound))} sent to the pool."
        if not doubtful:
            self.tell(sent, "good", act="Take back", then=self.undo)
            return
        first, why = next(iter(doubtful.items()))
        run = self.lesson.store.run(first)
        told = f"{self.lesson.store.group(run.group).alias} run {run.number}: {why}"
        more = f", and {len(doubtful) - 1} more" if len(doubtful) > 1 else ""
        self.tell(
            f"{f'{sent} ' if sound else ''}Not sent: {told}{more}.", "amber", act="Send them all the same" if more else "Send it all the same",
            then=lambda: self._send_doubtful(list(doubtful), who),
        )  # fmt: skip

    def _send_doubtful(self, runs: list[int], who: str) -> None:
        if self.try_to(lambda: self.lesson.pooling.send_to_pool(runs)):
            self.tell(f"{who}: {counted_runs(len(runs))} sent to the pool.", "good", act="Take back", then=self.undo)

    def give(self, kit: int, group: int | None) -> None:
        if self.try_to(lambda: self.lesson.roster.give_kit(kit, group)):
            to = self.lesson.store.group(group).alias if group is not None else "no bench"
            self.tell(f"{self.lesson.store.kits[kit].name} belongs to {to}.", "good")

    def stand_ins(self) -> list[StandInNotice]:
        return notices(self.ports_folder)
