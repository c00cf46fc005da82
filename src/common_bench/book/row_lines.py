"""Rows of a file that stand for the lines of a journal, so that neither is kept beside the other: rows as the file has them, with what
makes lines of them, in; the lines out."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass

import numpy as np

from common_bench.model.block import Bools, Floats, Ints

BEGINS = b"{"  # of what is kept of it, as nothing that is packed begins


@dataclass(frozen=True)
class RowsAsLines:
    """How rows of cells become lines `12;3.500000;271044;21.4`: the number of the row in its file, its time in s, and its cells with
    decimal points.

    mark: what stands between cells; comma: decimal commas; wanted: of each column, whether it is in the line; first: number of the first
    row; skip: bytes before it.
    """

    mark: str
    comma: bool
    wanted: tuple[bool, ...]
    first: int
    skip: int = 0

    def kept(self) -> bytes:
        """As it stands in a book."""
        return json.dumps({**asdict(self), "wanted": list(map(int, self.wanted))}).encode()

    @classmethod
    def of(cls, kept: bytes) -> RowsAsLines:
        """Raises ValueError where it is no longer what `kept` gave."""
        try:
            found = json.loads(kept)
            made = cls(
                found["mark"], bool(found["comma"]), tuple(map(bool, found["wanted"])), found["first"], found["skip"]
            )
            ord(made.mark)
        except (KeyError, TypeError) as fault:
            raise ValueError("what makes lines of its rows cannot be read") from fault
        return made

    def lines(self, rows: bytes | memoryview, t: Floats) -> tuple[bytes, Ints]:
        """The lines of so many rows as there are times, and the bytes of each. Raises ValueError where there are fewer."""
        return self.lines_of(rows, np.array([self.skip]), np.arange(self.first, self.first + len(t)), t)

    def lines_of(self, rows: bytes | memoryview, starts: Ints, numbers: Ints, t: Floats) -> tuple[bytes, Ints]:
        """The same of rows that need not follow one another. starts: byte at which each begins, the first alone where they do; numbers:
        (n,) of each in its file."""
        from common_bench.book.row_loops import (  # the compiler's library takes its time to load
            LONGEST_START,
            lines_of_rows,
        )

        sizes, data = np.empty(len(t), np.int64), np.frombuffer(rows, np.uint8)
        out = np.empty(len(rows) + LONGEST_START * len(t), np.uint8)
        mark, point = ord(self.mark), ord("," if self.comma else ".")
        whole = lines_of_rows(
            data, starts, mark, point, self._wanted, np.ascontiguousarray(numbers, np.int64), t, out, sizes
        )
        if whole < 0:
            raise ValueError("it has fewer rows than it should")
        return out[:whole].tobytes(), sizes

    def sizes(self, rows: bytes | memoryview, starts: Ints, end: int, t: Floats) -> tuple[Ints, Floats]:
        """The bytes of each line, without making any, and its time as it is read from there, nan where it has too many digits to be exact.
        starts: byte at which each row begins; end: the one after the last."""
        from common_bench.book.row_loops import sizes_of_lines

        found, seconds = np.empty(len(t), np.int64), np.empty(len(t))
        mark, data = ord(self.mark), np.frombuffer(rows, np.uint8)
        sizes_of_lines(data, starts, end, mark, self._wanted, self.first, t, found, seconds)
        return found, seconds

    @property
    def _wanted(self) -> Bools:
        return np.array(self.wanted, bool)
