"""How a kit is read: its columns in a table that can be edited, separators, what stands for no value, how it is asked."""

from __future__ import annotations

import msgspec

from common_bench.desk.look.labels import ShortLabel, label, set_tip
from common_bench.desk.look.pieces import Card, Field, Table, button, choice, hbox, is_open, say, set_property
from common_bench.desk.look.sheet import px
from common_bench.desk.shell.hub import Hub
from common_bench.lesson.reading_words import shape_words, sure_words
from common_bench.lesson.words import column_rows
from common_bench.links.address import SPEEDS
from common_bench.model.plan import AskPlan
from common_bench.model.stream import ASSUMED_NO_VALUE, Column, Role, StreamFormat
from common_bench.model.trouble import PlanTrouble
from common_bench.record.snapshot import KitState

ROLES: dict[str, Role] = {"a channel": "channel", "the kit's clock": "clock", "which kit": "kit", "left out": "ignored"}
SEPARATORS = {";": ";", ",": ",", "tab": "\t", "|": "|", "spaces": " ", ":": ":"}
TICKS = {"s": 1.0, "ms": 1e-3, "µs": 1e-6}


class FormatCard(Card):
    """Everything that is changed here counts from the next line on, and can be undone."""

    def __init__(self, hub: Hub) -> None:
        super().__init__("Read as", name=True)
        self._hub = hub
        self._kit: int | None = None
        self._format: StreamFormat | None = None
        self.table = Table(
            ["column", "is", "unit", "now", "noise", "range so far", "health"],
            left=(0, 1, 6),
            stretch=6,
            edit=(0, 1, 2),
            wrap=True,
            words=(0, 1, 5, 6),
        )
        self.table.edited.connect(self._edit)
        self.table.refilled.connect(self._show_again)
        self.separator = choice(list(SEPARATORS))
        self.separator.activated.connect(self._set_separator)
        self.no_value = Field()
        self.no_value.setMaximumWidth(px(110))
        self.no_value.setPlaceholderText("nan, empty")
        set_tip(self.no_value, "Texts that stand for “no value” besides nan and nothing at all, parted by spaces")
        self.no_value.editingFinished.connect(self._set_no_value)
        self.comma = choice(["decimal point", "decimal comma"])
        self.comma.activated.connect(self._set_comma)
        self.asking = Field()
        self.asking.setMaximumWidth(px(120))
        self.asking.setPlaceholderText("no, it streams")
        set_tip(self.asking, "Text that asks for a reading, then every how many s: ? 0.5  (empty: the kit streams)")
        self.asking.editingFinished.connect(self._set_asking)
        self.every = button("Use for every kit like this (U)", self.use_for_every)
        self.link = Field()
        set_tip(self.link, "Its link; ?speed=9600&bits=7&parity=even&stop=2&flow=hardware set a serial port by hand")
        self.link.editingFinished.connect(self._set_link)
        self.speed = choice([str(speed) for speed in SPEEDS])
        self.speed.activated.connect(self._set_speed)
        self.restart = button("Restart the kit", self._restart)
        self.effect = ShortLabel("", "soft")
        self.add(self.table)
        soft = self._soft = [
            label(text, "soft") for text in ("split at", "no value is", "ask for each", "link", "speed")
        ]
        self.body.addLayout(hbox(soft[0], self.separator, self.comma, None, self.effect, spacing=7))
        self.body.addLayout(hbox(soft[1], self.no_value, soft[2], self.asking, None, spacing=7))
        row = hbox(soft[3], self.link, soft[4], self.speed, spacing=7)
        row.setStretch(1, 1)
        self.body.addLayout(row)
        self.body.addLayout(hbox(None, self.restart, self.every, spacing=7))
        self._speed_words = soft[4]

    # what is seen

    def show_kit(self, kit: int, state: KitState) -> None:
        lesson = self._hub.lesson
        self._kit, format = kit, state.format
        known = format is not None
        for widget in (self.table, self.separator, self.comma, self.no_value, self.every, self.effect, *self._soft[:2]):
            widget.setVisible(known)
        for field, text in (
            (self.link, state.address.text),
            (self.asking, _ask_words(state.asking)),
        ):
            if not field.hasFocus() and field.text() != text:
                field.setText(text)
                set_property(field, "wrong", False)
        self.link.setEnabled(state.parent is None)
        has_speed = state.address.has_speed
        for widget in (self.speed, self._speed_words, self.restart):
            widget.setVisible(has_speed)
        if not is_open(self.speed):
            text = str(state.address.speed)
            if self.speed.findText(text) < 0:
                self.speed.addItem(text)
            self.speed.setCurrentText(text)
        if format is None:
            say(self.aside, "no readings yet: lines are looked at as they come")
            self._format = None
            return
        say(
            self.aside,
            f"{shape_words(format)} · {f'from {format.worked_out_from} lines · ' if not format.by_hand else ''}{sure_words(format)}",
        )
        self.table.fill(column_rows(lesson, kit))
        self.table.fit(9)
        if format == self._format:
            self._say_effect(state, format)
            return
        self._format = format
        shown = next((name for name, mark in SEPARATORS.items() if mark == format.separator), ";")
        self.separator.setCurrentText(shown)
        self.separator.setEnabled(format.dialect in ("separated", "tagged"))
        self.comma.setCurrentIndex(int(format.decimal_comma))
        self.comma.setEnabled(format.dialect in ("separated", "named", "tagged"))
        if not self.no_value.hasFocus():
            self.no_value.setText(" ".join(text for text in format.no_value if text not in ASSUMED_NO_VALUE))
        self._say_effect(state, format)

    def _say_effect(self, state: KitState, format: StreamFormat) -> None:
        lines = [line for line in state.tape[-100:] if line.kind not in ("sent", "words", "names", "half")]
        good = sum(1 for line in lines if line.kind == "reading")
        say(self.effect, f"reads {good} of the last {len(lines)}" if lines else "")

    # what is done

    def keep(self, format: StreamFormat, *, every: bool = False) -> bool:
        kit = self._source()
        return kit is not None and self._hub.try_to(lambda: self._hub.lesson.roster.read_as(kit, format, every=every))

    def _source(self) -> int | None:
        """The kit whose port it is, where one port relays several."""
        state = self._hub.lesson.roster.kits.get(self._kit) if self._kit is not None else None
        return state.parent if state is not None and state.parent is not None else self._kit

    def _edit(self, row: int, column: int, text: str) -> None:
        state = self._hub.lesson.roster.kits.get(self._kit) if self._kit is not None else None
        format = state.format if state is not None else None
        if format is None or row >= len(format.columns):
            return
        before = format.columns[row]
        shown = column_rows(self._hub.lesson, self._kit)[row][column] if self._kit is not None else ""
        if text.strip() and text != shown:
            self._hub.try_to(lambda: self._keep_column(format, row, _edited(before, column, text.strip(), format)))
        self._format = None
        self.table.refill()

    def _show_again(self) -> None:
        state = self._hub.lesson.roster.kits.get(self._kit) if self._kit is not None else None
        if self._kit is not None and state is not None:
            self.show_kit(self._kit, state)

    def _keep_column(self, format: StreamFormat, row: int, column: Column) -> None:
        columns = [*format.columns[:row], column, *format.columns[row + 1 :]]
        self.keep(msgspec.structs.replace(format, columns=tuple(columns), question="", other=None, sure=1.0, only=""))

    def _set_separator(self, _: int) -> None:
        if self._format:
            mark = SEPARATORS[self.separator.currentText()]
            self.keep(msgspec.structs.replace(self._format, separator=mark, question="", other=None, only=""))

    def _set_comma(self, at: int) -> None:
        if self._format:
            self.keep(msgspec.structs.replace(self._format, decimal_comma=bool(at), question="", other=None, only=""))

    def _set_no_value(self) -> None:
        if self._format is None:
            return
        kept = tuple(dict.fromkeys([*ASSUMED_NO_VALUE, *self.no_value.text().split()]))
        if kept != self._format.no_value:
            self.keep(msgspec.structs.replace(self._format, no_value=kept, only=""))

    def _set_asking(self) -> None:
        kit = self._source()
        if kit is None:
            return
        state = self._hub.lesson.roster.kits[kit]
        if self.asking.text() == _ask_words(state.asking):
            return
        worked = self._hub.try_to(
            lambda: self._hub.lesson.roster.ask_for_readings(kit, _read_asking(self.asking.text()))
        )
        set_property(self.asking, "wrong", not worked)

    def _set_link(self) -> None:
        kit = self._source()
        state = self._hub.lesson.roster.kits.get(kit) if kit is not None else None
        if kit is None or state is None or self.link.text().strip() == state.address.text:
            return
        worked = self._hub.try_to(lambda: self._hub.lesson.roster.set_link(kit, self.link.text()))
        set_property(self.link, "wrong", not worked)

    def _set_speed(self, _: int) -> None:
        kit = self._source()
        if kit is not None:
            address = self._hub.lesson.roster.kits[kit].address.at(int(self.speed.currentText()))
            self._hub.try_to(lambda: self._hub.lesson.roster.set_link(kit, address.text))

    def _restart(self) -> None:
        kit = self._source()
        if kit is not None and self._hub.try_to(lambda: self._hub.lesson.roster.restart(kit)):
            self._hub.tell("The kit was restarted.", "good")

    def use_for_every(self) -> None:
        if self._format and self.keep(msgspec.structs.replace(self._format, only=""), every=True):
            self._hub.tell(
                "Every kit whose lines have this shape is read like this, now and in later lessons of this plan.",
                "good",
            )


def _edited(column: Column, at: int, text: str, format: StreamFormat) -> Column:
    """A column with its name, role or unit as somebody typed it. Raises PlanTrouble in words."""
    if at == 0:
        name = text.partition(" ")[2] if text.partition(" ")[0].isdigit() else text
        taken = [each.name.lower() for each in format.columns if each is not column]
        if not name or name.lower() in taken:
            raise PlanTrouble("column-name-taken", name=name)
        return msgspec.structs.replace(column, name=name, key=column.key or (column.name if format.sparse else ""))
    if at == 2:
        if column.role == "clock" and text not in TICKS:
            raise PlanTrouble("no-such-clock-unit", text=text)
        return msgspec.structs.replace(column, unit=text, tick=TICKS.get(text, 0.0) if column.role == "clock" else 0.0)
    role = next((role for words, role in ROLES.items() if words.startswith(text.lower()) or role == text.lower()), None)
    if role is None:
        raise PlanTrouble("no-such-role", text=text, known=", ".join(ROLES))
    tick = (column.tick or TICKS.get(column.unit, 1e-3)) if role == "clock" else 0.0
    unit = next((unit for unit, each in TICKS.items() if each == tick), column.unit) if role == "clock" else column.unit
    return msgspec.structs.replace(column, role=role, tick=tick, unit=unit)


def _ask_words(plan: AskPlan | None) -> str:
    return f"{plan.text} {plan.every:g}" if plan else ""


def _read_asking(text: str) -> AskPlan | None:
    """`? 0.5`: what asks, then every how many s. Raises PlanTrouble in words."""
    if not text.strip():
        return None
    request, _, every = text.strip().rpartition(" ")
    try:
        seconds = float(every.replace(",", ".")) if request else 1.0
    except ValueError:
        request, seconds = text.strip(), 1.0
    return AskPlan(request or text.strip(), seconds, min(0.5, max(0.05, seconds * 0.8)))
