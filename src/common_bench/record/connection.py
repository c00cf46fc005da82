"""One kit as the engine hears it: its link, its flow, its live window and tape, its run, and how it stands."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass

from common_bench.links.address import Address
from common_bench.links.link import Link
from common_bench.model.block import Stamped
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.trouble import LinkTrouble
from common_bench.reading.heard import Heard
from common_bench.record.awaited import AwaitedRun
from common_bench.record.chain import Chain
from common_bench.record.live import LiveWindow
from common_bench.record.runs import RunUnderWay
from common_bench.record.snapshot import ClockFace, KitState, Watcher
from common_bench.record.speed import SpeedFinder
from common_bench.record.tally import Tally, Totals
from common_bench.record.tape import LastLines
from common_bench.workings.evaluate import Workings

RESTARTS, RESTARTS_WITHIN = 3, 30.0  # so many restarts in so many s are too many
HOSTS = ("tcp", "rfc2217", "mqtt")
QUIET_CODES = frozenset(
    ["silent", "dead", "menu", "button", "asked", "unreadable", "not-read", "unlike"]
)  # of a link that is open
UNREAD_CODES = frozenset(["not-read", "unlike"])  # bytes come and no readings; over when readings come again
WORDS_KEPT = 8


@dataclass
class Asking:
    """A kit that is asked for each reading: how, when last, and how it answered."""

    plan: AskPlan
    next_at: float = 0.0
    asked_at: float = float("nan")
    answered: int = 0
    missed: int = 0

    @property
    def waits(self) -> bool:
        return self.asked_at == self.asked_at


class KitConnection:
    """`parent` is the connection that owns the port, where one port relays many kits; it hears for all of them.

    Touched by the engine's own thread alone; others see `state`, which is frozen.
    """

    def __init__(
        self,
        kit: int,
        session: int,
        address: Address,
        chain: Chain,
        asked_at: float,
        *,
        settled: bool,
        parent: KitConnection | None = None,
        watcher: Watcher | None = None,
    ) -> None:
        """settled: the speed is known from an earlier time, or was set by hand; others are not tried. watcher: is told of all that changes
        its live window."""
        self.kit, self.session, self._address, self.chain, self.parent = kit, session, address, chain, parent
        self.live = LiveWindow(None if watcher is None else lambda news: watcher.hear(kit, self.live, news))
        self.tape = LastLines()
        self.tally = Tally()
        self.speed = SpeedFinder(found=settled or not address.has_speed)
        self.relayed: dict[str, KitConnection] = {}
        self.run: RunUnderWay | None = None
        self.waiting: AwaitedRun | None = None  # a run that is asked for and has not begun
        self._at_last_reading = 0, 0, 0  # lines, unreadable ones and bytes until then
        self.ended_run: RunUnderWay | None = None  # the last one, that may go on where its end is taken back
        self.next_calibrations: tuple[Calibration, ...] | None = None  # from the end of its run on
        self.next_workings: Workings | None = None
        self.asking: Asking | None = None
        self.pending: list[Stamped] = []
        self.waiting_bytes = 0
        self.last_heard = self.last_reading = asked_at
        self.opened_at = asked_at
        self.next_try = asked_at
        self.losses = self.failures = 0
        self.away = False  # it was heard, then lost, and has not come back
        self.warning: LinkTrouble | None = None
        self.restarts: deque[float] = deque(maxlen=RESTARTS)
        self.words: deque[str] = deque(maxlen=WORDS_KEPT)
        self.told_of: set[str] = set()  # ids on a shared port that were told
        self.since_open = self.readable = self.readings = self.total = 0
        self.ragged = 0
        self.own_trouble: LinkTrouble | None = None
        self._link: Link | None = None
        self.look_again = asked_at  # when it is looked at again, though nothing is wrong with it, on the engine's clock
        self._first_words = ""
        self._clock_restarts = 0

    @property
    def address(self) -> Address:
        return self.parent.address if self.parent else self._address

    @address.setter
    def address(self, address: Address) -> None:
        self._address = address

    @property
    def link(self) -> Link | None:
        return self.parent.link if self.parent else self._link

    @link.setter
    def link(self, link: Link | None) -> None:
        self._link = link

    @property
    def trouble(self) -> LinkTrouble | None:
        """What keeps it from being used; what only wants to be known is `warning`."""
        return (self.parent.trouble if self.parent else None) or self.own_trouble

    @property
    def all(self) -> tuple[KitConnection, ...]:
        """Itself and those that it relays."""
        return (self, *self.relayed.values())

    def share(self, of: int) -> int:
        """Which of so many shares of all kits it is in; those on one port are in the same."""
        return (self.parent or self).kit % of

    @property
    def is_free(self) -> bool:
        """Whether no run is under way on it, or waits to begin."""
        return self.run is None and self.waiting is None

    @property
    def can_record(self) -> bool:
        """Whether a run can begin: open, its format known, and a reading heard since it was opened."""
        known = self.chain.reader.format is not None and self.readings > 0
        return self.link is not None and known and self.trouble is None

    @property
    def heard_since_open(self) -> bool:
        return self.since_open > 0

    @property
    def rate(self) -> float:
        """Lines per s over the last few seconds (readings, where it is one kit of many on a port); nan while too early."""
        return self.tally.per_second("readings" if self.parent else "lines")

    @property
    def load(self) -> float:
        """Share of what the speed can carry; nan where the link has no speed or it is too early."""
        address = self.address
        per_second = (self.parent or self).tally.per_second("bytes")
        return per_second * address.bits / address.speed if address.has_speed else float("nan")

    @property
    def unanswered(self) -> bool:
        """Whether a host's trouble lasts though it is called again: a port that opens is there, a host has yet to answer."""
        return self.address.kind in HOSTS and self.own_trouble is not None and self.own_trouble.code not in QUIET_CODES

    @property
    def unread(self) -> tuple[int, int, int]:
        """Lines, those of them that could not be read, and bytes, since the last reading."""
        lines, unreadable, total = self._at_last_reading
        reader = self.chain.reader
        return reader.lines - lines, reader.unreadable - unreadable, self.total - total

    @property
    def is_well(self) -> bool:
        """Whether nothing is wrong with it, as far as is known."""
        return self.own_trouble is None and self.warning is None and not self.away and self.speed.found

    @property
    def is_back(self) -> bool:
        """Whether a kit that was lost can be used again."""
        return (
            self.away and self.link is not None and (self.own_trouble is None or self.own_trouble.code in QUIET_CODES)
        )

    def opened(self, at: float) -> None:
        if self.own_trouble is not None and self.own_trouble.code != "unreadable" and not self.unanswered:
            self.own_trouble = None
        self.warning = None
        self.look_again = at
        self.opened_at = self.last_heard = self.last_reading = at
        self.since_open = self.readable = self.readings = 0
        self.speed.opened()
        self.tally.clear()
        for each in self.relayed.values():
            each.opened(at)

    def discount_pause(self, since: float, until: float) -> None:
        """Takes out s in which nobody listened, so that no kit is called silent for them."""
        missed = until - since
        self.last_heard, self.last_reading, self.opened_at = (
            min(until, each + missed) for each in (self.last_heard, self.last_reading, self.opened_at)
        )
        if self.asking is not None and self.asking.waits:
            self.asking.asked_at = min(until, self.asking.asked_at + missed)

    def take(self, heard: Heard, data: bytes, at: float) -> bool:
        """Counts and remembers what came of one feed of `data`. True where the kit has restarted in it."""
        self.since_open += len(data)
        self.total += len(data)
        self.speed.take(data)
        good = heard.readings + sum(1 for each in heard.other_lines if each.kind in ("words", "names"))
        self.readable += good
        self.readings += heard.readings
        if good:
            self.failures = 0
        if heard.readings:
            self.last_reading = at
            self._at_last_reading = self.chain.reader.lines, self.chain.reader.unreadable, self.total
            if self.asking and self.asking.waits:
                self.asking.answered += 1
                self.asking.asked_at = float("nan")
            self.speed.found = True
        elif any(each.kind == "words" and len(each.line) > 3 for each in heard.other_lines):
            self.speed.found = True
        trouble = self.own_trouble
        quiet = trouble is not None and trouble.code in QUIET_CODES and trouble.code not in UNREAD_CODES
        if trouble is not None and ((quiet and good) or (self.unanswered and data)):
            self.own_trouble = None
        self._remember(heard)
        if self.tally.is_due(at):
            reader = self.chain.reader
            self.tally.add(Totals(at, reader.lines, reader.readings, reader.unreadable, self.total))
        return self._restarted(heard, at)

    def _remember(self, heard: Heard) -> None:
        for each in heard.other_lines:
            if each.kind in ("words", "names"):
                self.words.append(each.text)
            elif each.kind == "unreadable" and each.line[:1].isdigit() and each.line[-1:].isdigit():
                self.ragged += 1
        self.tape.add(heard, own_only=self.parent is not None)

    def _restarted(self, heard: Heard, at: float) -> bool:
        """A kit has restarted where its clock begins anew, or its first words come again."""
        again = self.chain.reader.clock.restarts > self._clock_restarts
        self._clock_restarts = self.chain.reader.clock.restarts
        for each in heard.other_lines:
            if each.kind == "words" and len(each.line) > 4:
                if not self._first_words:
                    self._first_words = each.text
                elif each.text == self._first_words and at - self.opened_at > 1.0:
                    again = True
        if again and (not self.restarts or at - self.restarts[-1] > 0.5):
            self.restarts.append(at)
            return True
        return False

    def new_ids(self) -> list[str]:
        """Ids that it is sure by now tell kits on its port apart, each told once."""
        reader = self.chain.reader
        if reader.format is None or not reader.format.is_sure or not reader.format.shared:
            return []
        found = [id for id in reader.kits if id and id not in self.relayed and id not in self.told_of]
        self.told_of.update(found)
        return found

    def taken_back(self) -> list[tuple[str, KitConnection]]:
        """Ids that were none, and the kits that were heard by them; they are no longer."""
        reader = self.chain.reader
        if reader.format is None or reader.format.shared:
            return []
        found = [(id, each) for id, each in self.relayed.items() if each.is_free]
        for id, _ in found:
            del self.relayed[id]
            self.told_of.discard(id)
        return found

    @property
    def sends_on_change(self) -> bool:
        """Whether its readings come unevenly, as from a kit that sends only what changes."""
        reader = self.chain.reader
        return reader.readings >= LEAST_READINGS and reader.clock.uneven

    @property
    def state(self) -> KitState:
        """How it stands now, frozen."""
        reader, run, asking = self.chain.reader, self.run, self.asking
        clock = reader.clock
        return KitState(
            self.kit, self.session, self.address, self.live, self.parent.kit if self.parent else None,
            {id: each.kit for id, each in self.relayed.items()}, self.link is not None, self.can_record, self.trouble,
            self.warning, reader.format, self.chain.calibrations,
            ClockFace(clock.spacing, clock.rate, clock.u_rate, clock.last_raw, clock.uneven, clock.restarts), self.rate, self.load,
            reader.lines, reader.readings, reader.notes, reader.unreadable, run.state if run is not None else None,
            self.waiting.state if self.waiting is not None else None,
            asking.plan if asking is not None else None, asking.answered if asking is not None else 0,
            asking.missed if asking is not None else 0, self.last_heard, self.last_reading, self.losses, self.speed.found,
            self.speed.tried, self.tape.roll, reader.finder.judgement, reader.finder.doubt,
        )  # fmt: skip


LEAST_READINGS = 10  # before it is said how evenly they come


def states_of(
    kits: Mapping[int, KitConnection], before: Mapping[int, KitState], share: int | None, shares: int
) -> dict[int, KitState]:
    """How kits stand: those of a share as they are now, all where it is None; of others it is as it was."""
    return {
        id: kit.state if share in (None, kit.share(shares)) or id not in before else before[id]
        for id, kit in kits.items()
    }
