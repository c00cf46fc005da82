"""What limits the class: what its finding would be known to if runs were repeated once more, if one more group were in, if the
condition were known twice as well; by the variances that the class line has found. A line and its places in; shares of the
uncertainty out."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from common_bench.fits.group_line import LineOfGroups, design, steepness
from common_bench.fits.group_loops import products
from common_bench.model.block import Floats
from common_bench.model.class_line import ClassLevel, ClassLimits, GroupPlace
from common_bench.model.measured import Measured, u_words
from common_bench.model.run import Share
from common_bench.pool.places import FittedLines, own_variance

NEGLIGIBLE = 0.02  # of the uncertainty; smaller shares are not listed
FLOOR = 1e-12  # of the largest variance, which none is below
WORTH_TELLING = 0.97  # of the uncertainty, of which less must be left


class _OfLine:
    """A class line at its places: what each of them adds to its variance, and by which weights."""

    def __init__(self, line: LineOfGroups, places: Sequence[GroupPlace], lines: FittedLines, by: Floats) -> None:
        """by: (p,) how a finding follows the line's coefficients."""
        x, _, self.u_x, self.v, groups = lines.coordinates(places)
        of, self.member = np.unique(groups, return_inverse=True)
        self.count, self.between, self.by = len(of), line.between, by
        self._matrix, self._steep = design(x, line.powers), steepness(x, line.powers, line.coefficients)

    def of_x(self, u_x: Floats) -> Floats:
        """(n,) what the uncertainty of x adds to the variance of y."""
        found: Floats = (self._steep * u_x) ** 2
        return found

    def spread(self, v: Floats, u_x: Floats, between: float) -> Floats:
        """(n,) variances of places without what is between groups; none below a share of the largest."""
        found = v + self.of_x(u_x)
        return np.maximum(found, FLOOR * max(float(found.max()), between))

    def pull(self, spread: Floats, between: float) -> Floats:
        """(p,) `by` over the information about the coefficients. Raises LinAlgError where that does not tell them."""
        sums = products(self._matrix, self._matrix, spread, between, self.member, self.count)
        return np.linalg.solve(sums, self.by)

    def weights(self, spread: Floats) -> Floats:
        """(n,) by which the finding follows each place."""
        pull: Floats = self._matrix @ self.pull(spread, self.between) / spread
        inside = self.between / (1 + self.between * self.by_group(1 / spread))
        return pull - (inside * self.by_group(pull))[self.member] / spread

    def by_group(self, of_places: Floats) -> Floats:
        """(g,) sums."""
        found: Floats = np.bincount(self.member, of_places, self.count).astype(float)
        return found


def what_limits(line: LineOfGroups, places: Sequence[GroupPlace], lines: FittedLines, by: Floats) -> ClassLimits | None:
    """by: (p,) how the finding follows the line's coefficients. None where the places do not state what they are known to."""
    if not line.stated:
        return None
    at = _OfLine(line, places, lines, by)
    v, u_x = at.v, at.u_x
    runs = np.array([max(1, place.runs) for place in places], float)

    def u(of_runs: Floats, of_x: Floats, between: float) -> float:
        spread = at.spread(of_runs, of_x, between)
        if not spread.max() > 0:
            return 0.0
        try:
            found = float(by @ at.pull(spread, between))
        except np.linalg.LinAlgError:  # as nothing tells of the line where most is taken away
            return math.inf
        return math.sqrt(max(0.0, found))

    whole = u(v, u_x, line.between)
    if not 0 < whole < math.inf:
        return None
    without: dict[str, float] = {
        "runs": u(np.zeros_like(v), u_x, line.between), "condition": u(v, np.zeros_like(u_x), line.between),
        "groups": u(v, u_x, 0.0),
    }  # fmt: skip
    return ClassLimits(
        min(without, key=lambda each: without[each]),
        u(v * runs / (runs + 1), u_x, line.between) / whole,
        math.sqrt(at.count / (at.count + 1)),
        u(v, u_x / 2, line.between) / whole if u_x.any() else 1.0,
    )


def shares_of_line(
    line: LineOfGroups, places: Sequence[GroupPlace], lines: FittedLines, by: Floats, x_name: str
) -> tuple[Share, ...]:
    """What the uncertainty is made of that a finding has from the line: each variance by the weights that places have in it (JCGM 100,
    5.1.2). by: (p,) how the finding follows the line's coefficients."""
    whole = float(by @ line.covariance @ by)
    if not line.stated:
        return (Share("scatter about the line", math.sqrt(whole)),)
    at = _OfLine(line, places, lines, by)
    spread = at.spread(at.v, at.u_x, line.between)
    if not spread.max() > 0:
        return ()
    weights = at.weights(spread)
    parts = {
        "groups differ": line.between * float(np.sum(at.by_group(weights) ** 2)), "single runs": float(np.sum(weights**2 * at.v)),
        x_name: float(np.sum(weights**2 * at.of_x(at.u_x))),
    }  # fmt: skip
    return listed(parts, whole)


def listed(parts: Mapping[str, float], whole: float) -> tuple[Share, ...]:
    """Shares of variances that add up to the whole, largest first, but for what nobody would miss."""
    total = sum(parts.values())
    scaled = {name: each * whole / total for name, each in parts.items()} if total > 0 else {}
    told = sorted(((each, name) for name, each in scaled.items() if each > NEGLIGIBLE**2 * whole), reverse=True)
    return tuple(Share(name, math.sqrt(each)) for each, name in told)


def _parts_of_level(level: ClassLevel, v: Floats) -> dict[str, float]:
    """The variance of a mean of groups: of their runs, of how groups differ, and what all of them share. v: of places alone."""
    scatter, n = level.scatter.value**2, level.groups
    of_runs = min(float(v.mean()), scatter)  # beyond that it is common to all
    shared = max(0.0, level.mean.u**2 - scatter / n)
    return {"runs": of_runs / n, "groups": (scatter - of_runs) / n, "shared": shared}


def shares_of_level(level: ClassLevel, places: Sequence[GroupPlace]) -> tuple[Share, ...]:
    """What the uncertainty of a mean of groups is made of."""
    v = np.array([own_variance(place.y) for place in places])
    if not np.isfinite(v).all():
        return (Share("groups differ", level.mean.u),)
    parts = _parts_of_level(level, v)
    names = {"runs": "single runs", "groups": "groups differ", "shared": "shared by all"}
    return listed({names[key]: each for key, each in parts.items()}, level.mean.u**2)


def what_limits_level(level: ClassLevel, places: Sequence[GroupPlace]) -> ClassLimits | None:
    """The same of a mean of groups, whose scatter holds what their runs scatter. None where the places do not state it."""
    v, n = np.array([own_variance(place.y) for place in places]), level.groups
    runs = np.array([max(1, place.runs) for place in places], float)
    whole = level.mean.u**2
    if not 0 < whole < math.inf or not np.isfinite(v).all():
        return None
    parts = _parts_of_level(level, v)
    more_runs = parts["runs"] * float((v / (runs + 1)).sum() / v.sum()) if v.any() else 0.0
    return ClassLimits(
        max(parts, key=lambda each: parts[each]),
        math.sqrt((whole - more_runs) / whole),
        math.sqrt((level.scatter.value**2 / (n + 1) + parts["shared"]) / whole),
        1.0,
    )


def shares_words(made_of: Sequence[Share]) -> str:
    """What an uncertainty is made of, in a line."""
    return " · ".join(f"{share.name} {u_words(share.u)}" for share in made_of)


def limit_words(found: ClassLimits, x: str, finding: Measured) -> str:
    """In two sentences. x: what the condition is called; finding: what the class has found."""
    most = {
        "runs": "how far single runs scatter", "condition": f"how well {x} is known",
        "groups": "that groups differ by more than they state", "shared": "what all groups share, as their calibration",
    }[found.most]  # fmt: skip
    would = [
        (found.one_more_run, "one more run of each"), (found.one_more_group, "one more group"),
        (found.condition_twice_as_well, f"{x} known twice as well"),
    ]  # fmt: skip
    told = [f"± {u_words(finding.u * left)} with {words}" for left, words in sorted(would) if left < WORTH_TELLING]
    then = f" Its ± {u_words(finding.u)} would be {', '.join(told)}." if told else ""
    return f"What limits it most: {most}.{then}"
