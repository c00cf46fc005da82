"""What one process tells another, as bytes and back: objects of ours in one part, all numbers of many short arrays in another, since an
array of its own costs more than what is in it. What stays the same is sent once."""

from __future__ import annotations

import copyreg
import io
import math
import pickle
from collections import ChainMap
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

from common_bench.links.address import Address
from common_bench.model.block import NO_FLOATS, Block, Bools, Events, Floats, Rows, Series, Source, one_array
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.stream import StreamFormat
from common_bench.reading.judgement import Judgement
from common_bench.reading.lines import Lines
from common_bench.record.live import RAW, JustWorked, LiveNews
from common_bench.record.rules import Rule
from common_bench.record.tape import Piece, TapeLine
from common_bench.workings.evaluate import INNER

NUMBER = 8  # bytes
MOST_SENT = 2000  # of them, before all are sent anew
ALL = Source("all", False)  # what a live value's uncertainty comes from, where only its size is told
NONE_MISSING = np.zeros(1024, bool)
NO_BOOLS = NONE_MISSING[:0]
NO_EVENTS: Mapping[str, Floats] = {}


class Parcel(NamedTuple):
    """objects: ours, encoded; numbers: of their arrays, float64."""

    objects: bytes
    numbers: bytes


def sent_before(number: int) -> Any:
    """Stands for what was sent once; whoever unpacks it has a table of these."""
    raise LookupError(number)


class _Unpickler(pickle.Unpickler):
    def __init__(self, data: bytes, sent: dict[int, Any]) -> None:
        super().__init__(io.BytesIO(data))
        self._sent = sent

    def find_class(self, module: str, name: str) -> Any:
        own = name == sent_before.__name__ and module == sent_before.__module__
        return self._sent.__getitem__ if own else super().find_class(module, name)


class Sender:
    """Packs what is told, one thing after another."""

    def __init__(self) -> None:
        self._numbers: dict[int, tuple[int, Any]] = {}  # id of an object -> its number, and itself, so that it stays
        self._count = 0
        self._new: list[tuple[int, bytes]] = []
        # looked up by the pickler itself for what it does not know; its persistent_id would be asked of everything
        ways: dict[type, Any] = dict.fromkeys(SENT_ONCE, self._by_number)
        self._ways = ChainMap(ways, copyreg.dispatch_table)

    def number(self, sent: Any) -> int:
        """Of an object that is sent once."""
        found = self._numbers.get(id(sent))
        if found is None:
            self._new.append((self._count + 1, pickle.dumps(sent, pickle.HIGHEST_PROTOCOL)))
            self._count += 1  # and not before, where that fails
            found = self._numbers[id(sent)] = self._count, sent
        return found[0]

    def _by_number(self, sent: Any) -> tuple[Any, tuple[int]]:
        return sent_before, (self.number(sent),)

    def packed(self, told: Any, numbers: bytes) -> Parcel:
        """told: anything that can be pickled. Raises what that raises where something cannot, and can be asked again."""
        anew = len(self._numbers) > MOST_SENT
        if anew:
            self._numbers.clear()
        out = io.BytesIO()
        packer = pickle.Pickler(out, pickle.HIGHEST_PROTOCOL)
        packer.dispatch_table = self._ways
        packer.dump(told)
        new, self._new = self._new, []
        return Parcel(pickle.dumps((anew, new, out.getvalue()), pickle.HIGHEST_PROTOCOL), numbers)


class Receiver:
    """Unpacks it in the same order."""

    def __init__(self) -> None:
        self._sent: dict[int, Any] = {}

    def unpacked(self, parcel: Parcel) -> tuple[Any, Floats]:
        """What was told, and the numbers that it speaks of."""
        anew, new, body = pickle.loads(parcel.objects)
        if anew:
            self._sent.clear()
        for number, each in new:
            self._sent[number] = pickle.loads(each)
        return _Unpickler(body, self._sent).load(), np.frombuffer(parcel.numbers)


ToldOf = tuple[str, str, bool, bool, bool, bool]


class PieceLayout:
    """What a piece for a live window holds, in the order in which its numbers lie. channels: names; results: (name, unit, whether its
    times are not the block's, whether its uncertainty is told, its guesses, its gaps) each; events: names; gaps: whether there are some
    before the block's readings. rows: how many numbers there are for each reading, where nothing has more or fewer; places: name -> the
    first of these that is its own, and the rest of what is told of it."""

    def __init__(
        self, channels: tuple[str, ...], results: tuple[ToldOf, ...], events: tuple[str, ...], gaps: bool
    ) -> None:
        self.channels, self.results, self.events, self.gaps = channels, results, events, gaps
        self.rows = 1 + len(channels) + gaps
        self.places: dict[str, tuple[int, str, bool, bool, bool, bool]] = {}
        for name, unit, own, u, guess, broken in results:
            self.places[name] = self.rows, unit, own, u, guess, broken
            self.rows += 1 + own + u + guess + broken

    def __reduce__(self) -> tuple[Any, ...]:
        return PieceLayout, (self.channels, self.results, self.events, self.gaps)


# each of them stays as it is
SENT_ONCE = frozenset([Address, Calibration, AskPlan, StreamFormat, Judgement, Rule, PieceLayout])


class Numbers:
    """Puts arrays one after the other. Pieces that hold the same have one layout, which is the same object for all of them."""

    def __init__(self, layouts: dict[tuple[Any, ...], PieceLayout]) -> None:
        """layouts: of all pieces so far."""
        self._arrays: list[Any] = []
        self._end = 0
        self._layouts = layouts

    def packed(self, piece: JustWorked) -> tuple[Any, ...]:
        """Of a live window, as much as it shows: the layout, where its numbers begin, readings, and how many numbers each result and
        event has, where these are not as many."""
        block, begin, key = piece.block, self._end, list[Any]()
        arrays, sizes, count, gaps = list[Any](), list[int](), 0, False
        if block is not None:
            count, gaps = len(block.t), _any(block.gap_before)
            arrays = [block.t, *block.channels.values()]
            if gaps:
                arrays.append(block.gap_before)
            key = [gaps, *block.channels, None]  # what follows is no channel
        for name, result in piece.results.items():
            if isinstance(result, Series) and len(result.values) and INNER not in name:
                key += (name, result.unit, *_put(result, block, gaps, arrays))
                sizes.append(len(result.values))
        for name, result in piece.results.items():
            if isinstance(result, Events) and INNER not in name:
                key += (None, name)
                arrays.append(result.t)
                sizes.append(len(result.t))
        found = tuple(key)
        layout = self._layouts.get(found)
        if layout is None:
            layout = self._layouts[found] = _layout_of(piece, gaps)
        self._arrays += arrays
        as_many = all(each == count for each in sizes)
        self._end += count * len(arrays) if as_many else sum(map(len, arrays))
        return layout, begin, count, None if as_many else sizes, piece.sparse

    @property
    def bytes(self) -> bytes:
        return np.concatenate(self._arrays, dtype=np.float64).tobytes() if self._arrays else b""


def _layout_of(piece: JustWorked, gaps: bool) -> PieceLayout:
    told = tuple(
        (name, result.unit, *_put(result, piece.block, gaps, []))
        for name, result in piece.results.items()
        if isinstance(result, Series) and len(result) and INNER not in name
    )
    events = tuple(name for name, result in piece.results.items() if isinstance(result, Events) and INNER not in name)
    return PieceLayout(tuple(piece.block.channels) if piece.block is not None else (), told, events, gaps)


def _any(those: Bools | None) -> bool:
    return those is not None and bool(np.count_nonzero(those))


def _put(result: Series, block: Block | None, gaps: bool, arrays: list[Any]) -> tuple[bool, bool, bool, bool]:
    """Its arrays behind the others; gives which of them there are: its times, where they are not the block's, its uncertainty, guesses and
    gaps. gaps: whether the block has some."""
    own, guess, rows = block is None or result.t is not block.t, _any(result.guess), result.rows
    if own:
        arrays.append(result.t)
    arrays.append(result.values)
    if result.parts:
        arrays.append(result.u)
    if guess:
        arrays.append(result.guess)
    if rows is None:
        broken = False
    else:
        broken = gaps if block is not None and rows.gap_before is block.gap_before else _any(rows.gap_before)
        if broken:
            arrays.append(rows.gap_before)
    return own, bool(result.parts), guess, broken


def packed_news(news: LiveNews, numbers: Numbers) -> tuple[Any, ...]:
    return news.what, [numbers.packed(each) for each in news.pieces if isinstance(each, JustWorked)], news.names


def unpacked_news(told: tuple[Any, ...], numbers: Floats) -> LiveNews:
    what, pieces, names = told
    return LiveNews(what, [ToldPiece(numbers, *each) for each in pieces], names)


class ToldPiece:
    """The same for the live window that shows it, taken apart only where somebody looks."""

    __slots__ = ("_begin", "_count", "_found", "_numbers", "_sizes", "_sparse", "layout")

    def __init__(
        self, numbers: Floats, layout: PieceLayout, begin: int, count: int, sizes: list[int] | None, sparse: bool
    ) -> None:
        self._numbers, self.layout, self._begin, self._count = numbers, layout, begin, count
        self._sizes, self._sparse = sizes, sparse
        self._found: tuple[dict[str, tuple[int, int, str, bool, bool, bool, bool]], int] | None = None

    @property
    def last_t(self) -> float:
        return float(self._numbers[self._begin + self._count - 1]) if self._count else math.nan

    @property
    def names(self) -> Sequence[str]:
        channels = [RAW + each for each in self.layout.channels] if self._count else []
        if self._sparse:
            channels = [each for each in channels if (part := self.raw(each)) is not None and len(part[1])]
        return [*channels, *(each[0] for each in self.layout.results)]

    @property
    def events(self) -> Mapping[str, Floats]:
        if not self.layout.events:
            return NO_EVENTS
        place, found = self._places()[1], {}
        for name, size in zip(self.layout.events, self._sizes_of()[len(self.layout.results) :], strict=True):
            found[name] = self._numbers[place : place + size]
            place += size
        return found

    def raw(self, name: str) -> tuple[Floats, Floats, Bools] | None:
        channel, count = name.removeprefix(RAW), self._count
        if channel not in self.layout.channels:
            return None
        at = self._begin + count * (1 + self.layout.channels.index(channel))
        t, values, gaps = self._numbers[self._begin : self._begin + count], self._numbers[at : at + count], self._gaps()
        if not self._sparse:
            return t, values, gaps
        there = np.isfinite(values)
        return t[there], values[there], gaps[there]

    def _gaps(self) -> Bools:
        at = self._begin + self._count * (1 + len(self.layout.channels))
        return self._numbers[at : at + self._count] > 0 if self.layout.gaps else _none(self._count)

    def series(self, name: str) -> Series | None:
        if self._sizes is None:
            there = self.layout.places.get(name)
            if there is None:
                return None
            row, unit, own_t, has_u, has_guess, has_gaps = there
            at, size = self._begin + self._count * row, self._count
        else:
            place = self._places()[0].get(name)
            if place is None:
                return None
            at, size, unit, own_t, has_u, has_guess, has_gaps = place
        numbers, first = self._numbers, self._begin
        if own_t:
            first, at = at, at + size
        each = [numbers[low : low + size] for low in range(at, at + size * (1 + has_u + has_guess + has_gaps), size)]
        return Series(
            numbers[first : first + size], each[0], unit, {ALL: each[1]} if has_u else {},
            each[1 + has_u] > 0 if has_guess else None,
            rows=Rows(each[-1] > 0, NO_FLOATS, NO_BOOLS) if has_gaps else None,
        )  # fmt: skip

    def joined(self, pieces: Sequence[ToldPiece]) -> ToldPiece | None:
        """Pieces of one layout, whose numbers lie alike, are put beside each other."""
        layout, many = self.layout, self.layout.rows
        if layout.events or any(each.layout is not layout or each._sizes or not each._count for each in pieces):
            return None
        rows = [
            each._numbers[each._begin : each._begin + many * each._count].reshape(many, each._count) for each in pieces
        ]
        numbers = np.concatenate(rows, axis=1)
        return ToldPiece(numbers.reshape(-1), layout, 0, numbers.shape[1], None, self._sparse)

    def _sizes_of(self) -> Sequence[int]:
        return self._sizes or [self._count] * (len(self.layout.results) + len(self.layout.events))

    def _places(self) -> tuple[dict[str, tuple[int, int, str, bool, bool, bool, bool]], int]:
        """By name of each quantity where its numbers begin, how many readings it has, its unit, and what is told of it; and where those of
        events begin."""
        if self._found is not None:
            return self._found
        layout = self.layout
        at = self._begin + self._count * (1 + len(layout.channels) + layout.gaps)
        found: dict[str, tuple[int, int, str, bool, bool, bool, bool]] = {}
        for (name, unit, own_t, has_u, guess, gaps), size in zip(layout.results, self._sizes_of(), strict=False):
            found[name] = at, size, unit, own_t, has_u, guess, gaps
            at += size * (1 + own_t + has_u + guess + gaps)
        self._found = found, at
        return self._found


def _none(size: int) -> Bools:
    return NONE_MISSING[:size] if size <= len(NONE_MISSING) else np.zeros(size, bool)


class PackedPiece(NamedTuple):
    """Lines on a tape, as bytes until somebody reads them. starts, ends, stamps: of each line, as numbers lie in memory."""

    data: bytes
    starts: bytes
    ends: bytes
    stamps: bytes
    first: int
    own: frozenset[int] | None

    def told(self, kinds: Any) -> list[TapeLine]:
        starts, ends = (np.frombuffer(each, np.int64) for each in (self.starts, self.ends))
        return Piece(Lines(self.data, starts, ends, np.frombuffer(self.stamps), self.first), self.own).told(kinds)


def len_of(piece: Piece | PackedPiece | TapeLine) -> int:
    """How many lines it holds."""
    return len(piece.starts) // NUMBER if isinstance(piece, PackedPiece) else 1


def packed_pieces(pieces: Sequence[Piece | TapeLine]) -> list[PackedPiece | TapeLine]:
    """Of a tape; pieces of a kit's own port that lie one behind the other become one."""
    found: list[PackedPiece | TapeLine] = []
    waiting: list[Lines] = []
    for each in pieces:
        follows = isinstance(each, Piece) and each.own is None
        if waiting and not (follows and waiting[-1].first + len(waiting[-1].held) == each.lines.first):  # type: ignore[union-attr]
            found.append(_packed_lines(waiting, None))
            waiting = []
        if isinstance(each, TapeLine):
            found.append(each)
        elif each.own is None:
            waiting.append(each.lines)
        else:
            found.append(_packed_lines([each.lines], each.own))
    return [*found, _packed_lines(waiting, None)] if waiting else found


def _packed_lines(lines: Sequence[Lines], own: frozenset[int] | None) -> PackedPiece:
    first = lines[0].first
    starts, ends = (
        one_array([getattr(each, what) + (each.first - first) for each in lines]).astype(np.int64, copy=False).tobytes()
        for what in ("starts", "ends")
    )
    data, stamps = b"".join([each.data for each in lines]), one_array([each.stamps for each in lines]).tobytes()
    return PackedPiece(data, starts, ends, stamps, first, own)
