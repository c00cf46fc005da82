"""The class graph on paper. A class result in, a picture file out."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from common_bench.model.bench import Emblem
from common_bench.model.class_line import ClassResult
from common_bench.model.measured import written
from common_bench.model.visible import on_one_line

INK, SOFT, HAIRLINE, VERDIGRIS, RED = "#22303C", "#6B7680", "#E2DCCF", "#1F6F6B", "#A12D3A"
LONGEST_LABEL, LONGEST_NOTE = 70, 40  # characters
MARKERS = {
    "circle": "o", "square": "s", "triangle": "^", "diamond": "D", "hexagon": "h", "plus": "P", "star": "*", "ring": "X",
    "drop": "v", "bar": "p",
}  # fmt: skip


def class_graph(path: Path, title: str, result: ClassResult, emblems: Mapping[int, Emblem]) -> None:
    """Points with error bars by group, the class line or the mean with its 95% confidence band, labels on the data. Words
    are drawn as they are written: no `$` or `\\` in them sets a formula."""
    from matplotlib import rc_context

    with rc_context({"text.parse_math": False, "text.usetex": False}):
        _drawn(path, title, result, emblems)


def _drawn(path: Path, title: str, result: ClassResult, emblems: Mapping[int, Emblem]) -> None:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(9, 5.6), dpi=130, facecolor="white")
    axes, across = figure.add_subplot(), result.across()
    for place in result.places:
        emblem = emblems[place.group]
        for point in (each for each in result.points if each.group == place.group):
            faint = 0.35 if point.aside else 1.0
            axes.errorbar(
                across[point.run], point.y.value, xerr=point.x.u if result.x_label else None, yerr=point.y.u, fmt=MARKERS[emblem.shape], color=emblem.colour,
                ms=8, alpha=faint, elinewidth=1.2, zorder=3,
            )  # fmt: skip
        note = f"{place.alias} (set aside)" if place.aside else place.alias
        axes.annotate(
            on_one_line(note, LONGEST_NOTE), (float(np.mean([across[run] for run in place.of])), place.y.value), (10, -12), textcoords="offset points",
            color=RED if place.aside else emblem.colour, fontsize=10,
        )  # fmt: skip
    if across:
        first, last = min(across.values()), max(across.values())
        margin = 0.06 * ((last - first) or 1.0) if result.x_label else 0.7
        x = np.linspace(first - margin, last + margin, 100)
        drawn = result.line_and_band(x.tolist())
        if drawn is not None:
            y, wide = map(np.array, drawn)
            axes.fill_between(x, y - wide, y + wide, color=VERDIGRIS, alpha=0.18, lw=0)
            axes.plot(x, y, color=VERDIGRIS, lw=2)
    unit = result.points[0].x.unit if result.points else ""
    if result.x_label:
        axes.set_xlabel(on_one_line(f"{result.x_label} ({unit})" if unit else result.x_label, LONGEST_LABEL), color=INK)
    else:
        axes.set_xlabel("groups, each run a point", color=INK)
        axes.set_xticks([])
    y_unit = f" ({result.points[0].y.unit})" if result.points and result.points[0].y.unit else ""
    y_label = f"{result.y_label.replace(' ^ 2', '²')}{y_unit}"
    axes.set_ylabel(on_one_line(y_label, LONGEST_LABEL), color=INK)
    heading = on_one_line(title, LONGEST_LABEL)
    if result.finding is not None:
        found = result.finding
        heading += f": {result.finding_name} = {written(found.value, found.u, found.unit)}"
    axes.set_title(heading, loc="left", color=INK, fontsize=13, fontweight="bold")
    axes.grid(color=HAIRLINE, lw=0.8)
    axes.set_axisbelow(True)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.tick_params(colors=SOFT)
    figure.tight_layout()
    figure.savefig(path)
