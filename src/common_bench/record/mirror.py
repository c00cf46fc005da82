"""An engine seen from another process: its snapshots, live windows, tapes and events told there, and the same shown here."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from operator import itemgetter
from typing import Any, NamedTuple

import msgspec

from common_bench.model.trouble import Trouble
from common_bench.record.events import EngineEvent
from common_bench.record.live import LiveNews, LiveWindow
from common_bench.record.parcels import (
    Numbers,
    Parcel,
    PieceLayout,
    Receiver,
    Sender,
    len_of,
    packed_news,
    packed_pieces,
    unpacked_news,
)
from common_bench.record.rules import HowFar
from common_bench.record.snapshot import KitState, RunState, Snapshot
from common_bench.record.tape import MOST_HELD, TAPE_LINES, Roll

MOST_WAITING = 20_000  # news that nobody has taken, as of a window that is stopped; the oldest pictures are let go then
FIELDS = KitState.__struct_fields__
LIVE, ROLL, RUN = (FIELDS.index(each) for each in ("live", "roll", "run"))
OFTEN = [
    FIELDS.index(each)
    for each in (
        "clock",
        "rate",
        "load",
        "lines",
        "readings",
        "notes",
        "unreadable",
        "answered",
        "last_heard",
        "last_reading",
    )
]  # what changes with every line
SELDOM = itemgetter(*(at for at in range(len(FIELDS)) if at not in (*OFTEN, ROLL, RUN)))
SO_FAR = -1  # stands for what a run that goes on has come to
LATE = 3  # pairs of turns by which these, and the tape, may be told late where nothing else has changed: they are only read
BY_VALUE = (int, float, bool, str, dict, type(None))


EMPTY = Roll([], 0, {})
NewLines = tuple[Sequence[Any], Mapping[int, str] | None]
"""Pieces of a tape that are new, and what its lines are that are no readings, None where that has not changed."""
NO_LINES: NewLines = ((), None)


class KitNews(NamedTuple):
    """What is new of a kit. fresh: it is heard by another connection than before; changed: (place of the field, value) each; lines: on its
    tape; live: what its live window was told."""

    fresh: bool
    changed: list[tuple[int, Any]]
    lines: NewLines
    live: list[tuple[Any, ...]]


class Update(NamedTuple):
    """All that is new at one time. answers: (number of the command, what it gave, what it raised); journal: what keeps
    it from keeping, bytes dropped, bytes kept."""

    at: float
    turn: int
    trouble: Trouble | None
    kits: dict[int, tuple[Any, ...]]  # a KitNews each, as a tuple, which is packed in a third of the time
    gone: list[int]
    events: list[EngineEvent]
    answers: list[tuple[int, Any, BaseException | None]]
    journal: tuple[Trouble | None, int, int]


class Teller:
    """Gathers what an engine shows, in its own thread, and packs what is new of it, in another's."""

    def __init__(self, wake: Callable[[], object]) -> None:
        """wake: called once there is something."""
        self._wake, self._lock = wake, threading.Lock()
        self._heard: list[tuple[int, LiveWindow, LiveNews]] = []  # since the last turn
        self._ready: list[tuple[int, LiveWindow, LiveNews]] = []
        self._snapshot = Snapshot()
        self._sender, self._layouts = Sender(), dict[tuple[Any, ...], PieceLayout]()
        self._states: Mapping[int, KitState] = {}  # as it was gathered last
        self._sent: dict[int, tuple[Any, ...]] = {}  # kit -> its state as it was told last, field by field

    def hear(self, kit: int, live: LiveWindow, news: LiveNews) -> None:
        self._heard.append((kit, live, news))

    def turned(self, snapshot: Snapshot) -> None:
        with self._lock:
            self._snapshot = snapshot
            self._ready += self._heard
            if len(self._ready) > MOST_WAITING:
                self._let_go()
        self._heard = []
        self._wake()

    def _let_go(self) -> None:
        """Windows of which something is let go begin anew, so that no line is drawn across what is missing."""
        gone, self._ready = self._ready[: MOST_WAITING // 2], self._ready[MOST_WAITING // 2 :]
        anew = {kit: (kit, live, LiveNews("cleared")) for kit, live, _ in gone}
        self._ready[:0] = anew.values()

    def packed(
        self, trouble: Trouble | None, events: list[EngineEvent], answers: list[tuple[int, Any, BaseException | None]],
        journal: tuple[Trouble | None, int, int],
    ) -> Parcel:  # fmt: skip
        """What is new since last asked. Events and answers are to be taken before: what they speak of can be seen then. Raises what packing
        raises; the next that is asked for then holds all that this one would have held."""
        with self._lock:
            snapshot, ready, self._ready = self._snapshot, self._ready, []
        before = self._states, dict(self._sent)
        try:
            return self._packed(snapshot, ready, trouble, events, answers, journal)
        except BaseException:
            self._states, self._sent = before
            with self._lock:
                self._ready[:0] = ready
            raise

    def _packed(
        self, snapshot: Snapshot, ready: list[tuple[int, LiveWindow, LiveNews]], trouble: Trouble | None,
        events: list[EngineEvent], answers: list[tuple[int, Any, BaseException | None]],
        journal: tuple[Trouble | None, int, int],
    ) -> Parcel:  # fmt: skip
        numbers, live = Numbers(self._layouts), dict[int, list[tuple[Any, ...]]]()
        for kit, window, news in ready:
            if (state := snapshot.kits.get(kit)) is not None and state.live is window:
                live.setdefault(kit, []).append(packed_news(news, numbers))
        whole = bool(answers or events)
        kits = {
            kit: tuple(self._new_of(kit, state, live.get(kit, []), whole or (snapshot.turn // 2 + kit) % LATE == 0))
            for kit, state in snapshot.kits.items()
            if self._states.get(kit) is not state or kit in live or whole
        }
        gone = [kit for kit in self._sent if kit not in snapshot.kits]
        for kit in gone:
            del self._sent[kit]
        self._states = snapshot.kits
        told = Update(snapshot.at, snapshot.turn, trouble, kits, gone, events, answers, journal)
        return self._sender.packed(tuple(told), numbers.bytes)

    def _new_of(self, kit: int, state: KitState, live: list[tuple[Any, ...]], whole: bool) -> KitNews:
        values, before = msgspec.structs.astuple(state), self._sent.get(kit)
        if before is not None and not whole and SELDOM(values) == SELDOM(before):
            return self._pressing(kit, values, before, live)
        fresh = before is None or before[LIVE] is not state.live
        if before is None or fresh:
            changed = [(at, value) for at, value in enumerate(values) if at not in (LIVE, ROLL)]
            before = None
        else:
            changed = [
                (at, value)
                for at, (value, old) in enumerate(zip(values, before, strict=True))
                if value is not old and at not in (LIVE, ROLL) and not (type(value) in BY_VALUE and value == old)
            ]
        lines = _new_lines(state.roll, before[ROLL] if before is not None else EMPTY)
        self._sent[kit] = values
        return KitNews(fresh, changed, lines, live)

    def _pressing(
        self, kit: int, values: tuple[Any, ...], before: tuple[Any, ...], live: list[tuple[Any, ...]]
    ) -> KitNews:
        """What cannot wait: what a run has come to."""
        run: RunState | None = values[RUN]
        if run == before[RUN]:
            return KitNews(False, [], NO_LINES, live)
        self._sent[kit] = (*before[:RUN], run, *before[RUN + 1 :])
        if run is None or before[RUN] is None or before[RUN].id != run.id:
            return KitNews(False, [(RUN, run)], NO_LINES, live)
        return KitNews(False, [(SO_FAR, (run.seconds, run.readings, tuple(run.progress)))], NO_LINES, live)


def _new_lines(roll: Roll, before: Roll) -> NewLines:
    """A tape only grows at its end, and is let go at its beginning in a list of its own."""
    known = before.stop
    if known and roll.pieces is not before.pieces:
        last = before.pieces[known - 1]
        known = next((at + 1 for at in range(roll.stop - 1, -1, -1) if roll.pieces[at] is last), 0)
    return packed_pieces(roll.pieces[known : roll.stop]), None if roll.kinds is before.kinds else roll.kinds


class Mirror:
    """Shows the same from what was packed. Guarantees that what was given out of it stays as it is."""

    def __init__(self) -> None:
        self._receiver = Receiver()
        self._kits: dict[int, list[Any]] = {}
        self._lines: dict[int, int] = {}  # kit -> how many its tape holds
        self.snapshot = Snapshot()

    def take(self, parcel: Parcel) -> Update:
        told, numbers = self._receiver.unpacked(parcel)
        found = Update(*told)
        for kit in found.gone:
            self._kits.pop(kit, None)
        states = dict(self.snapshot.kits)
        for kit, news in found.kits.items():
            states[kit] = self._state(kit, KitNews(*news), numbers)
        for kit in found.gone:
            states.pop(kit, None)
        seen = Snapshot(found.at, found.turn, states, found.trouble)
        fallen = found.trouble is not None and found.trouble.code == "engine-stopped"
        self.snapshot = seen.fallen(found.trouble) if fallen else seen  # type: ignore[arg-type]
        return found

    def _state(self, kit: int, news: KitNews, numbers: Any) -> KitState:
        if news.fresh or kit not in self._kits:
            self._kits[kit] = [None] * len(FIELDS)
            self._kits[kit][LIVE] = LiveWindow()
            self._kits[kit][ROLL] = Roll([], 0, {})
            self._lines[kit] = 0
        values = self._kits[kit]
        for at, value in news.changed:
            if at == SO_FAR:
                seconds, readings, progress = value
                values[RUN] = values[RUN]._replace(seconds=seconds, readings=readings, progress=HowFar(*progress))
            else:
                values[at] = value
        if news.lines[0] or news.lines[1] is not None:
            values[ROLL] = self._rolled(kit, values[ROLL], *news.lines)
        for each in news.live:
            values[LIVE].follow(unpacked_news(each, numbers))
        return KitState(*values)

    def _rolled(self, kit: int, roll: Roll, new: Sequence[Any], kinds: Mapping[int, str] | None) -> Roll:
        """What is older than a tape is let go now and then."""
        pieces = roll.pieces
        pieces.extend(new)
        self._lines[kit] += sum(map(len_of, new))
        if self._lines[kit] > MOST_HELD:
            count, at = 0, len(pieces)
            while at > 0 and count < TAPE_LINES:
                at -= 1
                count += len_of(pieces[at])
            pieces, self._lines[kit] = pieces[at:], count
        return Roll(pieces, len(pieces), roll.kinds if kinds is None else kinds)
