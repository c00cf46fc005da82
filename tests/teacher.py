"""A teacher with an empty home: the whole program from the shelf on, as she starts it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QLineEdit, QWidget

from common_bench.desk.plan.stage import PlanStage
from common_bench.desk.shell.house import House
from common_bench.desk.shell.shelf_window import ShelfWindow
from common_bench.desk.shell.window import Bench
from person import APPLICATION, SEEN_EVERY, code_of, type_into, wait_until, words_in

assert APPLICATION


class Teacher:
    """What she presses, types and sees. The files that she would choose in the system's own dialogs she names directly."""

    def __init__(self, ports: Path, trials: Path, speed: float = 1.0) -> None:
        self.house = House(ports=ports, trials=trials, speed=speed)
        self.house.show_shelf()

    def leave(self) -> None:
        window = self.house.window
        if window is not None:
            window.close()
        self.house.close()

    @property
    def window(self) -> QWidget:
        assert self.house.window is not None
        return self.house.window

    @property
    def bench(self) -> Bench:
        assert self.house.bench is not None, self.told
        self.house.bench.frames.least = SEEN_EVERY
        return self.house.bench

    @property
    def shelf(self):  # type: ignore[no-untyped-def]
        """The shelf that is shown."""
        window = self.house.window
        return window.shelf if isinstance(window, (ShelfWindow, Bench)) else None

    @property
    def plan(self) -> PlanStage:
        stage = self.bench.stages["plan"]
        assert isinstance(stage, PlanStage)
        return stage

    @property
    def told(self) -> str:
        window = self.house.window
        return (
            window.messages.text
            if isinstance(window, ShelfWindow)
            else window.hub.messages.text
            if isinstance(window, Bench)
            else ""
        )

    def press(self, *keys: str) -> None:
        for key in keys:
            QTest.keyClick(self.window, code_of(key))

    def until(self, met: Callable[[], object], what: str) -> None:
        wait_until(met, what, lambda: self.told)

    def seen(self) -> str:
        return "\n".join(words_in(self.window))

    def see(self, words: str) -> None:
        self.until(lambda: words in self.seen(), f"“{words}” is seen")

    def click(self, words: str) -> None:
        """A button by what stands on it."""
        found = [
            each
            for each in self.window.findChildren(QAbstractButton)
            if each.isVisible() and each.text().startswith(words)
        ]
        assert found, f"no button “{words}”"
        QTest.mouseClick(found[0], Qt.MouseButton.LeftButton)

    def type_into(self, field: QLineEdit, text: str) -> None:
        type_into(field, text)

    def make_class(self, name: str, groups: str, book: Path) -> None:
        self.press("N")
        form = self.shelf.new_form
        form.name.setText(name)
        form.groups.setText(groups)
        form.place.setText(str(book))
        QTest.keyClick(form.place, Qt.Key.Key_Return)

    def write(self, text: str, at: int = -1) -> None:
        """A line of the plan."""
        self.type_into(self.plan.lines.rows[at].field, text)
        self.window.setFocus()  # out of the list, as Escape does

    def give(self, count: int) -> None:
        """Waits until so many kits are heard, and gives them to the benches in order."""
        self.press("2")
        self.until(lambda: len(self.bench.hub.lesson.roster.kits) >= count, f"{count} kits are heard")
        self.press("G")
        self.ready(count)

    def ready(self, count: int) -> None:
        roster = self.bench.hub.lesson.roster
        groups = self.bench.hub.lesson.store.groups
        self.until(lambda: sum(not roster.why_not_ready(g.id) for g in groups) >= count, f"{count} benches are ready")

    def record(self, count: int) -> None:
        """A run on every bench that is ready, to its end and worked up."""
        lesson = self.bench.hub.lesson
        store = lesson.store
        self.press("4")
        self.ready(count)
        before = {run.id for run in store.runs()}
        self.press("R")

        def left_out() -> list[int]:
            began = {run.group for run in store.runs() if run.id not in before}
            return [group.id for group in store.groups if group.id not in began]

        while len(store.groups) - len(left_out()) < count:  # one that was not heard in that moment begins by itself
            self.until(lambda: any(not lesson.roster.why_not_ready(group) for group in left_out()), "one more is ready")
            late = next(group for group in left_out() if not lesson.roster.why_not_ready(group))
            self.bench.hub.select(late)
            self.press("Space")
            self.until(lambda late=late: late not in left_out(), "it begins")
        wait_until(
            lambda: len({run.id for run in store.kept_runs()} - before) == count,
            f"{count} runs are kept",
            lambda: (
                f"{self.told}; {[(run.group, run.state, run.trouble) for run in store.runs() if run.id not in before]}; {[(g.alias, lesson.roster.why_not_ready(g.id), lesson.roster.recording(g.id)) for g in store.groups]}"
            ),
        )
        self.until(lambda: not self.bench.hub.lesson.working_up.is_busy, "all is worked up")
