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
    names, None where the format names none; whole: it is known that each value is a number.
    """

    format: StreamFormat
    values: Floats | NumberColumns
    stamps: Floats
    offsets: Ints
    kits: tuple[str, ...] | None
    whole: bool = False

    def of_kit(self, id: str) -> ReadLines:
        """Those of one kit."""
        keep = np.array([kit == id for kit in self.kits or ()], bool)
        kits = (id,) * int(keep.sum())
        return ReadLines(self.format, self.values[keep], self.stamps[keep], self.offsets[keep], kits, self.whole)


class Places:
    """Where the columns of each role are in a format, looked up once."""

    def __init__(self, format: StreamFormat) -> None:
        roles = [column.role for column in format.columns]
        self.format, self.shared = format, format.shared
        self.kit = roles.index("kit") if "kit" in roles else None
        self._clocks = [at for at, role in enumerate(roles) if role == "clock"]
        self._channels = [(at, format.columns[at].name) for at, role in enumerate(roles) if role == "channel"]

    def channels(self, values: Floats | NumberColumns) -> dict[str, Floats]:
        """By name, (n,) each, of (n, columns) numbers."""
        if isinstance(values, NumberColumns):
            return {name: np.ascontiguousarray(values[:, at]) for at, name in self._channels}
        across = values.T.copy()  # all at once
        return {name: across[at] for at, name in self._channels}

    def clock(self, values: Floats | NumberColumns) -> Floats | None:
        """(n,) what the kit's clock says, in its own unit; None where it sends none."""
        if not self._clocks:
            return None
        found = values[:, self._clocks[0]]
        for at in self._clocks[1:]:  # rows of several kinds may each have the clock in a column of their own
            found = np.where(np.isnan(found), values[:, at], found)
        return found


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
