"""The engine: hears all kits through one loop, journals what they send, drives the flow, and tells how they stand."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotInTime
from typing import TypeVar

import msgspec

from common_bench.book.journal import HEARD, LOST, JournalEntry, JournalWriter
from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.model.block import Stamped, bytes_of
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.run import Ending
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.model.trouble import EngineTrouble, Trouble
from common_bench.record.awaited import parts_to_begin_at
from common_bench.record.chain import Chain, Flow
from common_bench.record.connection import Asking, KitConnection, states_of
from common_bench.record.events import EngineEvent, EventQueue
from common_bench.record.loop import REST, Loop, passing, turns_every
from common_bench.record.rules import Rule
from common_bench.record.run_keeper import RunKeeper, catch_up
from common_bench.record.snapshot import Snapshot, Watcher
from common_bench.record.supervision import Supervisor
from common_bench.workings.evaluate import Workings

MOST_WAITING = 1 << 19  # bytes of one kit before a turn is taken at once, so that a flood cannot hold up the others
LAPSE = 0.5  # s of our own time without a turn: the machine slept or had too much to do, and nobody was listening
HANGS_AFTER = 3.0  # s of our own time without a turn, after which it is said that nothing is heard
END_WITHIN = 10.0  # s
FAULT_TOLD_FOR = 20.0  # s of our own time that a failure is told, after listening has begun again
PATIENCE = 10.0  # s that a command may take where its caller has time
FEW = 12  # kits that all have their turn at once; of more, half and then the other, so that none waits for all where somebody watches
FOR_RUNS = 3.0  # s that runs may take to begin and to end on a machine that is busy, even where its caller has none

Given = TypeVar("Given")
Listener = Callable[[int, Flow], None]
log = logging.getLogger(__name__)


class Engine:
    """Guarantees: bytes are stamped when they come, as near as that is known, journalled before they are interpreted, and never
    dropped; a kit that fails cannot stop the others; commands take effect between the turns of two kits, so that
    a run begins and ends at whole lines; nothing in a snapshot claims to be heard or recorded when the engine or
    the journal does not do it.

    Others see `snapshot`, which is frozen, and ask; nobody touches a connection but the engine's own thread.
    `speed` runs the world faster than real time (for stand-ins): all times are then in world seconds.
    `patience`: s that a command may take before it raises.
    """

    def __init__(
        self, journal: JournalWriter, *, speed: float = 1.0, patience: float = PATIENCE, began: float | None = None,
        watcher: Watcher | None = None, tick: float | None = None,
    ) -> None:  # fmt: skip
        """began: when its clock did (see `passing`), now where nobody says; watcher: is told all that is seen; tick: s between turns."""
        self.journal, self._watcher = journal, watcher
        self._tick = turns_every(apart=watcher is not None) if tick is None else tick
        self.speed, self.patience = speed, patience
        self.listener: Listener | None = None
        self.turned: Callable[[], bool] = lambda: False  # called in its own thread after each turn: whether it is drawn
        self._events = EventQueue()
        self._kits: dict[int, KitConnection] = {}
        self._began = passing() if began is None else began
        self._turned = 0.0  # when the last turn began, on the engine's clock
        self._turn_number, self._shares = 0, 1
        self._fault: Trouble | None = None
        self._fault_at = 0.0
        self._snapshot = Snapshot()
        self._loop = Loop(self._read, self._turn, self._fell, REST if watcher is None else None)
        self.drawn = self._loop.release  # what `turned` told of is; until then the next turn waits a little
        self._runs = RunKeeper(journal, self._events)
        self._links = Supervisor(
            self._loop, journal, self.now, speed, self._feed, self._give_up_partial_line, self._events
        )

    # how it stands

    def now(self) -> float:
        """World s since the engine was made, those among them in which the machine slept."""
        return (passing() - self._began) * self.speed

    @property
    def snapshot(self) -> Snapshot:
        """All kits at the end of the last turn; where there are no turns any more, none of them heard."""
        found = self._snapshot
        alive = self._loop.is_alive
        if (not alive and self._loop.has_died) or self._loop.broken is not None:
            return found.fallen(trouble("engine-stopped", ""))
        if alive and self.now() - found.at > HANGS_AFTER * self.speed:
            return found.in_trouble(EngineTrouble("engine-hangs", seconds=(self.now() - found.at) / self.speed))
        return found if (told := self.journal.trouble or self._fault) is None else found.in_trouble(told)

    def events(self) -> list[EngineEvent]:
        """What has happened since last asked, oldest first."""
        if not self._loop.is_alive:
            self._events.publish()
        return self._events.take()

    # commands, from other threads

    def start(self) -> None:
        self._loop.start()

    def stop(self) -> None:
        """Ends all runs and links; all heard is with the journal then. Raises EngineTrouble after END_WITHIN s."""
        if self._loop.is_alive:
            self._loop.ask(self._end, END_WITHIN)
            if not self._loop.join(END_WITHIN):
                raise EngineTrouble("engine-busy", within=END_WITHIN)

    def ask(self, command: Callable[[], Given], within: float = 0.0) -> Given:
        """Has a command done between two turns and gives its answer, within s or `patience`. Raises what it raises, or EngineTrouble."""
        return self._loop.ask(lambda: self._then_publish(command), max(within, self.patience))

    @contextlib.contextmanager
    def together(self) -> Iterator[None]:
        """Commands that bring the engine in step, several at once: here each is quick enough by itself."""
        yield

    def follow(self, command: Callable[[], object]) -> None:
        """Has a command done that brings the engine in step with the book, now or as soon as it can be; what it raises
        later is told as an event of the kind “failed”."""
        answer = self._loop.post(lambda: self._then_publish(command))
        try:
            answer.result(self.patience)
        except NotInTime:
            answer.add_done_callback(self._tell_if_failed)

    def _tell_if_failed(self, answer: Future[object]) -> None:
        fault = answer.exception()
        if fault is not None:
            log.warning("a command failed after its caller had left: %s", fault)
            told = fault if isinstance(fault, Trouble) else EngineTrouble("engine-failed", fault=fault)
            self._events.tell(EngineEvent("failed", trouble=told))

    def hear(
        self, kit: int, session: int, address: Address, workings: Workings, calibrations: Iterable[Calibration] = (),
        format: StreamFormat | None = None, *, settled: bool = False,
    ) -> None:  # fmt: skip
        """Begins to listen to a kit that is not heard yet, now or as soon as it can be."""
        chain = Chain(workings, calibrations, format, ClockState(pace=self.speed), paced=address.paced)
        made = KitConnection(kit, session, address, chain, self.now(), settled=settled, watcher=self._watcher)
        self.follow(lambda: self._kits.setdefault(kit, made))

    def leave(self, kit: int) -> None:
        """Stops listening to a kit, now or as soon as it can be."""
        self.follow(lambda: self._remove(kit))

    def relay(
        self, parent: int, kit: int, id: str, workings: Workings, calibrations: Iterable[Calibration] = ()
    ) -> None:
        """Hears a kit of its own in what comes through another kit's port, told apart by its id in the lines."""

        def add() -> None:
            source = self._kits.get(parent)
            if source is None or kit in self._kits or (format := source.chain.reader.format) is None:
                return
            chain = Chain(workings, calibrations, msgspec.structs.replace(format, only=id), ClockState(pace=self.speed))
            chain.reader.cutter = source.chain.reader.cutter
            made = KitConnection(
                kit, source.session, source.address, chain, self.now(), settled=True, parent=source, watcher=self._watcher,
            )  # fmt: skip
            source.relayed[id] = self._kits[kit] = made

        self.follow(add)

    def move(self, kit: int, path: str) -> None:
        """The kit's port is back under another path."""

        def move_it() -> None:
            self._kits[kit].address = self._kits[kit].address.moved(path)

        self.follow(move_it)

    def set_address(self, kit: int, address: Address) -> None:
        """Opens a kit's link anew with another speed or other settings, as somebody has set them."""
        self.follow(lambda: self._links.reopen(self._kits[kit], address, settled=True))

    def restart(self, kit: int) -> None:
        """Restarts a kit where its link can. Raises Trouble where it cannot."""

        def restart_it() -> None:
            link = self._kits[kit].link
            if link is None:
                raise Trouble("kit-not-connected")
            link.restart()

        self.ask(restart_it)

    def read_as(self, kit: int, format: StreamFormat) -> None:
        """Another stream format from the next line on; not while a run is recorded. Raises Trouble."""

        def set_it() -> None:
            found = self._kits[kit]
            if not all(each.is_free for each in found.all):
                raise Trouble("kit-records")
            found.chain.read_as(format)
            found.live.forget_all()
            found.tally.clear()  # what could not be read before says nothing of it
            for id, each in found.relayed.items():
                each.chain.read_as(msgspec.structs.replace(format, only=id))
                each.live.forget_all()
            self._events.tell(EngineEvent("format", kit))

        self.follow(set_it)

    def ask_kit(self, kit: int, plan: AskPlan | None) -> None:
        """Asks a kit for each reading from now on; None: no longer."""

        def set_it() -> None:
            self._kits[kit].asking = Asking(plan, self.now()) if plan else None

        self.follow(set_it)

    def calibrate(self, kit: int, calibrations: Iterable[Calibration]) -> None:
        """Other calibrations from now on; for a kit that records, from the end of its run on."""
        kept = tuple(calibrations)

        def set_them() -> None:
            if (found := self._kits.get(kit)) is not None:
                found.next_calibrations = kept
                if found.is_free:
                    catch_up(found)

        self.follow(set_them)

    def work(self, workings: Workings) -> None:
        """Other workings from now on; for kits that record, from the end of their runs on."""

        def set_them() -> None:
            for found in self._kits.values():
                found.next_workings = workings
                if found.is_free:
                    catch_up(found)

        self.follow(set_them)

    def begin_runs(self, asked: Sequence[tuple[int, int, int]], rule: Rule) -> Future[dict[int, Trouble]]:
        """Begins to record, all in one turn. asked: kit, run and its number, of each; the answer says by kit why one cannot
        begin."""
        return self._loop.post(lambda: self._then_publish(lambda: self._begin_all(asked, rule)))

    def begin_runs_now(self, asked: Sequence[tuple[int, int, int]], rule: Rule) -> dict[int, Trouble]:
        """As `begin_runs`, once it is done. Raises EngineTrouble where that takes longer than FOR_RUNS s."""
        return self.ask(lambda: self._begin_all(asked, rule), FOR_RUNS)

    def _begin_all(self, asked: Sequence[tuple[int, int, int]], rule: Rule) -> dict[int, Trouble]:
        return self._runs.begin_all(self._kits, asked, rule, self.now(), self.speed)

    def end_runs(self, kits: Iterable[int], ending: Ending) -> Future[None]:
        """Ends the runs under way, or cancels those that wait; does nothing where there is none."""
        ids = list(kits)
        return self._loop.post(lambda: self._then_publish(lambda: self._end_all(ids, ending)))

    def end_runs_now(self, kits: Iterable[int], ending: Ending) -> None:
        """As `end_runs`, once it is done. Raises EngineTrouble where that takes longer than FOR_RUNS s."""
        self.ask(lambda: self._end_all(list(kits), ending), FOR_RUNS)

    def _end_all(self, kits: Sequence[int], ending: Ending) -> None:
        self._runs.end_all([self._kits[kit] for kit in kits if kit in self._kits], ending)

    def resume_runs(self, ended: Sequence[tuple[int, int]]) -> Future[dict[int, Trouble]]:
        """Takes the ends of runs back: they go on, nothing of them missing. ended: kit and run, of each; the answer says by run why
        one cannot, as where another has begun since."""
        return self._loop.post(lambda: self._then_publish(lambda: self._resume_all(ended)))

    def resume_runs_now(self, ended: Sequence[tuple[int, int]]) -> dict[int, Trouble]:
        """As `resume_runs`, once it is done. Raises EngineTrouble where that takes longer than FOR_RUNS s."""
        return self.ask(lambda: self._resume_all(ended), FOR_RUNS)

    def _resume_all(self, ended: Sequence[tuple[int, int]]) -> dict[int, Trouble]:
        refused = dict[int, Trouble]()
        for kit, run in ended:
            try:
                self._runs.resume(self._kits.get(kit), run)
            except Trouble as trouble:
                refused[run] = trouble
        return refused

    def send(self, kit: int, data: bytes) -> None:
        """Sends bytes to a kit; what is sent is journalled. Raises Trouble where it cannot be."""
        self.ask(lambda: self._links.send(self._kits[kit], data))

    # in the engine's own thread

    def _then_publish(self, command: Callable[[], Given]) -> Given:
        try:
            return command()
        finally:
            self._publish()

    def _publish(self, share: int | None = None) -> None:
        """share: of the kits, that have had their turn; None where any may have changed."""
        told = self._events.told
        kits = states_of(self._kits, self._snapshot.kits, share, self._shares)
        self._snapshot = Snapshot(self.now(), self._turn_number, kits)
        self._events.publish(told)
        if self._watcher is not None:
            self._watcher.turned(self._snapshot)

    def _fell(self, fault: BaseException) -> None:
        """A turn let something through: it is said, and listening goes on."""
        self._fault = EngineTrouble("engine-failed", fault=f"{type(fault).__name__}: {fault}")
        self._fault_at = self.now()
        self._events.tell(EngineEvent("failed", trouble=self._fault))

    def _read(self, kit: KitConnection) -> bool:
        self._links.read(kit)
        return kit.waiting_bytes > MOST_WAITING

    def _turn(self) -> None:
        at = self.now()
        if at - self._turned > LAPSE * self.speed:
            for kit in self._kits.values():
                kit.discount_pause(self._turned, at)
        self._turned = at
        self._turn_number += 1
        if self._fault is not None and at - self._fault_at > FAULT_TOLD_FOR * self.speed:
            self._fault = None
        shares = self._shares = 2 if self._watcher is not None and len(self._kits) > FEW else 1
        self._loop.tick, share = self._tick / shares, self._turn_number % shares
        for kit in [each for each in self._kits.values() if each.share(shares) == share]:
            self._loop.do_commands()  # a kit whose lines take long, as while its format is judged, keeps nobody waiting
            if not self._loop.is_going:
                return
            if self._kits.get(kit.kit) is not kit:
                continue
            try:
                self._feed(kit, at)
                self._runs.look_after(kit, at, self.speed)
                self._links.look_after(kit, at)
            except Exception as fault:  # one kit must never stop the others
                self._spare_the_others(kit, fault)
        self._publish(share)
        self._loop.hold_if(self.turned)

    def _spare_the_others(self, kit: KitConnection, fault: Exception) -> None:
        """What a kit sent could not be worked out: it is in the journal, and its run is computed from there."""
        log.exception("kit %s", kit.kit)
        kit.pending, kit.waiting_bytes = [], 0
        for each in kit.all:
            if each.run is not None:
                each.run.forget()
        self._fell(fault)

    def _feed(self, kit: KitConnection, at: float) -> None:
        """Journals what has come and sends it down the flow; kits that share the port get their share of it."""
        if not kit.pending:
            return
        chunks, kit.pending, kit.waiting_bytes = kit.pending, [], 0
        self.journal.put(JournalEntry(kit.session, HEARD, chunks[0].at, chunks))
        if all(each.waiting is None for each in kit.all):
            self._hear(kit, chunks, at)
            return
        for part in parts_to_begin_at(chunks):
            self._hear(kit, part, at)

    def _hear(self, kit: KitConnection, chunks: list[Stamped], at: float) -> None:
        reader = kit.chain.reader
        known, trying = reader.format, not kit.speed.found
        for each in kit.all:
            if each.waiting is not None:
                each.waiting.checkpoint(each.chain.reader)
        data = bytes_of(chunks)
        flow = kit.chain.feed(chunks, kit.run.ends_in if kit.run is not None else None)
        self._take(kit, flow, data, at, sparse=known is None or known.sparse)
        for each in kit.relayed.values():
            share = each.chain.share(flow.heard, kit.chain, each.run.ends_in if each.run is not None else None)
            self._take(each, share, data, at, sparse=known is None or known.sparse)
        again = trying and kit.speed.found and kit.speed.tried > 1 and kit.link is not None
        if again and known is None:
            reader.forget_format()  # the line of names may have been lost at a wrong speed
            kit.live.forget_all()
        if reader.format is not known:
            self._events.tell(EngineEvent("format", kit.kit))
            if known is not None and known.is_sure and flow.heard.anew >= 0:
                self._events.tell(EngineEvent("read-anew", kit.kit, format=known))
        for id, each in kit.taken_back():
            self._kits.pop(each.kit, None)
            self._events.tell(EngineEvent("taken-back", each.kit, id=id))
        for id in kit.new_ids():
            self._events.tell(EngineEvent("relayed", kit.kit, id=id))
        if again:
            self._links.open_once_more(kit, at)

    def _take(self, kit: KitConnection, flow: Flow, data: bytes, at: float, *, sparse: bool) -> None:
        restarted = kit.take(flow.heard, data, at)
        kit.live.add(flow, sparse=sparse)
        if restarted and kit.parent is None:
            self._events.tell(EngineEvent("restarted", kit.kit))
        if kit.run is not None:
            kit.run.take(flow)
            if flow.ended_after is not None and kit.run.ending is not None:
                end = int(flow.worked[flow.ended_after].block.offset[0])
                self._runs.end(kit, end, kit.run.ending)
            elif (over := kit.run.is_over(kit.live, at)) is not None:
                self._runs.end(kit, None, over)
        elif kit.waiting is not None and (begins := kit.waiting.take(flow, kit.live, at)) is not None:
            self._runs.begun(kit, begins)
        if self.listener:
            self.listener(kit.kit, flow)

    def _give_up_partial_line(self, kit: KitConnection, at: float) -> None:
        if not kit.heard_since_open:
            return
        self.journal.put(JournalEntry(kit.session, LOST, at))
        flow = kit.chain.lost(at)
        self._take(kit, flow, b"", at, sparse=False)
        for each in kit.relayed.values():
            self._take(each, each.chain.share(flow.heard, kit.chain), b"", at, sparse=False)

    def _remove(self, kit: int) -> None:
        if (found := self._kits.pop(kit, None)) is None:
            return
        for id, each in list(found.relayed.items()):
            found.relayed.pop(id)
            self._remove(each.kit)
        self._runs.end(found, None, Ending("kit-left"))
        if found.parent is None:
            self._links.close(found)

    def _end(self) -> None:
        for kit in self._kits.values():
            self._feed(kit, self.now())
            self._runs.end(kit, None, Ending("program-closed"))
            if kit.parent is None:
                self._links.close(kit)
        self._loop.end()
