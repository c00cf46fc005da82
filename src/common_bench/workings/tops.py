"""The top of a noisy quantity: readings about a highest one in; when it was, how high, and how well both are known out.

A polynomial is fitted over a window that is matched to the signal: as wide as the quantity still is such a polynomial, as
far as its noise lets that be told. Widths and degrees are tried one after the other; those to which two more powers would
add something beyond the noise are left out, and of the others the one is taken that knows the top best.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.model.uncertainty import RECTANGULAR

DEGREES = (2, 4)
MORE = 2  # powers by which it is tested whether a polynomial is enough
ADDS = 9.0  # of chi-square with two degrees of freedom, which 5 of 100 exceed by chance
REFUSED = 2  # windows one after the other, for which a degree is not enough, before it is given up
PLACES, TURNS = 16, 4  # at which a top is looked for, and rounds of Newton's method from the best of them
NARROWEST = 1e-4  # of all, the first window
WIDER = 1.9  # from one window to the next
LEAST = 5  # readings in a window; the noise needs as many
MOST = 400  # means, by which a window of more readings is put together
LIKENESS = 2.0  # of 1 / root of the number of residuals, from which their likeness to their neighbours is believed
BENT = 5.0  # standard uncertainties of its bend, from which a curve has a top whose time can be told
NEARLY = 2.5  # times the smallest uncertainty, up to which others are near


class Top(NamedTuple):
    """t in s and value of the top; u_t and u_value, their standard uncertainties from the scatter about the curve."""

    t: float
    value: float
    u_t: float
    u_value: float


class _Window(NamedTuple):
    t: Floats
    v: Floats
    ends: tuple[float, float]  # of the readings themselves, of which some may be put together


def top_of(t: Floats, v: Floats, at: int, *, best: Literal["t", "value"] = "t") -> Top:
    """The top about the highest reading, `at`, of (n,) readings; best: what is to be known best."""
    spacing = float(t[-1] - t[0]) / max(1, len(t) - 1)
    found = Top(float(t[at]), float(v[at]), spacing / RECTANGULAR, _noise(v))
    if len(t) < LEAST or spacing <= 0:
        return found
    away = np.abs(t - t[at])
    widest = float(away.max())
    width = max(float(np.sort(away)[LEAST - 1]), NARROWEST * widest)  # many may come at one time, as after a stall
    enough: list[Top] = []
    refused = dict.fromkeys(DEGREES, 0)
    while any(times < REFUSED for times in refused.values()):
        inside = away <= width * (1 + 1e-9)
        window = _window(t[inside] - t[at], v[inside])
        for degree in DEGREES:
            if len(window.t) <= degree + 1 or refused[degree] >= REFUSED:
                continue
            fitted = _fitted(window, width, degree)
            refused[degree] = refused[degree] + 1 if fitted is None else 0
            if fitted is None:
                continue
            enough.append(Top(float(t[at]) + fitted.t, fitted.value, fitted.u_t, fitted.u_value))
        if width >= widest:
            break
        width = min(width * WIDER, widest)
    return _best(enough, best) or found


def _best(enough: list[Top], best: Literal["t", "value"]) -> Top | None:
    """The one that is known best; how far the others that are known nearly as well lie from it belongs to its
    uncertainty, since it was chosen among them."""
    sizes = np.array([each.u_t if best == "t" else each.u_value for each in enough])
    if not len(enough) or not np.isfinite(sizes).any():
        return None
    chosen = enough[int(np.argmin(sizes))]
    near = [each for each, size in zip(enough, sizes, strict=True) if size <= NEARLY * sizes.min()]
    off_t, off_value = (
        float(np.sqrt(np.mean([(getattr(each, name) - getattr(chosen, name)) ** 2 for each in near])))
        for name in ("t", "value")
    )
    return Top(chosen.t, chosen.value, float(np.hypot(chosen.u_t, off_t)), float(np.hypot(chosen.u_value, off_value)))


def _window(t: Floats, v: Floats) -> _Window:
    size = -(-len(t) // MOST)
    ends = float(t[0]), float(t[-1])
    if size == 1:
        return _Window(t, v, ends)
    whole = len(t) - len(t) % size
    return _Window(t[:whole].reshape(-1, size).mean(axis=1), v[:whole].reshape(-1, size).mean(axis=1), ends)


def _noise(v: Floats) -> float:
    """Standard deviation of single readings from their second differences, which no slow movement enters (after von
    Neumann, Ann. Math. Stat. 12, 367 (1941))."""
    return float(np.sqrt(np.mean(np.diff(v, 2) ** 2) / 6)) if len(v) > 2 else 0.0


def _fitted(window: _Window, width: float, degree: int) -> Top | None:
    """The highest place of the polynomial about the middle of the window; None where the polynomial is not enough. Its
    uncertainties hold what the scatter does and what two more powers would change."""
    x, v = window.t / width, window.v
    kept = degree + 1
    powers = min(degree + MORE, len(x) - 2)
    base, turned = np.linalg.qr(np.vander(x, powers + 1, increasing=True))
    if np.abs(np.diag(turned)).min() < 1e-12:
        return None
    weights = base.T @ v
    rest = v - base[:, :kept] @ weights[:kept]
    closer = rest - base[:, kept:] @ weights[kept:]
    noise = max(_noise(v) ** 2, float(closer @ closer) / max(1, len(x) - powers - 1))
    if noise == 0.0 and rest.any():
        return None
    if powers > degree and float(np.sum(weights[kept:] ** 2)) > ADDS * noise:
        return None
    low, high = window.ends[0] / width, window.ends[1] / width
    turned_back = np.linalg.inv(turned)  # triangular, so that its corner belongs to the fewer powers
    inverse = turned_back[:kept, :kept]
    p = inverse @ weights[:kept]
    place = _highest(p.tolist(), low, high)
    covariance = inverse @ inverse.T * max(float(rest @ rest) / (len(x) - kept), noise) * _alike(rest)
    row = place ** np.arange(kept)
    slope_row = np.concatenate([[0.0], np.arange(1, kept) * row[:-1]])
    bend_row = np.concatenate([[0.0, 0.0], np.arange(2, kept) * np.arange(1, kept - 1) * row[: kept - 2]])
    bend = float(bend_row @ p)
    inner = low < place < high and bend < -BENT * math.sqrt(max(0.0, float(bend_row @ covariance @ bend_row)))
    u_t = math.sqrt(max(0.0, float(slope_row @ covariance @ slope_row))) / -bend if inner else np.inf
    u_value = math.sqrt(max(0.0, float(row @ covariance @ row)))
    more = turned_back @ weights
    other = _highest(more.tolist(), low, high)
    change = float(other ** np.arange(powers + 1) @ more - row @ p)
    return Top(
        place * width, float(row @ p), float(np.hypot(u_t, other - place)) * width, float(np.hypot(u_value, change))
    )  # fmt: skip


def _highest(p: list[float], low: float, high: float) -> float:
    """Where in [low, high] the polynomial, its powers rising, is highest: the best of a few places, put right by Newton's
    method."""
    step = (high - low) / PLACES
    places = [low + k * step for k in range(PLACES + 1)]
    best = max(places, key=lambda place: _value(p, place))
    if best in (places[0], places[-1]):
        return best
    slope = [k * each for k, each in enumerate(p)][1:]
    bend = [k * each for k, each in enumerate(slope)][1:]
    found = best
    for _ in range(TURNS):
        curved = _value(bend, found)
        if curved >= 0:
            return best
        found -= _value(slope, found) / curved
    return found if abs(found - best) <= step else best


def _value(p: list[float], place: float) -> float:
    found = 0.0
    for each in reversed(p):
        found = found * place + each
    return found


def _alike(rest: Floats) -> float:
    """By which the variance of a fit grows where residuals resemble their neighbours."""
    squares = float(rest @ rest)
    if squares <= 0 or len(rest) < 2 * LEAST:
        return 1.0
    alike = float(rest[1:] @ rest[:-1]) / squares
    return (1 + alike) / (1 - min(alike, 0.9)) if alike > LIKENESS / len(rest) ** 0.5 else 1.0
