"""Blocks: what one stage of the flow hands to the next. NumPy arrays of equal length n, in time order."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple, overload

import msgspec
import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Ints = npt.NDArray[np.int64]

NO_FLOATS: Floats = np.empty(0)


class Stamped(NamedTuple):
    """Bytes as they came from a link: `at` in s on the engine's clock."""

    at: float
    data: bytes


def one_array(parts: Sequence[Any]) -> Any:
    """Arrays one after the other as one; a single one as it is."""
    return parts[0] if len(parts) == 1 else np.concatenate(parts)


class NumberColumns:
    """NumberColumns of numbers that lie apart in memory, (n,) each, looked at like a table (n, columns) of them."""

    __slots__ = ("_each",)

    def __init__(self, each: Sequence[Floats]) -> None:
        self._each = each

    def __len__(self) -> int:
        return len(self._each[0])

    @overload
    def __getitem__(self, place: tuple[slice, int]) -> Floats: ...

    @overload
    def __getitem__(self, place: slice | Bools) -> NumberColumns: ...

    def __getitem__(self, place: tuple[slice, int] | slice | Bools) -> Floats | NumberColumns:
        if isinstance(place, tuple):
            return self._each[place[1]][place[0]]
        return NumberColumns([each[place] for each in self._each])

    def holds(self, values: Sequence[float]) -> bool:
        """Whether one of these stands anywhere."""
        return any(bool(np.isin(each, values).any()) for each in self._each)


class LaterBytes:
    """Bytes that are made when somebody looks at them, once."""

    __slots__ = ("_made", "_make", "_size")

    def __init__(self, size: int, make: Callable[[], bytes]) -> None:
        self._size, self._make = size, make
        self._made: bytes | None = None

    def __len__(self) -> int:
        return self._size

    def __getitem__(self, cut: slice) -> LaterBytes:
        low, high, _ = cut.indices(self._size)
        return LaterBytes(max(0, high - low), lambda: bytes(self)[low:high])

    def __bytes__(self) -> bytes:
        if self._made is None:
            self._made = self._make()
            assert len(self._made) == self._size, "as many as were told"
        return self._made


class Arrived(Sequence[Stamped]):
    """Many stamped bytes at once, as they lie in the journal: the same as a list of them, without one for each.

    data: all bytes; stamps: (n,) s on the engine's clock; sizes: (n,) how many came with each; numbers: those of each, where each is
    one whole line of plain numbers with its end, and they have been read already; None where nobody knows.
    """

    __slots__ = ("ends", "held", "numbers", "sizes", "stamps")

    def __init__(
        self, data: bytes | LaterBytes, stamps: Floats, sizes: Ints, numbers: NumberColumns | None = None,
        ends: Ints | None = None,
    ) -> None:  # fmt: skip
        """ends: (n,) the byte after each, where that is known already."""
        self.held, self.stamps, self.sizes, self.numbers = data, stamps, sizes, numbers
        self.ends = np.cumsum(sizes) if ends is None else ends

    @property
    def data(self) -> bytes:
        return bytes(self.held)

    def __len__(self) -> int:
        return len(self.stamps)

    @overload
    def __getitem__(self, at: int) -> Stamped: ...

    @overload
    def __getitem__(self, at: slice) -> list[Stamped]: ...

    def __getitem__(self, at: int | slice) -> Stamped | list[Stamped]:
        if isinstance(at, slice):
            return [self[each] for each in range(*at.indices(len(self)))]
        if not -len(self) <= at < len(self):
            raise IndexError(at)
        end = int(self.ends[at])
        return Stamped(float(self.stamps[at]), self.data[end - int(self.sizes[at]) : end])

    def __iter__(self) -> Iterator[Stamped]:
        start = 0
        for stamp, end in zip(self.stamps.tolist(), self.ends.tolist(), strict=True):
            yield Stamped(stamp, self.data[start:end])
            start = end


def together(pieces: Sequence[Arrived]) -> Arrived:
    """What came one after the other, as one."""
    if len(pieces) == 1:
        return pieces[0]
    stamps, sizes = (np.concatenate([getattr(each, what) for each in pieces]) for what in ("stamps", "sizes"))
    return Arrived(b"".join(each.data for each in pieces), stamps, sizes)


def bytes_of(chunks: Sequence[Stamped]) -> bytes:
    """All that came with them."""
    return chunks.data if isinstance(chunks, Arrived) else b"".join(chunk.data for chunk in chunks)


def stamps_of(chunks: Sequence[Stamped]) -> tuple[Floats, Ints]:
    """(n,) s when each came, and how many bytes each holds."""
    if isinstance(chunks, Arrived):
        return chunks.stamps, chunks.sizes
    return np.array([chunk.at for chunk in chunks], float), np.array([len(chunk.data) for chunk in chunks], np.int64)


class Block(msgspec.Struct, frozen=True, eq=False):
    """Readings of one kit.

    t: (n,) s on the engine's clock; clock: (n,) the kit's own clock in s, nan where it has none;
    arrival: (n,) s, when the line's last byte came; offset: (n,) byte offset of the line's start in
    what was heard; gap_before: (n,) True where something is missing before the reading;
    channels: name -> (n,) raw numbers, nan for "no value"; clock_u: (n,) relative standard
    uncertainty of the clock's rate; clock_step: s, its resolution; kits: (n,) the id that each line
    names on a shared port, None elsewhere; whole: it is known that none of the channels' values is missing.
    """

    t: Floats
    clock: Floats
    arrival: Floats
    offset: Ints
    gap_before: Bools
    channels: Mapping[str, Floats]
    clock_u: Floats
    clock_step: float = 0.0
    kits: tuple[str, ...] | None = None
    whole: bool = False

    def __len__(self) -> int:
        return len(self.t)

    def part(self, start: int, stop: int) -> Block:
        """Readings `start` to `stop` (exclusive)."""
        cut = slice(start, stop)
        return Block(
            self.t[cut], self.clock[cut], self.arrival[cut], self.offset[cut], self.gap_before[cut],
            {name: values[cut] for name, values in self.channels.items()},
            self.clock_u[cut], self.clock_step, self.kits[cut] if self.kits else None, self.whole,
        )  # fmt: skip

    def follows(self, other: Block) -> bool:
        """Whether it has the same channels and the same kind of clock as another, so that both may be one."""
        alike = self.clock_step == other.clock_step and (self.kits is None) == (other.kits is None)
        return alike and self.channels.keys() == other.channels.keys()

    def parted(self, out: Bools, after_gap: bool, bridged: Bools | None = None) -> tuple[Block, Block]:
        """The readings that stay, with a gap where others were between them (after_gap: or before the first), and those that go.
        out: (n,) True for these; bridged: (n,) True for those among them that leave no gap."""
        stays = np.flatnonzero(~out)
        breaks = np.concatenate([[0], np.cumsum(out if bridged is None else out & ~bridged)])
        missing = np.diff(breaks[stays], prepend=0) > 0
        if len(stays):
            missing[0] |= after_gap
        kept, gone = self._rows(stays), self._rows(np.flatnonzero(out))
        return msgspec.structs.replace(kept, gap_before=kept.gap_before | missing), gone

    def _rows(self, rows: Ints) -> Block:
        return Block(
            self.t[rows], self.clock[rows], self.arrival[rows], self.offset[rows], self.gap_before[rows],
            {name: values[rows] for name, values in self.channels.items()},
            self.clock_u[rows], self.clock_step, tuple(self.kits[row] for row in rows.tolist()) if self.kits else None,
        )  # fmt: skip


def joined_blocks(blocks: list[Block]) -> Block:
    """One out of consecutive ones, each of which follows the one before."""
    if len(blocks) == 1:
        return blocks[0]
    first = blocks[0]
    kits = None if first.kits is None else tuple(kit for block in blocks for kit in block.kits or ())
    t, clock, arrival, clock_u = (
        np.concatenate([getattr(block, what) for block in blocks]) for what in ("t", "clock", "arrival", "clock_u")
    )
    offset, gap_before = (
        np.concatenate([getattr(block, what) for block in blocks]) for what in ("offset", "gap_before")
    )
    channels = {name: np.concatenate([block.channels[name] for block in blocks]) for name in first.channels}
    return Block(t, clock, arrival, offset, gap_before, channels, clock_u, first.clock_step, kits)


class Source(NamedTuple):
    """Where a share of an uncertainty comes from. A `common` one moves all readings together, so
    that averaging does not shrink it; the others are independent from reading to reading. `which` says which event
    made it (this constant at its place of its line, this reading, this mean of these readings): two shares are one only
    where it is the same; numbers count the parts of one estimate, as of a curve's parameters. dof: from how many degrees
    of freedom its size is known; with 0 it is not known at all, and a share only says that it enters and how."""

    name: str
    common: bool
    which: int | str = 0
    dof: float = math.inf


class Spread(NamedTuple):
    """Of a share that several readings have in each value: the source of these readings, and their weights, of which the
    middle one is the value's own reading; squares add up to 1."""

    of: Source
    weights: tuple[float, ...]


NO_SPREADS: Mapping[Source, Spread] = {}


class Rows(msgspec.Struct, frozen=True, eq=False):
    """What is known of the readings at which a quantity has its values, (n,) each.

    gap_before, clock_u, clock_step: as of a block; clocked: True where the kit's clock told the time; there: True where
    the line held the quantity at all, None where every one does.
    """

    gap_before: Bools
    clock_u: Floats
    clocked: Bools
    clock_step: float = 0.0
    there: Bools | None = None

    @staticmethod
    def of(block: Block, there: Bools | None = None) -> Rows:
        return Rows(block.gap_before, block.clock_u, np.isfinite(block.clock), block.clock_step, there)

    def part(self, start: int, stop: int) -> Rows:
        """Rows `start` to `stop` (exclusive)."""
        cut = slice(start, stop)
        there = None if self.there is None else self.there[cut]
        return Rows(self.gap_before[cut], self.clock_u[cut], self.clocked[cut], self.clock_step, there)


class Series(msgspec.Struct, frozen=True, eq=False):
    """A quantity over time or at events.

    t: (n,) s; values: (n,) in `unit`, nan unknown; parts: source -> (n,) signed standard
    uncertainty from that source in `unit`; guess: (n,) True outside a calibrated range;
    since: (n,) s, when what the value speaks of began (equal to t for plain readings). edges: each change of an on/off
    signal has a line, and so a time, of its own. rows: of its readings, while they are worked out; None for values at
    events and for results. spreads: of the shares that neighbouring values have in common.
    """

    t: Floats
    values: Floats
    unit: str = ""
    parts: Mapping[Source, Floats] = msgspec.field(default_factory=dict)
    guess: Bools | None = None
    since: Floats | None = None
    edges: bool = False
    rows: Rows | None = None
    spreads: Mapping[Source, Spread] = msgspec.field(default_factory=lambda: NO_SPREADS)

    def __len__(self) -> int:
        return len(self.t)

    def part(self, start: int, stop: int) -> Series:
        """Values `start` to `stop` (exclusive)."""
        cut = slice(start, stop)
        return Series(
            self.t[cut], self.values[cut], self.unit, {source: share[cut] for source, share in self.parts.items()},
            None if self.guess is None else self.guess[cut], None if self.since is None else self.since[cut], self.edges,
            None if self.rows is None else self.rows.part(start, stop), self.spreads,
        )  # fmt: skip

    @property
    def u(self) -> Floats:
        """(n,) combined standard uncertainty; nan where it is not known."""
        if not self.parts:
            return np.full(len(self.values), np.nan)
        total = np.zeros(len(self.values))
        for source, share in self.parts.items():
            if source.dof > 0:
                total += share * share
            else:
                total = np.where(share == 0.0, total, np.nan)
        return np.sqrt(total)

    @property
    def began(self) -> Floats:
        return self.t if self.since is None else self.since


class Events(msgspec.Struct, frozen=True, eq=False):
    """Times at which something happened.

    t: (n,) s; parts: source -> (n,) signed standard uncertainty of t in s, but of the kit's clock, which moves no time but what
    lies between two, by as much for each s of it; fresh: (n,) True where
    what lies between this event and the one before it is not known (the beginning, a gap); told: (n,) s, the readings with
    which they were told, where these are not late by a fixed time.
    """

    t: Floats
    fresh: Bools
    parts: Mapping[Source, Floats] = msgspec.field(default_factory=dict)
    told: Floats | None = None

    def __len__(self) -> int:
        return len(self.t)


def joined(pieces: list[Series], unit: str = "") -> Series:
    """One series out of consecutive pieces; a source missing from a piece counts as zero there."""
    if not pieces:
        return Series(NO_FLOATS, NO_FLOATS, unit)
    if len(pieces) == 1:
        return pieces[0]
    sources = dict.fromkeys(source for piece in pieces for source in piece.parts)
    parts = {
        source: np.concatenate([piece.parts.get(source, np.zeros(len(piece))) for piece in pieces])
        for source in sources
    }
    marked = any(piece.guess is not None for piece in pieces)
    guess = [np.zeros(len(p), bool) if p.guess is None else p.guess for p in pieces] if marked else None
    late = any(piece.since is not None for piece in pieces)
    return Series(
        np.concatenate([piece.t for piece in pieces]),
        np.concatenate([piece.values for piece in pieces]),
        pieces[0].unit,
        parts,
        np.concatenate(guess) if guess is not None else None,
        np.concatenate([piece.began for piece in pieces]) if late else None,
        pieces[0].edges,
        _joined_rows([piece.rows for piece in pieces]),
        {source: spread for piece in pieces for source, spread in piece.spreads.items()} or NO_SPREADS,
    )


def _joined_rows(pieces: list[Rows | None]) -> Rows | None:
    known = [each for each in pieces if each is not None]
    if len(known) < len(pieces):
        return None
    sparse = any(each.there is not None for each in known)
    there = [np.ones(len(each.clocked), bool) if each.there is None else each.there for each in known]
    return Rows(
        np.concatenate([each.gap_before for each in known]),
        np.concatenate([each.clock_u for each in known]),
        np.concatenate([each.clocked for each in known]),
        known[-1].clock_step,
        np.concatenate(there) if sparse else None,
    )
