"""The tape of one kit: its last lines as they came, each with what it was taken for."""

from __future__ import annotations

from typing import NamedTuple

from common_bench.reading.heard import Heard

TAPE_LINES = 400
SHOWN = 200  # bytes of a line
OWN_OFFSET = -1  # of a line that was sent to the kit


class TapeLine(NamedTuple):
    """at: s on the engine's clock; offset: of the line in what was heard; kind: reading, names, words, unreadable,
    half, or sent."""

    at: float
    offset: int
    data: bytes
    kind: str

    @property
    def text(self) -> str:
        if self.kind == "unreadable":  # noise may look like any script, and some are written from the right
            return self.data[:SHOWN].decode("ascii", "backslashreplace")
        return self.data[:SHOWN].decode("utf-8", "backslashreplace")


class Roll(NamedTuple):
    """The tape as it stands at one time, copied only once somebody reads it: `kept` goes on growing, up to `stop` it stays."""

    kept: list[TapeLine]
    stop: int

    @property
    def lines(self) -> tuple[TapeLine, ...]:
        """Oldest first."""
        return tuple(self.kept[max(0, self.stop - TAPE_LINES) : self.stop])


class LastLines:
    """Written by the engine. Guarantees that a roll that was given out stays as it is."""

    def __init__(self) -> None:
        self._lines: list[TapeLine] = []

    @property
    def roll(self) -> Roll:
        return Roll(self._lines, len(self._lines))

    @property
    def lines(self) -> tuple[TapeLine, ...]:
        return self.roll.lines

    def _append(self, line: TapeLine) -> None:
        if len(self._lines) >= 2 * TAPE_LINES:
            self._lines = self._lines[-TAPE_LINES:]
        self._lines.append(line)

    def _learn(self, kinds: dict[int, TapeLine]) -> None:
        """Lines at places of the tape are something else than what they were taken for."""
        self._lines = [kinds.get(at, line) for at, line in enumerate(self._lines)]

    @property
    def spoke_last(self) -> bool:
        """Whether the last whole line were words rather than a reading."""
        return bool(self._lines) and self._lines[-1].kind in ("words", "names")

    def sent(self, at: float, data: bytes) -> None:
        self._append(TapeLine(at, OWN_OFFSET, data.rstrip(b"\r\n"), "sent"))

    def add(self, heard: Heard, *, own_only: bool) -> None:
        """own_only: of a port that several kits share, only this kit's own readings (and what belongs to none)."""
        kinds = {each.offset: each.kind for each in (*heard.again, *heard.other_lines)}
        if heard.anew >= 0:
            self._learn(
                {
                    at: kept._replace(kind=kinds.get(kept.offset, "reading"))
                    for at, kept in enumerate(self._lines)
                    if kept.offset >= heard.anew
                }
            )
        if kinds and self._lines:
            # A line that waited for the format is told late: its place on the tape learns what it was.
            seen = {line.offset: at for at, line in enumerate(self._lines) if line.offset in kinds}
            if seen:
                self._learn({at: self._lines[at]._replace(kind=kinds[offset]) for offset, at in seen.items()})
        own = None
        if own_only:
            own = {int(offset) for block in heard.blocks for offset in block.offset[-TAPE_LINES:].tolist()}
        for lines in heard.lines[-3:]:
            tail = lines.part(len(lines) - TAPE_LINES, len(lines)) if len(lines) > TAPE_LINES else lines
            for stamp, offset, line in tail.each():
                kind = kinds.get(offset, "reading")
                if own is None or kind != "reading" or offset in own:
                    self._append(TapeLine(stamp, offset, line[:SHOWN], kind))
