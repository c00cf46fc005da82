"""Runs begun, ended and taken up again on a kit's connection, each step in the journal. The engine's own thread alone."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

import msgspec

from common_bench.book.book_file import now as time_now
from common_bench.book.journal import OF_RUN, JournalEntry, JournalWriter
from common_bench.model.run import Ending
from common_bench.model.trouble import Trouble
from common_bench.record.awaited import AwaitedRun, first_time
from common_bench.record.connection import KitConnection
from common_bench.record.events import EngineEvent, EventQueue
from common_bench.record.rules import Rule
from common_bench.record.runs import Recorded, Room, RunUnderWay

# s behind its rule's time, in which what belongs to a run may come: from a kit that is gone, or silent
WAITED_GONE, WAITED_SILENT = 5.0, 30.0


class RunKeeper:
    """Guarantees that a run begins and ends at whole lines, that the book has its end before anybody works it up, and
    that the calibrations and workings of a run stand still while it lasts."""

    def __init__(self, journal: JournalWriter, events: EventQueue) -> None:
        self._journal, self._events, self._room = journal, events, Room()

    def begin(self, kit: KitConnection | None, run: int, number: int, rule: Rule, now: float, speed: float) -> None:
        """now: s on the engine's clock; speed: world s per s. Raises Trouble where the bench is not ready, or records
        already."""
        if kit is None or not (kit.can_record or (rule.begin.by_kit and kit.link is not None)):
            raise Trouble("bench-not-ready")
        if not kit.is_free:
            raise Trouble("bench-records-already")
        if rule.begin.waits:
            kit.chain.begin_run()
            kit.waiting, kit.ended_run = AwaitedRun.asked(run, number, rule, now, speed), None
            _hold_port(kit)
            kit.live.forget()
            return
        setting = kit.chain.begin_run()
        begin = kit.chain.reader.cutter.line_start
        kit.run, kit.ended_run = RunUnderWay(run, number, rule, begin, setting, asked=now, room=self._room), None
        _hold_port(kit)
        kit.live.forget()
        self._put(kit, run, begin_byte=begin, state="open", setting=msgspec.json.encode(setting).decode())
        self._events.tell(EngineEvent("run-began", kit.kit, run))

    def begin_all(
        self,
        kits: Mapping[int, KitConnection],
        asked: Iterable[tuple[int, int, int]],
        rule: Rule,
        now: float,
        speed: float,
    ) -> dict[int, Trouble]:
        """The same of several in one turn. asked: kit, run and its number, of each; gives by kit why one cannot."""
        refused = dict[int, Trouble]()
        for kit, run, number in asked:
            try:
                self.begin(kits.get(kit), run, number, rule, now, speed)
            except Trouble as trouble:
                refused[kit] = trouble
        return refused

    def begun(self, kit: KitConnection, at: float) -> None:
        """What a run has waited for has happened at s on the engine's clock: it begins, with what is kept from before."""
        waiting = kit.waiting
        assert waiting is not None
        kit.waiting = None
        reader, rule = kit.chain.reader, waiting.rule
        waiting.checkpoint(reader)
        chosen, worked = waiting.from_before(at)
        first = first_time(worked)
        zero = max(0.0, at - first) if first is not None else 0.0
        setting = kit.chain.setting(chosen.format, chosen.clock, zero)
        run = RunUnderWay(waiting.id, waiting.number, rule, chosen.offset, setting, room=self._room)
        again = kit.chain.anew(worked, zero)
        over = run.begin(again, waiting.other_lines, at)
        if over is not None or (reader.format, reader.clock.restarts) != (chosen.format, chosen.restarts):
            run.forget()  # or the clock or the format changed on the way: all of it is worked up from its bytes
        kit.run = run
        kit.live.again(again)
        encoded = msgspec.json.encode(setting).decode()
        self._put(kit, run.id, begin_byte=chosen.offset, state="open", setting=encoded, began_at=time_now())
        self._events.tell(EngineEvent("run-began", kit.kit, run.id))
        if over is not None and run.ending is not None:
            self.end(kit, over, run.ending)

    def look_after(self, kit: KitConnection, at: float, speed: float) -> None:
        """Begins what has waited for its time, and ends what is over though no reading comes that would end it. Once a turn. at: s on the
        engine's clock; speed: world s per s."""
        for each in kit.all:
            run = each.run
            if each.waiting is not None and each.waiting.is_due(at, datetime.now()):
                self.begun(each, each.waiting.due)
            elif run is not None and run.rule.seconds:
                late = (WAITED_GONE if each.link is None else WAITED_SILENT) * speed
                begun = run.began
                if begun != begun and each.link is None:  # else a button may still be pressed, whenever somebody likes
                    begun = run.asked
                if at - each.last_reading > late and at > begun + run.rule.seconds + late:
                    even = each.link is None or not each.chain.reader.clock.uneven
                    self.end(each, None, run.unheard() if even else run.in_time())

    def call_off(self, kit: KitConnection, ending: Ending) -> None:
        """A run that waits does not begin."""
        waiting, kit.waiting = kit.waiting, None
        if waiting is None:
            return
        _hold_port(kit)
        kit.chain.end_run()
        kept = EngineEvent("run-kept", kit.kit, waiting.id, ending)
        values = {"state": "closed", "ending": json.dumps(msgspec.to_builtins(ending))}
        told = JournalEntry(kit.session, OF_RUN, run=waiting.id, values=values, kept=lambda: self._events.tell(kept))
        self._journal.put(told)
        self._events.tell(EngineEvent("run-ended", kit.kit, waiting.id, ending))
        catch_up(kit)

    def resume(self, kit: KitConnection | None, run: int) -> None:
        """Takes the end of a run back. Raises Trouble where another has begun since, or the kit has been left."""
        if kit is None or not kit.is_free or kit.ended_run is None or kit.ended_run.id != run:
            raise Trouble("run-cannot-go-on")
        kit.run, kit.ended_run = kit.ended_run, None
        kit.run.resumed += 1
        kit.run.forget()  # what came meanwhile was not worked up as part of it: all of it is, from its bytes
        kit.chain.reader.begin_run()
        _hold_port(kit)
        self._put(kit, run, end_byte=None, state="open", ending="")
        self._events.tell(EngineEvent("run-began", kit.kit, run))

    def end_all(self, kits: Iterable[KitConnection], ending: Ending) -> None:
        """Ends what is under way, or calls off what waits, all in the same turn."""
        for kit in kits:
            self.end(kit, None, ending)

    def end(self, kit: KitConnection, end: int | None, ending: Ending) -> None:
        """Ends the run under way, if there is one, at byte `end`, or with the last whole line; calls one that waits off."""
        self.call_off(kit, Ending("called-off") if ending.code == "by-hand" else ending)
        run = kit.run
        if run is None:
            return
        kit.run, kit.ended_run = None, run
        run.let_go()
        _hold_port(kit)
        kit.chain.end_run()
        last = kit.chain.reader.cutter.line_start if end is None else end
        recorded = None
        if run.worked is not None:
            others = [line for line in run.other_lines if run.begin_byte <= line.offset < last]
            recorded = Recorded(run.id, last, kit.chain.reader.format, run.worked, others)
        kept = EngineEvent("run-kept", kit.kit, run.id, ending, recorded, resumed=run.resumed)
        values = {"end_byte": last, "state": "closed", "ending": json.dumps(msgspec.to_builtins(ending))}
        entry = JournalEntry(kit.session, OF_RUN, run=run.id, values=values, kept=lambda: self._events.tell(kept))
        self._journal.put(entry)
        self._events.tell(EngineEvent("run-ended", kit.kit, run.id, ending))
        catch_up(kit)

    def _put(self, kit: KitConnection, run: int, **values: Any) -> None:
        self._journal.put(JournalEntry(kit.session, OF_RUN, run=run, values=values))


def catch_up(kit: KitConnection) -> None:
    """Takes over the calibrations and workings that were given meanwhile; not to be called while a run is recorded."""
    if kit.next_calibrations is not None and kit.next_calibrations != kit.chain.calibrations:
        kit.chain.calibrate(kit.next_calibrations)
        kit.live.forget()
    if kit.next_workings is not None:
        kit.chain.work(kit.next_workings)
        kit.live.forget()
    kit.next_calibrations = kit.next_workings = None


def _hold_port(kit: KitConnection) -> None:
    """How lines of a shared port are read stands still while a kit on it records."""
    port = kit.parent or kit
    port.chain.reader.finder.steadfast = not all(each.is_free for each in port.relayed.values())
