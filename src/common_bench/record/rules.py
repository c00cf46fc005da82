"""Rules: when a run begins and ends. A block of readings in; the row at which the run ends out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from common_bench.model.block import Block
from common_bench.model.plan import RulePlan
from common_bench.model.run import Ending


@dataclass(frozen=True)
class Rule:
    """Begin at once; end by hand, or once `seconds` have been recorded since the first reading."""

    seconds: float = 0.0

    @classmethod
    def of(cls, plan: RulePlan) -> Rule:
        return cls(plan.seconds)

    def ends_at(self, block: Block, began: float) -> int | None:
        """Row of the first reading that no longer belongs to the run; None where all do. began: s of its first."""
        if not self.seconds:
            return None
        row = int(np.searchsorted(block.t, began + self.seconds))
        return row if row < len(block) else None

    @property
    def ending(self) -> Ending:
        return Ending("by-rule", {"seconds": self.seconds})
