"""Is the first line that is heard of a stream the whole of it? The format and the lines in; yes or no out."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from common_bench.model.stream import StreamFormat
from common_bench.reading.dialects import line_reader

PUNCTUATION = (b",", b";", b":", b".", b"\t", b" ", b")", b"]")  # no words begin with these, but half a line may
LEAST_LINES = 3  # before a number can be far from the others
STEPS = (0.2, 5.0)  # of the usual step, between which a clock goes on
FAR = 5.0  # spans of all others, beyond which a first number is not of their kind


def is_whole(format: StreamFormat, lines: Sequence[bytes]) -> bool:
    """Whether the first of these lines goes on with the others, as far as its first number tells: the digits that
    a half line lacks make a clock leap, and any other number far smaller than those that follow."""
    read = line_reader(format)
    if not read(lines[0]):
        return False
    rows = [rows[0].values for line in lines if (rows := read(line))]
    if format.dialect != "separated" or len(rows) < len(lines) or len(rows) < LEAST_LINES:
        return True
    first, *others = [row[format.clock or 0] for row in rows]
    if format.clock is not None:
        usual = float(np.median(np.diff(others)))
        return not usual > 0 or STEPS[0] * usual <= others[0] - first <= STEPS[1] * usual
    shorter = len(lines[0]) < min(map(len, lines[1:]))
    return not (shorter and abs(first - float(np.median(others))) > FAR * float(np.ptp(others)))
