"""Curves through a run: what a fit over the span says, how well it fits, and what others would do in its place."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass

import numpy as np

from common_bench.model.block import Events, Floats, Ints, Series
from common_bench.model.measured import written
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.workings.evaluate import Workings, check
from common_bench.workings.fitting import FoundFit
from common_bench.workings.over import Stretches, over_span
from common_bench.workup.findings import note_words

TRIED = "tried_"  # begins the names of curves that are not in the plan
SHAPES = {
    "straight line": "{a} + {b} * time",
    "parabola": "{a} + {b} * time + {c} * time ^ 2",
    "exponential": "{a} * exp(-time / {b}) + {c}",
    "power": "{a} * time ^ {b} + {c}",
    "swing": "{a} * sin({b} * time + {d}) + {c}",
    "damped swing": "{a} * exp(-time / {e}) * sin({b} * time + {d}) + {c}",
}
"""What is tried beside a curve, with places for names that nothing else has."""
ALIKE = 1e-3  # difference of the criterion of two that are the same curve
CLOSE, CLEAR = (
    2.0,
    10.0,
)  # differences of AICc: below, nothing tells two curves apart; above, little speaks for the worse
PATTERN = 0.5  # of the readings that the residuals are as good as, below which they show a pattern


@dataclass(frozen=True)
class RunCurve:
    """One fit over a span. text: its line; parameters: (name, value as shown); words: how well it fits; shared: parameters that are
    the same in other runs, with which it was fitted together."""

    name: str
    text: str
    fit: FoundFit
    parameters: tuple[tuple[str, str], ...]
    words: tuple[str, ...]
    shared: tuple[str, ...] = ()

    @property
    def band(self) -> tuple[Floats, Floats, Floats]:
        """t, low and high of the curve by one standard uncertainty."""
        return self.fit.t, self.fit.curve - self.fit.u_curve, self.fit.curve + self.fit.u_curve

    def pieces(self, most: int, gaps: Sequence[tuple[float, float]]) -> list[Ints]:
        """Of its points, as `pieces_of`."""
        return pieces_of(self.fit.t, most, gaps)

    @property
    def prediction(self) -> tuple[Floats, Floats, Floats]:
        """t, low and high between which one more reading would lie, by one standard deviation."""
        wide = np.sqrt(self.fit.u_curve**2 + self.fit.sd**2)
        return self.fit.t, self.fit.curve - wide, self.fit.curve + wide


def pieces_of(t: Floats, most: int, gaps: Sequence[tuple[float, float]]) -> list[Ints]:
    """Places of at most so many of (n,) points at times in s, apart where something was not heard between them (gaps: from and to in
    s)."""
    rows = np.linspace(0, len(t) - 1, min(len(t), most)).astype(int)
    breaks = np.searchsorted(t[rows], [(low + high) / 2 for low, high in gaps])
    return [piece for piece in np.split(rows, np.unique(breaks)) if len(piece)]


def curves_of(
    workings: Workings, results: Mapping[str, Series | Events], span: tuple[float, float],
    named: Mapping[str, Stretches] | None = None,
) -> dict[str, RunCurve]:  # fmt: skip
    """Every fit over a span, or over its own (named), by line; none where the lines give nothing in it."""
    fits: dict[str, FoundFit] = {}
    with suppress(FindingTrouble):  # the finding says why; what was fitted before it is there
        over_span(workings, results, span, fits, named, {})
    texts = {line.name: line.text for line in workings.lines}
    return {name: _curve(name, texts.get(name, ""), fit) for name, fit in fits.items()}


def try_curve(
    workings: Workings, results: Mapping[str, Series | Events], span: tuple[float, float], text: str
) -> RunCurve:
    """A curve that is not among the lines of a run: `voltage fitted by A * exp(-time / tau)`. Raises WorkingTrouble or
    FindingTrouble."""
    name = f"{TRIED}curve"
    expression = text.partition("=")[2] if "fitted by" in text.partition("=")[2] else text
    lines = [line.text for line in workings.lines if line.trouble is None]
    made = check([*lines, f"{name} = {expression.strip()}"], workings.channels, workings.raw)
    line = made.lines[-1]
    if line.trouble is not None:
        line.trouble.where = ""  # of a line that nobody has named
        raise line.trouble
    if line.kind is None or line.kind.shape != "fit" or not line.kind.late:
        raise FindingTrouble("no-curve-typed", text=expression.strip())
    fits: dict[str, FoundFit] = {}
    try:
        over_span(made, results, span, fits)
    except FindingTrouble as trouble:
        if name not in fits:
            trouble.fields |= {"name": "curve"} if trouble.fields.get("name") == name else {}
            raise
    return _curve(name, expression.strip(), fits[name])


def beside(
    workings: Workings, results: Mapping[str, Series | Events], span: tuple[float, float], curve: RunCurve
) -> list[tuple[str, RunCurve]]:
    """Other shapes through the same readings, the best first; those that do not fit at all are left out."""
    quantity = curve.text.partition("fitted by")[0].rpartition("=")[2].strip()
    if not quantity.isidentifier():
        return []
    taken = set(workings.kinds) | set(workings.channels)
    free = {key: next(n for k in range(99) if (n := f"{key}{k or ''}") not in taken) for key in "abcde"}
    found = []
    for words, shape in SHAPES.items():
        try:
            found.append((words, try_curve(workings, results, span, f"{quantity} fitted by {shape.format(**free)}")))
        except Trouble:
            continue
    independent = max((each.fit.independent for _, each in found), default=0.0)
    return sorted(found, key=lambda each: criterion(each[1].fit, independent))


def against_others(curve: RunCurve, others: list[tuple[str, RunCurve]]) -> str:
    """In a sentence what speaks for the curve or against it."""
    n = max(each.fit.independent for each in (curve, *(other for _, other in others)))
    own = criterion(curve.fit, n)
    rest = [(words, each) for words, each in others if abs(criterion(each.fit, n) - own) >= ALIKE]
    if not rest:
        return ""
    words, best = rest[0]
    lead = criterion(best.fit, n) - own
    if lead > CLEAR:
        return f"Every other shape fits clearly worse; the next is {_a(words).lower()}, with residuals {_times(best.fit.sd / curve.fit.sd)} times as large."
    if lead > CLOSE:
        return f"{_a(words)} fits somewhat worse."
    if lead > -CLOSE:
        return f"{_a(words)} fits as well: these readings do not tell the two apart."
    return f"{_a(words)} fits better: its residuals are {_times(best.fit.sd / curve.fit.sd)} times as large."


def _a(words: str) -> str:
    return f"An {words}" if words[0] in "aeiou" else f"A {words}"


def _times(ratio: float) -> str:
    """A ratio in few digits, without powers of ten."""
    return f"{ratio:.0f}" if ratio >= 10 else f"{ratio:.2g}"


def _curve(name: str, text: str, fit: FoundFit) -> RunCurve:
    shown = []
    for each in fit.values:
        measured = fit.number(each).measured
        shown.append((each, written(measured.value, measured.u, measured.unit)))
    return RunCurve(name, text, fit, tuple(shown), tuple(_words(fit)))


def criterion(fit: FoundFit, n: float) -> float:
    """Akaike's criterion with the correction for few readings (Hurvich, Tsai, Biometrika 76, 297 (1989)); n: independent readings,
    the same for all that are compared."""
    k = len(fit.values) + 1
    if n <= k + 1 or fit.sd <= 0:
        return math.inf if fit.sd > 0 else -math.inf
    squares = float(np.mean(fit.residuals**2))
    return n * math.log(squares) + 2 * k + 2 * k * (k + 1) / (n - k - 1)


def _words(fit: FoundFit) -> list[str]:
    told = []
    if math.isfinite(fit.chi_square) and fit.dof > 0:
        reduced, spread = fit.chi_square / fit.dof, (2 / fit.dof) ** 0.5
        low, high = max(0.0, 1 - 2 * spread), 1 + 2 * spread
        how = (
            "fits"
            if low <= reduced <= high
            else "the residuals are larger than the readings' own uncertainty"
            if reduced > high
            else "the residuals are smaller than stated"
        )
        told.append(f"{how}: reduced chi-square {reduced:.3g} ({low:.2f} to {high:.2f} expected)")
    else:
        told.append(f"residuals {written(fit.sd, 0.05 * fit.sd, fit.unit)} (standard deviation)")
    runs = _runs_test(fit.residuals)
    if fit.notes:
        told += [note_words(each) for each in fit.notes]
    elif runs < 0.01:
        told.append("residuals of one sign come together more often than by chance: this curve is not the whole story")
    else:
        told.append("no pattern in the residuals")
    return told


def _runs_test(residuals: Floats) -> float:
    """The chance of so few changes of sign among independent residuals (Wald, Wolfowitz, Ann. Math. Stat. 11, 147 (1940))."""
    signs = residuals[residuals != 0] > 0
    up = int(np.count_nonzero(signs))
    down = len(signs) - up
    if up < 5 or down < 5:
        return 1.0
    runs = 1 + int(np.count_nonzero(np.diff(signs)))
    n = up + down
    mean = 1 + 2 * up * down / n
    sd = math.sqrt((mean - 1) * (mean - 2) / (n - 1))
    return 0.5 * math.erfc((mean - runs) / sd / math.sqrt(2)) if sd > 0 else 1.0
