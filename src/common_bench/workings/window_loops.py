"""The windows about readings: local parabolas and running medians, reading by reading. Arrays of known readings in, weighted
sums and their uncertainties out."""

from __future__ import annotations

import numpy as np

from common_bench.model.block import Bools, Floats, Ints
from common_bench.workings.loops import inner_loop, loop

EVEN = 3e-9  # of the distance of readings, by which two neighbouring ones may differ and count as even
LEAST = 3  # readings at different times, that a parabola needs
AT_ONCE = 2048  # windows worked out beside each other; what they need stays in the processor's nearest memory
NEARLY = 1e-9  # of half a window, by which a reading on its end may lie beyond
FLAT = 1e-9  # of the determinant of as many readings spread over the window, below which a parabola is not determined


@inner_loop
def _even_weights(rate: bool, half: int) -> Floats:
    """(2 half + 1,) of readings at even distances, for the slope of the parabola in its middle, per distance, or its height
    there (Savitzky and Golay, Anal. Chem. 36, 1627 (1964)); one reading to each side gives itself."""
    weights = np.empty(2 * half + 1)
    m = float(half)
    squares = m * (m + 1) * (2 * m + 1) / 3
    for place in range(len(weights)):
        j = float(place - half)
        if rate:
            weights[place] = j / squares
        else:
            weights[place] = 3 * (3 * m * m + 3 * m - 1 - 5 * j * j) / ((2 * m - 1) * (2 * m + 1) * (2 * m + 3))
    return weights


@inner_loop
def _uneven_weights(x: Floats, rate: bool, weights: Floats) -> None:
    """Fills (k,) weights of readings at x = (t − own t) / half a window, for the slope per x or the height at 0; nan where
    the readings do not determine a parabola."""
    s0, s1, s2, s3, s4 = float(len(x)), 0.0, 0.0, 0.0, 0.0
    for each in x:
        square = each * each
        s1 += each
        s2 += square
        s3 += square * each
        s4 += square * square
    a, b, c = s2 * s4 - s3 * s3, s2 * s3 - s1 * s4, s1 * s3 - s2 * s2
    determinant = s0 * a + s1 * b + s2 * c
    if not abs(determinant) > FLAT * s0 * s0 * s0:
        weights[:] = np.nan
        return
    d, e = s0 * s4 - s2 * s2, s1 * s2 - s0 * s3
    for place in range(len(x)):
        each = x[place]
        weights[place] = ((b + d * each + e * each * each) if rate else (a + b * each + c * each * each)) / determinant


@loop
def even_weights(rate: bool, half: int) -> Floats:
    """The same for use from outside."""
    return _even_weights(rate, half)


@inner_loop
def _likeness(weights: Floats, alike: float) -> float:
    """By which the variance of a weighted sum grows where readings resemble their neighbours: Σ w_j w_k φ^|j−k| / Σ w²."""
    if alike == 0.0:
        return 1.0
    squares, total, carried = 0.0, 0.0, 0.0
    for place in range(len(weights)):
        weight = weights[place]
        if place:
            carried = alike * (carried + weights[place - 1])
        squares += weight * weight
        total += weight * weight + 2 * weight * carried
    return max(total, 0.0) / squares if squares > 0 else 1.0


@inner_loop
def _bends(t: Floats) -> Ints:
    """(n,) how many readings before each one, and itself, lie at another distance from the one before than that does."""
    bent = np.zeros(len(t), np.int64)
    for row in range(2, len(t)):
        before, after = t[row - 1] - t[row - 2], t[row] - t[row - 1]
        bent[row] = bent[row - 1] + (1 if abs(after - before) > EVEN * max(after, 0.0) else 0)
    return bent


@loop
def come_evenly(t: Floats, first: Ints, last: Ints) -> Bools:
    """(m,) whether the readings from each `first` to its `last`, both among the (n,) at t, come at even distances."""
    bent, found = _bends(t), np.empty(len(first), np.bool_)
    for each in range(len(first)):
        found[each] = bent[last[each]] == bent[min(first[each] + 1, last[each])]
    return found


@inner_loop
def _reaches(t: Floats, of: Ints, begins: Floats, first: int, stop: int, half: float) -> Ints:
    """(stop − first,) how many readings the window of each known reading reaches to each side, where they come at even
    distances; 0 where they do not; −1 where a gap, the beginning or the end lies in it."""
    n = len(t)
    bent = _bends(t)
    found, windows = np.empty(stop - first, np.int64), np.zeros(stop - first)
    reach_s, last = half * (1 + NEARLY), min(stop, n - 1) - first
    steps = t[first + 1 : first + 1 + last] - t[first : first + last]
    for at in range(last):
        windows[at] = reach_s / steps[at] if steps[at] > 0 else 0.0
    if last < stop - first and n > 1 and t[n - 1] > t[n - 2]:
        windows[last] = reach_s / (t[n - 1] - t[n - 2])
    end = n - 1
    for row in range(stop - 1, first - 1, -1):
        while of[end] > of[row]:
            end -= 1
        if not (begins[row] <= t[row] - half and t[end] >= t[row] + half):
            found[row - first] = -1
            continue
        reach = int(min(windows[row - first], float(n)))
        low, high = row - reach, row + reach
        if reach == 0 or low < 0 or high >= n or of[low] != of[high] or bent[high] != bent[min(low + 1, high)]:
            reach = 0
        found[row - first] = reach
    return found


@loop
def parabolas(
    t: Floats, v: Floats, of: Ints, begins: Floats, sigma: Floats, alike: Floats, shares: Floats, common: Bools,
    first: int, stop: int, half: float, rate: bool, step: float,
) -> tuple[Floats, Floats, Floats]:  # fmt: skip
    """The slope (in units of `step` per s) or the height of the parabola about each of the readings `first` to `stop`.

    t, v, of, begins, sigma, alike: (n,) of known readings, with their stretch, when it began, what they scatter and how
    much they resemble their neighbours; shares: (s, n) of their uncertainty, common: (s,) which of these move all together.
    Gives (m,) values, nan where a window is not whole; (s, m) each reading's own share, or all of a common one; (s, m) the
    root of the sum of squares of what the others bring.
    """
    count, sources = stop - first, len(shares)
    values, own, others = np.full(count, np.nan), np.zeros((sources, count)), np.zeros((sources, count))
    reaches = _reaches(t, of, begins, first, stop, half)
    start = 0
    while start < count:
        reach, end = reaches[start], start + 1
        while end < count and reaches[end] == reach and end - start < AT_ONCE:
            end += 1
        if reach > 0:
            weights = _even_weights(rate, reach)
            _evenly(t, v, sigma, alike, shares, common, first, start, end, weights, rate, step, values, own, others)
        elif reach == 0:
            for at in range(start, end):
                _unevenly(t, v, of, sigma, alike, shares, common, first, at, half, rate, step, values, own, others)
        start = end
    return values, own, others


@inner_loop
def _weighed(weights: Floats, of: Floats, start: int, into: Floats) -> None:
    """Fills `into` with weighted sums, the first of the values from `start` on."""
    into[:] = 0.0
    count, place = len(into), 0
    while place + 4 <= len(weights):  # four at once: sums stay in a register as long
        w0, w1, w2, w3 = weights[place], weights[place + 1], weights[place + 2], weights[place + 3]
        low = start + place
        x0, x1 = of[low : low + count], of[low + 1 : low + 1 + count]
        x2, x3 = of[low + 2 : low + 2 + count], of[low + 3 : low + 3 + count]
        for row in range(count):
            into[row] = into[row] + w0 * x0[row] + w1 * x1[row] + w2 * x2[row] + w3 * x3[row]
        place += 4
    while place < len(weights):
        weight, these = weights[place], of[start + place : start + place + count]
        for row in range(count):
            into[row] += weight * these[row]
        place += 1


@inner_loop
def _growth(sigma: float, shares: Floats, common: Bools, row: int) -> float:
    """By which the variance grows since readings scatter by more than is stated of them."""
    stated = 0.0
    for source in range(len(shares)):
        if not common[source]:
            stated += shares[source, row] * shares[source, row]
    return sigma * sigma / stated if stated > 0 and sigma * sigma > stated else 1.0


@inner_loop
def _evenly(
    t: Floats, v: Floats, sigma: Floats, alike: Floats, shares: Floats, common: Bools, first: int, start: int, end: int,
    weights: Floats, rate: bool, step: float, values: Floats, own: Floats, others: Floats,
) -> None:  # fmt: skip
    """The same for readings whose windows are all of these weights: row by row of the window, for many readings at once. One array by
    another is written as a loop: whether they are as long would take as long to compile as all else."""
    half, low = len(weights) // 2, first + start
    size = end - start
    scale, grown, sums, stated = np.ones(size), np.empty(size), np.empty(size), np.zeros(size)
    if rate:
        before, behind = t[low - half : low - half + size], t[low + half : low + half + size]
        for at in range(size):
            scale[at] = step * (2 * half) / (behind[at] - before[at])
    for source in range(len(shares)):
        if not common[source]:
            share = shares[source, low : low + size]
            for at in range(size):
                stated[at] += share[at] * share[at]
    scatter = sigma[low : low + size]
    for at in range(size):
        square = scatter[at] * scatter[at]
        grown[at] = square / stated[at] if square > stated[at] and stated[at] > 0 else 1.0
    at = 0
    while at < size:  # the likeness stays the same for many
        of_like, until = alike[low + at], at + 1
        while until < size and alike[low + until] == of_like:
            until += 1
        if of_like != 0.0:
            growth = _likeness(weights, of_like)
            for each in range(at, until):
                grown[each] *= growth
        at = until
    _weighed(weights, v, low - half, sums)
    for at in range(size):
        values[start + at] = scale[at] * sums[at]
    squared, middle = weights**2, weights[half]
    for source in range(len(shares)):
        share, mine = shares[source], own[source, start:end]
        if common[source]:
            _weighed(weights, share, low - half, sums)
            for at in range(size):
                mine[at] = scale[at] * sums[at]
            continue
        _weighed(squared, share[low - half : low + size + half] ** 2, 0, sums)
        itself, theirs = share[low : low + size], others[source, start:end]
        for at in range(size):
            mine[at] = scale[at] * middle * itself[at]
            theirs[at] = np.sqrt(max(0.0, scale[at] * scale[at] * sums[at] * grown[at] - mine[at] * mine[at]))


@inner_loop
def _unevenly(
    t: Floats, v: Floats, of: Ints, sigma: Floats, alike: Floats, shares: Floats, common: Bools, first: int, at: int,
    half: float, rate: bool, step: float, values: Floats, own: Floats, others: Floats,
) -> None:  # fmt: skip
    """The same for one reading, by its window's own times."""
    row = first + at
    low, high, reach = row, row + 1, half * (1 + NEARLY)
    while low > 0 and of[low - 1] == of[row] and t[low - 1] >= t[row] - reach:
        low -= 1
    while high < len(t) and of[high] == of[row] and t[high] <= t[row] + reach:
        high += 1
    if high - low < LEAST:
        return
    weights = np.empty(high - low)
    _uneven_weights((t[low:high] - t[row]) / half, rate, weights)
    if rate:
        weights *= step / half
    total = 0.0
    for place in range(len(weights)):
        total += weights[place] * (v[low + place] - v[row])
    values[at] = total if rate else v[row] + total
    grown = _growth(sigma[row], shares, common, row) * _likeness(weights, alike[row])
    for source in range(len(shares)):
        summed, squares = 0.0, 0.0
        for place in range(len(weights)):
            there = weights[place] * shares[source, low + place]
            summed += there
            squares += there * there
        if common[source]:
            own[source, at] = summed
            continue
        alone = weights[row - low] * shares[source, row]
        own[source, at] = alone
        others[source, at] = np.sqrt(max(0.0, squares * grown - alone * alone))


@inner_loop
def _replaced(v: Floats, order: Ints, old: int, new: int) -> None:
    """Takes the oldest reading out of an order and puts the newest in."""
    place = 0
    while order[place] != old:
        place += 1
    value = v[new]
    while place + 1 < len(order) and v[order[place + 1]] <= value:
        order[place] = order[place + 1]
        place += 1
    while place > 0 and v[order[place - 1]] > value:
        order[place] = order[place - 1]
        place -= 1
    order[place] = new


@loop
def medians(
    v: Floats, of: Ints, shares: Floats, common: Bools, first: int, stop: int, before: int, after: int, alike: float
) -> tuple[Floats, Floats, Floats]:
    """Of the readings `first` to `stop` among (n,) known ones: (m,) the median of each with so many before and after it, nan
    where a gap, the beginning or the end lies among them.

    shares: (s, n) of their uncertainty, common: (s,) which of these move all together. Gives further (s, m) the reading's own
    share, where it is the median and none of the others is within `alike` noises of it, or all of a common one; and (s, m)
    what the others bring: of the median of k alike ones the variance is π / 2 / (k + π / 2 − 1) of a single one's, within 1
    of 100.
    """
    size, count = stop - first, before + after + 1
    values, own, others = np.full(size, np.nan), np.zeros((len(shares), size)), np.zeros((len(shares), size))
    rank = (count - 1) // 2
    order = np.empty(count, np.int64)  # the readings of a window from the smallest on, of equal ones the earliest first
    shrink = np.sqrt((np.pi / 2) / (np.arange(count + 1) + np.pi / 2 - 1))
    ordered = -2  # the first reading of the window that is ordered
    for at in range(size):
        low = first + at - before
        high = low + count
        if low < 0 or high > len(v) or of[low] != of[high - 1]:
            continue
        if ordered == low - 1:
            _replaced(v, order, ordered, high - 1)
        else:
            ranked = np.argsort(v[low:high], kind="mergesort")
            for each in range(count):
                order[each] = low + ranked[each]
        ordered = low
        chosen, noise = order[rank], 0.0
        for source in range(len(shares)):
            if not common[source]:
                noise += shares[source, chosen] * shares[source, chosen]
        middle, reach = v[chosen], alike * alike * noise
        least, most = rank, rank
        while least > 0 and (middle - v[order[least - 1]]) ** 2 <= reach:
            least -= 1
        while most + 1 < count and (v[order[most + 1]] - middle) ** 2 <= reach:
            most += 1
        values[at], equals = middle, most - least + 1
        itself = chosen == first + at and equals == 1
        for source in range(len(shares)):
            if common[source] or itself:
                own[source, at] = shares[source, chosen]
            else:
                others[source, at] = abs(shares[source, chosen]) * shrink[equals]
    return values, own, others
