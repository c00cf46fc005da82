"""Loops over readings, one after the other, compiled to machine code. Arrays in, arrays out or filled.

Each reading's result is the same scalar steps in the same order whatever stands beside it, so that blocks may be cut
anywhere; they do not hold the interpreter, so that the desk goes on meanwhile. Compiled once on a machine and kept.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, ParamSpec, TypeVar

import numpy as np
import numpy.typing as npt
from numba import njit

from common_bench.model.block import Bools, Floats, Ints

_P = ParamSpec("_P")
_R = TypeVar("_R")

OVER = (1, 2, 4, 8)  # readings, over which second differences are taken
LIKES = np.concatenate([np.zeros(1), np.linspace(0.1, 0.98, 45)])
UNTOLD = (
    8.0  # of the sum of squares, for one reading in a second difference, within which no likeness is told from none
)
FIRST_KNOWN, KNOWN = 8, 32  # values whose median distance in rows is the usual one, at first and from then on
GAP_FACTOR = 4.0  # usual distances, beyond which something is missing
USUAL, WANTED, COUNT, SINCE, BEGUN, STEPS = range(6)  # places in the state of `absent`; steps from the last one on

_POWERS = len(OVER)
_OVER = np.array(OVER, float)
_NOISE = 6 - 8 * LIKES ** _OVER[:, None] + 2 * LIKES ** (2 * _OVER[:, None])  # (k, likeness), of σ²
_BEND = _OVER**4


def inner_loop(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """Compiles a function of numbers and arrays, without changing the order of its sums, for use by other loops."""
    made: Callable[_P, _R] = njit(cache=True, nogil=True, error_model="numpy", forceinline=True)(function)
    return made


def part_of_loop(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """The same, called rather than written out at each place: for what is long and called from several."""
    made: Callable[_P, _R] = njit(cache=True, nogil=True, error_model="numpy")(function)
    return made


def loop(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """The same for use from outside. What is given is brought to the types that its annotations say, so that it is compiled
    once: an array that may not be written, or with steps, would have it compiled anew, in the midst of a run."""
    return _from_outside(function, inner_loop(function))


def short_loop(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """The same for a handful of readings: it holds the interpreter, since to get that back from another thread takes longer."""
    return _from_outside(function, njit(cache=True, error_model="numpy")(function))


def _from_outside(function: Callable[_P, _R], made: Callable[_P, _R]) -> Callable[_P, _R]:
    brought = [_AS[kind] for name, kind in function.__annotations__.items() if name != "return"]

    @wraps(function)
    def called(*given: _P.args, **_: _P.kwargs) -> _R:
        return made(*(as_(each) for as_, each in zip(brought, given, strict=True)))  # type: ignore[call-arg]

    called.compiled = made  # type: ignore[attr-defined]
    return called


def _array_of(kind: type) -> Callable[[Any], npt.NDArray[Any]]:
    wanted = np.dtype(kind)

    def brought(array: npt.NDArray[Any]) -> npt.NDArray[Any]:
        flags = array.flags
        if array.dtype == wanted and flags.c_contiguous and flags.writeable:
            return array
        return np.array(array, wanted, order="C")

    return brought


_AS: dict[str, Callable[[Any], Any]] = {
    "Floats": _array_of(float), "Ints": _array_of(np.int64), "Bools": _array_of(bool), "float": float, "int": int, "bool": bool,
}  # fmt: skip


@inner_loop
def _middle(steps: Floats) -> float:
    """Their median."""
    for step in steps:
        if step != steps[0]:
            ordered, middle = np.sort(steps), len(steps) // 2
            return float(ordered[middle] if len(steps) % 2 else (ordered[middle - 1] + ordered[middle]) / 2)
    return float(steps[0])


@loop
def absent(values: Floats, gap_before: Bools, state: Floats) -> Bools:
    """(n,) `gap_before`, and whether too many values are missing before one that is there.

    state: (STEPS + KNOWN,) the usual distance in rows, how many are wanted for the next one and how many there are, rows
    since the last value, whether there was one; carried on from call to call.
    """
    found = gap_before.copy()
    usual, wanted, count = state[USUAL], int(state[WANTED]), int(state[COUNT])
    since, begun = state[SINCE], state[BEGUN] > 0
    steps = state[STEPS:]
    for row in range(len(values)):
        if not np.isfinite(values[row]):
            since += 1
            continue
        step = since + 1 if begun else 1.0
        if step > GAP_FACTOR * usual:
            found[row] = True
        since, begun = 0.0, True
        steps[count] = step
        count += 1
        if count >= wanted:
            usual, wanted, count = _middle(steps[:count]), KNOWN, 0
    state[USUAL], state[WANTED], state[COUNT] = usual, wanted, count
    state[SINCE], state[BEGUN] = since, 1.0 if begun else 0.0
    return found


@loop
def stretches_of(t: Floats, values: Floats, gaps: Bools, state: Floats) -> tuple[Ints, Floats]:
    """(n,) the number of each reading's stretch, and s when the stretch had its first value, nan before.

    state: (2,) both of the reading before; carried on.
    """
    stretches, begins = np.empty(len(t), np.int64), np.empty(len(t))
    for row in range(len(t)):
        if gaps[row]:
            state[0] += 1
            state[1] = np.nan
        if np.isnan(state[1]) and np.isfinite(values[row]):
            state[1] = t[row]
        stretches[row], begins[row] = int(state[0]), state[1]
    return stretches, begins


@inner_loop
def _noise_told(squares: Floats, count: float) -> tuple[float, float]:
    """(k,) mean squares of second differences over so many readings each, from `count` readings -> σ and φ."""
    if not squares[0] > 0.0:
        return 0.0, 0.0
    bb, b1 = 0.0, 0.0
    for k in range(_POWERS):
        bb += (_BEND[k] / squares[k]) ** 2
        b1 += _BEND[k] / squares[k]
    told, least = _noise_with(squares, 0, bb, b1)
    best, none = 0, least - UNTOLD * _POWERS / count  # which others must stay below
    if none > 0:
        for like in range(1, len(LIKES)):
            sigma2, left = _noise_with(squares, like, bb, b1)
            if left < least and left <= none:
                best, told, least = like, sigma2, left
    return (np.sqrt(told) if np.isfinite(told) else 0.0), LIKES[best]


@inner_loop
def _noise_with(squares: Floats, like: int, bb: float, b1: float) -> tuple[float, float]:
    """σ² with this likeness, and the sum of squares that it leaves; bb, b1: of the bend's terms."""
    nn, nb, n1 = 0.0, 0.0, 0.0
    for k in range(_POWERS):
        noise, bend = _NOISE[k, like] / squares[k], _BEND[k] / squares[k]
        nn += noise * noise
        nb += noise * bend
        n1 += noise
    determinant = nn * bb - nb * nb
    good = determinant > 1e-12 * nn * bb
    sigma2 = max((n1 * bb - b1 * nb) / determinant, 0.0) if good else 0.0
    bends = (b1 * nn - n1 * nb) / determinant if good else 0.0
    if bends < 0:
        sigma2, bends = n1 / nn, 0.0
    left = 0.0
    for k in range(_POWERS):
        off = (sigma2 * _NOISE[k, like] + bends * _BEND[k]) / squares[k] - 1
        left += off * off
    return sigma2, (left if np.isfinite(left) else np.inf)


@loop
def noise_told(squares: Floats, count: float) -> tuple[float, float]:
    """The same of one set."""
    return _noise_told(squares, count)


@loop
def noise_in_rounds(held: Floats, of: Ints, lead: int, block: int, before: Floats) -> tuple[Floats, Floats, Floats]:
    """What readings scatter and resemble each other, after each full block of so many.

    held, of: (n,) values with the numbers of their stretches, the first `lead` those of the block before; before: (b, k + 1)
    mean squares of the last blocks, 0 in the last column: none. Gives (rounds,) σ and φ, and the next `before`.
    """
    rounds, blocks = (len(held) - lead) // block, len(before)
    means = np.zeros((blocks + rounds, _POWERS + 1))
    for row in range(blocks):  # not as a slice: what is said of two that do not fit is compiled too, which takes long
        for k in range(_POWERS + 1):
            means[row, k] = before[row, k]
    for round_ in range(rounds):
        enough = True
        for k in range(_POWERS):
            total, over = 0.0, OVER[k]
            start = lead + round_ * block
            first = max(start, 2 * over)
            counted = start + block - first
            if of[first - 2 * over] == of[start + block - 1]:
                some, lanes = held[first - 2 * over : start + block], np.zeros(4)
                for row in range(0, counted - 3, 4):
                    for lane in range(4):
                        at = row + lane
                        bend = some[at] - 2 * some[at + over] + some[at + 2 * over]
                        lanes[lane] += bend * bend
                for at in range(counted - counted % 4, counted):
                    bend = some[at] - 2 * some[at + over] + some[at + 2 * over]
                    lanes[0] += bend * bend
                total = (lanes[0] + lanes[1]) + (lanes[2] + lanes[3])
            else:
                counted = 0
                for row in range(first, start + block):
                    if of[row - 2 * over] == of[row]:
                        bend = held[row - 2 * over] - 2 * held[row - over] + held[row]
                        total += bend * bend
                        counted += 1
            means[blocks + round_, k] = total / max(1, counted)
            enough = enough and counted >= block // 2
        means[blocks + round_, _POWERS] = 1.0
        if not enough:
            means[blocks + round_] = 0.0
    sigma, alike = np.zeros(rounds), np.zeros(rounds)
    mean = np.zeros(_POWERS)
    for round_ in range(rounds):
        count = 0.0
        mean[:] = 0.0
        for row in range(round_, round_ + blocks + 1):
            count += means[row, _POWERS]
            for k in range(_POWERS):
                mean[k] += means[row, k]
        if count > 0:
            for k in range(_POWERS):
                mean[k] /= count
            sigma[round_], alike[round_] = _noise_told(mean, block * count)
    return sigma, alike, means[rounds:]


@loop
def in_rounds(told: Floats, begun: int, block: int, count: int) -> Floats:
    """(count,) what was told after each round of so many, at each value; `begun` of the first round were before."""
    found = np.empty(count)
    start, round_ = 0, 0
    while start < count:
        stop = min(count, (round_ + 1) * block - begun)
        found[start:stop] = told[round_]
        start, round_ = stop, round_ + 1
    return found


@loop
def trapezoids(t: Floats, of: Floats, t0: float, before: float, total: float) -> Floats:
    """(n,) the integral of (n,) values by trapezoids, on from `total` at the value `before` at t0."""
    found = np.empty(len(t))
    for row in range(len(t)):
        total += (t[row] - t0) * (before + of[row]) / 2
        t0, before, found[row] = t[row], of[row], total
    return found


@loop
def independent_in_trapezoids(
    steps: Floats, of: Floats, step0: float, before: float, total: float
) -> tuple[Floats, Floats, float]:
    """What errors of (n,) readings, independent of each other, do to the integral: (n,) the share of the last reading, and
    the root of the sum of squares of those before, on from `total` (of squares); and that sum.

    steps: (n,) s before each reading, step0 before the one before them, whose error is `before`.
    """
    own, others = np.empty(len(steps)), np.empty(len(steps))
    for row in range(len(steps)):
        share = (step0 + steps[row]) / 2 * before
        total += share * share
        step0, before = steps[row], of[row]
        own[row], others[row] = step0 / 2 * before, np.sqrt(total)
    return own, others, total
