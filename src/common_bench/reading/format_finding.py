"""Finding a kit's stream format while its lines come, and judging it on: those that wait for it, and those that it does
not read.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from typing import Literal, NamedTuple

import msgspec
import numpy as np

from common_bench.model.block import Floats
from common_bench.model.stream import Column, StreamFormat
from common_bench.reading.dialects import line_reader
from common_bench.reading.judgement import Judgement
from common_bench.reading.kept_lines import KeptLines
from common_bench.reading.layouts import layout_of
from common_bench.reading.lines import Lines
from common_bench.reading.naming import MOST_COLUMNS, are_names, could_be_reading, names_in
from common_bench.reading.naming_columns import renamed
from common_bench.reading.partial_lines import PUNCTUATION, is_whole
from common_bench.reading.rows import Line, ParsedLine, is_unnamed, mostly_numbers, text_of
from common_bench.reading.sentences import values_in_pattern
from common_bench.reading.working_out import ASKED_AFTER, CLEAR_LEAD, SURE_LEAD, work_out

LineKind = Literal["reading", "names", "words", "unreadable", "half"]
MOST_WAITING = 60  # lines that wait for a format, before the oldest is told to be none
FIND_AT = (2, 3, 4, 5, 6, 8, 10, 14, 20, 30, 45, 60, 90, 130, 200)  # lines at which it is looked for a format
TRY_AT = (4, 6, 10, 24, 50, 110, 160, 240)  # lines at which one that is not clear is judged again
TRY_LEADING = TRY_AT[2:]  # the same, of one that leads by far
TRY_LATER = 1.4  # times as many lines as at the last time
LOOK_AT = (0.7, 2.05, 5.0, ASKED_AFTER + 0.1, 60.0)  # s after the beginning, at which it is judged
EARLY_LOOKS = 2  # of those, that tell nothing new where it is sure and clear already
WEIGHED_AT = (4,)  # of those, the look at which all layouts are weighed again
STRANGE_AT = (1, 2, 3, 5, 8, 12, 20, 40, 80, 160, 320, 640, 1280, 2560)  # lines that the format does not read
DOUBT_AT = 12  # strange lines in a run, from which another format is looked for that is offered when it has ended
MOST_WORDS = 60  # lines among which names and legends are looked for
LETTERS = bytes((*range(65, 91), *range(97, 123)))
TWO_LETTERS = re.compile(rb"[A-Za-z]{2}|^[^0-9]*[A-Za-z]")
SPOKEN = {"words", "text", "on/off"}  # kinds of columns that hold words, between which more words decide
SHOWN = 200  # characters of a line that are shown


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
    """What a line is that the format does not read: its kind, its rows where another format reads it, and that format.
    anew: that one reads other numbers from the lines before too, so that they are to be read anew."""

    kind: LineKind
    rows: list[ParsedLine]
    format: StreamFormat | None = None
    anew: bool = False


class Found(NamedTuple):
    """A format that has just been found, and the lines that waited for it; None where all lines are to be read anew."""

    format: StreamFormat
    waiting: list[Line] | None


class FormatFinder:
    """What is remembered for finding a format and judging it: the last lines, those that wait, and how it stands.

    Guarantees that what it answers depends on the lines and their stamps alone, in their order. `steadfast`: the format
    stands still whatever comes, as while kits that share a port record. `judgement`: the newest one; `doubt`: another
    format that would read better, found while a run is recorded.
    """

    def __init__(self, *, paced: bool = True, known: StreamFormat | None = None) -> None:
        """paced: arrivals mean something; known: the format that is there already."""
        self.steadfast = False
        self.doubtful = -1  # offset of a line that may be partial, while no format is known by which it can be judged
        self.judgement: Judgement | None = None
        # As of the last judgement that was due: another one comes with an odd line, in the middle of what is fed.
        self._clear = self._clear_and_sure = False
        self.doubt: StreamFormat | None = None
        self._paced = paced
        self._settled = known is not None
        self._kept = KeptLines()
        self._waiting: list[Line] = []
        self._seen = 0
        self._next = FIND_AT[0]
        self._began = float("nan")
        self._looks = 0
        self._strange = 0

    def begin_anew(self, known: StreamFormat | None = None) -> None:
        """Another format is set, or none: what waited for one waits no longer."""
        self._waiting, self._seen, self._next, self._strange, self._looks = [], 0, FIND_AT[0], 0, 0
        self._began = float("nan")
        self._settled, self.judgement, self.doubt = known is not None, None, None
        self._clear = self._clear_and_sure = False
        self._kept.clear()

    def begin_run(self) -> None:
        """From here on the run's own lines alone decide."""
        self._kept.clear()
        self._strange, self.doubt = 0, None

    # when it is judged

    def keep(self, piece: Lines) -> None:
        """Remembers lines that have come."""
        self._kept.add(piece)

    def due_in(self, stamps: Floats, *, known: bool) -> int | None:
        """After how many of some lines the format is to be judged; None where not within them. Counts them as heard. stamps: (n,) s when
        each came; known: there is a format."""
        if self._began != self._began:
            self._began = float(stamps[0])
        due = None
        if self._clear_and_sure:
            self._looks = max(self._looks, EARLY_LOOKS)
        waits = self._settled or (self._clear and self._looks < EARLY_LOOKS)
        if not waits and self._seen + len(stamps) >= self._next:
            due = max(1, self._next - self._seen)
        if self._looks < len(LOOK_AT) and stamps[-1] >= self._began + LOOK_AT[self._looks]:
            late = int(np.searchsorted(stamps, self._began + LOOK_AT[self._looks])) + 1
            if late <= len(stamps) and (due is None or late < due):
                due = late
        self._seen += len(stamps) if due is None else due
        if due is not None:
            while self._looks < len(LOOK_AT) and float(stamps[due - 1]) >= self._began + LOOK_AT[self._looks]:
                self._looks += 1
            if self._seen >= self._next:
                self._next = self._after(TRY_AT if known else FIND_AT)
        return due

    def _after(self, times: Sequence[int]) -> int:
        return next((each for each in times if each > self._seen), int(self._seen * TRY_LATER) + 1)

    def judge(self, format: StreamFormat, offset: int, *, held: bool) -> tuple[StreamFormat, bool] | None:
        """Judges by all lines up to the one at an offset. Gives another format and whether it reads other numbers; None
        where it stays as it is."""
        if self.steadfast or format.by_hand or format.only or held:
            return None  # nothing could come of it
        before = self.judgement
        stands = before is not None and before.clear and layout_of(before.format) == layout_of(format)
        weighed = not stands or self._looks in WEIGHED_AT
        found = self._worked_out(offset, format, 0.0 if weighed or before is None else before.lead)
        if found is None:
            return None
        self._clear, self._clear_and_sure = found.clear, found.clear and found.sure
        self._settled = found.sure or (self._settled and format.is_sure)
        return self._better(found, format)

    def _worked_out(self, offset: int, known: StreamFormat | None, lead: float = 0.0) -> Judgement | None:
        lines = [each for each in self._kept.up_to(offset) if each[1] != self.doubtful]
        words = [each for _, _, each in lines if len(each.translate(None, LETTERS)) < len(each)]
        words = [each for each in words if TWO_LETTERS.search(each)]
        words = words if len(words) <= MOST_WORDS else [*words[: MOST_WORDS // 2], *words[-MOST_WORDS // 2 :]]
        found = work_out(lines, words, known=known, paced=self._paced, lead=lead)
        if found is not None:
            self.judgement = found
        return found

    def _better(self, found: Judgement, format: StreamFormat) -> tuple[StreamFormat, bool] | None:
        """What is made of a judgement: another format, the same with a column more or another clock, or nothing."""
        if format.only:
            return None
        if layout_of(found.format) != layout_of(format) and not (found.behind == 0.0 and format.is_sure):
            if not format.is_sure:
                return found.format, True
            return (found.format, True) if found.sure and found.behind >= SURE_LEAD else None
        if layout_of(found.format).dialect != format.dialect:
            return None
        if len(found.format.columns) != len(format.columns):
            if not format.is_sure and {*identities(found.format)} < {*identities(format)}:
                return found.format, True  # what the others were is known better now
            grown = _with_new_columns(format, found.format)
            return (grown, False) if grown is not None else None
        made = _merged(found.format, format)
        if made is None:  # a column holds another kind of thing
            return (found.format, True) if found.sure or not format.is_sure else None
        if [(c.role, c.tick, c.kind) for c in made.columns] != [(c.role, c.tick, c.kind) for c in format.columns]:
            return (made, True) if found.sure or not format.is_sure else None
        same = msgspec.structs.replace(made, worked_out_from=format.worked_out_from) == format
        return None if same else (made, False)

    # before a format is known

    def before_format(self, line: Line, others: list[OtherLine], *, due: bool) -> Found | None:
        """Keeps a line until the format is known; once it is, gives it and the lines that waited. What is no
        reading as far as can be seen is added to `others`. due: it is judged now."""
        _, offset, text = line
        if could_be_reading(text):
            self._waiting.append(line)
        else:
            kind: LineKind = "words" if is_words(text) else "unreadable"
            others.append(OtherLine(*line, kind))
            if kind == "words" and offset == self.doubtful and text[:1] not in PUNCTUATION:
                self.doubtful = -1  # a whole line of words
        worth_it = self._seen > 2 or text[:1] in (b"{", b"[")  # two lines tell something where they are objects alone
        judged = self._worked_out(offset, None) if due and worth_it else None
        if judged is not None:
            self._clear, self._clear_and_sure = judged.clear, judged.clear and judged.sure
            self._settled, self._next = judged.sure, self._after(TRY_LEADING if judged.lead >= CLEAR_LEAD else TRY_AT)
            waiting, self._waiting = self._waiting, []
            if judged.format.dialect == "sentence" or any(column.kind == "words" for column in judged.format.columns):
                return Found(judged.format, None)  # some of what was taken for words are readings
            if waiting and waiting[0][1] == self.doubtful and not self._is_whole(judged.format, waiting):
                others.append(OtherLine(*waiting.pop(0), "half"))
            return Found(judged.format, waiting)
        if len(self._waiting) > MOST_WAITING:
            oldest = self._waiting.pop(0)
            others.append(OtherLine(*oldest, "words" if is_words(oldest[2]) else "unreadable"))
        return None

    @staticmethod
    def _is_whole(format: StreamFormat, lines: Sequence[Line]) -> bool:
        return is_whole(format, [line for _, _, line in lines])

    def again(self, offset: int, format: StreamFormat) -> tuple[list[Line], list[OtherLine]]:
        """The lines up to an offset, to be read anew under another format; one that is half a line apart."""
        lines = self._kept.up_to(offset)
        if lines and lines[0][1] == self.doubtful and not self._is_whole(format, lines[:8]):
            return lines[1:], [OtherLine(*lines[0], "half")]
        return lines, []

    # lines that a known format does not read

    def unlike(self, line: Line, format: StreamFormat, *, held: bool) -> Unlike:
        """Names, words, a new column, another dialect, or unreadable. held: a run is recorded."""
        _, offset, data = line
        names = names_in(data, format.separator) if format.dialect == "separated" else None
        if names and len(names) == len(format.columns) > 1 and _names_these(names, format):
            found = renamed(format, names)
            if [c.name for c in found.columns] != [c.name for c in format.columns] and not format.by_hand:
                return Unlike("names", [], found)
            return Unlike("names", [])
        spoken = format.dialect == "sentence" and any(48 <= each <= 57 for each in data)
        if not could_be_reading(data) and not is_one_word(data) and not spoken:
            return Unlike("words" if is_words(data) else "unreadable", [])
        if not self.steadfast and not format.by_hand:
            self._strange += 1
            if self._strange in STRANGE_AT:
                better = self._after_strange(offset, format, held=held)
                if better is not None:
                    made, anew = better
                    return Unlike("reading", [] if anew else line_reader(made)(data) or [], made, anew)
        return Unlike("words" if is_words(data) and not mostly_numbers(data.decode("latin-1")) else "unreadable", [])

    def _after_strange(self, offset: int, format: StreamFormat, *, held: bool) -> tuple[StreamFormat, bool] | None:
        found = self._worked_out(offset, format)
        if found is None:
            return None
        grown = _extended(format, found.format)
        if grown is not None and not format.only:
            return grown, False
        if held:
            if self._strange >= DOUBT_AT and found.sure and self._better(found, format) is not None:
                self.doubt = found.format
            return None
        return self._better(found, format)


def _names_these(names: list[tuple[str, str]], format: StreamFormat) -> bool:
    """Whether words are the names of these columns: between spaces, any words could be."""
    if not are_names(names):
        return False
    known = {column.name.lower() for column in format.columns}
    return format.separator != " " or any(unit or name.lower() in known for name, unit in names)


def _merged(found: StreamFormat, known: StreamFormat) -> StreamFormat | None:
    """What is known, with what is newly found of clocks, ids and how sure it is; names that were told stay. None where
    columns hold another kind of thing."""
    theirs = dict(zip(identities(found), found.columns, strict=True))
    columns: list[Column] = []
    for identity, column in zip(identities(known), known.columns, strict=True):
        other = theirs.get(identity)
        if other is None or (other.kind != column.kind and not {other.kind, column.kind} <= SPOKEN):
            return None
        named = is_unnamed(column.name) and not is_unnamed(other.name)
        name, unit = (other.name, other.unit) if named else (column.name, column.unit)
        if other.role == "clock" or column.role == "clock":
            unit = other.unit
        words = (*column.words, *(word for word in other.words if word not in column.words))
        columns.append(
            msgspec.structs.replace(
                column, name=name, unit=unit, role=other.role, tick=other.tick, words=words, kind=other.kind
            )
        )
    return msgspec.structs.replace(
        known, columns=tuple(columns), sure=max(found.sure, known.sure if known.is_sure else 0.0), question=found.question, other=found.other,
        worked_out_from=found.worked_out_from, proposals=found.proposals, latin=known.latin or found.latin,
    )  # fmt: skip


def _extended(format: StreamFormat, found: StreamFormat) -> StreamFormat | None:
    """The format with columns, kinds of row or words that have come later, where all else is as it was."""
    shape = ("dialect", "separator", "decimal_comma", "start", "end", "kit_mark")
    if any(getattr(format, each) != getattr(found, each) for each in shape):
        return None
    if len(found.columns) == len(format.columns):
        made = _merged(found, format)
        same = made is not None and [(c.role, c.tick, c.kind) for c in made.columns] == [(c.role, c.tick, c.kind) for c in format.columns]  # fmt: skip
        more = made is not None and [c.words for c in made.columns] != [c.words for c in format.columns]
        return made if same and more else None
    return _with_new_columns(format, found)


def _with_new_columns(format: StreamFormat, found: StreamFormat) -> StreamFormat | None:
    if format.dialect == "sentence":
        return _with_new_patterns(format, found)
    if format.dialect == "separated":
        count = len(format.columns)
        if len(found.columns) <= count or [c.kind for c in found.columns[:count]] != [c.kind for c in format.columns]:
            return None
        new, lengths = found.columns[count:], tuple(sorted({*format.lengths, *found.lengths, count}))
    else:
        known = set(identities(format))
        new = tuple(c for each, c in zip(identities(found), found.columns, strict=True) if each not in known)
        if format.dialect == "tagged" and {c.key for c in new} & {c.key for c in format.columns}:
            return None
        lengths = format.lengths
    if not new or len(format.columns) + len(new) > MOST_COLUMNS:
        return None
    columns = format.columns
    for column in new:
        columns = (*columns, _free_name(column, columns))
    return msgspec.structs.replace(format, columns=columns, lengths=lengths)


def _with_new_patterns(format: StreamFormat, found: StreamFormat) -> StreamFormat | None:
    if not set(format.patterns) < set(found.patterns):
        return None
    known, columns = set(format.patterns), format.columns
    for (pattern, _), column in zip(identities(found), found.columns, strict=True):
        if pattern not in known:
            columns = (*columns, _free_name(column, columns))
    patterns = (*format.patterns, *(each for each in found.patterns if each not in known))
    return msgspec.structs.replace(format, columns=columns, patterns=patterns) if len(columns) <= MOST_COLUMNS else None


def identities(format: StreamFormat) -> list[tuple[str, int]]:
    """What tells each column from the others of the format, in whichever order they stand: its name in the lines, its
    place, or its place in the kind of line that holds it."""
    if format.dialect == "separated":
        return [("", at) for at in range(len(format.columns))]
    if format.dialect == "sentence":
        return [(pattern, at) for pattern in format.patterns for at in range(values_in_pattern(pattern))]
    seen: dict[str, int] = {}
    found = []
    for column in format.columns:
        seen[column.key] = seen.get(column.key, -1) + 1
        found.append((column.key, seen[column.key]))
    return found


def _free_name(column: Column, others: Sequence[Column]) -> Column:
    taken = {each.name for each in others}
    name = next(n for k in itertools.count(1) if (n := column.name if k == 1 else f"{column.name} {k}") not in taken)
    return msgspec.structs.replace(column, name=name)


def is_one_word(line: bytes) -> bool:
    """Whether a line is one short word, as a kit sends that tells a state."""
    text = line.strip()
    return len(text) <= 12 and text.isalpha()


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
