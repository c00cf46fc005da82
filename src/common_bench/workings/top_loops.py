"""The top of a curve through noisy readings, one top after the other. Windows made ready for a set of places, and readings
at them, in; the tops out.

The method stands in `tops`; here are its loops.
"""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Floats, Ints
from common_bench.model.uncertainty import RECTANGULAR
from common_bench.workings.loops import inner_loop, loop

DEGREES = (2, 4)
MORE = 2  # powers by which it is tested whether a polynomial is enough
POWERS = DEGREES[-1] + MORE + 1
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
LOST = 1e-13  # of the largest reading, by which sums of readings are off
INSIDE = 1 + 1e-9  # of a window's width, up to which a reading lies in it
ROUND = 1e-12  # of a power orthonormal to the lower ones, below which readings do not determine it


@inner_loop
def _basis(x: Floats, powers: int, base: Floats, back: Floats) -> bool:
    """Fills powers of (n,) places made orthonormal (n, POWERS), by Gram and Schmidt twice, and the upper triangle that
    leads from their weights back to a polynomial's; says whether the places determine them all."""
    turned = np.zeros((powers + 1, powers + 1))
    for k in range(powers + 1):
        for place in range(len(x)):
            base[place, k] = base[place, k - 1] * x[place] if k else 1.0
        for _ in range(2):
            for lower in range(k):
                along = 0.0
                for place in range(len(x)):
                    along += base[place, lower] * base[place, k]
                turned[lower, k] += along
                for place in range(len(x)):
                    base[place, k] -= along * base[place, lower]
        size = 0.0
        for place in range(len(x)):
            size += base[place, k] * base[place, k]
        size = np.sqrt(size)
        if not size >= ROUND:
            return False
        turned[k, k] = size
        for place in range(len(x)):
            base[place, k] /= size
    back[:] = 0.0
    back[0, 0] = 1 / turned[0, 0]
    for k in range(1, powers + 1):  # q_k = (x q_{k−1} − Σ turned q) / turned_kk
        for power in range(k):
            back[power + 1, k] = back[power, k - 1]
        for lower in range(k):
            for power in range(lower + 1):
                back[power, k] -= turned[lower, k] * back[power, lower]
        for power in range(k + 1):
            back[power, k] /= turned[k, k]
    return True


@loop
def windows_at(place: Floats) -> tuple[Ints, Floats, Floats, Floats, Floats]:
    """place: (n,) of readings, in mean distances from the highest. One window after the other, each wider:

    (w, 5) its first reading and the one behind its last, how many are put together, how many these give, and how many powers
    they determine; (w, 3) its width and ends; (w, m, POWERS) the orthonormal powers; (w, POWERS, POWERS) the way back; and
    (w, degrees, 3, 2 POWERS) polynomials, powers rising: the variance of a fit's height, slope and bend, of residuals of
    variance 1.
    """
    n = len(place)
    away = np.abs(place)
    widest = away.max() if n else 0.0
    count, width = 0, 0.0
    if n >= LEAST:
        width = max(np.sort(away)[LEAST - 1], NARROWEST * widest)  # many may come at one time, as after a stall
        count, wide = 1, width
        while wide < widest:
            wide = min(wide * WIDER, widest)
            count += 1
    most = 0
    if n:
        most = n if n <= MOST else MOST
    cuts, sizes = np.zeros((count, 5), np.int64), np.zeros((count, 3))
    bases, backs = np.zeros((count, most, POWERS)), np.zeros((count, POWERS, POWERS))
    spreads = np.zeros((count, len(DEGREES), 3, 2 * POWERS))
    made = 0
    for _ in range(count):
        start, stop = 0, n
        while away[start] > width * INSIDE:
            start += 1
        while away[stop - 1] > width * INSIDE:
            stop -= 1
        size = -(-(stop - start) // MOST)
        x = _put_together(place[start:stop] / width, size)
        powers = min(POWERS - 1, len(x) - 2)
        if _basis(x, powers, bases[made], backs[made]):
            cuts[made, 0], cuts[made, 1], cuts[made, 2], cuts[made, 3] = start, stop, size, len(x)
            cuts[made, 4] = powers
            sizes[made, 0], sizes[made, 1], sizes[made, 2] = width, place[start] / width, place[stop - 1] / width
            for which in range(len(DEGREES)):
                if len(x) > DEGREES[which] + 1:
                    _spread(backs[made], DEGREES[which], spreads[made, which])
            made += 1
        width = min(width * WIDER, widest)
    return cuts[:made], sizes[:made], bases[:made], backs[:made], spreads[:made]


@inner_loop
def _spread(back: Floats, degree: int, spread: Floats) -> None:
    """Fills (3, 2 POWERS): the variance of height, slope and bend of a fit of this degree."""
    derived = back[: degree + 1, : degree + 1].copy()
    for times in range(3):
        rows = degree + 1 - times
        for one in range(rows):
            for other in range(rows):
                together = 0.0
                for k in range(degree + 1):
                    together += derived[one, k] * derived[other, k]
                spread[times, one + other] += together
        for row in range(rows - 1):
            for k in range(degree + 1):
                derived[row, k] = derived[row + 1, k] * (row + 1)


@inner_loop
def _put_together(v: Floats, size: int) -> Floats:
    """Means of so many readings each."""
    if size == 1:
        return v
    means = np.zeros(len(v) // size)
    for place in range(len(means)):
        for each in range(size):
            means[place] += v[place * size + each]
        means[place] /= size
    return means


@inner_loop
def _noise(v: Floats) -> float:
    """Standard deviation of single readings from their second differences, which no slow movement enters (after von
    Neumann, Ann. Math. Stat. 12, 367 (1941))."""
    if len(v) < 3:
        return 0.0
    total = 0.0
    for place in range(2, len(v)):
        second = v[place] - 2 * v[place - 1] + v[place - 2]
        total += second * second
    return float(np.sqrt(total / (len(v) - 2) / 6))


@inner_loop
def _value(p: Floats, row: int, size: int, place: float) -> float:
    """Of the polynomial of so many powers, rising, in a row."""
    found = 0.0
    for k in range(size - 1, -1, -1):
        found = found * place + p[row, k]
    return found


@inner_loop
def _slope(p: Floats, row: int, size: int, place: float) -> float:
    found = 0.0
    for k in range(size - 1, 0, -1):
        found = found * place + k * p[row, k]
    return found


@inner_loop
def _bend(p: Floats, row: int, size: int, place: float) -> float:
    found = 0.0
    for k in range(size - 1, 1, -1):
        found = found * place + k * (k - 1) * p[row, k]
    return found


@inner_loop
def _highest(p: Floats, size: int, low: float, high: float) -> float:
    """Where between its ends the polynomial in the second row is highest: the best of a few places, put right by Newton's method."""
    step = (high - low) / PLACES
    if size == 3:  # of a parabola it is known at once
        top = -p[1, 1] / (2 * p[1, 2]) if p[1, 2] < 0 else (np.inf if p[1, 1] + p[1, 2] * (high + low) > 0 else -np.inf)
        if not low + step / 2 < top < high - step / 2:
            return high if top > (low + high) / 2 else low
        return top
    for place in range(PLACES + 1):
        at = low + step * place
        p[3, place] = (((p[1, 4] * at + p[1, 3]) * at + p[1, 2]) * at + p[1, 1]) * at
    best = 0
    for place in range(1, PLACES + 1):
        if p[3, place] > p[3, best]:
            best = place
    begin = low + step * best
    found = begin
    if best in (0, PLACES):
        return begin
    for _ in range(TURNS):
        curved = _bend(p, 1, size, found)
        if not curved < 0:
            return begin
        found -= _slope(p, 1, size, found) / curved
    return found if abs(found - begin) <= step else begin


@inner_loop
def _alike(scratch: Floats, n: int, squares: float) -> float:
    """By which the variance of a fit grows where residuals, in the first row, resemble their neighbours."""
    if n < 2 * LEAST or not squares > 0:
        return 1.0
    along = 0.0
    for place in range(1, n):
        along += scratch[0, place] * scratch[0, place - 1]
    alike = along / squares
    return (1 + alike) / (1 - min(alike, 0.9)) if alike > LIKENESS / np.sqrt(n) else 1.0


@inner_loop
def _weights(v: Floats, base: Floats, weights: Floats) -> float:
    """Fills (POWERS,) weights of the orthonormal powers in (n,) readings of a window; gives the largest reading's size."""
    w0, w1, w2, w3, w4, w5, w6 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    largest = 0.0
    for place in range(len(v)):
        value = v[place]
        largest = max(largest, abs(value))
        w0 += value * base[place, 0]
        w1 += value * base[place, 1]
        w2 += value * base[place, 2]
        w3 += value * base[place, 3]
        w4 += value * base[place, 4]
        w5 += value * base[place, 5]
        w6 += value * base[place, 6]
    weights[0], weights[1], weights[2], weights[3] = w0, w1, w2, w3
    weights[4], weights[5], weights[6] = w4, w5, w6
    return largest


@inner_loop
def _fitted(
    v: Floats, degree: int, scattered: float, largest: float, weights: Floats, sizes: Floats, base: Floats, back: Floats,
    spread: Floats, in_common: bool, scratch: Floats, told: Floats,
) -> bool:  # fmt: skip
    """Fills (4,) the highest place of the polynomial, in mean distances, its height, and the uncertainty of both, which
    hold what the scatter does and what two more powers would change; says whether the polynomial is enough.

    v: (n,) readings of the window, whose second differences scatter by `scattered`; in_common: neighbours
    have their errors in common, and scatter so over longer times; scratch: (4, n or more), for residuals, the
    polynomial, what more powers would add, and values at places.
    """
    n = len(v)
    kept, powers = degree + 1, min(degree + MORE, n - 2)
    left, more = 0.0, 0.0
    w0, w1, w2, w3, w4 = weights[0], weights[1], weights[2], weights[3], weights[4]
    for place in range(n):
        fitted = w0 * base[place, 0] + w1 * base[place, 1] + w2 * base[place, 2]
        if kept == 5:
            fitted += w3 * base[place, 3] + w4 * base[place, 4]
        off = v[place] - fitted
        scratch[0, place] = off
        left += off * off
    for k in range(kept, powers + 1):
        more += weights[k] * weights[k]
    noise = max(scattered * scattered, max(left - more, 0.0) / max(1, n - powers - 1))
    lost = largest * LOST
    if (noise <= lost * lost and left > n * lost * lost) or (powers > degree and more > ADDS * noise):
        return False
    for power in range(powers + 1):
        of_fit, of_more = 0.0, 0.0
        for k in range(power, kept):
            of_fit += back[power, k] * weights[k]
        for k in range(max(power, kept), powers + 1):
            of_more += back[power, k] * weights[k]
        scratch[1, power], scratch[2, power] = of_fit, of_more
    width, low, high = sizes[0], sizes[1], sizes[2]
    place_ = _highest(scratch, kept, low, high)
    curved = _bend(scratch, 1, kept, place_)
    scale = noise if in_common else max(left / (n - kept), noise) * _alike(scratch, n, left)
    u_height = np.sqrt(scale * max(_value(spread, 0, 2 * degree + 1, place_), 0.0))
    u_slope = np.sqrt(scale * max(_value(spread, 1, 2 * degree - 1, place_), 0.0))
    u_bend = np.sqrt(scale * max(_value(spread, 2, 2 * degree - 3, place_), 0.0))
    u_t = u_slope / -curved if low < place_ < high and curved < -BENT * u_bend else np.inf
    change, moved = 0.0, 0.0
    if powers > degree:
        change, moved = _value(scratch, 2, powers + 1, place_), _slope(scratch, 2, powers + 1, place_) / curved
    told[0], told[1] = place_ * width, _value(scratch, 1, kept, place_)
    told[2], told[3] = np.sqrt(u_t * u_t + moved * moved) * width, np.sqrt(u_height * u_height + change * change)
    return True


@inner_loop
def _best(tried: Floats, count: int, by: int, found: Floats) -> None:
    """Fills (4,) with the one that is known best; how far the others that are known nearly as well lie from it belongs to
    its uncertainty, since it was chosen among them."""
    chosen = -1
    for each in range(count):
        if np.isfinite(tried[each, by]) and (chosen < 0 or tried[each, by] < tried[chosen, by]):
            chosen = each
    if chosen < 0:
        return
    near = 0
    off_t, off_value = 0.0, 0.0
    for each in range(count):
        if np.isfinite(tried[each, by]) and tried[each, by] <= NEARLY * tried[chosen, by]:
            near += 1
            off_t += (tried[each, 0] - tried[chosen, 0]) ** 2
            off_value += (tried[each, 1] - tried[chosen, 1]) ** 2
    found[0], found[1] = tried[chosen, 0], tried[chosen, 1]
    found[2] = np.hypot(tried[chosen, 2], np.sqrt(off_t / near))
    found[3] = np.hypot(tried[chosen, 3], np.sqrt(off_value / near))


@loop
def tops_at(
    v: Floats, starts: Ints, length: int, middle: int, cuts: Ints, sizes: Floats, bases: Floats, backs: Floats,
    spreads: Floats, by: int, least: Floats,
) -> Floats:  # fmt: skip
    """(m, 4) when in mean distances from the highest, how high, and how well both are known, of the tops among the `length`
    readings from each of `starts` on, of which `middle` is the highest.

    cuts … spreads: their windows, as of `windows_at`; by: what is to be known best, 2 the time, 3 the height; least:
    (m,) what single readings are known to scatter at least, where neighbours have their errors in common, else 0.
    """
    found = np.empty((len(starts), 4))
    tried = np.empty((len(cuts) * len(DEGREES), 4))
    refused = np.zeros(len(DEGREES), np.int64)
    weights, scratch = np.empty(POWERS), np.empty((4, max(length, PLACES + 1)))
    for top in range(len(starts)):
        of = v[starts[top] : starts[top] + length]
        found[top, 0], found[top, 1], found[top, 2], found[top, 3] = 0.0, of[middle], 1 / RECTANGULAR, _noise(of)
        refused[:] = 0
        count = 0
        for window in range(len(cuts)):
            if refused.min() >= REFUSED:
                break
            inside = _put_together(of[cuts[window, 0] : cuts[window, 1]], cuts[window, 2])
            n, scattered = len(inside), max(_noise(inside), least[top] / np.sqrt(float(cuts[window, 2])))
            largest = _weights(inside, bases[window], weights)
            for which in range(len(DEGREES)):
                degree = DEGREES[which]
                if n <= degree + 1 or refused[which] >= REFUSED:
                    continue
                if _fitted(
                    inside, degree, scattered, largest, weights, sizes[window], bases[window], backs[window],
                    spreads[window, which], least[top] > 0, scratch, tried[count],
                ):  # fmt: skip
                    refused[which] = 0
                    count += 1
                    break  # a polynomial of fewer powers knows the top better, where it is enough
                refused[which] += 1
        _best(tried, count, by, found[top])
    return found


@loop
def peaks_among(
    t: Floats, v: Floats, first: int, last: int, level: float, apart: float, depth: float
) -> tuple[Ints, Ints, Ints]:
    """Which of the readings `first` to `last` lie above the level and are reached by no earlier one less than `apart` away,
    exceeded by no later one; with a depth, only those on both sides of which one lies so much lower. Gives (m,) the first
    reading of each one's surroundings, itself, and the one behind the last."""
    room = max(0, last - first)
    lows, tops, highs = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.int64)
    count = 0
    for top in range(first, last):
        this = v[top]
        if not (this > level and this > v[top - 1] and this >= v[top + 1]):
            continue
        low, high, before, behind = top, top + 1, np.inf, np.inf
        highest = True
        while low > 0 and t[low - 1] > t[top] - apart:
            low -= 1
            before = min(before, v[low])
            if v[low] >= this:
                highest = False
                break
        while highest and high < len(t) and t[high] < t[top] + apart:
            behind = min(behind, v[high])
            highest = v[high] <= this
            high += 1
        if not highest or (depth > 0 and not (before <= this - depth and behind <= this - depth)):
            continue
        lows[count], tops[count], highs[count] = low, top, high
        count += 1
    return lows[:count], tops[:count], highs[:count]
