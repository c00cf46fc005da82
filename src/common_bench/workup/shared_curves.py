"""One curve through several runs of a group, some of its parameters the same in all of them. The curve through each run alone in;
the one through all, as it lies in the first, out."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from common_bench.model.measured import written
from common_bench.workings.fits_together import fitted_together, own_name
from common_bench.workup.curves import RunCurve

SHARED = re.compile(r",\s*(\w+(?:(?:\s+and\s+|\s*,\s*)\w+)*)\s+shared\s*$")
UNLIKELY = 0.01  # chance of as large differences, below which runs do not agree on what they share


def shared_in(text: str) -> tuple[str, tuple[str, ...]]:
    """A curve as it was typed, without and with what stands at its end: `A * exp(-time / tau), tau shared`."""
    found = SHARED.search(text)
    if found is None:
        return text, ()
    return text[: found.start()], tuple(re.split(r"\s+and\s+|\s*,\s*", found[1]))


def curve_together(curves: Sequence[RunCurve], labels: Sequence[str], shared: Sequence[str]) -> RunCurve:
    """labels: what the runs are called, the one that is shown first. Raises FindingTrouble where nothing can be shared, or nothing
    fits all."""
    first = curves[0]
    fit = fitted_together([each.fit for each in curves], labels, shared)
    rows = slice(0, len(first.fit.t))
    of_first = [name if name in shared else own_name(name, labels[0]) for name in first.fit.values]
    places = [list(fit.values).index(name) for name in of_first]
    names = list(first.fit.values)
    own = first.fit._replace(
        values={name: fit.values[each] for name, each in zip(names, of_first, strict=True)},
        parts={source: moves[places] for source, moves in fit.parts.items()}, t=fit.t[rows],
        residuals=fit.residuals[rows], curve=fit.curve[rows], u_curve=fit.u_curve[rows],
        sd=float(np.sqrt(np.mean(fit.residuals[rows] ** 2))),
    )  # fmt: skip
    shown = [
        (name, written(found.value, found.u, found.unit))
        for name in fit.values
        for found in (fit.number(name).measured,)
    ]
    words = [_agreement(name, curves, labels, fit.values[name]) for name in shared]
    return replace(first, fit=own, parameters=tuple(shown), words=(*words, *first.words[-1:]), shared=tuple(shared))


def _agreement(name: str, curves: Sequence[RunCurve], labels: Sequence[str], value: float) -> str:
    """What the runs find alone, and whether that agrees, by how much they differ beyond their own uncertainties."""
    from scipy.stats import chi2

    alone = [each.fit.number(name).measured for each in curves]
    told = ", ".join(f"{label} {written(found.value, found.u)}" for label, found in zip(labels, alone, strict=True))
    off = sum(((found.value - value) / found.u) ** 2 for found in alone if found.u > 0)
    agree = float(chi2.sf(off, len(alone) - 1)) >= UNLIKELY
    how = "they agree" if agree else "they do not agree: it is hardly the same in all"
    return f"{name} is the same in {len(alone)} runs; alone {told} {alone[0].unit}: {how}".replace("  ", " ")
