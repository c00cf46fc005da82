"""A run that was taken point by point: the mean of each quantity while all stood still, and what the plan's lines make of the
points. A run and where its points lie in; results over the points and findings out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from common_bench.model.block import Block, Events, Floats, Series, Source
from common_bench.model.measured import Measured
from common_bench.model.run import Finding, TakenPoint
from common_bench.model.trouble import FindingTrouble
from common_bench.workings.evaluate import Evaluator, Workings, gathered
from common_bench.workings.spans import NumberOf, number_over
from common_bench.workup.findings import findings_of

LEAST = 2  # points that a line can be drawn through


@dataclass(frozen=True)
class OverPoints:
    """results: line -> its values at the points, in the order in which these were taken; t (n,) s, when."""

    t: Floats
    results: dict[str, Series | Events]


def counted(points: Sequence[TakenPoint]) -> list[TakenPoint]:
    """Those that count, in order."""
    return sorted((each for each in points if not each.aside), key=lambda each: each.t_to)


def means_of(
    results: Mapping[str, Series | Events], quantities: Mapping[str, str], points: Sequence[TakenPoint]
) -> dict[str, Series]:
    """results: of the run, by line; quantities: channel -> its quantity. Gives channel -> the mean of its quantity at each
    point, nan where there is none. What is common to all readings stays common to all points (JCGM 100, F.1.2.3); the rest
    is each point's own."""
    found = {}
    for channel, name in quantities.items():
        series = results.get(name)
        if isinstance(series, Series):
            found[channel] = _series([_mean(series, each, name) for each in points], points, series.unit, name)
    return found


def _mean(series: Series, point: TakenPoint, name: str) -> NumberOf | None:
    try:
        return number_over("mean", series, (point.t_from, point.t_to), f"{name} at point {point.id}")
    except FindingTrouble:
        return None


def _series(means: Sequence[NumberOf | None], points: Sequence[TakenPoint], unit: str, name: str) -> Series:
    t = np.array([each.t_to for each in points])
    values = np.array([np.nan if each is None else each.value for each in means])
    parts: dict[Source, Floats] = {}
    for at, each in enumerate(means):
        own = 0.0
        for source, share in each.parts.items() if each is not None else ():
            if source.common:
                parts.setdefault(source, np.zeros(len(points)))[at] = share
            elif source.dof > 0:
                own += share * share
        parts.setdefault(Source(f"scatter of {name} at each point", False), np.zeros(len(points)))[at] = own**0.5
    return Series(t, values, unit, parts)


def as_seen(quantities: Mapping[str, str], points: Sequence[TakenPoint], units: Mapping[str, str]) -> dict[str, Series]:
    """The same from what was seen when the points were taken, without the bytes. units: channel -> unit."""
    found = {}
    for channel, name in quantities.items():
        seen = [each.shown.get(name) for each in points]
        values = np.array([np.nan if each is None else each.value for each in seen])
        u = np.array([0.0 if each is None or not np.isfinite(each.u) else each.u for each in seen])
        t = np.array([each.t_to for each in points])
        found[channel] = Series(t, values, units.get(channel, ""), {Source(f"{name} at each point", False): u})
    return found


def over_points(
    workings: Workings, means: Mapping[str, Series], points: Sequence[TakenPoint], visited: str
) -> OverPoints:
    """What the lines give at the points. means: channel -> its mean at each; visited: the condition that was set."""
    t = np.array([each.t_to for each in points])
    values = np.array([each.value.value for each in points])
    u = np.array([0.0 if not np.isfinite(each.value.u) else each.value.u for each in points])
    unit = points[0].value.unit if points else ""
    given = {**means, visited: Series(t, values, unit, {Source(visited, False): u})}
    nothing = np.zeros(len(t))
    channels = {channel: series.values for channel, series in given.items()}
    block = Block(t, np.full(len(t), np.nan), t, np.arange(len(t)), np.zeros(len(t), bool), channels, nothing)
    return OverPoints(t, gathered([Evaluator(workings).push(block, given)]))


def findings_over_points(
    workings: Workings, over: OverPoints, span: tuple[float, float], wanted: Sequence[str]
) -> list[Finding]:
    """The plan's findings from the points in a span. Raises FindingTrouble where there are too few."""
    if int(np.count_nonzero((over.t >= span[0]) & (over.t <= span[1]))) < LEAST:
        raise FindingTrouble("too-few-points-taken", least=LEAST)
    return findings_of(workings, over.results, span, wanted)


def seen_mean(t: Floats, values: Floats, u: float, unit: str) -> Measured:
    """The mean of readings as they are seen while a point is taken. t, values: (n,); u: of one reading."""
    known = values[np.isfinite(values)]
    if not len(known):
        return Measured(float("nan"), float("nan"), unit)
    series = Series(
        t[np.isfinite(values)], known, unit, {Source("reading", True): np.full(len(known), u if u == u else 0.0)}
    )
    return number_over("mean", series, (float("-inf"), float("inf")), "seen").measured
