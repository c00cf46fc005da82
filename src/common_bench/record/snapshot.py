"""What the engine tells of itself: one frozen picture of all kits each turn. Nobody reads the engine's insides."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple, Protocol

import msgspec

from common_bench.links.address import Address
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import LinkTrouble, Trouble
from common_bench.reading.judgement import Judgement
from common_bench.record.live import LiveNews, LiveWindow
from common_bench.record.rules import HowFar, Rule
from common_bench.record.tape import Roll, TapeLine


class RunState(NamedTuple):
    """A run that is being recorded. seconds: since it began, 0 before the first reading; progress: towards its end."""

    id: int
    number: int
    rule: Rule
    seconds: float
    readings: int
    progress: HowFar


class WaitState(NamedTuple):
    """A run that waits to begin. since, due: s on the engine's clock when it was asked for, and when it begins by time alone
    (inf where something else decides)."""

    id: int
    number: int
    rule: Rule
    since: float
    due: float


class ClockFace(NamedTuple):
    """How a kit keeps time. spacing: usual s between readings, nan before it is known; rate, u_rate: of the kit's
    clock against ours; last_raw: its last value in s, None where it has none; uneven: it sends unevenly; restarts: how
    often it began anew."""

    spacing: float
    rate: float
    u_rate: float
    last_raw: float | None
    uneven: bool
    restarts: int = 0


NO_ROLL = Roll([], 0, {})
UNKNOWN_CLOCK = ClockFace(float("nan"), 1.0, 0.0, None, False)


class KitState(msgspec.Struct, frozen=True, eq=False):
    """One kit at the end of a turn.

    parent: the kit that owns the port, where one port relays many; relayed: those that this one relays, id
    -> kit.
    is_open: its link is open; can_record: a run could begin. trouble: what keeps it from being used;
    warning: what only wants to be known. rate: lines per s (readings, of a relayed kit), load: share of
    what the speed carries, both nan while too early. last_heard, last_reading: s on the engine's clock.
    lines, readings, notes, unreadable: counts since it was first heard; answered, missed: of what it was asked for. roll: its last lines.
    live: the recent past, for drawing. judgement: what speaks for how it is read, None where that was known before;
    doubt: another format that would read its lines better, found while a run is recorded.
    """

    kit: int
    session: int
    address: Address
    live: LiveWindow
    parent: int | None = None
    relayed: Mapping[str, int] = msgspec.field(default_factory=dict)
    is_open: bool = False
    can_record: bool = False
    trouble: LinkTrouble | None = None
    warning: LinkTrouble | None = None
    format: StreamFormat | None = None
    calibrations: tuple[Calibration, ...] = ()
    clock: ClockFace = UNKNOWN_CLOCK
    rate: float = float("nan")
    load: float = float("nan")
    lines: int = 0
    readings: int = 0
    notes: int = 0
    unreadable: int = 0
    run: RunState | None = None
    waits: WaitState | None = None
    asking: AskPlan | None = None
    answered: int = 0
    missed: int = 0
    last_heard: float = 0.0
    last_reading: float = 0.0
    losses: int = 0
    speed_found: bool = True
    speeds_tried: int = 1
    roll: Roll = NO_ROLL
    judgement: Judgement | None = None
    doubt: StreamFormat | None = None

    @property
    def tape(self) -> tuple[TapeLine, ...]:
        """Its last lines, oldest first."""
        return self.roll.lines

    @property
    def channels(self) -> tuple[str, ...]:
        return self.format.channels if self.format is not None else ()


class Snapshot(msgspec.Struct, frozen=True, eq=False):
    """All kits after one turn. at: s on the engine's clock; trouble: what keeps all of them from being heard or
    kept, so that nothing claims to record when it does not."""

    at: float = 0.0
    turn: int = 0
    kits: Mapping[int, KitState] = msgspec.field(default_factory=dict)
    trouble: Trouble | None = None

    def in_trouble(self, trouble: Trouble) -> Snapshot:
        """The same, and what keeps all from being heard or kept."""
        return msgspec.structs.replace(self, trouble=trouble)

    def fallen(self, trouble: LinkTrouble) -> Snapshot:
        """The same kits, none of them heard any more."""
        kits = {
            id: msgspec.structs.replace(kit, is_open=False, can_record=False, trouble=trouble, run=None, waits=None)
            for id, kit in self.kits.items()
        }
        return msgspec.structs.replace(self, kits=kits, trouble=trouble)


class Watcher(Protocol):
    """Is told in the engine's own thread all that can be seen of it."""

    def hear(self, kit: int, live: LiveWindow, news: LiveNews) -> object: ...

    def turned(self, snapshot: Snapshot) -> object: ...
