"""When the rows of a logged file were: its columns of dates, times or counts in; s since the first row, and what is known of the
wall clock, out."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.logged import Logged
from common_bench.exchange.steps import Steps, steps_of, steps_that, usual_step
from common_bench.model.block import Floats
from common_bench.model.units import conversion, same_kind

ISO = re.compile(
    r"(\d{4})-?(\d{1,2})-?(\d{1,2})(?:[T ]\s*(\d{1,2}):?(\d{2})(?::?(\d{2}(?:[.,]\d+)?))?)?\s*(Z|[+\-]\d{2}:?\d{2})?",
    re.I,
)
DATED = re.compile(r"(\d{1,4})[/.\-](\d{1,2})[/.\-](\d{1,4})(?:[ T,]+(.+))?")
CLOCK = re.compile(r"(\d{1,2}):(\d{2})(?::(\d{2}(?:[.,]\d+)?))?\s*([ap]\.?m\.?)?", re.I)
NAMED_DATE = re.compile(
    r"(?:[^\W\d_]{2,10}\.?,?\s+)?(?:(\d{1,2})\.?[-/ .]+([^\W\d_]{3,10})\.?|([^\W\d_]{3,10})\.?[-/ ]+(\d{1,2}))[-/ .,]+(\d{4}|\d{2})(?:[ T,]+(\d.*))?"
)
MONTHS = {
    "jan": 1, "feb": 2, "fév": 2, "fev": 2, "mar": 3, "mär": 3, "apr": 4, "avr": 4, "may": 5, "mai": 5, "jun": 6, "jul": 7,
    "aug": 8, "aoû": 8, "sep": 9, "oct": 10, "okt": 10, "nov": 11, "dec": 12, "dez": 12, "déc": 12,
}  # fmt: skip
PARTED = re.compile(r"[+-]?\d{1,3}(?:\s\d{3})+(?:[.,]\d+)?")  # 12 500,5
NAMED = re.compile(
    r"time|date|stamp|zeit|datum|uhr|clock|millis|micros|elapsed|seconds?|^t$|^ms$|^us$|^s$|heure|hora|tempo", re.I
)
STEPS = {"ms": 1e-3, "millis": 1e-3, "millisecond": 1e-3, "us": 1e-6, "µs": 1e-6, "micros": 1e-6, "min": 60.0, "minute": 60.0, "hour": 3600.0, "h": 3600.0}  # fmt: skip
INTERVAL = re.compile(r"(?:interval|period|every|rate|step)\D{0,12}(\d+(?:[.,]\d+)?)\s*(ms|s|sec|min|h|hz)?", re.I)
EPOCHS = (946684800.0, 4102444800.0)  # s since 1970 of the years 2000 to 2100
FAR_OFF = 2012  # a clock that was never set begins before
COARSE = 1.5  # rows that share a stamp, on average, from which stamps count as coarse
HOUR = 3600.0  # s
LONGEST_STEP = 366 * 86_400.0  # s between two rows, beyond which the clock has jumped
MOSTLY = 0.7  # of the steps of a column that is called a time go onwards, however often the logger began anew


@dataclass(frozen=True)
class FileTimes:
    """t: (n,) s since the first row; began: what the kit's own clock said there in s, None where it said nothing; breaks: rows before which how long passed is not known; first, last: wall-clock times, None
    where only durations are known; columns: places of those that told it; state: `set`, `never set`, `durations`, `counted`;
    notes: what is to be known of it, in words."""

    t: Floats
    breaks: tuple[int, ...]
    first: datetime | None
    last: datetime | None
    columns: tuple[int, ...]
    state: str
    notes: tuple[str, ...]
    began: float | None = None


def times_of(made: Logged) -> FileTimes:
    """From dates and times of day, elapsed time, seconds since 1970, an interval in a remark; else each row counts as one second
    after the last, and says so."""
    notes: list[str] = []
    told = _dated(made, notes) or _elapsed(made, notes)
    if told is None:
        return _counted(made)
    stamps, columns, state, walls = told
    stamps = _filled(stamps, notes)
    if state == "set":
        stamps = _without_summer_time(stamps, notes)
    steps = steps_of(stamps)
    t, breaks = _onwards(stamps, steps, made.breaks, notes)
    t = _spread(t, steps if t is stamps else steps_of(t), notes)
    first = walls
    last = later(first, float(t[-1] - t[0]))
    return FileTimes(t - t[0] if t[0] else t, tuple(breaks), first, last, columns, state, tuple(notes), float(t[0]))


def later(first: datetime | None, seconds: float) -> datetime | None:
    """So many s after a moment; None where there is no such time."""
    try:
        return first + timedelta(seconds=seconds) if first is not None else None
    except OverflowError:
        return None


def _dated(made: Logged, notes: list[str]) -> tuple[Floats, tuple[int, ...], str, datetime | None] | None:
    """By columns of dates and times of day."""
    wide = len(made.names)
    sample = made.rows[:: max(1, len(made.rows) // 200)]
    dates = [at for at in range(wide) if _share(sample, at, lambda cell: bool(_date_in(cell))) > 0.8]
    clocks = [at for at in range(wide) if _share(sample, at, lambda cell: CLOCK.fullmatch(cell) is not None) > 0.8]
    if not dates and not clocks:
        return None
    if not dates:
        seconds = np.array([_seconds(cell) for cell in made.column(clocks[0])])
        days = np.cumsum(np.diff(seconds, prepend=seconds[0]) < -43_200.0)
        notes.append("times of day without a date: only durations are known")
        return seconds + 86_400.0 * days, (clocks[0],), "durations", None
    day = dates[0]
    clock = next((at for at in clocks if at != day), None)
    told = _told_once(made.column(day))
    times = made.column(clock) if clock is not None else []
    texts = [f"{date} {time}" for date, time in zip(told, times, strict=True)] if clock is not None else list(told)
    order = _order(texts, notes)
    stamps = np.array([_stamp(text, order) for text in texts])
    known = stamps[np.isfinite(stamps)]
    if not len(known):
        return None
    first = datetime(1970, 1, 1) + timedelta(seconds=float(known[0]))
    columns = (day, clock) if clock is not None else (day,)
    if first.year < FAR_OFF:
        notes[:] = [each for each in notes if "day and month" not in each]
        notes.append(f"the kit's clock was never set: its first row is called {first:%-d %B %Y, %H:%M:%S}")
        return stamps, columns, "never set", None
    return stamps, columns, "set", first


def _told_once(cells: Sequence[str]) -> list[str]:
    """A date that stands only in the first row of its day holds for the rows under it."""
    found, last = [], ""
    for cell in cells:
        last = cell or last
        found.append(last)
    return found


def _share(rows: Sequence[Sequence[str]], at: int, met: Callable[[str], bool]) -> float:
    told = [row[at] for row in rows if row[at]]
    return sum(map(met, told)) / len(told) if told else 0.0


def _date_in(cell: str) -> bool:
    if ISO.fullmatch(cell) and len(cell) >= 8:
        return 1 <= int(ISO.fullmatch(cell)[2]) <= 12  # type: ignore[index]
    named = NAMED_DATE.fullmatch(cell)
    if named is not None:
        return _month(named[2] or named[3]) > 0
    found = DATED.fullmatch(cell)
    return (
        found is not None
        and (len(found[1]) == 4 or len(found[3]) in (2, 4))
        and (found[4] is None or CLOCK.match(found[4]) is not None)
    )


def _order(texts: Sequence[str], notes: list[str]) -> str:
    """Whether days or months come first: `dmy` or `mdy`."""
    firsts, seconds = set(), set()
    for text in texts:
        found = DATED.match(text)
        if found and len(found[1]) <= 2:
            firsts.add(int(found[1]))
            seconds.add(int(found[2]))
    if any(each > 12 for each in seconds):
        return "mdy"
    if any(each > 12 for each in firsts) or not firsts:
        return "dmy"
    kept = {}
    for order in ("dmy", "mdy"):
        stamps = np.array([_stamp(text, order) for text in texts[:: max(1, len(texts) // 2000)]])
        steps = np.diff(stamps)
        kept[order] = (float(np.mean(steps < 0)) if len(steps) else 0.0, float(np.ptp(stamps)) if len(stamps) else 0.0)
    if kept["mdy"] < kept["dmy"]:
        return "mdy"
    if len(firsts) > 1 and kept["dmy"] < kept["mdy"]:
        return "dmy"
    notes.append("day and month read either way: taken as day first")
    return "dmy"


def _stamp(text: str, order: str) -> float:
    """s since 1970, of a date and time as they are written; nan where it is none."""
    try:
        found = ISO.fullmatch(text.strip()) or None
        if found is not None:
            day = datetime(int(found[1]), int(found[2]), int(found[3]))
            told = int(found[4] or 0) * 3600 + int(found[5] or 0) * 60 + float((found[6] or "0").replace(",", "."))
            zone = found[7]
            shift = 0.0
            if zone and zone.upper() != "Z":
                shift = (int(zone[1:3]) * 3600 + int(zone[-2:]) * 60) * (-1 if zone[0] == "-" else 1)
            return (day - datetime(1970, 1, 1)).total_seconds() + told - shift
        named = NAMED_DATE.fullmatch(text.strip())
        if named is not None:
            year = int(named[5]) if len(named[5]) == 4 else 2000 + int(named[5])
            day = datetime(year, _month(named[2] or named[3]), int(named[1] or named[4]))
            return (day - datetime(1970, 1, 1)).total_seconds() + (_seconds(named[6].strip()) if named[6] else 0.0)
        dated = DATED.match(text.strip())
        if dated is None:
            return np.nan
        one, two, three = int(dated[1]), int(dated[2]), int(dated[3])
        if len(dated[1]) == 4:
            year, month, day_of = one, two, three
        else:
            day_of, month = (one, two) if order == "dmy" else (two, one)
            year = three if three > 99 else 2000 + three if three < 70 else 1900 + three
        clock = dated[4] or ""
        return (datetime(year, month, day_of) - datetime(1970, 1, 1)).total_seconds() + (
            _seconds(clock.strip()) if clock.strip() else 0.0
        )
    except (ValueError, OverflowError):
        return np.nan


def _month(word: str) -> int:
    """1 to 12, of a month's name or the beginning of it; 0 where it is none."""
    return MONTHS.get(word.lower()[:3], 0)


def _seconds(text: str) -> float:
    """s since midnight of a time of day, 12 or 24 h."""
    found = CLOCK.match(text)
    if found is None:
        return np.nan
    hours, half = int(found[1]), (found[4] or "").lower()[:1]
    if half:
        hours = hours % 12 + (12 if half == "p" else 0)
    return hours * 3600.0 + int(found[2]) * 60 + float((found[3] or "0").replace(",", "."))


def _elapsed(made: Logged, notes: list[str]) -> tuple[Floats, tuple[int, ...], str, datetime | None] | None:
    """By a column of numbers that its name or unit calls a time, or that never falls while it is called by nothing better."""
    best: tuple[float, int, Floats] | None = None
    for at, (name, unit) in enumerate(zip(made.names, made.units, strict=True)):
        named = bool(NAMED.search(name)) or (bool(unit) and same_kind(unit, "s"))
        if not named:
            continue
        values = numbers(made, at)
        known = values if made.are_known(at) else values[np.isfinite(values)]
        if len(known) < 2:
            continue
        onwards = 1.0 - steps_of(known).falling / (len(known) - 1)
        if onwards > MOSTLY and (best is None or onwards > best[0]):
            best = onwards, at, values
    if best is None:
        return None
    _, at, values = best
    unit, name = made.units[at], made.names[at].lower()
    factor = conversion(unit, "s")[0] if unit and same_kind(unit, "s") else next((f for key, f in STEPS.items() if re.search(rf"(^|[^a-z]){key}s?([^a-z]|$)", name)), 1.0)  # fmt: skip
    known = values[:1] if np.isfinite(values[0]) else values[np.isfinite(values)]
    for scale in (1.0, 1e-3):
        if EPOCHS[0] < known[0] * scale * (factor if factor < 1 else 1.0) < EPOCHS[1] and not (
            unit and factor == 1.0 and known[0] < 1e8
        ):
            seconds = values * scale * (factor if factor < 1 else 1.0)
            return (
                seconds,
                (at,),
                "set",
                datetime(1970, 1, 1) + timedelta(seconds=float(known[0] * scale * (factor if factor < 1 else 1.0))),
            )
    notes.append("counted from when the kit was started: only durations are known")
    return values if factor == 1.0 else values * factor, (at,), "durations", None


def _counted(made: Logged) -> FileTimes:
    step, words = 1.0, "no time in the file: each row counts as one second after the last"
    for line in made.settings:
        found = INTERVAL.search(line)
        if found:
            value = float(found[1].replace(",", "."))
            unit = (found[2] or "s").lower()
            step = (
                1 / value
                if unit == "hz" and value > 0
                else value * {"ms": 1e-3, "min": 60.0, "h": 3600.0}.get(unit, 1.0)
            )
            words = f"no time in its rows: every {step:g} s, as its settings say"
    return FileTimes(
        np.arange(len(made.rows), dtype=float) * step, tuple(made.breaks), None, None, (), "counted", (words,)
    )


def numbers(made: Logged, at: int) -> Floats:
    """A column as numbers, nan where a cell is none. Must not be changed."""
    if isinstance(made.rows, ColumnRows):
        known = made.rows.numbers(at, comma=made.comma)
        if known is not None:
            return known
    found = np.full(len(made.rows), np.nan)
    for row, cells in enumerate(made.rows):
        cell = cells[at].replace("−", "-")
        if not cell:
            continue
        if PARTED.fullmatch(cell):
            cell = re.sub(r"\s", "", cell).replace(",", ".")
        elif "," in cell and "." in cell:  # whichever comes last parts the whole number from the rest
            mark = max(",.", key=cell.rfind)
            cell = cell.replace(",.".replace(mark, ""), "").replace(mark, ".")
        try:
            found[row] = float(cell.replace(",", ".") if made.comma else cell)
        except ValueError:
            continue
    found[~np.isfinite(found)] = np.nan  # a number beyond all that a computer holds is no value
    return found


def _filled(stamps: Floats, notes: list[str]) -> Floats:
    """Rows whose time cannot be read lie between their neighbours."""
    bad = ~np.isfinite(stamps)
    if not bad.any():
        return stamps
    known = np.flatnonzero(~bad)
    notes.append(f"{int(bad.sum())} rows without a time that can be read lie between their neighbours")
    return np.interp(np.arange(len(stamps)), known, stamps[known])


def _without_summer_time(stamps: Floats, notes: list[str]) -> Floats:
    """Where the clock was set forth or back by an hour in the night of a Sunday of spring or autumn, as many computers and phones
    do, the rows after it lie where they belong. stamps: s since 1970 by that clock."""
    steps = np.diff(stamps)
    usual = float(np.median(steps)) if len(steps) else 0.0
    if not 0 < usual < HOUR / 2:
        return stamps
    found = stamps.copy()
    for row in (np.flatnonzero(np.abs(np.abs(steps - usual) - HOUR) <= max(0.6 * usual, 1.0)) + 1).tolist():
        night = datetime(1970, 1, 1) + timedelta(seconds=float(min(stamps[row - 1], stamps[row])))
        if night.weekday() != 6 or night.hour > 3 or night.month not in (3, 4, 9, 10, 11):
            continue
        back = steps[row - 1] < 0
        found[row:] += HOUR if back else -HOUR
        notes.append(
            f"the clock was set {'back' if back else 'forth'} by an hour on {night:%-d %B %Y}, as for daylight saving: durations go on"
        )
    return found


def _onwards(stamps: Floats, steps: Steps, breaks: Sequence[int], notes: list[str]) -> tuple[Floats, list[int]]:
    """Times that never fall: where the clock went back or began anew, how long passed is not known, and a gap stands there."""
    if not (steps.low < 0 or steps.high > LONGEST_STEP):
        return stamps, sorted({row for row in breaks if 0 < row < len(stamps)})
    ahead = usual_step(stamps, onwards=True)
    usual = ahead if ahead == ahead else 1.0
    back = steps_that(stamps, lambda steps: steps < -0.5 * usual)
    jumps = steps_that(stamps, lambda steps: steps > LONGEST_STEP)
    again = sorted({*back.tolist(), *jumps.tolist()})
    t = stamps.copy()
    for row in again:
        t[row:] += t[row - 1] + max(10 * usual, 1.0) - t[row]
    if again:
        how = "jumped or went back" if len(jumps) else "went back or began anew"
        often = "once" if len(again) == 1 else f"{len(again)} times"
        notes.append(f"the clock {how} {often}: how long passed there is not known")
    return np.maximum.accumulate(t), sorted({*again, *(row for row in breaks if 0 < row < len(t))})


def _spread(t: Floats, steps: Steps, notes: list[str]) -> Floats:
    """Stamps that several rows share are spread evenly up to the next."""
    if len(t) < 4 or not steps.rising or len(t) / (steps.rising + 1) < COARSE:
        return t
    changes = steps_that(t, lambda steps: steps > 0)
    starts = np.concatenate([[0], changes])
    sizes = np.diff(np.append(starts, len(t)))
    lengths = np.append(np.diff(t[starts]), np.median(np.diff(t[starts])))
    usual = np.median(sizes)
    within = np.arange(len(t)) - np.repeat(starts, sizes)
    share = np.repeat(np.where(sizes > 0.5 * usual, sizes, usual), sizes)
    whole = np.repeat(np.minimum(lengths, np.median(lengths)), sizes)
    if starts[-1] and sizes[0] < usual:  # the first stamp began before the first row
        within = within + np.where(np.arange(len(t)) < sizes[0], usual - sizes[0], 0)
        share = np.where(np.arange(len(t)) < sizes[0], usual, share)
    notes.append(f"{usual:.0f} rows share each stamp: spread evenly")
    return np.asarray(t + within * whole / share, float)
