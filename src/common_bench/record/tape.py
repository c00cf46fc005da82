"""The tape of one kit: its last lines as they came, each with what it was taken for."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from common_bench.reading.heard import Heard
from common_bench.reading.lines import Lines

TAPE_LINES = 400
MOST_HELD = 3 * TAPE_LINES  # before what is older than the tape is let go
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


class Piece(NamedTuple):
    """Lines that came together. own: offsets of a kit's own readings, where the port is shared; None where all are."""

    lines: Lines
    own: frozenset[int] | None

    def told(self, kinds: Mapping[int, str]) -> list[TapeLine]:
        found = []
        for at, offset, line in self.lines.each():
            kind = kinds.get(offset, "reading")
            if self.own is None or kind != "reading" or offset in self.own:
                found.append(TapeLine(at, offset, line[:SHOWN], kind))
        return found


class Roll(NamedTuple):
    """The tape as it stands at one time, taken apart only once somebody reads it: `pieces` go on growing, up to `stop` they
    stay. kinds: byte offset -> what a line is that is no reading."""

    pieces: list[Piece | TapeLine]
    stop: int
    kinds: Mapping[int, str]

    @property
    def lines(self) -> tuple[TapeLine, ...]:
        """Oldest first."""
        return self.last(TAPE_LINES)

    def last(self, most: int) -> tuple[TapeLine, ...]:
        found: list[list[TapeLine]] = []
        count = 0
        for at in range(self.stop - 1, -1, -1):
            piece = self.pieces[at]
            found.append([piece] if isinstance(piece, TapeLine) else piece.told(self.kinds))
            count += len(found[-1])
            if count >= most:
                break
        return tuple([line for lines in reversed(found) for line in lines][-most:])


class LastLines:
    """Written by the engine. Guarantees that a roll that was given out stays as it is."""

    def __init__(self) -> None:
        self._pieces: list[Piece | TapeLine] = []
        self._count = 0
        self._kinds: dict[int, str] = {}

    @property
    def roll(self) -> Roll:
        return Roll(self._pieces, len(self._pieces), self._kinds)

    @property
    def spoke_last(self) -> bool:
        """Whether the last whole line were words rather than a reading."""
        last = self.roll.last(1)
        return bool(last) and last[0].kind in ("words", "names")

    def sent(self, at: float, data: bytes) -> None:
        self._append(TapeLine(at, OWN_OFFSET, data.rstrip(b"\r\n"), "sent"), 1)

    def add(self, heard: Heard, *, own_only: bool) -> None:
        """own_only: of a port that several kits share, only this kit's own readings (and what belongs to none)."""
        kinds = {each.offset: each.kind for each in (*heard.again, *heard.other_lines)}
        if heard.anew >= 0:
            before = {offset: kind for offset, kind in self._kinds.items() if offset < heard.anew}
            self._kinds = {**before, **kinds}
        elif kinds:  # among them lines that waited for the format and are told late
            self._kinds = {**self._kinds, **kinds}
        own = None
        if own_only:
            own = frozenset(int(offset) for block in heard.blocks for offset in block.offset[-TAPE_LINES:].tolist())
        for lines in heard.lines[-3:]:
            tail = lines.part(len(lines) - TAPE_LINES, len(lines)) if len(lines) > TAPE_LINES else lines
            self._append(Piece(tail, own), len(tail) if own is None else len(own) + len(kinds))

    def _append(self, piece: Piece | TapeLine, count: int) -> None:
        self._pieces.append(piece)
        self._count += count
        if self._count > MOST_HELD:
            self._let_go()

    def _let_go(self) -> None:
        """Lets go of what is older than the tape."""
        at, count = len(self._pieces), 0
        while at > 0 and count < TAPE_LINES:
            at -= 1
            piece = self._pieces[at]
            if isinstance(piece, TapeLine):
                count += 1
            else:
                count += len(piece.lines) if piece.own is None else len(piece.told(self._kinds))
        self._pieces, self._count = self._pieces[at:], count
        first = next((each.lines.first for each in self._pieces if isinstance(each, Piece)), 0)
        self._kinds = {offset: kind for offset, kind in self._kinds.items() if offset >= first}
