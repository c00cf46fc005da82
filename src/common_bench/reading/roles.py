"""What each column is: the kit's clock, which kit, a channel, or left out; decided after the shape, by what it predicts.

A clock is what keeps pace with arrival in some unit. Columns with their names, values and arrivals in; roles out.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.reading.rows import is_unnamed
from common_bench.reading.values import table

UNITS = (1.0, 1e-3, 1e-6, 1e-9)  # s of one unit of a clock
UNIT_NAMES = {1.0: "s", 1e-3: "ms", 1e-6: "µs", 1e-9: "ns"}
PACE = 0.03  # relative, by which a clock may be off its unit's pace
LATE = 0.04  # s by which one arrival may be late of another without meaning anything
CONTRADICTED = 0.25  # relative, by which a clock that its name tells is off, before its unit is not believed
CONTRADICTED_AFTER = 4.0  # s of arrivals, from which a pace speaks against a name, or for ticks of any length
SHORTEST = 0.4  # s of arrivals, before a pace says anything
SURE_AFTER, SURE_LINES = 2.0, 12  # s and lines, before it is sure that what is not named is a clock
FEWEST = 5  # values
PARTS = 7  # of the time, in each of which a pace is looked at: a stall of the link is in a few of them alone
MOST_PARTS, ALIKE = 5, 0.15  # so many of them rise alike, within this share, where a pace speaks against a name
MOST_FALLS = 0.04  # of the steps, at which a clock may begin anew
EVEN = 0.02  # relative scatter of steps of a tick that is no unit's
MOSTLY_STRAIGHT = 0.65  # of its values, that lie where arrivals say; a link that stalls makes others late
LEAP = 10.0  # times as far as nearly all steps: a clock that was set, or silence
NICE = (1.0, 2.0, 2.5, 4.0, 5.0, 6.25, 8.0, 1.25, 3.125, 1.5625)
ONE_TIME = 1e-3  # s: arrivals that lie closer together all came at once, and say nothing of a pace


class Clock(NamedTuple):
    """tick: s of one unit; sure: whether enough came to be sure of it; named: its name says so."""

    tick: float
    sure: bool
    named: bool


@dataclass(frozen=True, slots=True)
class Pace:
    """How a column goes on with arrival. per_second: how fast it rises, nan where it cannot be said; seconds: of
    arrivals that tell; rises: it never falls but to begin anew; steps: of the column, those that rise."""

    per_second: float
    seconds: float
    rises: bool
    steps: Floats
    values: int
    straight: bool = False  # it rises as evenly as arrivals tell
    usual: float = float("nan")  # the middle one of how fast it rises in parts of the time, whatever came late
    alike: int = 0  # of these parts, those in which it rises about as fast

    @property
    def is_steady(self) -> bool:
        """Whether it is the same in most parts of the time, so that no stall of the link has bent it."""
        return self.alike >= MOST_PARTS

    def off(self, unit: float) -> float:
        """Relative: how far its pace is from that of a clock of this unit, by the whole or by most of its parts."""
        return min((abs(each * unit - 1.0) for each in (self.per_second, self.usual) if each > 0), default=float("inf"))

    @property
    def tolerance(self) -> float:
        """Relative: how far a pace may be off for want of arrivals, and of digits."""
        coarse = 2.0 * float(self.steps[self.steps > 0].min()) if (self.steps > 0).any() else 0.0
        whole = float(self.steps.sum())
        return PACE + LATE / max(self.seconds, 1e-9) + (coarse / whole if coarse and whole > 20 * coarse else 0.0)


def pace_of(values: Floats, arrivals: Floats) -> Pace:
    """values: (n,) of one column of one kit, nan where there is none; arrivals: (n,) s."""
    there = np.isfinite(values)
    v, a = values[there], arrivals[there]
    if len(v) < 3:
        return Pace(float("nan"), 0.0, False, np.empty(0), len(v))
    steps = np.diff(v)
    falls = steps < 0
    rises = int(np.count_nonzero(falls)) <= max(1.0, MOST_FALLS * len(steps)) and bool((steps > 0).any())
    if not rises:
        seconds = float(a[-1] - a[0])
        return Pace(float("nan"), seconds, False, np.empty(0), len(v))
    if falls.any():  # it begins anew near zero, or wraps round
        rises = rises and bool((v[1:][falls] <= 0.5 * v[:-1][falls]).all())
    often = np.partition(steps, (19 * len(steps)) // 20)[(19 * len(steps)) // 20]
    kept = ~falls & (steps <= LEAP * max(often, 0.0)) if often > 0 else ~falls
    seconds = float(np.diff(a)[kept].sum())
    per_second = float(steps[kept].sum()) / seconds if seconds > ONE_TIME else float("nan")
    straight, usual, alike = False, float("nan"), 0
    if len(v) >= 2 * PARTS and not falls.any():
        ends = np.linspace(0, len(v) - 1, PARTS + 1).astype(int)
        parts = np.diff(v[ends]) / np.maximum(np.diff(a[ends]), 1e-9)
        usual = float(np.median(parts))
        alike = int(np.count_nonzero(np.abs(parts - usual) <= ALIKE * abs(usual)))
    if rises and per_second > 0 and not falls.any():
        off = np.sort(np.abs(v - v[0] - per_second * (a - a[0])))[int(MOSTLY_STRAIGHT * len(v))]
        straight = bool(off <= 2.0 * float(np.median(steps)) + 1.5 + LATE * per_second + 0.02 * float(steps.sum()))
    return Pace(
        per_second, seconds, rises, steps[kept], len(v), straight or (rises and bool(falls.any())), usual, alike
    )


def clock_of(name: str, unit: str, kind: str, pace: Pace, steps: Floats, *, alone: bool, paced: bool) -> Clock | None:
    """Whether a column is the kit's clock. pace: over all that was heard; steps: from line to line, of the last ones;
    alone: nothing else stands in the line; paced: arrivals mean anything."""
    if kind == "time":
        return Clock(1.0, True, True)
    if kind not in ("number", "hexadecimal") or alone:
        return None
    named, maybe = named_tick(name, unit)
    if named:
        return _named_clock(named, pace, paced=paced)
    if not pace.rises or pace.values < FEWEST:
        return None
    if not paced or not pace.seconds > ONE_TIME:
        return Clock(1.0, not paced, True) if maybe and _is_even(steps) else None
    if pace.seconds < SHORTEST:
        return None
    found = unit_at(pace)
    sure = pace.seconds >= SURE_AFTER and pace.values >= SURE_LINES
    whole = bool((pace.steps == np.rint(pace.steps)).all())  # ticks are counted
    called = not maybe and not is_unnamed(name)  # something else, as far as its name says
    if called and not (found and found < 1.0 and whole and pace.seconds >= CONTRADICTED_AFTER and pace.straight):
        return None
    if found and (maybe or (pace.straight and _is_like_a_clock(steps, found))):
        return Clock(found, sure, maybe)
    if maybe and whole and pace.straight and pace.seconds >= CONTRADICTED_AFTER:
        return Clock(nice_tick(1.0 / pace.per_second, pace.tolerance - PACE + 0.004), True, True)
    return None


def _named_clock(named: float, pace: Pace, *, paced: bool) -> Clock | None:
    """A clock whose name tells its unit, unless its pace speaks against it."""
    told = paced and pace.seconds >= SHORTEST and pace.values >= FEWEST
    if not told:
        return Clock(named, not paced, True)
    sure = pace.seconds >= 1.0
    if not pace.rises:
        return None if pace.values >= 2 * FEWEST else Clock(named, False, True)
    off = pace.off(named)
    if off <= CONTRADICTED + LATE / pace.seconds:
        return Clock(named, sure, True)
    if pace.seconds < CONTRADICTED_AFTER or not pace.straight or not pace.is_steady:
        return Clock(named, False, True)  # a link that stalls bends a pace as well
    found = unit_at(pace)
    if found:
        return Clock(found, True, True)
    if bool((pace.steps == np.rint(pace.steps)).all()):
        return Clock(nice_tick(1.0 / pace.per_second, pace.tolerance - PACE + 0.004), True, True)
    return None


def unit_at(pace: Pace) -> float:
    """The unit at whose pace a column rises, in s; 0 where it is none's."""
    if not pace.per_second > 0:
        return 0.0
    return next((unit for unit in UNITS if pace.off(unit) <= pace.tolerance), 0.0)


def named_tick(name: str, unit: str) -> tuple[float, bool]:
    """(s of one unit where a column's name tells it, whether the name may be a clock's in any unit)."""
    low = name.lower()
    maybe = low in table()["maybe_clock"]["names"]
    if unit:
        known = maybe or low in table()["clock"]
        return (float(table()["clock_unit"].get(unit, 0.0)) if known else 0.0), False
    return (0.0, True) if maybe else (float(table()["clock"].get(low, 0.0)), False)


def _is_even(steps: Floats) -> bool:
    """Whether nearly all steps are whole times one step, as a counter's or a tick's."""
    moved = steps[steps > 0]
    if len(moved) < FEWEST - 1:
        return False
    usual = float(np.median(moved))
    near = np.abs(moved / usual - np.rint(moved / usual)) <= EVEN
    return bool(np.mean(near) >= 0.97) and float(np.mean(moved <= 1.5 * usual)) > 0.8


def _is_like_a_clock(steps: Floats, unit: float) -> bool:
    """Whether steps are those of a clock rather than of a quantity that happens to rise: they are even but for what a
    kit's own work adds, and a counter that rises by one is none."""
    steps = steps[steps >= 0]
    moved = steps[steps > 0]
    if len(moved) < FEWEST - 1 or (float(moved.max()) == 1.0 and float(np.median(steps)) == 1.0 and unit < 1.0):
        return False
    usual = float(np.median(steps))
    if usual == 0.0:  # coarse: several lines within one unit
        return float(moved.max()) <= 2.0 * float(moved.min())
    return float(np.mean(np.abs(steps / usual - 1.0) <= 0.5)) >= 0.8


def nice_tick(tick: float, tolerance: float) -> float:
    """The roundest length of a tick within the tolerance (relative); else the tick to four digits."""
    decade = 10.0 ** np.floor(np.log10(tick))
    for nice in NICE:
        for scale in (decade, 10.0 * decade):
            if abs(nice * scale / tick - 1.0) <= tolerance:
                return float(f"{nice * scale:.6g}")
    return float(f"{tick:.4g}")


def few_again(fields: Sequence[str], most: int = 12) -> bool:
    """Whether a column holds a few ids that come again and again."""
    found = set(fields)
    return len(found) <= most and (len(fields) < 8 or len(fields) >= 2 * len(found))
