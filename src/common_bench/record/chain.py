"""The flow of one kit: stamped bytes in; read, calibrated and derived blocks out. The same code live and afterwards."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec
import numpy as np

from common_bench.calibrate.applied import Applied
from common_bench.model.block import Block, Events, Series, Stamped, joined_blocks
from common_bench.model.calibration import Calibration
from common_bench.model.run import LeftOut, RunSetting
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.reading.heard import Heard
from common_bench.reading.reader import Reader
from common_bench.record.rules import OWN
from common_bench.workings.evaluate import Evaluator, Workings, check


class Worked(msgspec.Struct, frozen=True, eq=False):
    """One block with its calibrated quantities by channel and what the workings newly give by name; watched: what the lines
    that a rule watches give, which nobody sees."""

    block: Block
    calibrated: dict[str, Series]
    results: dict[str, Series | Events]
    watched: dict[str, Series | Events] = msgspec.field(default_factory=dict)


class Flow(msgspec.Struct, frozen=True, eq=False):
    """What came of one feed. ended_after: how many entries of `worked` belong to a run that ended in it; None where
    none ended."""

    heard: Heard
    worked: list[Worked]
    ended_after: int | None = None


EndsIn = Callable[[Block], int | None]
"""A block in; the row with which a run is over, None where it goes on."""


class Chain:
    """Reader, clock, calibration and workings in a row.

    What comes out depends on bytes and stamps alone, so a run computed again from the journal gives
    what was seen live, to the last bit.
    """

    def __init__(
        self,
        workings: Workings,
        calibrations: Iterable[Calibration] = (),
        format: StreamFormat | None = None,
        clock: ClockState | None = None,
        *,
        held: bool = False,
        offset: int = 0,
        paced: bool = True,
        zero: float = 0.0,
        left_out: tuple[LeftOut, ...] = (),
        at_once: int = 0,
    ) -> None:
        """zero: s from the first reading to where the time of the workings is counted from; left_out: stretches of that time
        that are set aside; at_once: readings that wait to be worked out together, which is faster and comes to the same."""
        self.reader = Reader(format, clock, held=held, offset=offset, paced=paced)
        self._workings = workings
        self._calibrations = tuple(calibrations)
        self._applied = {each.channel: Applied(each) for each in self._calibrations}
        self._zero, self._left_out = zero, tuple(each for each in left_out if each.kind != "event")
        self._no_events = tuple((each.event, each.t_from, each.t_to) for each in left_out if each.kind == "event")
        self._evaluator = Evaluator(workings, zero, self._no_events)
        self._began: float | None = None  # s on the engine's clock, once it is known
        self._at_once, self._waiting = at_once, list[Block]()
        self._after_gap = False  # readings before the next one were set aside
        self.gone: list[Worked] = []  # what was set aside, with its calibrated quantities and nothing else

    @property
    def calibrations(self) -> tuple[Calibration, ...]:
        return self._calibrations

    def calibrate(self, calibrations: Iterable[Calibration]) -> None:
        """Applies other calibrations from the next block on."""
        self._calibrations = tuple(calibrations)
        self._applied = {each.channel: Applied(each) for each in self._calibrations}

    def work(self, workings: Workings) -> None:
        """Applies other workings from the next block on; they begin anew."""
        self._workings = workings
        self._evaluator = Evaluator(workings)

    def begin_run(self) -> RunSetting:
        """Workings begin anew and the clock's map is held still; gives all that a replay needs."""
        clock = self.reader.begin_run()
        self._evaluator = Evaluator(self._workings)
        return self.setting(self.reader.format, clock)

    def setting(self, format: StreamFormat | None, clock: ClockState, zero: float = 0.0) -> RunSetting:
        """All that a replay needs of a run that begins with this format and clock; zero: s from its first reading to where
        its time is counted from."""
        lines = tuple(line.text for line in self._workings.lines if not line.name.startswith(OWN))
        return RunSetting(format, clock, self._calibrations, lines, raw=dict(self._workings.raw), zero=zero)

    def anew(self, worked: Sequence[Worked], zero: float) -> list[Worked]:
        """Readings that have come already, worked out as those of a run that begins with them, s before its time is
        counted from."""
        self._evaluator = Evaluator(self._workings, zero)
        return [self._evaluated(each.block, each.calibrated) for each in worked]

    def end_run(self) -> None:
        self.reader.end_run()

    def feed(self, chunks: Sequence[Stamped], ends_in: EndsIn | None = None) -> Flow:
        """ends_in: of the run under way, so that what belongs to it is worked up apart from what comes after."""
        return self._work(self.reader.feed(chunks), ends_in)

    def share(self, heard: Heard, port: Chain, ends_in: EndsIn | None = None) -> Flow:
        """What the chain of a shared port has read, narrowed to this kit's own lines."""
        return self._work(self.reader.share(heard, port.reader), ends_in)

    def read_as(self, format: StreamFormat) -> None:
        """Another format from the next line on; workings begin anew."""
        self.reader.read_as(format)
        self._evaluator = Evaluator(self._workings)

    def missed(self) -> None:
        """An answer that was asked for did not come; the next reading stands behind a gap."""
        self.reader.missed()

    def lost(self, at: float) -> Flow:
        """The link went away at s; the half line that was open is told as unreadable."""
        return self._work(self.reader.lost(at))

    def _work(self, heard: Heard, ends_in: EndsIn | None = None) -> Flow:
        worked: list[Worked] = []
        if heard.anew >= 0:
            worked += self.rest()
            self._evaluator = Evaluator(self._workings)
        ended: int | None = None
        for block in map(self._without_left_out, heard.blocks) if self._left_out else heard.blocks:
            if not len(block):
                continue
            if self._at_once:
                worked += self._later(block)
                continue
            row = ends_in(block) if ends_in is not None and ended is None else None
            if row is None:
                worked.append(self._one(block))
                continue
            if row > 0:
                worked.append(self._one(block.part(0, row)))
            ended = len(worked)
            worked.append(self._one(block.part(row, len(block))))
        return Flow(heard, worked, ended)

    def _later(self, block: Block) -> list[Worked]:
        """Puts a block to those that wait; gives what has waited long enough."""
        before = self._waiting[-1] if self._waiting else block
        ready = self.rest() if not block.follows(before) or len(block) >= self._at_once else []
        self._waiting.append(block)
        return ready + (self.rest() if sum(map(len, self._waiting)) >= self._at_once else [])

    def rest(self) -> list[Worked]:
        """What waits to be worked out together with more, worked out."""
        waiting, self._waiting = self._waiting, []
        return [self._one(joined_blocks(waiting))] if waiting else []

    def _without_left_out(self, block: Block) -> Block:
        """A block without what is set aside, which is kept apart."""
        if not len(block):
            return block
        if self._began is None:
            self._began = float(block.t[0]) + self._zero
        t, out, bridged = block.t - self._began, np.zeros(len(block), bool), np.zeros(len(block), bool)
        for each in self._left_out:
            inside = (t >= each.t_from) & (t <= each.t_to)
            out |= inside
            if each.kind == "reading":
                bridged |= inside
        for each in self._left_out:
            if each.kind == "stretch":
                bridged &= ~((t >= each.t_from) & (t <= each.t_to))
        if not out.any() and not self._after_gap:
            return block
        stays, goes = block.parted(out, self._after_gap, bridged)
        if len(goes):
            self.gone.append(Worked(goes, self._calibrated(goes), {}))
        last = int(np.flatnonzero(~out)[-1]) if len(stays) else -1
        self._after_gap = bool((out & ~bridged)[last + 1 :].any()) or (self._after_gap and not len(stays))
        return stays

    def _calibrated(self, block: Block) -> dict[str, Series]:
        return {
            channel: ready.series(block.t, block.channels[column])
            for channel, ready in self._applied.items()
            if (column := ready.calibration.heard_as or channel) in block.channels
        }

    def _one(self, block: Block) -> Worked:
        return self._evaluated(block, self._calibrated(block))

    def _evaluated(self, block: Block, calibrated: dict[str, Series]) -> Worked:
        found = self._evaluator.push(block, calibrated)
        own = [name for name in found if name.startswith(OWN)]
        return Worked(block, calibrated, found, {name: found.pop(name) for name in own})


def chain_of(setting: RunSetting, offset: int, channels: dict[str, str], *, at_once: int = 0) -> Chain:
    """The chain as it was when a run began at byte `offset`. channels: channel -> unit of its quantity; at_once: as of a
    chain."""
    workings = check(setting.workings, channels, setting.raw)
    return Chain(
        workings, setting.calibrations, setting.format, setting.clock, held=True, offset=offset, zero=setting.zero,
        left_out=setting.left_out, at_once=at_once,
    )  # fmt: skip
