"""From a quantity over a span to one number with its uncertainty and what that is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Bools, Events, Floats, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.trouble import FindingTrouble
from common_bench.model.uncertainty import combined
from common_bench.model.units import conversion
from common_bench.workings.peaks import CLOCK_RATE, apart
from common_bench.workings.repeated import Mean, PaceOfGaps, mean_of_gaps, mean_of_readings
from common_bench.workings.tops import top_of

LEAST_LIKENESS = 8  # readings, from which their own scatter and likeness say more than what is stated of them


class Note(NamedTuple):
    """What is to be told with a number, as a code with what belongs to it."""

    code: str
    size: float = 0.0
    name: str = ""


class MadeBy(NamedTuple):
    """Which readings, or events, an independent share of a number is made by: what they are readings of, their times (n,) in s, and
    by how much each moves the number, beside the others."""

    of: str
    t: Floats
    weights: Floats


@dataclass(frozen=True)
class NumberOf:
    """A single number; parts: source -> signed standard uncertainty in `unit`; n: values it comes from;
    guesses: how many of them lie outside a calibration; notes: what is to be told with it; reach: of its parts those that are known to be
    made by single readings, until they are told apart."""

    value: float
    unit: str = ""
    parts: Mapping[Source, float] = field(default_factory=dict)
    n: int = 1
    guesses: int = 0
    notes: tuple[Note, ...] = ()
    reach: Mapping[Source, MadeBy] = field(default_factory=dict)

    @property
    def u(self) -> float:
        return combined(self.parts)[0]

    @property
    def measured(self) -> Measured:
        u, dof = combined(self.parts)
        return Measured(self.value, u, self.unit, dof)

    def to(self, unit: str) -> NumberOf:
        factor, offset = conversion(self.unit, unit)
        parts = {s: share * factor for s, share in self.parts.items()}
        return replace(self, value=self.value * factor + offset, unit=unit, parts=parts)


def reached(parts: Mapping[Source, float], of: str, t: Floats, weights: Floats | None = None) -> dict[Source, MadeBy]:
    """Of all parts that are independent from reading to reading. weights: None where all readings count alike."""
    made_by = MadeBy(of, t, np.ones(len(t)) if weights is None else weights)
    return {source: made_by for source in parts if not source.common}


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
    when = float(events.t[at])
    shares = {
        _of_one(s, f"event {at} of {name}"): float(share[at]) * (when if s == CLOCK_RATE else 1.0)
        for s, share in events.parts.items()
    }
    return NumberOf(when, "s", shares, reach=reached(shares, name, events.t[chosen[:1]]))


def _of_one(source: Source, which: str) -> Source:
    """The source of one reading or event alone, where it is independent from one to the next."""
    return source if source.common else Source(source.name, False, f"{source.which} of {which}", source.dof)


def _number_over(word: str, value: Series | Events | NumberOf, span: tuple[float, float], name: str) -> NumberOf:
    if isinstance(value, Events):
        return _of_events(word, value, span, name)
    assert isinstance(value, Series)
    chosen = np.flatnonzero(inside(value.t, value.began, value.values, span))
    n = len(chosen)
    if n < (2 if word == "scatter" else 1):
        raise FindingTrouble("no-value-in-span", word=word)
    over = _Over(
        name, value.t[chosen], value.values[chosen], value.since[chosen] if value.since is not None else None,
        {source: share[chosen] for source, share in value.parts.items()}, (int(chosen[0]), int(chosen[-1])),
    )  # fmt: skip
    if word == "mean":
        found = over.mean()
    elif word == "median":
        found = over.median()
    elif word == "scatter":
        found = over.scatter()
    elif word in ("largest", "smallest"):
        found = over.extreme(1.0 if word == "largest" else -1.0)
    else:
        found = over.one(0 if word == "first" else n - 1)
    return replace(found, unit=value.unit, n=n)


def _of_events(word: str, events: Events, span: tuple[float, float], name: str) -> NumberOf:
    chosen = np.flatnonzero((events.t >= span[0]) & (events.t <= span[1]))
    if word == "count":
        return NumberOf(float(len(chosen)), "", {}, len(events))
    t, fresh = events.t[chosen], events.fresh[chosen]
    first, *later = np.split(np.diff(t), np.flatnonzero(fresh[1:]))
    chains = [chain for chain in (first, *(each[1:] for each in later)) if len(chain)]
    if not chains:
        raise FindingTrouble("no-value-in-span", word=word)
    pace = mean_of_gaps(chains)
    gap = pace.mean.value
    parts = {Source("scatter of the pace", False, name, pace.mean.dof): pace.mean.u / gap**2}
    for source, share in events.parts.items():
        if source.common and len(t) > 1:
            lasted = t[-1:] - t[:1]
            moved = apart(source, share[chosen[:1]], share[chosen[-1:]], lasted)
            parts[source] = -float(moved[0] / lasted[0]) / gap
    found = _known(parts)
    return NumberOf(1.0 / gap, "Hz", found, len(t), notes=_changes(pace), reach=reached(found, name, t))


def _changes(pace: PaceOfGaps) -> tuple[Note, ...]:
    return (Note("pace-changes"),) if pace.changes else ()


def _known(parts: Mapping[Source, float]) -> dict[Source, float]:
    """What has no finite size, as the scatter of a single value, is of unknown size."""
    return {s if np.isfinite(u) else s._replace(dof=0.0): u if np.isfinite(u) else 1.0 for s, u in parts.items()}


@dataclass(frozen=True)
class _Over:
    """The values of one quantity in a span; since: when those at events began; places: of the first and last in all."""

    name: str
    t: Floats
    values: Floats
    since: Floats | None
    parts: Mapping[Source, Floats]
    places: tuple[int, int]

    def one(self, at: int) -> NumberOf:
        """A single one of the values."""
        place = f"{'event of ' + self.name if self.since is not None else 'reading'} {self.places[0] + at}"
        parts = {_of_one(source, place): float(share[at]) for source, share in self.parts.items()}
        if not parts:
            parts = {Source(f"uncertainty of {self.name}", False, place, 0.0): 1.0}
        return self._number(float(self.values[at]), parts, self.t[at : at + 1])

    def _number(
        self, value: float, parts: dict[Source, float], t: Floats, weights: Floats | None = None, notes: tuple[Note, ...] = (),
    ) -> NumberOf:  # fmt: skip
        """t, weights: of the readings that make what is independent in it."""
        return NumberOf(value, "", parts, notes=notes, reach=reached(parts, self.name, t, weights))

    def mean(self) -> NumberOf:
        """Common sources keep their size in a mean; what is independent is taken from the scatter of the values."""
        found, notes = self._mean()
        parts = {s: float(np.mean(share)) for s, share in self.parts.items() if s.common}
        return self._number(found.value, parts | self._scatter(found, "scatter of the mean"), self.t, notes=notes)

    def median(self) -> NumberOf:
        """Of values that scatter as noise does, a median is less sure than their mean by the root of π/2."""
        found, notes = self._mean()
        parts = {s: float(np.median(share)) for s, share in self.parts.items() if s.common}
        own = self._scatter(found._replace(u=found.u * (np.pi / 2) ** 0.5), "scatter of the median")
        return self._number(float(np.median(self.values)), parts | own, self.t, notes=notes)

    def scatter(self) -> NumberOf:
        size = float(np.std(self.values, ddof=1))
        dof = max(1.0, self._mean()[0].independent - 1.0)
        source = Source("scatter of the scatter", False, self.name, dof)
        return self._number(size, {source: size / (2 * dof) ** 0.5}, self.t)

    def extreme(self, sign: float) -> NumberOf:
        """The top of the curve through the readings about the outermost one, which itself lies too far out where they
        scatter. Of values at events, the outermost."""
        at = int(np.argmax(sign * self.values))
        if self.since is not None or len(self.values) < LEAST_LIKENESS:
            return self.one(at)
        top = top_of(self.t, sign * self.values, at, best="value")
        stated, _ = combined({s: float(share[at]) for s, share in self.parts.items() if not s.common})
        if not top.u_value > (stated / len(self.values) ** 0.5 if stated > 0 else 0.0):
            return self.one(at)
        parts = {s: float(share[at]) for s, share in self.parts.items() if s.common}
        own = {Source(f"scatter about the {'largest' if sign > 0 else 'smallest'}", False, self.name): top.u_value}
        return self._number(sign * top.value, parts | own, self.t[at : at + 1])

    def _mean(self) -> tuple[Mean, tuple[Note, ...]]:
        n = len(self.values)
        if self.since is None:
            found = mean_of_readings(self.values) if n > 1 else Mean(float(self.values[0]), 0.0, 0.0, 1.0)
            alike = n >= LEAST_LIKENESS and found.independent < n / 2
            return found, (Note("alike", found.independent),) if alike else ()
        follows = self.since[1:] == self.t[:-1]
        if n < 2 or not follows.any():
            u = float(np.std(self.values, ddof=1)) / n**0.5 if n > 1 else 0.0
            return Mean(float(np.mean(self.values)), u, n - 1.0, float(n)), ()
        pace = mean_of_gaps(np.split(self.values, np.flatnonzero(~follows) + 1))
        return pace.mean, _changes(pace)

    def _scatter(self, found: Mean, name: str) -> dict[Source, float]:
        """What is independent from one value to the next in their mean: as they scatter, for readings at least as
        their own uncertainties say, which is all that few of them have; unknown where nothing tells."""
        stated = {
            Source(s.name, False, f"{s.which} of {self.name}", s.dof): float(np.sqrt(np.sum(share**2)))
            / len(self.values)
            for s, share in self.parts.items()
            if not s.common
        }
        size = combined(stated)[0]
        if len(self.values) == 1 or (self.since is None and size > found.u):
            return stated or {Source(name, False, self.name, 0.0): 1.0}
        return _known({Source(name, False, self.name, found.dof): found.u})
