"""Runs as they are recorded: which readings belong to one, and what was worked out of them while they came."""

from __future__ import annotations

from dataclasses import dataclass, field

from common_bench.model.block import Block
from common_bench.model.run import RunSetting
from common_bench.model.stream import StreamFormat
from common_bench.reading.format_finding import OtherLine
from common_bench.record.chain import Flow, Worked
from common_bench.record.rules import Rule
from common_bench.record.snapshot import RunState

MOST_KEPT = 2_000_000  # readings whose results are kept in memory; a longer run is computed from its bytes instead


@dataclass
class RunUnderWay:
    """A run that is being recorded. began, last: s on the engine's clock, nan before the first reading.

    worked: its readings and results as they were seen live, None where they would fill the memory or
    something failed on the way; they are then computed from the bytes. resumed: how often its end was taken back.
    """

    id: int
    number: int
    rule: Rule
    begin_byte: int
    setting: RunSetting
    began: float = float("nan")
    last: float = float("nan")
    readings: int = 0
    worked: list[Worked] | None = field(default_factory=list)
    other_lines: list[OtherLine] = field(default_factory=list)
    resumed: int = 0

    @property
    def seconds(self) -> float:
        return 0.0 if self.began != self.began else self.last - self.began

    @property
    def state(self) -> RunState:
        return RunState(self.id, self.number, self.rule, self.seconds, self.readings)

    def ends_in(self, block: Block) -> int | None:
        """The row of a block with which the run is over, None where it goes on; to be asked of each block in order."""
        if self.began != self.began:
            self.began = float(block.t[0])
        return self.rule.ends_at(block, self.began)

    def take(self, flow: Flow) -> None:
        """Readings and results that belong to the run."""
        own = flow.worked if flow.ended_after is None else flow.worked[: flow.ended_after]
        for each in own:
            self.last = float(each.block.t[-1])
            self.readings += len(each.block)
        if flow.ended_after is not None:
            self.last = self.began + self.rule.seconds
        if self.worked is not None and self.readings <= MOST_KEPT:
            self.worked += own
            self.other_lines += flow.heard.other_lines
        else:
            self.worked = None


@dataclass(frozen=True)
class Recorded:
    """What a run that has ended leaves behind, as it was seen live. end: the byte with which it did; format: by which
    its last lines were read."""

    run: int
    end: int
    format: StreamFormat | None
    worked: list[Worked]
    other_lines: list[OtherLine]
