"""Stage 4, Record: the class wall, one graph of all groups, runs and moments."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QGridLayout, QStackedWidget, QWidget

from common_bench.desk.look.labels import BesideLabel, ShortLabel, label, set_tip
from common_bench.desk.look.pieces import Card, button, hbox, say, set_property, shortened
from common_bench.desk.look.sheet import px
from common_bench.desk.record.bring_view import BringView
from common_bench.desk.record.expecting import ask_expected
from common_bench.desk.record.groups_graph import GroupsGraph
from common_bench.desk.record.in_turn import CROWDED, InTurn
from common_bench.desk.record.one_bench import OneBench
from common_bench.desk.record.points_view import PointsView
from common_bench.desk.record.replay_bar import ReplayBar
from common_bench.desk.record.run_actions import RunActions
from common_bench.desk.record.tile import Tile
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.lesson.words import tile_sounds
from common_bench.model.bench import Group
from common_bench.model.measured import written

SECONDS = 12.0  # s that a tile shows
ROOMY = 9  # tiles up to which each shows everything
RULE_LINES = 1.7  # that the rule may take beside the actions, since lines end between words


WALL, GRAPH, ONE, POINTS, BRING = 0, 1, 2, 3, 4  # views


class RecordStage(StageView):
    """A wall of tiles or one graph; runs begun and ended, each with the way back."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self.tiles: list[Tile] = []
        self._in_turn = InTurn()
        self.acts = actions = RunActions(hub, self.refresh)
        self._view = WALL
        self._chosen = False  # whether somebody has chosen the view
        self._sounded: set[int] = set()  # benches whose threshold has been heard
        self.all_ready = button("", actions.record_all, role="main")
        self.this_one = button("", actions.record_this)
        self.moment = button("Mark a moment (M)", actions.mark)
        self.switch = button("One graph (G)", self.switch_view)
        self.close_look = button("This bench (B)", self.look_closely)
        self.rule = label("", "small", wrap=True)  # beside the actions
        self.rule.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.rule_under = ShortLabel("", "small")  # in a row of its own, where these leave too little room
        self._actions = self.all_ready, self.this_one, self.moment, self.switch, self.close_look
        for at, widget in enumerate(self._actions):
            self.head.insertWidget(at, widget)
        self.title.hide()
        self.subtitle.hide()
        self.head.addWidget(self.rule, 1)
        self.wall = QWidget()
        self.wall.setObjectName("paper")
        self.grid = QGridLayout(self.wall)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setSpacing(px(11))
        self.graph_card = GroupsGraph(hub)
        self._names_chosen: dict[int, str] = {}  # group, 0 for all -> the quantity that its tile shows first
        self.replay_bar = ReplayBar(hub, self.refresh)
        self._built: tuple[list[int], list[str]] | None = None
        self.views = QStackedWidget()
        self.views.addWidget(self.wall)
        self.views.addWidget(self.graph_card)
        self.one = OneBench(hub)
        self.views.addWidget(self.one)
        self.points = PointsView(hub)
        self.views.addWidget(self.points)
        self.bringing = BringView(hub, lambda: self.show_view(WALL), self.bring_in)
        self.views.addWidget(self.bringing)
        self.again = button("Take again (Backspace)", self.acts.take_again)
        self.take = button("", actions.take_points, role="main")
        self.head.addWidget(self.again)
        self.head.addWidget(self.take)
        self.last = Card()
        self.last_words = BesideLabel()
        self.choose = button("Choose files… (I)", self.bringing.choose_files, role="link")
        self.to_work = button("Work up (5)", lambda: hub.go("work"), role="link")
        foot = hbox(label("Last kept", "name"), self.last_words, self.choose, self.to_work, spacing=14)
        foot.setStretch(1, 1)
        self.last.body.addLayout(foot)
        self.last.body.setContentsMargins(px(13), px(5), px(13), px(5))
        self.column.addWidget(self.rule_under)
        self.column.addWidget(self.replay_bar)
        self.column.addWidget(self.views, 1)
        self.column.addWidget(self.last)

    def keys(self) -> Keys:
        return {
            "R": ("record all that are ready, or end all runs", self.acts.record_all),
            "Space": ("record this bench, or end its run", self.acts.record_this),
            "Backspace": ("take the last point of this bench again (point by point)", self.acts.take_again),
            "P": (
                "take a point of this bench alone (point by point)",
                lambda: self.acts.take_points([self.hub.group]),
            ),
            "M": ("mark a moment", self.acts.mark),
            "A": ("mark a moment on all that record", lambda: self.acts.mark(everywhere=True)),
            "G": ("one graph or the wall", self.switch_view),
            "B": ("this bench alone, or the wall", self.look_closely),
            "I": ("bring in files that kits logged on their own…", self.bringing.choose_files),
            "C": ("set the conditions that are asked of runs", self.acts.questions.ask),
            "V": ("another way to draw all groups", lambda: self._in_graph(self.graph_card.next_kind)),
            "J": (
                "lay all groups over one another at another moment",
                lambda: self._in_graph(self.graph_card.next_alignment),
            ),
            "Q": ("the next quantity, of all", lambda: self._next_name(0)),
            "W": ("the next quantity, of this bench's tile", lambda: self._next_name(self.hub.group)),
            "E": ("draw what this bench expects of its next run", self.expect),
            "U": ("one standard uncertainty about the lines of this bench", self._turn_band),
            "Z": ("a run that is played again stands still, or goes on", self.replay_bar.pause),
            "F": ("a run that is played again goes faster", self.replay_bar.faster),
            "S": ("a run that is played again goes slower", self.replay_bar.slower),
            "N": ("follow the time again (this bench)", self.one.back_to_now),
            "+": ("a shorter time (this bench)", lambda: self.one.zoom(0.5)),
            "-": ("a longer time (this bench)", lambda: self.one.zoom(2.0)),
            ",": ("earlier (this bench)", lambda: self.one.pan(-0.25)),
            ".": ("later (this bench)", lambda: self.one.pan(0.25)),
            "L": ("set this bench's condition", self._edit_condition),
            "<": ("this bench one place earlier in the room", lambda: self._arrange(self.hub.group, -1)),
            ">": ("this bench one place later in the room", lambda: self._arrange(self.hub.group, 1)),
            **self.bringing.keys(),
        }

    # what is done

    def record_all(self) -> None:
        self.acts.record_all()

    def chosen(self) -> object:
        return self._view, dict(self._names_chosen), self.graph_card.chosen()

    def choose_again(self, what: object) -> None:
        if isinstance(what, tuple):
            view, self._names_chosen, graph = what
            self.graph_card.choose_again(graph)
            self.show_view(view)

    def escape(self) -> bool:
        """Leaves files that are looked at, or a run that is played again."""
        if self._view == BRING:
            self.bringing.leave()
            return True
        return self.replay_bar.stop()

    def bring_in(self, paths: Sequence[Path]) -> None:
        """Looks at files that were dropped or chosen."""
        if self.bringing.look_at(paths):
            self.show_view(BRING)

    def _arrange(self, group: int, by: int) -> None:
        ids = [each.id for each in self.store.groups]
        if group in ids and 0 <= ids.index(group) + by < len(ids):
            self.hub.try_to(lambda: self.lesson.register.arrange(group, ids.index(group) + by))

    def _dropped(self, group: int, on: int) -> None:
        """A tile was dragged onto another: it takes that one's place."""
        ids = [each.id for each in self.store.groups]
        if group in ids and on in ids and group != on:
            self.hub.try_to(lambda: self.lesson.register.arrange(group, ids.index(on)))

    def _in_graph(self, act: Callable[[], object]) -> None:
        if self._view != GRAPH:
            self.show_view(GRAPH)
        act()

    def _next_name(self, group: int) -> None:
        """The next quantity first: of one tile, or of all (0); in the graph of all groups, there."""
        if self._view == GRAPH and not group:
            self.graph_card.next_name()
            return
        names = self._names(group)
        if len(names) > 1:
            self._names_chosen[group] = names[1]
            if not group:
                self._names_chosen = {0: names[1]}
            self.hub.tell(f"{names[1]} first{'' if not group else f' on {self.hub.alias}'}.", "good")

    def _turn_band(self) -> None:
        if self._view != ONE:
            self.show_view(ONE)
        self.one.turn_band()

    def play_again(self, run: int) -> None:
        """A run of the selected bench, in the views of this stage as if it were live."""
        if self.hub.try_to(lambda: self.lesson.replays.play(run)):
            self.show_view(ONE)

    def expect(self) -> None:
        """What this bench expects of its next run, drawn with the mouse or typed."""
        if self.hub.group:
            self.show_view(ONE)
            ask_expected(self.hub, self.one)

    def switch_view(self) -> None:
        """One graph of all groups, or the wall."""
        self.show_view(
            GRAPH if self._view == WALL else POINTS if self.acts.by_points and self._view != POINTS else WALL
        )

    def look_closely(self) -> None:
        """The selected bench alone, or the wall."""
        self.show_view(ONE if self._view != ONE else WALL)

    def show_view(self, view: int) -> None:
        self._view = view
        self._chosen = True
        self.switch.setText("One graph (G)" if view == WALL else "Class wall (G)")
        set_property(self.close_look, "chosen", view == ONE)
        self.views.setCurrentIndex(view)
        self.refresh()

    def _edit_condition(self) -> None:
        tile = next((tile for tile in self.tiles if tile.group == self.hub.group), None)
        if tile is not None and tile.conditions:
            field = next(iter(tile.conditions.values()))
            field.setFocus()
            field.selectAll()

    # what is seen

    def refresh(self) -> None:
        groups = self.hub.lesson.store.groups
        if self.acts.by_points and not self._chosen:
            self.show_view(POINTS)
            return
        points = self.acts.by_points and self._view == POINTS  # its own actions, and no others
        for each in (self.all_ready, self.switch, self.last):
            each.setVisible(self._view != BRING)
        for each in (self.again, self.take):
            each.setVisible(points)
        for other in (self.this_one, self.moment, self.close_look):
            other.setVisible(not points and self._view != BRING)
        self._show_rule(shown=not points and self._view != BRING)
        set_property(self.all_ready, "role", "main" if not (points and self.acts.busy()) else "")
        wanted = [group.id for group in groups], [c.name for c in self.hub.lesson.store.plan.stated]
        if self._built != wanted:
            self._build(groups)
            self._built = wanted
        for tile in self.tiles:
            tile.refresh()
        self.graph_card.show_names()
        self.replay_bar.refresh()
        self._show_last()

    def _show_rule(self, *, shown: bool) -> None:
        words = self.hub.lesson.store.plan.rule.words
        room = self.width() - sum(each.sizeHint().width() + px(14) for each in self._actions if not each.isHidden())
        beside = self.rule.fontMetrics().horizontalAdvance(words) < RULE_LINES * room
        for each, here in ((self.rule, beside), (self.rule_under, not beside)):
            say(each, words)
            each.setVisible(shown and here)
        set_tip(self.rule, words)
        if self._view == ONE:
            self.one.refresh()
        if self._view == POINTS:
            self.points.refresh()
        self.tick()

    def _build(self, groups: list[Group]) -> None:
        for tile in self.tiles:
            self.grid.removeWidget(tile)
            tile.hide()
            tile.deleteLater()
        small = len(groups) > ROOMY
        tiny = len(groups) > CROWDED
        self._in_turn.begin_anew()
        self.tiles = [Tile(self.hub, group, self._dropped, small=small, tiny=tiny) for group in groups]
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
        self.graph_card.wipe()

    def _show_last(self) -> None:
        lesson = self.hub.lesson
        shown = []
        for run in reversed(lesson.store.kept_runs()):
            findings = lesson.store.findings(run.id)
            words = (
                ", ".join(f"{f.name} {written(f.measured.value, f.measured.u, f.measured.unit)}" for f in findings)
                or "no finding"
            )
            shown.append(f"{self.hub.name_of(run.group)} run {run.number} · {words}")
            if len(shown) == 2:
                break
        say(self.last_words, "      ".join(shown) or self._no_runs)

    @property
    def _no_runs(self) -> str:
        if self.acts.busy():
            return "No runs yet: the first are under way."
        ready = [group for group in self.store.groups if not self.hub.lesson.roster.why_not_ready(group.id)]
        return "No runs yet. Press R to record all that are ready." if ready else "No runs yet: no bench is ready."

    def tick(self) -> bool:
        """Whether tiles are left that have not been looked at: of many, some at a time."""
        recording = self.acts.busy()
        able, lacking = self.acts.able()
        ready = len(able) - len(lacking) or len(able)
        text = (
            f"{'End' if self.acts.any_runs() else 'Call off'} {len(recording)} run{'s' if len(recording) != 1 else ''} (R)"
            if recording
            else f"Record {ready} anyway (R)"
            if len(able) == len(lacking) and able
            else f"Record all {ready} ready (R)"
            if ready
            else "None is ready"
        )
        if self.all_ready.text() != text:
            self.all_ready.setText(text)
        self.all_ready.setEnabled(bool(recording or ready))
        alias = shortened(self.hub.alias, 11)
        waits = self.lesson.roster.why_not_ready(self.hub.group) == "waits" if self.hub.group else False
        mine = f"{'Call off' if waits else 'End' if self.hub.group in recording else 'Record'} {alias} (space)"
        if self.this_one.text() != mine:
            self.this_one.setText(mine)
        self.replay_bar.refresh()
        self._sound()
        if self._view == ONE:
            self.one.tick()
        if self._view == POINTS:
            self.points.tick()
            self._say_take()
        more = self._view == WALL and self._in_turn.look(self.tiles)
        named = all(tile.has_room_for_names for tile in self.tiles)  # in all of them or in none
        brief = not all(tile.has_room_for_state for tile in self.tiles)
        for tile in self.tiles:
            tile.show_names(named and not brief)
            tile.is_brief = brief
        return more

    def _say_take(self) -> None:
        """What the one main action does now."""
        value, taking = self.lesson.point_taking.class_value(), self.lesson.point_taking
        visited = self.store.plan.visited
        ready = sum(1 for g in self.store.groups if taking.state(g.id).state == "steady")
        unit = visited.unit if visited is not None else ""
        words = f"Take {value:g} {unit} on {ready} steady (space)" if value is not None else "Take (space)"
        if not self.acts.busy() and value is None:
            left = any(taking.next_value(g.id) is not None for g in self.store.groups)
            words = "Begin first: R" if left else "All points are taken"
        if self.take.text() != words:
            self.take.setText(words)
        self.take.setEnabled(ready > 0)

    def _names(self, group: int = 0) -> tuple[str, ...]:
        """What a tile shows, the most important first: as the plan has it, or begun with what was chosen."""
        return self._begun_with(self._shown(), group)

    def _shown(self) -> list[str]:
        kinds = self.hub.lesson.store.workings.kinds
        return [name for name in self.hub.lesson.store.plan.shown if name in kinds]

    def _begun_with(self, names: list[str], group: int) -> tuple[str, ...]:
        first = self._names_chosen.get(group) or self._names_chosen.get(0)
        at = names.index(first) if first in names else 0
        return tuple(names[at:] + names[:at])

    def _sound(self) -> None:
        """A threshold that was passed since the last look is heard, where the plan says so."""
        now = {group.id for group in self.store.groups if tile_sounds(self.lesson, group.id)}
        if now - self._sounded:
            QApplication.beep()
        self._sounded = now

    def draw(self) -> None:
        if self._view == GRAPH:
            self.graph_card.draw()
            return
        if self._view == ONE:
            self.one.draw()
            return
        if self._view == POINTS:
            self.points.draw()
            return
        seen, shown = self.lesson.all_seen([tile.group for tile in self.tiles]), self._shown()
        chosen = shown, dict(self._names_chosen)
        for tile in self.tiles:
            if tile.has_drawn(state := seen[tile.group], chosen):
                continue
            tile.draw(SECONDS, self._begun_with(shown, tile.group), state)
