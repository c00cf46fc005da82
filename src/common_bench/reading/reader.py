"""Reading lines under a stream format. Stamped bytes in; blocks of readings, other lines and the lines themselves out."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from common_bench.model.block import Block, Floats, Ints, NumberColumns, Stamped
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.reading.clock import ClockMap
from common_bench.reading.dialects import line_reader, templates_of
from common_bench.reading.format_finding import FormatFinder, OtherLine
from common_bench.reading.heard import Heard, Places, ReadLines, part_before
from common_bench.reading.kept_lines import MOST_KEPT
from common_bench.reading.lines import LineCutter, Lines
from common_bench.reading.naming import could_be_reading
from common_bench.reading.plain import could_be_plain, lines_with_other_bytes, plain_table
from common_bench.reading.rows import Line

FEW_LINES = 3  # below this many, reading line by line is quicker than setting arrays up
MOST_ODD = 1 / 6  # of the lines of a piece, beyond which it is halved to find those that are odd
MOST_KITS = 64


class Reader:
    """Lines, format and clock of one kit.

    The blocks given out, joined, depend only on bytes and stamps; no byte is interpreted twice; a
    missing value is nan and never a number. Nothing that a kit sends raises.
    """

    def __init__(
        self,
        format: StreamFormat | None = None,
        clock: ClockState | None = None,
        *,
        held: bool = False,
        offset: int = 0,
        paced: bool = True,
    ) -> None:
        """clock: where the kit's clock stood; held: in a run; offset: of the first byte in what was heard; paced: the
        arrivals mean something, as they do not where a file of text is replayed."""
        self.cutter = LineCutter(offset)
        self.finder = FormatFinder(paced=paced, known=format)
        self.format = format
        self._clock_state = clock
        self._pace = 1.0 if clock is None else clock.pace
        self._held = held
        self.clock = self._clock_map(clock)
        self._joined = False  # the next line may be the end of one whose beginning was not heard
        self._missed = False
        self._anew, self._again = -1, list[OtherLine]()
        self._feed_from = 0  # offset of the first line of this feed
        self._fresh: set[int] = set()  # offsets of lines of earlier feeds that waited, and are read in this one
        self._told: dict[int, str] = {}  # offset -> kind of the last lines that were no readings
        self._shared_format: StreamFormat | None = None  # of the port, while another reader reads for this one
        self._shared: list[ReadLines] = []
        self._places: Places | None = None
        self.kits: dict[str, int] = {}  # ids on a shared port -> readings of each
        self.lines = self.readings = self.unreadable = self.notes = 0

    def _clock_map(self, state: ClockState | None = None) -> ClockMap:
        at = self.format.clock if self.format else None
        column = self.format.columns[at] if self.format and at is not None else None
        tick = column.tick if column else 0.0
        state = state or ClockState(pace=self._pace)
        return ClockMap(tick, state, held=self._held, day=column is not None and column.kind == "time")

    def begin_run(self) -> ClockState:
        """What a run reads depends on its own lines from here on; holds the clock and gives its state."""
        self.finder.begin_run()
        self._held = True
        return self.clock.hold()

    def end_run(self) -> None:
        self._held = False
        self.clock.release()

    def read_as(self, format: StreamFormat) -> None:
        """Another format from the next line on, as somebody has set it by hand."""
        self.finder.begin_anew(format)
        self.kits.clear()
        self._take_over(format)

    def forget_format(self) -> None:
        """Works the format out anew from the next line on, as after a beginning that was missed."""
        self.format = None
        self.finder.begin_anew()
        self.clock = self._clock_map()

    def join(self) -> None:
        """The link was opened, maybe in the middle of a line: the next one may be half a line."""
        self._joined = True

    def feed(self, chunks: Sequence[Stamped]) -> Heard:
        return self._read(self.cutter.feed(chunks))

    def share(self, heard: Heard, port: Reader) -> Heard:
        """What `port`, the reader of a port that several kits share, has read, narrowed to this kit's own lines.

        The lines are read once, by `port`; this reader has a clock of its own for its own.
        """
        assert self.format is not None
        id = self.format.only
        if port.format is not None and port.format is not self._shared_format:
            self._shared_format = port.format
            self._take_over(msgspec.structs.replace(port.format, only=id))
        if heard.anew >= 0:
            self.clock = self._clock_map()
        blocks = []
        for read in heard.shared:
            own = read.of_kit(id)
            if len(own.values):
                blocks.append(self._in_time(own._replace(format=self.format)))
        self.lines += sum(len(lines) for lines in heard.lines)
        return msgspec.structs.replace(
            self._counted(blocks, heard.other_lines, heard.lines), anew=heard.anew, again=heard.again
        )

    def missed(self) -> None:
        """An answer that was asked for did not come: there is a gap before the next reading."""
        self._missed = True

    def lost(self, at: float) -> Heard:
        """The link went away: the open half line is given up, counted and told, and there is a gap before the next reading,
        however late the last ones before it came."""
        self._joined = self._missed = True
        half = self.cutter.lost()
        if half is None:
            return Heard([], [], [], 0, 0)
        self.lines += 1
        self.notes += 1
        return Heard([], [OtherLine(at, half[0], half[1], "half")], [], 0, 0)

    def _read(self, pieces: list[Lines]) -> Heard:
        blocks: list[Block] = []
        others: list[OtherLine] = []
        self._shared = []
        self._anew, self._again = -1, []
        self._fresh.clear()
        first = self._feed_from = pieces[0].first if pieces else 0
        for piece in pieces:
            self.lines += len(piece)
            whole: Lines | None = piece
            if self._joined and not piece.overlong:
                whole = self._without_partial_line(piece, others)
            if whole is None:
                continue
            if whole.overlong:
                self.finder.keep(whole)
                others.append(OtherLine(float(whole.stamps[0]), whole.first, whole.data[:-1], "unreadable"))
            else:
                self._judging(whole, blocks, others)
        heard = self._counted(blocks, others, pieces, self._shared)
        if self._anew < 0:
            return heard
        old = [each for each in others if each.offset < first]
        return msgspec.structs.replace(
            heard, other_lines=[each for each in others if each.offset >= first], anew=self._anew, again=old
        )

    def _judging(self, piece: Lines, blocks: list[Block], others: list[OtherLine]) -> None:
        """Reads a piece, and judges the format after those of its lines at which that is due."""
        low = 0
        while low < len(piece):
            due = self.finder.due_in(piece.stamps[low:], known=self.format is not None)
            high = len(piece) if due is None else low + due
            part = piece.part(low, high) if low or high < len(piece) else piece
            self.finder.keep(part)
            if self.format is None:
                self._one_by_one(part.each(), blocks, others, due=due is not None)
            else:
                self._piece(part, blocks, others)
                if due is not None:
                    last = int(part.offsets[-1])
                    found = self.finder.judge(self.format, last, held=self._held)
                    if found is not None:
                        self._change(*found, last, blocks, others)
            low += len(part)

    def _change(
        self, format: StreamFormat, anew: bool, offset: int, blocks: list[Block], others: list[OtherLine]
    ) -> None:
        """Another format from here on; anew: the lines up to the one at an offset are read anew under it, and what was
        made of them is void."""
        if not anew:
            self._take_over(format)
            return
        lines, half = self.finder.again(offset, format)
        if not lines:
            self._take_over(format)
            return
        first = half[0].offset if half else lines[0][1]
        kept_blocks = [part for block in blocks if (part := part_before(block, first)) is not None]
        kept_others = [each for each in others if each.offset < first]
        self._uncount([*((each.at, each.offset, each.line) for each in half), *lines])
        blocks[:], others[:] = kept_blocks, [*kept_others, *half]
        self._shared[:] = []
        self.kits.clear()
        self.format = format
        self.clock = self._clock_map()
        self._anew = first if self._anew < 0 else min(first, self._anew)
        self.finder.steadfast, steady = True, self.finder.steadfast
        self._one_by_one(lines, blocks, others)
        self.finder.steadfast = steady

    def _uncount(self, lines: Sequence[Line]) -> None:
        """Takes back the counts of lines of earlier feeds that are read anew; those of this feed are not counted yet."""
        read = line_reader(self.format) if self.format is not None else None
        uncounted = self._feed_from if self._anew < 0 else min(self._feed_from, self._anew)
        for _, offset, line in lines:
            if offset >= uncounted:
                break
            if offset in self._fresh:
                continue
            kind = self._told.pop(offset, "")
            if kind:
                self.unreadable -= kind == "unreadable"
                self.notes -= kind != "unreadable"
            elif read is not None:  # without a format it waited, and was not counted
                self.readings -= len(read(line) or (None,))

    def _counted(
        self, blocks: list[Block], others: list[OtherLine], lines: list[Lines], shared: list[ReadLines] | None = None
    ) -> Heard:
        readings = sum(len(block) for block in blocks)
        unreadable = sum(1 for each in others if each.kind == "unreadable")
        for each in others:
            self._told[each.offset] = each.kind
        while len(self._told) > MOST_KEPT:
            self._told.pop(next(iter(self._told)))
        self.readings += readings
        self.unreadable += unreadable
        self.notes += len(others) - unreadable
        return Heard(blocks, others, lines, readings, unreadable, shared or [])

    def _without_partial_line(self, piece: Lines, others: list[OtherLine]) -> Lines | None:
        """The lines of a link that was just joined, without a first one that may be half a line; None where nothing
        is left."""
        self._joined = False
        at, offset, line = piece.part(0, 1).each()[0]
        if self.format is None:
            self.finder.doubtful = offset
        elif could_be_reading(line) and not self._shows_its_beginning(line):
            others.append(OtherLine(at, offset, line, "half"))
            return piece.part(1, len(piece)) if len(piece) > 1 else None
        return piece

    def _shows_its_beginning(self, line: bytes) -> bool:
        """Whether a line that is read could not have lost its beginning: it has a mark there, or names what it holds."""
        format = self.format
        assert format is not None
        marked = format.start != "" or format.dialect not in ("separated", "tagged")
        return marked and bool(line_reader(format)(line))

    def _piece(self, piece: Lines, blocks: list[Block], others: list[OtherLine]) -> None:
        if self.format is None or len(piece) < FEW_LINES or not could_be_plain(self.format):
            self._one_by_one(piece.each(), blocks, others)
            return
        table = plain_table(piece, self.format)
        if table is not None:
            whole = not isinstance(table, NumberColumns)
            self._take(self.format, table, piece.stamps, piece.offsets, None, blocks, whole=whole)
            return
        bad = lines_with_other_bytes(piece, self.format.separator)
        if not len(bad) or len(bad) > len(piece) * MOST_ODD:
            self._piece(piece.half(later=False), blocks, others)
            self._piece(piece.half(later=True), blocks, others)
            return
        low = 0
        for at in [*bad.tolist(), len(piece)]:
            if at > low:
                self._piece(piece.part(low, at), blocks, others)
            if at < len(piece):
                self._one_by_one(piece.part(at, at + 1).each(), blocks, others)
            low = at + 1

    def _one_by_one(
        self, lines: list[Line], blocks: list[Block], others: list[OtherLine], *, due: bool = False
    ) -> None:
        """due: after the last of them the format is to be judged, where none is known yet."""
        rows: list[list[float]] = []
        stamps: list[float] = []
        offsets: list[int] = []
        kits: list[str] = []

        def close() -> None:
            if rows:
                assert self.format is not None
                self._take(self.format, np.array(rows), np.array(stamps), np.array(offsets), kits.copy(), blocks)
                for kept in (rows, stamps, offsets, kits):
                    kept.clear()

        texts, place = [line for _, _, line in lines], 0
        templates, reads = (templates_of(self.format), self.format) if self.format is not None else (None, None)
        while place < len(lines):
            if self.format is None:
                last = place == len(lines) - 1
                found = self.finder.before_format(lines[place], others, due=due and last)
                place += 1
                if found is not None:
                    # What waited is read now, and the rest as under any known format.
                    close()
                    if found.waiting is None:
                        self._change(found.format, True, lines[place - 1][1], blocks, others)
                    else:
                        self.format = found.format
                        self.clock = self._clock_map(self._clock_state)
                        self._fresh.update(each[1] for each in found.waiting)
                        self._one_by_one(found.waiting, blocks, others)
                    self._one_by_one(lines[place:], blocks, others)
                    return
                continue
            if templates is None or self.format is not reads:
                templates, reads = templates_of(self.format), self.format
            quick = templates.run(texts, place)
            if quick.values:
                through = lines[place : place + len(quick.values)]
                for (at, offset, _), values, kit in zip(through, quick.values, quick.kits, strict=True):
                    if not self.format.only or kit == self.format.only:
                        rows.append(values)
                        stamps.append(at)
                        offsets.append(offset)
                        kits.append(kit)
                place += len(through)
                continue
            at, offset, line = lines[place]
            place += 1
            again = templates.read(line)
            if again is None:
                unlike = self.finder.unlike((at, offset, line), self.format, held=self._held)
                if unlike.format is not None:
                    close()
                    self._change(unlike.format, unlike.anew, offset, blocks, others)
                    if unlike.anew:
                        continue
                again = unlike.rows
                if not again:
                    others.append(OtherLine(at, offset, line, unlike.kind))
            for row in again:
                rows.append(row.values)
                stamps.append(at + row.shift)
                offsets.append(offset)
                kits.append(row.kit)
        close()

    def _take_over(self, format: StreamFormat) -> None:
        before, self.format = self.format, format
        if before is None or self._clock_map().tick != self.clock.tick:
            self.clock = self._clock_map()

    def _take(
        self, format: StreamFormat, table: Floats | NumberColumns, stamps: Floats, offsets: Ints, kits: list[str] | None,
        blocks: list[Block], *, whole: bool = False,
    ) -> None:  # fmt: skip
        """Lines that were read, told apart by kit where the port is shared, become a block of readings. whole: it is known that each value
        is a number."""
        places = self._places_in(format)
        if kits is None and places.kit is not None:
            kits = [f"{value:g}" for value in table[:, places.kit].tolist()]
        named = tuple(kits) if kits is not None and places.shared else None
        read = ReadLines(format, table, stamps, offsets, named, whole)
        if format.only and named is not None:
            read = read.of_kit(format.only)
        for kit in read.kits or ():
            if kit in self.kits or len(self.kits) < MOST_KITS:
                self.kits[kit] = self.kits.get(kit, 0) + 1
        if places.shared and not format.only:
            self._shared.append(read)
        if len(read.values):
            blocks.append(self._in_time(read))

    def _in_time(self, read: ReadLines) -> Block:
        places = self._places_in(read.format)
        raw = places.clock(read.values)
        if raw is not None and self.clock.tick != 1.0:
            raw = raw * self.clock.tick
        t, clock, clock_u, gaps = self.clock.map(raw, read.stamps)
        if self._missed and len(gaps):
            gaps[0], self._missed = True, False
        channels, kits = places.channels(read.values), read.kits or None
        return Block(t, clock, read.stamps, read.offsets, gaps, channels, clock_u, self.clock.tick, kits, read.whole)

    def _places_in(self, format: StreamFormat) -> Places:
        if self._places is None or self._places.format is not format:
            self._places = Places(format)
        return self._places


def values_in(line: bytes, format: StreamFormat) -> list[float] | None:
    """The numbers of one line, nan for "no value"; None where it is no reading under this format."""
    rows = line_reader(format)(line)
    return rows[0].values if rows else None
