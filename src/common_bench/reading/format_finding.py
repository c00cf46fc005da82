"""Finding a kit's stream format while its lines come: those that wait for it, and those that it does not read."""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Sequence
from typing import Literal, NamedTuple

import msgspec

from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.dialects import line_reader
from common_bench.reading.in_columns import explained, longer_rows, renamed
from common_bench.reading.naming import MOST_COLUMNS, could_be_reading, names_in
from common_bench.reading.partial_lines import PUNCTUATION, is_shaped, is_whole
from common_bench.reading.rows import ParsedLine, text_of
from common_bench.reading.working_out import work_out

LineKind = Literal["reading", "names", "words", "unreadable", "half"]
MOST_WAITING = 60  # lines kept for working the format out
MOST_WORDS = 24  # word lines among which names and legends are looked for
TRY_AT = frozenset([2, 3, 4, 5, 6, 8, 10, 14, 20, 30, 45, 60])  # waiting lines at which it is looked for again
TRY_EVERY = 30
GROW_AT = (2, 3, 5, 8)  # strange lines at which it is looked for columns that appear later
DOUBTED_AT = (4, 8, 12)  # lines that a format should have read, after which others are tried on all lines so far
FAR_MORE, FAR_LESS = 0.85, 0.6  # of those lines, read by another format and by the one so far
LOOK_AGAIN = 20  # lines in a row that the format does not read, before it is worked out anew
SHOWN = 200  # characters of a line that are shown

Line = tuple[float, int, bytes]
"""arrival in s, byte offset, the line without its end"""


class OtherLine(NamedTuple):
    """A line that is no reading: at s (arrival), byte offset, its bytes, and why it is kept."""

    at: float
    offset: int
    line: bytes
    kind: LineKind

    @property
    def text(self) -> str:
        return self.line[:SHOWN].decode("utf-8", "backslashreplace")


class Unlike(NamedTuple):
    """What a line is that the format does not read: its kind, its rows where another format reads it, and that format."""

    kind: LineKind
    rows: list[ParsedLine]
    format: StreamFormat | None = None


class FormatFinder:
    """What is remembered for finding a format: lines that wait, words, and lines that did not fit.

    Guarantees that what it answers depends on the lines alone, in their order. `steadfast`: the format
    stands still whatever comes, as while kits that share a port record.
    """

    def __init__(self) -> None:
        self.steadfast = False
        self.doubtful = -1  # offset of a line that may be partial, while no format is known by which it can be judged
        self._waiting: list[Line] = []
        self._seen = 0
        self._words: deque[bytes] = deque(maxlen=MOST_WORDS)
        self._strange: deque[bytes] = deque(maxlen=LOOK_AGAIN)
        self._in_a_row = 0
        self._first: tuple[bytes, ...] = ()  # lines that the format was worked out from, while it may be doubted
        self._odd: list[bytes] = []  # lines since then that could be readings, and are none by it

    def begin_anew(self) -> None:
        """Another format is set, or none: what waited for one waits no longer."""
        self._waiting, self._seen, self._first = [], 0, ()

    def forget_strange(self) -> None:
        self._strange.clear()
        self._in_a_row = 0

    def fitted(self, *, sparse: bool) -> None:
        """A line was read as it should be: what was strange before it was not the beginning of something new."""
        self._in_a_row = 0
        if not sparse:
            self._strange.clear()

    # before a format is known

    def before_format(self, line: Line, others: list[OtherLine]) -> tuple[StreamFormat, list[Line]] | None:
        """Keeps a line until the format is known; once it is, gives it and the lines that waited. What is no
        reading whatever the format may be is added to `others`."""
        at, offset, text = line
        if not could_be_reading(text):
            kind: LineKind = "words" if is_words(text) else "unreadable"
            if kind == "words" and not (offset == self.doubtful and text[:1] in PUNCTUATION):
                self._words.append(text)
            others.append(OtherLine(at, offset, text, kind))
            return None
        self._waiting.append(line)
        self._seen += 1
        doubtful = self._waiting[0][1] == self.doubtful
        if {self._seen, self._seen - doubtful} & TRY_AT or self._seen % TRY_EVERY == 0:
            lines = [each[2] for each in self._waiting]
            found, partial = work_out(lines, (*self._words, *lines)), False
            if doubtful:
                found, partial = self._without_partial_line(found, lines)
            if found is not None:
                if partial:
                    others.append(OtherLine(*self._waiting.pop(0), "half"))
                self._first, self._odd = tuple(lines[doubtful:][-DOUBTED_AT[-1] :]), []
                waiting, self._waiting = self._waiting, []
                return found, waiting
        if len(self._waiting) > MOST_WAITING:
            oldest = self._waiting.pop(0)
            self._words.append(oldest[2])
            others.append(OtherLine(*oldest, "words" if is_words(oldest[2]) else "unreadable"))
        return None

    def _without_partial_line(self, found: StreamFormat | None, lines: list[bytes]) -> tuple[StreamFormat | None, bool]:
        """The format where the first line may be half a line, and whether it is one."""
        others = lines[1:]
        # Names in each line show their shape in few lines; columns without names want as many as ever.
        named = found is not None and (found.dialect != "separated" or found.columns[0].name != "column 1")
        again = work_out([*others, *others[-1:]] if named else others, (*self._words, *others))
        if found is not None and again is not None and is_shaped(found, again):
            return found, not is_whole(found, lines)
        return work_out(others, (*self._words, *others)), True

    # lines that a known format does not read

    def unlike(self, line: bytes, format: StreamFormat, *, held: bool) -> Unlike:
        """Names, words, a new column, another dialect, or unreadable. held: a run is recorded."""
        names = names_in(line, format.separator) if format.dialect == "separated" else None
        if names and len(names) == len(format.columns) > 1:
            found = renamed(format, names)
            if [c.name for c in found.columns] != [c.name for c in format.columns]:
                return Unlike("names", [], found)
            return Unlike("names", [])
        if not could_be_reading(line):
            return Unlike("words" if is_words(line) else "unreadable", [])
        if not self.steadfast:
            self._strange.append(line)
            self._in_a_row += 1
            better = self._grown(format)
            if better is not None:
                self.forget_strange()
            elif not held:
                better = self._doubted(format, line)
            if better is not None:
                return Unlike("reading", line_reader(better)(line) or [], better)
        return Unlike("words" if is_words(line) and not _mostly_numbers(line) else "unreadable", [])

    def _doubted(self, format: StreamFormat, line: bytes) -> StreamFormat | None:
        """Another format that reads far more, where the first lines (half of one, a kind that came by chance) misled."""
        if not self._first or format.only:
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
                grown = _with_new_columns(format, found)
                if grown is not None:
                    return grown
        if self._in_a_row and self._in_a_row % LOOK_AGAIN == 0 and not format.only:
            return work_out(tuple(self._strange), tuple(self._words))
        return None


def _with_new_columns(format: StreamFormat, found: StreamFormat) -> StreamFormat | None:
    known = {column.key or column.name for column in format.columns}
    if format.dialect == "separated":
        new = tuple(found.columns[len(format.columns) :])
    else:
        new = tuple(c for c in found.columns if (c.key or c.name) not in known)
    if not new or len(format.columns) + len(new) > MOST_COLUMNS:
        return None
    columns = (*format.columns, *(_free_name(each, format.columns) for each in new))
    return msgspec.structs.replace(format, columns=columns)


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
