"""The engine: one thread that hears all ports through one selector, journals, and drives the flow."""

from __future__ import annotations

import contextlib
import copy
import logging
import queue
import selectors
import threading
import time
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

import msgspec

from common_bench.book.journal import HEARD, LOST, MISSED, SENT, Entry, JournalWriter
from common_bench.links.address import Address
from common_bench.links.opening import open_link, pause_before_retry
from common_bench.model.block import Stamped
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import LinkTrouble, Trouble
from common_bench.record.chain import Chain, Flow
from common_bench.record.ear import Asking, Ear, RunUnderWay, TapeLine
from common_bench.record.rules import Rule
from common_bench.workings.evaluate import Workings

TICK = 0.05  # s of our own time between two turns of the flow; a block of a few lines costs no more than one
MOST_HAPPENINGS = 10_000
MOST_WAITING = 1 << 19  # bytes of one kit before a turn is taken at once, so that a flood cannot hold up the others
LAPSE = 0.5  # s of our own time without a turn: the machine slept or had too much to do, and nobody was listening
JOINED = ("serial", "rfc2217", "tcp")  # links that may be opened in the middle of a line
REST = 0.3  # s that a port stays closed, so that its kit notices

log = logging.getLogger(__name__)


class Happening(NamedTuple):
    """Something the lesson should know of: `what` is run-began, run-ended, format, lost, back, speed,
    restarted, or relayed (`words` is then the id of a kit that is heard through this one's port)."""

    what: str
    kit: int
    run: int = 0
    words: str = ""


class Engine:
    """Guarantees: bytes are stamped when they come, journalled before they are interpreted, and never
    dropped; a kit that fails cannot stop the others; commands take effect between two turns, so that
    a run begins and ends at whole lines.

    `speed` runs the world faster than real time (for stand-ins): all times are then in world seconds.
    """

    def __init__(self, journal: JournalWriter, *, speed: float = 1.0) -> None:
        self.journal = journal
        self.speed = speed
        self.ears: dict[int, Ear] = {}
        self.happenings: queue.Queue[Happening] = queue.Queue(MOST_HAPPENINGS)
        self._commands: queue.Queue[Callable[[], None]] = queue.Queue()
        self._selector = selectors.DefaultSelector()
        self._began = time.monotonic()
        self._turned = 0.0  # when the last turn began
        self._going = True
        self._thread = threading.Thread(target=self._drive, name="engine", daemon=True)
        self.listener: Callable[[Ear, Flow], None] | None = None

    # asked from other threads

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        """Ends all runs and links; everything heard is in the journal when this returns."""
        if self._going and self._thread.is_alive():
            self.ask(self._end)
            self._thread.join(10)

    def now(self) -> float:
        """World s since the engine was made."""
        return (time.monotonic() - self._began) * self.speed

    def ask(self, command: Callable[[], None]) -> None:
        """Runs a command between two turns, and waits for it. Raises what the command raises."""
        done = threading.Event()
        raised: list[BaseException] = []

        def run() -> None:
            try:
                command()
            except BaseException as fault:
                raised.append(fault)
            done.set()

        if not self._thread.is_alive():
            run()
        else:
            self._commands.put(run)
            done.wait(10)
        if raised:
            raise raised[0]

    def hear(
        self, kit: int, hearing: int, address: Address, workings: Workings, calibrations: Iterable[Calibration] = (),
        format: StreamFormat | None = None, *, settled: bool = False,
    ) -> Ear:  # fmt: skip
        """Begins to listen to a kit; it is opened at once, or as soon as it can be."""
        ear = Ear(kit, hearing, address, Chain(workings, calibrations, format), self.now(), settled=settled)
        self.ask(lambda: self._add(ear))
        return ear

    def leave(self, kit: int) -> None:
        """Stops listening to a kit."""
        self.ask(lambda: self._remove(kit))

    def relay(
        self, parent: int, kit: int, id: str, workings: Workings, calibrations: Iterable[Calibration] = ()
    ) -> Ear:
        """Hears a kit of its own in what comes through another kit's port, told apart by its id in the lines."""
        made: list[Ear] = []

        def add() -> None:
            source = self.ears[parent]
            format = source.chain.reader.format
            assert format is not None
            chain = Chain(workings, calibrations, msgspec.structs.replace(format, only=id))
            chain.reader.cutter = copy.copy(source.chain.reader.cutter)
            ear = Ear(kit, source.hearing, source.address, chain, self.now(), settled=True, parent=source)
            source.relayed[id] = self.ears[kit] = ear
            made.append(ear)

        self.ask(add)
        return made[0]

    def set_address(self, kit: int, address: Address) -> None:
        """Opens a kit's link anew with another speed or other settings, as somebody has set them."""
        self.ask(lambda: self._reopen(self.ears[kit], address, settled=True))

    def set_speed(self, kit: int, speed: int) -> None:
        self.set_address(kit, self.ears[kit].address.at(speed))

    def restart(self, kit: int) -> None:
        """Restarts a kit where its link can. Raises LinkTrouble where it cannot."""
        link = self.ears[kit].link
        if link is None:
            raise Trouble("the kit is not connected.", do="Plug it in.")
        link.restart()

    def read_as(self, kit: int, format: StreamFormat) -> None:
        """Another stream format from the next line on; not while a run is recorded. Raises Trouble."""

        def set_it() -> None:
            ear = self.ears[kit]
            if any(each.run is not None for each in (ear, *ear.relayed.values())):
                raise Trouble("how a kit is read cannot be changed during its run.", do="End the run first.")
            ear.chain.read_as(format)
            ear.live.forget_all()
            for id, each in ear.relayed.items():
                each.chain.read_as(msgspec.structs.replace(format, only=id))
                each.live.forget_all()
            self._tell("format", kit)

        self.ask(set_it)

    def ask_kit(self, kit: int, plan: AskPlan | None) -> None:
        """Asks a kit for each reading from now on; None: no longer."""

        def set_it() -> None:
            self.ears[kit].asking = Asking(plan, self.now()) if plan else None

        self.ask(set_it)

    def calibrate(self, kit: int, calibrations: Iterable[Calibration]) -> None:
        kept = tuple(calibrations)

        def set_them() -> None:
            if kit in self.ears and self.ears[kit].chain.calibrations != kept:
                self.ears[kit].chain.calibrate(kept)
                self.ears[kit].live.forget()

        self.ask(set_them)

    def work(self, workings: Workings) -> None:
        """Other workings for all kits that are not recording (a run keeps those it began with)."""

        def set_them() -> None:
            for ear in self.ears.values():
                if ear.run is None:
                    ear.chain.work(workings)
                    ear.live.forget()

        self.ask(set_them)

    def begin_run(self, kit: int, run: int, number: int, rule: Rule) -> None:
        self.ask(lambda: self._begin_run(kit, run, number, rule))

    def end_run(self, kit: int, words: str) -> None:
        self.ask(lambda: self._end_run(self.ears[kit], None, words))

    def send(self, kit: int, data: bytes) -> None:
        """Sends bytes to a kit; what is sent is journalled."""
        self.ask(lambda: self._send(self.ears[kit], data))

    # in the engine's own thread

    def _drive(self) -> None:
        next_turn = time.monotonic()
        while self._going:
            wait = max(0.0, next_turn - time.monotonic())
            full = False
            for key, _ in self._selector.select(wait):
                self._read(key.data)
                full = full or key.data.waiting_bytes > MOST_WAITING
            if full or time.monotonic() >= next_turn:
                self._turn()
                next_turn = max(next_turn + TICK, time.monotonic())

    def _turn(self) -> None:
        with contextlib.suppress(queue.Empty):
            while True:
                self._commands.get_nowait()()
        if not self._going:
            return
        at = self.now()
        if at - self._turned > LAPSE * self.speed:
            for ear in self.ears.values():
                ear.overlook(self._turned, at)
        self._turned = at
        for ear in list(self.ears.values()):
            try:
                self._serve(ear, at)
            except Exception:  # one kit must never stop the others
                log.exception("kit %s", ear.kit)
                ear.pending, ear.waiting_bytes = [], 0

    def _serve(self, ear: Ear, at: float) -> None:
        self._feed(ear, at)
        if ear.link is None:
            if at >= ear.next_try and ear.parent is None:
                self._open(ear)
            return
        if ear.parent is None and not getattr(ear.link, "connected", True):
            ear.last_heard = ear.last_reading = ear.opened_at = at  # a host that is still being reached is not silent
            return
        if ear.asking:
            self._ask_for_reading(ear, ear.asking, at)
        other = ear.judge(at)
        self._tell_if_back(ear)
        if other is not None:
            self._reopen(ear, other)

    def _ask_for_reading(self, ear: Ear, asking: Asking, at: float) -> None:
        if asking.waits and at - asking.asked_at > asking.plan.within:
            asking.missed += 1
            asking.asked_at = float("nan")
            self.journal.put(Entry(ear.hearing, MISSED, at))
            ear.chain.missed()
        if not asking.waits and at >= asking.next_at:
            asking.next_at = max(asking.next_at + asking.plan.every, at)
            asking.asked_at = at
            try:
                self._send(ear, asking.plan.data)
            except Trouble as fault:
                log.info("kit %s could not be asked: %s", ear.kit, fault)

    def _feed(self, ear: Ear, at: float) -> None:
        """Journals what has come and sends it down the flow."""
        if not ear.pending:
            return
        chunks, ear.pending, ear.waiting_bytes = ear.pending, [], 0
        self.journal.put(Entry(ear.hearing, HEARD, chunks[0].at, chunks))
        known = ear.chain.reader.format
        trying = not ear.speed_found
        data = b"".join(chunk.data for chunk in chunks)
        for each in (ear, *ear.relayed.values()):
            flow = each.chain.feed(chunks)
            restarted = each.take(flow.heard, data, at)
            each.live.add(flow, sparse=known is None or known.sparse)
            if restarted and each is ear:
                self._tell("restarted", each.kit)
            self._follow_rule(each, flow)
            if self.listener:
                self.listener(each, flow)
        again = trying and ear.speed_found and ear.speeds_tried > 1 and ear.link is not None
        if again and known is None:
            ear.chain.reader.forget_format()  # the line of names may have been lost at a wrong speed
            ear.live.forget_all()
        if ear.chain.reader.format is not known:
            self._tell("format", ear.kit)
        for id in [id for id in ear.chain.reader.kits if id and id not in ear.relayed and id not in ear.told_of]:
            ear.told_of.add(id)
            self._tell("relayed", ear.kit, words=id)
        if again:
            # What a kit says at its start was lost at the wrong speeds: open once more, now at the right one.
            self._close_link(ear)
            self._give_up_half_line(ear, at)
            ear.next_try = at + REST * self.speed
            self._tell("speed", ear.kit, words=str(ear.address.speed))

    def _read(self, ear: Ear) -> None:
        assert ear.link is not None
        try:
            data = ear.link.read()
        except LinkTrouble as fault:
            self._lose(ear, fault)
            return
        if data:
            ear.last_heard = self.now()
            ear.pending.append(Stamped(ear.last_heard, data))
            ear.waiting_bytes += len(data)

    def _add(self, ear: Ear) -> None:
        self.ears[ear.kit] = ear
        self._open(ear)

    def _open(self, ear: Ear) -> None:
        try:
            ear.link = open_link(ear.address)
        except LinkTrouble as fault:
            self._retry_later(ear, fault)
            return
        ear.opened(self.now())
        if ear.address.kind in JOINED:
            ear.chain.reader.join()
        self._selector.register(ear.link, selectors.EVENT_READ, ear)
        self._tell_if_back(ear)

    def _tell_if_back(self, ear: Ear) -> None:
        if ear.is_back:
            ear.away = False
            self._tell("back", ear.kit)

    def _lose(self, ear: Ear, fault: LinkTrouble) -> None:
        at = self.now()
        self._feed(ear, at)
        was_heard = ear.heard_since_open
        self._close_link(ear)
        self._give_up_half_line(ear, at)
        self._retry_later(ear, fault)
        if was_heard:
            ear.losses += 1
            ear.away = True
            self._tell("lost", ear.kit, words=fault.what)

    def _retry_later(self, ear: Ear, fault: LinkTrouble) -> None:
        ear.trouble = fault
        pause = pause_before_retry(ear.address, ear.failures) * self.speed
        ear.failures += 1
        ear.next_try = float("inf") if fault.cause == "file-ended" else self.now() + pause

    def _give_up_half_line(self, ear: Ear, at: float) -> None:
        if ear.heard_since_open:
            self.journal.put(Entry(ear.hearing, LOST, at))
            for each in (ear, *ear.relayed.values()):
                each.take(each.chain.lost(at).heard, b"", at)

    def _close_link(self, ear: Ear) -> None:
        if ear.link is not None:
            with contextlib.suppress(KeyError, ValueError):
                self._selector.unregister(ear.link)
            ear.link.close()
            ear.link = None

    def _reopen(self, ear: Ear, address: Address, *, settled: bool = False) -> None:
        self._close_link(ear)
        at = self.now()
        self._give_up_half_line(ear, at)
        ear.address = address
        ear.speed_found = settled
        self._open(ear)
        self._tell("speed", ear.kit, words=str(address.speed))

    def _remove(self, kit: int) -> None:
        ear = self.ears.pop(kit, None)
        if ear is None:
            return
        for id, each in list(ear.relayed.items()):
            ear.relayed.pop(id)
            self._remove(each.kit)
        if ear.run is not None:
            self._end_run(ear, None, "the kit was left")
        if ear.parent is None:
            self._close_link(ear)

    def _begin_run(self, kit: int, run: int, number: int, rule: Rule) -> None:
        ear = self.ears.get(kit)
        if ear is None or not ear.ready:
            raise Trouble("this bench is not ready to record.", do="Wait until its kit is heard.")
        if ear.run is not None:
            raise Trouble("this bench is recording already.", do="End that run first.")
        setting = ear.chain.begin_run()
        begin = ear.chain.reader.cutter.line_start
        ear.run = RunUnderWay(run, number, rule, begin, setting)
        ear.live.forget(*(name for name in ear.live.names() if not name.startswith("raw ")))
        self._keep_run(ear, begin_byte=begin, state="open", setting=msgspec.json.encode(setting).decode())
        self._tell("run-began", kit, run)

    def _follow_rule(self, ear: Ear, flow: Flow) -> None:
        run = ear.run
        if run is None:
            return
        for worked in flow.worked:
            block = worked.block
            if run.began != run.began:
                run.began = float(block.t[0])
            run.last = float(block.t[-1])
            run.readings += len(block)
            row = run.rule.ends_at(block, run.began)
            if row is not None:
                run.last = run.began + run.rule.seconds
                self._end_run(ear, int(block.offset[row]), run.rule.words)
                return

    def _end_run(self, ear: Ear, end: int | None, words: str) -> None:
        run = ear.run
        if run is None:
            return
        ear.run = None
        ear.chain.end_run()
        last = ear.chain.reader.cutter.line_start if end is None else end
        self._keep_run(ear, run=run, end_byte=last, state="closed", ended_by=words)
        self._tell("run-ended", ear.kit, run.id, words)

    def _keep_run(self, ear: Ear, run: RunUnderWay | None = None, **values: Any) -> None:
        kept = run or ear.run
        assert kept is not None
        self.journal.put(Entry(ear.hearing, "run", run=kept.id, values=values))

    def _send(self, ear: Ear, data: bytes) -> None:
        if ear.link is None:
            raise Trouble("nothing can be sent: the kit is not connected.", do="Plug it in.")
        try:
            ear.link.write(data)
        except OSError as fault:
            raise Trouble("nothing could be sent.", do="Check the cable.") from fault
        self.journal.put(Entry(ear.hearing, SENT, self.now(), [Stamped(self.now(), data)]))
        ear.tape.append(TapeLine(self.now(), -1, data.rstrip(b"\r\n"), "sent"))

    def _tell(self, what: str, kit: int, run: int = 0, words: str = "") -> None:
        with contextlib.suppress(queue.Full):
            self.happenings.put_nowait(Happening(what, kit, run, words))

    def _end(self) -> None:
        for ear in self.ears.values():
            self._feed(ear, self.now())
            if ear.run is not None:
                self._end_run(ear, None, "the program was closed")
            if ear.parent is None:
                self._close_link(ear)
        self._going = False
        self._selector.close()
