"""A tile of the class wall: one bench with its number, its trace, its run."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFocusEvent, QMouseEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QProgressBar

from common_bench.desk.graphs.plots import LiveTrace
from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import hbox, label, say, set_property, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson import actions
from common_bench.lesson.words import RAW_DIGITS, shown
from common_bench.model.bench import Group
from common_bench.model.measured import NO_VALUE, Measured, digits


class ConditionField(QLineEdit):
    """A group's condition: only its value while nobody types, all of it while somebody does."""

    def __init__(self) -> None:
        super().__init__()
        self.kept: Measured | None = None
        self.setPlaceholderText("not set")

    def show_kept(self, kept: Measured | None) -> None:
        self.kept = kept
        if not self.hasFocus():
            self.setText(self.short)
            self.home(False)

    @property
    def short(self) -> str:
        return f"{digits(self.kept.value, self.kept.u)} {self.kept.unit}" if self.kept else ""

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.setText(str(self.kept) if self.kept else "")
        self.selectAll()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.show_kept(self.kept)


class Tile(QFrame):
    """`small`: many tiles share the wall, so only the name, the number and the trace are shown."""

    def __init__(self, hub: Hub, group: Group, *, small: bool) -> None:
        super().__init__()
        self.setObjectName("card")
        self._hub, self.group, self._small = hub, group.id, small
        colour = hue(palette(), group.emblem.colour)
        self.emblem = EmblemView(group.emblem.shape, group.emblem.colour, 20)
        self.alias = label(group.alias, "name")
        self.conditions = {condition.name: ConditionField() for condition in hub.lesson.plan.conditions[:1]}
        self.state = label("", "soft")
        self.value = label(NO_VALUE)
        self.value.setStyleSheet(f"color: {colour}; font-size: {px(22 if small else 32)}px; font-weight: 650;")
        self.unit = label("", "small")
        self.second = label("", "value")
        self.second_unit = label("", "small")
        self.trace = LiveTrace(group.emblem.colour, smooth=not small)
        self.trouble = label("", wrap=True)
        self.trouble.setObjectName("wash")
        self.trouble.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.trouble.setStyleSheet(f"background: {palette().wash}; border-radius: 6px; padding: {px(10)}px;")
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedHeight(px(6))
        self.progress.setRange(0, 1000)
        self.progress.setStyleSheet(f"QProgressBar::chunk {{ background: {colour}; border-radius: 3px; }}")
        self.progress_words = label("", "small")
        head = [self.emblem, self.alias]
        for name, field in self.conditions.items():
            field.setMinimumWidth(px(76))
            field.setMaximumWidth(px(150))
            field.setToolTip(f"{name} of {group.alias}: type it with its uncertainty, as 0.752 ± 0.002 m")
            field.editingFinished.connect(lambda n=name, f=field: self._set_condition(n, f))
            if not small:
                head += [label(name, "soft"), field]
        numbers = hbox(self.value, self.unit, None, self.second, self.second_unit, spacing=6)
        for words in (self.unit, self.second_unit):
            words.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        foot = hbox(self.progress, self.progress_words)
        foot.setStretch(0, 1)
        column = vbox(
            hbox(*head, None, self.state, spacing=6), numbers, self.trace, self.trouble, foot, spacing=2 if small else 5
        )
        column.setContentsMargins(px(12), px(8), px(12), px(8))
        column.setStretch(2, 1)
        column.setStretch(3, 1)
        self.setLayout(column)
        self.trouble.hide()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._hub.select(self.group)

    def _set_condition(self, name: str, field: ConditionField) -> None:
        lesson = self._hub.lesson
        text = field.text().strip()
        if text in ("", field.short, str(field.kept)):
            return
        worked = self._hub.try_to(lambda: actions.set_condition(lesson, self.group, name, text))
        set_property(field, "wrong", not worked)

    def refresh(self) -> None:
        kept = self._hub.lesson.conditions(self.group)
        for name, field in self.conditions.items():
            field.show_kept(kept.get(name))
            set_property(field, "wrong", False)
        set_property(self, "chosen", self._hub.group == self.group)

    def breathe(self) -> None:
        lesson = self._hub.lesson
        ear = lesson.ear(self.group)
        why = lesson.ready(self.group)
        kept = len(lesson.kept_runs(self.group))
        wanted = lesson.plan.runs_per_group
        say(self.progress_words, f"{wanted} runs wanted, {kept} kept")
        self.progress.setValue(0)
        if ear is not None and ear.run is not None:
            run = ear.run
            say(self.state, f"● run {run.number}", "red" if ear.trouble else "copper")
            if run.rule.seconds:
                self.progress.setValue(round(1000 * min(1.0, run.seconds / run.rule.seconds)))
                say(self.progress_words, f"{run.seconds:.0f} of {run.rule.seconds:g} s")
            else:
                say(self.progress_words, f"{run.seconds:.0f} s, until you end it")
        else:
            calibrated = lesson.kit_of(self.group) is not None and lesson.calibrations(lesson.kit_of(self.group))
            words = why or ("ready" if calibrated or not lesson.plan.sensors else "not calibrated")
            say(self.state, words, "good" if words == "ready" else "amber" if not why else "red")
        trouble = (
            ear.trouble.sentence
            if ear is not None and ear.trouble is not None
            else ""
            if ear is not None
            else "This bench has no kit. Give it one in stage 2, Plug in."
        )
        self.trouble.setVisible(bool(trouble) and not (ear is not None and ear.run is not None))
        self.trace.setVisible(not self.trouble.isVisibleTo(self))
        say(self.trouble, trouble)

    def draw(self, seconds: float, names: tuple[str, ...]) -> None:
        ear = self._hub.lesson.ear(self.group)
        if ear is None:
            say(self.value, NO_VALUE)
            return
        name = names[0] if names else ""
        latest = ear.live.latest(name)
        picture = ear.live.picture(name, seconds, max(60, self.trace.width()))
        if not len(picture.t) or not np.isfinite(picture.values).any():
            raw = (
                f"raw {self._hub.lesson.plan.sensors[0].channel}"
                if self._hub.lesson.plan.sensors
                else next(iter(ear.live.names()), "")
            )
            latest, picture, name = (
                ear.live.latest(raw),
                ear.live.picture(raw, seconds, max(60, self.trace.width())),
                raw,
            )
        if latest is None or ear.trouble is not None:
            say(self.value, NO_VALUE)
        else:
            say(self.value, shown(latest) if not name.startswith("raw ") else digits(latest.value, RAW_DIGITS))
        guess = " · a guess" if latest is not None and latest.guess else ""
        say(self.unit, f"{latest.unit if latest else ''}{guess}\n{name}")
        self._second(ear, names[1] if len(names) > 1 else "")
        if self.trace.isVisible():
            self.trace.show_picture(
                picture.t, picture.values, seconds, ear.live.last_t if ear.live.last_t == ear.live.last_t else 0.0,
                guess=ear.live.guesses(name, picture),
            )  # fmt: skip

    def _second(self, ear: object, name: str) -> None:
        latest = ear.live.latest(name) if name else None
        known = latest is not None and latest.value == latest.value and ear.live.last_t - latest.t < 10
        say(self.second, digits(latest.value, 0.002) if known else "")
        say(self.second_unit, f"{latest.unit}\n{name}" if known else "")
