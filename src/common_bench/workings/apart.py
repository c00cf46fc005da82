"""What is independent in numbers over several spans of one run: told apart where the spans lie apart, and one where they overlap."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace
from itertools import pairwise

from common_bench.model.block import Source
from common_bench.workings.spans import NumberOf

Stretch = tuple[float, float]
MEANS = ("mean", "median")  # forms whose scatter is that of all readings alike


class Apart:
    """Guarantees that two means over spans that overlap are alike by the readings that both have: the scatter of a mean is that of its
    readings, so that its square is parted among them by how long each piece of the span is, and a piece is the same in both."""

    def __init__(self, spans: Iterable[Stretch]) -> None:
        """spans: all that numbers are taken over, s."""
        known = {span for span in spans if math.isfinite(span[1] - span[0]) and span[1] > span[0]}
        self._edges = sorted({edge for span in known for edge in span}) if len(known) > 1 else []
        self._pieces: dict[tuple[str, int | str, int], Source] = {}

    def told(self, number: NumberOf, span: Stretch, tag: str, form: str = "") -> NumberOf:
        """A number over a span with shares that are told from those over others. tag: what the span is called; form: by which the number
        comes about."""
        parts: dict[Source, float] = {}
        pieces = form in MEANS and span[0] in self._edges and span[1] in self._edges
        for source, u in number.parts.items():
            if source.common:
                parts[source] = u
            elif pieces and source.dof > 0:
                parts |= self._parted(source, u, span)
            else:
                parts[source._replace(which=f"{source.which} during {tag}") if tag else source] = u
        return replace(number, parts=parts)

    def _parted(self, source: Source, u: float, span: Stretch) -> dict[Source, float]:
        found = {}
        for place, (low, high) in enumerate(pairwise(self._edges)):
            if span[0] <= low and high <= span[1]:
                share = (high - low) / (span[1] - span[0])
                own = source._replace(which=f"{source.which} in piece {place}", dof=source.dof * share)
                found[self._pieces.setdefault((source.name, source.which, place), own)] = u * math.sqrt(share)
        return found
