"""From the shelf to a lesson and back: the one place that opens and closes windows, books and trial classes."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QApplication, QMainWindow

from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.shelf_window import ShelfWindow
from common_bench.desk.shell.window import Bench
from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.known_books import remember
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.lessons import class_register, make_class
from common_bench.lesson.register import Register
from common_bench.lesson.scouting import Scout
from common_bench.links.discovery import plugged_in, ports_folder
from common_bench.model.plan import Plan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import Trouble
from common_bench.standins.classes import CLASS_NAME
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import world_of

if TYPE_CHECKING:
    from common_bench.desk.shell.faults import Faults

MakeLesson = Callable[[], OpenLesson]


@contextlib.contextmanager
def _no_window_is_the_last() -> Iterator[None]:
    """While one window goes and another has yet to come, the program does not end."""
    before = QApplication.quitOnLastWindowClosed()
    QApplication.setQuitOnLastWindowClosed(False)
    try:
        yield
    finally:
        QApplication.setQuitOnLastWindowClosed(before)


class House:
    """Guarantees that at most one lesson is open, that its book is let go before another is opened, and that something is
    always shown: the shelf, with what went wrong, where a lesson cannot be."""

    def __init__(
        self, faults: Faults | None = None, *, ports: Path | None = None, trials: Path | None = None, speed: float = 1.0
    ) -> None:
        """ports: where stand-in kits are looked for; trials: where trial classes are kept; speed: world s per s of a trial
        class."""
        self._faults, self._ports, self._trials, self._speed = faults, ports, trials, speed
        self.window: QMainWindow | None = None
        self._scout: Scout | None = None
        self._stand_ins: StandInProcess | None = None

    # what is open

    @property
    def bench(self) -> Bench | None:
        """The window of the lesson that is open."""
        return self.window if isinstance(self.window, Bench) else None

    def open_now(self) -> tuple[Path, int] | None:
        """The book and the lesson that are open."""
        if self.bench is None:
            return None
        lesson = self.bench.hub.lesson
        return lesson.book.path, lesson.store.id

    def heard(self) -> list[StreamFormat]:
        """How the kits send that are plugged in: of the lesson that is open, or as a scout has heard them."""
        if self.bench is not None:
            kits = self.bench.hub.lesson.roster.kits.values()
            return [kit.format for kit in kits if kit.format is not None and kit.parent is None]
        if self._scout is None:
            self._scout = Scout()
        self._scout.look([port for port in plugged_in(self._ports) if not port.trouble])
        return self._scout.formats

    def back(self) -> None:
        """From the shelf to the lesson that is open."""
        if self.bench is not None:
            self.bench.show_lesson()

    # going from one to the other

    def show_shelf(self, told: str = "") -> ShelfWindow:
        """The shelf with no lesson open."""
        window = ShelfWindow(self, self._faults)
        self._take(window)
        if told:
            window.messages.tell(told, "red")
        return window

    def open_lesson(self, path: Path, lesson: int | None) -> None:
        """Raises Trouble where it cannot be opened; what was open is then closed."""
        now = self.open_now()
        if now is not None and now[0] == path.resolve() and lesson in (None, now[1]):
            self.back()
            return
        self._leave_then(lambda: self._enter(lambda: OpenLesson.open_within_reach(path, lesson, apart=True), "record"))

    def begin(self, path: Path, plan: Plan, origin: str) -> None:
        """The next lesson of a class."""
        self._leave_then(lambda: self._enter(lambda: OpenLesson.begin(path, plan, origin=origin, apart=True), "plan"))

    def _open_again(self) -> None:
        """The lesson that is open, where its kits are heard no more."""
        if (now := self.open_now()) is not None:
            self._leave_then(lambda: self._enter(lambda: OpenLesson.open_within_reach(*now, apart=True), "record"))

    def make_class(self, path: Path, name: str, aliases: Sequence[str]) -> None:
        """A new book with its groups and no lesson yet. Raises Trouble."""
        make_class(path, name, aliases)

    def edit(self, path: Path, act: Callable[[Register], object]) -> None:
        """Does something with the register of a class, be it open or not. Raises Trouble."""
        now = self.open_now()
        if now is not None and now[0] == path and self.bench is not None:
            act(self.bench.hub.lesson.register)
            return
        with class_register(path) as register:
            act(register)

    def try_out(self, key: str) -> None:
        """A trial class with stand-in kits, in a book of its own."""
        self._leave_then(lambda: self._enter_trial(key))

    def _enter_trial(self, key: str) -> None:
        from common_bench.desk.shell.application import demo_folder, lay_out_cards

        folder = demo_folder(key) if self._trials is None else self._trials / key
        folder.mkdir(parents=True, exist_ok=True)
        ports = (self._ports or ports_folder()) / f"trial-{os.getpid()}"
        logs = world_of(key).logs
        if not logs:
            self._stand_ins = StandInProcess(ports, world_speed=self._speed, class_name=key)

        def make() -> OpenLesson:
            lesson = prepared_lesson(folder / f"{key}.benchbook", speed=self._speed, class_name=key, apart=True)
            plug_in(lesson, ports)
            return lesson

        self._enter(make, "record" if logs else "plan", stand_ins=ports)
        if self.bench is not None and logs:
            self.bench.hub.tell(*lay_out_cards(key, folder))
        elif self.bench is not None:
            self.bench.hub.tell(f"This is a trial class {CLASS_NAME} with stand-in kits. Its book is {folder}", "good")

    def _enter(self, make: MakeLesson, stage: str, *, stand_ins: Path | None = None) -> None:
        """Opens a lesson; the shelf is shown, with why, where it cannot be."""
        self._let_ports_go()
        QApplication.processEvents()
        try:
            lesson = make()
        except Trouble as trouble:
            self._stop_stand_ins()
            if isinstance(self.window, ShelfWindow):
                raise
            self.show_shelf(trouble.sentence)
            return
        if stand_ins is None:
            remember(lesson.book.path, lesson.store.id)
        hub = Hub(lesson, stand_ins or self._ports, only_stand_ins=stand_ins is not None)
        if lesson.is_live:
            hub.try_to(lesson.roster.hear_added)
        if stand_ins is None:
            hub.open_again = self._open_again
        hub.stage = "plan" if stage == "plan" else "record"
        self._take(Bench(hub, self._faults, self))

    def _leave_then(self, go_on: Callable[[], object]) -> None:
        """Closes the lesson that is open, if there is one; where benches record, only once somebody has said so."""
        bench = self.bench
        if bench is None:
            go_on()
            return
        recording = [g for g in bench.hub.lesson.store.groups if bench.hub.lesson.roster.busy(g.id)]
        if recording and not bench.asked_to_leave:
            bench.asked_to_leave = True
            words = "1 bench records" if len(recording) == 1 else f"{len(recording)} benches record"
            bench.hub.tell(
                f"{words}; leaving this lesson ends that.",
                "amber",
                act="Leave all the same",
                then=lambda: self._leave_then(go_on),
            )
            return
        with _no_window_is_the_last():
            if bench.close():
                self._stop_stand_ins()
                go_on()

    def _take(self, window: QMainWindow) -> None:
        """Puts a window in the place of the one before."""
        before, self.window = self.window, window
        with _no_window_is_the_last():
            if before is not None:
                window.setGeometry(before.geometry())
                before.close()
                before.deleteLater()
            window.show()
            window.activateWindow()

    def _let_ports_go(self) -> None:
        if self._scout is not None:
            self._scout.stop()
            self._scout = None

    def _stop_stand_ins(self) -> None:
        if self._stand_ins is not None:
            self._stand_ins.stop()
            self._stand_ins = None

    def close(self) -> None:
        """Lets go of all that it holds."""
        self._let_ports_go()
        self._stop_stand_ins()
