"""The class result as it is shown and exported: points, line, class finding, who stands out."""

from __future__ import annotations

import math
from collections.abc import Sequence

import msgspec

from common_bench.model.block import Source
from common_bench.model.measured import Measured
from common_bench.model.run import Share
from common_bench.model.uncertainty import as_normal, combined, coverage_factor

MOST_LOGARITHM = 700.0  # of a number that can be written
WIDE = 0.25  # half of an interval over the accepted value, from which agreement tells nothing
WIDEST_FACTOR = 13.0  # by which a band is wider than one standard uncertainty at most, as of three groups
RUNS_APART = 0.5  # of the way from one group to the next, over which its runs are spread side by side
MEAN, SCATTER = "class_mean", "class_scatter"  # by which a class finding names them where there is no line


class ClassPoint(msgspec.Struct, frozen=True):
    """One run on the class graph, in the units of the axes."""

    run: int
    number: int
    group: int
    alias: str
    x: Measured
    y: Measured
    aside: str = ""


class GroupPlace(msgspec.Struct, frozen=True):
    """A group against the line through the other groups. `away`: difference over its standard
    uncertainty (nan where there is no such line), as rare as that would be if it were known well; `limit`: beyond which
    it stands out; `x_off`: how much smaller x would have to be for the group to lie on the line; `from_line`: difference in the
    unit of y, with its uncertainty; `cause`: the one that explains it clearly better than others, or nothing; `without`: the
    class finding without this group; of: the runs that it stands for."""

    group: int
    alias: str
    runs: int
    x: Measured
    y: Measured
    away: float
    x_off: float
    aside: str
    words: str = ""
    limit: float = 3.0
    from_line: Measured | None = None
    cause: str = ""
    without: Measured | None = None
    of: tuple[int, ...] = ()

    @property
    def stands_out(self) -> bool:
        return abs(self.away) > self.limit


class ClassLine(msgspec.Struct, frozen=True):
    """y = intercept + slope x (+ bend x²) through the groups that are in, with the covariance of all three, known from u_dof
    degrees of freedom; excess: how much more the places scatter than they state; between: standard deviation of the groups about
    the line beyond what they state; robust: the slope by medians (Theil, Sen), nan where there is none. logs: all of it is of the
    logarithm of x, of y, but `at` and `u_at`."""

    intercept: float
    slope: float
    covariance: tuple[tuple[float, float, float], tuple[float, float, float], tuple[float, float, float]]
    excess: float
    groups: int
    runs: int
    u_dof: float = math.inf
    bend: float = 0.0
    between: float = 0.0
    robust: float = math.nan
    logs: tuple[bool, bool] = (False, False)

    def _x(self, x: float) -> float:
        if not self.logs[0]:
            return x
        return math.log(x) if x > 0 else math.nan

    def at(self, x: float) -> float:
        x = self._x(x)
        found = self.intercept + self.slope * x + self.bend * x * x
        return math.exp(min(found, MOST_LOGARITHM)) if self.logs[1] else found

    def u_at(self, x: float) -> float:
        there = self._x(x)
        row = (1.0, there, there * there)
        found = sum(row[i] * row[j] * self.covariance[i][j] for i in range(3) for j in range(3))
        return float(max(0.0, found) ** 0.5) * (self.at(x) if self.logs[1] else 1.0)


class ClassLevel(msgspec.Struct, frozen=True):
    """Groups compared where there is no line: mean of their means with its standard uncertainty (scatter over the root of
    their number, JCGM 100, 4.2.3, and what they share), and their scatter (standard deviation) with its own."""

    mean: Measured
    scatter: Measured
    groups: int
    runs: int


class ClassLimits(msgspec.Struct, frozen=True):
    """What limits a class finding most: `runs`, the `condition`, that `groups` differ, or what all have `shared`; and the share of its uncertainty that
    would be left with one more run of each group, with one more group, with the condition known twice as well."""

    most: str
    one_more_run: float
    one_more_group: float
    condition_twice_as_well: float


class ClassResult(msgspec.Struct, frozen=True):
    """within, between: scatter of y inside a group from run to run, and between groups about the line
    beyond that (unit of y, nan where unknown). `why_no_line` says in words what is missing. x_label is empty where y is
    only compared; level: then, and where x is drawn without a line; words: what is to be known of it besides; seen_from: by how
    much in y a group must be off to stand out in nine of ten classes, None where nobody is judged; made_of: what the uncertainty of the
    finding is made of, largest first."""

    x_label: str
    y_label: str
    points: tuple[ClassPoint, ...]
    places: tuple[GroupPlace, ...]
    line: ClassLine | None
    finding_name: str
    finding: Measured | None
    accepted: Measured | None
    within: float
    between: float
    why_no_line: str = ""
    level: ClassLevel | None = None
    words: tuple[str, ...] = ()
    limits: ClassLimits | None = None
    seen_from: Measured | None = None
    made_of: tuple[Share, ...] = ()

    def across(self) -> dict[int, float]:
        """run -> its place on the x axis: x in its unit, or, where groups are compared, the group's number, with its runs side by
        side about it."""
        if self.x_label:
            return {point.run: point.x.value for point in self.points}
        found = {}
        for place, group in enumerate(dict.fromkeys(point.group for point in self.points)):
            own = [point.run for point in self.points if point.group == group]
            for number, run in enumerate(own):
                found[run] = place + (RUNS_APART * (number / (len(own) - 1) - 0.5) if len(own) > 1 else 0.0)
        return found

    def line_and_band(self, xs: Sequence[float]) -> tuple[list[float], list[float]] | None:
        """The class line, or the mean where groups are compared, at places of the x axis, and half the width of its 95% confidence
        band, both in the unit of y; None where there is neither. Student's t (JCGM 100, G.3), drawn up to WIDEST_FACTOR wide."""
        if self.line is not None:
            factor = min(coverage_factor(self.line.u_dof), WIDEST_FACTOR)
            return [self.line.at(x) for x in xs], [factor * self.line.u_at(x) for x in xs]
        if self.level is not None:
            mean = self.level.mean
            return [mean.value] * len(xs), [min(coverage_factor(mean.dof), WIDEST_FACTOR) * mean.u] * len(xs)
        return None

    @property
    def e_n(self) -> float:
        """Difference from the accepted value over the root of the squares of both expanded uncertainties (95 of 100), the E_n of
        ISO 13528: up to 1 they agree; nan where unknown."""
        if self.finding is None or self.accepted is None or not self.finding.u:
            return float("nan")
        accepted = self.accepted.to(self.finding.unit)
        expanded = coverage_factor(self.finding.dof) * self.finding.u, coverage_factor(accepted.dof) * accepted.u
        both = math.hypot(*expanded)
        return (self.finding.value - accepted.value) / both if both > 0 else float("nan")

    @property
    def is_too_wide(self) -> bool:
        """Whether the 95% confidence interval of the finding is so wide beside the accepted value that agreeing with it says
        little."""
        if self.finding is None or self.accepted is None:
            return False
        accepted = abs(self.accepted.to(self.finding.unit).value)
        return accepted > 0 and not coverage_factor(self.finding.dof) * self.finding.u <= WIDE * accepted

    @property
    def agreement(self) -> float:
        """Difference from the accepted value over the standard uncertainty of both, as rare as that would be if it were
        known well; nan where unknown."""
        if self.finding is None or self.accepted is None or not self.finding.u:
            return float("nan")
        accepted = self.accepted.to(self.finding.unit)
        u, dof = combined(
            {Source("finding", True, "", self.finding.dof): self.finding.u, Source("accepted", True): accepted.u}
        )
        return as_normal((self.finding.value - accepted.value) / u, dof) if u > 0 else float("nan")
