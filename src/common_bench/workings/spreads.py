"""Which readings' errors each value holds, once a form over several readings has mixed them: so that a form of such a form
counts no error twice and takes none for independent that is not.

A value of a smoothed quantity holds the errors of the readings about it, with the weights of the window; its neighbour holds
most of the same ones. Two shares tell of each source of single readings: its own, of the reading itself, and that of the
others, with their weights (`Spread`). What a second window makes of both is the first one's weights folded with its own.
Weights are those of the first whole window, at even distances.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats, Series, Source, Spread

Roots = dict[Source, list[Source]]
"""source of single readings -> the sources that hold the same errors, spread over several values"""


def roots_of(series: Series) -> Roots:
    """Of all that is independent from reading to reading; what is spread stands with its source."""
    found: Roots = {s: [] for s in series.parts if not s.common and s not in series.spreads}
    for source, spread in series.spreads.items():
        if source in series.parts:
            found.setdefault(spread.of, []).append(source)
    return found


def weights_of(series: Series, source: Source) -> Floats:
    return np.array(series.spreads[source].weights)


class Folded(NamedTuple):
    """What a window makes of a source: (n,) the reading's own share, and that of the others, with their spread."""

    own: Floats
    others: Floats
    spread: Spread


class Fold:
    """A window of weights p over a quantity whose values hold spread errors already, for one source of single readings."""

    def __init__(self, window: Floats, spread: list[Floats]) -> None:
        """window: (2 k + 1,), its own reading in the middle; spread: the weights of each share that is spread."""
        folded = [window, *(np.convolve(window, each) for each in spread)]
        length = max(map(len, folded))
        self._all = np.array([np.pad(each, (length - len(each)) // 2) for each in folded])
        self._squares = self._all @ self._all.T
        self._middle = self._all[:, length // 2]

    def of(self, sizes: Floats) -> tuple[Floats, Floats]:
        """sizes: (1 + s, n) signed shares, the own one first, as the window takes them in -> (n,) the share of the value's own
        reading in what comes out, and the variance of all."""
        own = self._middle @ sizes
        return own, np.maximum(np.einsum("in,ij,jn->n", sizes, self._squares, sizes), 0.0)

    def weights(self, sizes: Floats) -> Floats:
        """(1 + s,) shares at one value -> the weights in what comes out."""
        found: Floats = sizes @ self._all
        return found


def spread_from(source: Source, weights: Floats) -> Spread:
    """Of the other readings, weights in the value with its own in the middle."""
    others = weights.copy()
    others[len(others) // 2] = 0.0
    size = float(np.sqrt(others @ others))
    return Spread(source, tuple((others / size).tolist()) if size > 0 else (0.0,))


def in_long_sums(series: Series, source: Source, spread: list[Source]) -> Floats:
    """(n,) what an error of one reading moves a sum over many values by, per value: its own share and those of all others
    that hold it."""
    found = series.parts.get(source, np.zeros(len(series))).copy()
    for each in spread:
        found += float(weights_of(series, each).sum()) * series.parts[each]
    return found


def scatter_of(series: Series) -> Floats:
    """(n,) what single readings scatter whose errors neighbouring values have in common, as it is seen over times longer than
    those; 0 where they have none in common, and their scatter is seen from one to the next."""
    squares = np.zeros(len(series))
    if series.spreads:
        for source, spread in roots_of(series).items():
            squares += in_long_sums(series, source, spread) ** 2 if spread else series.parts[source] ** 2
    return np.sqrt(squares)


def at_ends(series: Series, source: Source, spread: list[Source]) -> Floats:
    """(n,) what the ends of a long sum of such values add to its variance, per square of the distance of values: readings
    near an end are held by fewer values, and some beyond it are held too."""
    sizes, weights = _each(series, source, spread)
    held = np.cumsum(weights, axis=1)  # by the values up to the end, of the readings from far beyond it to far within
    within = len(held[0]) - len(held[0]) // 2
    squares = held @ held.T - within * np.outer(held[:, -1], held[:, -1])
    found: Floats = 2 * np.einsum("in,ij,jn->n", sizes, squares, sizes)
    return found


def next_alike(series: Series, source: Source, spread: list[Source], row: int) -> float:
    """How much a value's error from this source resembles its neighbour's, as a correlation."""
    sizes, weights = _each(series, source, spread)
    whole = sizes[:, row] @ weights
    size = float(whole @ whole)
    return float(whole[1:] @ whole[:-1]) / size if size > 0 else 0.0


def whole_spread(series: Series, source: Source, spread: list[Source], row: int) -> Spread:
    """Of all that one value holds of a source, its own reading among it."""
    sizes, weights = _each(series, source, spread)
    whole = sizes[:, row] @ weights
    size = float(np.sqrt(whole @ whole))
    return Spread(source, tuple((whole / size).tolist()) if size > 0 else (0.0,))


def _each(series: Series, source: Source, spread: list[Source]) -> tuple[Floats, Floats]:
    """(1 + s, n) shares, the own one first, and the weights (1 + s, m) of the readings that each holds."""
    none = np.zeros(len(series))
    sizes = np.array([series.parts.get(source, none), *(series.parts[each] for each in spread)])
    its = [np.ones(1), *(weights_of(series, each) for each in spread)]
    length = max(map(len, its))
    return sizes, np.array([np.pad(each, (length - len(each)) // 2) for each in its])
