"""A tile of the class wall: one bench with its number, its trace, its run."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QFocusEvent, QMouseEvent
from PyQt6.QtWidgets import QApplication, QFrame, QProgressBar, QWidget

from common_bench.desk.graphs.tile_trace import TileTrace
from common_bench.desk.look.emblems import EmblemView
from common_bench.desk.look.labels import NumberLabel, ShortLabel, label, set_tip
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Field, hbox, offer, say, set_property, vbox
from common_bench.desk.look.sheet import palette, px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.run_words import absent_words, count_words
from common_bench.lesson.words import (
    RAW_DECIMALS,
    bench_note,
    not_now,
    progress_words,
    shown,
    stated_offers,
    stated_words,
    tile_warning,
    wait_words,
    warning_note,
)
from common_bench.model.bench import Group
from common_bench.model.measured import NO_VALUE, Measured, plain
from common_bench.model.plan import SensorPlan
from common_bench.model.trouble import Trouble
from common_bench.record.snapshot import KitState

SECOND_DECIMALS = 3  # of the smaller value on a tile
LOW = 165  # px of a tile's height below which only what matters most is shown
LOWEST = 95  # px below which there is no room for a trace
IDLE = 1.0  # s after which it is drawn though nothing is new
BESIDE = 0.2  # s between two looks at what stands beside the number and the trace: nobody reads it faster
STALE = 10.0  # s after which the last event's value is no longer shown as of now
NOT_SET = "not set"


class ConditionField(Field):
    """A group's condition: only its value while nobody types, all of it while somebody does."""

    def __init__(self) -> None:
        super().__init__()
        self.kept: Measured | str | None = None
        self.setPlaceholderText(NOT_SET)

    def show_kept(self, kept: Measured | str | None) -> None:
        self.kept = kept
        if not self.hasFocus():
            self.setText(self.short)
            self.home(False)

    def put_back(self) -> None:
        """What was kept, in the place of what was typed."""
        self.setText(str(self.kept) if self.kept else "")

    @property
    def short(self) -> str:
        return stated_words(self.kept) if self.kept else ""

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        self.setText(str(self.kept) if self.kept else "")
        self.selectAll()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        self.show_kept(self.kept)


class Tile(QFrame):
    """`small`: many tiles share the wall, so only the name, the number and the trace are shown; `tiny`: so many that the
    state is a dot, told whole when it is pointed at."""

    def __init__(
        self, hub: Hub, group: Group, dropped: Callable[[int, int], object], *, small: bool, tiny: bool = False
    ) -> None:
        """dropped: told that a bench was dragged onto another."""
        super().__init__()
        self._dropped = dropped
        self._pressed: QPoint | None = None
        self._dragged = False
        self._beside_at = 0.0
        self._drawn: object = None  # what was drawn last
        self._chosen: object = None  # and what of it
        self._name = ""  # of what is shown first
        self._state, self._lacks = "", ""  # what is told of it; the condition in its head that is told as not set
        self.is_brief = False  # whether that is told in its field, as there is no room beside it
        self._sensor: SensorPlan | None = None  # by which the plan measures it
        self.setObjectName("card")
        self._hub, self.group, self._small, self._tiny = hub, group.id, small, tiny
        shape, own_colour = hub.emblem_of(group)
        colour = hue(palette(), own_colour)
        self.emblem = EmblemView(shape, own_colour, 16 if tiny else 20)
        self.alias = ShortLabel(hub.name_of(group.id), "name")
        self.conditions = {condition.name: ConditionField() for condition in hub.lesson.store.plan.stated[:1]}
        self.state = ShortLabel("", "soft", Qt.TextElideMode.ElideMiddle)
        self.value = NumberLabel(NO_VALUE, palette().card)
        self.value.setStyleSheet(
            f"color: {colour}; font-size: {px(13 if tiny else 22 if small else 32)}px; font-weight: 650;"
        )
        self.unit = label("", "small")
        self.second = label("", "value")
        self.second_unit = label("", "small")
        self.trace = TileTrace(group.emblem.colour, smooth=not small)
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
        self.told = label("", "small", wrap=True)  # the plan's words for the bench, or which threshold it is beyond
        self.told.hide()
        head: list[QWidget] = [self.emblem, self.alias]
        self._names: list[QWidget] = []  # of the conditions; they give way where there is no room
        for name, field in self.conditions.items():
            field.setMinimumWidth(px(70))
            field.setMaximumWidth(px(150))
            field.setObjectName("quiet")
            offer(field, stated_offers(hub.lesson.store.plan.condition(name)))
            field.editingFinished.connect(lambda n=name, f=field: self._set_condition(n, f))
            if not small:
                self._names.append(label(name, "soft"))
                head += [self._names[-1], field]
        self._head = head
        numbers = hbox() if tiny else hbox(self.value, self.unit, None, self.second, self.second_unit, spacing=6)
        for words in (self.unit, self.second_unit):
            words.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        foot = hbox(self.progress, self.state if tiny else self.progress_words)
        foot.setStretch(0, 1)
        first = hbox(*head, None, self.value, spacing=4) if tiny else hbox(*head, None, self.state, spacing=6)
        for each in (self.unit, self.second, self.second_unit, self.progress_words) if tiny else ():
            each.hide()
        column = vbox(
            first,
            numbers,
            self.trace,
            self.trouble,
            self.told,
            foot,
            spacing=2 if small else 5,
        )
        side = px(8 if tiny else 12)
        column.setContentsMargins(side, px(8), side, px(8))
        column.setStretch(2, 1)
        column.setStretch(3, 1)
        self.setLayout(column)
        self.trouble.hide()

    @property
    def has_room_for_names(self) -> bool:
        """Whether the names of its conditions fit into its head."""
        parts = [*self._head, self.state]
        wanted = sum(each.minimumWidth() or each.sizeHint().width() for each in parts)
        return wanted <= self.width() - px(24) - px(6) * (len(parts) + 1)

    @property
    def has_room_for_state(self) -> bool:
        """Whether all that is told of it fits beside the fields of its head."""
        if not self._lacks:
            return True
        wanted = self.emblem.width() + self.alias.minimumWidth() + self._wide(self._state) + self._fields
        return wanted <= self._inside

    def _wide(self, words: str) -> int:
        """px that words take where its state is told."""
        return self.state.fontMetrics().horizontalAdvance(words) + 2

    @property
    def _inside(self) -> int:
        return self.width() - 2 * px(14)

    @property
    def _fields(self) -> int:
        """px that those of its conditions take, with what lies between all in its head."""
        shown = self.conditions.values() if not self._small else ()
        return sum(field.minimumWidth() + px(6) for field in shown) + 4 * px(6)

    def _make_room(self) -> None:
        """Where all has no room, what is not read from afar gives way: the field of its condition, then the second value; the alias never,
        unless it is long."""
        self.alias.setMinimumWidth(min(self.alias.sizeHint().width(), px(78 if self._tiny else 96)))
        if self._tiny or self.width() < px(100):
            return
        inside = self._inside
        head = [self.emblem.width(), self.alias.minimumWidth(), self._wide(self.state.text())]
        # the rest of the alias gives way to it
        self.state.setMinimumWidth(max(1, min(head[2], inside - sum(head[:2]) - 2 * px(6))))
        for field in self.conditions.values() if not self._small else ():
            field.setVisible(field.hasFocus() or sum(head) + self._fields <= inside)
        own = self.value.sizeHint().width() + self.unit.sizeHint().width() + px(6)
        second = self.second.sizeHint().width() + self.second_unit.sizeHint().width() + 2 * px(6)
        for each in (self.second, self.second_unit):
            each.setVisible(own + second <= inside)

    def show_names(self, shown: bool) -> None:
        for each in self._names:
            each.setVisible(shown)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self._hub.select(self.group)
        self._pressed = event.position().toPoint() if event is not None else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Dragged, it shows that it may be laid somewhere else."""
        if event is None or self._pressed is None:
            return
        if (event.position().toPoint() - self._pressed).manhattanLength() > QApplication.startDragDistance():
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            self._dragged = True

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go over another tile, it takes that one's place."""
        dragged, self._dragged, self._pressed = self._dragged, False, None
        self.unsetCursor()
        wall = self.parentWidget()
        if event is None or not dragged or wall is None:
            return
        under = wall.childAt(self.mapTo(wall, event.position().toPoint()))
        while under is not None and not isinstance(under, Tile):
            under = under.parentWidget()
        if isinstance(under, Tile) and under is not self:
            self._dropped(self.group, under.group)

    def _set_condition(self, name: str, field: ConditionField) -> None:
        lesson = self._hub.lesson
        text = field.text().strip()
        if text in ("", field.short, str(field.kept)):
            return
        if self._hub.try_to(lambda: lesson.planning.set_condition(self.group, name, text)):
            value = lesson.store.stated(self.group)[name]
            alias = lesson.store.group(self.group).alias
            self._hub.tell(f"{name} of {alias} is {value}.", "good", act="Take back", then=self._hub.undo)
            field.show_kept(value)
            set_property(field, "wrong", False)
        else:
            set_property(field, "wrong", True)  # it stands there in red until it is right or left

    def refresh(self) -> None:
        kept = self._hub.lesson.store.stated(self.group)
        alias = self._hub.name_of(self.group)
        say(self.alias, alias)
        self.trace.setProperty("paper_name", alias)
        for name, field in self.conditions.items():
            set_tip(field, f"{name} of {alias}: type it with its uncertainty, as 0.752 ± 0.002 m")
            field.show_kept(kept.get(name))
            set_property(field, "wrong", False)
        set_property(self, "chosen", self._hub.group == self.group)

    def _say_state(self, words: str, tone: str, lacks: str = "") -> None:
        """lacks: the condition that is not set, of which the words are."""
        self._state, self._lacks = words, lacks if lacks in self.conditions and not self._small else ""
        brief = self.is_brief and bool(self._lacks)
        for name, field in self.conditions.items():
            asked = name if brief and name == self._lacks else NOT_SET
            if field.placeholderText() != asked:
                field.setPlaceholderText(asked)
        say(self.state, "●" if self._tiny else NOT_SET if brief else words, tone)
        if self._tiny:
            set_tip(self.state, words)

    def tick(self) -> None:
        lesson = self._hub.lesson
        state = lesson.seen(self.group)
        why, befallen = lesson.roster.why_not_ready(self.group), not_now(lesson)
        kept = len(lesson.store.kept_runs(self.group))
        wanted = lesson.store.plan.runs_per_group
        # shown once all is known: a bar is painted as it is set, and what is beside it too
        share, share_words = 0.0, count_words(kept, wanted, "runs kept")
        if state is not None and state.run is not None:
            run = state.run
            raw = " · raw" if any("calibrated" in each for each in lesson.store.run(run.id).lacks) else ""
            lost = "" if why in ("", "recording", "waits") else f" · {bench_note(why)}"
            amiss = f" · {befallen}" if befallen else lost or raw
            self._say_state(f"● run {run.number}{amiss}", "red" if state.trouble or befallen else "copper")
            share, share_words = run.progress.share, progress_words(run)
        elif state is not None and state.waits is not None:
            self._say_state(befallen or "waits", "red" if befallen else "amber")
            share_words = wait_words(lesson, state.waits)
        else:
            kit = lesson.store.kit_of(self.group)
            lacks = lesson.recording.lacks(self.group) if kit is not None and not why else []
            if why:
                self._say_state(bench_note(why), "red")
            elif befallen:
                self._say_state(befallen, "red")
            elif not lacks and (warned := warning_note(lesson, self.group)):
                self._say_state(f"ready · {warned}", "amber")
            elif not lacks:
                self._say_state("ready", "good")
            else:
                words = "not calibrated" if "calibrated" in lacks[0] else lacks[0]
                self._say_state(words, "amber", words.removesuffix(f" is {NOT_SET}"))
        say(self.progress_words, share_words)
        self.progress.setValue(round(1000 * share))
        trouble = self._trouble_words(state, why)
        warning = tile_warning(lesson, self.group)
        set_property(self, "tone", "amber" if warning else "")
        words = lesson.store.plan.tiles.get("record", "")
        runs = state is not None and state.run is not None
        lost_words = state.trouble.do if state is not None and runs and state.trouble is not None else ""
        say(self.told, warning or lost_words or words, "amber" if warning else "red" if lost_words else "small")
        in_trouble = bool(trouble) and not runs
        self.trouble.setVisible(in_trouble)
        self.trace.setVisible(not in_trouble and (self._small or self.height() >= px(LOWEST)))
        idle = state is None or state.run is None
        low = self.height() < px(LOW)  # as with the tape open: words give way to the number and the trace
        spare = bool(words) and not self._small and idle and not in_trouble
        self.told.setVisible(bool(warning or lost_words) or (spare and not low))
        for each in () if self._tiny else (self.progress, self.progress_words):
            each.setVisible(not (low and idle))
        for each in () if self._tiny else (self.value, self.unit):
            each.setVisible(not in_trouble)  # the words of what is wrong need the room, and there is no value
        say(self.trouble, trouble)
        self._make_room()

    def _trouble_words(self, state: KitState | None, why: str) -> str:
        """What stands in the place of the trace where none can come; empty where one can."""
        if state is None:
            return Trouble(why).sentence
        if state.trouble is not None or state.run is not None:
            return state.trouble.sentence if state.trouble is not None else ""
        absent = self._hub.lesson.roster.absent_channels(state.kit)
        none = bool(absent) and len(absent) == len(self._hub.lesson.store.plan.sensors)
        return absent_words(absent[0], "in stage 2, Plug in") if none else ""

    def has_drawn(self, state: KitState | None, chosen: object) -> bool:
        """Whether there is nothing new since it was asked last. chosen: what is drawn of it."""
        same = state is not None and state is self._drawn and chosen == self._chosen
        self._drawn, self._chosen = state, chosen
        return same and time.monotonic() - self._beside_at < IDLE

    def draw(self, seconds: float, names: tuple[str, ...], state: KitState | None) -> None:
        """The last seconds of what `names` begins with, as the bench is seen now."""
        if state is None:
            say(self.value, NO_VALUE)
            return
        now = time.monotonic()
        name = names[0] if names else ""
        latest = state.live.latest(name)
        picture = state.live.picture(name, seconds, max(60, self.trace.width()))
        if not np.count_nonzero(np.isfinite(picture.values)):
            store = self._hub.lesson.store
            sensor = store.sensor()
            name = f"raw {store.column_of(state.kit, sensor.channel)}" if sensor else next(iter(state.live.names()), "")
            latest, picture = state.live.latest(name), state.live.picture(name, seconds, max(60, self.trace.width()))
        anew = now - self._beside_at >= BESIDE or name != self._name
        if anew:
            self._name, self._sensor = name, self._hub.lesson.store.sensor_of(name)
        if latest is None or state.trouble is not None:
            say(self.value, NO_VALUE)
        else:
            raw = name.startswith("raw ")
            say(self.value, plain(latest.value, RAW_DECIMALS) if raw else shown(latest, self._sensor))
        if anew:
            self._beside_at = now
            guess = " · a guess" if latest is not None and latest.guess else ""
            say(self.unit, f"{latest.unit if latest else ''}{guess}\n{name}")
            self._second(state, names[1] if len(names) > 1 and not self._tiny else "")
        if self.trace.isVisible():
            if anew:
                self.trace.fixed = self._sensor.scale if self._sensor is not None else None
            self.trace.show_picture(
                picture.t, picture.values, seconds, state.live.last_t if state.live.last_t == state.live.last_t else 0.0,
                guess=state.live.guesses(name, picture),
            )  # fmt: skip
            if not anew:
                return
            run = state.run
            moments = self._hub.lesson.store.moments(run.id) if run is not None else ()
            self.trace.show_flags([(each.t - run.seconds, each.text) for each in moments] if run is not None else [])

    def _second(self, state: KitState, name: str) -> None:
        latest = state.live.latest(name) if name else None
        if latest is None or latest.value != latest.value or state.trouble or state.live.last_t - latest.t >= STALE:
            say(self.second, "")
            say(self.second_unit, "")
            return
        say(self.second, plain(latest.value, SECOND_DECIMALS))
        say(self.second_unit, f"{latest.unit}\n{name}")
