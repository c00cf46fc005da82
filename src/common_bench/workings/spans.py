"""From a quantity over a span to one number with its uncertainty and what that is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from common_bench.model.block import Bools, Events, Floats, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.trouble import FindingTrouble
from common_bench.model.units import conversion


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


def number_over(word: str, value: Series | Events | NumberOf, span: tuple[float, float]) -> NumberOf:
    """`mean of X` and its kin over a span. Raises FindingTrouble where the span holds too little."""
    found = _number_over(word, value, span)
    if isinstance(value, Series) and value.guess is not None:
        chosen = inside(value.t, value.began, value.values, span)
        return replace(found, guesses=int(np.count_nonzero(value.guess[chosen])))
    return found


def time_of_first(events: Series | Events, span: tuple[float, float], way: str) -> NumberOf:
    """When the first of some events in a span happened, in s since the run began. Raises FindingTrouble where none did."""
    assert isinstance(events, Events)
    chosen = np.flatnonzero((events.t >= span[0]) & (events.t <= span[1]))
    if not len(chosen):
        raise FindingTrouble("never-in-span", way=way)
    at = int(chosen[0])
    return NumberOf(float(events.t[at]), "s", {s: float(share[at]) for s, share in events.parts.items()})


def _number_over(word: str, value: Series | Events | NumberOf, span: tuple[float, float]) -> NumberOf:
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
    at_events = value.since is not None
    if word == "mean":
        return NumberOf(
            float(np.mean(values)), value.unit, _mean_parts(values, parts, at_events, "scatter of the mean"), n
        )
    if word == "scatter":
        scatter = float(np.std(values, ddof=1))
        return NumberOf(
            scatter, value.unit, {Source("scatter of the scatter", False): scatter / (2 * (n - 1)) ** 0.5}, n
        )
    if word == "median":
        shares = _mean_parts(values, parts, at_events, "scatter of the median")
        grown = {s: share if s.common else share * (np.pi / 2) ** 0.5 for s, share in shares.items()}
        return NumberOf(float(np.median(values)), value.unit, grown, n)
    at = {"largest": int(np.argmax(values)), "smallest": int(np.argmin(values)), "first": 0, "last": n - 1}[word]
    return NumberOf(float(values[at]), value.unit, {s: float(share[at]) for s, share in parts.items()}, n)


def _mean_parts(values: Floats, parts: Mapping[Source, Floats], repeated: bool, name: str) -> dict[Source, float]:
    """Common sources keep their size in a mean. Values at events are repeated observations of one
    quantity, whose scatter shows all that is independent (Type A, JCGM 100, 4.2.3); for readings over
    time, which may truly change, the independent sources are averaged instead."""
    n = len(values)
    shares = {s: float(np.mean(share)) for s, share in parts.items() if s.common}
    if repeated and n >= 2:
        shares[Source(name, False)] = float(np.std(values, ddof=1)) / n**0.5
    else:
        for source, share in parts.items():
            if not source.common:
                shares[source] = float(np.sqrt(np.sum(share**2))) / n
    return shares
