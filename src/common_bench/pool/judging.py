"""Who stands out: each group against the line through the others, or against their mean, with the scatter between groups that
the others show. Places in, places judged out. None is set aside by this: only a person does that.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import msgspec
import numpy as np

from common_bench.model.block import Source
from common_bench.model.class_line import GroupPlace
from common_bench.model.measured import Measured, plain
from common_bench.model.plan import ClassGraph
from common_bench.model.run import PoolRow
from common_bench.model.trouble import CalibrationTrouble
from common_bench.model.uncertainty import as_normal, combined
from common_bench.pool.causes import cause_of
from common_bench.pool.places import FittedLines, away_from, logs_of
from common_bench.pool.swaps import Swap, swapped_pair

LEAST_JUDGED = 5  # groups; of four, three others say too little of what groups scatter
BY_CHANCE, PAIR_BY_CHANCE = 0.04, 0.01  # share of classes without a fault in which somebody stands out, or two together
TINY = 1e-300  # in the place of what has no logarithm
LOOKED_AT = 6  # groups farthest from a line by medians, of which two may hide each other


def judged_in_turn(
    places: Sequence[GroupPlace], graph: ClassGraph, rows: Sequence[PoolRow], lines: FittedLines
) -> list[GroupPlace]:
    """Every place against the line through the other groups that are in and do not stand out.

    The one that lies farthest out is found first and no longer bends the line by which the others are judged; then the next,
    as long as groups enough are left. Two that hide each other, each making the scatter by which the other is judged, are
    looked for last. In a class without a fault somebody stands out in one case of twenty (Bonferroni).
    """
    from scipy.special import ndtri

    swap = swapped_pair(places, lines) if graph.has_line else None
    if swap is not None:
        return _swapped(swap, places, graph, rows, lines)
    trusted = [place for place in places if not place.aside]
    limit = float(ndtri(1 - BY_CHANCE / 2 / max(1, len(trusted))))
    while True:
        judged = [
            _judged(p, [other for other in trusted if other.group != p.group], graph, lines, limit) for p in places
        ]
        out = [p for p in judged if p.stands_out and any(other.group == p.group for other in trusted)]
        left = len({place.group for place in trusted})
        if out and left >= LEAST_JUDGED:
            gone = {max(out, key=lambda place: abs(place.away)).group}
        elif not out and left > LEAST_JUDGED:
            gone = _hiding_each_other(trusted, graph, lines)
        else:
            break
        if not gone:
            break
        trusted = [place for place in trusted if place.group not in gone]
    return [_explained(place, judged, trusted, graph, rows, lines) if place.stands_out else place for place in judged]


def _swapped(
    swap: Swap, places: Sequence[GroupPlace], graph: ClassGraph, rows: Sequence[PoolRow], lines: FittedLines
) -> list[GroupPlace]:
    """The others are judged with the pair swapped back, and the pair as it stands against the line through the others."""
    back = {place.group: place for place in judged_in_turn(swap.places, graph, rows, lines)}
    others = [place for place in swap.places if place.group not in (*swap.pair, swap.besides)]
    names = {place.group: place.alias for place in places}
    found = []
    for place in places:
        if place.group not in swap.pair or place.aside:
            found.append(back.get(place.group, place))
            continue
        partner = names[next(each for each in swap.pair if each != place.group)]
        cause, words = f"condition swapped with {partner}", f"its {graph.x} and that of {partner} seem to be swapped."
        limit = back[place.group].limit
        judged = _against_few(place, others, lines, limit)
        found.append(msgspec.structs.replace(judged, cause=cause, words=f"{place.alias}: {words}"))
    return found


def _against_few(place: GroupPlace, others: Sequence[GroupPlace], lines: FittedLines, limit: float) -> GroupPlace:
    """A place that is known to be wrong, against the line through groups that may be few: it stands out in any case."""
    try:
        line = lines.through(others)
    except CalibrationTrouble:
        return msgspec.structs.replace(place, away=math.inf)
    difference, u = away_from(place, line)
    away = as_normal(difference / u, line.judged_dof) if u > 0 else math.inf
    away = away if abs(away) > limit else math.copysign(1.01 * limit, difference)
    return msgspec.structs.replace(place, away=away, from_line=Measured(difference, u, place.y.unit, line.judged_dof))


def _hiding_each_other(trusted: Sequence[GroupPlace], graph: ClassGraph, lines: FittedLines) -> set[int]:
    """The two groups of which each lies far from the line through the others without both, if there are such."""
    from scipy.special import ndtri

    groups = list(dict.fromkeys(place.group for place in trusted))
    limit = float(ndtri(1 - PAIR_BY_CHANCE / len(groups) / (len(groups) - 1)))
    found: set[int] = set()
    for pair in itertools.combinations(_farthest(trusted, graph), 2):
        rest = [place for place in trusted if place.group not in pair]
        nearest = math.inf
        for place in trusted:
            if place.group in pair and not nearest <= limit:
                away = abs(_judged(place, rest, graph, lines, limit).away)
                nearest = min(nearest, away if away == away else 0.0)
        if nearest > limit:
            found, limit = set(pair), nearest
    return found


def _farthest(trusted: Sequence[GroupPlace], graph: ClassGraph) -> list[int]:
    """The groups farthest from a line by medians, or from the median."""
    x, y = (np.array([getattr(place, axis).value for place in trusted]) for axis in "xy")
    x, y = (np.log(np.maximum(each, TINY)) if log else each for each, log in zip((x, y), logs_of(graph), strict=True))
    off = np.abs(y - np.median(y))
    if graph.has_line:
        one, other = np.triu_indices(len(x), 1)
        apart = x[one] != x[other]
        slope = float(np.median((y[other] - y[one])[apart] / (x[other] - x[one])[apart])) if apart.any() else 0.0
        off = np.abs(y - slope * x - np.median(y - slope * x))
    order = [trusted[at].group for at in np.argsort(-off)]
    return list(dict.fromkeys(order))[:LOOKED_AT]


def _judged(
    place: GroupPlace, others: Sequence[GroupPlace], graph: ClassGraph, lines: FittedLines, limit: float
) -> GroupPlace:
    """The place against the line through the others, or against their mean: difference over all uncertainties that enter
    it."""
    if len({other.group for other in others}) < LEAST_JUDGED - 1:
        return place
    if not graph.has_line:
        return _judged_by_level(place, others, limit)
    try:
        line = lines.through(others)
    except CalibrationTrouble:
        return place
    difference, u = away_from(place, line)
    if not u > 0:
        return place
    steep = line.steep_at(place.x.value)
    return msgspec.structs.replace(
        place, away=as_normal(difference / u, line.judged_dof), x_off=-difference / steep if steep else math.nan,
        limit=limit, from_line=Measured(difference, u, place.y.unit, line.judged_dof),
    )  # fmt: skip


def _judged_by_level(place: GroupPlace, others: Sequence[GroupPlace], limit: float) -> GroupPlace:
    """Groups scatter by themselves, so the scatter of the others is what a group may differ by; where it states more than
    they, that too."""
    y, n = np.array([other.y.value for other in others]), len(others)
    scatter = float(np.var(y, ddof=1))
    stated = float(np.mean([other.y.u**2 for other in others]))
    more = place.y.u**2 - stated
    parts = {Source("the others", False, "", n - 1.0): math.sqrt(scatter * (1 + 1 / n))}
    if math.isfinite(more) and more > 0:
        parts[Source("its own", False, "", place.y.dof)] = math.sqrt(more)
    u, dof = combined(parts)
    if not u > 0:
        return place
    difference = place.y.value - float(y.mean())
    away = as_normal(difference / u, dof)
    words = ""
    if abs(away) > limit:
        side = "low" if difference < 0 else "high"
        words = (
            f"{place.alias} sits {abs(away):.0f} uncertainties {side} of the others: is its sensor where theirs are?"
        )
    told = Measured(difference, u, place.y.unit, dof)
    return msgspec.structs.replace(place, away=away, words=words, limit=limit, from_line=told)


def _explained(
    place: GroupPlace, judged: Sequence[GroupPlace], trusted: Sequence[GroupPlace], graph: ClassGraph,
    rows: Sequence[PoolRow], lines: FittedLines,
) -> GroupPlace:  # fmt: skip
    """With the cause that explains it clearly better than others, or with what its place alone can tell."""
    if not graph.has_line:
        return place
    own = [each for each in judged if each.group == place.group]
    cause, words = cause_of(own, [each for each in trusted if each.group != place.group], judged, graph, rows, lines)
    side = "low" if place.away < 0 else "high"
    opening = f"{place.alias} sits {abs(place.away):.0f} uncertainties {side}"
    if cause:
        return msgspec.structs.replace(place, cause=cause, words=f"{opening}: {words}")
    if not math.isfinite(place.x_off) or place.from_line is None:
        return msgspec.structs.replace(place, words=f"{opening} of the line through the others.")
    stated = "large" if place.x_off > 0 else "small"
    off = plain(abs(place.x_off), 2 if abs(place.x_off) > 0.02 else 3)
    told = (
        f"{opening}, as if its {graph.x} were stated {f'{off} {place.x.unit}'.strip()} too {stated}: measured to the wrong place? "
        f"Its {graph.y} alone may be at fault too."
    )
    return msgspec.structs.replace(place, words=told)
