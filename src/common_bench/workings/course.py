"""What is known of a quantity's readings whoever asks: where it has no value for longer than it usually has, a gap like one
without lines; which readings belong together; what they scatter. Pieces of the quantity in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from common_bench.model.block import NO_FLOATS, Bools, Floats, Ints, Rows, Series, joined
from common_bench.workings.loops import FIRST_KNOWN, KNOWN, STEPS, USUAL, WANTED, absent, stretches_of
from common_bench.workings.noise import NoiseSoFar


@dataclass
class Hold:
    """From which reading on, counted from the first, somebody needs them; scatter: with what they scatter."""

    start: int
    scatter: bool


class Course:
    """Looks at each piece once, so that several forms of one quantity share what is found. What it finds depends on the
    values alone, not on how they were cut into pieces: it knows how many rows there usually are from one value to the next,
    as 1, or 10 for a slow column among faster ones."""

    def __init__(self) -> None:
        self._state = np.zeros(STEPS + KNOWN)
        self._state[USUAL], self._state[WANTED] = np.nan, FIRST_KNOWN
        self._run = np.array([0.0, np.nan])  # the stretch under way, and when it had its first value
        self._noise = NoiseSoFar()
        self._piece: Series | None = None
        self._gaps: Bools = np.empty(0, bool)
        self._stretches: Ints = np.empty(0, np.int64)
        self._begins: Floats = NO_FLOATS
        self._holds: list[Hold] = []
        self._start = 0  # the first reading that is held
        self._held_to: Series | None = None  # the last piece that is held
        self._held: tuple[Series, Ints, Floats, tuple[Floats, Floats]] | None = None

    def _look(self, piece: Series) -> None:
        if piece is self._piece:
            return
        assert piece.rows is not None
        self._piece = piece
        self._gaps = absent(piece.values, piece.rows.gap_before, self._state)
        self._stretches, self._begins = stretches_of(piece.t, piece.values, self._gaps, self._run)

    def gaps(self, piece: Series) -> Bools:
        """(n,) whether something is missing before a reading: a line, or too many values."""
        self._look(piece)
        return self._gaps

    def rows(self, piece: Series) -> Rows:
        """What is known of the readings, with all gaps."""
        rows = piece.rows
        assert rows is not None
        if piece.edges:  # it has a value only where it changes
            return rows
        return Rows(self.gaps(piece), rows.clock_u, rows.clocked, rows.clock_step, rows.there)

    @property
    def stretch(self) -> int:
        """The number of the stretch under way."""
        return int(self._run[0])

    def hold(self, *, scatter: bool) -> Hold:
        """Has readings held, all from the next piece that is asked for, until its `start` is moved on."""
        return Hold(-1, scatter)

    def held(self, piece: Series, hold: Hold) -> tuple[Series, Ints, Floats, tuple[Floats, Floats]]:
        """The readings from `hold.start` to the end of this piece; (n,) which belong together, no gap between two of one
        number; s, when the first value of each one's stretch came, nan before it; and how much they scatter about their
        course and resemble their neighbours, as far as those before tell it, 0 before, or nothing where nobody asked."""
        if piece is not self._held_to:
            self._take(piece)
        assert self._held is not None
        series, stretches, begins, noise = self._held
        if hold.start < 0:
            hold.start = self._start + len(series) - len(piece)
            self._holds.append(hold)
        if hold.scatter and len(noise[0]) < len(series):  # the first that asks for it
            before = np.zeros(len(series) - len(piece))
            sigma, alike = (np.concatenate([before, each]) for each in self._noise_of(piece))
            noise = sigma, alike
            self._held = series, stretches, begins, noise
        low = hold.start - self._start
        if not low:
            return self._held
        return series.part(low, len(series)), stretches[low:], begins[low:], (noise[0][low:], noise[1][low:])

    def _take(self, piece: Series) -> None:
        self._look(piece)
        noise = self._noise_of(piece) if any(each.scatter for each in self._holds) else (NO_FLOATS, NO_FLOATS)
        held, self._held_to = self._held, piece
        end = self._start + (0 if held is None else len(held[0]))
        start = min((each.start for each in self._holds), default=end)
        if held is None or start >= end:
            self._start, self._held = end, (piece, self._stretches, self._begins, noise)
            return
        cut = slice(start - self._start, None)
        sigma, alike = (np.concatenate([one[cut], other]) for one, other in zip(held[3], noise, strict=True))
        self._start, self._held = start, (
            joined([held[0].part(cut.start, len(held[0])), piece]),
            np.concatenate([held[1][cut], self._stretches]),
            np.concatenate([held[2][cut], self._begins]),
            (sigma, alike),
        )  # fmt: skip

    def _noise_of(self, piece: Series) -> tuple[Floats, Floats]:
        known = np.isfinite(piece.values)
        if known.all():
            return self._noise.add(piece.values, self._stretches)
        noise = np.zeros(len(piece)), np.zeros(len(piece))
        told = self._noise.add(piece.values[known], self._stretches[known])
        noise[0][known], noise[1][known] = told
        return noise
