"""Tiles looked at in turn, so that those of a crowd leave frames their time."""

from __future__ import annotations

import time
from collections.abc import Sequence

from common_bench.desk.record.tile import Tile

CROWDED = 16  # tiles beyond which there is room for a name, a number and a trace only
AT_ONE_TIME = 0.006  # s


class InTurn:
    """Guarantees that each tile is looked at in every round, of a crowd in every second."""

    def __init__(self) -> None:
        self._left: list[Tile] = []
        self._odd = False  # whether it is the second half's turn

    def begin_anew(self) -> None:
        """There are other tiles."""
        self._left = []

    def look(self, tiles: Sequence[Tile]) -> bool:
        """At as many as there is time for. Whether some of this round are left."""
        crowd = len(tiles) > CROWDED
        if not self._left:
            half = (len(tiles) + 1) // 2
            self._left = [*(tiles[half:] if self._odd else tiles[:half])] if crowd else [*tiles]
            self._odd = not self._odd
        until = time.monotonic() + AT_ONE_TIME
        while self._left:
            self._left.pop(0).tick()
            if crowd and time.monotonic() > until:
                break
        return bool(self._left)
