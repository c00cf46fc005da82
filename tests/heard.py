"""Lines as they are heard: bytes in any chunks, each stamped by the line that it belongs to; and what was read of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import msgspec
import numpy as np

from common_bench.model.block import Block, Stamped
from common_bench.model.stream import StreamFormat
from common_bench.reading.format_finding import OtherLine
from common_bench.reading.heard import Heard
from common_bench.reading.rows import Line
from common_bench.reading.working_out import work_out


def paced(data: bytes, cuts: Iterable[int], every: float) -> list[Stamped]:
    """The bytes in chunks that end at least where a line ends, each line every so many s after the one before."""
    ends = [match.end() for match in re.finditer(rb"\r\n|\r|\n", data)]
    places = sorted({0, len(data), *ends, *(cut for cut in cuts if 0 <= cut <= len(data))})
    found = []
    for low, high in zip(places, places[1:], strict=False):
        lines = int(np.searchsorted(ends, low, side="right"))
        found.append(Stamped((lines + 1) * every, data[low:high]))
    return found


def now_read(blocks: list[Block], heard: Heard) -> list[Block]:
    """The blocks with those newly heard; what was read anew is void in those of before."""
    if heard.anew >= 0:
        kept = []
        for block in blocks:
            count = int(np.searchsorted(block.offset, heard.anew))
            kept += [block.part(0, count)] if count else []
        blocks = kept
    return [*blocks, *heard.blocks]


def all_read(heard: Iterable[Heard]) -> list[Block]:
    """The blocks of all that was heard, as they stand in the end."""
    found: list[Block] = []
    for each in heard:
        found = now_read(found, each)
    return found


def all_told(heard: Iterable[Heard]) -> list[OtherLine]:
    """The lines that are no readings of all that was heard, as they stand in the end, in their order."""
    found: list[OtherLine] = []
    for each in heard:
        if each.anew >= 0:
            found = [line for line in found if line.offset < each.anew]
        found += [*each.again, *each.other_lines]
    return sorted(found, key=lambda line: line.offset)


def as_lines(lines: Sequence[bytes], every: float = 0.02) -> list[Line]:
    """Lines one after the other, so many s apart."""
    found, at = [], 0
    for place, line in enumerate(lines):
        found.append((place * every, at, line))
        at += len(line) + 1
    return found


def format_of_lines(lines: Sequence[bytes], words: Sequence[bytes] = ()) -> StreamFormat:
    """How these lines are read, as a format that somebody has set by hand: it stands whatever comes."""
    found = work_out(as_lines([*words, *lines]), words)
    assert found is not None
    return msgspec.structs.replace(found.format, by_hand=True)


def stalled(true: np.ndarray, stalls: list[tuple[float, float]]) -> np.ndarray:
    """When lines sent at true s arrive, where nothing is passed on for so long from each of these times on."""
    arrival = true.copy()
    for begin, length in stalls:
        inside = (arrival >= begin) & (arrival < begin + length)
        arrival[inside] = begin + length
    return arrival
