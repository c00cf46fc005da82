"""The tops of a noisy quantity: readings about a highest one in; when it was, how high, and how well both are known out.

A polynomial is fitted over a window that is matched to the signal: as wide as the quantity still is such a polynomial, as
far as its noise lets that be told. Widths and degrees are tried one after the other; those to which two more powers would
add something beyond the noise are left out, and of the others the one is taken that knows the top best. Tops among readings
at even distances are worked out together; each comes out as it would alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np

from common_bench.model.block import Bools, Floats, Ints
from common_bench.model.uncertainty import RECTANGULAR
from common_bench.workings.in_order import added, come_evenly

DEGREES = (2, 4)
MORE = 2  # powers by which it is tested whether a polynomial is enough
ADDS = 9.0  # of chi-square with two degrees of freedom, which 5 of 100 exceed by chance
REFUSED = 2  # windows one after the other, for which a degree is not enough, before it is given up
PLACES, TURNS = 16, 3  # at which a top is looked for, and rounds of Newton's method from the best of them
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
    """Places x of readings, in widths from the highest; base, back: their powers made orthonormal, and the way back."""

    start: int
    stop: int
    size: int  # of readings that are put together
    width: float
    ends: tuple[float, float]
    base: Floats
    back: Floats

    def spreads(self, degree: int) -> tuple[Floats, Floats, Floats]:
        """Polynomials in x, powers rising: the variance of height, slope and bend of the fit there, of residuals of
        variance 1."""
        inverse = self.back[: degree + 1, : degree + 1]  # triangular, so that its corner belongs to the fewer powers
        powers = np.add.outer(np.arange(degree + 1), np.arange(degree + 1))
        found, derived = [], inverse
        for times in range(3):
            covariance = derived @ derived.T
            found.append(np.bincount(powers[: len(derived), : len(derived)].ravel(), covariance.ravel()))
            derived = derived[1:] * np.arange(1, degree + 1 - times)[:, None]
        return np.asarray(found[0], float), np.asarray(found[1], float), np.asarray(found[2], float)


class _Ready(NamedTuple):
    """A window with what each degree needs of it."""

    window: _Window
    spreads: dict[int, tuple[Floats, Floats, Floats]]


def top_of(t: Floats, v: Floats, at: int, *, best: Literal["t", "value"] = "t") -> Top:
    """The top about the highest reading, `at`, of (n,) readings; best: what is to be known best."""
    found = tops_of(t, v, np.array([0]), np.array([at]), np.array([len(t)]), best=best)
    return Top(*(float(each) for each in found[:, 0]))


def tops_of(t: Floats, v: Floats, low: Ints, at: Ints, high: Ints, *, best: Literal["t", "value"] = "t") -> Floats:
    """(4, m) t, value, u_t and u_value of the tops about the readings `at`, each among those from `low` to `high`."""
    uneven = ~come_evenly(t, low, high - 1)
    found = np.empty((4, len(at)))
    sizes = np.stack([high - low, at - low])
    for each in np.flatnonzero(uneven).tolist():
        cut = slice(int(low[each]), int(high[each]))
        found[:, each] = _alone(t[cut], v[cut], int(sizes[1, each]), best)
    even = np.flatnonzero(~uneven)
    for length, middle in {(int(a), int(b)) for a, b in sizes[:, even].T}:
        chosen = even[(sizes[0, even] == length) & (sizes[1, even] == middle)]
        index = low[chosen][:, None] + np.arange(length)
        spacing = (t[high[chosen] - 1] - t[low[chosen]]) / max(1, length - 1)
        one = _together(v[index], middle, _even_windows(length, middle), best)
        one[0], one[2] = t[at[chosen]] + one[0] * spacing, one[2] * spacing
        found[:, chosen] = one
    return found


def _alone(t: Floats, v: Floats, at: int, best: Literal["t", "value"]) -> Floats:
    spacing = float(t[-1] - t[0]) / max(1, len(t) - 1)
    if spacing <= 0:
        return np.array([t[at], v[at], 0.0, float(_noise(v[None, :])[0])])
    one = _together(v[None, :], at, _windows((t - t[at]) / spacing), best)
    return np.array([t[at] + one[0, 0] * spacing, one[1, 0], one[2, 0] * spacing, one[3, 0]])


@lru_cache(maxsize=256)
def _even_windows(length: int, at: int) -> tuple[_Ready, ...]:
    return tuple(_windows(np.arange(float(length)) - at))


def _windows(place: Floats) -> Iterator[_Ready]:
    """place: (n,) of the readings, in mean distances from the highest. One window after the other, each wider."""
    if len(place) < LEAST:
        return
    away = np.abs(place)
    widest = float(away.max())
    width = max(float(np.sort(away)[LEAST - 1]), NARROWEST * widest)  # many may come at one time, as after a stall
    while True:
        inside = np.flatnonzero(away <= width * (1 + 1e-9))
        start, stop = int(inside[0]), int(inside[-1]) + 1
        x = place[start:stop] / width
        size = -(-len(x) // MOST)
        ends = float(x[0]), float(x[-1])
        x = _put_together(x[None, :], size)[0]
        powers = min(DEGREES[-1] + MORE, len(x) - 2)
        base, turned = np.linalg.qr(np.vander(x, powers + 1, increasing=True))
        if np.abs(np.diag(turned)).min() >= 1e-12:
            window = _Window(start, stop, size, width, ends, np.ascontiguousarray(base.T), np.linalg.inv(turned))
            yield _Ready(window, {each: window.spreads(each) for each in DEGREES if len(x) > each + 1})
        if width >= widest:
            return
        width = min(width * WIDER, widest)


def _put_together(v: Floats, size: int) -> Floats:
    if size == 1:
        return v
    whole = v.shape[1] - v.shape[1] % size
    return np.asarray(v[:, :whole].reshape(len(v), -1, size).mean(axis=2))


def _together(v: Floats, at: int, windows: tuple[_Ready, ...] | Iterator[_Ready], best: Literal["t", "value"]) -> Floats:  # fmt: skip
    """(4, m) tops of (m, n) readings at one set of places, in mean distances from the highest."""
    count = len(v)
    found = np.stack([np.zeros(count), v[:, at], np.full(count, 1 / RECTANGULAR), _noise(v)])
    refused = np.zeros((len(DEGREES), count), int)
    enough: list[Floats] = []
    for ready in windows:
        window = ready.window
        inside = _put_together(v[:, window.start : window.stop], window.size)
        enough_already = np.zeros(count, bool)  # a polynomial of fewer powers knows the top better, where it is enough
        for which, degree in enumerate(DEGREES):
            if inside.shape[1] <= degree + 1:
                continue
            open_ = (refused[which] < REFUSED) & ~enough_already
            if not open_.any():
                continue
            told = np.full((4, count), np.nan)
            some = inside if open_.all() else inside[open_]
            told[:, open_] = _fitted(some, ready, degree)
            missed = np.isnan(told[0])
            enough_already |= ~missed
            refused[which] = np.where(open_, np.where(missed, refused[which] + 1, 0), refused[which])
            enough.append(told)
        if (refused >= REFUSED).all():
            break
    return _best(enough, found, 2 if best == "t" else 3)


def _best(enough: list[Floats], found: Floats, by: int) -> Floats:
    """The one that is known best; how far the others that are known nearly as well lie from it belongs to its
    uncertainty, since it was chosen among them."""
    if not enough:
        return found
    tried = np.stack(enough)  # (tries, 4, m)
    sizes = np.where(np.isfinite(tried[:, by]), tried[:, by], np.inf)
    chosen = np.argmin(sizes, axis=0)
    all_ = np.arange(found.shape[1])
    least = sizes[chosen, all_]
    known = np.isfinite(least)
    near = sizes <= NEARLY * np.where(known, least, -1.0)
    told = tried[chosen, :, all_].T.copy()
    count = np.maximum(1, near.sum(axis=0))
    for what, u in ((0, 2), (1, 3)):
        off = np.where(near, tried[:, what] - told[what], 0.0)
        square = np.zeros(len(all_))
        for each in off:
            square += each * each
        told[u] = np.hypot(told[u], np.sqrt(square / count))
    return np.where(known, told, found)


def _noise(v: Floats) -> Floats:
    """(m,) standard deviation of single readings from their second differences, which no slow movement enters (after von
    Neumann, Ann. Math. Stat. 12, 367 (1941))."""
    if v.shape[1] < 3:
        return np.zeros(len(v))
    second = v[:, 2:] - 2 * v[:, 1:-1] + v[:, :-2]
    return np.asarray(np.sqrt((second * second).mean(axis=1) / 6))


def _fitted(v: Floats, ready: _Ready, degree: int) -> Floats:
    """(4, m) the highest places of the polynomials, in mean distances; nan where a polynomial is not enough. Their
    uncertainties hold what the scatter does and what two more powers would change."""
    window, (count, n) = ready.window, v.shape
    kept, powers = degree + 1, min(degree + MORE, n - 2)
    weights = [(v * window.base[k]).sum(axis=1) for k in range(powers + 1)]
    rest = v - weights[0][:, None] * window.base[0]
    for k in range(1, kept):
        rest -= weights[k][:, None] * window.base[k]
    left = (rest * rest).sum(axis=1)
    more = added([each * each for each in weights[kept:]]) if powers > degree else np.zeros(count)
    noise = np.maximum(_noise(v) ** 2, np.maximum(left - more, 0.0) / max(1, n - powers - 1))
    lost = np.abs(v).max(axis=1) * 1e-13  # by which sums of readings are off
    refused = (noise <= lost**2) & (left > n * lost**2)
    if powers > degree:
        refused |= more > ADDS * noise
    if refused.all():
        return np.full((4, count), np.nan)
    p = _times(window.back[:kept, :kept], weights[:kept])
    slope: list[Floats] = [k * p[k] for k in range(1, kept)]
    bend: list[Floats] = [k * slope[k] for k in range(1, degree)]
    place = _highest(p, slope, bend, window.ends)
    curved = _value(bend, place)
    scale = np.maximum(left / (n - kept), noise) * _alike(rest, left)
    u_height, u_slope, u_bend = (
        np.sqrt(scale * np.maximum(_value(each, place), 0.0)) for each in ready.spreads[degree]
    )
    low, high = window.ends
    with np.errstate(all="ignore"):
        inner = (low < place) & (place < high) & (curved < -BENT * u_bend)
        u_t = np.where(inner, u_slope / -curved, np.inf)
        change, moved = np.zeros(count), np.zeros(count)
        if powers > degree:
            further = _times(window.back[: powers + 1, kept : powers + 1], weights[kept:])
            change = _value(further, place)
            moved = _value([k * further[k] for k in range(1, powers + 1)], place) / curved
    told = [place * window.width, _value(p, place), np.hypot(u_t, moved) * window.width, np.hypot(u_height, change)]
    return np.where(refused, np.nan, np.stack(told))


def _times(matrix: Floats, columns: list[Floats]) -> list[Floats]:
    """A matrix times columns of (m,) each, each place as it would be alone."""
    return [added([factor * column for factor, column in zip(row, columns, strict=True)]) for row in matrix.tolist()]


def _highest(p: list[Floats], slope: Sequence[Floats], bend: Sequence[Floats], ends: tuple[float, float]) -> Floats:
    """(m,) where in the window the polynomials, their powers rising, are highest: the best of a few places, put right by
    Newton's method."""
    low, high = ends
    step = (high - low) / PLACES
    places = low + step * np.arange(PLACES + 1)
    values = p[-1][:, None] * places
    for each in p[-2:0:-1]:
        values = (values + each[:, None]) * places
    best: Ints = np.argmax(values, axis=1)
    begin = places[best]
    found: Floats = np.asarray(begin, float)
    fails = (best == 0) | (best == PLACES)
    with np.errstate(all="ignore"):
        for _ in range(1 if len(bend) == 1 else TURNS):
            curved = _value(bend, found)
            fails = fails | (curved >= 0)
            found = found - np.where(fails, 0.0, _value(slope, found) / curved)
        stays: Bools = fails | ~(np.abs(found - begin) <= step)
    return np.where(stays, begin, found)


def _value(p: Sequence[Floats] | Floats, place: Floats) -> Floats:
    """Of polynomials, powers rising, at their places."""
    found = p[-1] + np.zeros(len(place))
    for each in p[-2::-1]:
        found = found * place + each
    return found


def _alike(rest: Floats, squares: Floats) -> Floats:
    """(m,) by which the variance of a fit grows where residuals resemble their neighbours."""
    n = rest.shape[1]
    if n < 2 * LEAST:
        return np.ones(len(rest))
    with np.errstate(all="ignore"):
        alike = np.where(squares > 0, (rest[:, 1:] * rest[:, :-1]).sum(axis=1) / squares, 0.0)
    return np.where(alike > LIKENESS / n**0.5, (1 + alike) / (1 - np.minimum(alike, 0.9)), 1.0)
