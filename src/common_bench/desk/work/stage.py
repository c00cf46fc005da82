"""Stage 5, Work up: a run with its span, each value at its events, the finding and what it is made of."""

from __future__ import annotations

from PyQt6.QtWidgets import QSizePolicy, QWidget

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import (
    Card,
    Cell,
    Field,
    Pages,
    Table,
    button,
    hbox,
    say,
    scrolled,
    vbox,
)
from common_bench.desk.look.sheet import px
from common_bench.desk.plan.cards import keys_back
from common_bench.desk.plan.plan_lines import PlanLines
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.desk.work.cards import ConditionsCard, FindingCard
from common_bench.desk.work.run_graphs import EachGraph, RunGraph
from common_bench.lesson.line_values import run_value
from common_bench.lesson.plan_editing import looked_at
from common_bench.lesson.removing import remove_as_typed, run_to_remove
from common_bench.lesson.words import age_words
from common_bench.model.measured import plain, written
from common_bench.model.run import Run
from common_bench.model.trouble import Trouble
from common_bench.record.replay import Replayed

NUDGE = 0.5  # s
LINES_PAGE = 1


class WorkStage(StageView):
    """One run with its span, its values, its finding; sent to the pool or set aside."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self._run = 0
        self.take_aside = button("Set this run aside… (X)", self.ask_aside)
        self.send = button("Send findings to the pool (P)", self.send_to_pool, role="main")
        self.again = button("Play it again (V)", self.play_again, role="link")
        self.head.addWidget(self.take_aside)
        self.head.addWidget(self.send)
        self.graph_card = RunGraph(self._drawn_span, lambda line, text: self.written.keep_line(line, text))
        self.graph = self.graph_card.graph
        self.each_card = EachGraph()
        self.moments_card = Card("Moments", name=True)
        self.moments = label("", wrap=True)
        self.marked = Table(
            ["at", "moment: type other words, or none to take it off"], left=(0, 1), stretch=1, edit=(1,)
        )
        self.marked.edited.connect(self._change_moment)
        self.marked.refilled.connect(self.refresh)
        self.note = Field()
        self.note.setPlaceholderText("a note on this run")
        self.note.editingFinished.connect(self._keep_note)
        self.note.returnPressed.connect(lambda: keys_back(self.note))
        self.moments_card.add(self.moments, self.marked, self.note)
        self.written = PlanLines(hub, self.refresh, lambda _: None)
        seen = QWidget()
        column = vbox(self.each_card, self.moments_card, None, spacing=11)
        column.setStretch(0, 20)
        seen.setLayout(column)
        self.under = Pages()
        for page in (seen, self.written.card):
            self.under.addWidget(page)
        for each in (self.graph_card, self.under):  # each has its share, whatever it would like
            each.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        self.graph_card.setMinimumHeight(px(190))
        left = vbox(self.graph_card, self.under, spacing=11)
        for at, share in enumerate((10, 9)):
            left.setStretch(at, share)
        self.finding_card = FindingCard()
        self.condition_card = ConditionsCard(hub)
        self.workings_card = Card("Workings of this run")
        self.workings = label("", "mono", wrap=True)
        self.change_lines = button("Change the lines (L)", self.turn_lines, role="link")
        self.workings_card.add(self.workings, self.change_lines)
        self.runs_card = Card("Runs")
        self.runs = Table(["run", "", "state"], left=(0, 2), stretch=1)
        self.runs.itemSelectionChanged.connect(self._choose_row)
        self.runs_card.add(self.runs, self.again)
        right = scrolled(
            vbox(self.finding_card, self.condition_card, self.workings_card, self.runs_card, None, spacing=11)
        )
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 66)
        body.setStretch(1, 34)
        self.column.addLayout(body, 1)

    def keys(self) -> Keys:
        return {
            "Right": ("next run", lambda: self._step(1)),
            "Left": ("previous run", lambda: self._step(-1)),
            "P": ("send this bench's findings to the pool", self.send_to_pool),
            "X": ("set this run aside or take it back", self.ask_aside),
            "Y": ("this run was practice, or counts", self.turn_practice),
            "[": ("span begins later", lambda: self._nudge(NUDGE, 0)),
            "]": ("span ends earlier", lambda: self._nudge(0, -NUDGE)),
            "{": ("span begins earlier", lambda: self._nudge(-NUDGE, 0)),
            "}": ("span ends later", lambda: self._nudge(0, NUDGE)),
            "A": ("use all of the run", self._use_all),
            "V": ("play this run again as if live", self.play_again),
            "E": ("lay over what the group expected, or not", self.turn_expected),
            "Del": ("remove this run, or its group, for good…", self.ask_removal),
            "L": ("the plan's lines beside the graph, or back", self.turn_lines),
        }

    def on_paper(self) -> tuple[str, str]:
        run = self._current()
        name = f"{self.hub.alias} run {run.number}" if run is not None else self.hub.alias
        return name, self.store.plan.name

    def play_again(self) -> None:
        """This run in the views of Record, as if it were live."""
        run = self._current()
        if run is not None:
            self.hub.play_again(run.id)

    def chosen(self) -> object:
        return self._run

    def choose_again(self, what: object) -> None:
        self._run = what if isinstance(what, int) else 0

    def escape(self) -> bool:
        """Leaves the plan's lines."""
        if not self.lines_shown:
            return False
        self.turn_lines()
        return True

    @property
    def lines_shown(self) -> bool:
        return self.under.currentIndex() == LINES_PAGE

    def turn_lines(self) -> None:
        """The plan's lines under the graph, to be changed there, or back."""
        self.under.setCurrentIndex(0 if self.lines_shown else LINES_PAGE)
        self.refresh()

    # which run

    def _own_runs(self) -> list[Run]:
        return self.store.ended_runs(self.hub.group) if self.hub.group else []

    def _current(self) -> Run | None:
        own = self._own_runs()
        return next((run for run in own if run.id == self._run), own[-1] if own else None)

    def _step(self, by: int) -> None:
        ids = [run.id for run in self._own_runs()]
        current = self._current()
        if ids and current:
            self._run = ids[(ids.index(current.id) + by) % len(ids)]
            self.refresh()

    def _choose_row(self) -> None:
        row, own = self.runs.currentRow(), self._own_runs()
        if 0 <= row < len(own) and own[row].id != self._run:
            self._run = own[row].id
            self.refresh()

    # what is done

    def _drawn_span(self, low: float, high: float) -> None:
        run = self._current()
        if run is not None:
            self._choose(run, low, high)

    def _choose(self, run: Run, low: float, high: float) -> None:
        findings = self.hub.lesson.store.findings(run.id)
        if findings and findings[0].span == (low, high):
            return
        if not self.hub.try_to(lambda: self.hub.lesson.working_up.choose_span(run.id, (low, high))):
            self.refresh()

    def _nudge(self, begin: float, end: float) -> None:
        run = self._current()
        if run is None:
            return
        low, high = self.graph_card.span
        self._choose(run, round(max(0.0, low + begin), 3), round(min(self._seconds, high + end), 3))

    def _use_all(self) -> None:
        run = self._current()
        if run is not None:
            self._choose(run, 0.0, self._seconds)

    def send_to_pool(self) -> None:
        runs = (
            [
                run.id
                for run in self.hub.lesson.store.kept_runs(self.hub.group)
                if run.id not in self.hub.lesson.store.pooled()
            ]
            if self.hub.group
            else []
        )
        alias = self.hub.lesson.store.group(self.hub.group).alias if self.hub.group else ""
        if not runs:
            self.hub.tell(f"{alias} has no run that is not in the pool already.", "amber")
        elif self.hub.try_to(lambda: self.hub.lesson.pooling.send_to_pool(runs)):
            self.hub.tell(
                f"{alias}: {len(runs)} run{'s' if len(runs) != 1 else ''} sent to the pool.", "good", act="Take back",
                then=self.hub.undo,
            )  # fmt: skip

    def ask_aside(self) -> None:
        run = self._current()
        if run is None:
            return
        if run.aside:
            self.hub.try_to(lambda: self.hub.lesson.working_up.take_back_run(run.id))
            return
        alias = self.hub.lesson.store.group(run.group).alias
        self.ask(
            f"Why is {alias} run {run.number} set aside?", "Set aside", lambda why: self.hub.lesson.working_up.set_aside_run(run.id, why),
            hint="as: bumped the string",
        )  # fmt: skip

    def ask_removal(self) -> None:
        """The only thing that takes raw bytes away: what is to go has to be typed."""
        run = self._current()
        if run is None:
            return
        whole, alias = run_to_remove(self.lesson, run.id)

        def remove(typed: str) -> None:
            told = remove_as_typed(self.lesson, run.id, typed)
            self.hub.undo_stack.clear()  # steps of what is gone cannot be taken back
            self._run = 0
            self.hub.book_changed.emit()
            self.hub.tell(told, "amber")

        self.ask(
            f"Gone for good, bytes and all. Type {whole} for this run, {alias} for its group:", "Remove for good", remove,
            hint="nothing brings it back",
        )  # fmt: skip

    def turn_expected(self) -> None:
        """What the group expected of this run, laid over it, or not."""
        self.graph_card.lays_over = not self.graph_card.lays_over
        self.refresh()

    def turn_practice(self) -> None:
        """A run for practice counts nowhere."""
        run = self._current()
        if run is not None and self.hub.try_to(
            lambda: self.lesson.recording.set_practice(run.id, practice=not run.practice)
        ):
            words = "counts" if run.practice else "was practice, and counts nowhere"
            self.hub.tell(f"Run {run.number} {words}.", "good", act="Take back", then=self.hub.undo)

    def _change_moment(self, row: int, _: int, text: str) -> None:
        run = self._current()
        moments = self.store.moments(run.id) if run is not None else []
        if row < len(moments) and text.strip() != moments[row].text:
            self.hub.try_to(lambda: self.lesson.recording.change_moment(moments[row].id, text))
        self.marked.refill()

    def _keep_note(self) -> None:
        run = self._current()
        if run is not None and self.note.text().strip() != run.note:
            self.hub.try_to(lambda: self.lesson.recording.set_note(run.id, self.note.text()))

    # what is seen

    _seconds = 0.0

    def refresh(self) -> None:
        run = self._current()
        alias = self.hub.lesson.store.group(self.hub.group).alias if self.hub.group else ""
        for card in (
            self.each_card,
            self.moments_card,
            self.finding_card,
            self.workings_card,
            self.runs_card,
        ):
            card.setVisible(run is not None)
        self.condition_card.setVisible(run is not None)
        self.send.setEnabled(run is not None)
        self.take_aside.setVisible(run is not None)
        if run is None:
            say(self.title, f"{alias} has no run yet" if alias else "No runs yet")
            say(self.subtitle, "")
            self.graph_card.show_nothing("Record one in stage 4, or choose another bench with the arrow keys.")
            return
        self._run = run.id
        self.change_lines.setText("Back from the lines (L)" if self.lines_shown else "Change the lines (L)")
        self.written.show()
        self.take_aside.setText("Take this run back (X)" if run.aside else "Set this run aside… (X)")
        self._show_runs()
        self.condition_card.show_run(run)
        say(self.workings, "\n".join(run.setting.workings) if run.setting else "")
        say(self.title, f"{alias} · run {run.number}{' · practice' if run.practice else ''}")
        if not self.note.hasFocus():
            self.note.setText(run.note)
        findings = self.hub.lesson.store.findings(run.id)
        self.finding_card.show_findings(run, findings)
        try:
            replayed = self.lesson.working_up.at_hand(run.id)
        except Trouble as trouble:
            say(self.subtitle, trouble.sentence)
            self.graph_card.show_nothing("")
            return
        if replayed is None:
            say(self.subtitle, "the run is being read …")
            self.graph_card.show_nothing("")
            return
        self._seconds = replayed.seconds
        self._say_subtitle(run, replayed)
        emblem, show, marked = self.store.group(run.group).emblem, self.store.plan.shown, self.store.moments(run.id)
        line = self.written.chosen if self.lines_shown else None
        if line is not None:
            show = (line.name, looked_at(line.text), *show)
        self.graph_card.show_run(
            replayed,
            findings,
            marked,
            show,
            emblem,
            aside=bool(run.aside),
            taken=self.store.taken_points(run.id),
            expected=self.lesson.predictions.of_run(run.id),
        )
        self.graph_card.show_level(line)
        by_name = {each.name: each for each in findings}
        self.written.card.show_values([run_value(replayed, by_name, each) for each in self.written.all])
        self.each_card.show_each(replayed, findings, show, emblem)
        rows: list[list[Cell]] = [[f"{each.t:.1f} s", each.text] for each in marked]
        self.marked.fill(rows)
        self.marked.fit(4)
        self.marked.setVisible(bool(rows))
        gaps = [f"{low:.1f} s gap of {high - low:.1f} s" for low, high in replayed.gaps]
        say(self.moments, " · ".join([*gaps, f"{replayed.seconds:.1f} s {run.ended_by}", *run.lacks]))

    def _say_subtitle(self, run: Run, replayed: Replayed) -> None:
        used = run.setting.calibrations if run.setting else ()
        calibration = f"calibration of {age_words(used[0].made_at)}" if used else "not calibrated"
        if run.setting and run.setting.applied_at:
            calibration += ", applied afterwards"
        parts = [f"{replayed.seconds:.1f} s", f"{plain(len(replayed.t), 0)} readings", calibration]
        say(self.subtitle, " · ".join(parts))

    def _show_runs(self) -> None:
        lesson = self.hub.lesson
        rows: list[list[Cell]] = []
        for run in self._own_runs():
            findings = lesson.store.findings(run.id)
            value = (
                written(findings[0].measured.value, findings[0].measured.u, findings[0].measured.unit)
                if findings
                else "—"
            )
            state: Cell = (
                ("set aside", "amber")
                if run.aside
                else ("practice", "soft")
                if run.practice
                else ("in pool", "good")
                if run.id in lesson.store.pooled()
                else ("kept", "")
            )
            rows.append([f"run {run.number}", (value, "soft") if run.aside else value, state])
        self.runs.fill(rows)
        self.runs.fit(7)
        self.runs.blockSignals(True)
        at = next((at for at, run in enumerate(self._own_runs()) if run.id == self._run), -1)
        self.runs.selectRow(at)
        self.runs.blockSignals(False)
