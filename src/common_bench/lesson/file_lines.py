"""A file that is brought in as the journal keeps it: rows as lines `12;3.500000;271044;21.4` at their times, numbers alone, so that they
are read in arrays, some at a time; and the format by which they are read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np

from common_bench.book.file_keeping import StampedLines
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import numbers
from common_bench.lesson.brought_words import Preview
from common_bench.model.block import Floats, Ints
from common_bench.model.stream import Column, StreamFormat

AT_ONCE = 1 << 16  # rows that are made lines of at one time
LINE, TIME = "line", "time"  # names of the columns that a kept row has besides the file's own


def format_of(preview: Preview) -> StreamFormat:
    """How the lines are read."""
    columns = [Column(LINE, role="ignored"), Column(TIME, "s", "clock", 1.0)]
    columns += [Column(each.name, each.unit) for each in preview.columns if each.role == "channel"]
    return StreamFormat(";", tuple(columns), by_hand=True)


def lines_of(preview: Preview) -> Iterator[StampedLines]:
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


def _in_pieces(preview: Preview, rows: ColumnRows, channels: list[int]) -> Iterator[StampedLines]:
    numbers, t, comma = preview.logged.numbers, preview.times.t, preview.logged.comma

    def piece(low: int) -> StampedLines:
        part = slice(low, min(len(rows), low + AT_ONCE))
        made = rows.between(part.start, part.stop).lines(_whole(numbers[part]), t[part], channels, comma=comma)
        return StampedLines(t[part], made.sizes, made.data, made.table)

    with ThreadPoolExecutor(1) as ahead:
        waits: Future[StampedLines] | None = None
        for low in range(0, len(rows), AT_ONCE):
            before, waits = waits, ahead.submit(piece, low)
            if before is not None:
                yield before.result()
        if waits is not None:
            yield waits.result()


def _whole(numbers: Sequence[int]) -> Ints:
    return np.arange(numbers.start, numbers.stop) if isinstance(numbers, range) else np.array(numbers, np.int64)


def _cells(values: Floats) -> list[str]:
    return ["" if value != value else f"{value:.12g}" for value in values.tolist()]
