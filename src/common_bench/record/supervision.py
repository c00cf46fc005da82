"""Links kept alive: opened, tried again, opened at another speed, lost and found, whatever they raise."""

from __future__ import annotations

import contextlib
import logging
import math
from collections.abc import Callable

from common_bench.book.journal import MISSED, SENT, JournalEntry, JournalWriter
from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.links.opening import open_link, pause_before_retry
from common_bench.model.block import Stamped
from common_bench.model.trouble import LinkTrouble, Trouble
from common_bench.record.connection import Asking, KitConnection
from common_bench.record.diagnosis import judge
from common_bench.record.events import EngineEvent, EventQueue
from common_bench.record.late_reading import stamped
from common_bench.record.loop import Loop, passing

JOINED = ("serial", "rfc2217", "tcp")  # links that may be opened in the middle of a line
LOOK_EVERY = 0.1  # s, where nothing is wrong
REST = 0.3  # s that a port stays closed, so that its kit notices

log = logging.getLogger(__name__)


class Supervisor:
    """Guarantees that whatever a link raises is that link's trouble and nobody else's: it is closed, told, and tried
    again by itself."""

    def __init__(
        self, loop: Loop, journal: JournalWriter, now: Callable[[], float], speed: float,
        feed: Callable[[KitConnection, float], None], give_up: Callable[[KitConnection, float], None], events: EventQueue,
    ) -> None:  # fmt: skip
        """feed: sends what has come down the flow; give_up: the half line that is open. now: s on the engine's clock."""
        self._loop, self._journal, self._now, self._speed = loop, journal, now, speed
        self._feed, self._give_up, self._events = feed, give_up, events

    def read(self, kit: KitConnection) -> None:
        """Takes what a link has."""
        if kit.link is None:
            return
        try:
            data = kit.link.read()
        except LinkTrouble as fault:
            self.lose(kit, fault)
            return
        except Exception as fault:  # a link that fails in an unknown way is that link's trouble
            log.exception("the link of kit %s", kit.kit)
            self.lose(kit, trouble("link-broken", kit.address.name, fault=f"{type(fault).__name__}: {fault}"))
            return
        if data:
            at = kit.last_heard = self._now()
            deaf_since = at - (passing() - self._loop.deaf_since) * self._speed
            step = kit.chain.reader.clock.even_step if not kit.relayed else math.nan
            kit.pending += stamped(data, deaf_since, at, step)
            kit.waiting_bytes += len(data)

    def look_after(self, kit: KitConnection, at: float) -> None:
        """Opens what is closed, asks what wants to be asked, and says what is wrong. Once a turn."""
        if kit.link is None:
            if at >= kit.next_try and kit.parent is None:
                self.open(kit)
            return
        if kit.parent is None and not getattr(kit.link, "connected", True):
            kit.last_heard = kit.last_reading = kit.opened_at = at  # a host that is still being reached is not silent
            return
        if kit.is_well and kit.asking is None and at < kit.look_again:
            return
        kit.look_again = at + LOOK_EVERY
        if kit.asking:
            self._ask_for_reading(kit, kit.asking, at)
        other = judge(kit, at)
        self._tell_if_back(kit)
        if other is not None:
            self.reopen(kit, other)

    def open(self, kit: KitConnection) -> None:
        try:
            kit.link = open_link(kit.address)
            self._loop.watch(kit.link, kit)
        except LinkTrouble as fault:
            self._retry_later(kit, fault)
            return
        except Exception as fault:
            log.exception("opening kit %s", kit.kit)
            self.close(kit)
            self._retry_later(kit, trouble("link-broken", kit.address.name, fault=f"{type(fault).__name__}: {fault}"))
            return
        kit.opened(self._now())
        if kit.address.kind in JOINED:
            kit.chain.reader.join()
        self._tell_if_back(kit)

    def _tell_if_back(self, kit: KitConnection) -> None:
        if kit.is_back:
            kit.away = False
            self._events.tell(EngineEvent("back", kit.kit))

    def lose(self, kit: KitConnection, fault: LinkTrouble) -> None:
        at = self._now()
        self._feed(kit, at)
        was_heard = kit.heard_since_open
        self.close(kit)
        self._give_up(kit, at)
        self._retry_later(kit, fault)
        if was_heard:
            kit.losses += 1
            kit.away = True
            self._events.tell(EngineEvent("lost", kit.kit, trouble=fault))

    def _retry_later(self, kit: KitConnection, fault: LinkTrouble) -> None:
        kit.own_trouble = fault
        pause = pause_before_retry(kit.address, kit.failures) * self._speed
        kit.failures += 1
        kit.next_try = float("inf") if fault.code == "file-ended" else self._now() + pause

    def close(self, kit: KitConnection) -> None:
        link = kit.link
        if link is not None:
            self._loop.unwatch(link)
            with contextlib.suppress(Exception):
                link.close()
            kit.link = None

    def reopen(self, kit: KitConnection, address: Address, *, settled: bool = False) -> None:
        """Opens a link anew with another speed or other settings; settled: somebody has set them."""
        self.close(kit)
        self._give_up(kit, self._now())
        kit.address = address
        kit.speed.found = settled
        kit.next_try = 0.0
        self._events.tell(EngineEvent("speed", kit.kit))

    def open_once_more(self, kit: KitConnection, at: float) -> None:
        """What a kit says at its start was lost at the wrong speeds: opens it again, now at the right one."""
        self.close(kit)
        self._give_up(kit, at)
        kit.next_try = at + REST * self._speed
        self._events.tell(EngineEvent("speed", kit.kit))

    # to the kit

    def _ask_for_reading(self, kit: KitConnection, asking: Asking, at: float) -> None:
        if asking.waits and at - asking.asked_at > asking.plan.within:
            asking.missed += 1
            asking.asked_at = float("nan")
            self._journal.put(JournalEntry(kit.session, MISSED, at))
            kit.chain.missed()
        if not asking.waits and at >= asking.next_at:
            asking.next_at = max(asking.next_at + asking.plan.every, at)
            asking.asked_at = at
            try:
                self.send(kit, asking.plan.data)
            except Trouble as fault:
                log.info("kit %s could not be asked: %s", kit.kit, fault)

    def send(self, kit: KitConnection, data: bytes) -> None:
        """Sends bytes to a kit and journals them. Raises Trouble where it cannot be."""
        if kit.link is None:
            raise Trouble("cannot-send-unconnected")
        try:
            kit.link.write(data)
        except Trouble:
            raise
        except Exception as fault:
            log.info("sending to kit %s: %s", kit.kit, fault)
            raise Trouble("could-not-send") from fault
        at = self._now()
        self._journal.put(JournalEntry(kit.session, SENT, at, [Stamped(at, data)]))
        kit.tape.sent(at, data)
