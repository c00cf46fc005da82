"""The table of forms: what the language has beyond arithmetic. A new form is one entry here and its function."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from common_bench.model.units import counts_from_own_zero, interval_of, product
from common_bench.workings.at_events import Count, FindsIn, ValueAt, Within
from common_bench.workings.course import Course
from common_bench.workings.crossings import Crossed, CrossingFinder, Pairs, Way
from common_bench.workings.forms import Form, Takes
from common_bench.workings.over_spans import area_under, dominant_pace, slope_against
from common_bench.workings.peaks import GapsBetween, PeakFinder
from common_bench.workings.shapes import NO_UNIT, TIME, AskedForm, Kind, fitting, refusal
from common_bench.workings.so_far import ChangeIn, Extreme, Total
from common_bench.workings.spans import number_over, time_of_first
from common_bench.workings.windows import Delayed, Middle, Polynomial

TWICE = 2.0  # a peak is told so many dead times after it at the latest, as its top may lie one from its highest reading


class Given:
    """The numbers among a form's operands, in the units in which its quantity comes, and where the form stands."""

    def __init__(self, numbers: dict[str, Any], unit: str, name: str, late: float, course: Course) -> None:
        """numbers: operand -> number; unit: of the quantity; name: of the place; late: s, by which its events come; course:
        of the quantity."""
        self._numbers, self.unit, self.name, self.late, self.course = numbers, unit, name, late, course

    def number(self, slot: str, unit: str, missing: float | None = None) -> float:
        """A number among the operands, in a unit; `missing` where it is not given."""
        if slot not in self._numbers:
            assert missing is not None
            return missing
        found = self._numbers[slot]
        return float(found.to(unit or found.unit).value)

    def seconds(self, slot: str) -> float:
        return self.number(slot, "s", 0.0)

    @property
    def depth(self) -> float:
        return self.number("depth", interval_of(self.unit), 0.0)


# what comes out


def _as_it_is(asked: AskedForm) -> Kind:
    return _course(asked, asked.x.unit)


def _course(asked: AskedForm, unit: str, seconds: float = 0.0, readings: int = 0) -> Kind:
    return Kind(
        "series", unit, delay=seconds, readings=readings, difference=asked.x.difference and unit == asked.x.unit
    )


def _rate(asked: AskedForm) -> Kind:
    return _course(asked, product(interval_of(asked.x.unit), "s", -1.0), asked.number("time", "s") / 2)


def _smooth(asked: AskedForm) -> Kind:
    return _course(asked, asked.x.unit, asked.number("time", "s") / 2)


def _middle(asked: AskedForm) -> Kind:
    count = int(asked.number("count", ""))
    return _course(asked, asked.x.unit, readings=count - 1 - count // 2)


def _total(asked: AskedForm) -> Kind:
    return _course(asked, product(_multiple(asked), "s"))


def _multiple(asked: AskedForm) -> str:
    """The unit of a quantity of which there can be twice as much. Refuses a temperature that counts from its own zero."""
    if counts_from_own_zero(asked.x.unit):
        raise refusal("own-zero-in-product", asked.node.operands[0], unit=asked.x.unit)
    return asked.x.unit


def _change(asked: AskedForm) -> Kind:
    return replace(_course(asked, interval_of(asked.x.unit)), difference=counts_from_own_zero(asked.x.unit))


def _events(asked: AskedForm) -> Kind:
    return Kind("events", "s", asked.identity, delay=TWICE * asked.number("apart", "s"), made=asked.node)


def _crossed(asked: AskedForm) -> Kind:
    if "depth" in asked.kinds and "level" not in asked.kinds:
        raise refusal("crossing-without-level", asked.node, word=asked.form.name)
    return Kind("events", "s", asked.identity, made=asked.node)


def _needs_level(asked: AskedForm) -> Kind:
    if "level" not in asked.kinds and not asked.x.condition:
        raise refusal("crossing-without-level", asked.node, word=asked.form.name)
    return _crossed(asked)


def _gap(asked: AskedForm) -> Kind:
    return Kind("at events", "s", f"gap between {asked['e'].events}")


def _between(asked: AskedForm) -> Kind:
    return Kind("at events", "s", f"time between {asked['a'].events} and {asked['b'].events}")


def _value_at(asked: AskedForm) -> Kind:
    return Kind("at events", asked.x.unit, f"at {asked['e'].events}", difference=asked.x.difference)


def _count_so_far(asked: AskedForm) -> Kind:
    return Kind("series")


def _within(asked: AskedForm) -> Kind:
    made = asked["e"].made
    if made is None or made.form not in ("rises", "falls"):
        raise refusal("within-needs-crossing", asked.node.operands[0])
    return Kind("at events", "s", f"time within {asked['e'].events}")


def _number(asked: AskedForm) -> Kind:
    return Kind("number", asked.x.unit, late=True, difference=asked.x.difference)


def _scatter(asked: AskedForm) -> Kind:
    return Kind("number", interval_of(asked.x.unit), late=True, difference=asked.x.difference)


def _late(unit: str) -> Callable[[AskedForm], Kind]:
    return lambda asked: Kind("number", unit, late=True)


def _area(asked: AskedForm) -> Kind:
    return Kind("number", product(_multiple(asked), "s"), late=True)


def _slope(asked: AskedForm) -> Kind:
    if asked["y"].shape == "at events" and asked.node.operands[1].word != TIME:
        raise refusal("slope-at-events-against-time", asked.node.operands[1])
    return Kind("number", product(interval_of(asked["y"].unit), interval_of(asked["x"].unit), -1.0), late=True)


def _size(asked: AskedForm) -> Kind:
    for slot, node in zip(asked.node.slots, asked.node.operands, strict=True):
        if not fitting(asked[slot].unit, asked.x.unit):
            raise refusal("sum-of-unlike-units", node, unit=asked[slot].unit or NO_UNIT, word="put together with", wanted=asked.x.unit or NO_UNIT)  # fmt: skip
    _multiple(asked)
    return _course(asked, asked.x.unit)


# what works it out over blocks


def _peak_finder(sign: float) -> Callable[[Given], Any]:
    def made(given: Given) -> FindsIn:
        level = sign * given.number("level", given.unit)
        return FindsIn(PeakFinder(level, given.seconds("apart"), sign=sign, depth=given.depth), given.course)

    return made


def crossing(way: Way, given: Given) -> Crossed:
    """What a form of crossings looks for. A condition without a level changes where it begins or ceases to hold."""
    level = given.number("level", given.unit, 0.5 if way != "changes" else float("nan"))
    return Crossed(way, None if level != level else level, given.seconds("apart"), given.depth)


def _finder(way: Way) -> Callable[[Given], Any]:
    return lambda given: FindsIn(CrossingFinder(crossing(way, given)), given.course)


def _of(word: str) -> Callable[..., Any]:
    return lambda span, name, x: number_over(word, x, span, name)


def _when(way: str) -> Callable[..., Any]:
    return lambda span, name, x: time_of_first(x, span, way, name)


_X: dict[str, Takes] = {"x": "series"}
_LEVEL: dict[str, Takes] = {"x": "series", "level": "level", "apart": "time", "depth": "depth"}
_CROSSED: dict[str, Takes] = _LEVEL | {"x": "signal"}
_OVER: dict[str, Takes] = {"x": "values"}
_E: dict[str, Takes] = {"e": "events"}

_ALL = (
    Form("rate", "rate of {x} over {time.}", "How fast it changes: the slope of a parabola through so long a time.",
         _X | {"time": "time"}, _rate, "speed = rate of height over 0.4 s", "over time",
         lambda given: Polynomial("rate", given.seconds("time"), given.name, given.course), late="half the time"),
    Form("smooth", "smooth {x} over {time.}", "Its course without the noise, by a parabola through so long a time.",
         _X | {"time": "time"}, _smooth, "calm = smooth height over 0.5 s", "over time",
         lambda given: Polynomial("height", given.seconds("time"), given.name, given.course), late="half the time"),
    Form("middle", "middle of {x} over {count.} readings", "The median of so many neighbours: single outliers do not enter.",
         _X | {"count": "number of readings"}, _middle, "clean = middle of height over 5 readings", "over time",
         lambda given: Middle(int(given.number("count", "")), given.name, given.course), late="half the readings"),
    Form("total", "total of {x.}", "All of it since the run began: the area under it so far.",
         _X, _total, "charge = total of current", "over time", lambda given: Total(given.name, given.course)),
    Form("change", "change in {x.}", "How far it is from where it began.",
         _X, _change, "warming = change in temp", "over time", lambda given: ChangeIn(given.name)),
    Form("largest so far", "largest of {x} so far", "The largest reading since the run began.",
         _X, _as_it_is, "record = largest of force so far", "over time", lambda given: Extreme("largest")),
    Form("smallest so far", "smallest of {x} so far", "The smallest reading since the run began.",
         _X, _as_it_is, "lowest = smallest of force so far", "over time", lambda given: Extreme("smallest")),
    Form("delayed", "{x} delayed by {time.}", "What it was so long ago.",
         _X | {"time": "time"}, _as_it_is, "before = force delayed by 0.2 s", "over time",
         lambda given: Delayed(given.seconds("time"), given.name, given.course)),
    Form("where", "{x=} where {condition?}", "Its values where something holds; unknown elsewhere.",
         {"x": "values", "condition": "condition"}, _as_it_is, "loaded = height where force > 2 N", "over time", each=True),
    Form("resultant", "resultant of {x}, {y}[, {z}]", "The size of what points along two or three axes.",
         {"x": "quantity", "y": "quantity", "z": "quantity"}, _size, "shake = resultant of ax, ay, az", "over time", each=True),
    Form("peaks", "peaks in {x} above|below {level+}, {apart+} apart[, by at least {depth+}]", "When it is at a top above a level, none nearer to another than the pause.",
         _LEVEL, _events, "pass = peaks in force above 2.2 N, 0.4 s apart", "events", _peak_finder(1.0), late="up to twice the pause"),
    Form("dips", "dips in {x} below|above {level+}, {apart+} apart[, by at least {depth+}]", "When it is at a bottom below a level, none nearer to another than the pause.",
         _LEVEL, _events, "low = dips in force below 1.8 N, 0.4 s apart", "events", _peak_finder(-1.0), late="up to twice the pause"),
    Form("rises", "rises of {x}[ through {level+}][, {apart+} apart][, by at least {depth+}]", "When it rises through a level, or a condition begins to hold.",
         _CROSSED, _needs_level, "let_go = rises of height through 0.5 m", "events", _finder("rises")),
    Form("falls", "falls of {x}[ through {level+}][, {apart+} apart][, by at least {depth+}]", "When it falls through a level, or a condition ceases to hold.",
         _CROSSED, _needs_level, "landed = falls of height through 0.1 m, 0.2 s apart", "events", _finder("falls")),
    Form("changes", "changes of {x}[ through {level+}][, {apart+} apart][, by at least {depth+}]", "When it changes at all, as an on/off signal does, or passes a level either way.",
         _CROSSED, _crossed, "edge = changes of gate", "events", _finder("changes")),
    Form("gap between", "gap between {e}", "The time from each event to the next.",
         _E, _gap, "swing = gap between pass", "on events", lambda given: GapsBetween()),
    Form("time between", "time between {a} and {b}", "The time from each event to the next of another kind.",
         {"a": "events", "b": "events"}, _between, "fall = time between let_go and landed", "on events", lambda given: Pairs()),
    Form("time within", "time within {e}", "How long it stayed on the other side of the level, from each crossing.",
         _E, _within, "dark = time within let_go", "on events"),
    Form("at", "{x} at {e.}", "What it was when each event happened.",
         _X | _E, _value_at, "top = height at pass", "on events", lambda given: ValueAt(given.late, given.name, given.course)),
    Form("count so far", "count of {e} so far", "How many there were since the run began.",
         _E, _count_so_far, "steps = count of pass so far", "on events", lambda given: Count(given.late)),
    Form("count in the last", "count of {e} in the last {time.}", "How many there were in the time just gone by.",
         _E | {"time": "time"}, _count_so_far, "busy = count of pass in the last 10 s", "on events",
         lambda given: Count(given.late, given.seconds("time"))),
    Form("count", "count of {e}", "How many there are in the span.", _E, _late(""), "passes = count of pass", "over a span", over=_of("count")),
    Form("pace", "pace of {e}", "Events per time, from their numbers and times, with a test whether it changes.",
         _E, _late("Hz"), "pulse = pace of pass", "over a span", over=_of("pace")),
    Form("mean", "mean of {x}", "Its mean over the span.", _OVER, _number, "level = mean of height", "over a span", over=_of("mean")),
    Form("scatter", "scatter of {x}", "Its standard deviation over the span.", _OVER, _scatter, "noise = scatter of height", "over a span", over=_of("scatter")),
    Form("median", "median of {x}", "The value that half of it lies above.", _OVER, _number, "usual = median of height", "over a span", over=_of("median")),
    Form("largest", "largest of {x}", "The top of the curve through its highest readings.", _OVER, _number, "high = largest of height", "over a span", over=_of("largest")),
    Form("smallest", "smallest of {x}", "The bottom of the curve through its lowest readings.", _OVER, _number, "deep = smallest of height", "over a span", over=_of("smallest")),
    Form("first", "first of {x}", "Its first value in the span.", _OVER, _number, "begin = first of height", "over a span", over=_of("first")),
    Form("last", "last of {x}", "Its last value in the span.", _OVER, _number, "end = last of height", "over a span", over=_of("last")),
    Form("area", "area under {x}", "The area under its course over the span.",
         _X, _area, "push = area under force", "over a span", over=lambda span, name, x: area_under(x, span, name), of_time=1),
    Form("slope", "slope of {y} against {x}", "The slope of the straight line of one against another.",
         {"y": "values", "x": "series"}, _slope, "stiffness = slope of force against height", "over a span",
         over=lambda span, name, y, x: slope_against(y, x, span, name)),
    Form("dominant pace", "dominant pace of {x}", "The frequency of its strongest oscillation.",
         _X, _late("Hz"), "pitch = dominant pace of height", "over a span", over=lambda span, name, x: dominant_pace(x, span, name), of_time=-1),
    Form("time when it rises", "time when {x} rises through {level+}", "When it first rises through a level in the span.",
         {"x": "series", "level": "level"}, _late("s"), "start = time when height rises through 0.5 m", "over a span",
         _finder("rises"), _when("rises")),
    Form("time when it falls", "time when {x} falls through {level+}", "When it first falls through a level in the span.",
         {"x": "series", "level": "level"}, _late("s"), "stop = time when height falls through 0.5 m", "over a span",
         _finder("falls"), _when("falls")),
)  # fmt: skip

FORMS: dict[str, Form] = {form.name: form for form in _ALL}


def within(given: Given, way: Way) -> Within:
    """What works out `time within`, from the numbers of the form that finds the crossings."""
    return Within(crossing(way, given), given.course)
