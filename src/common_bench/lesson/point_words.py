"""Point by point, in words: rows of the table of points, the dots of each bench, how it stands, what is found so far."""

from __future__ import annotations

from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.point_taking import PointState, PointTaking
from common_bench.model.measured import NO_VALUE, written

TAKEN, NOT_TAKEN = "●", "○"
WORDS = {
    "no-run": ("not begun", "soft"),
    "done": ("done", "good"),
    "not-moved": ("set the next", "soft"),
    "not-heard": ("not heard", "red"),
}


def state_words(state: PointState) -> tuple[str, str]:
    """`steady for 3 s`, `in 4 s`, with a tone."""
    if state.state == "steady":
        return f"steady for {state.seconds:.0f} s", "good"
    if state.state == "moves":
        known = state.expected == state.expected and 0 < state.expected < 3600
        return (f"in {state.expected:.0f} s" if known else "moves"), "amber"
    return WORDS[state.state]


def bench_dots(taking: PointTaking, group: int) -> str:
    """A dot for each value that the plan wants: full where it is taken."""
    return "".join(TAKEN if taking.at(group, value) is not None else NOT_TAKEN for value in taking.values)


def point_rows(lesson: OpenLesson, group: int) -> tuple[list[str], list[list[str | tuple[str, str]]]]:
    """Heads and rows of a bench's points: the value that is set, and what is drawn against what."""
    taking, kinds = lesson.point_taking, lesson.store.workings.kinds
    y, x = taking.axes
    visited = lesson.store.plan.visited
    unit = visited.unit if visited is not None else ""
    heads = [
        taking.name,
        *(f"{name} ({kinds[name].unit})" if name in kinds and kinds[name].unit else name for name in (x, y)),
    ]
    values = taking.at_points(group)
    counted = [each for each in taking.taken(group) if not each.aside]
    rows: list[list[str | tuple[str, str]]] = []
    proposed = taking.next_value(group)
    for value in taking.values:
        point = taking.at(group, value)
        if point is None:
            rows.append([f"{value:g} {unit}".rstrip(), ("next" if value == proposed else "", "copper"), ""])
            continue
        at = counted.index(point)
        cells = [written(float(values[n].values[at]), float(values[n].u[at]), "") if n in values else NO_VALUE for n in (x, y)]  # fmt: skip
        rows.append([f"{value:g} {unit}".rstrip(), *cells])
    return heads, rows


def so_far_words(lesson: OpenLesson, group: int) -> str:
    """`stiffness = 20.6 ± 0.4 N/m`, of the points so far."""
    found = lesson.point_taking.so_far(group)
    return "\n".join(f"{name} = {value}" for name, value in found.items())
