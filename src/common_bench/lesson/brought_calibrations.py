"""What becomes of a file's columns where it is brought in as a run of a group: in words, before anything is kept."""

from __future__ import annotations

import numpy as np

from common_bench.exchange.file_times import numbers
from common_bench.lesson.brought_words import Preview
from common_bench.lesson.calibration_quality import age_words
from common_bench.lesson.store import LessonStore


def calibration_words(store: LessonStore, preview: Preview, group: int) -> list[str]:
    """What becomes of each quantity of the plan where this file is a run of a group: in which column it is heard, by which
    calibration, and how much of it lies outside its points."""
    columns = [(each.name, each.unit) for each in preview.columns if each.role == "channel"]
    kit, found = store.kit_of(group), []
    for sensor in store.plan.sensors:
        column = sensor.heard_in(columns)
        if not column:
            found.append(
                f"{sensor.quantity}: no column here is called {sensor.channel}; give one that name, and it is calibrated"
            )
            continue
        kept = store.calibration(kit, sensor.channel) if kit is not None else None
        if kept is None:
            found.append(f"{sensor.quantity}: {column} as raw numbers, not calibrated")
            continue
        when = f"calibrated {age_words(kept.made_at)}" if kept.made_at else "as it comes" if sensor.curve == "as-it-comes" else "by the data sheet"  # fmt: skip
        values = numbers(preview.logged, next(at for at, each in enumerate(preview.columns) if each.name == column))
        known = values[np.isfinite(values)]
        ends = kept.range
        out = float(np.mean((known < ends[0]) | (known > ends[1]))) if len(known) else 0.0
        range_words = "" if not kept.points else ", inside its range all the time" if out == 0 else f", {100 * out:.0f}% of it outside its points: a guess there"  # fmt: skip
        found.append(f"{sensor.quantity}: {column}, {when}{range_words}")
    return found
