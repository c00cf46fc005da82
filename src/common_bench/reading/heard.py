"""What comes of a feed of bytes: blocks of readings, lines that are none, and what was read anew."""

from __future__ import annotations

from typing import NamedTuple

import msgspec
import numpy as np

from common_bench.model.block import Block, Floats, Ints, NumberColumns
from common_bench.model.stream import StreamFormat
from common_bench.reading.format_finding import OtherLine
from common_bench.reading.lines import Lines


class ReadLines(NamedTuple):
    """Lines in a row that one format has read, before a clock puts them in time.

    values: (n, columns) raw numbers; stamps: (n,) s of arrival; offsets: (n,); kits: the id that each
    names, None where the format names none.
    """

    format: StreamFormat
    values: Floats | NumberColumns
    stamps: Floats
    offsets: Ints
    kits: tuple[str, ...] | None

    def of_kit(self, id: str) -> ReadLines:
        """Those of one kit."""
        keep = np.array([kit == id for kit in self.kits or ()], bool)
        return ReadLines(self.format, self.values[keep], self.stamps[keep], self.offsets[keep], (id,) * int(keep.sum()))


class Heard(msgspec.Struct, frozen=True, eq=False):
    """What came of one feed: blocks in order, lines that are no readings, the whole lines themselves, and what was
    read of lines on a port that several kits share. anew: byte offset from which on all has been read anew under another
    format, so that what was given before of it is void, and `again` are the lines of before that are no readings under
    it; -1 where nothing was.
    """

    blocks: list[Block]
    other_lines: list[OtherLine]
    lines: list[Lines]
    readings: int
    unreadable: int
    shared: list[ReadLines] = msgspec.field(default_factory=list)
    anew: int = -1
    again: list[OtherLine] = msgspec.field(default_factory=list)


def part_before(block: Block, offset: int) -> Block | None:
    """Those readings of a block whose lines begin before an offset; None where there are none."""
    count = int(np.searchsorted(block.offset, offset))
    return block if count == len(block) else block.part(0, count) if count else None
