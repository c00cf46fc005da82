"""The roster: which kits are heard, which bench each belongs to, and why one cannot be used."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from common_bench.book.book_file import now
from common_bench.book.changes import Change, RowChange
from common_bench.lesson.changes import Changes
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import as_remembered, format_of
from common_bench.links.address import read_address
from common_bench.links.secrets import Secrets
from common_bench.model.bench import Port
from common_bench.model.plan import AskPlan, as_bytes
from common_bench.model.plan_file import plan_to_text
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import PlanTrouble, Trouble
from common_bench.record.apart import AnyEngine
from common_bench.record.snapshot import KitState, RunState, Snapshot

ENDINGS = {"no ending": "", "LF": "\n", "CR": "\r", "CRLF": "\r\n"}
NOBODY = Snapshot()
GONE = ("lost", "missing")


class Roster:
    """Kits as they are heard, by bench. What is heard is a fact, and is added to the book for good; giving a kit to a
    bench is a change that can be taken back.

    `engine` is None for a book that is only read; then nothing is heard.
    """

    def __init__(self, store: LessonStore, changes: Changes, engine: AnyEngine | None) -> None:
        self._store, self._changes, self._engine = store, changes, engine
        self._secrets = Secrets()
        self._called: dict[int, str] = {}  # by kit: identity of a port that the engine hears, or will
        changes.followers.append(self._follow)

    # how they stand

    @property
    def snapshot(self) -> Snapshot:
        return self._engine.snapshot if self._engine is not None else NOBODY

    @property
    def kits(self) -> Mapping[int, KitState]:
        """All that are heard, by the kit's id."""
        return self.snapshot.kits

    def state(self, group: int) -> KitState | None:
        """The kit of a bench, as it is heard; None where it has none, or none that is heard."""
        kit = self._store.kit_of(group)
        return self.kits.get(kit) if kit is not None else None

    def is_read_for_sure(self, group: int) -> bool:
        """Whether a bench is ready, and nothing is left to be found out about how its lines are read."""
        state = self.state(group)
        return not self.why_not_ready(group) and state is not None and state.format is not None and state.format.is_sure

    def why_not_ready(self, group: int) -> str:
        """Empty where a run can begin; otherwise why not, as a code of the table of sentences: only-read, no-kit, not-plugged,
        listening, recording, waits, or what is wrong with its link."""
        if self._engine is None:
            return "only-read"
        state = self.state(group)
        if state is None:
            return "no-kit" if self._store.kit_of(group) is None else "not-plugged"
        if state.trouble is not None:
            return state.trouble.code
        if not state.can_record:
            return "listening"
        return "recording" if state.run is not None else "waits" if state.waits is not None else ""

    def is_heard(self, group: int) -> bool:
        """Whether its readings come, be a run under way or not."""
        return self.why_not_ready(group) in ("", "recording", "waits")

    def run(self, group: int) -> RunState | None:
        """The run that is under way on a bench, be its kit heard or not."""
        return state.run if (state := self.state(group)) is not None else None

    def recording(self, group: int) -> bool:
        return self.run(group) is not None

    def busy(self, group: int) -> bool:
        """Whether a run is under way on a bench, or waits to begin."""
        return (state := self.state(group)) is not None and (state.run is not None or state.waits is not None)

    def is_receiver(self, kit: int) -> bool:
        """Whether a kit only relays others, and so belongs to no bench itself."""
        return (state := self.kits.get(kit)) is not None and bool(state.relayed)

    def absent_channels(self, kit: int) -> list[str]:
        """Channels that the plan asks for and the kit's lines do not hold."""
        state = self.kits.get(kit)
        if state is None or state.format is None:
            return []
        sent = state.format.channels
        return [s.channel for s in self._store.plan.sensors if self._store.column_of(kit, s.channel) not in sent]

    def raw_unit(self, group: int | None, channel: str) -> str:
        """The unit in which a channel comes, as the stream format has it (any kit's where no group is named)."""
        kits = [self._store.kit_of(group)] if group is not None else list(self.kits)
        for kit in kits:
            state = self.kits.get(kit) if kit is not None else None
            columns = state.format.columns if state is not None and state.format is not None else ()
            wanted = self._store.column_of(kit, channel)
            column = next((c for c in columns if c.name == wanted), None)
            if column is not None:
                return column.unit
        return ""

    def board_temperature(self, group: int) -> float | None:
        """What the kit's own thermometer shows in °C, where it sends one beside its sensors."""
        state = self.state(group)
        if state is None or state.format is None:
            return None
        for column in state.format.columns:
            board = column.role == "channel" and column.name not in self._store.channels
            if board and column.name.lower().startswith("temp") and column.unit in ("", "°C"):
                latest = state.live.latest(f"raw {column.name}")
                return latest.value if latest is not None and latest.value == latest.value else None
        return None

    # hearing

    @property
    def _heard_by(self) -> AnyEngine:
        assert self._engine is not None, "a book that is only read hears nothing"
        return self._engine

    def hear(self, port: Port, *, added: bool = False) -> int:
        """Listens to a port from now on; the kit is known again by its identity. added: by its address, so that it is
        heard again in the class's next lesson. Gives the kit's id."""
        store, book = self._store, self._store.book
        known = next((row for row in store.rows("kit") if row["identity"] == port.identity), None)
        address = self._secrets.filled(read_address(port.link))
        if known is None:
            kit = book.record(
                "kit", identity=port.identity, name=port.name, link=address.text, format="", asking="", added=int(added)
            )
        else:
            kit = int(known["id"])
            remembered = as_remembered(address, known["link"]) if "?" not in port.link else address
            address = self._secrets.filled(remembered)
            book.amend("kit", kit, link=address.text, name=port.name, added=int(added or bool(known["added"])))
        session = book.record(
            "session", lesson=store.id, kit=kit, link=address.text, opened_at=now(), closed_at="",
            world_speed=self._heard_by.speed,
        )  # fmt: skip
        store.refresh("kit")
        format = format_of(known) if known else None
        self._heard_by.hear(
            kit, session, address, store.watching, store.calibrations(kit), format,
            settled="speed=" in port.link or format is not None,
        )  # fmt: skip
        self._called[kit] = port.identity
        self._follow_asking(kit)
        return kit

    def relay(self, parent: int, id: str) -> None:
        """A kit of its own for an id that was heard on a shared port; given back to its bench if it had one."""
        store = self._store
        source = next(row for row in store.rows("kit") if row["id"] == parent)
        identity = f"{source['identity']}#{id}"
        known = next((row for row in store.rows("kit") if row["identity"] == identity), None)
        if known is not None:
            kit = int(known["id"])
        else:
            name = f"{source['name']} · kit {id.lstrip('@')}"
            kit = store.book.record("kit", identity=identity, name=name, link=source["link"], format="", asking="")
            store.refresh("kit")
        self._heard_by.relay(parent, kit, id, store.watching, store.calibrations(kit))

    def take_back(self, kit: int) -> None:
        """A kit that an id was taken for, which was none: nothing stays of it where nobody has used it."""
        store = self._store
        used = any(
            row["kit"] == kit for table in ("bench", "reference_point", "calibration") for row in store.rows(table)
        )
        if not used:
            store.book.forget("kit", kit)
            store.refresh("kit")

    def leave(self, kit: int) -> None:
        self._heard_by.leave(kit)
        self._called.pop(kit, None)
        self.close_session(kit)

    def close_session(self, kit: int) -> None:
        for row in self._store.book.rows("session", kit=kit, lesson=self._store.id, closed_at=""):
            self._store.book.amend("session", row["id"], closed_at=now())

    def heard_identities(self) -> set[str]:
        """Of all ports that are heard, or are as soon as the engine comes to it."""
        return set(self._called.values())

    def appear(self, ports: Sequence[Port]) -> list[int]:
        """Listens to every port that is not heard yet, and gives each known kit back to its bench."""
        kits, called = self.kits, {identity: kit for kit, identity in self._called.items()}
        made = []
        for port in ports:
            if port.identity not in called:
                made.append(self.hear(port))
                continue
            state, address = kits.get(called[port.identity]), read_address(port.link)
            elsewhere = state is not None and address.kind == "serial" and state.address.path != address.path
            if state is not None and elsewhere and not state.is_open:
                self._heard_by.move(state.kit, address.path)
        return made

    def forget_gone(self, plugged: set[str]) -> list[int]:
        """Leaves kits that were pulled out and belong to no bench, so that they disappear as they came.

        plugged: identities of the ports that are there. What was added by address stays.
        """
        gone = []
        for kit, state in self.kits.items():
            lost = not state.is_open and state.trouble is not None and state.trouble.code in GONE
            loose = state.parent is None and all(
                self._store.group_at(each) is None for each in (kit, *state.relayed.values())
            )
            if lost and loose and state.losses and self._store.kits[kit].identity not in plugged:
                self.leave(kit)
                gone.append(kit)
        return gone

    def keep_format(self, kit: int) -> None:
        """Remembers how a kit is read; a format of the plan for lines of this shape goes before what was worked out."""
        state = self.kits.get(kit)
        if state is None or state.format is None:
            return
        found = state.format
        if not found.is_sure:
            return  # it is so far only
        wanted = next((each for each in self._store.plan.formats if each.shape == found.shape), None)
        if wanted is not None and wanted != found and not self._records(state):
            self._heard_by.read_as(kit, wanted)
            found = wanted
        if state.parent is None:
            text = msgspec.json.encode(found).decode()
            self._store.book.amend("kit", kit, format=text, link=state.address.text)
            self._store.refresh("kit")
        for each in (kit, *state.relayed.values()):
            self._heard_by.calibrate(each, self._store.calibrations(each))

    def _records(self, state: KitState) -> bool:
        """Whether a run is under way on a port."""
        heard = [self.kits[each] for each in (state.kit, *state.relayed.values()) if each in self.kits]
        return any(each.run is not None for each in heard)

    # following what the book says

    def _follow(self, change: Change) -> None:
        if self._engine is None:
            return
        tables = {row.table for row in change.rows}
        with self._engine.together():
            if tables & {"calibration", "bench", "kit", "plan"}:
                for kit in {**self._called, **self.kits}:
                    self._engine.calibrate(kit, self._store.calibrations(kit))
            if "kit" in tables:
                self._follow_kits({row.id for row in change.rows if row.table == "kit" and _tells_a_format(row)})
            if "plan" in tables:
                self._engine.work(self._store.watching)

    def _follow_asking(self, kit: int) -> None:
        text = next(row["asking"] for row in self._store.rows("kit") if row["id"] == kit)
        plan = msgspec.json.decode(text, type=AskPlan) if text else self._store.plan.ask
        state = self.kits.get(kit)
        if plan != (state.asking if state is not None else None):
            self._heard_by.ask_kit(kit, plan)

    def _follow_kits(self, formats: set[int]) -> None:
        """Brings what the engine does with each kit in step with what the book says of it. formats: kits of which it
        says anew how they are read."""
        for row in self._store.rows("kit"):
            state = self.kits.get(row["id"])
            if state is None or state.parent is not None:
                continue
            format = format_of(row)
            if row["id"] in formats and format is not None and format != state.format:
                self._heard_by.read_as(row["id"], format)
            wanted = self._secrets.filled(as_remembered(read_address(row["link"]), row["link"]))
            if wanted.settings != state.address.settings or wanted.speed != state.address.speed:
                self._heard_by.set_address(row["id"], wanted)
            self._follow_asking(row["id"])

    # what a person does

    def give_kit(self, kit: int, group: int | None) -> Change:
        """Gives a kit to a group's bench (None: to nobody); whoever had it has it no longer."""
        store = self._store
        rows: list[RowChange] = []
        for bench in store.rows("bench"):
            if bench["lesson"] != store.id:
                continue
            if bench["group"] == group:
                rows.append(store.book.changed("bench", bench["id"], kit=kit))
            elif bench["kit"] == kit:
                rows.append(store.book.changed("bench", bench["id"], kit=None))
        to = store.group(group).alias if group is not None else "no bench"
        return self._changes.do(f"Give {store.kits[kit].name} to {to}", rows)

    def give_kits_in_order(self, kits: Sequence[int]) -> Change | None:
        """Gives kits that belong to nobody to benches that have none, in order, and then to those whose kit is not
        here; kits that are heard come first. A kit that has a bench is never moved."""
        store = self._store
        free = [kit for kit in kits if store.group_at(kit) is None and not self.is_receiver(kit)]
        loose = sorted(free, key=lambda kit: not self._sends(kit))
        empty = [group.id for group in store.groups if store.kit_of(group.id) is None]
        absent = [group.id for group in store.groups if self.is_absent(store.kit_of(group.id))]
        benches = {row["group"]: row["id"] for row in store.rows("bench") if row["lesson"] == store.id}
        rows = [
            store.book.changed("bench", benches[group], kit=kit)
            for group, kit in zip([*empty, *absent], loose, strict=False)
        ]
        return self._changes.do("Give the kits to the benches in order", rows) if rows else None

    def _sends(self, kit: int) -> bool:
        """Whether a kit is there: its link is open, or still being opened for the first time."""
        state = self.kits.get(kit)
        return state is None or state.trouble is None or state.is_open

    def remove_added(self, kit: int) -> None:
        """A kit that was added by its address is heard no more, and belongs to no bench; nothing that was recorded from it goes.
        Raises Trouble where it records."""
        state = self.kits.get(kit)
        if state is not None and self._records(state):
            raise Trouble("kit-records")
        if self._store.group_at(kit) is not None:
            self.give_kit(kit, None)
        self.leave(kit)
        self._store.book.amend("kit", kit, added=0)
        self._store.refresh("kit")

    def is_added(self, kit: int) -> bool:
        """Whether a kit was added by its address."""
        return any(row["id"] == kit and row["added"] for row in self._store.rows("kit"))

    def is_absent(self, kit: int | None) -> bool:
        """Whether a bench's kit is not plugged in here: never heard in this lesson, or gone."""
        if kit is None:
            return False
        state = self.kits.get(kit)
        if state is None:
            return True
        return not state.is_open and state.trouble is not None and state.trouble.code in GONE

    def take_passwords_out(self) -> None:
        """What an older version left of passwords in the book goes to where they are kept."""
        for row in self._store.rows("kit"):
            if "password=" in row["link"]:
                address = self._secrets.filled(read_address(row["link"]))
                self._store.book.amend("kit", row["id"], link=address.text)
                self._store.refresh("kit")

    def hear_added(self) -> list[int]:
        """Hears again the kits that were added by address in this class."""
        heard = self.heard_identities()
        away = [row for row in self._store.rows("kit") if row["added"] and row["identity"] not in heard]
        return [self.hear(Port(row["link"], row["name"], row["identity"]), added=True) for row in away]

    def read_as(self, kit: int, format: StreamFormat, *, every: bool = False, by_hand: bool = True) -> Change:
        """Reads a kit's lines in another way from now on; `every`: all kits whose lines have this shape, now and later; by_hand: it
        stands so, else it is worked out from there. Raises Trouble while one of them records."""
        store, before = self._store, self.kits[kit].format
        format = msgspec.structs.replace(format, by_hand=by_hand, sure=1.0 if by_hand else 0.0)
        rows = []
        for each, state in self.kits.items():
            own = state.format
            alike = bool(every and own and before and own.shape == before.shape)
            if state.parent is not None or (each != kit and not alike):
                continue
            if self._records(state):
                raise PlanTrouble("kit-records")
            if own is not None and not own.by_hand:  # what an undo goes back to
                store.book.amend("kit", each, format=msgspec.json.encode(own).decode())
            rows.append(store.book.changed("kit", each, format=msgspec.json.encode(format).decode()))
        if every:
            shapes = {format.shape} | ({before.shape} if before else set())
            others = (each for each in store.plan.formats if each.shape not in shapes)
            plan = msgspec.structs.replace(store.plan, formats=(*others, format))
            rows.append(store.book.changed("plan", store.row["plan"], text=plan_to_text(plan)))
        return self._changes.do("Read every kit like this" if every else f"Read {store.kits[kit].name} like this", rows)

    def set_link(self, kit: int, link: str) -> Change:
        """Another speed or other settings for a kit's link. Raises LinkTrouble where they cannot be."""
        address = self._secrets.filled(read_address(link))
        row = self._store.book.changed("kit", kit, link=address.text)
        return self._changes.do(f"Set the link of {self._store.kits[kit].name}", [row])

    def ask_for_readings(self, kit: int, plan: AskPlan | None) -> Change:
        """Asks a kit for each reading; None: it sends by itself. Raises PlanTrouble where the plan cannot be."""
        if plan is not None and (not plan.text or not 0.1 <= plan.every <= 3600 or not 0.05 <= plan.within <= 600):
            raise PlanTrouble("asking-out-of-range")
        text = msgspec.json.encode(plan).decode() if plan else ""
        name = self._store.kits[kit].name
        row = self._store.book.changed("kit", kit, asking=text)
        return self._changes.do(f"Ask {name}" if plan else f"Ask {name} no longer", [row])

    def send(self, kit: int, text: str, ending: str = "LF") -> None:
        """Sends what somebody typed to a kit; what is sent is journalled. Raises Trouble where it cannot be."""
        self._heard_by.send(kit, as_bytes(text) + ENDINGS[ending].encode())

    def send_data(self, kit: int, data: bytes) -> None:
        """Sends bytes as they are. Raises Trouble where they cannot be."""
        self._heard_by.send(kit, data)

    def restart(self, kit: int) -> None:
        """Restarts a kit where its link can. Raises Trouble where it cannot."""
        self._heard_by.restart(kit)


def _tells_a_format(row: RowChange) -> bool:
    return "format" in (row.after or {}) or "format" in (row.before or {})
