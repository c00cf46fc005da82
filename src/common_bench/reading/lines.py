"""Cutting bytes into lines. Stamped bytes in, whole lines with their stamps and offsets out."""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec
import numpy as np

from common_bench.model.block import Arrived, Floats, Ints, LaterBytes, NumberColumns, Stamped, bytes_of, stamps_of

LONGEST_LINE = 8192  # bytes; a reading is far shorter, and one endless line must not fill the memory
LF, CR = 10, 13
FEW_BYTES = 1500
LINE_END = re.compile(rb"\r\n|\r|\n")


class Lines(msgspec.Struct, frozen=True, eq=False):
    """Whole lines, ended by CR, LF or CRLF alike.

    held: the lines with their ends; starts, ends: (n,) where each begins in data and where its end
    mark stands; stamps: (n,) s, arrival of each end mark; first: offset of data[0] in what was heard;
    overlong: this is one line longer than LONGEST_LINE, of which only the beginning is held; numbers: those that they hold,
    where they are plain numbers and have been read already.
    """

    held: bytes | LaterBytes
    starts: Ints
    ends: Ints
    stamps: Floats
    first: int
    overlong: bool = False
    numbers: NumberColumns | None = None

    def __len__(self) -> int:
        return len(self.ends)

    @property
    def data(self) -> bytes:
        return bytes(self.held)

    @property
    def offsets(self) -> Ints:
        """(n,) byte offset of each line in what was heard."""
        return self.starts + self.first

    def part(self, low: int, high: int) -> Lines:
        """Lines low to high (exclusive); not empty."""
        begin = int(self.starts[low])
        stop = int(self.starts[high]) if high < len(self) else len(self.held)
        cut = slice(low, high)
        return Lines(
            self.held[begin:stop],
            self.starts[cut] - begin if begin else self.starts[cut],
            self.ends[cut] - begin if begin else self.ends[cut],
            self.stamps[cut],
            self.first + begin,
            numbers=None if self.numbers is None else self.numbers[cut],
        )

    def half(self, later: bool) -> Lines:
        middle = len(self) // 2
        return self.part(middle, len(self)) if later else self.part(0, middle)

    def each(self) -> list[tuple[float, int, bytes]]:
        """(stamp, offset, line without its ending) of every line."""
        data, first = self.data, self.first
        return [
            (stamp, first + start, data[start:end])
            for stamp, start, end in zip(self.stamps.tolist(), self.starts.tolist(), self.ends.tolist(), strict=True)
        ]


class LineCutter:
    """Holds the half line that has no end yet.

    The lines given out depend only on the bytes and their stamps, never on how they were cut into
    chunks; what is held never exceeds LONGEST_LINE, so that a line without an end costs no memory.
    """

    def __init__(self, offset: int = 0) -> None:
        self.offset = offset
        self._tail = b""
        self._dropped = 0
        self._after_cr = False

    @property
    def line_start(self) -> int:
        """Offset of the line that is still open."""
        return self.offset

    @property
    def held(self) -> bytes:
        """The line that has no end yet, as far as it has come."""
        return self._tail

    def feed(self, chunks: Sequence[Stamped]) -> list[Lines]:
        if isinstance(chunks, Arrived) and chunks.numbers is not None and self._is_at_a_beginning(chunks):
            starts, ends = chunks.ends - chunks.sizes, chunks.ends - 1
            known = Lines(chunks.held, starts, ends, chunks.stamps, self.offset, numbers=chunks.numbers)
            self.offset += len(chunks.held)
            return [known]
        arrived = bytes_of(chunks)
        if not arrived:
            return []
        skipped = 0
        if self._after_cr:
            self._after_cr = False
            skipped = int(arrived[0] == LF)
            self.offset += skipped
        data = self._tail + arrived[skipped:]
        if len(data) < FEW_BYTES and not self._dropped:
            return self._few(data, chunks, skipped)
        array = np.frombuffer(data, np.uint8)
        ends = np.flatnonzero((array == LF) | (array == CR))
        if not len(ends):
            self._keep(data)
            return []
        before = array[ends - 1]  # for an end at 0 this is the last byte, which changes nothing below
        ends = ends[~((array[ends] == LF) & (before == CR) & (ends > 0))]
        if len(chunks) == 1:
            stamps = np.full(len(ends), chunks[0].at)
        else:
            at, sizes = stamps_of(chunks)
            borders = np.cumsum(sizes) + len(self._tail) - skipped
            stamps = at[np.searchsorted(borders, ends, side="right")]
        after = ends + 1
        inside = after < len(array)
        pairs = np.zeros(len(ends), bool)
        pairs[inside] = (array[ends[inside]] == CR) & (array[after[inside]] == LF)
        nexts = after + pairs
        starts = np.concatenate([[0], nexts[:-1]])
        self._after_cr = bool(array[-1] == CR)
        if self._dropped or len(data) > LONGEST_LINE:
            return self._with_overlong(data, starts, ends, nexts, stamps)
        whole = int(nexts[-1])
        lines = Lines(data[:whole], starts, ends, stamps, self.offset)
        self.offset += whole
        self._tail = data[whole:]
        return [lines]

    def _is_at_a_beginning(self, chunks: Arrived) -> bool:
        """Whether the next line begins with these, none of which is too long for one."""
        beginning = not (self._tail or self._dropped or self._after_cr)
        return beginning and len(chunks) > 0 and int(chunks.sizes.max()) <= LONGEST_LINE

    def _few(self, data: bytes, chunks: Sequence[Stamped], skipped: int) -> list[Lines]:
        """The same for a handful of lines, where setting arrays up would take longer than the work."""
        found = [match.span() for match in LINE_END.finditer(data)]
        self._after_cr = data.endswith(b"\r")
        if not found:
            self._keep(data)
            return []
        ends, nexts = zip(*found, strict=True)
        whole, stamps, came = nexts[-1], list[float](), 0
        border = len(self._tail) - skipped + len(chunks[0].data)  # where what came with a chunk ends
        for end in ends:
            while border <= end:
                came += 1
                border += len(chunks[came].data)
            stamps.append(chunks[came].at)
        starts_and_ends = np.array(((0, *nexts[:-1]), ends))
        lines = Lines(data[:whole], starts_and_ends[0], starts_and_ends[1], np.array(stamps), self.offset)
        self.offset += whole
        self._tail = data[whole:]
        return [lines]

    def _keep(self, data: bytes) -> None:
        self._dropped += max(0, len(data) - LONGEST_LINE)
        self._tail = data[:LONGEST_LINE]

    def _with_overlong(self, data: bytes, starts: Ints, ends: Ints, nexts: Ints, stamps: Floats) -> list[Lines]:
        lengths = ends - starts
        lengths[0] += self._dropped
        long = np.flatnonzero(lengths > LONGEST_LINE)
        pieces, row, start = [], 0, 0
        for index in [*long.tolist(), len(ends)]:
            if index > row:
                stop = int(nexts[index - 1])
                cut = slice(row, index)
                pieces.append(Lines(data[start:stop], starts[cut] - start, ends[cut] - start, stamps[cut], self.offset))
                self.offset += stop - start
                start = stop
            if index < len(ends):
                held = data[start : start + LONGEST_LINE]
                where = np.array([0]), np.array([len(held)]), stamps[index : index + 1]
                pieces.append(Lines(held + b"\n", *where, self.offset, overlong=True))
                stop = int(nexts[index])
                self.offset += stop - start + (self._dropped if index == 0 else 0)
                start = stop
            row = index + 1
        self._tail, self._dropped = b"", 0
        self._keep(data[start:])
        return pieces

    def lost(self) -> tuple[int, bytes] | None:
        """The link went away: gives up the open half line and returns its offset and bytes."""
        self._after_cr = False
        if not self._tail and not self._dropped:
            return None
        half = self.offset, self._tail
        self.offset += len(self._tail) + self._dropped
        self._tail, self._dropped = b"", 0
        return half
