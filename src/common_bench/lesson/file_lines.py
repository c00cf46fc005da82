"""A file that is brought in as the journal keeps it: rows as lines `12;3.500000;271044;21.4` at their times, numbers alone, so that they
are read in arrays, some at a time; rows of plain numbers as they are, since they stand for such lines; and the format by which they are
read."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial

import numpy as np

from common_bench.book.file_keeping import StampedLines, StampedRows
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import numbers
from common_bench.exchange.logged import Logged
from common_bench.exchange.plain_rows import PlainRows, StackedRows
from common_bench.lesson.brought_words import Preview
from common_bench.model.block import Floats, Ints
from common_bench.model.stream import Column, StreamFormat

AT_ONCE = 1 << 16  # rows that are made lines of at one time
STANDING_AT_ONCE = (
    1 << 19
)  # and that stand for them; arrays that are longer than 4 MB come in large pages, several times as quickly
LINE, TIME = "line", "time"  # names of the columns that a kept row has besides the file's own


def format_of(preview: Preview) -> StreamFormat:
    """How the lines are read."""
    columns = [Column(LINE, role="ignored"), Column(TIME, "s", "clock", 1.0)]
    columns += [Column(each.name, each.unit) for each in preview.columns if each.role == "channel"]
    return StreamFormat(";", tuple(columns), by_hand=True)


def stand_for_lines(preview: Preview) -> bool:
    """Whether rows of the file are kept in the place of lines, so that the file need not be kept beside them."""
    return _standing(preview.logged) is not None


def _standing(logged: Logged) -> PlainRows | None:
    """The rows among others that may stand for lines; None where there are none, or others of their kind."""
    plain = [each for each in logged.rows.parts if isinstance(each, PlainRows)] if isinstance(logged.rows, StackedRows) else []  # fmt: skip
    if len(plain) != 1 or not plain[0].stand_in(logged.data):
        return None
    return plain[0] if plain[0].are_numbers(0, comma=logged.comma) else None


def lines_of(preview: Preview) -> Iterator[StampedLines | StampedRows]:
    """The lines, in order. What is long in it is made by another thread while the caller works."""
    logged, t = preview.logged, preview.times.t
    channels = [at for at, each in enumerate(preview.columns) if each.role == "channel"]
    rows = logged.rows
    if isinstance(rows, ColumnRows) and all(rows.are_numbers(at, comma=logged.comma) for at in channels):
        yield from _in_pieces(preview, rows, channels)
        return
    cells: list[list[str]] = [_cells(numbers(logged, at)) for at in channels]
    lines = []
    for row, (number, at) in enumerate(zip(logged.numbers, t.tolist(), strict=True)):
        values = ";".join(each[row] for each in cells)
        lines.append(f"{number};{at:.6f};{values}\n".encode())
    yield StampedLines(t, np.array([len(each) for each in lines]), b"".join(lines))


def _in_pieces(preview: Preview, rows: ColumnRows, channels: list[int]) -> Iterator[StampedLines | StampedRows]:
    logged, t = preview.logged, preview.times.t
    standing = _standing(logged)
    makes: list[Callable[[], StampedLines | StampedRows]] = []
    before = 0  # rows of the parts so far
    for part in rows.parts if isinstance(rows, StackedRows) else [rows]:
        at_once = STANDING_AT_ONCE if part is standing else AT_ONCE
        for low in range(0, len(part), at_once):
            high = min(len(part), low + at_once)
            own = t[before + low : before + high]
            if isinstance(part, PlainRows) and part is standing:
                makes.append(partial(part.standing, low, high, logged.numbers[before], own, channels))
                continue
            told = _whole(logged.numbers[before + low : before + high])
            makes.append(partial(_lines, part.between(low, high), told, own, channels, comma=logged.comma))
        before += len(part)
    with ThreadPoolExecutor(1) as ahead:
        waits: Future[StampedLines | StampedRows] | None = None
        for make in makes:
            last, waits = waits, ahead.submit(make)
            if last is not None:
                yield last.result()
        if waits is not None:
            yield waits.result()


def _lines(rows: ColumnRows, told: Ints, t: Floats, channels: list[int], *, comma: bool) -> StampedLines:
    made = rows.lines(told, t, channels, comma=comma)
    return StampedLines(t, made.sizes, made.data, made.table)


def _whole(numbers: Sequence[int]) -> Ints:
    return np.arange(numbers.start, numbers.stop) if isinstance(numbers, range) else np.array(numbers, np.int64)


def _cells(values: Floats) -> list[str]:
    return ["" if value != value else f"{value:.12g}" for value in values.tolist()]
