"""A run that waits to begin: what is kept of the time before, and when what it waits for has happened."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import NamedTuple

from common_bench.model.block import Stamped
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.reading.format_finding import OtherLine
from common_bench.reading.reader import Reader
from common_bench.record.chain import Flow, Worked
from common_bench.record.live import LiveWindow
from common_bench.record.rules import Rule, watched
from common_bench.record.snapshot import WaitState
from common_bench.record.steady_watch import SteadyWatch

LATE = 10.0  # s, by which it may be known late that a run has begun, as by a peak
HALF_A_DAY = 43_200.0  # s
CLOSE = 0.02  # s, by which a run may be kept from earlier than its rule has it
BEGINS_AFTER = 1.0  # s of silence, after which a kit that sends begins to send


class Checkpoint(NamedTuple):
    """Where a run could begin: byte, the clock and the format there, the last reading's time before it in s (−inf before the
    first), restarts of the clock so far, and how many pieces of readings had come."""

    offset: int
    clock: ClockState
    format: StreamFormat | None
    last_t: float
    restarts: int
    pieces: int


@dataclass
class AwaitedRun:
    """A run that is asked for and has not begun. due: s on the engine's clock at which it begins by time alone; since: when it
    was asked for."""

    id: int
    number: int
    rule: Rule
    since: float
    due: float
    speed: float
    worked: deque[Worked] = field(default_factory=deque)
    other_lines: list[OtherLine] = field(default_factory=list)
    checkpoints: deque[Checkpoint] = field(default_factory=deque)
    _dropped: int = 0
    _last_t: float = float("-inf")
    _steady: SteadyWatch | None = None

    @classmethod
    def asked(cls, run: int, number: int, rule: Rule, now: float, speed: float) -> AwaitedRun:
        """speed: world s per s, in which a time of day comes nearer."""
        wait = rule.begin.wait(datetime.now())
        due = now + (wait * speed if rule.begin.kind == "clock" else wait)
        found = cls(run, number, rule, now, due, speed)
        if rule.begin.kind == "steady":
            found._steady = SteadyWatch(rule.begin.name, rule.begin.limits, now)
        return found

    def is_due(self, now: float, wall: datetime) -> bool:
        """Whether it begins by time alone; of a time of day by the clock as it stands, which may have been set meanwhile. now: s
        on the engine's clock."""
        if self.rule.begin.kind == "clock" and now < self.due:
            wait = self.rule.begin.wait(wall)
            over = wait - (self.due - now) / self.speed > HALF_A_DAY  # its time is past, as the clock has it
            self.due = now if over else now + wait * self.speed
        return now >= self.due

    @property
    def state(self) -> WaitState:
        return WaitState(self.id, self.number, self.rule, self.since, self.due)

    def checkpoint(self, reader: Reader) -> None:
        """Before a feed: a run could begin here. What is older than can be kept is let go."""
        at = Checkpoint(
            reader.cutter.line_start, reader.begin_run(), reader.format, self._last_t, reader.clock.restarts,
            self._dropped + len(self.worked),
        )  # fmt: skip
        self.checkpoints.append(at)
        while len(self.checkpoints) > 1 and self.checkpoints[1].last_t < self._last_t - self.rule.before - LATE:
            self.checkpoints.popleft()
        while self._dropped < self.checkpoints[0].pieces and self.worked:
            self.worked.popleft()
            self._dropped += 1
        first = self.checkpoints[0].offset
        self.other_lines = [each for each in self.other_lines if each.offset >= first]

    def take(self, flow: Flow, live: LiveWindow, at: float) -> float | None:
        """What came of one feed; when the run begins, in s on the engine's clock, None where it goes on waiting."""
        quiet = self._last_t
        if flow.heard.anew >= 0:
            self.worked.clear()
            self.checkpoints.clear()
        self.worked.extend(flow.worked)
        self.other_lines += flow.heard.other_lines
        for each in flow.worked:
            if len(each.block):
                self._last_t = float(each.block.t[-1])
        return self._fired(flow, live, quiet, at)

    def _fired(self, flow: Flow, live: LiveWindow, quiet: float, at: float) -> float | None:
        begin = self.rule.begin
        if begin.kind in ("level", "event"):
            names = (begin.name,)
            both = [{**each.results, **each.watched} for each in flow.worked]
            found = [events for each in both for events in watched(each, names, self.since).values()]
            return min((float(events.t[0]) for events in found if len(events)), default=None)
        if begin.kind == "word":
            said = (each.at for each in flow.heard.other_lines if begin.word.lower() in each.text.lower())
            return next(said, None)
        if begin.kind == "stream":
            first = first_time(flow.worked)
            return first if first is not None and first - max(quiet, self.since) > BEGINS_AFTER else None
        if self._steady is not None and self._steady.look(live, at):
            return at
        return None

    def from_before(self, at: float) -> tuple[Checkpoint, list[Worked]]:
        """Where a run that begins at s is kept from, and the readings since. At least one checkpoint has been made."""
        fitting = [each for each in self.checkpoints if each.last_t <= at - self.rule.before]
        chosen = fitting[-1] if fitting else self.checkpoints[0]
        return chosen, list(self.worked)[chosen.pieces - self._dropped :]


def parts_to_begin_at(chunks: Sequence[Stamped]) -> list[list[Stamped]]:
    """What has come in a turn, cut so that a run can begin with any part of it: those that came within CLOSE together, since each part
    costs as much as many lines."""
    parts: list[list[Stamped]] = []
    for chunk in chunks:
        if parts and chunk.at - parts[-1][0].at < CLOSE:
            parts[-1].append(chunk)
        else:
            parts.append([chunk])
    return parts


def first_time(worked: Sequence[Worked]) -> float | None:
    """Of the first reading in s on the engine's clock; None where there is none."""
    return next((float(each.block.t[0]) for each in worked if len(each.block)), None)
