"""What speaks for a stream format, and what comes next to it: as it is shown to whoever asks."""

from __future__ import annotations

import msgspec

from common_bench.model.stream import StreamFormat


class Reading(msgspec.Struct, frozen=True):
    """A format with the bits that a line takes under it, and how many of how many lines it explains."""

    format: StreamFormat
    bits: float
    explained: int
    lines: int


class Judgement(msgspec.Struct, frozen=True):
    """format: how lines are read; best, other: that one, and the next that reads other numbers; lead: bits by which
    `other` is heavier in all; sure: it is so clear that nothing is asked; clear: so clear of its
    shape that it is only confirmed from then on; behind: bits by which the format of before is
    heavier, 0 where it reads the same numbers; shown: the last lines."""

    format: StreamFormat
    best: Reading
    other: Reading | None
    lead: float
    lines: int
    sure: bool
    clear: bool = False
    behind: float = 0.0
    shown: tuple[str, ...] = ()
