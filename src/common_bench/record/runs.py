"""Runs as they are recorded: which readings belong to one, and what was worked out of them while they came."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from common_bench.model.block import Block
from common_bench.model.run import UNHEARD, Ending, RunSetting
from common_bench.model.stream import StreamFormat
from common_bench.reading.format_finding import OtherLine
from common_bench.record.chain import Flow, Worked
from common_bench.record.live import LiveWindow
from common_bench.record.rules import Rule, watched
from common_bench.record.snapshot import RunState
from common_bench.record.steady_watch import SteadyWatch

MOST_KEPT = (
    40_000_000  # bytes of results that all runs under way keep in memory; what has no room is computed from its bytes
)
A_PIECE, A_READING = 400, 30  # bytes of a piece for each of its quantities and channels, and for each reading in it


class Room:
    """Memory that all runs under way share: as much of what was seen live is kept, however long they last and however many they
    are."""

    def __init__(self, most: int = MOST_KEPT) -> None:
        self._left = most

    def take(self, size: int) -> bool:
        """Whether there are so many bytes left, which are then taken."""
        if size > self._left:
            return False
        self._left -= size
        return True

    def give(self, size: int) -> None:
        self._left += size


@dataclass
class RunUnderWay:
    """A run that is being recorded. asked, began, last: s on the engine's clock, asked when somebody or its rule began it (nan where
    nobody says), the others nan before the first reading; counts: events so far
    that its rule counts; ending: how its rule has ended it.

    worked: its readings and results as they were seen live, None where they would fill the memory or
    something failed on the way; they are then computed from the bytes. resumed: how often its end was taken back.
    """

    id: int
    number: int
    rule: Rule
    begin_byte: int
    setting: RunSetting
    asked: float = float("nan")
    began: float = float("nan")
    counts: dict[str, int] = field(default_factory=dict)
    ending: Ending | None = None
    last: float = float("nan")
    readings: int = 0
    worked: list[Worked] | None = field(default_factory=list)
    other_lines: list[OtherLine] = field(default_factory=list)
    resumed: int = 0
    room: Room = field(default_factory=Room)
    _taken: int = 0  # bytes of that room
    _seen: int = 0  # readings of which it is known whether they belong to it
    _watches: dict[str, SteadyWatch] = field(default_factory=dict)

    @property
    def seconds(self) -> float:
        return 0.0 if self.began != self.began else self.last - self.began

    @property
    def state(self) -> RunState:
        progress = self.rule.progress(self.seconds, self.readings, self.counts)
        return RunState(self.id, self.number, self.rule, self.seconds, self.readings, progress)

    def in_time(self) -> Ending:
        """By its rule's time."""
        return Ending("by-rule", {"seconds": self.rule.seconds})

    def unheard(self) -> Ending:
        """By its rule's time, before which nothing was heard any more, or not at all."""
        if not self.readings:
            return Ending("by-rule-silent", {"seconds": self.rule.seconds})
        return Ending(UNHEARD, {"seconds": self.rule.seconds, "since": round(self.seconds, 3)})

    def ends_in(self, block: Block) -> int | None:
        """The row of a block with which the run is over, None where it goes on; to be asked of each block in order."""
        if self.began != self.began:
            self.began = float(block.t[0])
        row = self.rule.ends_at(block, self.began, self._seen)
        if row is not None:
            self.ending = self.rule.timed(block, self.began, row)
            if self.ending.code == "by-rule" and block.gap_before[row]:
                self.last = float(block.t[row - 1]) if row else self.last
                self.ending = self.unheard()
        self._seen += len(block) if row is None else row
        return row

    def begin(self, worked: list[Worked], others: list[OtherLine], at: float) -> int | None:
        """Readings that had come when it began, at s on the engine's clock. Gives the byte at which it is over where that has come too,
        as on a machine that was late."""
        self.began = self.last = at
        self.worked, self.other_lines = list(worked), others
        over: int | None = None
        for each in worked:
            self.readings += len(each.block)
            since = each.block.part(int(np.searchsorted(each.block.t, at)), len(each.block))
            row = self.ends_in(since) if over is None and len(since) else None
            over = int(since.offset[row]) if row is not None else over
            self.last = float(each.block.t[-1]) if len(each.block) else self.last
            self._count(each)
        return over

    def _count(self, worked: Worked) -> None:
        """Events that the rule counts, of those since the run began."""
        if not self.rule.counted:
            return
        both = {**worked.results, **worked.watched}
        for name, events in watched(both, self.rule.counted, self.began).items():
            self.counts[name] = self.counts.get(name, 0) + len(events)

    def is_over(self, live: LiveWindow, at: float) -> Ending | None:
        """How events, levels or stillness have ended it, None where they have not."""
        for end in self.rule.ends:
            if end.kind in ("events", "level") and self.counts.get(end.name, 0) >= max(1.0, end.amount):
                return Ending("by-rule-words", {"words": end.text})
            if end.kind == "steady" and self.began == self.began:
                watch = self._watches.setdefault(end.name, SteadyWatch(end.name, end.limits, self.began))
                if watch.look(live, at):
                    return Ending("by-rule-words", {"words": end.text})
        return None

    def take(self, flow: Flow) -> None:
        """Readings and results that belong to the run."""
        own = flow.worked if flow.ended_after is None else flow.worked[: flow.ended_after]
        for each in own:
            self.last = float(each.block.t[-1])
            self.readings += len(each.block)
            self._count(each)
        if flow.ended_after is not None and self.ending is not None and "seconds" in self.ending.fields:
            self.last = self.began + self.rule.seconds
        if self.worked is None:
            return
        size = sum(
            (A_PIECE + A_READING * len(each.block)) * (len(each.results) + len(each.block.channels)) for each in own
        )
        if self.room.take(size):
            self._taken += size
            self.worked += own
            self.other_lines += flow.heard.other_lines
        else:
            self.forget()

    def forget(self) -> None:
        """What was seen live is no longer kept: the run is computed from its bytes."""
        self.worked = None
        self.let_go()

    def let_go(self) -> None:
        """Others may have its room, as when it has ended."""
        self.room.give(self._taken)
        self._taken = 0


@dataclass(frozen=True)
class Recorded:
    """What a run that has ended leaves behind, as it was seen live. end: the byte with which it did; format: by which
    its last lines were read."""

    run: int
    end: int
    format: StreamFormat | None
    worked: list[Worked]
    other_lines: list[OtherLine]
