"""A run computed again from its bytes. The journal and a run in; its readings and results out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from common_bench.book.book import Book
from common_bench.book.journal import HEARD, LOST, MISSED, heard
from common_bench.model.block import Events, Floats, Series
from common_bench.model.run import Run
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import FindingTrouble
from common_bench.reading.reader import Told
from common_bench.record.chain import Worked, chain_of
from common_bench.workings.evaluate import Workings, check, gathered


@dataclass(frozen=True)
class Replayed:
    """A whole run with time counted in s from its first reading.

    t, clock: (n,); raw: channel -> (n,); offset: (n,) byte of each reading's line; results by
    working; gaps: (from, to) in s; told: lines that are no readings.
    """

    run: Run
    format: StreamFormat | None
    workings: Workings
    t: Floats
    offset: Floats
    raw: dict[str, Floats]
    results: dict[str, Series | Events]
    gaps: list[tuple[float, float]]
    told: list[Told]
    began: float

    @property
    def seconds(self) -> float:
        return float(self.t[-1]) if len(self.t) else 0.0


def replay(book: Book, run: Run, channels: dict[str, str]) -> Replayed:
    """channels: channel -> unit of its quantity, as the plan has it. Raises FindingTrouble for an empty run."""
    if run.begin is None or run.end is None or run.setting is None:
        raise FindingTrouble(f"run {run.number} holds no readings.", do="Record another one.")
    chain = chain_of(run.setting, run.begin, channels)
    worked: list[Worked] = []
    told: list[Told] = []
    for what, at, chunks in heard(book, run.hearing, run.begin, run.end):
        if what == MISSED:
            chain.missed()
        flow = chain.feed(chunks) if what == HEARD else chain.lost(at) if what == LOST else None
        if flow is not None:
            worked += flow.worked
            told += flow.heard.told
    blocks = [each.block for each in worked]
    if not blocks:
        raise FindingTrouble(f"run {run.number} holds no readings.", do="Record another one.")
    t = np.concatenate([block.t for block in blocks])
    began = float(t[0])
    t = t - began
    breaks = np.flatnonzero(np.concatenate([block.gap_before for block in blocks]))
    names = dict.fromkeys(name for block in blocks for name in block.channels)
    nothing = [np.full(len(block), np.nan) for block in blocks]
    raw = {
        name: np.concatenate([block.channels.get(name, none) for block, none in zip(blocks, nothing, strict=True)])
        for name in names
    }
    return Replayed(
        run,
        chain.reader.format,
        check(run.setting.workings, channels),
        t,
        np.concatenate([block.offset for block in blocks]),
        raw,
        {name: _from(result, began) for name, result in gathered([each.results for each in worked]).items()},
        [(float(t[row - 1]), float(t[row])) for row in breaks.tolist() if row > 0],
        told,
        began,
    )


def quantities(replayed: Replayed) -> dict[str, Series]:
    """The results that have a value at each reading."""
    return {
        name: result
        for name, result in replayed.results.items()
        if isinstance(result, Series) and len(result) == len(replayed.t) and len(result)
    }


def _from(result: Series | Events, began: float) -> Series | Events:
    if isinstance(result, Events):
        return Events(result.t - began, result.fresh, result.parts)
    since = None if result.since is None else result.since - began
    return Series(result.t - began, result.values, result.unit, result.parts, result.guess, since)
