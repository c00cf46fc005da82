"""Long files, of millions of rows: what is made of their beginning holds for the rest, whose rows are read in arrays, to the same
numbers as line by line."""

from __future__ import annotations

import codecs
from array import array
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from common_bench.book.file_pieces import FilePieces
from common_bench.exchange.logged import NOTHING, TAPE, Logged, by_lines
from common_bench.exchange.plain_rows import NUMBER, ListedRows, StackedRows, plain_rows
from common_bench.exchange.row_loops import how_many_of
from common_bench.model.long_task import LongTask
from common_bench.model.trouble import FileTrouble

TOLD_BY = b'"\x00\r\n'  # bytes by which it shows whether a file may be long and plain
BEGINNING = 1 << 14  # bytes of a long file that are looked at line by line all the same


def long_file(path: Path, data: bytes, progress: LongTask | None = None) -> Logged | None:
    """A long file of plain rows: what is made of its beginning holds for the rest, whose rows are cut in arrays. None where the
    rest has anything but rows like those before it; it is then looked at line by line."""
    cut = data.find(b"\n", BEGINNING) + 1
    begin = len(codecs.BOM_UTF8) if data.startswith(codecs.BOM_UTF8) else 0
    if not cut or data.startswith((TAPE, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE, b"PK")):
        return None
    pieces = FilePieces(data)  # first of all: another thread works at them
    try:
        return _long(path, data, begin, cut, pieces, progress)
    finally:
        pieces.give_up()


def _long(
    path: Path, data: bytes, begin: int, cut: int, pieces: FilePieces, progress: LongTask | None
) -> Logged | None:
    """The same where it is long. begin: byte with which its text does; cut: the one after its beginning; pieces: are kept where it is plain."""
    end = data.rfind(b"\n") + 1
    tail = data[end:]
    if not _may_be_plain(data[:cut]) or any(each in tail for each in b'"\x00\r'):
        return None
    if end <= cut:
        return None
    try:
        head = data[begin:cut].decode()
        made, mark, wide = by_lines(
            path, data, head + tail.decode()
        )  # the last line, maybe cut off, stands there for now
    except (UnicodeDecodeError, FileTrouble):
        return None
    lines = head.count("\n")
    first = [row for row, number in zip(made.rows, made.numbers, strict=True) if number <= lines]
    last = made.rows[len(first) :]
    if mark == " " or not first or made.numbers[len(first) - 1] != lines or len(last) > 1:
        return None
    kept = len(made.names)
    one = made.numbers[0]
    unbroken = in_a_row = made.numbers[len(first) - 1] - one == len(first) - 1

    def numbers(rest: int) -> Sequence[int]:
        """Of the first rows and so many after them."""
        if in_a_row:
            return range(one, lines + 1 + rest)
        found = array("q", made.numbers[: len(first)])
        found.frombytes(np.arange(lines + 1, lines + 1 + rest).tobytes())
        return found

    from_first = _line_at(data, one) if unbroken else cut
    plain = plain_rows(data, from_first, end, mark, wide, comma=made.comma, progress=progress)
    if plain is None and unbroken:
        unbroken = False
        plain = plain_rows(data, cut, end, mark, wide, comma=made.comma, progress=progress)
    if plain is not None and plain.is_empty_from(kept):
        after = len(plain) - (len(first) if unbroken else 0)
        stacked = [ListedRows([] if unbroken else first), plain.only(range(kept)), ListedRows(last)]
        pieces.are_wanted = True
        return replace(made, rows=StackedRows(stacked), numbers=numbers(after + len(last)), pieces=pieces)
    pieces.give_up()
    if not _may_be_plain(data):
        return None
    if data.find(b"\n\n", cut - 1, end) >= 0 or data.find(b"\n\r\n", cut - 1, end) >= 0:
        return None
    from common_bench.exchange.long_tables import read_rows, with_head  # its library takes its time to load

    numeric = [at < kept and _holds_numbers(made, at) for at in range(wide)]
    rows = read_rows(memoryview(data)[cut:end], mark, wide, comma=made.comma, numeric=numeric) if any(numeric) else None
    if rows is None or any(rows.counts(at, 1) != {"": len(rows)} for at in range(kept, wide)):
        return None
    whole = with_head(first, rows.only(range(kept)), last)
    return replace(made, rows=whole, numbers=numbers(len(rows) + len(last)))


def _line_at(data: bytes, number: int) -> int:
    """The byte at which a line begins, counted from 1."""
    at = 0
    for _ in range(number - 1):
        at = data.index(b"\n", at) + 1
    return at


def _may_be_plain(data: bytes) -> bool:
    """Whether there are neither quotes nor zeros, and line ends of one kind."""
    count = np.zeros(len(TOLD_BY), np.int64)
    how_many_of(np.frombuffer(data, np.uint8), np.frombuffer(TOLD_BY, np.uint8), count)
    quotes, nothing, returns, ends = count.tolist()
    return not quotes and not nothing and returns in (0, ends)


def _holds_numbers(made: Logged, at: int) -> bool:
    """Whether a column has a number in every row so far that has anything there."""
    cells = [row[at] for row in made.rows if row[at].lower() not in NOTHING]
    return bool(cells) and all(NUMBER.match(cell.replace(",", ".") if made.comma else cell) for cell in cells)
