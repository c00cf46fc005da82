"""The cards of the Calibrate stage: the curve, its residuals, is it steady, the points, every bench, the sentence."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication

from common_bench.desk.calibrate.aim import Aim
from common_bench.desk.calibrate.curve_graph import CurveGraph, ResidualGraph
from common_bench.desk.graphs.live_trace import LiveTrace
from common_bench.desk.look.emblems import SYMBOLS
from common_bench.desk.look.labels import ShortLabel, label, set_tip
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Table, button, hbox, names_choice, say, set_property, tick_box
from common_bench.desk.look.sheet import palette
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.calibration_words import (
    Shown,
    grid_heads,
    grid_rows,
    inside_limits,
    not_sent,
    point_rows,
    point_words,
    report,
    sentence_words,
    steady_line,
    steady_numbers,
)
from common_bench.lesson.words import bench_note
from common_bench.model.plan import SensorPlan

STRIP = 20.0  # s of the steady strip
LOOK = 4.0  # s at its end that set its range, so that a large step before does not flatten what counts
ROW = 22  # height of rows
AS_PLANNED = "the plan"


def look_of(hub: Hub) -> tuple[str, str]:
    """Colour and symbol of the selected bench."""
    group = hub.lesson.store.group(hub.group)
    return hue(palette(), group.emblem.colour), SYMBOLS[group.emblem.shape]


class CurveCard(Card):
    """The curve with its points, and which point comes next."""

    def __init__(self, hub: Hub, aim: Aim) -> None:
        super().__init__("", name=True)
        self._hub, self._aim = hub, aim
        self.graph = CurveGraph()
        self.empty = label("", "title", wrap=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.add(self.empty, self.graph)
        aim.moved.connect(self.name_next)

    def name_next(self) -> None:
        sensor, planned = self._aim.sensor, self._aim.planned
        if sensor is None:
            return
        steps = " · ".join(step.split("=")[0].strip() for step in sensor.steps)
        how = sensor.formula if sensor.curve == "formula" else f"reading → {steps} → {sensor.quantity}" if steps else ""
        lesson, group = self._hub.lesson, self._hub.group
        missing = [
            each
            for each in sensor.points
            if group is None or not lesson.calibrating.has_point(group, sensor.channel, each.label)
        ]
        following = (
            "no points planned" if planned is None else f"next: {planned.label}" if missing else "every point is taken"
        )
        say(self.aside, " · ".join(part for part in (following, how) if part))

    def show_curve(self, sensor: SensorPlan, shown: Shown) -> None:
        points = self._aim.own_points or (list(shown.ready.calibration.points) if shown.ready else [])
        say(self.heading, self._hub.alias)
        self.name_next()
        self.empty.setVisible(not points and shown.ready is None)
        self.graph.setVisible(bool(points) or shown.ready is not None)
        planned = self._aim.planned
        lacks = not_sent(self._hub.lesson, self._hub.group, sensor)
        hold = (
            f"No points yet. Hold the sensor at “{planned.label}” and press space."
            if planned and not lacks
            else shown.why
        )
        say(self.empty, hold if shown.ready is None and not points else shown.why)
        self.graph.show_curve(sensor, points, shown.ready, *look_of(self._hub))


class ResidualCard(Card):
    """Residuals, or the kit's calibrations over time."""

    def __init__(self, hub: Hub, aim: Aim) -> None:
        super().__init__("Residuals", name=True)
        self._hub, self._aim = hub, aim
        self.history = False
        self.graph = ResidualGraph()
        self.add(self.graph)

    def show_residuals(self, sensor: SensorPlan, shown: Shown, curve: CurveGraph) -> None:
        points = self._aim.own_points or (list(shown.ready.calibration.points) if shown.ready else [])
        colour, symbol = look_of(self._hub)
        self.setVisible((bool(points) and shown.ready is not None) or self.history)
        say(self.heading, "History" if self.history else "Residuals")
        if self.history:
            kit = self._aim.kit
            kept = self._hub.lesson.calibrating.history(kit, sensor.channel) if kit is not None else []
            words = self.graph.show_history(kept, sensor.unit, colour, symbol)
        elif shown.ready is not None and points:
            words = self.graph.show_residuals(points, shown.ready, colour, symbol, curve)
        else:
            self.graph.wipe()
            words = shown.why
        say(self.aside, words)


class SteadyCard(Card):
    """Is it steady? In words that are read from afar, in numbers, and as a strip."""

    def __init__(self, hub: Hub) -> None:
        super().__init__("Steady?", name=True)
        self._hub = hub
        self.words = ShortLabel("", "soft")
        set_property(self.words, "large", "true")
        self.top.insertWidget(1, self.words)
        self.strip = LiveTrace("#22303C")
        self.numbers = ShortLabel("", "small")
        self.add(self.numbers, self.strip)

    def tick(self, sensor: SensorPlan, shown: Shown) -> None:
        lesson, group = self._hub.lesson, self._hub.group
        words, tone = steady_line(lesson.sensors.steady(group, sensor.channel))
        why = lesson.roster.why_not_ready(group)
        if why not in ("", "recording", "waits"):
            words, tone = bench_note(why), "red"
        elif lack := not_sent(lesson, group, sensor):
            words, tone = lack, "amber"
        say(self.words, words, tone)
        say(self.numbers, steady_numbers(lesson, group, sensor, shown.ready))

    def draw(self, sensor: SensorPlan | None) -> float | None:
        """Draws the strip; gives the raw reading of now, None where nothing is heard."""
        lesson, group = self._hub.lesson, self._hub.group
        state = lesson.roster.state(group) if group else None
        if sensor is None or state is None:
            self.strip.show_picture(np.empty(0), np.empty(0), STRIP, 0.0)
            return None
        self.strip.recolour(lesson.store.group(group).emblem.colour)
        raw = f"raw {lesson.store.column_of(state.kit, sensor.channel)}"
        picture = state.live.picture(raw, STRIP, max(100, self.strip.width()))
        found = lesson.sensors.steady(group, sensor.channel)
        self.strip.show_band(*(inside_limits(found) or (None, None)))
        self.strip.show_picture(picture.t, picture.values, STRIP, state.live.last_t, look=LOOK)
        latest = state.live.latest(raw)
        known = latest is not None and lesson.roster.is_heard(group) and latest.value == latest.value
        return latest.value if latest is not None and known else None


class PointsCard(Card):
    """The table of reference points, where their references come from, and whether they are taken by themselves."""

    def __init__(self, hub: Hub, aim: Aim, add: Callable[[], object], aside: Callable[[], object]) -> None:
        super().__init__("Reference points")
        self._hub, self._aim = hub, aim
        self.table = Table(["held", "reference", "reading", "residual"], left=(0,), stretch=0, edit=(0, 1))
        self.table.set_row(ROW)
        self.table.itemSelectionChanged.connect(self._choose_point)
        self.table.edited.connect(self._edit)
        self.kept_words = label("", "small", wrap=True)
        self.add(self.table, self.kept_words)
        self.top.addWidget(button("Add… (N)", add, role="link"))
        self.top.addWidget(button("Set aside… (X)", aside, role="link"))
        self.automatic = tick_box("by itself when steady (A)")
        set_tip(self.automatic, "Each bench has the point once its reading has come to rest at a new level")
        self.automatic.toggled.connect(self._set_automatic)
        self.against = names_choice(
            tip="Where the reference comes from: the plan, or a bench whose calibration is trusted (B)"
        )
        self.against.activated.connect(self._choose_reference)
        self.body.addLayout(hbox(self.automatic, None, label("reference from", "soft"), self.against, spacing=6))
        aim.moved.connect(self.mark_next)

    def show_points(self, sensor: SensorPlan, shown: Shown) -> None:
        self.table.fill(point_rows(self._hub.lesson, self._hub.group, sensor, shown.ready))
        self.table.fit(9)
        point = self._aim.own_point
        say(self.kept_words, point_words(point) if point else "")
        self.kept_words.setVisible(point is not None)
        self.automatic.setChecked(self._aim.taking.automatic)
        self.mark_next()

    def mark_next(self) -> None:
        self.table.blockSignals(True)
        if self.table.currentRow() != self._aim.at:
            self.table.selectRow(self._aim.at)
        self.table.blockSignals(False)

    def show_references(self) -> None:
        sensor, lesson, taking = self._aim.sensor, self._hub.lesson, self._aim.taking
        trusted = [
            g for g in lesson.store.groups if sensor and lesson.sensors.applied(g.id, sensor.channel) is not None
        ]
        wanted = [(AS_PLANNED, None), *((g.alias, g.id) for g in trusted)]
        if [(self.against.itemText(k), self.against.itemData(k)) for k in range(self.against.count())] != wanted:
            self.against.clear()
            for text, group in wanted:
                self.against.addItem(text, group)
        if taking.against not in [group for _, group in wanted]:
            taking.against = None
        self.against.setCurrentIndex([group for _, group in wanted].index(taking.against))

    def _choose_point(self) -> None:
        row, sensor = self.table.currentRow(), self._aim.sensor
        if sensor and 0 <= row < len(sensor.points) and row != self._aim.at:
            self._aim.go_to(row)

    def _edit(self, row: int, column: int, text: str) -> None:
        sensor = self._aim.sensor
        if sensor and row < len(sensor.points):
            name = text.removeprefix("check ") if column == 0 else ""
            reference = text if column == 1 else ""
            self._hub.try_to(
                lambda: self._hub.lesson.planning.set_point(sensor.channel, row, label=name, reference=reference)
            )
            self.table.refill()

    def _set_automatic(self, on: bool) -> None:
        self._aim.taking.automatic = on

    def _choose_reference(self, at: int) -> None:
        self._aim.taking.against = self.against.itemData(at)
        self._aim.follow()


class ClassCard(Card):
    """Who has which point, how the check came out, who is steady now, and who disagrees with the class."""

    def __init__(self, hub: Hub, aim: Aim) -> None:
        super().__init__("Every bench, this sensor")
        self._hub, self._aim = hub, aim
        self.grid = Table(["bench"], left=(0,))
        self.grid.set_row(ROW)
        self.words = label("", "red", wrap=True)
        self.add(self.grid, self.words)

    def tick(self, sensor: SensorPlan) -> None:
        lesson, taking = self._hub.lesson, self._aim.taking
        heads = grid_heads(sensor)
        if self.grid.columnCount() != len(heads):
            self.grid.setColumnCount(len(heads))
        self.grid.setHorizontalHeaderLabels(heads)
        self.grid.fill(grid_rows(lesson, sensor, taking))
        self.grid.fit()
        found = [each.words for each in lesson.sensors.disagreements(sensor.channel)[:2]]
        point = taking.label
        if point and taking.missing() and lesson.calibrating.bath_has_moved(sensor.channel, point):
            found.append(
                f"What is held has moved since “{point}” was taken. Take it again on all, or press space where it still hangs."
            )
        say(self.words, " ".join(found))
        self.words.setVisible(bool(found))


class SentenceCard(Card):
    """The calibration in a sentence that can be copied, what it is worth, and earlier runs that lack it."""

    def __init__(self, hub: Hub, aim: Aim, apply: Callable[[], object]) -> None:
        super().__init__()
        self._hub, self._aim = hub, aim
        self._shown = Shown(None)
        self.sentence = label("", "name", wrap=True)
        self.worth = label("", "soft", wrap=True)
        for each in (self.sentence, self.worth):
            each.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.copier = button("Copy (Y)", self.copy, role="link", tip="The sentence with its points, for a report")
        self.earlier = button("Apply to earlier runs… (U)", apply, role="link")
        first = hbox(self.sentence, self.copier)
        first.setStretch(0, 1)
        first.setAlignment(self.copier, Qt.AlignmentFlag.AlignTop)
        self.body.addLayout(first)
        self.add(self.worth)
        self.body.addLayout(hbox(None, self.earlier))

    def show_sentence(self, sensor: SensorPlan, shown: Shown) -> None:
        self._shown = shown
        lesson, group = self._hub.lesson, self._hub.group
        head, more = sentence_words(lesson, group, shown, sensor)
        say(self.sentence, head)
        say(self.worth, more)
        self.earlier.setVisible(bool(lesson.applying.runs_before(sensor.channel, [group])))

    def copy(self) -> None:
        sensor, clipboard = self._aim.sensor, QApplication.clipboard()
        if sensor and self._hub.group and clipboard is not None:
            clipboard.setText(report(self._hub.lesson, self._hub.group, self._shown, sensor))
            self._hub.tell("The calibration is copied, with its points; paste it into a report.", "good")
