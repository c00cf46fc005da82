"""The flow of one kit: stamped bytes in; read, calibrated and derived blocks out. The same code live and afterwards."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from common_bench.calibrate.applied import Applied
from common_bench.model.block import Block, Events, Series, Stamped
from common_bench.model.calibration import Calibration
from common_bench.model.run import RunSetting
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.reading.heard import Heard
from common_bench.reading.reader import Reader
from common_bench.workings.evaluate import Evaluator, Workings, check


@dataclass(frozen=True, slots=True)
class Worked:
    """One block with its calibrated quantities by channel and what the workings newly give by name."""

    block: Block
    calibrated: dict[str, Series]
    results: dict[str, Series | Events]


@dataclass(frozen=True, slots=True)
class Flow:
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
    ) -> None:
        self.reader = Reader(format, clock, held=held, offset=offset, paced=paced)
        self._workings = workings
        self._calibrations = tuple(calibrations)
        self._applied = {each.channel: Applied(each) for each in self._calibrations}
        self._evaluator = Evaluator(workings)

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
        lines = tuple(line.text for line in self._workings.lines)
        return RunSetting(self.reader.format, clock, self._calibrations, lines)

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
        if heard.anew >= 0:
            self._evaluator = Evaluator(self._workings)
        worked: list[Worked] = []
        ended: int | None = None
        for block in heard.blocks:
            row = ends_in(block) if ends_in is not None and ended is None else None
            if row is None:
                worked.append(self._one(block))
                continue
            if row > 0:
                worked.append(self._one(block.part(0, row)))
            ended = len(worked)
            worked.append(self._one(block.part(row, len(block))))
        return Flow(heard, worked, ended)

    def _one(self, block: Block) -> Worked:
        calibrated = {
            channel: ready.series(block.t, block.channels[column])
            for channel, ready in self._applied.items()
            if (column := ready.calibration.heard_as or channel) in block.channels
        }
        return Worked(block, calibrated, self._evaluator.push(block, calibrated))


def chain_of(setting: RunSetting, offset: int, channels: dict[str, str]) -> Chain:
    """The chain as it was when a run began at byte `offset`. channels: channel -> unit of its quantity."""
    return Chain(
        check(setting.workings, channels), setting.calibrations, setting.format, setting.clock, held=True, offset=offset
    )
