"""A run played again as if live: its bytes at the pace at which they came, or faster or slower. A kept run in; the state of a kit,
as the engine gives it, out."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass

from common_bench.book.book import Book
from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD, LOST, MISSED
from common_bench.links.address import read_address
from common_bench.model.block import Stamped
from common_bench.model.run import Run
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.record.chain import Flow, chain_of
from common_bench.record.live import LiveWindow
from common_bench.record.rules import Rule
from common_bench.record.runs import RunUnderWay
from common_bench.record.snapshot import KitState

EVERY = 1 / 40  # s between two looks at what is due
SLOWEST, FASTEST = 0.1, 100.0  # times as fast as it was recorded
MOST_AT_ONCE = 0.2  # s of our own time that one look may take, so that stopping is never late
MOST_CHUNKS = 2000  # fed at once

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Played:
    """How far it is. seconds: of the run, since it began; whole: how long the run lasted, s; ended: nothing is left to come."""

    seconds: float
    whole: float
    speed: float
    paused: bool
    ended: bool


class RunReplay:
    """Plays in its own thread; guarantees that the live window gets what the engine's got, in the same order, and that the
    journal is only read. `state` is frozen and new after each look."""

    def __init__(self, book: Book, run: Run, channels: dict[str, str], rule: Rule, *, speed: float = 1.0) -> None:
        """channels: channel -> unit of its quantity. Raises FindingTrouble for a run without readings."""
        if run.begin is None or run.end is None or run.setting is None:
            raise FindingTrouble("run-without-readings", number=run.number)
        self.run, self._book, self._setting = run, book, run.setting
        self._chain = chain_of(run.setting, run.begin, channels)
        self._live = LiveWindow()
        self._under_way = RunUnderWay(run.id, run.number, rule, run.begin, run.setting)
        self._under_way.forget()  # it is in the book
        self._speed, self._paused, self._going, self._ended = speed, False, True, False
        self._at = 0.0  # s of the run's own time since its first bytes
        self._whole = self._length(run.begin, run.end)
        self.trouble: Trouble | None = None
        self.state = self._picture()
        self._thread = threading.Thread(target=self._play, name="replay", daemon=True)
        self._thread.start()

    @property
    def played(self) -> Played:
        return Played(self._under_way.seconds, self._whole, self._speed, self._paused, self._ended)

    def faster(self, factor: float) -> None:
        """So many times as fast as now, between SLOWEST and FASTEST."""
        self._speed = min(FASTEST, max(SLOWEST, self._speed * factor))

    def pause(self) -> None:
        """Stands still, or goes on."""
        self._paused = not self._paused

    def stop(self) -> None:
        self._going = False
        self._thread.join(5.0)

    def _picture(self) -> KitState:
        run, reader = self._under_way, self._chain.reader
        return KitState(
            0, self.run.session, read_address("file:replay"), self._live, is_open=True, format=reader.format,
            calibrations=self._chain.calibrations, lines=reader.lines, readings=reader.readings, notes=reader.notes,
            unreadable=reader.unreadable, run=None if self._ended else run.state,
        )  # fmt: skip

    # in its own thread

    def _play(self) -> None:
        try:
            pieces = self._pieces()
            ahead = next(pieces, None)
            last = time.monotonic()
            while self._going and ahead is not None:
                time.sleep(EVERY)
                now = time.monotonic()
                self._at += 0.0 if self._paused else (now - last) * self._speed
                last, until = now, now + MOST_AT_ONCE
                due: list[Stamped] = []
                while ahead is not None and self._going and ahead[1] <= self._at and time.monotonic() < until:
                    what, _, stamped = ahead
                    if what == HEARD:
                        due.append(stamped)
                    if due and (what != HEARD or len(due) >= MOST_CHUNKS):
                        self._take(self._chain.feed(due))
                        due = []
                    if what != HEARD:
                        self._mark(what, stamped.at)
                    ahead = next(pieces, None)
                if ahead is not None and ahead[1] <= self._at:
                    self._at = ahead[1]  # it comes no faster than it can be worked out
                if due:
                    self._take(self._chain.feed(due))
                self.state = self._picture()
            self._ended = ahead is None
        except Trouble as trouble:
            self.trouble = trouble
        except Exception as fault:
            log.exception("replaying run %s", self.run.id)
            self.trouble = FindingTrouble("work-up-failed", fault=f"{type(fault).__name__}: {fault}")

    def _length(self, begin: int, end: int) -> float:
        """s from the first bytes to the last."""
        ends = [
            [chunk.at for what, _, chunks in heard(self._book, self.run.session, low, high) for chunk in chunks]
            for low, high in ((begin, begin + 1), (max(begin, end - 1), end))
        ]
        return ends[1][-1] - ends[0][0] if ends[0] and ends[1] else 0.0

    def _pieces(self) -> Iterator[tuple[str, float, Stamped]]:
        """(what, s since the first bytes, chunk) one by one, in order; a mark as a chunk without bytes."""
        assert self.run.begin is not None
        assert self.run.end is not None
        first: float | None = None
        for what, at, chunks in heard(self._book, self.run.session, self.run.begin, self.run.end):
            if what != HEARD:
                yield what, at - (first if first is not None else at), Stamped(at, b"")
            for chunk in chunks:
                first = chunk.at if first is None else first
                yield what, chunk.at - first, chunk

    def _mark(self, what: str, at: float) -> None:
        if what == MISSED:
            self._chain.missed()
        elif what == LOST:
            self._take(self._chain.lost(at))

    def _take(self, flow: Flow) -> None:
        if self._under_way.began != self._under_way.began and flow.worked:
            self._under_way.began = float(flow.worked[0].block.t[0]) + self._setting.zero
        self._under_way.take(flow)
        self._under_way.forget()
        self._live.add(flow)
