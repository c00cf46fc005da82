"""What all classes of a department find by a plan, from the places of groups alone, to which the server brings their runs down: for
pools that are too large to be read run by run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from common_bench.model.plan_file import plan_from_text
from common_bench.model.shared_pool import SharedNumber
from common_bench.pool.department import Department
from common_bench.pool.many_classes import class_names
from common_bench.pool.many_schools import COLUMNS, ManySchools, put_together, told_of_each


@dataclass(frozen=True)
class GroupedByServer:
    """found: every class as a school of its own; left: what is not in it, in words."""

    found: ManySchools
    left: tuple[str, ...]

    @property
    def lines(self) -> list[str]:
        """For a terminal."""
        together = f"{self.found.runs} runs, {len(self.found.schools)} classes"
        return [*self.left, *told_of_each(self.found, "classes", together)]

    @property
    def json(self) -> dict[str, Any]:
        """The object that is printed."""
        found = self.found
        classes = [
            {"class": name, "finding": None if each is None else SharedNumber.of(each).told}
            for name, each in found.schools.items()
        ]
        mean = None if found.finding is None else SharedNumber.of(found.finding).told
        between = found.between if np.isfinite(found.between) else None
        return {
            "classes": classes,
            "runs": found.runs,
            "mean_of_classes": mean,
            "between_classes": between,
            "told": list(self.left),
        }


def grouped_by_server(department: Department, name: str) -> GroupedByServer:
    """The same digits as from single runs. Raises PoolTrouble where the department has no such plan."""
    text, rows, unplaced = department.places(name)
    plan = plan_from_text(text, f"the plan {name}")
    columns = {each: np.array([np.nan if row[each] is None else row[each] for row in rows], float) for each in COLUMNS}
    ids = [str(row["class_id"]) for row in rows]
    called = class_names(ids)
    classes = [called[each] for each in ids]
    found = put_together(plan, columns, classes, classes, [str(row["group_alias"]) for row in rows])
    words = f"{unplaced} runs stand nowhere on the class graph, or were sent by an older program: send them again."
    return GroupedByServer(found, (words,) if unplaced else ())
