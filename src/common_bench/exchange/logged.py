"""A file that a kit logged on its own: bytes in; rows of cells, named columns and what was left out, out. Text of any separator,
decimal point or comma, quoted fields (RFC 4180), UTF-8, UTF-16 or Latin-1, headers on top or in the middle, units in a line below."""

from __future__ import annotations

import codecs
import csv
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from common_bench.book.file_pieces import FilePieces
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.sheets import table_text
from common_bench.model.long_task import LongTask
from common_bench.model.trouble import FileTrouble
from common_bench.model.units import is_unit

MARKS = (";", "\t", ",", "|")
LOOKED_AT = 400  # lines by which the separator is found
NUMBER = re.compile(
    r"[+\-−]?(?:\d{1,3}(?:(?:\s\d{3})+|(?:\.\d{3})+(?=,)|(?:,\d{3})+(?=\.))(?:[.,]\d+)?|\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+\-]?\d+)?"
)
COMMA_NUMBER = re.compile(r"[+\-−]?\d+,\d+(?:[eE][+\-]?\d+)?")
TIMELIKE = re.compile(
    r"\d{1,4}[-/.:]\d{1,2}[-/.:]\d{1,4}[^;|\t]*|(?:[^\W\d_]{2,10}\.?,?\s+)?\d{1,2}\.?[-/ .]+[^\W\d_]{3,10}\.?[-/ .,]+\d{2,4}[^;|\t]*|\d{1,2}:\d{2}(?::\d{2})?(?:[.,]\d+)?(?:\s*[ap]\.?m\.?)?|\d{4}-?\d{2}-?\d{2}T.*",
    re.I,
)
HEAD = re.compile(r"^\s*(.*?)\s*(?:[(\[]\s*([^()\[\]]*?)\s*[)\]])?\s*$")
SLASHED = re.compile(r"\s*([^/]*[^/\s])\s*/\s*([^\d\s]\S*)\s*")  # t/s
NOTHING = frozenset(("", "-", "–", "--", "nan", "na", "n/a", "null", "none", "?", "nil", "inf", "ovf", "err"))
"""What stands in a cell that holds no value."""
MOSTLY_VALUES = 0.7  # of the rows have a number or a time first, from which one without is a remark
ONE_DIGIT = str.maketrans("123456789", "000000000")
MOST_SHAPES = 20_000  # of lines, that are remembered
LONG = 1 << 21  # bytes from which on a file is long
SOMETHING = re.compile(rb"[^\x00\r\n\t ]")
BEGINNING = 1 << 14  # characters of a file that are shown
CUT_OFF = "a last line that is cut off"
TAPE = b"# common bench tape"
RAW = "raw "  # before a channel's name in a run that went out; what stands beside is worked out again
REMARKS = ("#", "//", "%", "'", "!")


@dataclass(frozen=True)
class PassedOver:
    """What of a file comes in as nothing, in words, and how many lines of it."""

    what: str
    lines: int


@dataclass
class Logged:
    """names, units: of the columns in order, no two names alike; rows: cells as text, each with as many as there are columns;
    numbers: of the lines in which they stand, from 1; breaks: rows with which a stretch begins anew; settings: remark lines on
    top; comma: decimal commas; data: all bytes."""

    path: Path
    data: bytes
    names: list[str]
    units: list[str]
    rows: Sequence[list[str]]
    numbers: Sequence[int]
    breaks: list[int] = field(default_factory=list)
    left_out: list[PassedOver] = field(default_factory=list)
    settings: list[str] = field(default_factory=list)
    comma: bool = False
    mark: str = ""  # between cells
    beginning: str = ""  # of it as text, in which lines are counted
    places: tuple[int, ...] = ()  # of the columns among the cells of a line; all of them where there are none
    pieces: FilePieces | None = None  # of a long one, in which it may be kept

    def column(self, at: int) -> list[str]:
        if isinstance(self.rows, ColumnRows):
            return self.rows.column(at)
        return [row[at] for row in self.rows]

    def counts(self, at: int, most: int) -> dict[str, int] | None:
        """How often each text stands in a column, in the order of their first; None where there are more than `most`."""
        if isinstance(self.rows, ColumnRows):
            return self.rows.counts(at, most)
        found: dict[str, int] = {}
        for row in self.rows:
            found[row[at]] = found.get(row[at], 0) + 1
            if len(found) > most:
                return None
        return found

    def are_known(self, at: int) -> bool:
        """Whether a column's cells are numbers, none of which is missing, as far as that is known at once."""
        return isinstance(self.rows, ColumnRows) and self.rows.are_known(at, comma=self.comma)

    def only(self, columns: Sequence[int]) -> Sequence[list[str]]:
        """The rows with some of the columns."""
        if isinstance(self.rows, ColumnRows):
            return self.rows.only(columns)
        return [[row[at] for at in columns] for row in self.rows]

    def taken(self, rows: Sequence[int]) -> Sequence[list[str]]:
        """Some of the rows."""
        if isinstance(self.rows, ColumnRows):
            return self.rows.taken(rows)
        return [self.rows[row] for row in rows]


def logged_from(path: Path, progress: LongTask | None = None) -> Logged:
    """Raises FileTrouble where nothing can be made out: no such file, no bytes, no rows of numbers; what `progress` raises."""
    try:
        data = path.read_bytes()
    except OSError as fault:
        raise FileTrouble("table-unreadable", where=str(path)) from fault
    if SOMETHING.search(data) is None:
        raise FileTrouble("logged-empty", where=str(path))
    if len(data) >= LONG:
        from common_bench.exchange.long_files import long_file  # its library takes its time to load

        found = long_file(path, data, progress)
        if found is not None:
            return found
    text = table_text(data, str(path)) or _decoded(data)
    if data.startswith(TAPE):
        text = _with_times(text)
    return by_lines(path, data, text)[0]


def by_lines(path: Path, data: bytes, text: str) -> tuple[Logged, str, int]:
    """What is made of a text line by line, with its separator and how many cells its rows have."""
    count: Counter[str] = Counter()
    lines = _lines(text, count)
    mark = _mark_of([line for _, line in lines])
    if not mark:
        raise FileTrouble("logged-without-rows", where=str(path))
    cells = [(number, cut_line(line, mark)) for number, line in lines]
    wide = _width(cells)
    kinds = _kinds(lines, cells, wide)
    told = [row[0] for (_, row), data in zip(cells, kinds, strict=True) if data]
    sample = told[:: max(1, len(told) // LOOKED_AT)]
    if sum(map(is_value, sample)) > MOSTLY_VALUES * len(sample):  # below them, a word at the beginning begins no row
        firsts = {row[0].translate(ONE_DIGIT) for _, row in cells}
        values = {each for each in firsts if not each or is_value(each)}
        kinds = [data and row[0].translate(ONE_DIGIT) in values for (_, row), data in zip(cells, kinds, strict=True)]
    if not any(kinds):
        raise FileTrouble("logged-without-rows", where=str(path))
    first = kinds.index(True)
    head, under = _heads(cells[:first], wide)
    if head and all(SLASHED.fullmatch(cell) for cell in head if cell):
        head = [SLASHED.sub(r"\1 (\2)", cell) for cell in head]
    names, units = _named(head, under, wide)
    if names[0] == "time" and any(name.startswith(RAW) for name in names):
        names = [name.removeprefix(RAW) for name in names]  # a run that went out of a bench book
    remarks = [line for _, line in lines if line.lstrip().startswith(REMARKS)]
    on_top = [line for (_, line), (_, row) in zip(lines[:first], cells, strict=False) if row not in (head, under)]
    rows: list[list[str]] = []
    places: list[int] = []
    made = Logged(
        path, data, names, units, rows, places, settings=list(dict.fromkeys([*on_top, *remarks]))[:40], mark=mark,
        beginning=text[:BEGINNING].replace("\x00", ""),
    )  # fmt: skip
    ended = text.endswith(("\n", "\r"))
    again = False
    for at, (number, row) in enumerate(cells):
        if kinds[at]:
            if at == len(cells) - 1 and _is_cut_off(cells, kinds, wide, ended=ended):
                count[CUT_OFF] += 1
                continue
            if again and made.rows:
                made.breaks.append(len(made.rows))
            again = False
            rows.append(row if len(row) == wide else (row + [""] * wide)[:wide])
            places.append(number)
        elif at < first:
            count["words on top"] += 1
        elif head and row[: len(head)] == head:
            count["names that come again"] += 1
            again = True
        else:
            count["words between the rows"] += 1
            again = again or bool(made.rows)
    _drop_empty(made)
    made.comma = mark != "," and _comma(made)
    made.left_out = [PassedOver(what, lines) for what, lines in count.items() if lines]
    return made, mark, wide


def _is_cut_off(cells: Sequence[tuple[int, list[str]]], kinds: Sequence[bool], wide: int, *, ended: bool) -> bool:
    """Whether the last row is one of which the end was not written: cells are missing where no line end is, or places for them where
    every other row has them. ended: by a line end."""
    row, least = cells[-1][1], wide - _trailing(cells, kinds, wide)
    if not ended and sum(1 for each in row if each) < least:
        return True
    return len(row) < least and all(
        len(each) >= least for (_, each), data in zip(cells[:-1], kinds, strict=False) if data
    )


def _kinds(lines: Sequence[tuple[int, str]], cells: Sequence[tuple[int, list[str]]], wide: int) -> list[bool]:
    """Of each line whether it is a row of readings. Which digits stand in a line does not matter for that, so that lines of one
    shape are looked at once."""
    known: dict[str, bool] = {}
    found = []
    for (_, line), (_, row) in zip(lines, cells, strict=True):
        shape = line.translate(ONE_DIGIT)
        if shape not in known:
            if len(known) >= MOST_SHAPES:
                known.clear()
            known[shape] = _is_data(row, wide)
        found.append(known[shape])
    return found


def _with_times(text: str) -> str:
    """Lines of a tape, each with the time at which it came as its first cell."""
    stamped = [line.split("\t", 1) for line in text.splitlines()[1:] if "\t" in line]
    mark = _mark_of([line for _, line in stamped]) or ","
    cells = [cut_line(line, mark) for _, line in stamped]
    named = [not any(map(is_value, row)) for row in cells]
    head = (
        ""
        if any(named)
        else mark.join(["time (s)", *(f"column {k}" for k in range(1, _width(list(enumerate(cells))) + 1))]) + "\n"
    )
    told = ("time (s)" if words else at for words, (at, _) in zip(named, stamped, strict=True))
    return head + "".join(f"{first}{mark}{line}\n" for first, (_, line) in zip(told, stamped, strict=True))


def _decoded(data: bytes) -> str:
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if data.startswith(mark):
            return data.decode(name, "replace")
    odd, even = data[1::2][:400], data[::2][:400]
    if len(data) > 8 and odd.count(0) > 0.6 * len(odd) and even.count(0) < 0.1 * len(even):
        return data.decode("utf-16-le", "replace")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _lines(text: str, count: Counter[str]) -> list[tuple[int, str]]:
    """Numbered lines with something in them; a field in quotes may hold the end of a line."""
    found: list[tuple[int, str]] = []
    open_from, held = 0, ""
    for number, line in enumerate(re.split(r"\r\n|\n|\r", text), 1):
        if "\x00" in line:
            line = line.replace("\x00", "")
            count["lines of nothing, where power failed"] += not line.strip()
        whole = f"{held}\n{line}" if held else line
        if whole.count('"') % 2 and not whole.lstrip().startswith(REMARKS) and len(whole) < 4000:
            held, open_from = whole, open_from or number
            continue
        if whole.strip():
            found.append((open_from or number, whole))
        open_from, held = 0, ""
    if held.strip():
        found.append((open_from, held))
    return found


def cut_line(line: str, mark: str) -> list[str]:
    if line.lstrip().startswith(REMARKS) and not NUMBER.match(line.lstrip()):
        return [line.strip()]
    if mark == " ":
        return line.split()
    if '"' in line:
        try:
            return [cell.strip() for cell in next(csv.reader([line], delimiter=mark, skipinitialspace=True))]
        except (csv.Error, StopIteration):
            pass
    return list(map(str.strip, line.split(mark)))


def _mark_of(lines: Sequence[str]) -> str:
    """The separator under which most lines have one number of cells, and most cells are numbers or times."""
    step = max(1, len(lines) // LOOKED_AT)
    looked = [line for line in lines[::step] if not line.lstrip().startswith(REMARKS)]
    best = (0.0, "")
    tabs = sum("\t" in line for line in looked) > 0.5 * len(looked)
    for mark in MARKS if tabs else (*MARKS, " "):
        rows = [cut_line(line, mark) for line in looked]
        good = [row for row in rows if any(is_value(cell) for cell in row)]
        if not good:
            continue
        wide = Counter(len(row) for row in good).most_common(1)[0][0]
        same = [row for row in good if len(row) == wide]
        # a separator at the end of each line takes nothing away
        values = sum(
            sum(map(is_value, row)) + 0.5 * sum(not cell for cell in row) + 0.5 * (not row[-1]) for row in same
        )
        share = values / max(1, wide * len(good)) * (1.0 if wide > 1 else 0.4) - (0.05 if mark == " " else 0.0)
        if share > best[0] + 1e-9 and share > 0.3:
            best = share, mark
    return best[1]


def is_value(cell: str) -> bool:
    return bool(NUMBER.fullmatch(cell) or TIMELIKE.fullmatch(cell))


def _width(cells: Sequence[tuple[int, list[str]]]) -> int:
    looked = cells[:: max(1, len(cells) // MOST_SHAPES)]
    counted = Counter(len(row) for _, row in looked if any(map(is_value, row)))
    return counted.most_common(1)[0][0] if counted else 0


def _is_data(row: Sequence[str], wide: int) -> bool:
    values = sum(map(is_value, row))
    words = sum(1 for cell in row if cell and not is_value(cell) and cell.lower() not in NOTHING)
    return values > 0 and values >= words and len(row) <= wide + 1 and (len(row) >= min(wide, 2))


def _trailing(cells: Sequence[tuple[int, list[str]]], kinds: Sequence[bool], wide: int) -> int:
    """Cells that rows usually leave empty."""
    empty = Counter(
        sum(1 for cell in row if not cell)
        for (_, row), data in zip(cells, kinds, strict=True)
        if data and len(row) == wide
    )
    return empty.most_common(1)[0][0] if empty else 0


def _heads(before: Sequence[tuple[int, list[str]]], wide: int) -> tuple[list[str], list[str]]:
    """The line of names and the line of units under it; empty where there is none."""
    rows = [row for _, row in before if len(row) >= max(1, wide - 1) and not row[0].startswith(REMARKS[:2])]
    if not rows and wide > 1:
        rows = [[cell.lstrip("#/% ") for cell in re.split(r"[;,\t|]", row[0])] for _, row in before if row and row[0].startswith("#")]  # fmt: skip
        rows = [row for row in rows if len(row) == wide]
    if not rows:
        return [], []
    if len(rows) > 1 and _are_units(rows[-1]):
        return rows[-2], rows[-1]
    return rows[-1], []


def _are_units(row: Sequence[str]) -> bool:
    told = [cell.strip("()[] ") for cell in row if cell.strip("()[] ")]
    return bool(told) and all(is_unit(cell) or cell.lower() in ("-", "raw", "counts", "date", "time") for cell in told)


def _named(head: list[str], under: list[str], wide: int) -> tuple[list[str], list[str]]:
    names: list[str] = []
    units: list[str] = []
    for at in range(wide):
        found = HEAD.match(head[at]) if at < len(head) else None
        name = (found[1] if found is not None else "") or f"column {at + 1}"
        unit = (found[2] or "") if found is not None else ""
        if not unit and at < len(under):
            unit = under[at].strip("()[] ")
        again = sum(1 for each in names if each == name or each.rpartition(" ")[0] == name)
        names.append(f"{name} {again + 1}" if again else name)
        units.append(unit if unit and is_unit(unit) else "")
    return names, units


def _drop_empty(made: Logged) -> None:
    """A last column that is empty in every row, as after a separator at the end of each line."""
    while made.names and made.rows and not any(row[-1] for row in made.rows):
        if not made.names[-1].startswith("column "):
            return
        made.names.pop()
        made.units.pop()
        for row in made.rows:
            row.pop()


def _comma(made: Logged) -> bool:
    looked = [cell for row in made.rows[:: max(1, len(made.rows) // LOOKED_AT)] for cell in row]
    return any(COMMA_NUMBER.fullmatch(cell) for cell in looked) and not any(
        re.fullmatch(r"[+\-−]?\d+\.\d+", cell) for cell in looked
    )
