"""A run as a whole: as it was seen live, or computed again from its bytes. Its readings and results out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import msgspec
import numpy as np

from common_bench.book.book import Book
from common_bench.book.heard_again import heard, many_at_once
from common_bench.book.journal import HEARD, LOST, MISSED
from common_bench.model.block import Block, Events, Floats, Ints, Series, Stamped, joined_blocks, one_array
from common_bench.model.run import UNHEARD, Run, RunSetting
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import FindingTrouble
from common_bench.reading.format_finding import OtherLine
from common_bench.record.chain import Worked, chain_of
from common_bench.record.runs import Recorded
from common_bench.workings.evaluate import INNER, Workings, check, gathered


@dataclass(frozen=True)
class Replayed:
    """A whole run with time counted in s from its first reading.

    t, clock: (n,); raw: channel -> (n,); offset: (n,) byte of each reading's line; results by
    working; gaps: (from, to) in s; other_lines: lines that are no readings;
    gone: channel -> times and calibrated values of what was set aside.
    """

    run: Run
    format: StreamFormat | None
    workings: Workings
    t: Floats
    offset: Ints
    raw: dict[str, Floats]
    results: dict[str, Series | Events]
    gaps: list[tuple[float, float]]
    other_lines: list[OtherLine]
    began: float
    gone: dict[str, tuple[Floats, Floats]] = field(default_factory=dict)
    until: float = 0.0  # s, where its rule's time was over, of a run whose end was not heard

    @property
    def seconds(self) -> float:
        return max(float(self.t[-1]), self.until) if len(self.t) else 0.0


AT_ONCE = 65536  # readings that are worked out together
MOST_READINGS = 10_000_000  # of one run that are worked up at once; what a kit could send in a day at 100 a second


def _light(worked: Worked) -> Worked:
    """Without what nobody asks of a run as a whole: clocks, arrivals, and what is among its results again."""
    nothing = np.empty(0)
    block = msgspec.structs.replace(worked.block, clock=nothing, arrival=nothing, clock_u=nothing)
    return Worked(block, {}, worked.results, worked.watched)


def _one_piece(worked: list[Worked]) -> list[Worked]:
    """Consecutive pieces as one, where they are of one kind."""
    blocks = [each.block for each in worked]
    if len(blocks) < 2 or any(each.channels.keys() != blocks[0].channels.keys() for each in blocks):
        return worked
    results, watched = ([getattr(each, what) for each in worked] for what in ("results", "watched"))
    return [Worked(joined_blocks(blocks), {}, gathered(results), gathered(watched))]


def joined(recorded: Recorded) -> Recorded:
    """The same in one piece, and nothing that nobody asks of a run as a whole."""
    return replace(recorded, worked=_one_piece([_light(each) for each in recorded.worked]))


class RunReading:
    """Guarantees the same readings and results whether a run is read from the book or while its lines are being put there: what they
    hang on is what was heard and when alone."""

    def __init__(
        self, number: int, setting: RunSetting, begin: int, channels: dict[str, str], most: int = MOST_READINGS
    ) -> None:
        """number: of the run, for what is told; begin: byte with which it does; channels: channel -> unit of its quantity."""
        self._number, self._most, self._readings = number, most, 0
        self._chain = chain_of(setting, begin, channels, at_once=AT_ONCE)
        self._worked: list[Worked] = []
        self._others: list[OtherLine] = []

    def hear(self, what: str, at: float, chunks: Sequence[Stamped]) -> None:
        """What the journal holds, in its order. Raises FindingTrouble for more readings than are worked up at once."""
        if what == MISSED:
            self._chain.missed()
        flow = self._chain.feed(chunks) if what == HEARD else self._chain.lost(at) if what == LOST else None
        if flow is None:
            return
        self._worked += map(_light, flow.worked)
        self._others += flow.heard.other_lines
        self._readings += flow.heard.readings
        if self._readings > self._most:
            raise FindingTrouble("run-too-large", number=self._number, most=self._most)

    @property
    def gone(self) -> list[Worked]:
        """What was set aside."""
        return self._chain.gone

    def join(self) -> None:
        """Makes one piece of all that has been read, where its pieces are of one kind; no more is heard after that."""
        self._worked += map(_light, self._chain.rest())
        self._worked = _one_piece(self._worked)

    def recorded(self, run: int, end: int) -> Recorded:
        """All of it; end: the byte after its last."""
        self._worked += map(_light, self._chain.rest())
        return Recorded(run, end, self._chain.reader.format, self._worked, self._others)


def replay(book: Book, run: Run, channels: dict[str, str], most: int = MOST_READINGS) -> Replayed:
    """The run computed from its bytes. channels: channel -> unit of its quantity, as the plan has it.

    Raises FindingTrouble for an empty run, and for one of more than `most` readings. Safe from any thread: it has a
    connection of its own to the book.
    """
    if run.begin is None or run.end is None or run.setting is None:
        raise FindingTrouble("run-without-readings", number=run.number)
    reading = RunReading(run.number, run.setting, run.begin, channels, most)
    for what, at, chunks in many_at_once(heard(book, run.session, run.begin, run.end)):
        reading.hear(what, at, chunks)
    read = reading.recorded(run.id, run.end)
    first = min((float(each.block.t[0]) for each in [*reading.gone[:1], *read.worked[:1]]), default=None)
    found = assembled(run, read.format, channels, read.worked, read.other_lines, first)
    gone: dict[str, tuple[Floats, Floats]] = {}
    for channel in dict.fromkeys(name for each in reading.gone for name in each.calibrated):
        own = [each.calibrated[channel] for each in reading.gone if channel in each.calibrated]
        t, values = (np.concatenate([getattr(each, what) for each in own]) for what in ("t", "values"))
        gone[channel] = t - found.began, values
    return replace(found, gone=gone) if gone else found


def as_recorded(run: Run, recorded: Recorded, channels: dict[str, str]) -> Replayed:
    """The run as it was seen live, which is what its bytes give again. Raises FindingTrouble for an empty run."""
    return assembled(run, recorded.format, channels, recorded.worked, recorded.other_lines)


def assembled(
    run: Run, format: StreamFormat | None, channels: dict[str, str], worked: Sequence[Worked], others: list[OtherLine],
    first: float | None = None,
) -> Replayed:  # fmt: skip
    """Consecutive pieces of a run as one. first: s on the engine's clock of its first reading, where that was set aside."""
    blocks = [each.block for each in worked]
    if not blocks or run.setting is None:
        raise FindingTrouble("run-without-readings", number=run.number)
    t = one_array([block.t for block in blocks])
    began = (float(t[0]) if first is None else first) + run.setting.zero
    t = t - began
    breaks = np.flatnonzero(one_array([block.gap_before for block in blocks]))
    names = dict.fromkeys(name for block in blocks for name in block.channels)
    raw = {name: one_array([_channel(block, name) for block in blocks]) for name in names}
    until = float(run.ending.fields["seconds"] or 0.0) if run.ending is not None and run.ending.code == UNHEARD else 0.0
    return Replayed(
        run,
        format,
        check(run.setting.workings, channels, run.setting.raw),
        t,
        one_array([block.offset for block in blocks]),
        raw,
        {name: _from(result, began) for name, result in gathered([each.results for each in worked]).items()},
        [
            *((float(t[row - 1]), float(t[row])) for row in breaks.tolist() if row > 0),
            *([(float(t[-1]), until)] if until > t[-1] else []),
        ],
        others,
        began,
        until=until,
    )


def _channel(block: Block, name: str) -> Floats:
    found = block.channels.get(name)
    return found if found is not None else np.full(len(block), np.nan)


def quantities(replayed: Replayed) -> dict[str, Series]:
    """The results that have a value at each reading; what is told late has none at the last ones."""
    return {
        name: _padded(result, replayed.t)
        for name, result in replayed.results.items()
        if isinstance(result, Series) and result.since is None and len(result) and INNER not in name
    }


def _padded(result: Series, t: Floats) -> Series:
    missing = len(t) - len(result)
    if not missing:
        return result
    guess = None if result.guess is None else np.pad(result.guess, (0, missing))
    parts = {source: np.pad(share, (0, missing)) for source, share in result.parts.items()}
    return Series(t, np.pad(result.values, (0, missing), constant_values=np.nan), result.unit, parts, guess)


def _from(result: Series | Events, began: float) -> Series | Events:
    if isinstance(result, Events):
        return Events(result.t - began, result.fresh, result.parts)
    since = None if result.since is None else result.since - began
    return Series(result.t - began, result.values, result.unit, result.parts, result.guess, since)
