"""The class result as it is shown and exported: points, line, class finding, who stands out."""

from __future__ import annotations

import math

import msgspec

from common_bench.model.block import Source
from common_bench.model.measured import Measured
from common_bench.model.uncertainty import as_normal, combined

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
    uncertainty (nan where there is no such line); `x_off`: how much smaller x would have to be for the
    group to lie on the line."""

    group: int
    alias: str
    runs: int
    x: Measured
    y: Measured
    away: float
    x_off: float
    aside: str
    words: str = ""

    @property
    def stands_out(self) -> bool:
        return abs(self.away) > STANDS_OUT


STANDS_OUT = 3.0  # standard uncertainties; beyond this one group in four hundred would lie by chance


class ClassLine(msgspec.Struct, frozen=True):
    """y = intercept + slope x through the groups that are in, with its covariance (2, 2), grown by excess² and known from
    u_dof degrees of freedom."""

    intercept: float
    slope: float
    covariance: tuple[tuple[float, float], tuple[float, float]]
    excess: float
    groups: int
    runs: int
    u_dof: float = math.inf

    def at(self, x: float) -> float:
        return self.intercept + self.slope * x

    def u_at(self, x: float) -> float:
        (aa, ab), (_, bb) = self.covariance
        return float(max(0.0, aa + 2 * x * ab + x * x * bb) ** 0.5)


class ClassLevel(msgspec.Struct, frozen=True):
    """Groups compared where there is no line: mean of their means with its standard uncertainty (scatter over the root of
    their number, JCGM 100, 4.2.3, and what they share), and their scatter (standard deviation) with its own."""

    mean: Measured
    scatter: Measured
    groups: int
    runs: int


class ClassResult(msgspec.Struct, frozen=True):
    """within, between: scatter of y inside a group from run to run, and between groups about the line
    beyond that (unit of y, nan where unknown). `why_no_line` says in words what is missing. x_label is empty where y is
    only compared; level: then, and where x is drawn without a line."""

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
