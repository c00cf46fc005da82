"""Numbers over a span that take a quantity's course: the area under it, the slope of one against another, its pace.

Quantities inside the span in; a number with what its uncertainty is made of out.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from common_bench.model.block import Bools, Floats, Ints, Series, Source
from common_bench.model.trouble import FindingTrouble
from common_bench.model.units import counts_from_own_zero, degree_of, interval_of, product
from common_bench.workings.loops import GAP_FACTOR
from common_bench.workings.noise import in_sums, noise_of
from common_bench.workings.repeated import mean_of_readings
from common_bench.workings.spans import Note, NumberOf, inside, reached
from common_bench.workings.spreads import at_ends, in_long_sums, roots_of

LEAST_SLOPE, LEAST_PACE = 3, 16  # readings
AROUND_PEAK = 8  # places between two frequencies of the spectrum, at which the best is looked for


def area_under(series: Series, span: tuple[float, float], name: str) -> NumberOf:
    """The integral from the first to the last value in the span, by trapezoids. Raises FindingTrouble where a gap lies in it."""
    chosen = _inside(series, span, "area", 2)
    t, v = series.t[chosen], series.values[chosen]
    step = np.diff(t)
    if len(step) > 2 and step.max() > GAP_FACTOR * np.median(step):
        raise FindingTrouble("gap-in-span", word="area")
    weights = (np.concatenate([step, [0.0]]) + np.concatenate([[0.0], step])) / 2
    parts = {s: float(weights @ share[chosen]) for s, share in series.parts.items() if s.common}
    parts[Source("scatter of the readings", False, name)] = _scatter_of_area(series, weights, chosen)
    coarse = (
        _trapezoid(t[::2], v[::2]) if len(t) % 2 else _trapezoid(t[:-1:2], v[:-1:2]) + step[-1] * (v[-2] + v[-1]) / 2
    )
    area = _trapezoid(t, v)
    parts[Source("course between the readings", False, name)] = (
        abs(area - coarse) / 3
    )  # a step half as long errs a quarter as much
    return NumberOf(area, product(series.unit, "s"), parts, len(t), reach=reached(parts, name, t, weights))


def _scatter_of_area(series: Series, weights: Floats, chosen: Ints) -> float:
    """What independent errors of single readings do to a weighted sum of values: as stated, or as they scatter where that is
    more; where values have errors in common, which look smooth, as stated."""
    squares = 0.0
    for source, spread in roots_of(series).items():
        share = in_long_sums(series, source, spread) if spread else series.parts[source]
        squares += float(np.sum((weights * share[chosen]) ** 2))
        if spread:
            squares += max(0.0, float(np.median(at_ends(series, source, spread)[chosen] * np.median(weights) ** 2)))
    stated = float(np.sqrt(squares))
    if series.spreads:
        return stated
    noise, alike = noise_of(series.values[chosen])
    return max(stated, noise * float(np.sqrt(in_sums(alike) * (weights @ weights))))


def _trapezoid(t: Floats, v: Floats) -> float:
    return float(np.sum(np.diff(t) * (v[1:] + v[:-1]) / 2))


def slope_against(y: Series, x: Series, span: tuple[float, float], name: str) -> NumberOf:
    """The slope of the straight line of y against x by least squares. Where readings of x are uncertain on their own, the
    line allows for it by the two uncertainties' ratio (Deming); how its slope scatters is told from what each reading does to
    it, likeness of neighbours included, and is at least what the readings' own uncertainties make of it. Raises FindingTrouble where x does not change."""
    if y.since is not None:  # of values at events each belongs to the middle of what it speaks of
        middle = (y.t + y.since) / 2
        began = float(x.t[0] - x.values[0]) if len(x) else 0.0
        rates = {s: float(share[-1] / x.values[-1]) for s, share in x.parts.items() if len(x) and x.values[-1]}
        x = Series(y.t, middle - began, x.unit, {s: rate * (middle - began) for s, rate in rates.items()})
        y = Series(y.t, y.values, y.unit, y.parts)
    t = np.intersect1d(y.t[_inside(y, span, "slope", LEAST_SLOPE)], x.t[_inside(x, span, "slope", LEAST_SLOPE)])
    if len(t) < LEAST_SLOPE:
        raise FindingTrouble("no-value-in-span", word="slope")
    at_y, at_x = np.searchsorted(y.t, t), np.searchsorted(x.t, t)
    a, b = x.values[at_x], y.values[at_y]
    mean_x, mean_y = float(a.mean()), float(b.mean())
    dx, dy = a - mean_x, b - mean_y
    sxx, sxy, syy = float(dx @ dx), float(dx @ dy), float(dy @ dy)
    if not sxx > 0.0:
        raise FindingTrouble("x-does-not-change", x=name)
    own_x, own_y = _independent(x.parts, at_x), _independent(y.parts, at_y)
    slope = sxy / sxx
    true_x, of_true = dx, sxx
    if own_x > 0.0 and sxy != 0.0:
        if own_y > 0.0:
            ratio = (own_y / own_x) ** 2
            slope = (syy - ratio * sxx + np.sqrt((syy - ratio * sxx) ** 2 + 4 * ratio * sxy**2)) / (2 * sxy)
            true_x = dx + slope / (ratio + slope**2) * (dy - slope * dx)
        else:
            slope, true_x = syy / sxy, dy * sxy / syy
        of_true = max(float(true_x @ true_x), 1e-12 * sxx)
        attenuated = sxx - len(t) * own_x**2
        of_true = attenuated if attenuated > 0.1 * sxx else of_true
    rest = dy - slope * dx
    scores = true_x * rest
    found = mean_of_readings(scores - scores.mean())
    u = found.u * len(t) / of_true * (len(t) / max(1, len(t) - 2)) ** 0.5
    moves = {source: true_x * share[at_y] / of_true for source, share in y.parts.items()}
    for source, share in x.parts.items():
        moves[source] = moves.get(source, np.zeros(len(t))) - slope * true_x * share[at_x] / of_true
    parts = {source: float(moved.sum()) for source, moved in moves.items() if source.common}
    stated = {
        Source(source.name, False, f"{source.which} of {name}", source.dof): float(np.sqrt(moved @ moved))
        for source, moved in moves.items()
        if not source.common and source.dof > 0
    }
    if sum(each**2 for each in stated.values()) > u**2:  # few points may lie on a line by chance
        parts |= stated
    else:
        parts[Source("scatter about the line", False, name, max(1.0, found.dof - 1.0))] = u
    unit = product(interval_of(y.unit), interval_of(x.unit), -1.0)
    factor = _degree(y.unit) / _degree(x.unit)
    notes = (Note("alike", found.independent),) if found.independent < len(t) / 2 else ()
    told = {s: each * factor for s, each in parts.items()}
    return NumberOf(slope * factor, unit, told, len(t), notes=notes, reach=reached(told, name, t, true_x))


def _degree(unit: str) -> float:
    return degree_of(unit) if counts_from_own_zero(unit) else 1.0


def _independent(parts: Mapping[Source, Floats], rows: np.ndarray) -> float:
    """Mean size of what is independent from reading to reading."""
    return float(np.sqrt(sum((float(np.mean(share[rows] ** 2)) for s, share in parts.items() if not s.common and s.dof > 0), 0.0)))  # fmt: skip


def dominant_pace(series: Series, span: tuple[float, float], name: str) -> NumberOf:
    """The frequency of the strongest oscillation, in Hz: where a sine and a cosine with a constant and a drift fit best by least squares
    on the true times. Its uncertainty is the least that the scatter about it allows (Rife, Boorstyn, IEEE Trans. Inf.
    Theory 20, 591 (1974)). Raises FindingTrouble where no whole swing lies in the span or none stands out."""
    chosen = _inside(series, span, "pace", LEAST_PACE)
    t, v = series.t[chosen], series.values[chosen]
    length = float(t[-1] - t[0])
    if not length > 0 or not np.ptp(v) > 0:
        raise FindingTrouble("no-oscillation")
    middle = t - (t[0] + t[-1]) / 2
    flat = np.vander(middle / length, 2)
    v = v - flat @ np.linalg.lstsq(flat, v, rcond=None)[0]
    count = len(t)
    even = np.interp(np.linspace(t[0], t[-1], count), t, v) * np.hanning(count)
    spectrum = np.abs(np.fft.rfft(even, 4 * count))
    rough = (int(np.argmax(spectrum[4:])) + 4) / (4 * length * count / (count - 1))
    paces = rough + np.linspace(-1, 1, 2 * AROUND_PEAK + 1) / length
    best = max((float(each) for each in paces if each > 0.5 / length), key=lambda pace: -_left(middle, v, pace)[0], default=0.0)  # fmt: skip
    if best * length < 1.0:
        raise FindingTrouble("no-oscillation")
    from scipy.optimize import minimize_scalar

    step = 1 / (AROUND_PEAK * length)
    found = minimize_scalar(lambda pace: _left(middle, v, pace)[0], bounds=(best - step, best + step), method="bounded", options={"xatol": 1e-9 * best})  # fmt: skip
    pace = float(found.x)
    left, swing, rest = _left(middle, v, pace)
    amplitude = float(np.hypot(*swing))
    _, alike = noise_of(rest)
    spread = float(np.sqrt(left / max(1, count - 5) * in_sums(alike)))
    if amplitude < spread * (8 * np.log(count) / count) ** 0.5:
        raise FindingTrouble("no-oscillation")
    u = np.sqrt(6.0) / np.pi * spread / (amplitude * length * count**0.5)
    parts = {Source("scatter about the oscillation", False, name, count - 5.0): float(u)}
    turn = 2 * np.pi * pace * middle
    moved = middle * (swing[1] * np.cos(turn) - swing[0] * np.sin(turn))  # what each reading moves the pace by
    return NumberOf(pace, "Hz", parts, count, reach=reached(parts, name, t, moved))


def _left(t: Floats, v: Floats, pace: float) -> tuple[float, Floats, Floats]:
    """Squares left about the best oscillation of a pace, what it has of cosine and sine, and the residuals."""
    turn = 2 * np.pi * pace * t
    design = np.stack([np.cos(turn), np.sin(turn), np.ones(len(t)), t / (t[-1] - t[0])], axis=1)
    fitted = np.linalg.lstsq(design, v, rcond=None)[0]
    rest = v - design @ fitted
    return float(rest @ rest), np.asarray(fitted[:2]), rest


def _inside(series: Series, span: tuple[float, float], word: str, least: int) -> np.ndarray:
    within: Bools = inside(series.t, series.began, series.values, span)
    chosen = np.flatnonzero(within)
    if len(chosen) < least:
        raise FindingTrouble("no-value-in-span", word=word)
    return chosen
