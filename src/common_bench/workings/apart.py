"""What is independent in numbers over several spans of one run: told apart where the spans lie apart, and one where they overlap."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats, Ints, Source
from common_bench.model.uncertainty import combined
from common_bench.workings.spans import MadeBy, NumberOf

Stretch = tuple[float, float]
NOTHING_LEFT = 1e-6  # of what readings do to a number, below which nothing of it is its own


class _Way(NamedTuple):
    """One of the ways in which the readings of a piece move numbers: its source, and what each reading at t (n,) counts in it; squares add up to 1."""

    source: Source
    t: Floats
    weights: Floats


class Apart:
    """Guarantees that two numbers over spans that overlap are alike by what the readings that both have do to each of them: neither as
    unsure as if they were independent, nor surer than they are.

    What readings do to a number (`MadeBy`) is parted by the edges of all spans, and within each piece into what earlier numbers had in the same
    proportions and what is new (Gram, Schmidt). The squares of the parts are those of the whole.
    """

    def __init__(self, spans: Iterable[Stretch]) -> None:
        """spans: all that numbers are taken over, s."""
        known = {span for span in spans if math.isfinite(span[1] - span[0]) and span[1] > span[0]}
        self._edges = np.array(sorted({edge for span in known for edge in span}) if len(known) > 1 else [])
        self._ways: dict[tuple[str, str, int], list[_Way]] = {}

    def told(self, number: NumberOf, tag: str, form: str) -> NumberOf:
        """A number over a span with shares that are told from those over others. tag: what the span is called; form: by which
        it comes about; numbers by different ones are taken as independent. Shares that the same
        readings make in the same way become one, called by the largest: another number may have its own from how readings scatter."""
        parts: dict[Source, float] = {}
        together: dict[int, dict[Source, float]] = {}
        reaches: dict[int, MadeBy] = {}
        for source, u in number.parts.items():
            reach = number.reach.get(source)
            if source.common:
                parts[source] = u
            elif reach is not None and len(self._edges) and source.dof > 0:
                reaches[id(reach)] = reach
                together.setdefault(id(reach), {})[source] = u
            else:
                parts[source._replace(which=f"{source.which} during {tag}") if tag else source] = u
        for key, shares in together.items():
            size, dof = combined(shares) if len(shares) > 1 else next((u, s.dof) for s, u in shares.items())
            largest = max(shares, key=lambda source: abs(shares[source]))._replace(dof=dof)
            for own, share in self._parted(largest, form, reaches[key]):
                parts[own] = parts.get(own, 0.0) + size * share
        return replace(number, parts=parts, reach={})

    def _parted(self, source: Source, form: str, reach: MadeBy) -> list[tuple[Source, float]]:
        size = float(np.sqrt(reach.weights @ reach.weights))
        pieces: Ints = np.searchsorted(self._edges, reach.t, side="right")
        found = []
        for piece in np.unique(pieces).tolist():
            rows = pieces == piece
            t, left = reach.t[rows], reach.weights[rows] / size
            ways = self._ways.setdefault((form, reach.of, piece), [])
            for way in ways:
                also = way.weights if np.array_equal(t, way.t) else _at(t, way)
                share = float(left @ also)
                if share:
                    left -= share * also
                    found.append((way.source, share))
            own = float(np.sqrt(left @ left))
            if own > NOTHING_LEFT:
                new = source._replace(which=f"{source.which} in piece {piece}, {len(ways)}", dof=source.dof * own**2)
                ways.append(_Way(new, t, left / own))
                found.append((new, own))
        return found


def _at(t: Floats, way: _Way) -> Floats:
    """What readings at t count in a way; those that it has not count nothing."""
    found = np.zeros(len(t))
    _, ours, its = np.intersect1d(t, way.t, assume_unique=True, return_indices=True)
    found[ours] = way.weights[its]
    return found
