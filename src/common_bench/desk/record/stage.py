"""Stage 4, Record: the class wall, one graph of all groups, runs and moments."""

from __future__ import annotations

import math

from PyQt6.QtWidgets import QGridLayout, QStackedWidget, QWidget

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, button, hbox, label, say
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.record.tile import Tile
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import StageView
from common_bench.model.measured import written

SECONDS = 12.0  # s that a tile shows
GRAPH_SECONDS = 20.0
ROOMY = 9  # tiles up to which each shows everything


class RecordStage(StageView):
    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self.tiles: list[Tile] = []
        self._one_graph = False
        self.all_ready = button("", self.record_all, role="main")
        self.this_one = button("", self.record_this)
        self.moment = button("Mark a moment (M)", self.mark)
        self.switch = button("One graph (G)", self.switch_view)
        self.rule = label("", "soft")
        for at, widget in enumerate((self.all_ready, self.this_one, self.moment, self.switch)):
            self.head.insertWidget(at, widget)
        self.title.hide()
        self.subtitle.hide()
        self.head.addWidget(self.rule)
        self.wall = QWidget()
        self.wall.setObjectName("paper")
        self.grid = QGridLayout(self.wall)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setSpacing(px(11))
        self.graph_card = Card("", name=True)
        self.graph = Graph()
        self.graph_card.add(self.graph)
        self._curves: dict[int, object] = {}
        self.views = QStackedWidget()
        self.views.addWidget(self.wall)
        self.views.addWidget(self.graph_card)
        self.last = Card()
        self.last_words = label("", wrap=False)
        self.to_work = button("Work up (5)", lambda: hub.go("work"), role="link")
        self.last.body.addLayout(hbox(label("Last kept", "name"), self.last_words, None, self.to_work, spacing=14))
        self.last.body.setContentsMargins(px(13), px(5), px(13), px(5))
        self.column.addWidget(self.views, 1)
        self.column.addWidget(self.last)

    def keys(self) -> dict[str, tuple[str, object]]:
        return {
            "R": ("record all that are ready, or end all runs", self.record_all),
            "Space": ("record this bench, or end its run", self.record_this),
            "M": ("mark a moment", self.mark),
            "G": ("one graph or the wall", self.switch_view),
            "L": ("set this bench's condition", self._edit_condition),
        }

    # what is done

    def _recording(self) -> list[int]:
        return [group.id for group in self.hub.lesson.groups if self.hub.lesson.recording(group.id)]

    def record_all(self) -> None:
        recording = self._recording()
        if recording:
            self.hub.lesson.end_runs(recording)
            return
        groups = [group.id for group in self.hub.lesson.groups]
        begun = self.hub.lesson.begin_runs(groups)
        left = [f"{g.alias}: {self.hub.lesson.ready(g.id)}" for g in self.hub.lesson.groups if g.id not in begun]
        if not begun:
            self.hub.tell(f"No bench is ready to record. {' · '.join(left)}", "red")
        elif left:
            self.hub.tell(f"Recording {len(begun)} of {len(groups)} benches. Not ready: {' · '.join(left)}.", "amber")

    def record_this(self) -> None:
        group = self.hub.group
        if not group:
            return
        if self.hub.lesson.recording(group):
            self.hub.lesson.end_runs([group])
        elif not self.hub.lesson.begin_runs([group]):
            self.hub.tell(f"{self.hub.lesson.group(group).alias} cannot record: {self.hub.lesson.ready(group)}.", "red")

    def mark(self) -> None:
        group = self.hub.group
        ear = self.hub.lesson.ear(group) if group else None
        alias = self.hub.lesson.group(group).alias if group else ""
        if ear is None or ear.run is None:
            self.hub.tell(f"{alias} is not recording, so there is no moment to mark.", "amber")
            return
        run, t = ear.run.id, ear.run.seconds
        self.question.ask(
            f"At {t:.1f} s of {alias} run {ear.run.number}:",
            "Mark",
            lambda words: self._keep_moment(run, t, words),
            hint="as: bumped the string",
        )

    def _keep_moment(self, run: int, t: float, words: str) -> None:
        self.hub.lesson.keep_moment(run, t, words.strip() or "marked")

    def switch_view(self) -> None:
        self._one_graph = not self._one_graph
        self.switch.setText("Class wall (G)" if self._one_graph else "One graph (G)")
        self.views.setCurrentIndex(int(self._one_graph))

    def _edit_condition(self) -> None:
        tile = next((tile for tile in self.tiles if tile.group == self.hub.group), None)
        if tile is not None and tile.conditions:
            field = next(iter(tile.conditions.values()))
            field.setFocus()
            field.selectAll()

    # what is seen

    def refresh(self) -> None:
        groups = self.hub.lesson.groups
        wanted = [group.id for group in groups], [c.name for c in self.hub.lesson.plan.conditions]
        if getattr(self, "_built", None) != wanted:
            self._build(groups)
            self._built = wanted
        for tile in self.tiles:
            tile.refresh()
        plan = self.hub.lesson.plan
        say(self.rule, f"Rule: {plan.rule.words}")
        names = self._names()
        kinds = self.hub.lesson.workings.kinds
        unit = kinds[names[0]].unit if names and names[0] in kinds else ""
        say(self.graph_card.heading, f"{names[0] if names else ''} of all groups")
        self.graph.name_axes(f"{names[0] if names else ''} ({unit})", "time before now (s)")
        self._show_last()
        self.breathe()

    def _build(self, groups: list) -> None:
        for tile in self.tiles:
            self.grid.removeWidget(tile)
            tile.setParent(None)
            tile.deleteLater()
        small = len(groups) > ROOMY
        self.tiles = [Tile(self.hub, group, small=small) for group in groups]
        columns = (
            1
            if len(groups) == 1
            else 2
            if len(groups) <= 4
            else 3
            if len(groups) <= 9
            else 4
            if len(groups) <= 16
            else 6
        )
        for at, tile in enumerate(self.tiles):
            self.grid.addWidget(tile, at // columns, at % columns)
        for row in range(6):
            self.grid.setRowStretch(row, 1 if row < math.ceil(len(groups) / columns) else 0)
        for column in range(6):
            self.grid.setColumnStretch(column, 1 if column < columns else 0)
        self.graph.wipe()
        self._curves = {}

    def _show_last(self) -> None:
        lesson = self.hub.lesson
        shown = []
        for run in reversed(lesson.kept_runs()):
            findings = lesson.findings(run.id)
            words = (
                ", ".join(f"{f.name} {written(f.measured.value, f.measured.u, f.measured.unit)}" for f in findings)
                or "no finding"
            )
            shown.append(f"{lesson.group(run.group).alias} run {run.number} · {words}")
            if len(shown) == 2:
                break
        say(self.last_words, "      ".join(shown) or "No runs yet. Press R to record all that are ready.")

    def breathe(self) -> None:
        recording = self._recording()
        ready = sum(1 for group in self.hub.lesson.groups if not self.hub.lesson.ready(group.id))
        text = (
            f"End {len(recording)} run{'s' if len(recording) != 1 else ''} (R)"
            if recording
            else f"Record all {ready} ready (R)"
            if ready
            else "None is ready"
        )
        if self.all_ready.text() != text:
            self.all_ready.setText(text)
        self.all_ready.setEnabled(bool(recording or ready))
        alias = self.hub.lesson.group(self.hub.group).alias if self.hub.group else ""
        mine = f"End {alias} (space)" if self.hub.group in recording else f"Record {alias} (space)"
        if self.this_one.text() != mine:
            self.this_one.setText(mine)
        for tile in self.tiles:
            tile.breathe()

    def _names(self) -> tuple[str, ...]:
        kinds = self.hub.lesson.workings.kinds
        return tuple(name for name in self.hub.lesson.plan.show if name in kinds)

    def draw(self) -> None:
        names = self._names()
        if self._one_graph:
            self._draw_graph(names)
            return
        for tile in self.tiles:
            tile.draw(SECONDS, names)

    def _draw_graph(self, names: tuple[str, ...]) -> None:
        if not names:
            return
        ends: list[tuple[float, object]] = []
        for group in self.hub.lesson.groups:
            ear = self.hub.lesson.ear(group.id)
            if ear is None:
                continue
            if group.id not in self._curves:
                colour = hue(palette(), group.emblem.colour)
                curve = self.graph.line([], [], colour, 1.6)
                words = self.graph.note(f" {group.alias}", 0, 0, colour)
                self._curves[group.id] = (curve, words)
            picture = ear.live.picture(names[0], GRAPH_SECONDS, self.graph.width())
            curve, words = self._curves[group.id]
            words.setVisible(bool(len(picture.t)))
            if len(picture.t):
                curve.setData(picture.t - ear.live.last_t, picture.values, connect="finite")
                latest = ear.live.latest(names[0])
                words.setText(f" {group.alias}{' (a guess)' if latest is not None and latest.guess else ''}")
                ends.append((float(picture.values[-1]), words))
        self._place_names(ends)
        self.graph.setXRange(-GRAPH_SECONDS, GRAPH_SECONDS * 0.08, padding=0)

    def _place_names(self, ends: list) -> None:
        """Names stand at the ends of their lines, moved apart where they would overlap."""
        low, high = self.graph.getPlotItem().getViewBox().viewRange()[1]
        apart = (high - low) * px(15) / max(1, self.graph.height())
        above = -math.inf
        for value, words in sorted((each for each in ends if math.isfinite(each[0])), key=lambda each: each[0]):
            above = max(value, above + apart)
            words.setPos(0.1, above)
