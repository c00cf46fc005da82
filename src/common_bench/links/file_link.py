"""A file replayed as if it were live: a text file of lines at a rate, or a tape file at its own times."""

from __future__ import annotations

import itertools
import re
import time
from collections.abc import Iterator
from pathlib import Path

from common_bench.links.causes import trouble
from common_bench.links.link import MOST_AT_ONCE, PumpedLink, Throttle
from common_bench.model.trouble import LinkTrouble

USUAL_RATE = 50.0  # lines per second of a text file
TAPE_HEAD = b"# common bench tape: seconds, tab, line\n"
TAPE_LINE = re.compile(rb"([0-9]+(?:\.[0-9]+)?)\t(.*)", re.S)


class FileLink(PumpedLink):
    """`file:PATH?pace=2` runs twice as fast; `rate=10` sends ten lines a second. Ends when the file does."""

    def _pump(self) -> None:
        path = Path(self.address.path)
        pace = float(self.address.setting("pace", "1"))
        began = time.monotonic()
        self.connected = True
        throttle = Throttle()
        try:
            with path.open("rb") as file:
                pieces = iter(lambda: file.readline(MOST_AT_ONCE), b"")  # a line that never ends comes in pieces
                lines = timed_lines(next(pieces, b""), pieces, float(self.address.setting("rate", str(USUAL_RATE))))
                for at, line in lines:
                    if self._closed.wait(max(0.0, began + at / pace - time.monotonic())):
                        return
                    self._pass_on(line)
                    self._tell_flood(throttle.count(len(line)))
        except OSError as failed:
            raise LinkTrouble(
                "file-unreadable", where=self.address.path, strerror=failed.strerror or failed
            ) from failed
        raise trouble("file-ended", self.address.name)


def timed_lines(first: bytes, rest: Iterator[bytes], rate: float) -> Iterator[tuple[float, bytes]]:
    """(s since the beginning, line with its end) of each line."""
    if first != TAPE_HEAD:
        for number, line in enumerate(itertools.chain((first,), rest)):
            yield number / rate, line
        return
    for line in rest:
        found = TAPE_LINE.match(line)
        if found:
            yield float(found[1]), found[2]


def tape_text(stamped: Iterator[tuple[float, bytes]]) -> bytes:
    """Lines with their times in s as a tape file."""
    return TAPE_HEAD + b"".join(b"%.6f\t%s\n" % (at, line) for at, line in stamped)
