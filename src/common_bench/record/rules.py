"""Rules: when a run begins and ends. The sentence that the plan holds in; what is to be watched, and how far it is, out.

Levels and events are looked for by lines of the formula language that nobody sees: they are worked out beside the plan's own.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Literal, NamedTuple

import numpy as np

from common_bench.calibrate.steady import PROPOSED, Limits
from common_bench.model.block import Block, Events, Series
from common_bench.model.measured import number
from common_bench.model.plan import Plan, RulePlan
from common_bench.model.run import Ending
from common_bench.model.trouble import PlanTrouble
from common_bench.workings.shapes import Kind

OWN = "rule_"  # begins the names of the lines by which levels are watched
SECONDS_OF = {"s": 1.0, "min": 60.0, "h": 3600.0, "d": 86_400.0}
LONGEST_BEFORE = 600.0  # s that can be kept from before
LONGEST = 14 * 86_400.0  # s of a run, or of a countdown
MOST_COUNTED = 10_000_000

BeginKind = Literal["at once", "countdown", "clock", "level", "event", "steady", "word", "stream"]
EndKind = Literal["hand", "seconds", "readings", "events", "level", "steady"]

_NAME = r"(?P<name>[^\W\d]\w*)"
_AMOUNT = r"(?P<amount>\d+(?:[.,]\d+)?)"
_LEVEL = rf"when\s+{_NAME}\s+(?P<way>rises|falls)\s+through\s+(?P<level>.+)"
_STEADY = rf"when\s+{_NAME}\s+is\s+steady"
BEGINS: dict[BeginKind, str] = {
    "at once": r"(?:at once|by hand|)",
    "countdown": rf"after\s+{_AMOUNT}\s*(?P<unit>s|min|h)",
    "clock": r"at\s+(?P<hour>\d{1,2})[:.](?P<minute>\d\d)(?:[:.](?P<second>\d\d))?",
    "word": r"when\s+the\s+kit\s+sends\s+[\"“]?(?P<word>[^\"”]+?)[\"”]?",
    "stream": r"when\s+the\s+kit\s+begins\s+to\s+send",
    "level": _LEVEL,
    "steady": _STEADY,
    "event": rf"(?:when|at|with)\s+{_NAME}(?:\s+happens)?",
}
ENDS: dict[EndKind, str] = {
    "hand": r"(?:by hand|never|)",
    "seconds": rf"after\s+{_AMOUNT}\s*(?P<unit>s|min|h|d)",
    "readings": rf"after\s+{_AMOUNT}\s+readings?",
    "level": _LEVEL,
    "steady": _STEADY,
    "events": rf"(?:after\s+{_AMOUNT}\s+|(?:when|at|with)\s+){_NAME}(?:\s+happens)?",
}
BETWEEN_ENDS = r",?\s+or\s+|,\s+(?=(?:after|when|at|with)\s)"


@dataclass(frozen=True)
class Begin:
    """seconds: of a countdown, or of the day; name: the quantity or the events that are watched; line: the working that
    finds where a level is passed; word: what the kit sends; limits: inside which a quantity counts as steady."""

    kind: BeginKind = "at once"
    text: str = ""
    seconds: float = 0.0
    name: str = ""
    line: str = ""
    word: str = ""
    limits: Limits = PROPOSED

    @property
    def by_kit(self) -> bool:
        """Whether the kit itself says when, so that it need not have sent anything before."""
        return self.kind in ("word", "stream")

    @property
    def waits(self) -> bool:
        return self.kind != "at once"

    @property
    def awaited(self) -> str:
        """What is waited for, in a word or two: `400 N`, `let_go`, `steady temp`."""
        if self.kind == "level":
            return self.line.rpartition(" through ")[2]
        return {"event": self.name, "steady": f"steady {self.name}", "word": f"“{self.word}”", "stream": "its kit"}.get(
            self.kind, ""
        )

    def wait(self, wall: datetime) -> float:
        """s until it begins by time alone, from a time of day on; inf where something else decides."""
        if self.kind == "countdown":
            return self.seconds
        if self.kind != "clock":
            return float("inf")
        today = wall.replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(seconds=self.seconds)
        due = today if today > wall else today + timedelta(days=1)
        return due.timestamp() - wall.timestamp()  # as much as passes, where the clocks are put forward or back between


@dataclass(frozen=True)
class End:
    """amount: s, readings or events; counted: these as they were typed; the rest as of a beginning."""

    kind: EndKind = "hand"
    text: str = ""
    amount: float = 0.0
    name: str = ""
    line: str = ""
    limits: Limits = PROPOSED
    counted: str = ""


class HowFar(NamedTuple):
    """How far a run is: done of wanted (nan where nothing is counted), what is counted, its unit."""

    done: float
    wanted: float
    what: str

    @property
    def share(self) -> float:
        """0 to 1; 0 where nothing is counted."""
        return min(1.0, self.done / self.wanted) if self.wanted > 0 else 0.0


@dataclass(frozen=True)
class Rule:
    """How a run begins and how it ends: with the first of its ends. before: s that are kept from before it begins; seconds: after
    which it ends, 0 where time does not end it; counted: names of the events that end it. Nothing of it is worked out later: one
    thread sends it while others ask it."""

    begin: Begin = Begin()
    ends: tuple[End, ...] = ()
    before: float = 0.0
    seconds: float = field(init=False, compare=False, repr=False)
    counted: frozenset[str] = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        timed = min((each.amount for each in self.ends if each.kind == "seconds"), default=0.0)
        object.__setattr__(self, "seconds", timed)
        counted = frozenset(end.name for end in self.ends if end.kind in ("events", "level"))
        object.__setattr__(self, "counted", counted)

    @classmethod
    def of(cls, plan: RulePlan) -> Rule:
        """Raises PlanTrouble where a sentence cannot be read."""
        timed = (End("seconds", plan.ends_with, plan.seconds),) if plan.seconds and not plan.ends.strip() else None
        ends = read_ends(plan.ends) if timed is None else timed
        return cls(read_begin(plan.begins), ends, plan.before if plan.begins.strip() else 0.0)

    @property
    def lines(self) -> tuple[str, ...]:
        """Workings that watch for its levels."""
        return tuple(line for line in (self.begin.line, *(each.line for each in self.ends)) if line)

    def ends_at(self, block: Block, began: float, before: int = 0) -> int | None:
        """Row of the first reading that no longer belongs to the run; None where all do. began: s of its beginning; before:
        how many readings it has already."""
        rows = []
        for end in self.ends:
            if end.kind == "seconds":
                if len(block) and block.t[-1] >= began + end.amount:  # which is seldom so, and quicker to ask
                    rows.append(int(np.searchsorted(block.t, began + end.amount)))
            elif end.kind == "readings":
                rows.append(max(0, int(end.amount) - before))
        row = min(rows, default=len(block))
        return row if row < len(block) else None

    def timed(self, block: Block, began: float, row: int) -> Ending:
        """How a run has ended at a row that `ends_at` gave."""
        for end in self.ends:
            if end.kind == "seconds" and int(np.searchsorted(block.t, began + end.amount)) == row:
                return Ending("by-rule", {"seconds": end.amount})
        counted = next(end for end in self.ends if end.kind == "readings")
        return Ending("by-rule-words", {"words": counted.text})

    def progress(self, seconds: float, readings: int, counts: Mapping[str, int]) -> HowFar:
        """The farthest of its ends."""
        told = []
        for end in self.ends:
            if end.kind == "seconds":
                told.append(HowFar(seconds, end.amount, "s"))
            elif end.kind == "readings":
                told.append(HowFar(float(readings), end.amount, "readings"))
            elif end.kind == "events":
                told.append(HowFar(float(counts.get(end.name, 0)), end.amount, end.counted))
            elif end.kind != "hand":
                told.append(HowFar(seconds, float("nan"), end.text))
        return max(told, key=lambda each: each.share, default=HowFar(seconds, float("nan"), "by hand"))


def watched(results: Mapping[str, Series | Events], names: Iterable[str], since: float) -> dict[str, Events]:
    """New events by name, of those that happened at or after s."""
    found = {}
    for name in names:
        events = results.get(name)
        if isinstance(events, Events) and len(events):
            later = events.t >= since
            found[name] = Events(events.t[later], events.fresh[later])
    return found


def read_begin(text: str) -> Begin:
    """`at once`, `after 5 s`, `at 14:05`, `when force rises through 400 N`, `when let_go`, `when temp is steady`, `when the
    kit sends GO`, `when the kit begins to send`. Raises PlanTrouble."""
    typed = " ".join(text.split())
    for kind, pattern in BEGINS.items():
        found = re.fullmatch(pattern, typed, re.IGNORECASE)
        if not found:
            continue
        groups = found.groupdict()
        if kind == "countdown":
            return Begin(kind, typed, _seconds(groups))
        if kind == "clock":
            hour, minute, second = (int(groups[each] or 0) for each in ("hour", "minute", "second"))
            if hour > 23 or minute > 59 or second > 59:
                raise PlanTrouble("no-time-of-day", text=typed)
            return Begin(kind, typed, 3600.0 * hour + 60 * minute + second)
        if kind == "word":
            return Begin(kind, typed, word=groups["word"].strip())
        if kind in ("level", "steady", "event"):
            line = _line(f"{OWN}begins", groups) if kind == "level" else ""
            name = f"{OWN}begins" if line else groups["name"]
            return Begin(kind, typed, name=name, line=line)
        return Begin(kind, typed)
    raise PlanTrouble("rule-not-read", text=typed, examples=", ".join(BEGIN_EXAMPLES))


def read_ends(text: str) -> tuple[End, ...]:
    """Parts with `or` or a comma between them, each `by hand`, `never`, `after 20 s`, `after 500 readings`, `after 3 jump`, `when force
    falls through 5 N`, `when temp is steady`. Raises PlanTrouble."""
    parts = [" ".join(part.split()) for part in re.split(BETWEEN_ENDS, text.strip(), flags=re.IGNORECASE)]
    return tuple(end for at, part in enumerate(parts) if (end := _read_end(part, at)).kind != "hand")


def _read_end(typed: str, at: int) -> End:
    for kind, pattern in ENDS.items():
        found = re.fullmatch(pattern, typed, re.IGNORECASE)
        if not found:
            continue
        groups = found.groupdict()
        if kind == "hand":
            return End()
        if kind == "seconds":
            return End(kind, typed, _seconds(groups))
        if kind in ("readings", "events"):
            amount = number(groups["amount"]) if groups["amount"] else 1.0
            if not 1 <= amount <= MOST_COUNTED or amount != int(amount):
                raise PlanTrouble("rule-counts-nothing", text=typed)
            return End(kind, typed, amount, groups.get("name") or "", counted=groups.get("name") or "")
        if kind == "level":
            return End(kind, typed, name=f"{OWN}ends{at}", line=_line(f"{OWN}ends{at}", groups))
        return End(kind, typed, name=groups["name"])
    raise PlanTrouble("rule-not-read", text=typed, examples=", ".join(END_EXAMPLES))


BEGIN_EXAMPLES = ("at once", "after 5 s", "when force rises through 400 N", "when force is steady", "when the kit sends GO", "at 14:05")  # fmt: skip
END_EXAMPLES = ("after 20 s", "after 3 jump", "after 500 readings", "when force falls through 5 N", "by hand")


def _seconds(groups: Mapping[str, str]) -> float:
    seconds = number(groups["amount"]) * SECONDS_OF[groups["unit"].lower()]
    if not 0 < seconds <= LONGEST:
        raise PlanTrouble("rule-out-of-range", days=round(LONGEST / 86_400))
    return seconds


def _line(name: str, groups: Mapping[str, str]) -> str:
    return f"{name} = {groups['way'].lower()} of {groups['name']} through {groups['level'].strip()}"


def renamed_in_rule(text: str, old: str, new: str, *, ends: bool) -> str:
    """A beginning, or ends, with the quantity or the events that they watch renamed; levels and their units, times and words of
    the kit stay. Several events are counted by their name with an s behind it."""
    parts = re.split(f"({BETWEEN_ENDS})", text, flags=re.IGNORECASE) if ends else [text]
    patterns: Iterable[str] = ENDS.values() if ends else BEGINS.values()
    return "".join(part if at % 2 else _renamed_part(part, old, new, patterns) for at, part in enumerate(parts))


def _renamed_part(part: str, old: str, new: str, patterns: Iterable[str]) -> str:
    space = re.fullmatch(r"(\s*)(.*?)(\s*)", part, re.DOTALL)
    assert space is not None, "every text has this form"
    for pattern in patterns:
        found = re.fullmatch(pattern, space[2], re.IGNORECASE)
        if found is None:
            continue
        name = found.groupdict().get("name")
        if name in (old, f"{old}s", f"{old}es"):
            start, end = found.span("name")
            return f"{space[1]}{space[2][:start]}{new}{str(name).removeprefix(old)}{space[2][end:]}{space[3]}"
        return part
    return part


def rule_of(plan: Plan, kinds: Mapping[str, Kind]) -> Rule:
    """The plan's rule with its names as the plan has them: `3 jumps` counts `jump`. kinds: of the plan's lines. Raises
    PlanTrouble where a sentence cannot be read, or names what the plan does not have."""
    rule = Rule.of(plan.rule)
    if not 0 <= rule.before <= LONGEST_BEFORE:
        raise PlanTrouble("rule-keeps-too-much", most=LONGEST_BEFORE)
    begin = rule.begin
    if begin.kind == "event":
        begin = replace(begin, name=_events(begin.name, begin.text, kinds))
    elif begin.kind == "steady":
        begin = replace(begin, limits=_limits(begin.name, begin.text, plan, kinds))
    ends = []
    for end in rule.ends:
        if end.kind == "events":
            end = replace(end, name=_events(end.name, end.text, kinds))
        elif end.kind == "steady":
            end = replace(end, limits=_limits(end.name, end.text, plan, kinds))
        ends.append(end)
    return Rule(begin, tuple(ends), rule.before)


def _events(name: str, text: str, kinds: Mapping[str, Kind]) -> str:
    events = [each for each, kind in kinds.items() if kind.shape == "events"]
    for tried in (name, name.removesuffix("s"), name.removesuffix("es")):
        if tried in events:
            return tried
    near = difflib.get_close_matches(name, events, 1, 0.5)
    raise PlanTrouble(
        "rule-without-events", name=name, text=text, near=near[0] if near else "", case="near" if near else "else"
    )


def _limits(name: str, text: str, plan: Plan, kinds: Mapping[str, Kind]) -> Limits:
    if name not in kinds or kinds[name].shape != "series" or kinds[name].late:
        raise PlanTrouble("rule-without-quantity", name=name, text=text)
    sensor = next((each for each in plan.sensors if each.quantity == name), None)
    return Limits(sensor.steady_drift or None, sensor.steady_scatter or None) if sensor is not None else PROPOSED
