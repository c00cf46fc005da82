"""Stage 3, Calibrate: reference points, the curve through them, its residuals, is it steady, every bench at once."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QCheckBox, QComboBox, QWidget

from common_bench.calibrate.curves import CURVES, KINDS
from common_bench.desk.calibrate.apply_panel import ApplyPanel
from common_bench.desk.calibrate.asking import Asking
from common_bench.desk.calibrate.curve_graph import CurveGraph, ResidualGraph
from common_bench.desk.graphs.plots import LiveTrace
from common_bench.desk.look.emblems import SYMBOLS
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, Table, button, hbox, label, say, scrolled, set_property, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import StageView
from common_bench.lesson import calibrating, reworking
from common_bench.lesson.calibration_words import (
    Shown,
    curve_shown,
    grid_heads,
    grid_rows,
    inside_limits,
    point_rows,
    point_words,
    report,
    sentence_words,
    steady_line,
    steady_numbers,
)
from common_bench.model.calibration import PlannedPoint, ReferencePoint
from common_bench.model.plan import SensorPlan

STRIP = 20.0  # s of the steady strip
LOOK = 4.0  # s at its end that set its range, so that a large step before does not flatten what counts
AS_PLANNED = "the plan says"
RIGHT = 456  # width of the right column
MOST_RIGHT = 470  # in the projector theme too, or the graphs have no room
ROW = 24  # height of its rows


class CalibrateStage(Asking, StageView):
    def __init__(self, hub: Hub, offer: Callable[[str], None]) -> None:
        super().__init__(hub)
        self._offer = offer
        self._at = self._sensor_at = 0
        self._history = False
        self._shown = Shown(None)
        self.taking = calibrating.Taking(hub.lesson)
        self._build_head()
        self._build_left()
        self._build_right()

    # building

    def _build_head(self) -> None:
        self.curve_kind = QComboBox()
        self.curve_kind.addItems(KINDS)
        self.curve_kind.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.curve_kind.setMinimumContentsLength(19)
        self.subtitle.setMinimumWidth(1)
        self.curve_kind.setToolTip("Which curve goes through the points (C)")
        self.curve_kind.activated.connect(lambda at: self._choose_curve(KINDS[at]))
        self.take = button("", self.take_point)
        self.keep = button("Keep calibration (K)", self.keep_calibration, role="main")
        self.head.insertWidget(1, self.curve_kind)
        self.head.addWidget(self.take)
        self.head.addWidget(self.keep)
        self.apply_panel = ApplyPanel(self._apply_to_runs, self._leave_earlier)
        self.column.addWidget(self.apply_panel)

    def _build_left(self) -> None:
        self.curve_card = Card("", name=True)
        self.curve = CurveGraph()
        self.empty = label("", "title", wrap=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.curve_card.add(self.empty, self.curve)
        self.residual_card = Card("Residuals", name=True)
        self.residuals = ResidualGraph()
        self.residual_card.add(self.residuals)
        self.steady_card = Card("Steady?", name=True)
        self.steady_words = label("", "soft")
        set_property(self.steady_words, "large", "true")
        self.steady_card.body.itemAt(0).layout().insertWidget(1, self.steady_words)
        self.strip = LiveTrace("#22303C")
        self.steady_numbers = label("", "small")
        for each in (self.steady_words, self.steady_numbers):
            each.setMinimumWidth(1)
        self.steady_card.add(self.steady_numbers, self.strip)
        self._left = vbox(self.curve_card, self.residual_card, self.steady_card, spacing=11)
        for at, share in enumerate((22, 10, 11)):
            self._left.setStretch(at, share)

    def _build_right(self) -> None:
        self.points_card = Card("Reference points")
        self.points = Table(["held", "reference", "reading", "residual"], left=(0,), stretch=1, edit=(0, 1))
        self.points.itemSelectionChanged.connect(self._choose_point)
        self.points.edited.connect(self._edit_point)
        self.kept_words = label("", "small", wrap=True)
        self.points_card.add(self.points, self.kept_words)
        heading = self.points_card.body.itemAt(0).layout()
        heading.addWidget(button("Add… (N)", self._ask_new_point, role="link"))
        heading.addWidget(button("Set aside… (X)", self._ask_aside, role="link"))
        self.automatic = QCheckBox("by itself when steady (A)")
        self.automatic.toggled.connect(self._set_automatic)
        self.against = QComboBox()
        self.against.setToolTip("Where the reference comes from: the plan, or a bench whose calibration is trusted (B)")
        self.against.activated.connect(self._choose_reference)
        self.points_card.body.addLayout(hbox(self.automatic, None, label("as", "soft"), self.against))
        self.class_card = Card("Every bench, this sensor")
        self.grid = Table(["bench"], left=(0,))
        self.class_words = label("", "red", wrap=True)
        self.class_card.add(self.grid, self.class_words)
        for table in (self.points, self.grid):
            table.set_row(ROW)
        self.sentence_card = Card()
        self.sentence = label("", "name", wrap=True)
        self.worth = label("", "soft", wrap=True)
        for each in (self.sentence, self.worth):
            each.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.copy = button("Copy (Y)", self._copy, role="link", tip="The sentence with its points, for a report")
        self.earlier = button("", self.ask_apply, role="link")
        self.sentence_card.add(self.sentence, self.worth)
        self.sentence_card.body.addLayout(hbox(self.copy, None, self.earlier))
        right = scrolled(vbox(self.points_card, self.class_card, self.sentence_card, None, spacing=11))
        right.setFixedWidth(min(px(RIGHT), MOST_RIGHT))
        body = hbox(self._left, right, spacing=11)
        body.setStretch(0, 1)
        self.body = QWidget()
        self.body.setLayout(body)
        self.column.addWidget(self.body, 1)
        self.column.addStretch(0)

    def keys(self) -> dict[str, tuple[str, object]]:
        found = {
            "Space": ("take the point on every steady bench", self.take_point),
            "W": ("take it on this bench before it is steady, with a reason", self._ask_early),
            "K": ("keep every calibration", self.keep_calibration),
            "Right": ("next reference point", lambda: self._step(1)),
            "Left": ("previous reference point", lambda: self._step(-1)),
            "A": ("take points by themselves when steady", self.automatic.toggle),
            "X": ("set this point aside", self._ask_aside),
            "N": ("add a point to the plan", self._ask_new_point),
            "E": ("change this point's reference", self._ask_reference),
            "V": ("make it the check point, or not", self._swap_check),
            "Delete": ("take this point off the plan", self._remove_point),
            "C": ("choose the curve", self.curve_kind.showPopup),
            "B": ("take the reference from a trusted bench", self.against.showPopup),
            "P": ("steps before the curve, as a divider", self._ask_steps),
            "L": ("limits of steadiness", self._ask_limits),
            "G": ("residuals or history", self._swap_history),
            "U": ("apply to earlier runs", self.ask_apply),
            "Y": ("copy the calibration for a report", self._copy),
        }
        if len(self.hub.lesson.plan.sensors) > 1:
            found["S"] = ("next sensor", self._next_sensor)
        if self.apply_panel.isVisible():
            found["Escape"] = ("leave earlier runs as they are", self._leave_earlier)
            found["Return"] = ("apply to earlier runs", self._apply_to_runs)
        return found

    # what it is about

    @property
    def sensor(self) -> SensorPlan | None:
        sensors = self.hub.lesson.plan.sensors
        return sensors[self._sensor_at % len(sensors)] if sensors else None

    @property
    def planned(self) -> PlannedPoint | None:
        sensor = self.sensor
        return sensor.points[self._at % len(sensor.points)] if sensor and sensor.points else None

    def _own_points(self) -> list[ReferencePoint]:
        kit = self.hub.lesson.kit_of(self.hub.group) if self.hub.group else None
        return self.hub.lesson.points(kit, self.sensor.channel) if self.sensor and kit is not None else []

    def _own_point(self) -> ReferencePoint | None:
        planned = self.planned
        return next((p for p in self._own_points() if planned and p.label == planned.label), None)

    def _go_to(self, at: int) -> None:
        sensor = self.sensor
        if sensor and sensor.points:
            self._at = at % len(sensor.points)
            self._offer(sensor.points[self._at].label)
            self._aim()

    def _step(self, by: int) -> None:
        self._go_to(self._at + by)
        self.refresh()

    def _next_sensor(self) -> None:
        self._sensor_at, self._at = self._sensor_at + 1, 0
        self.refresh()

    def _aim(self) -> None:
        """Tells the core which point is meant, so that waiting benches never get another one."""
        sensor, planned = self.sensor, self.planned
        self.taking.about(sensor.channel if sensor else "", planned.label if planned else "")
        self._say_actions()

    def _choose_point(self) -> None:
        row = self.points.currentRow()
        sensor = self.sensor
        if sensor and 0 <= row < len(sensor.points) and row != self._at:
            self._go_to(row)

    # what is done

    def take_point(self) -> None:
        taken: list[int] = []
        if not self.hub.try_to(lambda: taken.extend(self.taking.take())):
            return
        label = self.taking.label
        waits = " · ".join(f"{self.hub.lesson.group(g).alias} {why}" for g, why in self.taking.waiting.items())
        if taken:
            more = f" The rest follow by themselves: {waits}." if waits else ""
            self.hub.tell(f"{label} taken on {self._names(taken)}.{more}", "amber" if waits else "good")
            self._go_on()
        else:
            self.hub.tell(
                f"{label} is not taken yet: {waits}. Each bench follows by itself once it is steady.", "amber"
            )

    def _names(self, groups: list[int]) -> str:
        names = ", ".join(self.hub.lesson.group(group).alias for group in groups)
        return f"{len(groups)} bench{'es' if len(groups) != 1 else ''}: {names}"

    def _go_on(self) -> None:
        """To the next point that somebody lacks, once everybody has this one."""
        sensor = self.sensor
        if sensor is None or self.taking.missing():
            return
        groups = [g.id for g in self.hub.lesson.groups if g.id != self.taking.against]
        for at in range(self._at + 1, len(sensor.points)):
            if not all(
                calibrating.has_point(self.hub.lesson, g, sensor.channel, sensor.points[at].label) for g in groups
            ):
                self._go_to(at)
                break
        self.refresh()

    def _set_automatic(self, on: bool) -> None:
        self.taking.automatic = on
        self.setFocus()

    def _choose_reference(self, at: int) -> None:
        self.taking.against = self.against.itemData(at)
        self.setFocus()
        self._say_actions()

    def keep_calibration(self) -> None:
        sensor = self.sensor
        if sensor is None:
            self.hub.tell("This plan calibrates no sensor. Add one in stage 1, Plan.", "amber")
            return
        lesson = self.hub.lesson
        by_hand = sensor.curve == "formula"
        groups = [g.id for g in lesson.groups if (kit := lesson.kit_of(g.id)) and (by_hand or lesson.points(kit, sensor.channel))]  # fmt: skip
        kept: list[int] = []
        if self.hub.try_to(
            lambda: kept.extend(calibrating.keep_calibrations(lesson, groups or [self.hub.group], sensor.channel))
        ):
            names = ", ".join(lesson.group(group).alias for group in kept)
            left = [lesson.group(g).alias for g in groups if g not in kept]
            more = f" Not for {', '.join(left)}: no curve yet." if left else ""
            self.hub.tell(
                f"Kept for {names}. It counts from now on; earlier runs keep theirs.{more}", "amber" if left else "good"
            )

    def _swap_history(self) -> None:
        self._history = not self._history
        self.refresh()

    def _copy(self) -> None:
        if self.sensor and self.hub.group:
            QApplication.clipboard().setText(report(self.hub.lesson, self.hub.group, self._shown, self.sensor))
            self.hub.tell("The calibration is copied, with its points; paste it into a report.", "good")

    def ask_apply(self) -> None:
        sensor = self.sensor
        found = reworking.preview_applying(self.hub.lesson, sensor.channel) if sensor else []
        if not found:
            self.hub.tell("Every earlier run has the calibration that is kept now.", "good")
            return
        self.body.hide()
        self.apply_panel.preview(self.hub.lesson, found)

    def _apply_to_runs(self) -> None:
        if self.hub.try_to(lambda: reworking.apply_to_runs(self.hub.lesson, self.apply_panel.reworked)):
            self.hub.tell("Applied; findings and the pool follow and say so. Ctrl+Z takes it back.", "good")
        self._leave_earlier()

    def _leave_earlier(self) -> None:
        self.apply_panel.hide()
        self.body.show()
        self.setFocus()

    # what is seen

    def refresh(self) -> None:
        sensor = self.sensor
        say(self.title, f"{sensor.channel} → {sensor.quantity}" if sensor else "Calibrate")
        self.curve_kind.setVisible(sensor is not None)
        say(self.subtitle, self._how(sensor) if sensor else "this plan calibrates no sensor")
        if sensor:
            self.curve_kind.setCurrentText(sensor.curve)
        self._show_references()
        self._aim()
        if sensor is None or not self.hub.group:
            say(self.empty, "This plan calibrates no sensor. Add one in stage 1, Plan.")
            self.curve.hide()
            return
        self._shown = curve_shown(self.hub.lesson, self.hub.group, sensor)
        say(self.curve_card.heading, self.hub.lesson.group(self.hub.group).alias)
        steps = " · ".join(step.split("=")[0].strip() for step in sensor.steps)
        say(
            self.curve_card.aside,
            f"reading → {steps} → {sensor.quantity}" if steps else f"reference ({sensor.unit}) against reading (raw)",
        )
        self._draw_curve(sensor)
        self.points.fill(point_rows(self.hub.lesson, self.hub.group, sensor, self._shown.ready))
        self.points.fit(9)
        point = self._own_point()
        say(self.kept_words, point_words(point) if point else "")
        self.kept_words.setVisible(point is not None)
        head, more = sentence_words(self.hub.lesson, self.hub.group, self._shown, sensor)
        say(self.sentence, head)
        say(self.worth, more)
        self._say_earlier(sensor)
        self.breathe()

    def _how(self, sensor: SensorPlan) -> str:
        if sensor.curve == "formula":
            return sensor.formula
        least = CURVES[sensor.curve].least
        return f"needs {least} point{'s' if least > 1 else ''}"

    def _say_actions(self) -> None:
        planned = self.planned
        bench = f" against {self.hub.lesson.group(self.taking.against).alias}" if self.taking.against else ""
        words = f"Take “{planned.label}”{bench} on steady benches (space)" if planned else "Add a point (N)"
        self.take.setText(words)
        self.points.blockSignals(True)
        if not self.points.hasFocus() or self.points.currentRow() != self._at:
            self.points.selectRow(self._at)
        self.points.blockSignals(False)

    def _show_references(self) -> None:
        sensor, lesson = self.sensor, self.hub.lesson
        trusted = [g for g in lesson.groups if sensor and lesson.applied(g.id, sensor.channel) is not None]
        wanted = [(AS_PLANNED, None), *((g.alias, g.id) for g in trusted)]
        if [(self.against.itemText(k), self.against.itemData(k)) for k in range(self.against.count())] != wanted:
            self.against.clear()
            for text, group in wanted:
                self.against.addItem(text, group)
        if self.taking.against not in [group for _, group in wanted]:
            self.taking.against = None
        self.against.setCurrentIndex([group for _, group in wanted].index(self.taking.against))

    def _say_earlier(self, sensor: SensorPlan) -> None:
        kit = self.hub.lesson.kit_of(self.hub.group)
        kept = self.hub.lesson.calibration(kit, sensor.channel) if kit is not None else None
        ids = {kept.id} if kept else set()
        earlier = [
            run
            for run in self.hub.lesson.kept_runs()
            if run.setting and not ids & {c.id for c in run.setting.calibrations}
        ]
        earlier = [run for run in earlier if run.group == self.hub.group] if kept else []
        self.earlier.setVisible(bool(earlier))
        self.earlier.setText("Apply to earlier runs… (U)")

    def _colour(self) -> tuple[str, str]:
        group = self.hub.lesson.group(self.hub.group)
        return hue(palette(), group.emblem.colour), SYMBOLS[group.emblem.shape]

    def _draw_curve(self, sensor: SensorPlan) -> None:
        colour, symbol = self._colour()
        ready = self._shown.ready
        points = self._own_points() or (list(ready.calibration.points) if ready else [])
        self.empty.setVisible(not points and ready is None)
        self.curve.setVisible(bool(points) or ready is not None)
        say(self.empty, self._shown.why)
        self.curve.show_curve(sensor, points, ready, colour, symbol)
        self.residual_card.setVisible((bool(points) and ready is not None) or self._history)
        say(self.residual_card.heading, "History" if self._history else "Residuals")
        if self._history:
            kit = self.hub.lesson.kit_of(self.hub.group)
            kept = calibrating.history(self.hub.lesson, kit, sensor.channel) if kit is not None else []
            words = self.residuals.show_history(kept, sensor.unit, colour, symbol)
        elif ready is not None and points:
            words = self.residuals.show_residuals(points, ready, colour, symbol, self.curve)
        else:
            self.residuals.wipe()
            words = self._shown.why
        say(self.residual_card.aside, words)

    def breathe(self) -> None:
        sensor = self.sensor
        if sensor is None or not self.hub.group:
            return
        followed = self.taking.follow()
        if followed:
            self.hub.tell(f"{self.taking.label} taken on {self._names(followed)}.", "good")
            self._go_on()
        self._show_grid(sensor)
        words, tone = steady_line(self.hub.lesson.steady(self.hub.group, sensor.channel))
        why = self.hub.lesson.ready(self.hub.group)
        if why not in ("", "recording"):
            words, tone = why, "red"
        say(self.steady_words, words, tone)
        say(self.steady_numbers, steady_numbers(self.hub.lesson, self.hub.group, sensor, self._shown.ready))

    def _show_grid(self, sensor: SensorPlan) -> None:
        heads = grid_heads(sensor)
        if self.grid.columnCount() != len(heads):
            self.grid.setColumnCount(len(heads))
        self.grid.setHorizontalHeaderLabels(heads)
        self.grid.fill(grid_rows(self.hub.lesson, sensor, self.taking))
        self.grid.fit()
        found = [each.words for each in self.hub.lesson.disagreements(sensor.channel)[:2]]
        label = self.taking.label
        if label and self.taking.missing() and calibrating.bath_has_moved(self.hub.lesson, sensor.channel, label):
            found.append(
                f"What is held has moved since “{label}” was taken. Take it again on all, or press space where it still hangs."
            )
        say(self.class_words, " ".join(found))
        self.class_words.setVisible(bool(found))

    def draw(self) -> None:
        sensor = self.sensor
        ear = self.hub.lesson.ear(self.hub.group) if self.hub.group else None
        if sensor is None or ear is None:
            self.strip.show_picture(np.empty(0), np.empty(0), STRIP, 0.0)
            return
        self.strip.recolour(self.hub.lesson.group(self.hub.group).emblem.colour)
        picture = ear.live.picture(f"raw {sensor.channel}", STRIP, max(100, self.strip.width()))
        found = self.hub.lesson.steady(self.hub.group, sensor.channel)
        self.strip.show_band(*(inside_limits(found) or (None, None)))
        self.strip.show_picture(picture.t, picture.values, STRIP, ear.live.last_t, look=LOOK)
        latest = ear.live.latest(f"raw {sensor.channel}")
        if latest is not None and ear.trouble is None and latest.value == latest.value:
            self.curve.show_now(latest.value)
