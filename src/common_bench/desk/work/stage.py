"""Stage 5, Work up: a run with its span, its curve, each value at its events, the finding and what it is made of."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QSizePolicy

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, Pages, button, hbox, say, scrolled, share_room, vbox
from common_bench.desk.look.sheet import px
from common_bench.desk.plan.plan_lines import PlanLines
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.desk.work.all_quantities import drawable
from common_bench.desk.work.beside import NamedSpans, lay_beside, propose_stretch, show_gone
from common_bench.desk.work.cards import ConditionsCard, FindingCard, FitCard, NotesCard, workings_of
from common_bench.desk.work.curve_try import CurveTry
from common_bench.desk.work.deeds import RunDeeds
from common_bench.desk.work.following import FollowedSpan
from common_bench.desk.work.pages import AllRunsCard, OriginCard, RunsCard
from common_bench.desk.work.run_graphs import RunGraph
from common_bench.desk.work.value_graphs import EachGraph, ResidualsGraph
from common_bench.lesson.class_views import read_words, run_words, runs_behind
from common_bench.lesson.line_values import run_value
from common_bench.lesson.origins import origin, reading_words
from common_bench.lesson.plan_editing import looked_at
from common_bench.lesson.run_words import no_run_words
from common_bench.model.run import Finding, Run
from common_bench.model.trouble import Trouble
from common_bench.record.replay import Replayed
from common_bench.workup.span_rule import main_span

NUDGE = 0.5  # s
READ_AFTER = 250  # ms until a long run is read whose picture is drawn
SEEN, LINES, ORIGIN, ALL_RUNS = 0, 1, 2, 3  # pages under the graph
MOST_BESIDE = 20  # runs that are offered to lie beside


class WorkStage(StageView):
    """One run with its span, its values, its finding; sent to the pool or set aside."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self._run = 0
        self.deeds = deeds = RunDeeds(hub, self._current, self._many, self._forget_run, self.refresh)
        self.tried = CurveTry(hub, self.refresh)
        self.take_aside = button("Set this run aside… (X)", deeds.ask_aside)
        self.send = button("Send findings to the pool (P)", deeds.send_to_pool, role="main")
        self.again = button("Play it again (V)", self.play_again, role="link")
        self.head.addWidget(self.take_aside)
        self.head.addWidget(self.send)
        self.graph_card = RunGraph(
            self._choose, lambda line, text: self.written.keep_line(line, text), self._pointed, self.refresh,
            deeds.leave_out_one,
        )  # fmt: skip
        self.graph = self.graph_card.graph
        self.named = NamedSpans(self.graph_card, deeds.choose_named)
        self.each_card, self.residuals_card = EachGraph(), ResidualsGraph()
        self.moments_card = NotesCard(deeds.change_moment, self.refresh, deeds.take_in, deeds.keep_note)
        self.marked, self.note = self.moments_card.marked, self.moments_card.note
        self.written = PlanLines(hub, self.refresh, lambda _: None)
        column = vbox(self.residuals_card, self.each_card, self.moments_card, None, spacing=11)
        for at, graph in enumerate((self.residuals_card.graph, self.each_card.graph)):
            column.setStretch(at, 20)
            graph.setMinimumHeight(px(104))
            graph.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)  # what is left over
        seen = scrolled(column)  # nothing is squeezed where there is little room
        self.origin_card = OriginCard(self._look_at, lambda: self.turn_page(ORIGIN))
        to_all = partial(self.turn_page, ALL_RUNS)
        self.all_card = AllRunsCard(self._choose_run, deeds.send_all, deeds.take_all_out, to_all, self.refresh)
        self.under = Pages()
        for page in (seen, self.written.card, self.origin_card, self.all_card):
            self.under.addWidget(page)
        for each in (self.graph_card, self.under):  # each has its share, whatever it would like
            each.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
        self.graph_card.setMinimumHeight(px(190))
        left = self._left = vbox(self.graph_card, self.under, spacing=11)
        self.finding_card = FindingCard()
        self.following = FollowedSpan(hub, self.graph_card, self.finding_card, self._current)
        self.how = button("How it came about (K)", lambda: self.turn_page(ORIGIN), role="link")
        self.finding_card.add(self.how)
        self.curve_card = FitCard(self.ask_curve, self.tried.keep)
        self.condition_card = ConditionsCard(hub)
        self.workings_card = Card("Workings of this run")
        self.workings = label("", "mono", wrap=True)
        self.change_lines = button("Change the lines (L)", self.turn_lines, role="link")
        self.workings_card.add(self.workings, self.change_lines)
        self.all_runs = button("All runs (G)", to_all, role="link")
        self.runs_card = RunsCard(self._choose_run, self.again, self.all_runs)
        self.runs = self.runs_card.table
        hub.walk_back = self.walk_back
        self._cards = (
            self.finding_card, self.curve_card, self.condition_card, self.workings_card, self.runs_card,
        )  # fmt: skip
        right = scrolled(vbox(*self._cards, None, spacing=11))
        body = hbox(left, right, spacing=11)
        share_room(body, 66, 34)
        self.column.addLayout(body, 1)

    def keys(self) -> Keys:
        deeds = self.deeds
        return {
            "Right": ("next run", lambda: self._step(1)),
            "Left": ("previous run", lambda: self._step(-1)),
            "P": ("send this bench's findings to the pool", deeds.send_to_pool),
            "X": ("set this run aside or take it back", deeds.ask_aside),
            "O": ("set a stretch of this run aside", self.ask_stretch),
            "Y": ("this run was practice, or counts", deeds.turn_practice),
            "[": ("span begins later", lambda: self._nudge(NUDGE, 0)),
            "]": ("span ends earlier", lambda: self._nudge(0, -NUDGE)),
            "{": ("span begins earlier", lambda: self._nudge(-NUDGE, 0)),
            "}": ("span ends later", lambda: self._nudge(0, NUDGE)),
            "A": ("use all of the run", self._use_all),
            "S": ("the span as the plan finds it", self._use_plan),
            "F": ("type where a span begins and ends…", deeds.ask_span),
            "Q": ("the next quantity", self.graph_card.next_name),
            "R": ("over time, all quantities, its spectrum, or against another", self.graph_card.next_view),
            "U": ("one standard uncertainty about the lines, or not", self.graph_card.turn_band),
            "+": ("a shorter time of the run, finer", lambda: self.graph_card.zoom(0.5)),
            "-": ("a longer time of the run", lambda: self.graph_card.zoom(2.0)),
            ",": ("earlier in the run", lambda: self.graph_card.pan(-0.25)),
            ".": ("later in the run", lambda: self.graph_card.pan(0.25)),
            "N": ("all of the run again", self.graph_card.see_whole),
            "B": ("another run beside this one", self.next_beside),
            "C": ("try a curve", self.ask_curve),
            "K": ("how the finding came about, or back", lambda: self.turn_page(ORIGIN)),
            "G": ("all runs of the lesson, or back", lambda: self.turn_page(ALL_RUNS)),
            "L": ("the plan's lines beside the graph, or back", self.turn_lines),
            "V": ("play this run again as if live", self.play_again),
            "E": ("lay over what the group expected, or not", self.turn_expected),
            "D": ("a run, or all, as a table", lambda: deeds.take_out(all_runs=self.under.currentIndex() == ALL_RUNS)),
            "M": ("mark this run in the list of all, for X and P, or not", self.turn_mark),
            "Del": ("remove this run, or its group, for good…", deeds.ask_removal),
        }

    def _many(self) -> list[int]:
        return self.all_card.marked if self.under.currentIndex() == ALL_RUNS else []

    def turn_mark(self) -> None:
        if self.under.currentIndex() != ALL_RUNS:
            self.turn_page(ALL_RUNS)
        self.all_card.turn_mark(self._run)
        self.refresh()

    def on_paper(self) -> tuple[str, str]:
        run = self._current()
        return f"{self.hub.alias} run {run.number}" if run is not None else self.hub.alias, self.store.plan.name

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
        """Leaves what stands in the place of values and notes, then a curve that is only tried."""
        if self.under.currentIndex() != SEEN:
            self.turn_page(self.under.currentIndex())
            return True
        return self.tried.leave()

    @property
    def lines_shown(self) -> bool:
        return self.under.currentIndex() == LINES

    def turn_lines(self) -> None:
        """The plan's lines under the graph, to be changed there, or back."""
        self.turn_page(LINES)

    def turn_page(self, page: int) -> None:
        """What stands under the graph, or back to values and notes."""
        self.under.setCurrentIndex(SEEN if self.under.currentIndex() == page else page)
        self.graph_card.look_at = None
        self.refresh()

    def turn_expected(self) -> None:
        """What the group expected of this run, laid over it, or not."""
        self.graph_card.lays_over = not self.graph_card.lays_over
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

    def walk_back(self, run: int) -> None:
        """How the finding of a run of any bench came about."""
        self.under.setCurrentIndex(ORIGIN)
        self._choose_run(run)
        self.hub.go("work")

    def _choose_run(self, run: int) -> None:
        """A run of any bench."""
        if run == self._run and self.store.run(run).group == self.hub.group:
            return
        self._run = run
        group = self.store.run(run).group
        if group != self.hub.group:
            self.hub.select(group)
        else:
            self.refresh()

    def _look_at(self, t: float) -> None:
        self.graph_card.look_at = t
        self.refresh()

    def _pointed(self, t: float, name: str) -> str:
        run = self._current()
        try:
            replayed = self.lesson.working_up.at_hand(run.id) if run is not None else None
            return reading_words(self.lesson.book, replayed, t, name) if replayed is not None else ""
        except Trouble:
            return ""

    def _forget_run(self) -> None:
        """The run that was shown is gone: the last of those that hold something is shown."""
        self._run = next((run.id for run in reversed(self._own_runs()) if run.begin is not None), 0)

    def next_beside(self) -> None:
        """The next run that can lie beside this one, none after the last."""
        box = self.graph_card.beside
        if box.count() < 2:
            self.hub.tell("No other run of this plan can lie beside this one yet.", "amber")
        else:
            box.setCurrentIndex((box.currentIndex() + 1) % box.count())
            self.refresh()

    def ask_curve(self) -> None:
        """Tries a curve that is not in the plan through what is drawn."""
        run = self._current()
        if run is not None:
            self.tried.ask(run.id, self.graph_card.drawn_name, self.graph_card.span)

    def ask_stretch(self) -> None:
        """Sets a stretch aside: what lies far from its neighbours is proposed, else the middle of what is seen."""
        run = self._current()
        replayed = self.lesson.working_up.at_hand(run.id) if run is not None else None
        if replayed is None:
            self.hub.tell("The run is being read; a moment.", "amber")
            return
        many = propose_stretch(self.graph_card, replayed)
        self.deeds.leave_out(lambda: self.graph_card.stretch, lambda: self.graph_card.show_out(None), many)

    def _use_plan(self) -> None:
        """The span as the plan says how it is found."""
        run = self._current()
        if run is not None:
            self.hub.try_to(lambda: self._choose(*self.lesson.working_up.span_by_plan(run.id)))

    # what is done

    def _choose(self, low: float, high: float) -> None:
        run = self._current()
        if run is None:
            return
        findings = self.hub.lesson.store.findings(run.id)
        if main_span(findings) == (low, high):
            return
        work = self.hub.lesson.working_up.choosing_span
        if not self.hub.try_to(lambda: self.hub.rework(work(run.id, (low, high)), lambda: None)):
            self.refresh()

    def _nudge(self, begin: float, end: float) -> None:
        low, high = self.graph_card.span
        self._choose(round(max(0.0, low + begin), 3), round(min(self._seconds, high + end), 3))

    def _use_all(self) -> None:
        self._choose(0.0, self._seconds)

    _seconds = 0.0

    def _share_room(self) -> None:
        graphs = any(each.isVisibleTo(self) for each in (self.each_card, self.residuals_card))
        alone = not (graphs or self.under.currentIndex())
        share_room(self._left, 10, 4 if alone else 9)  # the run has the room that nothing beneath it needs

    def refresh(self) -> None:
        run = self._current()
        alias = self.hub.alias
        self.send.setEnabled(run is not None)
        self.take_aside.setVisible(run is not None)
        if self.under.currentIndex() == ALL_RUNS:
            self.all_card.show_lesson(self.lesson, self._run)
        self._share_room()
        if run is None:
            self._show_cards(of_run=False)
            said, what_to_do = no_run_words(self.store, self.hub.group)
            say(self.title, said)
            say(self.subtitle, "")
            self.graph_card.show_nothing(what_to_do)
            return
        self._run = run.id
        self.change_lines.setText("Back from the lines (L)" if self.lines_shown else "Change the lines (L)")
        self.written.show()
        self.take_aside.setText("Take this run back (X)" if run.aside else "Set this run aside… (X)")
        self.runs_card.show_runs(self.store, self._own_runs(), self._run)
        self.condition_card.show_run(run)
        say(self.workings, workings_of(run))
        say(self.title, f"{alias} · run {run.number}{' · practice' if run.practice else ''}")
        if not self.note.hasFocus():
            self.note.setText(run.note)
        findings = self.store.findings(run.id)
        self.finding_card.show_findings(run, findings)
        self.how.setVisible(bool(findings))
        try:
            working, pictured = self.lesson.working_up, None
            replayed = working.at_hand(run.id, ask=False)
            if replayed is None:
                pictured = working.pictured(run.id)
                replayed = working.at_hand(run.id, ask=pictured is None)
        except Trouble as trouble:
            say(self.subtitle, trouble.sentence)
            self._show_cards(of_run=True)
            self.graph_card.show_nothing("")
            return
        if replayed is None:
            say(self.subtitle, "the run is being read …")
            self._show_cards(of_run=True)
            self._show_picture(run, pictured, findings)
            return
        self._seconds = replayed.seconds
        say(self.subtitle, read_words(run, replayed))
        self._show_cards(of_run=True, of_readings=True)
        self._show_replayed(run, replayed, findings)

    def _show_cards(self, *, of_run: bool, of_readings: bool = False) -> None:
        """What can be told of a run, and what only its readings tell: nothing of another run stands there meanwhile."""
        told_by_readings = (self.each_card, self.moments_card, self.curve_card)
        for card in (*self._cards, *told_by_readings):
            card.setVisible(of_readings if card in told_by_readings else of_run)
        if not of_readings:
            self.residuals_card.hide()

    def _show_picture(self, run: Run, pictured: Replayed | None, findings: list[Finding]) -> None:
        """A run that is not read yet, as far as its picture is kept; it is read once that is seen."""
        if pictured is None:
            self.graph_card.show_nothing("")
            return
        emblem, marked = self.store.group(run.group).emblem, self.store.moments(run.id)
        self._seconds = pictured.seconds
        self.graph_card.offer(drawable(pictured), [])
        self.graph_card.show_run(pictured, findings, marked, self.store.plan.shown, emblem, aside=bool(run.aside))
        QTimer.singleShot(READ_AFTER, lambda: self._read(run.id))

    def _read(self, run: int) -> None:
        """Has a run read that is still looked at."""
        working = self.lesson.working_up
        if self._run == run and not working.is_closed:
            self.hub.try_to(lambda: working.at_hand(run))

    def _show_replayed(self, run: Run, replayed: Replayed, findings: list[Finding]) -> None:
        emblem, show, marked = self.store.group(run.group).emblem, self.store.plan.shown, self.store.moments(run.id)
        line = self.written.chosen if self.lines_shown else None
        if line is not None:
            show = (line.name, looked_at(line.text), *show)
        behind = [each for each in runs_behind(self.lesson) if each.id != run.id][:MOST_BESIDE]
        self.graph_card.offer(drawable(replayed), [run_words(self.lesson, each) for each in behind])
        self.graph_card.show_run(
            replayed, findings, marked, show, emblem, aside=bool(run.aside), taken=self.store.taken_points(run.id),
            expected=self.lesson.predictions.of_run(run.id), span=self.lesson.working_up.used_span(run.id),
        )  # fmt: skip
        lay_beside(self.hub, self.graph_card, self.finding_card, replayed, behind)
        show_gone(self.graph_card, replayed)
        self.graph_card.show_level(line, replayed)
        self.named.show(named := self.lesson.working_up.named_spans(run.id))
        curves = self.tried.of_lines(replayed, self.graph_card.span, named) if findings else {}
        curve = self.tried.of(run.id) or next(iter(curves.values()), None)
        self.graph_card.show_curve(curve, replayed.gaps)
        self.residuals_card.show_curve(curve, emblem, replayed.seconds)
        held = self.tried.held(replayed, curve)
        others = self.tried.others(run.id, replayed, curve, self.graph_card.span)
        waits = bool(findings) and self.tried.waits
        self.curve_card.show_curve(curve, held, others, tried=self.tried.of(run.id) is not None, waits=waits)
        by_name = {each.name: each for each in findings}
        self.written.card.show_values([run_value(replayed, by_name, each) for each in self.written.all])
        self.each_card.show_each(replayed, findings, show, emblem)
        self._share_room()
        self.moments_card.show_run(run, replayed, marked)
        if findings and self.under.currentIndex() == ORIGIN:
            self.origin_card.show_steps(origin(self.lesson.book, replayed, findings[0], curves))
