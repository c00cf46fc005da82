"""Finding the speed of a serial line by trying. What has come in; whether it is noise, and what to try next, out."""

from __future__ import annotations

from common_bench.links.address import SPEEDS, Address

LEAST_BYTES = 10  # before anything is said about a speed
TRY_SPEED_FOR = 1.0  # s of few bytes, before the next speed is tried all the same
TRY_LINES_FOR = 4.0  # s of whole lines of text that are no readings yet: a slow kit's format takes a few of them
CLEARLY_NOISE = 3  # bytes that are no text, and most of all
TEXT_SHARE = 0.85  # of bytes that are text, below which a speed is wrong
MOST_ROUNDS = 3  # through all speeds
SAMPLE = 400  # bytes by which a speed is judged
TEXT_BYTES = bytes(range(32, 127)) + b"\r\n\t"


def is_noise(sample: bytes) -> bool:
    """Whether bytes come from a line whose speed is wrong: few of them are text, or a good many are not."""
    text = sum(1 for each in sample if each in TEXT_BYTES)
    if len(sample) - text >= CLEARLY_NOISE and text < len(sample) / 2:
        return True
    return len(sample) >= LEAST_BYTES and text < TEXT_SHARE * len(sample)


class SpeedFinder:
    """`found` once readings or words have come at the speed of now; `tried`: how many speeds so far."""

    def __init__(self, *, found: bool) -> None:
        self.found = found
        self.tried = 1
        self._sample = b""

    def opened(self) -> None:
        self._sample = b""

    def take(self, data: bytes) -> None:
        if not self.found:
            self._sample = (self._sample + data)[-SAMPLE:]

    def is_wrong(self, since_open: int, readable: int, seconds: float) -> bool:
        """Whether the speed of now gives nothing that can be read; since_open, readable: bytes and lines since it was
        opened `seconds` ago."""
        if self.found or since_open < CLEARLY_NOISE:
            return False
        if is_noise(self._sample):
            return True
        lines = len(self._sample) >= LEAST_BYTES and (b"\n" in self._sample or b"\r" in self._sample)
        return not readable and seconds >= (TRY_LINES_FOR if lines else TRY_SPEED_FOR)

    def next(self, address: Address) -> Address | None:
        """The address at the next speed; None where all have been tried often enough."""
        if self.tried >= MOST_ROUNDS * len(SPEEDS):
            return None
        self.tried += 1
        here = SPEEDS.index(address.speed) if address.speed in SPEEDS else -1
        return address.at(SPEEDS[(here + 1) % len(SPEEDS)])
