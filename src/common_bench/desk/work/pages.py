"""Under the graph of a run, where somebody asks for them: how a finding came about, step by step; and all runs of the lesson."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QWidget

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, Cell, Table, button, hbox, say
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.origins import OriginStep
from common_bench.lesson.run_words import why_to_look
from common_bench.lesson.store import LessonStore
from common_bench.lesson.words import stated_words
from common_bench.model.measured import written
from common_bench.model.run import Run


def run_state(store: LessonStore, run: Run) -> Cell:
    """Whether a run counts, in a word, with its tone."""
    if run.aside:
        return "set aside", "amber"
    if run.practice:
        return "practice", "soft"
    return ("in pool", "good") if run.id in store.pooled() else ("kept", "")


class RunsCard(Card):
    """The runs of one bench, each with its first finding and its state."""

    def __init__(self, choose: Callable[[int], object], *links: QWidget) -> None:
        super().__init__("Runs")
        self._choose = choose
        self._runs: list[int] = []
        self.table = Table(["run", "", "state"], left=(0, 2), stretch=1)
        self.table.itemSelectionChanged.connect(self._chosen)
        self.add(self.table)
        self.body.addLayout(hbox(*links, None))

    def show_runs(self, store: LessonStore, runs: Sequence[Run], chosen: int) -> None:
        rows: list[list[Cell]] = []
        for run in runs:
            first = next(iter(store.findings(run.id)), None)
            value = written(first.measured.value, first.measured.u, first.measured.unit) if first is not None else "—"
            rows.append([f"run {run.number}", (value, "soft") if run.aside else value, run_state(store, run)])
        self._runs = [run.id for run in runs]
        self.table.fill(rows)
        self.table.fit(7)
        self.table.blockSignals(True)
        self.table.selectRow(self._runs.index(chosen) if chosen in self._runs else -1)
        self.table.blockSignals(False)

    def _chosen(self) -> None:
        row = self.table.currentRow()
        if 0 <= row < len(self._runs):
            self._choose(self._runs[row])


class OriginCard(Card):
    """The walk back from a finding to the lines of text; a step with a place in the run is shown on the graph when it is chosen."""

    def __init__(self, look: Callable[[float], object], back: Callable[[], object]) -> None:
        super().__init__("How it came about", name=True)
        self._look = look
        self.steps: list[OriginStep] = []
        self.table = Table(["step", "what it is"], left=(0, 1), stretch=1, wrap=True)
        self.table.itemSelectionChanged.connect(self._chosen)
        self.top.addWidget(button("Back (K)", back, role="link"))
        self.add(self.table)

    def show_steps(self, steps: Sequence[OriginStep]) -> None:
        if list(steps) == self.steps:
            return
        self.steps = list(steps)
        rows: list[list[Cell]] = [[each.what[:60], each.words] for each in steps]
        self.table.fill(rows)
        self.table.fold()

    def _chosen(self) -> None:
        row = self.table.currentRow()
        if 0 <= row < len(self.steps) and not math.isnan(self.steps[row].t):
            self._look(self.steps[row].t)


class AllRunsCard(Card):
    """Every run of the lesson with its finding, conditions and state; what wants a look comes first."""

    def __init__(
        self, choose: Callable[[int], object], send: Callable[[], object], out: Callable[[], object], back: Callable[[], object],
        changed: Callable[[], object],
    ) -> None:  # fmt: skip
        """send: has all that count sent; out: all of it kept as a table; changed: told that other runs are marked."""
        super().__init__("All runs", name=True)
        self._choose, self._changed = choose, changed
        self.runs: list[int] = []
        self._marked: set[int] = set()
        self.table = Table(["group", "run", "conditions", "finding", "state"], left=(0, 1, 2, 4), stretch=2)
        self.table.itemSelectionChanged.connect(self._chosen)
        self.table.cellClicked.connect(self._clicked)
        self.words = label("", "soft")
        self.send = button("Send all that count to the pool", send)
        self.top.addWidget(button("As a table… (D)", out, role="link"))
        self.top.addWidget(button("Back (G)", back, role="link"))
        self.add(self.table)
        row = hbox(self.words, self.send)
        row.setStretch(0, 1)
        self.body.addLayout(row)

    @property
    def marked(self) -> list[int]:
        """Runs that something is to be done to at once, as they are listed."""
        return [run for run in self.runs if run in self._marked]

    def turn_mark(self, run: int) -> None:
        self._marked ^= {run}

    def _clicked(self, row: int, _: int) -> None:
        """With Ctrl held, a click marks."""
        if QApplication.keyboardModifiers() & Qt.KeyboardModifier.ControlModifier and 0 <= row < len(self.runs):
            self.turn_mark(self.runs[row])
            self._choose(self.runs[row])
            self._changed()

    def show_lesson(self, lesson: OpenLesson, chosen: int) -> None:
        store = lesson.store
        wanting: list[tuple[int, list[Cell]]] = []
        others: list[tuple[int, list[Cell]]] = []
        for run in store.ended_runs():
            findings = store.findings(run.id)
            state = run_state(store, run)
            look = why_to_look(store, run)
            if look:
                state = (look, "red" if not findings else "amber")
            first = findings[0] if findings else None
            value = (
                f"{first.name} {written(first.measured.value, first.measured.u, first.measured.unit)}"
                if first
                else "none"
            )
            conditions = ", ".join(f"{name} {stated_words(each)}" for name, each in store.run_stated(run.id).items())
            mark = "✓ " if run.id in self._marked else ""
            row: list[Cell] = [mark + store.group(run.group).alias, f"run {run.number}", conditions, value, state]
            (wanting if look else others).append((run.id, row))
        self.runs = [run for run, _ in (*wanting, *others)]
        self.table.fill([row for _, row in (*wanting, *others)])
        self.table.blockSignals(True)
        self.table.selectRow(self.runs.index(chosen) if chosen in self.runs else -1)
        self.table.blockSignals(False)
        loose = len(lesson.pooling.to_send())
        if self.marked:
            say(self.words, f"{len(self.marked)} marked: X sets them aside, P sends them, M marks or not")
        else:
            say(
                self.words,
                f"{len(self.runs)} runs · {len(wanting)} want a look · {loose} count and are not in the pool",
            )
        self.send.setEnabled(loose > 0)

    def _chosen(self) -> None:
        row = self.table.currentRow()
        if 0 <= row < len(self.runs):
            self._choose(self.runs[row])
