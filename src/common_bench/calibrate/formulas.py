"""What comes before a curve: steps from the raw reading to what the curve takes, each a working."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats, Series, Source
from common_bench.model.calibration import CurveChoice, ReferencePoint
from common_bench.workings.formula import Formula

POINT = Source("reading of a point", False)


def chain_before(choice: CurveChoice, unit: str, *, strict: bool = False) -> Formula | None:
    """The steps of a choice and, for the curve “formula”, the formula itself; None where nothing comes before.

    unit: of the quantity; strict: of one that is made now, not kept from before. Raises WorkingTrouble with the step that cannot be read.
    """
    lines = (*choice.steps, choice.formula) if choice.formula else choice.steps
    if not lines:
        return None
    return Formula(lines, choice.raw_unit, unit if choice.formula else "", strict=strict)


def taken(before: Formula | None, points: list[ReferencePoint]) -> tuple[Floats, Floats, dict[Source, Floats]]:
    """(n,) what the curve takes at each point, (n,) its own standard uncertainty, and the shares that the
    steps' constants have in all points alike."""
    raw, u = (np.array([getattr(p, name) for p in points], float) for name in ("reading", "u_reading"))
    if before is None:
        return raw, u, {}
    made = before.of(Series(np.zeros(len(raw)), raw, "", {POINT: u}))
    shares = {source: share for source, share in made.parts.items() if source != POINT}
    return made.values, np.abs(made.parts.get(POINT, np.zeros(len(raw)))), shares
