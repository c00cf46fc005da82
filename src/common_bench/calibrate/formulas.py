"""What comes before a curve: steps from the raw reading to what the curve takes, each a working.

The language itself belongs to another room; whoever puts the flow together hands its reader in.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np

from common_bench.model.block import Floats, Series, Source
from common_bench.model.calibration import CurveChoice, ReferencePoint
from common_bench.model.trouble import CalibrationTrouble

POINT = Source("reading of a point", False)


class Formula(Protocol):
    """Workings that lead from `reading` to a last quantity in `unit`, uncertainties by source."""

    @property
    def unit(self) -> str: ...

    def of(self, reading: Series) -> Series: ...


FormulaReader = Callable[[tuple[str, ...], str, str], Formula]
"""(workings, unit of `reading`, unit wanted of the last or '') -> Formula. Raises WorkingTrouble."""


def no_formulas(lines: tuple[str, ...], reading: str, wanted: str) -> Formula:
    raise CalibrationTrouble("formulas cannot be read here.")


def chain_before(choice: CurveChoice, read: FormulaReader, unit: str) -> Formula | None:
    """The steps of a choice and, for the curve “formula”, the formula itself; None where nothing comes before."""
    lines = (*choice.steps, choice.formula) if choice.formula else choice.steps
    if not lines:
        return None
    return read(lines, choice.raw_unit, unit if choice.formula else "")


def taken(before: Formula | None, points: list[ReferencePoint]) -> tuple[Floats, Floats, dict[Source, Floats]]:
    """(n,) what the curve takes at each point, (n,) its own standard uncertainty, and the shares that the
    steps' constants have in all points alike."""
    raw, u = (np.array([getattr(p, name) for p in points], float) for name in ("reading", "u_reading"))
    if before is None:
        return raw, u, {}
    made = before.of(Series(np.zeros(len(raw)), raw, "", {POINT: u}))
    shares = {source: share for source, share in made.parts.items() if source != POINT}
    return made.values, np.abs(made.parts.get(POINT, np.zeros(len(raw)))), shares
