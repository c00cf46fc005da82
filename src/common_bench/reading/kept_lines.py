"""The last lines of one link, as they came: what a format is judged by, and what is read anew where it changes."""

from __future__ import annotations

from collections import deque

import numpy as np

from common_bench.reading.lines import Lines
from common_bench.reading.rows import Line

MOST_KEPT = 2400  # lines
NO_TEXT, SHOWN = b"\xff", 200  # what stands for a line too long to be one: a byte that is no text, and its beginning


class KeptLines:
    """Guarantees that the lines it gives depend on the lines alone, not on the pieces in which they came."""

    def __init__(self) -> None:
        self._pieces: deque[Lines] = deque()
        self._count = 0

    def clear(self) -> None:
        self._pieces.clear()
        self._count = 0

    def add(self, piece: Lines) -> None:
        if piece.overlong:  # its place is kept, and that nobody can read it
            data = NO_TEXT + piece.data[:SHOWN]
            piece = Lines(data + b"\n", np.array([0]), np.array([len(data)]), piece.stamps, piece.first)
        if len(piece) > MOST_KEPT:
            piece = piece.part(len(piece) - MOST_KEPT, len(piece))
        self._pieces.append(piece)
        self._count += len(piece)
        while self._count - len(self._pieces[0]) >= MOST_KEPT:
            self._count -= len(self._pieces.popleft())

    def up_to(self, offset: int, most: int = MOST_KEPT) -> list[Line]:
        """The last lines, oldest first, that begin at or before a byte offset."""
        found: list[list[Line]] = []
        count = 0
        for piece in reversed(self._pieces):
            if piece.first > offset:
                continue
            lines = [line for line in piece.each() if line[1] <= offset]
            found.append(lines)
            count += len(lines)
            if count >= most:
                break
        return [line for lines in reversed(found) for line in lines][-most:]
