"""What processes of engines are made from: all that one needs, loaded and compiled before the first is asked for. Nothing in, nothing out;
importing it does it."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Stamped
from common_bench.model.stream import ClockState
from common_bench.record.chain import Chain
from common_bench.record.serving import serve
from common_bench.workings import check, warm

LINES, AT_ONCE = 40, 4

__all__ = ["serve"]


def _hear_a_little() -> None:
    """So that no engine fetches anew what is compiled."""
    warm()
    chain = Chain(check(["x = a · 2"], {"a": ""}), (), None, ClockState())
    for first in range(0, LINES, AT_ONCE):
        rows = range(first, first + AT_ONCE)
        chain.feed([Stamped(0.02 * row, f"{20 * row};{np.sin(row):.3f};7\r\n".encode()) for row in rows])


_hear_a_little()
