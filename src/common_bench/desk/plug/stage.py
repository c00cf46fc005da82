"""Stage 2, Plug in: every kit, what it sends, how it is read, whose it is, and what is wrong with it."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QFrame, QVBoxLayout, QWidget

from common_bench.desk.look.labels import Markup, escaped, label, rich, set_tip
from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, button, hbox, is_open, names_choice, say, scrolled, vbox
from common_bench.desk.look.sheet import MONO, mono_advance, palette, px
from common_bench.desk.plug.format_card import FormatCard
from common_bench.desk.plug.kit_card import KitCard
from common_bench.desk.plug.notice import KitNotice
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import Keys, StageView
from common_bench.desk.shell.tape import coloured, kind_words
from common_bench.lesson.reading_words import lead_words, shown_readings
from common_bench.lesson.run_words import absent_words, capital
from common_bench.lesson.words import KitWords, kit_words, port_words
from common_bench.links.address import read_address
from common_bench.model.bench import Port
from common_bench.model.plan import AskPlan
from common_bench.model.trouble import LinkTrouble
from common_bench.reading.judgement import Judgement
from common_bench.record.snapshot import KitState
from common_bench.record.tape import TapeLine
from common_bench.record.which import WhichIsWhich

SHOWN_LINES = 6
LINES_HEIGHT = 140  # px: whatever is shown there, nothing below it moves
LIST, LEAST_LIST = 312, 256  # px; the larger type of the projector theme needs the room beside it


class PluggedIn(NamedTuple):
    """Something plugged in: a kit as it is heard, or a port that cannot be opened."""

    key: str
    kit: int | None
    state: KitState | None
    port: Port | None

    @property
    def trouble(self) -> LinkTrouble | None:
        """What is wrong with the kit, or wants to be known."""
        return (self.state.trouble or self.state.warning) if self.state is not None else None

    @property
    def source(self) -> int | None:
        """The kit whose port it is, where one port relays several."""
        return self.state.parent if self.state is not None and self.state.parent is not None else self.kit


class PlugStage(StageView):
    """The list of what is plugged in, and all about the one that is chosen."""

    def __init__(self, hub: Hub) -> None:
        super().__init__(hub)
        self._chosen = ""
        self._cards: dict[str, KitCard] = {}
        self._which: WhichIsWhich | None = None
        self.raw_card = Card("", name=True)
        say(self.raw_card.aside, "as it arrives; every byte is kept")
        self.raw = rich()
        self.raw.setWordWrap(False)
        self.raw.setMinimumWidth(1)
        wash = QFrame()
        wash.setObjectName("plainwash")
        wash_column = QVBoxLayout(wash)
        wash_column.setContentsMargins(px(12), px(6), px(12), px(6))
        wash_column.addWidget(self.raw)
        self.raw.setMinimumHeight(px(LINES_HEIGHT))
        self.raw.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.raw_card.add(wash)
        self.read_card = FormatCard(hub)
        self.whose = names_choice(tip="Whose kit it is (B)")
        self.whose.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)  # names may become longer
        self.whose.activated.connect(self._give)
        self.raw_card.top.insertLayout(1, hbox(label("belongs to", "soft"), self.whose, spacing=6))
        self.notice = KitNotice(hub, self.read_card, self._act)
        self._why = False
        self.why = button("Why read so? (E)", self.show_why)
        self.raw_card.top.addWidget(self.why)
        rest = scrolled(vbox(self.raw_card, self.read_card, None, spacing=11))
        right = vbox(self.notice, rest, spacing=11)
        right.setStretch(1, 1)
        body = hbox(self._make_list(), right, spacing=11)
        body.setStretch(0, 3)
        body.setStretch(1, 6)
        self.column.addLayout(body, 1)
        self.which = button("Which is which? (W)", self.ask_which)
        self.head.addWidget(self.which)
        self.head.addWidget(button("Give kits in order (G)", self._give_in_order))
        say(self.title, "What is plugged in")

    def _make_list(self) -> QWidget:
        self._list = QVBoxLayout()
        self._list.setSpacing(px(7))
        self._list.setContentsMargins(1, 1, px(6), 1)
        self.empty = label(
            "Nothing is plugged in yet. Plug a kit in: it appears here by itself, usually within two seconds.",
            "soft",
            wrap=True,
        )
        area = scrolled(vbox(self.empty, self._list, None, spacing=0))
        self.remove = button("Remove this kit (Del)", self._remove, role="link")
        column = vbox(area, self.remove, button("Add a kit by address… (A)", self._ask_address), spacing=7)
        column.setStretch(0, 1)
        made = QWidget()
        made.setLayout(column)
        made.setFixedWidth(LEAST_LIST if palette().scale > 1 else LIST)
        return made

    def keys(self) -> Keys:
        return {
            "W": ("which is which: press, warm or cover one sensor", self.ask_which),
            "Return": ("give this kit to the selected bench", self.give_to_selected),
            "A": ("add a kit by address", self._ask_address),
            "Del": ("remove a kit that was added by address", self._remove),
            "G": ("give kits to benches in order", self._give_in_order),
            "Right": ("next kit", lambda: self._move(1)),
            "Left": ("previous kit", lambda: self._move(-1)),
            "B": ("choose the bench", self.whose.showPopup),
            "C": ("edit the columns", self.read_card.table.setFocus),
            "N": ("what stands for no value", self.read_card.no_value.setFocus),
            "Q": ("ask for each reading", self.read_card.asking.setFocus),
            "U": ("use this reading for every kit like it", self.read_card.use_for_every),
            "S": ("choose the speed", self.read_card.speed.showPopup),
            "L": ("edit the link", self.read_card.link.setFocus),
            "D": ("do what is offered about the trouble", self._act),
            "E": ("what speaks for this reading, and for the next one", self.show_why),
            "Y": ("the first answer to what is asked about the reading", lambda: self.notice.answer(0)),
            "X": ("the other answer", lambda: self.notice.answer(1)),
        }

    # what is there

    def _entries(self) -> list[PluggedIn]:
        """Kits of benches in order, then loose ones, then ports that cannot be opened."""
        lesson = self.hub.lesson
        places = {lesson.store.kit_of(group.id): at for at, group in enumerate(lesson.store.groups)}
        ears = sorted(lesson.roster.kits.items(), key=lambda each: (places.get(each[0], 999), each[0]))
        return [PluggedIn(f"kit {kit}", kit, state, None) for kit, state in ears] + [
            PluggedIn(port.link, None, None, port) for port in self.hub.refused
        ]

    def choose(self, key: str) -> None:
        self._chosen = key
        entry = self._entry()
        if entry and entry.kit is not None:
            group = self.hub.lesson.store.group_at(entry.kit)
            if group is not None:
                self.hub.select(group)
        self.refresh()

    def _entry(self) -> PluggedIn | None:
        entries = self._entries()
        return next((each for each in entries if each.key == self._chosen), entries[0] if entries else None)

    def _move(self, by: int) -> None:
        keys = [each.key for each in self._entries()]
        if keys:
            at = keys.index(self._chosen) if self._chosen in keys else 0
            self.choose(keys[(at + by) % len(keys)])

    def chosen(self) -> object:
        return self._chosen

    def choose_again(self, what: object) -> None:
        self._chosen = str(what)

    def refresh(self) -> None:
        own = self.hub.lesson.store.kit_of(self.hub.group) if self.hub.group else None
        chosen = self._entry()
        if own is not None and (
            chosen is None
            or (chosen.kit is not None and self.hub.lesson.store.group_at(chosen.kit) not in (None, self.hub.group))
        ):
            self._chosen = f"kit {own}"
        wanted = ["nobody", *(group.alias for group in self.hub.lesson.store.groups)]
        if [self.whose.itemText(at) for at in range(self.whose.count())] != wanted:
            self.whose.clear()
            self.whose.addItems(wanted)
        self.tick()

    def tick(self) -> None:
        entries = self._entries()
        keys = [each.key for each in entries]
        for key in [key for key in self._cards if key not in keys]:
            card = self._cards.pop(key)
            self._list.removeWidget(card)
            card.hide()
            card.deleteLater()
        self._look_which()
        chosen = self._entry()
        troubled = 0
        for at, entry in enumerate(entries):
            if entry.key not in self._cards:
                self._cards[entry.key] = KitCard(entry.key, entry.kit, self.choose)
                self._list.insertWidget(at, self._cards[entry.key])
            lesson = self.hub.lesson
            words = self._words(entry)
            group = lesson.store.group_at(entry.kit) if entry.kit is not None else None
            lit = entry.kit is not None and entry.kit == self.hub.lit
            self._cards[entry.key].show_kit(
                lesson.store.group(group) if group is not None else None,
                words,
                chosen=entry is chosen or entry == chosen,
                lit=lit,
            )
            troubled += words.needs_you
        self.empty.setVisible(not entries)
        self.remove.setVisible(
            chosen is not None and chosen.kit is not None and self.lesson.roster.is_added(chosen.kit)
        )
        more = f"{troubled} need{'s' if troubled == 1 else ''} you" if troubled else "new ones appear by themselves"
        say(self.subtitle, f"{len(entries) - troubled} heard · {more}")
        self._show_chosen(chosen)

    def _words(self, entry: PluggedIn) -> KitWords:
        if entry.kit is not None:
            return kit_words(self.lesson, entry.kit)
        assert entry.port is not None
        return port_words(entry.port)

    def _show_chosen(self, entry: PluggedIn | None) -> None:
        for card in (self.raw_card, self.read_card, self.notice):
            card.setVisible(entry is not None)
        if entry is None:
            return
        lesson = self.hub.lesson
        group = lesson.store.group_at(entry.kit) if entry.kit is not None else None
        place = self._words(entry).where
        name = lesson.store.group(group).alias if group is not None else place
        say(self.raw_card.heading, name)
        trouble = entry.trouble
        words = trouble.sentence if trouble is not None else (entry.port.trouble if entry.port else "")
        absent = lesson.roster.absent_channels(entry.kit) if entry.kit is not None and group is not None else []
        if absent and not words:
            words = absent_words(absent[0], "in the table below")
        if words:
            self.notice.show_trouble(capital(words), f"{trouble.label} (D)" if trouble and trouble.label else "")
        elif entry.kit is not None and entry.state is not None:
            self.notice.show_reading(entry.source if entry.source is not None else entry.kit, entry.state)
        for card in (self.raw_card, self.read_card):
            card.setVisible(entry.state is not None)
        if entry.state is None or entry.kit is None:
            return
        colour = hue(palette(), lesson.store.group(group).emblem.colour) if group is not None else palette().ink
        self.why.setVisible(entry.state.judgement is not None)
        if entry.state.judgement is not None and (self._why or self.notice.asks):
            self._show_why(entry.state.judgement)
        else:
            say(self.raw_card.aside, "as it arrives; every byte is kept")
            self._show_raw(entry.state, colour)
        self.read_card.show_kit(entry.kit, entry.state)
        if not is_open(self.whose):
            self.whose.setCurrentText(lesson.store.group(group).alias if group is not None else "nobody")
            set_tip(self.whose, self.whose.currentText())  # where there is no room for all of it

    def show_why(self) -> None:
        """Shows what speaks for this reading in the place of the lines, or the lines again."""
        self._why = not self._why
        self.why.setText("Show the lines (E)" if self._why else "Why read so? (E)")
        self.tick()

    def _show_why(self, judgement: Judgement) -> None:
        soft = palette().soft
        say(self.raw_card.aside, "what speaks for this reading")
        cells = "".join(
            f"<td style='padding-right:{px(24)}px'><b>{escaped(each.title)}</b><br>{escaped(each.columns)}"
            f"<br><span style='color:{soft}'>{escaped(each.evidence)}</span>"
            f"<br><span style='font-family:{MONO}'>{'<br>'.join(map(escaped, each.lines))}</span></td>"
            for each in shown_readings(judgement)
        )
        say(
            self.raw,
            Markup(
                f"<div style='font-size:{px(13)}px;line-height:140%'><table><tr>{cells}</tr></table>"
                f"<span style='color:{soft}'>{escaped(lead_words(judgement))}</span></div>"
            ),
        )

    def _show_raw(self, state: KitState, colour: str) -> None:
        soft, red = palette().soft, palette().red
        room = max(20, int(self.raw.width() / mono_advance(13)) - 3)  # characters
        lines = [
            f"{coloured(line, state.format, colour, room - len(words))} &nbsp;"
            f"<span style='color:{red if line.kind == 'unreadable' else soft}'>{escaped(words)}</span>"
            for line, words in ((line, kind_words(line, state)) for line in self._worth_showing(state))
        ]
        say(
            self.raw,
            Markup(
                f"<div style='font-family:{MONO};font-size:{px(13)}px;line-height:145%'>{'<br>'.join(lines) or '&nbsp;'}</div>"
            ),
        )

    def _worth_showing(self, state: KitState) -> list[TapeLine]:
        """The last lines, with the words, names and latest unreadable line of the tape kept in sight."""
        tape = [line for line in state.tape if line.data.strip()]
        special = [line for line in tape if line.kind not in ("reading", "sent")][-3:]
        rest = [line for line in tape if line.kind in ("reading", "sent")][-(SHOWN_LINES - len(special)) :]
        return sorted(special + rest, key=lambda line: line.at)

    # which is which

    def ask_which(self) -> None:
        """Begins or ends listening for the sensor that somebody presses, warms, covers or shakes."""
        if self._which is not None:
            self._which, self.hub.lit = None, None
            self.which.setText("Which is which? (W)")
            return
        speed = self.lesson.engine.speed if self.lesson.is_live else 1.0
        self._which = WhichIsWhich({kit: state.live for kit, state in self.lesson.roster.kits.items()}, speed)
        self.which.setText("Listening… stop (W)")
        self.hub.tell(
            "Press, warm, cover or shake one sensor: its card and its bench light up. Enter gives it to the selected bench.",
            "amber",
            ended=lambda: self._which is None,
        )

    def _look_which(self) -> None:
        if self._which is None:
            return
        lesson = self.hub.lesson
        found = self._which.look({kit: state.live for kit, state in lesson.roster.kits.items()})
        if found is None or not found.clear:
            return
        lit = found.kit
        if lit != self.hub.lit:
            group = lesson.store.group_at(lit)
            whose = lesson.store.group(group).alias if group is not None else "nobody yet"
            name = lesson.store.kits[lit].name
            self.hub.tell(
                f"{name} moved: its {found.channel}, {found.times:.0f} times its own noise. It belongs to {whose}.",
                "good",
            )
            self._chosen = f"kit {lit}"
        self.hub.lit = lit

    def give_to_selected(self) -> None:
        """The kit that lit up, or the chosen one, belongs to the selected bench."""
        entry = self._entry()
        kit = self.hub.lit if self.hub.lit is not None else entry.kit if entry else None
        if kit is not None and self.hub.group:
            self.hub.give(kit, self.hub.group)
            if self._which is not None:
                self.ask_which()

    # what is done

    def _give(self, at: int) -> None:
        entry = self._entry()
        if entry and entry.kit is not None:
            self.hub.give(entry.kit, self.hub.lesson.store.groups[at - 1].id if at > 0 else None)

    def _give_in_order(self) -> None:
        lesson = self.hub.lesson
        kits = [kit for kit in sorted(lesson.roster.kits) if not lesson.roster.is_receiver(kit)]
        if lesson.roster.give_kits_in_order(kits) is not None:
            return
        loose = len([kit for kit in kits if lesson.store.group_at(kit) is None])
        if not kits:
            self.hub.tell("No kit is heard yet. Plug one in, or add it by its address (A).", "amber")
        elif loose:
            which = "1 kit has no bench" if loose == 1 else f"{loose} kits have no bench"
            self.hub.tell(f"{which}, and no bench is free. Add a group in stage 1, Plan.", "amber")
        else:
            self.hub.tell("Every kit has its bench.", "good")

    def _remove(self) -> None:
        """A kit that was added by its address, as one that was mistyped, goes."""
        entry, roster = self._entry(), self.lesson.roster
        if entry is None or entry.kit is None or not roster.is_added(entry.kit):
            self.hub.tell(
                "Only a kit that was added by its address can be removed; others go when they are unplugged.", "amber"
            )
            return
        kit = entry.kit
        name = self.store.kits[kit].name
        if self.hub.try_to(lambda: roster.remove_added(kit)):
            self._chosen = ""
            self.hub.tell(f"{name} is removed. What was recorded from it stays.", "good")
            self.hub.book_changed.emit()

    def _act(self) -> None:
        """Does what the sentence about the trouble offers."""
        entry = self._entry()
        trouble = entry.trouble if entry is not None else None
        source = entry.source if entry is not None else None
        if trouble is None or not trouble.act or source is None:
            return
        roster = self.lesson.roster
        acts: dict[str, Callable[[], object]] = {
            "restart": lambda: roster.restart(source),
            "send": lambda: roster.send(source, trouble.send, "no ending"),
            "work-out": lambda: self._work_out(source),
            "ask": lambda: roster.ask_for_readings(source, AskPlan(trouble.send or "?", 1.0, 0.5)),
        }
        if self.hub.try_to(acts[trouble.act]):
            self.hub.tell(f"Done: {trouble.label}.", "good")

    def _work_out(self, kit: int) -> None:
        """How its lines are read, which was set by hand and does not fit them any more."""
        if (format := self.lesson.roster.kits[kit].format) is not None:
            self.lesson.roster.read_as(kit, format, by_hand=False)

    def _ask_address(self) -> None:
        self.ask(
            "Address of the kit",
            "Listen",
            self._add,
            hint="/dev/ttyACM0, tcp://host:3333, rfc2217://host:port, mqtt://host/topic, file:PATH",
        )

    def _add(self, text: str) -> None:
        address = read_address(text.strip())
        roster = self.hub.lesson.roster
        heard = {state.address.name for state in roster.kits.values() if state.parent is None}
        if address.name in heard | roster.heard_identities():
            raise LinkTrouble("heard-already", name=address.name)
        name = (
            address.path.rsplit("/", 1)[-1] if address.kind in ("serial", "file") else address.name.partition("//")[2]
        )
        kit = roster.hear(Port(text.strip(), name, address.name), added=True)
        self.choose(f"kit {kit}")
