"""The tape of one kit: its last lines as they came, each with what it was taken for."""

from __future__ import annotations

from collections import deque
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


class LastLines:
    """Written by the engine; `lines` is a copy that stays as it is, made only where something has changed."""

    def __init__(self) -> None:
        self._lines: deque[TapeLine] = deque(maxlen=TAPE_LINES)
        self._copy: tuple[TapeLine, ...] | None = ()

    @property
    def lines(self) -> tuple[TapeLine, ...]:
        if self._copy is None:
            self._copy = tuple(self._lines)
        return self._copy

    @property
    def spoke_last(self) -> bool:
        """Whether the last whole line were words rather than a reading."""
        return bool(self._lines) and self._lines[-1].kind in ("words", "names")

    def sent(self, at: float, data: bytes) -> None:
        self._lines.append(TapeLine(at, OWN_OFFSET, data.rstrip(b"\r\n"), "sent"))
        self._copy = None

    def add(self, heard: Heard, *, own_only: bool) -> None:
        """own_only: of a port that several kits share, only this kit's own readings (and what belongs to none)."""
        if heard.lines or heard.other_lines:
            self._copy = None
        kinds = {each.offset: each.kind for each in (*heard.again, *heard.other_lines)}
        if heard.anew >= 0:
            for at, kept in enumerate(self._lines):
                if kept.offset >= heard.anew:
                    self._lines[at] = kept._replace(kind=kinds.get(kept.offset, "reading"))
        if kinds and self._lines:
            # A line that waited for the format is told late: its place on the tape learns what it was.
            seen = {line.offset: at for at, line in enumerate(self._lines) if line.offset in kinds}
            for offset, at in seen.items():
                self._lines[at] = self._lines[at]._replace(kind=kinds[offset])
        own = None
        if own_only:
            own = {int(offset) for block in heard.blocks for offset in block.offset[-TAPE_LINES:].tolist()}
        for lines in heard.lines[-3:]:
            tail = lines.part(len(lines) - TAPE_LINES, len(lines)) if len(lines) > TAPE_LINES else lines
            for stamp, offset, line in tail.each():
                kind = kinds.get(offset, "reading")
                if own is None or kind != "reading" or offset in own:
                    self._lines.append(TapeLine(stamp, offset, line[:SHOWN], kind))
