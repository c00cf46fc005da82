"""From a quantity over a span to one number with its uncertainty and what that is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Bools, Events, Floats, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.trouble import FindingTrouble
from common_bench.model.units import conversion

LEAST_CHAINED = 4  # gaps, from which their correlation says anything


@dataclass(frozen=True)
class NumberOf:
    """A single number; parts: source -> signed standard uncertainty in `unit`; n: values it comes from;
    guesses: how many of them lie outside a calibration."""

    value: float
    unit: str = ""
    parts: Mapping[Source, float] = field(default_factory=dict)
    n: int = 1
    guesses: int = 0

    @property
    def u(self) -> float:
        return float(np.sqrt(sum(share * share for share in self.parts.values())))

    @property
    def measured(self) -> Measured:
        return Measured(self.value, self.u, self.unit)

    def to(self, unit: str) -> NumberOf:
        factor, offset = conversion(self.unit, unit)
        return NumberOf(
            self.value * factor + offset, unit, {s: share * factor for s, share in self.parts.items()}, self.n,
            self.guesses,
        )  # fmt: skip


def inside(t: Floats, began: Floats, values: Floats, span: tuple[float, float]) -> Bools:
    """(n,) which values lie in the span with all that they speak of, and are known."""
    return np.asarray((began >= span[0]) & (t <= span[1]) & np.isfinite(values))


def number_over(word: str, value: Series | Events | NumberOf, span: tuple[float, float], name: str = "") -> NumberOf:
    """`mean of X` and its kin over a span. name: of X, by which its own scatter is told from that of others. Raises
    FindingTrouble where the span holds too little."""
    found = _number_over(word, value, span, name)
    if isinstance(value, Series) and value.guess is not None:
        chosen = inside(value.t, value.began, value.values, span)
        return replace(found, guesses=int(np.count_nonzero(value.guess[chosen])))
    return found


def time_of_first(events: Series | Events, span: tuple[float, float], way: str, name: str = "") -> NumberOf:
    """When the first of some events in a span happened, in s since the run began. name: of the events. Raises
    FindingTrouble where none did."""
    assert isinstance(events, Events)
    chosen = np.flatnonzero((events.t >= span[0]) & (events.t <= span[1]))
    if not len(chosen):
        raise FindingTrouble("never-in-span", way=way)
    at = int(chosen[0])
    shares = {_of_one(s, f"event {at} of {name}"): float(share[at]) for s, share in events.parts.items()}
    return NumberOf(float(events.t[at]), "s", shares)


def _of_one(source: Source, which: str) -> Source:
    """The source of one reading or event alone, where it is independent from one to the next."""
    return source if source.common else Source(source.name, False, f"{source.which} of {which}")


def _number_over(word: str, value: Series | Events | NumberOf, span: tuple[float, float], name: str) -> NumberOf:
    if isinstance(value, Events):
        return NumberOf(float(np.count_nonzero((value.t >= span[0]) & (value.t <= span[1]))), "", {}, len(value))
    assert isinstance(value, Series)
    chosen = inside(value.t, value.began, value.values, span)
    values = value.values[chosen]
    n = len(values)
    least = 2 if word == "scatter" else 1
    if n < least:
        raise FindingTrouble("no-value-in-span", word=word)
    parts = {source: share[chosen] for source, share in value.parts.items()}
    places = np.flatnonzero(chosen)
    of = f"{name} {places[0]} to {places[-1]}" if value.since is not None else f"readings {places[0]} to {places[-1]}"
    repeated = Repeated(value.t[chosen], value.since[chosen]) if value.since is not None else None
    if word == "mean":
        found = _mean_parts(values, parts, repeated, Source("scatter of the mean", False, name), of)
        return NumberOf(float(np.mean(values)), value.unit, found, n)
    if word == "scatter":
        scatter = float(np.std(values, ddof=1))
        source = Source("scatter of the scatter", False, name)
        return NumberOf(scatter, value.unit, {source: scatter / (2 * (n - 1)) ** 0.5}, n)
    if word == "median":
        shares = _mean_parts(values, parts, repeated, Source("scatter of the median", False, name), of)
        grown = {s: share if s.common else share * (np.pi / 2) ** 0.5 for s, share in shares.items()}
        return NumberOf(float(np.median(values)), value.unit, grown, n)
    at = {"largest": int(np.argmax(values)), "smallest": int(np.argmin(values)), "first": 0, "last": n - 1}[word]
    one = f"{'event of ' + name if value.since is not None else 'reading'} {places[at]}"
    return NumberOf(float(values[at]), value.unit, {_of_one(s, one): float(share[at]) for s, share in parts.items()}, n)


class Repeated(NamedTuple):
    """When values at events ended and began, (n,) s each."""

    t: Floats
    since: Floats

    @property
    def share_events(self) -> bool:
        """Whether each begins with the event with which the one before ended, as gaps between events do."""
        return len(self.t) >= 2 and bool((self.since[1:] == self.t[:-1]).all())


def _mean_parts(
    values: Floats, parts: Mapping[Source, Floats], repeated: Repeated | None, scatter: Source, of: str
) -> dict[Source, float]:
    """Common sources keep their size in a mean. Values at events are repeated observations of one
    quantity, whose scatter shows all that is independent (Type A, JCGM 100, 4.2.3); for readings over
    time, which may truly change, the independent sources are averaged instead. of: which readings these are."""
    n = len(values)
    shares = {s: float(np.mean(share)) for s, share in parts.items() if s.common}
    if repeated is not None and n >= 2:
        shares[scatter] = float(np.std(values, ddof=1)) / n**0.5
        if repeated.share_events and n >= LEAST_CHAINED:
            shares[scatter] *= _shrunk(values)
    else:
        for source, share in parts.items():
            if not source.common:
                which = Source(source.name, False, f"{source.which} of {of}")
                shares[which] = float(np.sqrt(np.sum(share**2))) / n
    return shares


def _shrunk(gaps: Floats) -> float:
    """By which factor the mean of neighbouring gaps is better known than their scatter / √n says.

    The errors of events cancel between neighbours, so that a gap that is too long follows one that is too short
    (JCGM 100, 5.2.2 eq. 13; Box, Jenkins, Reinsel, Time Series Analysis, 2.1.6): var(mean) = s²/n (1 + 2 (1 - 1/n) ρ) with
    the correlation ρ of neighbours, -1/2 where events alone scatter and 0 where the pace itself does. ρ is estimated from
    few values; half a standard deviation (1/√n) is added to it, so that intervals hold the truth at least as often as
    they say, whichever of both scatters.
    """
    n, off = len(gaps), gaps - gaps.mean()
    squares = float(off @ off)
    if squares == 0.0:
        return 1.0
    seen = float(off[1:] @ off[:-1]) / squares
    correlation = min(max(0.0, seen), max(-0.5, seen + 1.0 / n + 0.5 / n**0.5))
    return float(np.sqrt(max(1.0 + 2.0 * (1.0 - 1.0 / n) * correlation, 1.0 / n)))
