"""The kits that a lesson hears: ports in, kits on their benches out, each with why it cannot be used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import msgspec

from common_bench.book.book import Book, now
from common_bench.book.journal import JournalWriter
from common_bench.lesson.in_book import InBook
from common_bench.lesson.kept import format_of
from common_bench.links.address import Address, read_address
from common_bench.model.bench import Port
from common_bench.model.plan import AskPlan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import Trouble
from common_bench.record.ear import Ear
from common_bench.record.engine import Engine

WHY = {
    "silent": "kit silent", "dead": "kit silent", "menu": "waits for a key", "button": "waits for its button",
    "asked": "waits to be asked", "lost": "unplugged", "unreadable": "unreadable", "no-host": "not reached",
    "ended": "not reached", "file-ended": "at its end", "taken": "held elsewhere", "not-allowed": "not allowed",
}  # fmt: skip


class Hearing(InBook):
    """A lesson with the engine that hears its kits. What is heard is a fact, and is added to the book for good.

    `live` is False for a book that is only read; then there is no engine.
    """

    def __init__(self, book: Book, *, speed: float = 1.0, live: bool = True) -> None:
        super().__init__(book)
        self.live = live
        if live:
            self.journal = JournalWriter(book.path)
            self.engine = Engine(self.journal, speed=speed)
            self.engine.start()

    def ear(self, group: int) -> Ear | None:
        kit = self.kit_of(group)
        return self.engine.ears.get(kit) if self.live and kit is not None else None

    def hear(self, port: Port) -> int:
        """Listens to a port from now on; the kit is known again by its identity. Gives the kit's id."""
        known = next((row for row in self.rows("kit") if row["identity"] == port.identity), None)
        address = read_address(port.link)
        if known is None:
            kit = self.book.record("kit", identity=port.identity, name=port.name, link=port.link, format="", asking="")
        else:
            kit = int(known["id"])
            address = _as_remembered(address, known["link"]) if "?" not in port.link else address
            self.book.amend("kit", kit, link=address.text, name=port.name)
        hearing = self.book.record(
            "hearing",
            lesson=self.id,
            kit=kit,
            link=address.text,
            opened_at=now(),
            world_speed=self.engine.speed,
            closed_at="",
        )
        self.refresh("kit")
        format = format_of(known) if known else None
        self.engine.hear(
            kit, hearing, address, self.workings, self.calibrations(kit), format,
            settled="speed=" in port.link or format is not None,
        )  # fmt: skip
        self._follow_asking(kit)
        return kit

    def _follow_asking(self, kit: int) -> None:
        text = next(row["asking"] for row in self.rows("kit") if row["id"] == kit)
        plan = msgspec.json.decode(text, type=AskPlan) if text else self.plan.ask
        ear = self.engine.ears[kit]
        if plan != (ear.asking.plan if ear.asking else None):
            self.engine.ask_kit(kit, plan)

    def _relay(self, parent: int, id: str) -> None:
        """A kit of its own for an id that was heard on a shared port; given back to its bench if it had one."""
        source = next(row for row in self.rows("kit") if row["id"] == parent)
        identity = f"{source['identity']}#{id}"
        known = next((row for row in self.rows("kit") if row["identity"] == identity), None)
        if known is not None:
            kit = int(known["id"])
        else:
            name = f"{source['name']} · kit {id.lstrip('@')}"
            kit = self.book.record("kit", identity=identity, name=name, link=source["link"], format="", asking="")
            self.refresh("kit")
        self.engine.relay(parent, kit, id, self.workings, self.calibrations(kit))

    def _follow_kits(self) -> None:
        """Brings what the engine does with each kit in step with what the book says of it."""
        for row in self.rows("kit"):
            ear = self.engine.ears.get(row["id"])
            if ear is None or ear.parent is not None:
                continue
            format = format_of(row)
            if format is not None and format != ear.chain.reader.format:
                self.engine.read_as(row["id"], format)
            wanted = _as_remembered(read_address(row["link"]), row["link"])
            if wanted.settings != ear.address.settings or wanted.speed != ear.address.speed:
                self.engine.set_address(row["id"], wanted)
            self._follow_asking(row["id"])

    def is_receiver(self, kit: int) -> bool:
        """Whether a kit only relays others, and so belongs to no bench itself."""
        ear = self.engine.ears.get(kit)
        return ear is not None and bool(ear.relayed)

    def leave(self, kit: int) -> None:
        self.engine.leave(kit)
        self._close_hearing(kit)

    def _close_hearing(self, kit: int) -> None:
        for row in self.book.rows("hearing", kit=kit, lesson=self.id, closed_at=""):
            self.book.amend("hearing", row["id"], closed_at=now())

    def heard_identities(self) -> set[str]:
        known = self.kits
        return {known[kit].identity for kit, ear in self.engine.ears.items() if kit in known and ear.parent is None}

    def forget_gone(self, plugged: set[str]) -> list[int]:
        """Leaves kits that were pulled out and belong to no bench, so that they disappear as they came.

        plugged: identities of the ports that are there. What was added by address stays.
        """
        gone = []
        for kit, ear in list(self.engine.ears.items()):
            benches = [kit, *(each.kit for each in ear.relayed.values())]
            lost = ear.link is None and ear.trouble is not None and ear.trouble.cause in ("lost", "missing")
            loose = ear.parent is None and all(self.group_at(each) is None for each in benches)
            if lost and loose and ear.losses and self.kits[kit].identity not in plugged:
                self.leave(kit)
                gone.append(kit)
        return gone

    def appear(self, ports: Sequence[Port]) -> list[int]:
        """Listens to every port that is not heard yet, and gives each known kit back to its bench."""
        known = self.kits
        heard = {
            known[kit].identity: kit for kit, ear in self.engine.ears.items() if kit in known and ear.parent is None
        }
        made = []
        for port in ports:
            if port.identity not in heard:
                made.append(self.hear(port))
                continue
            ear = self.engine.ears[heard[port.identity]]
            address = read_address(port.link)
            if address.kind == "serial" and ear.address.path != address.path and ear.link is None:
                ear.address = replace(ear.address, path=address.path)  # back under another path
        return made

    def ready(self, group: int) -> str:
        """Empty where a run can begin; otherwise why not, in words."""
        ear = self.ear(group)
        if ear is None:
            return "no kit"
        if ear.trouble is not None:
            return WHY.get(ear.trouble.cause, "not open")
        if not ear.ready:
            return "listening"
        return "recording" if ear.run is not None else ""

    def recording(self, group: int) -> bool:
        """Whether a run is under way, be its kit heard or not."""
        ear = self.ear(group)
        return ear is not None and ear.run is not None

    def _keep_format(self, kit: int, ear: Ear) -> None:
        """Remembers how a kit is read; a format of the plan for lines of this shape goes before what was worked out."""
        found = ear.chain.reader.format
        assert found is not None
        wanted = next((each for each in self.plan.formats if alike(each, found)), None)
        if wanted is not None and wanted != found and not any(e.run for e in (ear, *ear.relayed.values())):
            self.engine.read_as(kit, wanted)
            found = wanted
        text = msgspec.json.encode(found).decode()
        if ear.parent is None:
            self.book.amend("kit", kit, format=text, link=ear.address.text)
            self.refresh("kit")

    def absent_channels(self, kit: int) -> list[str]:
        """Channels that the plan asks for and the kit's lines do not hold."""
        ear = self.engine.ears.get(kit)
        format = ear.chain.reader.format if ear is not None else None
        return [name for name in self.channels if name not in format.channels] if format is not None else []

    def raw_unit(self, group: int | None, channel: str) -> str:
        """The unit in which a channel comes, as the stream format has it (any kit's where no group is named)."""
        kits = [self.kit_of(group)] if group is not None else list(self.engine.ears) if self.live else []
        for kit in kits:
            ear = self.engine.ears.get(kit) if kit is not None and self.live else None
            format = ear.chain.reader.format if ear is not None else None
            column = next((c for c in format.columns if c.name == channel), None) if format is not None else None
            if column is not None:
                return column.unit
        return ""

    def board_temperature(self, group: int) -> float | None:
        """What the kit's own thermometer shows in °C, where it sends one beside its sensors."""
        ear = self.ear(group)
        format = ear.chain.reader.format if ear is not None else None
        for column in format.columns if format is not None else ():
            board = column.role == "channel" and column.name not in self.channels
            if board and column.name.lower().startswith("temp") and column.unit in ("", "°C"):
                latest = ear.live.latest(f"raw {column.name}") if ear is not None else None
                return latest.value if latest is not None and latest.value == latest.value else None
        return None


def _as_remembered(address: Address, link: str) -> Address:
    """The address with the speed and settings under which the kit was last heard."""
    try:
        kept = read_address(link)
    except Trouble:
        return address
    return replace(address, speed=kept.speed, settings=kept.settings) if kept.kind == address.kind else address


def alike(one: StreamFormat, other: StreamFormat) -> bool:
    """Whether two formats are for lines of the same shape."""
    shape = [
        (f.dialect, f.separator, len(f.columns), f.start, f.end, f.decimal_comma, f.kit_mark) for f in (one, other)
    ]
    return shape[0] == shape[1]
