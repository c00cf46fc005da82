"""Stage 4, Record: the class wall, one graph of all groups, runs and moments."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QStackedWidget, QWidget

from common_bench.desk.graphs.plots import Graph
from common_bench.desk.look.labels import ShortLabel, label
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, button, hbox, say, shortened
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.record.tile import Tile
from common_bench.desk.shell.hub import ActCommand, Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.exchange.tables import with_unit
from common_bench.lesson.store import LessonStore
from common_bench.lesson.words import bench_note
from common_bench.model.bench import Group
from common_bench.model.measured import written

SECONDS = 12.0  # s that a tile shows
GRAPH_SECONDS = 20.0
CROWDED = 16  # tiles beyond which there is room for a name, a number and a trace only
ROOMY = 9  # tiles up to which each shows everything


class RecordStage(StageView):
    """A wall of tiles or one graph; runs begun and ended, each with the way back."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self.tiles: list[Tile] = []
        self._one_graph = False
        self.all_ready = button("", self.record_all, role="main")
        self.this_one = button("", self.record_this)
        self.moment = button("Mark a moment (M)", self.mark)
        self.switch = button("One graph (G)", self.switch_view)
        self.rule = ShortLabel("", "soft")  # beside the actions, as long as there is room
        self.rule.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        for at, widget in enumerate((self.all_ready, self.this_one, self.moment, self.switch)):
            self.head.insertWidget(at, widget)
        self.title.hide()
        self.subtitle.hide()
        self.head.addWidget(self.rule, 1)
        self.wall = QWidget()
        self.wall.setObjectName("paper")
        self.grid = QGridLayout(self.wall)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setSpacing(px(11))
        self.graph_card = Card("", name=True)
        self.graph = Graph()
        self.graph_card.add(self.graph)
        self._curves: dict[int, tuple[Any, Any]] = {}
        self._built: tuple[list[int], list[str]] | None = None
        self.views = QStackedWidget()
        self.views.addWidget(self.wall)
        self.views.addWidget(self.graph_card)
        self.last = Card()
        self.last_words = ShortLabel()
        self.to_work = button("Work up (5)", lambda: hub.go("work"), role="link")
        foot = hbox(label("Last kept", "name"), self.last_words, self.to_work, spacing=14)
        foot.setStretch(1, 1)
        self.last.body.addLayout(foot)
        self.last.body.setContentsMargins(px(13), px(5), px(13), px(5))
        self.column.addWidget(self.views, 1)
        self.column.addWidget(self.last)

    def keys(self) -> Keys:
        return {
            "R": ("record all that are ready, or end all runs", self.record_all),
            "Space": ("record this bench, or end its run", self.record_this),
            "M": ("mark a moment", self.mark),
            "G": ("one graph or the wall", self.switch_view),
            "L": ("set this bench's condition", self._edit_condition),
        }

    # what is done

    def _recording(self) -> list[int]:
        return [group.id for group in self.hub.lesson.store.groups if self.hub.lesson.roster.recording(group.id)]

    def record_all(self) -> None:
        recording = self._recording()
        if recording:
            self._end(recording)
        else:
            self._begin([group.id for group in self.store.groups])

    def record_this(self) -> None:
        group = self.hub.group
        if group:
            if self.lesson.roster.recording(group):
                self._end([group])
            else:
                self._begin([group])

    def _begin(self, groups: list[int]) -> None:
        begun: list[int] = []
        if not self.hub.try_to(lambda: begun.extend(self.lesson.recording.begin_runs(groups))):
            return
        left = [f"{self.store.group(g).alias}: {bench_note(self.lesson.roster.why_not_ready(g))}" for g in groups if g not in begun]  # fmt: skip
        if not begun:
            self.hub.tell(f"Nothing is recorded. {' · '.join(left)}.", "red")
            return
        runs = [run.id for g in begun if (run := self.lesson.roster.run(g)) is not None]
        label = f"Begin {_runs(len(begun))}"
        self._remember(label, lambda: self._unbegin(begun, runs), lambda: self._begin(begun))
        who = f"{len(begun)} of {len(groups)} benches" if left else _names(self.store, begun)
        more = f" Not ready: {' · '.join(left)}." if left else ""
        self.hub.tell(f"Recording {who}.{more}", "amber" if left else "good", act="Take back", then=self.hub.undo)

    def _unbegin(self, groups: list[int], runs: list[int]) -> None:
        """A beginning taken back: the runs end and are set aside; nothing of them is lost."""
        self.lesson.recording.end_runs(groups)
        self.lesson.recording.set_aside_begun(runs)

    def _end(self, groups: list[int]) -> None:
        """Ends runs and says so where it was done, with the way back: they then go on as if nothing had been."""
        last = max((run.seconds for g in groups if (run := self.lesson.roster.run(g)) is not None), default=0.0)
        ended: list[int] = []
        if not self.hub.try_to(lambda: ended.extend(self.lesson.recording.end_runs(groups))):
            return
        self._remember(
            f"End {_runs(len(ended))}", lambda: self.lesson.recording.resume_runs(ended),
            lambda: self.lesson.recording.end_runs(groups),
        )  # fmt: skip
        is_are = "run of " + _names(self.store, groups) if len(ended) == 1 else f"{len(ended)} runs"
        self.hub.tell(
            f"{is_are[:1].upper()}{is_are[1:]} ended at {last:.1f} s and {'is' if len(ended) == 1 else 'are'} kept.", "good",
            act="Take back: go on recording", then=self.hub.undo,
        )  # fmt: skip

    def _remember(self, label: str, undo: Callable[[], object], redo: Callable[[], object]) -> None:
        self.hub.undo_stack.push(ActCommand(label, undo, redo))

    def mark(self) -> None:
        """A remark, stamped with the moment at which the key was pressed."""
        group = self.hub.group
        run = self.lesson.roster.run(group) if group else None
        if run is None:
            self.hub.tell(f"{self.hub.alias} is not recording, so there is no moment to mark.", "amber")
            return
        id, t = run.id, run.seconds
        self.ask(
            f"At {t:.1f} s of {self.hub.alias} run {run.number}:", "Mark", lambda words: self._keep_moment(id, t, words),
            hint=f"as: {', '.join(self.store.plan.remarks) or 'bumped the string'}", offers=self.store.plan.remarks,
        )  # fmt: skip

    def _keep_moment(self, run: int, t: float, words: str) -> None:
        self.lesson.recording.mark(run, t, words.strip() or "marked")
        self.hub.tell(f"Marked at {t:.1f} s: {words.strip() or 'marked'}.", "good", act="Take back", then=self.hub.undo)

    def chosen(self) -> object:
        return self._one_graph

    def choose_again(self, what: object) -> None:
        if what:
            self.switch_view()

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
        groups = self.hub.lesson.store.groups
        wanted = [group.id for group in groups], [c.name for c in self.hub.lesson.store.plan.conditions]
        if self._built != wanted:
            self._build(groups)
            self._built = wanted
        for tile in self.tiles:
            tile.refresh()
        plan = self.hub.lesson.store.plan
        say(self.rule, plan.rule.words)
        names = self._names()
        kinds = self.hub.lesson.store.workings.kinds
        unit = kinds[names[0]].unit if names and names[0] in kinds else ""
        say(self.graph_card.heading, f"{names[0] if names else ''} of all groups")
        self.graph.name_axes(with_unit(names[0] if names else "", unit), "time before now (s)")
        self._show_last()
        self.tick()

    def _build(self, groups: list[Group]) -> None:
        for tile in self.tiles:
            self.grid.removeWidget(tile)
            tile.setParent(None)
            tile.deleteLater()
        small = len(groups) > ROOMY
        tiny = len(groups) > CROWDED
        self.tiles = [Tile(self.hub, group, small=small, tiny=tiny) for group in groups]
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
        for run in reversed(lesson.store.kept_runs()):
            findings = lesson.store.findings(run.id)
            words = (
                ", ".join(f"{f.name} {written(f.measured.value, f.measured.u, f.measured.unit)}" for f in findings)
                or "no finding"
            )
            shown.append(f"{lesson.store.group(run.group).alias} run {run.number} · {words}")
            if len(shown) == 2:
                break
        say(self.last_words, "      ".join(shown) or "No runs yet. Press R to record all that are ready.")

    def tick(self) -> None:
        recording = self._recording()
        ready = sum(1 for group in self.hub.lesson.store.groups if not self.hub.lesson.roster.why_not_ready(group.id))
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
        alias = shortened(self.hub.lesson.store.group(self.hub.group).alias) if self.hub.group else ""
        mine = f"End {alias} (space)" if self.hub.group in recording else f"Record {alias} (space)"
        if self.this_one.text() != mine:
            self.this_one.setText(mine)
        for tile in self.tiles:
            tile.tick()
        named = all(tile.has_room_for_names for tile in self.tiles)  # in all of them or in none
        for tile in self.tiles:
            tile.show_names(named)

    def _names(self) -> tuple[str, ...]:
        kinds = self.hub.lesson.store.workings.kinds
        return tuple(name for name in self.hub.lesson.store.plan.shown if name in kinds)

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
        ends: list[tuple[float, Any]] = []
        for group in self.hub.lesson.store.groups:
            state = self.hub.lesson.roster.state(group.id)
            if state is None:
                continue
            if group.id not in self._curves:
                colour = hue(palette(), group.emblem.colour)
                curve = self.graph.line([], [], colour, 1.6)
                words = self.graph.note(f" {group.alias}", 0, 0, colour)
                self._curves[group.id] = (curve, words)
            picture = state.live.picture(names[0], GRAPH_SECONDS, self.graph.width())
            curve, words = self._curves[group.id]
            words.setVisible(bool(len(picture.t)))
            if len(picture.t):
                curve.setData(picture.t - state.live.last_t, picture.values, connect="finite")
                latest = state.live.latest(names[0])
                words.setText(f" {group.alias}{' (a guess)' if latest is not None and latest.guess else ''}")
                ends.append((float(picture.values[-1]), words))
        self._place_names(ends)
        self.graph.setXRange(-GRAPH_SECONDS, GRAPH_SECONDS * 0.08, padding=0)

    def _place_names(self, ends: list[tuple[float, Any]]) -> None:
        """Names stand at the ends of their lines, moved apart where they would overlap."""
        low, high = self.graph.getPlotItem().getViewBox().viewRange()[1]
        apart = (high - low) * px(15) / max(1, self.graph.height())
        above = -math.inf
        for value, words in sorted((each for each in ends if math.isfinite(each[0])), key=lambda each: each[0]):
            above = max(value, above + apart)
            words.setPos(0.1, above)


def _runs(count: int) -> str:
    return f"{count} run{'s' if count != 1 else ''}"


def _names(store: LessonStore, groups: list[int]) -> str:
    return ", ".join(store.group(group).alias for group in groups)
