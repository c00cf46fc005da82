"""Reading lines under a stream format. Stamped bytes in; blocks of readings, notes and unreadable lines out."""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import msgspec
import numpy as np

from common_bench.model.block import Block, Floats, Ints, Stamped
from common_bench.model.stream import ClockState, Column, StreamFormat
from common_bench.reading.clock import ClockMap
from common_bench.reading.dialects import line_reader, moulds_of
from common_bench.reading.half_lines import PUNCTUATION, is_shaped, is_whole
from common_bench.reading.in_columns import explained, longer_rows, renamed
from common_bench.reading.lines import LineCutter, Lines
from common_bench.reading.naming import MOST_COLUMNS, could_be_reading, names_in
from common_bench.reading.plain import could_be_plain, lines_with_other_bytes, plain_table
from common_bench.reading.rows import Row, text_of
from common_bench.reading.working_out import work_out

LineKind = Literal["reading", "names", "words", "unreadable", "half"]
FEW_LINES = 6  # below this many, reading line by line is quicker than setting arrays up
MOST_WAITING = 60  # lines kept for working the format out
MOST_WORDS = 24  # word lines among which names and legends are looked for
TRY_AT = frozenset([2, 3, 4, 5, 6, 8, 10, 14, 20, 30, 45, 60])  # waiting lines at which it is looked for again
TRY_EVERY = 30
GROW_AT = (2, 3, 5, 8)  # strange lines at which it is looked for columns that appear later
DOUBTED_AT = (4, 8, 12)  # lines that a format should have read, after which others are tried on all lines so far
FAR_MORE, FAR_LESS = 0.85, 0.6  # of those lines, read by another format and by the one so far
LOOK_AGAIN = 20  # lines in a row that the format does not read, before it is worked out anew
MOST_KITS = 64
SHOWN = 200  # characters of a line that are shown


class Told(NamedTuple):
    """A line that is no reading: at s (arrival), byte offset, its bytes, and why it is kept."""

    at: float
    offset: int
    line: bytes
    kind: LineKind

    @property
    def text(self) -> str:
        return self.line[:SHOWN].decode("utf-8", "backslashreplace")


@dataclass(frozen=True, slots=True)
class Heard:
    """What came of one feed: blocks in order, lines that are no readings, and the whole lines themselves."""

    blocks: list[Block]
    told: list[Told]
    lines: list[Lines]
    readings: int
    unreadable: int


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
    ) -> None:
        self.cutter = LineCutter(offset)
        self.format = format
        self._clock_state = clock
        self._held = held
        self.clock = self._clock_map(clock)
        self._waiting: list[tuple[float, int, bytes]] = []
        self._seen = 0
        self._words: deque[bytes] = deque(maxlen=MOST_WORDS)
        self._strange: deque[bytes] = deque(maxlen=LOOK_AGAIN)
        self._in_a_row = 0
        self._joined = False  # the next line may be the end of one whose beginning was not heard
        self._doubtful = -1  # offset of such a line, while no format is known by which it can be judged
        self._first: tuple[bytes, ...] = ()  # lines that the format was worked out from, while it may be doubted
        self._odd: list[bytes] = []  # lines since then that could be readings, and are none by it
        self._missed = False
        self.kits: dict[str, int] = {}  # ids on a shared port -> readings of each
        self.lines = self.readings = self.unreadable = self.notes = 0

    def _clock_map(self, state: ClockState | None = None) -> ClockMap:
        at = self.format.clock if self.format else None
        column = self.format.columns[at] if self.format and at is not None else None
        tick = column.tick if column else 0.0
        return ClockMap(tick, state, held=self._held, day=column is not None and column.kind == "time")

    def begin_run(self) -> ClockState:
        """What a run reads depends on its own lines from here on; holds the clock and gives its state."""
        self._strange.clear()
        self._in_a_row = 0
        self._held = True
        return self.clock.hold()

    def end_run(self) -> None:
        self._held = False
        self.clock.release()

    def read_as(self, format: StreamFormat) -> None:
        """Another format from the next line on, as somebody has set it by hand."""
        before = self.format
        self.format = format
        self._waiting, self._seen, self._first = [], 0, ()
        if before is None or self._clock_map().tick != self.clock.tick:
            self.clock = self._clock_map()

    def forget_format(self) -> None:
        """Works the format out anew from the next line on, as after a beginning that was missed."""
        self.format = None
        self._waiting, self._seen, self._first = [], 0, ()
        self.clock = self._clock_map()

    def join(self) -> None:
        """The link was opened, maybe in the middle of a line: the next one may be half a line."""
        self._joined = True

    def feed(self, chunks: Sequence[Stamped]) -> Heard:
        return self._read(self.cutter.feed(chunks))

    def missed(self) -> None:
        """An answer that was asked for did not come: there is a gap before the next reading."""
        self._missed = True

    def lost(self, at: float) -> Heard:
        """The link went away: the open half line is given up, counted and told."""
        self._joined = True
        half = self.cutter.lost()
        if half is None:
            return Heard([], [], [], 0, 0)
        self.lines += 1
        self.notes += 1
        return Heard([], [Told(at, half[0], half[1], "half")], [], 0, 0)

    def _read(self, pieces: list[Lines]) -> Heard:
        blocks: list[Block] = []
        told: list[Told] = []
        for piece in pieces:
            self.lines += len(piece)
            if self._joined and not piece.overlong:
                at, offset, line = piece.part(0, 1).each()[0]
                self._joined = False
                if self.format is None:
                    self._doubtful = offset
                elif could_be_reading(line) and not self._shows_its_beginning(line):
                    told.append(Told(at, offset, line, "half"))
                    if len(piece) == 1:
                        continue
                    piece = piece.part(1, len(piece))
            if piece.overlong:
                told.append(Told(float(piece.stamps[0]), piece.first, piece.data[:-1], "unreadable"))
            else:
                self._piece(piece, blocks, told)
        readings = sum(len(block) for block in blocks)
        unreadable = sum(1 for each in told if each.kind == "unreadable")
        self.readings += readings
        self.unreadable += unreadable
        self.notes += len(told) - unreadable
        return Heard(blocks, told, pieces, readings, unreadable)

    def _shows_its_beginning(self, line: bytes) -> bool:
        """Whether a line that is read could not have lost its beginning: it has a mark there, or names what it holds."""
        format = self.format
        assert format is not None
        marked = format.start != "" or format.dialect not in ("separated", "tagged")
        return marked and bool(line_reader(format)(line))

    def _piece(self, piece: Lines, blocks: list[Block], told: list[Told]) -> None:
        if self.format is None or len(piece) < FEW_LINES or not could_be_plain(self.format):
            self._one_by_one(piece.each(), blocks, told)
            return
        table = plain_table(piece, self.format)
        if table is not None:
            self._strange.clear()
            self._in_a_row = 0
            blocks.append(self._block(table, piece.stamps, piece.offsets))
            return
        bad = lines_with_other_bytes(piece, self.format.separator)
        if not len(bad) or len(bad) > len(piece) / FEW_LINES:
            self._piece(piece.half(later=False), blocks, told)
            self._piece(piece.half(later=True), blocks, told)
            return
        low = 0
        for at in [*bad.tolist(), len(piece)]:
            if at > low:
                self._piece(piece.part(low, at), blocks, told)
            if at < len(piece):
                self._one_by_one(piece.part(at, at + 1).each(), blocks, told)
            low = at + 1

    def _one_by_one(self, lines: list[tuple[float, int, bytes]], blocks: list[Block], told: list[Told]) -> None:
        rows: list[list[float]] = []
        stamps: list[float] = []
        offsets: list[int] = []
        kits: list[str] = []

        def close() -> None:
            if rows:
                blocks.append(self._block(np.array(rows), np.array(stamps), np.array(offsets), kits.copy()))
                for kept in (rows, stamps, offsets, kits):
                    kept.clear()

        texts, place = [line for _, _, line in lines], 0
        moulds, reads = (moulds_of(self.format), self.format) if self.format is not None else (None, None)
        while place < len(lines):
            if self.format is None:
                at, offset, line = lines[place]
                place += 1
                if self._before_format(at, offset, line, blocks, told):
                    # What waited is read now, and the rest as under any known format.
                    close()
                    self._one_by_one(lines[place:], blocks, told)
                    return
                continue
            if moulds is None or self.format is not reads:
                moulds, reads = moulds_of(self.format), self.format
            quick = moulds.run(texts, place)
            if quick.values:
                through = lines[place : place + len(quick.values)]
                for (at, offset, _), values, kit in zip(through, quick.values, quick.kits, strict=True):
                    if not self.format.only or kit == self.format.only:
                        rows.append(values)
                        stamps.append(at)
                        offsets.append(offset)
                        kits.append(kit)
                self._heard_one()
                place += len(through)
                continue
            at, offset, line = lines[place]
            place += 1
            found = moulds.read(line)
            if found is not None:
                self._heard_one()
            before = self.format
            kind, again = self._other_line(line) if found is None else ("reading", found)
            if self.format is not before:
                self.format, after = before, self.format
                close()
                self._take_over(after)
            for row in again:
                rows.append(row.values)
                stamps.append(at + row.shift)
                offsets.append(offset)
                kits.append(row.kit)
            if not again and found is None:
                told.append(Told(at, offset, line, kind))
        close()

    def _heard_one(self) -> None:
        """A line was read as it should be: what was strange before it was not the beginning of something new."""
        self._in_a_row = 0
        if self.format is not None and not self.format.sparse:
            self._strange.clear()

    def _take_over(self, format: StreamFormat) -> None:
        before, self.format = self.format, format
        if before is None or self._clock_map().tick != self.clock.tick:
            self.clock = self._clock_map()

    def _other_line(self, line: bytes) -> tuple[LineKind, list[Row]]:
        """A line that the format does not read: names, words, a new column, another dialect, or unreadable."""
        format = self.format
        assert format is not None
        names = names_in(line, format.separator) if format.dialect == "separated" else None
        if names and len(names) == len(format.columns) > 1:
            found = renamed(format, names)
            if [c.name for c in found.columns] != [c.name for c in format.columns]:
                self.format = found
            return "names", []
        if not could_be_reading(line):
            return ("words" if is_words(line) else "unreadable"), []
        self._strange.append(line)
        self._in_a_row += 1
        grown = self._grown(format)
        if grown is not None:
            self._strange.clear()
            self._in_a_row = 0
            self.format = grown
            return "reading", line_reader(grown)(line) or []
        better = self._doubted(format, line)
        if better is not None:
            self.format = better
            return "reading", line_reader(better)(line) or []
        return ("words" if is_words(line) and not _mostly_numbers(line) else "unreadable"), []

    def _doubted(self, format: StreamFormat, line: bytes) -> StreamFormat | None:
        """Another format that reads far more, where the first lines (half of one, a kind that came by chance) misled."""
        if not self._first or self._held or format.only:
            return None
        self._odd.append(line)
        if len(self._odd) not in DOUBTED_AT:
            return None
        lines = (*self._first, *self._odd)
        found = work_out(lines, (*self._words, *lines))
        if len(self._odd) == DOUBTED_AT[-1]:
            self._first = ()
        if found is None or (found.dialect, found.columns) == (format.dialect, format.columns):
            return None
        texts = [text for each in lines if (text := text_of(each, found.latin))]
        if explained(found, texts) < FAR_MORE * len(texts) or explained(format, texts) > FAR_LESS * len(texts):
            return None
        self._first = ()
        return found

    def _grown(self, format: StreamFormat) -> StreamFormat | None:
        """The format with columns that appear later, or another one where nothing has been read for long."""
        if format.dialect == "separated" and len(self._strange) >= 2:
            longer = longer_rows(format, list(self._strange)[-2:])
            if longer is not None:
                return longer
        if format.dialect not in ("tagged", "senml") and len(self._strange) in GROW_AT:
            found = work_out(tuple(self._strange), tuple(self._words))
            if found is not None and found.dialect == format.dialect and _holds(found, format):
                known = {column.key or column.name for column in format.columns}
                if format.dialect == "separated":
                    new = tuple(found.columns[len(format.columns) :])
                else:
                    new = tuple(c for c in found.columns if (c.key or c.name) not in known)
                if new and len(format.columns) + len(new) <= MOST_COLUMNS:
                    columns = (*format.columns, *(_free_name(each, format.columns) for each in new))
                    return msgspec.structs.replace(format, columns=columns)
        if self._in_a_row and self._in_a_row % LOOK_AGAIN == 0 and not format.only:
            return work_out(tuple(self._strange), tuple(self._words))
        return None

    def _before_format(self, at: float, offset: int, line: bytes, blocks: list[Block], told: list[Told]) -> bool:
        """Keeps a line until the format is known; True once it is, and all that waited has been read."""
        if not could_be_reading(line):
            kind: LineKind = "words" if is_words(line) else "unreadable"
            if kind == "words" and not (offset == self._doubtful and line[:1] in PUNCTUATION):
                self._words.append(line)
            told.append(Told(at, offset, line, kind))
            return False
        self._waiting.append((at, offset, line))
        self._seen += 1
        doubtful = self._waiting[0][1] == self._doubtful
        if {self._seen, self._seen - doubtful} & TRY_AT or self._seen % TRY_EVERY == 0:
            lines = [each[2] for each in self._waiting]
            found, half = work_out(lines, (*self._words, *lines)), False
            if doubtful:
                found, half = self._without_half_line(found, lines)
            if found is not None:
                self.format = found
                if half:
                    told.append(Told(*self._waiting.pop(0), "half"))
                self._first, self._odd = tuple(lines[doubtful:][-DOUBTED_AT[-1] :]), []
                self.clock = self._clock_map(self._clock_state)
                waiting, self._waiting = self._waiting, []
                self._one_by_one(waiting, blocks, told)
                return True
        if len(self._waiting) > MOST_WAITING:
            oldest = self._waiting.pop(0)
            self._words.append(oldest[2])
            told.append(Told(*oldest, "words" if is_words(oldest[2]) else "unreadable"))
        return False

    def _without_half_line(self, found: StreamFormat | None, lines: list[bytes]) -> tuple[StreamFormat | None, bool]:
        """The format where the first line may be half a line, and whether it is one."""
        others = lines[1:]
        # Names in each line show their shape in few lines; columns without names want as many as ever.
        named = found is not None and (found.dialect != "separated" or found.columns[0].name != "column 1")
        again = work_out([*others, *others[-1:]] if named else others, (*self._words, *others))
        if found is not None and again is not None and is_shaped(found, again):
            return found, not is_whole(found, lines)
        return work_out(others, (*self._words, *others)), True

    def _block(self, table: Floats, stamps: Floats, offsets: Ints, kits: list[str] | None = None) -> Block:
        """table: (n, columns) raw numbers; stamps, offsets: (n,)."""
        format = self.format
        assert format is not None
        kit_at = next((at for at, column in enumerate(format.columns) if column.role == "kit"), None)
        if kits is None and kit_at is not None:
            kits = [f"{value:g}" for value in table[:, kit_at].tolist()]
            if format.only:
                keep = np.array([kit == format.only for kit in kits])
                table, stamps, offsets = table[keep], stamps[keep], offsets[keep]
                kits = [format.only] * len(table)
        named = kits if kits is not None and format.shared else None
        for kit in named or ():
            if kit in self.kits or len(self.kits) < MOST_KITS:
                self.kits[kit] = self.kits.get(kit, 0) + 1
        raw = self._raw_clock(format, table)
        t, clock, clock_u, gaps = self.clock.map(raw, stamps)
        if self._missed and len(gaps):
            gaps[0], self._missed = True, False
        channels = {
            column.name: np.ascontiguousarray(table[:, place])
            for place, column in enumerate(format.columns)
            if column.role == "channel"
        }
        return Block(
            t, clock, stamps, offsets, gaps, channels, clock_u, self.clock.tick, tuple(named) if named else None
        )

    def _raw_clock(self, format: StreamFormat, table: Floats) -> Floats | None:
        places = [at for at, column in enumerate(format.columns) if column.role == "clock"]
        if not places:
            return None
        raw = table[:, places[0]]
        for place in places[1:]:  # rows of several kinds may each have the clock in a column of their own
            raw = np.where(np.isnan(raw), table[:, place], raw)
        return raw * self.clock.tick


def _holds(found: StreamFormat, known: StreamFormat) -> bool:
    """Whether the longer lines begin as the known ones do."""
    if known.dialect == "separated":
        return found.separator == known.separator and len(found.columns) > len(known.columns)
    return found.separator == known.separator or known.dialect in ("json", "senml")


def _free_name(column: Column, others: Sequence[Column]) -> Column:
    taken = {each.name for each in others}
    name = next(n for k in itertools.count(1) if (n := column.name if k == 1 else f"{column.name} {k}") not in taken)
    return msgspec.structs.replace(column, name=name)


def _mostly_numbers(line: bytes) -> bool:
    """Rather a damaged reading than words for people."""
    digits = sum(1 for each in line if 48 <= each <= 57)
    letters = sum(1 for each in line if chr(each).isalpha())
    return digits > letters


def is_words(line: bytes) -> bool:
    """Text for people: printable words or ornaments, or nothing at all."""
    text = text_of(line)
    if text is None:
        text = text_of(line, latin=True) or ""
        if sum(1 for each in text if ord(each) > 127) > len(text) / 5:
            return False
    if not text:
        return True
    if not all(each.isprintable() or each == "\t" for each in text):
        return False
    # Two letters side by side, or an ornament as a line of dashes.
    return any(a.isalpha() and b.isalpha() for a, b in itertools.pairwise(text)) or not any(a.isalnum() for a in text)


def values_in(line: bytes, format: StreamFormat) -> list[float] | None:
    """The numbers of one line, nan for "no value"; None where it is no reading under this format."""
    rows = line_reader(format)(line)
    return rows[0].values if rows else None
