"""What one process tells another, as bytes and back: objects of ours in one part, all numbers of many short arrays in another, since an
array of its own costs more than what is in it. What stays the same is sent once."""

from __future__ import annotations

import io
import pickle
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from common_bench.links.address import Address
from common_bench.model.block import NO_FLOATS, Block, Bools, Events, Floats, Rows, Series, Source
from common_bench.model.calibration import Calibration
from common_bench.model.plan import AskPlan
from common_bench.model.stream import StreamFormat
from common_bench.reading.judgement import Judgement
from common_bench.reading.lines import Lines
from common_bench.record.live import News, Unplaced
from common_bench.record.rules import Rule
from common_bench.record.tape import Piece, TapeLine
from common_bench.workings.evaluate import INNER

SENT_ONCE = frozenset([Address, Calibration, AskPlan, StreamFormat, Judgement, Rule])  # each of them stays as it is
MOST_SENT = 2000  # of them, before all are sent anew
ALL = Source("all", False)  # what a live value's uncertainty comes from, where only its size is told
NO_INTS = np.empty(0, np.int64)
NONE_MISSING = np.zeros(1024, bool)

Place = tuple[int, int]
"""Where an array's numbers lie: the first, and the one after its last."""


class Parcel(NamedTuple):
    """objects: ours, encoded; numbers: of their arrays, float64."""

    objects: bytes
    numbers: bytes


class _Pickler(pickle.Pickler):
    def __init__(self, file: io.BytesIO, sender: Sender) -> None:
        super().__init__(file, pickle.HIGHEST_PROTOCOL)
        self._sender = sender

    def persistent_id(self, obj: Any) -> int | None:
        return self._sender.number(obj) if type(obj) in SENT_ONCE else None


class _Unpickler(pickle.Unpickler):
    def __init__(self, data: bytes, sent: dict[int, Any]) -> None:
        super().__init__(io.BytesIO(data))
        self._sent = sent

    def persistent_load(self, number: int) -> Any:
        return self._sent[number]


class Sender:
    """Packs what is told, one thing after another."""

    def __init__(self) -> None:
        self._numbers: dict[
            int, tuple[int, Any]
        ] = {}  # id of an object -> its number, and itself, so that the id stays its own
        self._count = 0
        self._new: list[tuple[int, bytes]] = []

    def number(self, sent: Any) -> int:
        """Of an object that is sent once."""
        found = self._numbers.get(id(sent))
        if found is None:
            self._count += 1
            found = self._numbers[id(sent)] = self._count, sent
            self._new.append((self._count, pickle.dumps(sent, pickle.HIGHEST_PROTOCOL)))
        return found[0]

    def packed(self, told: Any, numbers: bytes) -> Parcel:
        """told: anything that can be pickled."""
        anew = len(self._numbers) > MOST_SENT
        if anew:
            self._numbers.clear()
        out = io.BytesIO()
        _Pickler(out, self).dump(told)
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


class Numbers:
    """Puts arrays one after the other, each once."""

    def __init__(self) -> None:
        self._arrays: list[Any] = []
        self._places: dict[int, Place] = {}
        self._end = 0

    def put(self, array: Floats | Bools) -> Place:
        found = self._places.get(id(array))
        if found is None:
            found = self._places[id(array)] = self._end, self._end + len(array)
            self._end += len(array)
            self._arrays.append(array)
        return found

    def put_if_any(self, array: Bools | None) -> Place | None:
        """None where all are False."""
        return None if array is None or not np.count_nonzero(array) else self.put(array)

    @property
    def bytes(self) -> bytes:
        return np.concatenate(self._arrays, dtype=np.float64).tobytes() if self._arrays else b""


def packed_news(news: News, numbers: Numbers) -> tuple[Any, ...]:
    """Of a live window, as much as it shows."""
    return news.what, [_packed_piece(each, numbers) for each in news.pieces], news.names


def _packed_piece(piece: Unplaced, numbers: Numbers) -> tuple[Any, ...]:
    block: tuple[Any, ...] | None = None
    results: list[tuple[Any, ...]] = []
    if piece.block is not None:
        channels = [(name, numbers.put(values)) for name, values in piece.block.channels.items()]
        block = numbers.put(piece.block.t), numbers.put_if_any(piece.block.gap_before), channels
    for name, result in piece.results.items():
        if INNER in name:
            continue
        if isinstance(result, Events):
            results.append((name, numbers.put(result.t)))
            continue
        u = numbers.put(result.u) if result.parts else None
        gaps = None if result.rows is None else numbers.put_if_any(result.rows.gap_before)
        places = numbers.put(result.t), numbers.put(result.values), u, numbers.put_if_any(result.guess), gaps
        results.append((name, result.unit, *places))
    return block, results, piece.sparse


def unpacked_news(told: tuple[Any, ...], numbers: Floats) -> News:
    what, pieces, names = told
    return News(what, [_piece(each, numbers) for each in pieces], names)


def _piece(told: tuple[Any, ...], numbers: Floats) -> Unplaced:
    block, results, sparse = told
    if block is not None:
        (low, high), gaps, channels = block
        block = Block(
            numbers[low:high], NO_FLOATS, NO_FLOATS, NO_INTS, _bools(gaps, numbers, high - low),
            {name: numbers[place[0] : place[1]] for name, place in channels}, NO_FLOATS,
        )  # fmt: skip
    return Unplaced(block, {each[0]: _result(each, numbers) for each in results}, sparse)


def _result(told: tuple[Any, ...], numbers: Floats) -> Series | Events:
    if len(told) == 2:
        low, high = told[1]
        return Events(numbers[low:high], _bools(None, numbers, high - low))
    _, unit, (low, high), (first, end), u, guess, gaps = told
    return Series(
        numbers[low:high], numbers[first:end], unit, {} if u is None else {ALL: numbers[u[0] : u[1]]},
        None if guess is None else _bools(guess, numbers, high - low),
        rows=None if gaps is None else Rows(_bools(gaps, numbers, high - low), NO_FLOATS, NONE_MISSING[:0]),
    )  # fmt: skip


def _bools(place: Place | None, numbers: Floats, size: int) -> Bools:
    if place is not None:
        return numbers[place[0] : place[1]] > 0
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


def packed_pieces(pieces: Sequence[Any]) -> list[Any]:
    """Of a tape."""
    return [_packed_lines(each) if isinstance(each, Piece) else each for each in pieces]


def _packed_lines(piece: Piece) -> PackedPiece:
    lines = piece.lines
    starts, ends = (np.ascontiguousarray(each, np.int64).tobytes() for each in (lines.starts, lines.ends))
    stamps = np.ascontiguousarray(lines.stamps, np.float64).tobytes()
    return PackedPiece(lines.data, starts, ends, stamps, lines.first, piece.own)
