"""How a plan finds the part of a run that is used: a sentence and the run's events and moments in, a span out."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise

import numpy as np

from common_bench.model.block import Events, Series
from common_bench.model.measured import number
from common_bench.model.run import Finding, Moment
from common_bench.model.trouble import FindingTrouble, PlanTrouble, Trouble
from common_bench.workings.over import Stretches
from common_bench.workings.reading import read_working

WHOLE = ("", "all", "all of the run")
_SECONDS = r"(?P<seconds>\d+(?:[.,]\d+)?)\s*s"
_PLACES = (
    r"the\s+(?P<edge>begin|beginning|end)",
    rf"{_SECONDS}\s+(?:after|later)",
    _SECONDS,
    rf"(?:{_SECONDS}\s+(?P<side>before|after)\s+)?(?:the\s+)?(?P<which>first|last)?\s*(?:(?P<name>[^\W\d]\w*)|[\"“](?P<words>[^\"”]+)[\"”])",
)
_EACH = re.compile(r"each\s+(?P<name>[^\W\d]\w*)")
Span = tuple[float, float]


def spans_in(used: str) -> dict[str, str]:
    """How the span that is used and those with a name are found: `all; early: from 0 s to 5 s; swing: each pass` gives the
    sentence of each by its name, the first without one as ''. Raises PlanTrouble for a name that stands twice."""
    found: dict[str, str] = {}
    for part in used.split(";"):
        named = re.fullmatch(r"\s*([^\W\d_]\w*)\s*:(.*)", part)
        name, rule = (named[1], named[2].strip()) if named else ("", part.strip())
        if not name and not rule:
            continue
        if name in found:
            raise PlanTrouble("span-name-twice", name=name) if name else PlanTrouble("span-without-name", rule=rule)
        found[name] = rule
    return {"": found.pop("", ""), **found}


_BARE = re.compile(r"(?P<low>\d+(?:[.,]\d+)?)\s*s?\s*(?:to|–|-)\s*(?P<high>\d+(?:[.,]\d+)?)\s*s?")


def typed_span(text: str) -> tuple[str, str]:
    """What a person types for one run: `2 to 14`, `early: 2 s to 14 s`, `early: from let_go to 5 s after`; the name of the span
    and its sentence, '' for as the plan has it. Raises PlanTrouble."""
    found = spans_in(text)
    name = next((each for each in found if each), "")
    bare = _BARE.fullmatch(found[name])
    rule = f"from {bare['low']} s to {bare['high']} s" if bare else found[name]
    if len([each for each in found if each or found[each]]) > 1:
        raise PlanTrouble("span-not-read", rule=text)
    if rule.lower() in ("as the plan", "as the plan finds it"):
        return name, ""
    _read(rule)
    return name, rule or "all"


def check_span(used: str, events: Iterable[str]) -> None:
    """Raises PlanTrouble where a sentence cannot be read, or names what gives no events."""
    known = set(events)
    for name, rule in spans_in(used).items():
        each = _EACH.fullmatch(rule) if name else None
        for found in [{"name": each["name"]}] if each else _read(rule):
            if found.get("name") and found["name"] not in known:
                raise PlanTrouble("span-names-nothing", name=found["name"], known=", ".join(sorted(known)) or "none")


def renamed_in_spans(used: str, old: str, new: str) -> str:
    """The sentences of a plan's spans with an event renamed; times, spans' own names and quoted moments stay."""
    kept = re.compile(r"\d+(?:[.,]\d+)?\s*s\b|[\"“][^\"”]*[\"”]|(?:^|;)\s*[^\W\d_]\w*\s*:")
    name, parts, at = re.compile(rf"(?<!\w){re.escape(old)}(?!\w)"), list[str](), 0
    for each in kept.finditer(used):
        parts += [name.sub(new, used[at : each.start()]), each[0]]
        at = each.end()
    return "".join([*parts, name.sub(new, used[at:])])


def named_spans(
    used: str, results: Mapping[str, Series | Events], moments: Sequence[Moment], seconds: float,
    chosen: Mapping[str, Span],
) -> dict[str, Stretches]:  # fmt: skip
    """Where the spans with a name lie in a run, in s since it began. chosen: those that a person has set in it."""
    found: dict[str, Stretches] = {}
    for name, rule in spans_in(used).items():
        if not name:
            continue
        try:
            each = _EACH.fullmatch(rule)
            if name in chosen:
                found[name] = (chosen[name],)
            elif each:
                found[name] = _between_events(each["name"], results, rule)
            else:
                found[name] = (span_by_rule(rule, results, moments, seconds),)
        except Trouble as trouble:
            found[name] = trouble
    return found


def _between_events(name: str, results: Mapping[str, Series | Events], rule: str) -> tuple[Span, ...]:
    """From each event to the next."""
    events = results.get(name)
    times = np.sort(events.t).tolist() if isinstance(events, Events | Series) else []
    if len(times) < 2:
        raise (
            FindingTrouble("span-without-event", name=name)
            if not times
            else FindingTrouble("span-of-one-event", rule=rule, name=name)
        )
    return tuple(pairwise(times))


def main_span(findings: Iterable[Finding]) -> Span | None:
    """The span that is used, as findings without a span of their own tell it; None where there is none."""
    return next((each.span for each in findings if not span_name(each.working)), None)


def span_name(line: str) -> str:
    """Which named span a line is worked out over; '' for the one that is used, and for a line that cannot be read."""
    try:
        return read_working(line).during if "during" in line else ""
    except Trouble:
        return ""


def span_by_rule(rule: str, results: Mapping[str, Series | Events], moments: Sequence[Moment], seconds: float) -> Span:
    """`from let_go to 10 s after`, `from 2 s to the end`, `from the first pass to the last pass`, `from “let go” to 5 s after`;
    all of the run where the rule is empty. In s since the run began. Raises FindingTrouble where the run has not what it
    needs, PlanTrouble where it cannot be read."""
    parts = _read(rule)
    if not parts:
        return 0.0, seconds
    low = _place(parts[0], results, moments, seconds, 0.0)
    high = _place(parts[1], results, moments, seconds, low)
    low, high = max(0.0, low), min(seconds, high)
    if high <= low:
        raise FindingTrouble("span-by-rule-empty", rule=rule, low=low, high=high)
    return low, high


def _read(rule: str) -> list[dict[str, str | None]]:
    if rule.strip().lower() in WHOLE:
        return []
    parts = re.fullmatch(r"\s*from\s+(.+?)\s+to\s+(.+?)\s*", rule)
    found = [_of(part) for part in parts.groups()] if parts else []
    if not found or None in found:
        raise PlanTrouble("span-not-read", rule=rule)
    return [each for each in found if each is not None]


def _of(text: str) -> dict[str, str | None] | None:
    for place in _PLACES:
        met = re.fullmatch(place, text.strip())
        if met:
            relative = "yes" if place is _PLACES[1] else None
            return {
                **dict.fromkeys(("edge", "seconds", "side", "which", "name", "words")),
                **met.groupdict(),
                "relative": relative,
            }
    return None


def _place(
    part: Mapping[str, str | None], results: Mapping[str, Series | Events], moments: Sequence[Moment], seconds: float, low: float
) -> float:  # fmt: skip
    by = number(part["seconds"]) if part["seconds"] else 0.0
    if part["edge"]:
        return seconds if part["edge"] == "end" else 0.0
    if part["relative"]:
        return low + by
    if not part["name"] and not part["words"]:
        return by
    if part["words"]:
        times = [each.t for each in moments if each.text.strip().lower() == part["words"].strip().lower()]
    else:
        found = results.get(part["name"] or "")
        times = found.t.tolist() if isinstance(found, Events | Series) else []
    if not times:
        raise FindingTrouble("span-without-event", name=part["name"] or part["words"])
    at = max(times) if part["which"] == "last" else min(times)
    return float(at) + (-by if part["side"] == "before" else by)
