"""What can be said of a column from its last readings. Times and raw values in; rate, noise and what is wrong out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from common_bench.model.block import Floats
from common_bench.model.trouble import words_of
from common_bench.reading.values import table

SENTINELS = 3  # times that a number must have come, before it is called odd
LEAST = 20  # readings, before anything is said
STUCK_FOR = 100  # readings without any change
ENDS = (0.0, *(float(2**bits - 1) for bits in (7, 8, 10, 11, 12, 13, 14, 15, 16, 23, 24, 31)))
AT_END = 0.5  # share of readings at the end of a range
FLOATS = 0.04  # of the converter's range: white noise larger than this comes from an open input
NORMAL_MEDIAN = 0.6745  # median of |x| of a standard normal distribution
MAINS = (50.0, 60.0)  # Hz
HUM_SHARE = 0.5  # of all scatter that must lie in one line of the spectrum
HUM_OVER_NOISE = 25.0  # times the mean of the rest of the spectrum
NEAR_MAINS = 0.4  # Hz by which mains and a kit's clock may differ from their names
NEAR_DC = 0.8  # Hz: an alias closer to standstill than this cannot be told from a slow signal

TONES = {"good": "good", "listening": "", "still": "", "saturated": "red", "floating": "red"}  # amber: all others


@dataclass(frozen=True)
class ColumnHealth:
    """rate: readings per s; uneven: 90th percentile of the spacing over its median; missing: share of
    readings without a value; low, high: since it was opened; noise: standard deviation from one reading to the
    next; step: resolution seen; state: what is to be said, as a code of the table of sentences without `column-`
    (good, listening, still, none, saturated, stuck, sentinel, hum, floating, missing), with its fields."""

    name: str
    rate: float
    uneven: float
    missing: float
    low: float
    high: float
    noise: float
    step: float
    state: str
    fields: Mapping[str, float]

    @property
    def cause(self) -> str:
        """The state where something is wrong with the column, else empty."""
        return "" if self.state in ("good", "listening", "still") else self.state

    @property
    def words(self) -> str:
        return words_of(f"column-{self.state}", "what", self.fields)

    @property
    def tone(self) -> str:
        return TONES.get(self.state, "amber")


def column_health(name: str, t: Floats, values: Floats, extent: tuple[float, float]) -> ColumnHealth:
    """t: (n,) s, values: (n,) raw, nan for "no value"."""
    known = np.isfinite(values)
    n = int(known.sum())
    missing = 1 - n / len(values) if len(values) else 0.0
    seen_t, seen = t[known], values[known]
    steps = np.diff(seen_t)
    usual = float(np.median(steps)) if len(steps) else float("nan")
    span = float(seen_t[-1] - seen_t[0]) if n > 1 else 0.0
    rate = (n - 1) / span if span > 0 else float("nan")
    uneven = float(np.percentile(steps, 90)) / usual if len(steps) and usual > 0 else float("nan")
    jumps = np.abs(np.diff(seen))
    step = float(jumps[jumps > 0].min()) if (jumps > 0).any() else 0.0
    noise = robust_noise(jumps)
    state, fields = _judged(seen_t, seen, missing, noise, extent)
    return ColumnHealth(name, rate, uneven, missing, *extent, noise, step, state, fields)


def odd_number(values: Floats) -> float | None:
    """A number from the table of those that often stand for "no value", far away from all other values; else None."""
    for text in table()["sentinels"]["numbers"]:
        number = float(text)
        met = values == number
        others = values[~met]
        if SENTINELS <= met.sum() < len(values) / 2 and len(others):
            far = 3 * (float(np.ptp(others)) + 0.2 * abs(float(np.median(others))) + 1e-9)
            if abs(number - float(np.median(others))) > far:
                return number
    return None


def robust_noise(jumps: Floats) -> float:
    """Standard deviation of single readings from the jumps between neighbours, blind to the odd large step."""
    if len(jumps) < 2:
        return 0.0
    usual = float(np.median(jumps)) / NORMAL_MEDIAN / 2**0.5
    # Where most jumps are 0 the median says nothing; the mean then does.
    return usual if usual > 0 else float(np.sqrt(np.mean(jumps**2) / 2))


def _judged(
    t: Floats, values: Floats, missing: float, noise: float, extent: tuple[float, float]
) -> tuple[str, dict[str, float]]:
    if not len(values):
        return "none", {}
    if len(values) < LEAST:
        return "listening", {}
    low, high = float(values.min()), float(values.max())
    end = _end_of_range(values, extent)
    if end is not None and float(np.mean(values == end)) >= AT_END:
        return "saturated", {"end": end}
    if low == high:
        if len(values) >= STUCK_FOR:
            return "stuck", {"seconds": float(t[-1] - t[0])}
        return "still", {}
    sentinel = odd_number(values)
    if sentinel is not None:
        return "sentinel", {"number": sentinel}
    hum = mains_hum(t, values)
    if hum:
        return "hum", {"mains": hum}
    if _floats(values, noise):
        return "floating", {}
    if missing > 0.2:
        return "missing", {"missing": missing}
    return "good", {}


def _end_of_range(values: Floats, extent: tuple[float, float]) -> float | None:
    """The end of a converter's range at which the values stand; 0 only where it has been left before."""
    for end in (float(values.max()), float(values.min())):
        if end in ENDS and (end != 0 or extent[1] > 0):
            return end
    return None


def _floats(values: Floats, noise: float) -> bool:
    """White noise over a large part of a converter's range: neighbours do not resemble each other at all."""
    whole = bool((values == np.round(values)).all())
    top = float(values.max())
    if not whole or top <= 64 or float(values.min()) < 0:
        return False
    range_of = next((end for end in sorted(ENDS) if end >= top), top)
    about = values - values.mean()
    total = float(about @ about)
    alike = float(about[1:] @ about[:-1]) / total if total > 0 else 1.0
    return noise > FLOATS * range_of and abs(alike) < 0.3


def mains_hum(t: Floats, values: Floats) -> float:
    """50 or 60 where one sharp line of the spectrum lies where mains of that frequency would appear and
    holds most of the scatter; 0 otherwise.

    Sampling folds mains to |f - k·rate|. A real signal may lie there by chance, so the line must be
    as sharp as the window allows, and must not lie so low that a slow signal would look the same.
    """
    n = len(t)
    if n < 64:
        return 0.0
    even = np.linspace(float(t[0]), float(t[-1]), n)
    rate = (n - 1) / float(t[-1] - t[0])
    spread = float(np.percentile(np.abs(t - even), 95))
    if spread > 0.25 / rate * 4:
        return 0.0  # too uneven to fold frequencies
    level = np.polyval(np.polyfit(even - even[0], values, 1), even - even[0])
    window = np.hanning(n)
    power = np.abs(np.fft.rfft((values - level) * window)) ** 2
    if not power[1:].sum() > 0:
        return 0.0
    at = int(np.argmax(power[1:])) + 1
    near = slice(max(1, at - 2), at + 3)
    share = float(power[near].sum() / power[1:].sum())
    rest = np.delete(power[1:], np.arange(max(0, at - 3), min(len(power) - 1, at + 2)))
    peak, width = at * rate / n, rate / n
    if share < HUM_SHARE or not len(rest) or power[at] < HUM_OVER_NOISE * float(rest.mean()):
        return 0.0
    for mains in MAINS:
        folded = abs(mains - round(mains / rate) * rate)
        if folded > NEAR_DC and abs(peak - folded) < max(width, NEAR_MAINS):
            return mains
    return 0.0
