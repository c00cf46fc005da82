"""Is a reading steady? Recent raw readings in; drift, scatter, how long it has been steady or will still take out.

The recent past is described by a level that is approached exponentially, over the longest stretch
that such a curve describes: a step (another mass was hung) ends it, and so does a swing. Steady means
that what is still to come, taken at the far end of its uncertainty and for every settling time that
the readings allow, lies inside the limit, and so does the scatter. A slow sensor is therefore not
called steady because it moves little in a short look.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.model.uncertainty import RECTANGULAR

STRETCHES = (1.5, 2.0, 3.0, 4.0, 6.0, 8.0, 10.0, 14.0, 20.0)  # s looked at, longest that fits
LONG_ENOUGH = 2.0  # s that must be inside the limits
LEAST_READINGS = 15
HOLD = 3.0  # s: a drift limit times this is how far the reading may still move
SCATTER_RATIO = 1.5  # of the noise from one reading to the next; white noise gives 1 ± 0.1 for 30 readings and more
FILTERED_RATIO = 6.0  # the same for a sensor that smooths: its neighbours resemble each other
PROPOSE = 1.3  # of the noise or the step: how far the reading may still move; less cannot be seen with few readings
SCATTERED = 2.0  # of that, how far single readings may scatter
SWINGS = -0.4  # an autocorrelation below this at any delay is a swing, not noise
SIGMAS = 2.0  # of what is still to come; 2.3 in 100 lie beyond on that side
ALLOWED = 4.0  # of chi-square above the best: settling times that the readings allow (95 of 100)
TRIMMED, TRIMMED_TO = 0.98, 0.935  # the largest 2 % of jumps, as at a step, are left out; what is left of white noise
BINS = 100  # the past is looked at in so many means at most
MOST_LENGTHS = 600.0  # settling times, beyond which e to their number is no number any more
MOST_DIGITS = 9  # decimals
ROUNDING = 1e-9  # of a reading, below which nothing is said to move
SETTLING = np.geomspace(0.03, 1.5, 24)  # settling times that are tried, in lengths of the stretch


@dataclass(frozen=True)
class Limits:
    """drift in the raw unit per s, scatter in the raw unit; None: proposed from noise and resolution."""

    drift: float | None = None
    scatter: float | None = None

    @property
    def drift_limit(self) -> float:
        return self.drift or 0.0

    @property
    def scatter_limit(self) -> float:
        return self.scatter or 0.0


PROPOSED = Limits()


class Tail(NamedTuple):
    """What is still to come at the end of a stretch, in the raw unit: its standard uncertainty, and what it is by the best
    curve, which is approached with `tau` in s."""

    may_come: float = 0.0
    size: float = 0.0
    tau: float = 1.0

    def mean_over(self, seconds: float) -> float:
        """How far the mean of the last so many seconds lies from where the curve will end."""
        lengths = seconds / self.tau
        if lengths < 1e-6:
            return abs(self.size)
        return abs(self.size) * float(np.expm1(min(lengths, MOST_LENGTHS))) / lengths


NO_TAIL = Tail()


@dataclass(frozen=True)
class Steadiness:
    """seconds: how long it has been steady (0: not); drift and u_drift per s, scatter, mean and u of the
    steady stretch, or of the last one looked at, in the raw unit; n readings worth `independent` ones;
    noise from one reading to the next; step: resolution seen; expected: s until steady (nan: cannot be
    said, inf: no end in sight); limits: what drift and scatter were held against; tail: what is still to come."""

    seconds: float = 0.0
    drift: float = float("nan")
    u_drift: float = float("nan")
    scatter: float = float("nan")
    mean: float = float("nan")
    u: float = float("nan")
    n: int = 0
    independent: float = 1.0
    noise: float = 0.0
    step: float = 0.0
    expected: float = float("nan")
    to_come: float = float("nan")
    limits: Limits = PROPOSED
    tail: Tail = NO_TAIL

    @property
    def steady(self) -> bool:
        return self.seconds >= LONG_ENOUGH


@dataclass(frozen=True)
class _Described:
    """A stretch as level + what is still to come: `bound` its standard uncertainty for bins of unit noise, tau the
    best settling time in s, sure: whether it settles at all, inside: s at the end within the limit; may_come: standard
    uncertainty of what is still to come for all settling times together, tail: what it is by the best of them."""

    to_come: float
    bound: float
    tau: float
    sure: bool
    inside: float
    may_come: float
    tail: float


def steadiness(t: Floats, raw: Floats, limits: Limits = PROPOSED) -> Steadiness:
    """t: (n,) s, raw: (n,) recent readings, nan for no value. Looks at the stretches that end at the last one."""
    known = np.isfinite(raw)
    t, raw = t[known], raw[known]
    if len(t) < LEAST_READINGS or t[-1] <= t[0]:
        return Steadiness()
    spacing = float(np.median(np.diff(t[-200:])))
    slow = max(1.0, LEAST_READINGS * spacing / STRETCHES[0])
    found: Steadiness | None = None
    for length in STRETCHES:
        first = int(np.searchsorted(t, t[-1] - length * slow))
        if len(t) - first < LEAST_READINGS or t[-1] - t[0] < 0.9 * length * slow:
            break
        at = _stretch(t[first:], raw[first:], limits)
        if at is None:
            break
        found = at
    return found if found is not None else _moving(t, raw, limits, STRETCHES[0] * slow)


def _moving(t: Floats, raw: Floats, limits: Limits, length: float) -> Steadiness:
    """What can be said of a reading that no settling curve describes: it swings, or has just been stepped."""
    first = int(np.searchsorted(t, t[-1] - length))
    t, raw = t[first:], raw[first:]
    if len(t) < LEAST_READINGS:
        return Steadiness()
    noise, step = _noise(raw)
    drift, u_drift, scatter = _slope(t, raw)
    return Steadiness(
        0.0, drift, u_drift, scatter, float(raw.mean()), scatter, len(raw), 1.0, noise, step,
        limits=_limits(limits, noise, step),
    )  # fmt: skip


def _noise(raw: Floats) -> tuple[float, float]:
    """Standard deviation of single readings from their second differences, which no slow movement enters
    (after von Neumann, Ann. Math. Stat. 12, 367 (1941)), and the smallest step between two of them."""
    jumps = np.abs(np.diff(raw))
    some = jumps[jumps > 0]
    step = float(some.min()) if len(some) else 0.0
    bends = np.sort(np.diff(raw, 2) ** 2)
    bends = bends[: max(4, int(TRIMMED * len(bends)))]
    return max(float(np.sqrt(bends.mean() / 6)) / TRIMMED_TO, step / RECTANGULAR), step


def digits_of(raw: Floats) -> int:
    """Decimals with which (n,) raw numbers are sent, MOST_DIGITS at most."""
    known = raw[np.isfinite(raw)]
    for decimals in range(MOST_DIGITS):
        shifted = known * 10.0**decimals
        if (np.abs(shifted - np.round(shifted)) <= ROUNDING * np.maximum(1.0, np.abs(shifted))).all():
            return decimals
    return MOST_DIGITS


def _slope(t: Floats, raw: Floats) -> tuple[float, float, float]:
    """Drift per s, its standard uncertainty from the scatter about it, and that scatter. Readings that all
    came at one time, as after a stall, tell no drift: it is nan."""
    about = t - t.mean()
    below = float(np.dot(about, about))
    if below <= 0:
        return float("nan"), float("nan"), float(raw.std())
    drift = float(np.dot(about, raw)) / below
    rest = raw - raw.mean() - drift * about
    scatter = float(np.sqrt(np.dot(rest, rest) / max(1, len(rest) - 2)))
    return drift, scatter / below**0.5, scatter


def _limits(limits: Limits, noise: float, step: float) -> Limits:
    proposed = PROPOSE * max(noise, step)
    return Limits(
        proposed / HOLD if limits.drift is None else limits.drift,
        SCATTERED * proposed if limits.scatter is None else limits.scatter,
    )


def _stretch(t: Floats, raw: Floats, limits: Limits) -> Steadiness | None:
    """The stretch as a settling reading with what is steady at its end; None where no such curve describes it."""
    noise, step = _noise(raw)
    held = _limits(limits, noise, step)
    size = max(1, len(t) // BINS)
    whole = len(t) - len(t) % size
    at = t[-whole:].reshape(-1, size).mean(axis=1)
    binned = raw[-whole:].reshape(-1, size)
    means = binned.mean(axis=1)
    rounding = ROUNDING * float(np.abs(raw).max())
    described = _settle(at, means, max(HOLD * held.drift_limit, rounding))
    if described is None:
        return None
    rest, found = described
    # The scatter of single readings about the curve: a sensor that smooths has more of it than its jumps tell.
    scattered = float(np.sqrt(np.mean((binned - means[:, None] + rest[:, None]) ** 2)))
    ratio = scattered / noise if noise > 0 else 0.0
    if ratio > FILTERED_RATIO or (ratio > SCATTER_RATIO and _swings(rest)):
        return None
    if ratio > SCATTER_RATIO:
        held = _limits(limits, scattered, step)
    level = max(HOLD * held.drift_limit, rounding)
    alike = max(_alike(rest), 0.0)
    spread = float(np.sqrt(np.dot(rest, rest) / max(1, len(rest) - 3)))
    worse = max(spread * size**0.5 / noise if noise > 0 else 1.0, 1.0) * ((1 + alike) / (1 - alike)) ** 0.5
    bound = abs(found.to_come) + SIGMAS * worse * found.bound * noise / size**0.5
    inside = t >= t[-1] - found.inside
    length = float(t[-1] - t[inside][0]) if inside.any() else 0.0
    drift, u_drift, scatter = _slope(t[inside], raw[inside]) if inside.sum() > 2 else _slope(t, raw)
    kept = raw[inside] if inside.sum() >= LEAST_READINGS else raw
    still = bound <= level and scatter <= max(held.scatter_limit, rounding) and inside.sum() >= LEAST_READINGS
    independent = independent_of(kept)
    expected = 0.0 if still else _wait(found, level)
    moved = drift * length if abs(drift) > SIGMAS * u_drift * worse else 0.0
    tail = Tail(found.may_come * ((1 + alike) / (1 - alike)) ** 0.5, found.tail, found.tau)
    lag = tail.mean_over(length)
    u = max(scatter, step / RECTANGULAR) ** 2 / independent + (step**2 + moved**2) / 12 + tail.may_come**2 + lag**2 / 3
    return Steadiness(
        length if still else 0.0, drift, u_drift * worse, scatter, float(kept.mean()), float(np.sqrt(u)), len(kept),
        independent, noise, step, expected, found.to_come, held, tail,
    )  # fmt: skip


def _settle(t: Floats, means: Floats, level: float) -> tuple[Floats, _Described] | None:
    """Least squares of level + rest · exp(−(t − end)/τ) for each τ that is tried, all at once.

    `bound` is the standard uncertainty of what is to come for bins of unit noise; `inside` the s at
    the end in which the curve lies within the limit of where it will end.
    """
    length = float(t[-1] - t[0])
    if length <= 0 or len(t) < 6:
        return None
    since = t - t[-1]
    tau = SETTLING * length
    shape = np.exp(np.maximum(-since / tau[:, None], 0.0))  # (taus, bins), 1 at the end and larger before
    shape /= shape[:, :1]  # 1 at the beginning, so that nothing overflows
    about = shape - shape.mean(axis=1, keepdims=True)
    below = np.einsum("kn,kn->k", about, about)
    y = means - means.mean()
    amplitude = about @ y / below
    left = float(np.dot(y, y)) - amplitude**2 * below
    rest_noise = max(float(left.min()), 0.0) / max(1, len(t) - 3)
    allowed = left <= left.min() + ALLOWED * rest_noise + 1e-12 * float(np.dot(y, y))
    at_end = shape[:, -1]
    to_come = amplitude * at_end
    unsure = at_end / np.sqrt(below)
    best = int(np.argmin(left))
    worst = int(np.argmax(np.where(allowed, np.abs(to_come) + SIGMAS * unsure * rest_noise**0.5, -1.0)))
    rest = y - amplitude[best] * about[best]
    significant = np.abs(amplitude[best]) * below[best] ** 0.5 > 3 * rest_noise**0.5
    moved = np.abs(amplitude[worst] * (shape[worst] - at_end[worst])) + abs(float(to_come[worst]))
    outside = np.flatnonzero(moved > level)
    inside = float(t[-1] - t[outside[-1]]) if len(outside) and significant else length
    weight = (
        np.exp(-(left - left.min()) / (2 * rest_noise)) if rest_noise > 0 else np.where(left <= left.min(), 1.0, 0.0)
    )
    squares = to_come**2 + unsure**2 * rest_noise
    may_come = float(np.sqrt(np.sum(weight * squares) / np.sum(weight)))
    return rest, _Described(
        float(to_come[worst]), float(unsure[worst]), float(tau[best]), bool(significant), inside, may_come,
        float(to_come[best]) if significant else 0.0,
    )  # fmt: skip


def _wait(found: _Described, level: float) -> float:
    """s until what is to come lies inside the limit, if it goes on settling as it does, and the time to see it."""
    if not found.sure or level <= 0:
        return float("nan")
    if abs(found.to_come) <= level:
        return LONG_ENOUGH
    return found.tau * float(np.log(abs(found.to_come) / level)) + LONG_ENOUGH


def _alike(rest: Floats) -> float:
    total = float(np.dot(rest, rest))
    found = float(np.dot(rest[1:], rest[:-1])) / total if total > 0 else 0.0
    return min(max(found, 0.0), 0.99)


def _swings(rest: Floats) -> bool:
    n = len(rest)
    total = float(np.dot(rest, rest))
    if total <= 0 or n < 8:
        return False
    delays = np.correlate(rest, rest, "full")[n - 1 : n - 1 + n // 2] / total
    return bool(delays.min() < SWINGS)


def independent_of(raw: Floats) -> float:
    """How many independent readings these are worth: n (1 − ρ)/(1 + ρ) with ρ the autocorrelation of neighbours,
    as for a first-order process (Bayley, Hammersley, J. R. Stat. Soc. Suppl. 8, 184 (1946))."""
    about = raw - raw.mean()
    alike = _alike(about)
    return max(1.0, len(raw) * (1 - alike) / (1 + alike))
