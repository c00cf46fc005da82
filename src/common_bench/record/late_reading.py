"""Bytes that lay there while nobody could listen, as while the window or the engine was busy: when each line of them came. One
read of a link in; stamped pieces out."""

from __future__ import annotations

import re

from common_bench.model.block import Stamped

LINE = re.compile(rb"[^\r\n]*(?:\r\n|\r|\n)")
MOST_LATE = 5.0  # s; what lay there for longer, as while the machine slept, need not have come evenly


def stamped(data: bytes, deaf_since: float, at: float, step: float) -> list[Stamped]:
    """deaf_since: s on the engine's clock from which on nobody listened, until `at`, when these were read; step: s between the lines of a kit
    that has no clock and sends evenly, nan for any other. The last whole line came at the latest when it was read and those before
    it one step earlier each, but none before `deaf_since`: where somebody listened all the time, all came when they were read."""
    if not data or not 0 < step < at - deaf_since < MOST_LATE:  # nan too
        return [Stamped(at, data)]
    lines = LINE.findall(data)
    whole = sum(map(len, lines))
    count = len(lines)
    pieces = [Stamped(max(deaf_since, at - (count - 1 - place) * step), line) for place, line in enumerate(lines)]
    return pieces if whole == len(data) else [*pieces, Stamped(at, data[whole:])]
