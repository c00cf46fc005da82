"""A file that is brought in as the journal keeps it: rows as lines `12;3.500000;271044;21.4` at their times, numbers alone, so that they
are read in arrays, some at a time; rows of plain numbers as they are, since they stand for such lines; and the format by which they are
read."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from common_bench.book.file_keeping import StampedLines, StampedRows
from common_bench.book.file_pieces import FilePieces
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import numbers
from common_bench.exchange.plain_rows import PlainRows, StackedRows
from common_bench.lesson.brought_words import Preview
from common_bench.model.block import Floats, Ints
from common_bench.model.stream import Column, StreamFormat

AT_ONCE = 1 << 16  # rows that are made lines of at one time
PIECES_AT_ONCE = (
    8  # of a file whose rows stand for lines: arrays longer than 4 MB come in large pages, several times as quickly
)
LINE, TIME = "line", "time"  # names of the columns that a kept row has besides the file's own


def format_of(preview: Preview) -> StreamFormat:
    """How the lines are read."""
    columns = [Column(LINE, role="ignored"), Column(TIME, "s", "clock", 1.0)]
    columns += [Column(each.name, each.unit) for each in preview.columns if each.role == "channel"]
    return StreamFormat(";", tuple(columns), by_hand=True)


class _Standing(NamedTuple):
    """Rows of a file that stand for lines, the pieces in which it is kept, and with which row each begins."""

    part: PlainRows
    pieces: FilePieces
    rows: Sequence[int]


def stand_for_lines(preview: Preview) -> bool:
    """Whether rows of the file are kept in the place of lines, so that the file need not be kept beside them."""
    return _standing(preview) is not None


def _channels(preview: Preview) -> list[int]:
    return [at for at, each in enumerate(preview.columns) if each.role == "channel"]


def _are_numbers(preview: Preview) -> bool:
    """Whether all channels are read in arrays, so that their rows are taken in pieces."""
    rows, comma = preview.logged.rows, preview.logged.comma
    return isinstance(rows, ColumnRows) and all(rows.are_numbers(at, comma=comma) for at in _channels(preview))


def _standing(preview: Preview) -> _Standing | None:
    """None where there are none, or others of their kind, or one row of them all has to be taken cell by cell."""
    logged = preview.logged
    plain = [each for each in logged.rows.parts if isinstance(each, PlainRows)] if isinstance(logged.rows, StackedRows) else []  # fmt: skip
    if len(plain) != 1 or logged.pieces is None or not _are_numbers(preview):
        return None
    rows = plain[0].in_pieces(logged.data, logged.pieces)
    return _Standing(plain[0], logged.pieces, rows) if rows is not None else None


def lines_of(preview: Preview) -> Iterator[StampedLines | StampedRows]:
    """The lines, in order. What is long in it is made by another thread while the caller works."""
    logged, t = preview.logged, preview.times.t
    channels, rows = _channels(preview), logged.rows
    if isinstance(rows, ColumnRows) and _are_numbers(preview):
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
    standing = _standing(preview)
    makes: list[Callable[[], StampedLines | StampedRows]] = []
    before = 0  # rows of the parts so far
    for part in rows.parts if isinstance(rows, StackedRows) else [rows]:
        if standing is not None and part is standing.part:
            _, pieces, begins = standing
            lows = [0, *range(1, len(begins) - 1, PIECES_AT_ONCE)]  # one alone, so that somebody may begin with it
            for low, high in pairwise([*lows, len(begins) - 1]):
                own = t[before + begins[low] : before + begins[high]]
                makes.append(
                    partial(standing.part.standing, pieces, begins, low, high, logged.numbers[before], own, channels)
                )
        else:
            for low in range(0, len(part), AT_ONCE):
                some = slice(before + low, before + min(len(part), low + AT_ONCE))
                few = part.between(low, some.stop - before)
                makes.append(partial(_lines, few, _whole(logged.numbers[some]), t[some], channels, comma=logged.comma))
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
    return StampedLines(t, made.sizes, made.data)


def _whole(numbers: Sequence[int]) -> Ints:
    return np.arange(numbers.start, numbers.stop) if isinstance(numbers, range) else np.array(numbers, np.int64)


def _cells(values: Floats) -> list[str]:
    return ["" if value != value else f"{value:.12g}" for value in values.tolist()]
