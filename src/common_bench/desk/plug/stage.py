"""Stage 2, Plug in: every kit, what it sends, how it is read, whose it is, and what is wrong with it."""

from __future__ import annotations

from typing import NamedTuple

from PyQt6.QtWidgets import QComboBox, QFrame, QScrollArea, QVBoxLayout

from common_bench.desk.look.palette import hue
from common_bench.desk.look.pieces import Card, button, hbox, label, rich, say, scrolled, set_property, vbox
from common_bench.desk.look.sheet import MONO, palette, px
from common_bench.desk.plug.format_card import FormatCard
from common_bench.desk.plug.kit_card import KitCard
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.stage import StageView
from common_bench.desk.shell.tape import coloured, kind_words
from common_bench.lesson import actions
from common_bench.lesson.words import capital, kit_words, port_words
from common_bench.links.address import read_address
from common_bench.model.bench import Port
from common_bench.model.plan import AskPlan
from common_bench.model.trouble import LinkTrouble
from common_bench.record.ear import Ear, TapeLine
from common_bench.record.which import WhichIsWhich

SHOWN_LINES = 8


class Entry(NamedTuple):
    """Something plugged in: a kit with its ear, or a port that cannot be opened."""

    key: str
    kit: int | None
    ear: Ear | None
    port: Port | None


class PlugStage(StageView):
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
        self.raw_card.aside.setMinimumWidth(1)
        wash = QFrame()
        wash.setObjectName("plainwash")
        wash_column = QVBoxLayout(wash)
        wash_column.setContentsMargins(px(12), px(6), px(12), px(6))
        wash_column.addWidget(self.raw)
        self.raw_card.add(wash)
        self.read_card = FormatCard(hub)
        self.whose = QComboBox()
        self.whose.activated.connect(self._give)
        self.raw_card.body.itemAt(0).layout().insertLayout(1, hbox(label("belongs to", "soft"), self.whose, spacing=6))
        self.wrong_card = Card("", name=True)
        self.wrong = label("", wrap=True)
        self.act = button("", self._act, role="main")
        row = hbox(self.wrong, self.act)
        row.setStretch(0, 1)
        self.wrong_card.body.addLayout(row)
        set_property(self.wrong_card, "tone", "amber")
        right = scrolled(vbox(self.wrong_card, self.raw_card, self.read_card, None, spacing=11))
        body = hbox(self._make_list(), right, spacing=11)
        body.setStretch(0, 3)
        body.setStretch(1, 6)
        self.column.addLayout(body, 1)
        self.which = button("Which is which? (W)", self.ask_which)
        self.head.addWidget(self.which)
        self.head.addWidget(button("Give kits in order (G)", self._give_in_order))
        self.head.addWidget(button("Add a kit by address… (A)", self._ask_address))
        say(self.title, "What is plugged in")

    def _make_list(self) -> QScrollArea:
        self._list = QVBoxLayout()
        self._list.setSpacing(px(7))
        self._list.setContentsMargins(1, 1, px(6), 1)
        self.empty = label(
            "Nothing is plugged in yet. Plug a kit in: it appears here by itself, usually within two seconds.",
            "soft",
            wrap=True,
        )
        area = scrolled(vbox(self.empty, self._list, None, spacing=0))
        area.setMinimumWidth(px(236))
        area.setMaximumWidth(px(318))
        return area

    def keys(self) -> dict[str, tuple[str, object]]:
        return {
            "W": ("which is which: press, warm or cover one sensor", self.ask_which),
            "Return": ("give this kit to the selected bench", self.give_to_selected),
            "A": ("add a kit by address", self._ask_address),
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
        }

    # what is there

    def _entries(self) -> list[Entry]:
        """Kits of benches in order, then loose ones, then ports that cannot be opened."""
        lesson = self.hub.lesson
        places = {lesson.kit_of(group.id): at for at, group in enumerate(lesson.groups)}
        ears = sorted(lesson.engine.ears.items(), key=lambda each: (places.get(each[0], 999), each[0]))
        return [Entry(f"kit {kit}", kit, ear, None) for kit, ear in ears] + [
            Entry(port.link, None, None, port) for port in self.hub.refused
        ]

    def choose(self, key: str) -> None:
        self._chosen = key
        entry = self._entry()
        if entry and entry.kit is not None:
            group = self.hub.lesson.group_at(entry.kit)
            if group is not None:
                self.hub.select(group)
        self.refresh()

    def _entry(self) -> Entry | None:
        entries = self._entries()
        return next((each for each in entries if each.key == self._chosen), entries[0] if entries else None)

    def _move(self, by: int) -> None:
        keys = [each.key for each in self._entries()]
        if keys:
            at = keys.index(self._chosen) if self._chosen in keys else 0
            self.choose(keys[(at + by) % len(keys)])

    def refresh(self) -> None:
        own = self.hub.lesson.kit_of(self.hub.group) if self.hub.group else None
        chosen = self._entry()
        if own is not None and (
            chosen is None
            or (chosen.kit is not None and self.hub.lesson.group_at(chosen.kit) not in (None, self.hub.group))
        ):
            self._chosen = f"kit {own}"
        wanted = ["nobody", *(group.alias for group in self.hub.lesson.groups)]
        if [self.whose.itemText(at) for at in range(self.whose.count())] != wanted:
            self.whose.clear()
            self.whose.addItems(wanted)
        self.breathe()

    def breathe(self) -> None:
        entries = self._entries()
        keys = [each.key for each in entries]
        for key in [key for key in self._cards if key not in keys]:
            card = self._cards.pop(key)
            card.setParent(None)
            card.deleteLater()
        self._look_which()
        chosen = self._entry()
        troubled = 0
        for at, entry in enumerate(entries):
            if entry.key not in self._cards:
                self._cards[entry.key] = KitCard(entry.key, entry.kit, self.choose)
                self._list.insertWidget(at, self._cards[entry.key])
            lesson = self.hub.lesson
            words = kit_words(lesson, entry.kit) if entry.kit is not None else port_words(entry.port)
            group = lesson.group_at(entry.kit) if entry.kit is not None else None
            lit = entry.kit is not None and entry.kit == self.hub.lit
            self._cards[entry.key].show_kit(
                lesson.group(group) if group is not None else None,
                words,
                chosen=entry is chosen or entry == chosen,
                lit=lit,
            )
            troubled += words.needs_you
        self.empty.setVisible(not entries)
        more = f"{troubled} need{'s' if troubled == 1 else ''} you" if troubled else "new ones appear by themselves"
        say(self.subtitle, f"{len(entries) - troubled} heard · {more}")
        self._show_chosen(chosen)

    def _show_chosen(self, entry: Entry | None) -> None:
        for card in (self.raw_card, self.read_card, self.wrong_card):
            card.setVisible(entry is not None)
        if entry is None:
            return
        lesson = self.hub.lesson
        group = lesson.group_at(entry.kit) if entry.kit is not None else None
        place = lesson.kits[entry.kit].name if entry.kit is not None else entry.port.name
        name = lesson.group(group).alias if group is not None else place
        say(self.raw_card.heading, name)
        trouble = entry.ear.trouble or entry.ear.warning if entry.ear is not None else None
        words = trouble.sentence if trouble is not None else (entry.port.trouble if entry.port else "")
        self.wrong_card.setVisible(bool(words))
        say(
            self.wrong_card.heading,
            f"{name} needs you" if entry.ear is None or entry.ear.trouble else f"{name}: look at this",
        )
        absent = lesson.absent_channels(entry.kit) if entry.kit is not None and group is not None else []
        if absent and not words:
            words = f"The plan asks for a column called “{absent[0]}”, and this kit sends none. Give one of its columns that name in the table below."
            self.wrong_card.show()
        say(self.wrong, capital(words))
        self.act.setVisible(trouble is not None and bool(trouble.label))
        if trouble is not None and trouble.label:
            self.act.setText(f"{trouble.label} (D)")
        for card in (self.raw_card, self.read_card):
            card.setVisible(entry.ear is not None)
        if entry.ear is None:
            return
        colour = hue(palette(), lesson.group(group).emblem.colour) if group is not None else palette().ink
        self._show_raw(entry.ear, colour)
        self.read_card.show_kit(entry.kit, entry.ear)
        if not self.whose.view().isVisible():
            self.whose.setCurrentText(lesson.group(group).alias if group is not None else "nobody")

    def _show_raw(self, ear: Ear, colour: str) -> None:
        soft, red = palette().soft, palette().red
        lines = [
            f"{coloured(line, ear.chain.reader.format, colour)} &nbsp;"
            f"<span style='color:{red if line.kind == 'unreadable' else soft}'>{kind_words(line, ear)}</span>"
            for line in self._worth_showing(ear)
        ]
        say(
            self.raw,
            f"<div style='font-family:{MONO};font-size:{px(13)}px;line-height:145%'>{'<br>'.join(lines) or '&nbsp;'}</div>",
        )

    def _worth_showing(self, ear: Ear) -> list[TapeLine]:
        """The last lines, with the words, names and latest unreadable line of the tape kept in sight."""
        tape = [line for line in ear.lines() if line.data.strip()]
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
        lesson = self.hub.lesson
        self._which = WhichIsWhich({kit: ear.live for kit, ear in lesson.engine.ears.items()}, lesson.engine.speed)
        self.which.setText("Listening… stop (W)")
        self.hub.tell(
            "Press, warm, cover or shake one sensor: its card and its bench light up. Enter gives it to the selected bench.",
            "amber",
        )

    def _look_which(self) -> None:
        if self._which is None:
            return
        lesson = self.hub.lesson
        found = self._which.look({kit: ear.live for kit, ear in lesson.engine.ears.items()})
        lit = found.kit if found is not None and found.clear else None
        if lit is not None and lit != self.hub.lit:
            group = lesson.group_at(lit)
            whose = lesson.group(group).alias if group is not None else "nobody yet"
            name = lesson.kits[lit].name
            self.hub.tell(
                f"{name} moved: its {found.channel}, {found.times:.0f} times its own noise. It belongs to {whose}.",
                "good",
            )
            self._chosen = f"kit {lit}"
        if lit is not None:
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
            self.hub.give(entry.kit, self.hub.lesson.groups[at - 1].id if at > 0 else None)

    def _give_in_order(self) -> None:
        lesson = self.hub.lesson
        kits = [kit for kit in sorted(lesson.engine.ears) if not lesson.is_receiver(kit)]
        if actions.give_kits_in_order(lesson, kits) is None:
            self.hub.tell("Every kit has its bench, or no bench is free.", "good")

    def _act(self) -> None:
        """Does what the sentence about the trouble offers."""
        entry = self._entry()
        trouble = entry.ear.trouble or entry.ear.warning if entry and entry.ear else None
        if trouble is None or not trouble.act:
            return
        source = entry.ear.parent.kit if entry.ear.parent else entry.kit
        lesson = self.hub.lesson
        acts = {
            "restart": lambda: lesson.engine.restart(source),
            "send": lambda: actions.send(lesson, source, trouble.send, "no ending"),
            "ask": lambda: actions.ask_for_readings(lesson, source, AskPlan(trouble.send or "?", 1.0, 0.5)),
        }
        if self.hub.try_to(acts[trouble.act]):
            self.hub.tell(f"Done: {trouble.label}.", "good")

    def _ask_address(self) -> None:
        self.question.ask(
            "Address of the kit",
            "Listen",
            self._add,
            hint="/dev/ttyACM0, tcp://host:3333, rfc2217://host:port, mqtt://host/topic, file:PATH",
        )

    def _add(self, text: str) -> None:
        address = read_address(text.strip())
        if any(ear.address.name == address.name and ear.parent is None for ear in self.hub.lesson.engine.ears.values()):
            raise LinkTrouble(f"{address.name} is heard already.", do="Choose it in the list.")
        name = (
            address.path.rsplit("/", 1)[-1] if address.kind in ("serial", "file") else address.name.partition("//")[2]
        )
        kit = self.hub.lesson.hear(Port(text.strip(), name, address.name))
        self.choose(f"kit {kit}")
