"""Stage 5, Work up: a run with its span, each value at its events, the finding and what it is made of."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QLineEdit

from common_bench.desk.graphs.plots import Graph, pen, translucent
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Table, button, hbox, label, say, set_property, vbox
from common_bench.desk.look.sheet import palette
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import StageView
from common_bench.lesson import actions
from common_bench.lesson.words import age_words
from common_bench.model.block import Events, Series
from common_bench.model.measured import plain, written
from common_bench.model.run import Finding, Run
from common_bench.model.trouble import Trouble
from common_bench.record.live import Picture, thinned
from common_bench.record.replay import Replayed, quantities

NUDGE = 0.5  # s


class WorkStage(StageView):
    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self._run = 0
        self.take_aside = button("Set this run aside… (X)", self.ask_aside)
        self.send = button("Send findings to the pool (P)", self.send_to_pool, role="main")
        self.head.addWidget(self.take_aside)
        self.head.addWidget(self.send)
        self.graph_card = Card("", name=True)
        self.graph = Graph()
        self.graph_card.add(self.graph)
        self.region = pg.LinearRegionItem(brush=translucent(palette().copper, 18), pen=pen(palette().copper, 2))
        self.region.sigRegionChangeFinished.connect(self._drawn_span)
        self.each_card = Card("", name=True)
        self.each = Graph()
        self.each_card.add(self.each)
        self.moments_card = Card("Moments", name=True)
        self.moments = label("", wrap=True)
        self.moments_card.add(self.moments)
        left = vbox(self.graph_card, self.each_card, self.moments_card, spacing=11)
        for at, share in enumerate((10, 6, 0)):
            left.setStretch(at, share)
        self.finding_card = Card("Finding")
        self.finding = label("", "finding", wrap=True)
        self.finding_words = label("", "soft", wrap=True)
        self.made_of = Table(["what its uncertainty is made of", ""], left=(0,))
        self.finding_card.add(self.finding, self.finding_words, self.made_of)
        self.condition_card = Card("Conditions of this run")
        self._condition_fields: dict[str, QLineEdit] = {}
        self.workings_card = Card("Workings of this run")
        self.workings = label("", "mono", wrap=True)
        self.workings_card.add(self.workings)
        self.runs_card = Card("Runs")
        self.runs = Table(["run", "", "state"], left=(0, 2), stretch=1)
        self.runs.itemSelectionChanged.connect(self._choose_row)
        self.runs_card.add(self.runs)
        right = vbox(self.finding_card, self.condition_card, self.workings_card, self.runs_card, None, spacing=11)
        body = hbox(left, right, spacing=11)
        body.setStretch(0, 66)
        body.setStretch(1, 34)
        self.column.addLayout(body, 1)

    def keys(self) -> dict[str, tuple[str, object]]:
        return {
            "Right": ("next run", lambda: self._step(1)),
            "Left": ("previous run", lambda: self._step(-1)),
            "P": ("send this bench's findings to the pool", self.send_to_pool),
            "X": ("set this run aside or take it back", self.ask_aside),
            "[": ("span begins later", lambda: self._nudge(NUDGE, 0)),
            "]": ("span ends earlier", lambda: self._nudge(0, -NUDGE)),
            "{": ("span begins earlier", lambda: self._nudge(-NUDGE, 0)),
            "}": ("span ends later", lambda: self._nudge(0, NUDGE)),
            "A": ("use all of the run", self._use_all),
        }

    # which run

    def _own_runs(self) -> list[Run]:
        return [run for run in self.hub.lesson.runs(self.hub.group) if run.state == "closed"] if self.hub.group else []

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

    def _drawn_span(self) -> None:
        run = self._current()
        if run is None or self._showing:
            return
        low, high = (round(float(each), 3) for each in self.region.getRegion())
        self._choose(run, max(0.0, low), high)

    def _choose(self, run: Run, low: float, high: float) -> None:
        findings = self.hub.lesson.findings(run.id)
        if findings and findings[0].span == (low, high):
            return
        if not self.hub.try_to(lambda: actions.choose_span(self.hub.lesson, run.id, (low, high))):
            self.refresh()

    def _nudge(self, begin: float, end: float) -> None:
        run = self._current()
        if run is None:
            return
        low, high = self.region.getRegion()
        self._choose(run, round(max(0.0, low + begin), 3), round(min(self._seconds, high + end), 3))

    def _use_all(self) -> None:
        run = self._current()
        if run is not None:
            self._choose(run, 0.0, self._seconds)

    def send_to_pool(self) -> None:
        runs = (
            [run.id for run in self.hub.lesson.kept_runs(self.hub.group) if run.id not in self.hub.lesson.pooled()]
            if self.hub.group
            else []
        )
        alias = self.hub.lesson.group(self.hub.group).alias if self.hub.group else ""
        if not runs:
            self.hub.tell(f"{alias} has no run that is not in the pool already.", "amber")
        elif self.hub.try_to(lambda: actions.send_to_pool(self.hub.lesson, runs)):
            self.hub.tell(f"{alias}: {len(runs)} run{'s' if len(runs) != 1 else ''} sent to the pool.", "good")

    def ask_aside(self) -> None:
        run = self._current()
        if run is None:
            return
        if run.aside:
            self.hub.try_to(lambda: actions.take_back_run(self.hub.lesson, run.id))
            return
        alias = self.hub.lesson.group(run.group).alias
        self.question.ask(
            f"Why is {alias} run {run.number} set aside?", "Set aside", lambda why: actions.set_aside_run(self.hub.lesson, run.id, why),
            hint="as: bumped the string",
        )  # fmt: skip

    def _set_condition(self, name: str, field: QLineEdit) -> None:
        run = self._current()
        if run is None:
            return
        kept = self.hub.lesson.run_conditions(run.id).get(name)
        text = field.text().strip()
        if text in ("", str(kept) if kept else ""):
            return
        worked = self.hub.try_to(lambda: actions.set_run_condition(self.hub.lesson, run.id, name, text))
        set_property(field, "wrong", not worked)

    # what is seen

    _showing = False
    _seconds = 0.0

    def refresh(self) -> None:
        run = self._current()
        alias = self.hub.lesson.group(self.hub.group).alias if self.hub.group else ""
        for card in (
            self.each_card,
            self.moments_card,
            self.finding_card,
            self.condition_card,
            self.workings_card,
            self.runs_card,
        ):
            card.setVisible(run is not None)
        self.send.setEnabled(run is not None)
        self.take_aside.setVisible(run is not None)
        self.graph.wipe()
        if run is None:
            say(self.title, f"{alias} has no run yet" if alias else "No runs yet")
            say(self.subtitle, "")
            say(self.graph_card.heading, "Record one in stage 4, or choose another bench with the arrow keys.")
            say(self.graph_card.aside, "")
            return
        self._run = run.id
        self.take_aside.setText("Take this run back (X)" if run.aside else "Set this run aside… (X)")
        self._show_runs()
        self._show_conditions(run)
        say(self.workings, "\n".join(run.setting.workings) if run.setting else "")
        say(self.title, f"{alias} · run {run.number}")
        findings = self.hub.lesson.findings(run.id)
        self._show_finding(run, findings)
        try:
            replayed = self.hub.lesson.replayed(run.id)
        except Trouble as trouble:
            say(self.subtitle, trouble.sentence)
            return
        self._seconds = replayed.seconds
        self._say_subtitle(run, replayed)
        self._draw_run(run, replayed, findings)
        self._draw_each(replayed, findings)
        moments = [f"{m.t:.1f} s {m.text}" for m in self.hub.lesson.moments(run.id)]
        gaps = [f"{low:.1f} s gap of {high - low:.1f} s" for low, high in replayed.gaps]
        say(self.moments, " · ".join([*moments, *gaps, f"{replayed.seconds:.1f} s {run.ended_by}"]))

    def _say_subtitle(self, run: Run, replayed: Replayed) -> None:
        conditions = [f"{name} {value}" for name, value in self.hub.lesson.run_conditions(run.id).items()]
        used = run.setting.calibrations if run.setting else ()
        calibration = f"calibration of {age_words(used[0].made_at)}" if used else "not calibrated"
        if run.setting and run.setting.applied_at:
            calibration += ", applied afterwards"
        parts = [*conditions, f"{replayed.seconds:.1f} s", f"{plain(len(replayed.t), 0)} readings", calibration]
        if run.aside:
            parts.append(f"set aside: {run.aside}")
        say(self.subtitle, " · ".join(parts))

    def _draw_run(self, run: Run, replayed: Replayed, findings: list[Finding]) -> None:
        self._showing = True
        colour = hue(palette(), self.hub.lesson.group(run.group).emblem.colour)
        known = quantities(replayed)
        names = [name for name in self.hub.lesson.plan.show if name in known] or list(known)
        name = names[0] if names else ""
        series = known.get(name)
        if series is None or not np.isfinite(series.values).any():
            channel = next(iter(replayed.raw), "")
            values, unit, name = replayed.raw.get(channel, np.empty(0)), "raw", channel
        else:
            values, unit = series.values, series.unit
        t, values = _broken(replayed.t, values, replayed.gaps)
        picture = thinned(Picture(t, values), max(300, self.graph.width()), max(replayed.seconds, 1e-9))
        self.graph.line(picture.t, picture.values, colour, 1.5)
        if series is not None and series.guess is not None and series.guess.any():
            guessed = _broken(replayed.t, np.where(series.guess, series.values, np.nan), replayed.gaps)
            self.graph.line(*guessed, palette().card, 2.4, dashed=True)
            at = int(np.argmax(series.guess))
            words = f" broken: outside the calibration, a guess ({series.guess.mean():.0%})"
            self.graph.note(words, float(replayed.t[at]), float(series.values[at]), palette().amber)
        self.graph.name_axes(f"{name} ({unit})", "time (s)")
        for low, high in replayed.gaps:
            shade = pg.LinearRegionItem(
                (low, high), movable=False, brush=translucent(palette().amber, 70), pen=pen(palette().card, 0)
            )
            self.graph.addItem(shade)
        self._draw_events(replayed, series)
        span = findings[0].span if findings else (0.0, replayed.seconds)
        self.region.setBounds((0.0, replayed.seconds))
        self.region.setRegion(span)
        self.graph.addItem(self.region)
        self.graph.setXRange(0, replayed.seconds, padding=0.02)
        known_values = values[np.isfinite(values)]
        if len(known_values):
            room = 0.12 * float(np.ptp(known_values) or 1.0)
            self.graph.setYRange(float(known_values.min()) - room, float(known_values.max()) + 1.6 * room, padding=0)
            top = float(known_values.max()) + 1.5 * room
            self.graph.note(
                f" used: {span[0]:.1f} s to {span[1]:.1f} s (drag the edges)",
                span[0],
                top,
                palette().copper,
                anchor=(0, 0),
            )
        say(self.graph_card.heading, name)
        say(self.graph_card.aside, "" if findings else "no finding yet: drag the edges of the span")
        self._showing = False

    def _draw_events(self, replayed: Replayed, series: Series | None) -> None:
        events = next((each for each in replayed.results.values() if isinstance(each, Events) and len(each)), None)
        if events is None or series is None:
            return
        heights = np.interp(events.t, series.t, series.values)
        spread = float(np.nanmax(series.values) - np.nanmin(series.values))
        self.graph.points(events.t, heights + 0.06 * spread, "t", palette().ink, size=7)

    def _draw_each(self, replayed: Replayed, findings: list[Finding]) -> None:
        self.each.wipe()
        each = next(
            (
                r
                for n, r in replayed.results.items()
                if isinstance(r, Series) and r.since is not None and n in self.hub.lesson.plan.show and len(r)
            ),
            None,
        )
        name = next((n for n, r in replayed.results.items() if r is each), "")
        self.each_card.setVisible(each is not None)
        if each is None or not findings:
            return
        colour = hue(palette(), self.hub.lesson.group(self.hub.group).emblem.colour)
        span = findings[0].span
        used = (each.began >= span[0]) & (each.t <= span[1]) & np.isfinite(each.values)
        say(self.each_card.heading, f"Each {name}")
        say(self.each_card.aside, f"{name} ({each.unit}) in order · mean ± scatter shaded")
        if used.any():
            mean, scatter = float(each.values[used].mean()), float(each.values[used].std())
            ends = np.array([float(each.t[0]), float(each.t[-1])])
            self.each.band(ends, np.full(2, mean - scatter), np.full(2, mean + scatter), colour, 35)
            self.each.level(mean, colour)
            self.each.points(each.t[used], each.values[used], "o", colour, size=8)
        if (~used).any():
            self.each.points(each.t[~used], each.values[~used], "o", palette().soft, size=8, faint=True)
        self.each.name_axes(f"{name} ({each.unit})", "time (s)")
        self.each.setXRange(0, replayed.seconds, padding=0.02)
        self.each.frame_values(each.values)

    def _show_finding(self, run: Run, findings: list[Finding]) -> None:
        if not findings:
            try:
                self.hub.lesson.worked_up(run.id, None)
                why = ""
            except Trouble as trouble:
                why = trouble.sentence
            say(self.finding, "no finding")
            say(self.finding_words, why)
            self.made_of.hide()
            return
        first = findings[0]
        say(
            self.finding,
            "\n".join(f"{f.name} = {written(f.measured.value, f.measured.u, f.measured.unit)}" for f in findings),
        )
        say(self.finding_words, first.words)
        decimals = 5
        self.made_of.show()
        self.made_of.fill(
            [[share.name, f"{plain(share.u, decimals)} {first.measured.unit}"] for share in first.made_of]
        )
        self.made_of.fit(6)

    def _show_conditions(self, run: Run) -> None:
        conditions = self.hub.lesson.plan.conditions
        if list(self._condition_fields) != [each.name for each in conditions]:
            for field in self._condition_fields.values():
                field.parentWidget() and field.deleteLater()
            self._condition_fields = {}
            for condition in conditions:
                field = QLineEdit()
                field.setToolTip(condition.about)
                field.editingFinished.connect(lambda n=condition.name, f=field: self._set_condition(n, f))
                self._condition_fields[condition.name] = field
                self.condition_card.body.addLayout(hbox(label(condition.name), field))
        kept = self.hub.lesson.run_conditions(run.id)
        for name, field in self._condition_fields.items():
            if not field.hasFocus():
                field.setText(str(kept[name]) if name in kept else "")
                field.setPlaceholderText("not known yet")
                set_property(field, "wrong", False)
        self.condition_card.setVisible(bool(conditions))

    def _show_runs(self) -> None:
        lesson = self.hub.lesson
        rows = []
        for run in self._own_runs():
            findings = lesson.findings(run.id)
            value = (
                written(findings[0].measured.value, findings[0].measured.u, findings[0].measured.unit)
                if findings
                else "—"
            )
            state = (
                ("set aside", "amber")
                if run.aside
                else ("in the pool", "good")
                if run.id in lesson.pooled()
                else ("kept", "")
            )
            rows.append([f"run {run.number}", value, state])
        self.runs.fill(rows)
        self.runs.fit(7)
        self.runs.blockSignals(True)
        at = next((at for at, run in enumerate(self._own_runs()) if run.id == self._run), -1)
        self.runs.selectRow(at)
        self.runs.blockSignals(False)


def _broken(t: np.ndarray, values: np.ndarray, gaps: list[tuple[float, float]]) -> tuple[np.ndarray, np.ndarray]:
    """The line with a break in each gap, so that nothing is drawn across it."""
    at = np.searchsorted(t, [high for _, high in gaps])
    return np.insert(t, at, t[np.minimum(at, len(t) - 1)]), np.insert(values, at, np.nan)
