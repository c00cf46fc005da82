"""How a plan finds the part of a run that is used: a sentence and the run's events and moments in, a span out."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from common_bench.model.block import Events, Series
from common_bench.model.measured import number
from common_bench.model.run import Moment
from common_bench.model.trouble import FindingTrouble, PlanTrouble

WHOLE = ("", "all", "all of the run")
_SECONDS = r"(?P<seconds>\d+(?:[.,]\d+)?)\s*s"
_PLACES = (
    r"the\s+(?P<edge>begin|beginning|end)",
    rf"{_SECONDS}\s+(?:after|later)",
    _SECONDS,
    rf"(?:{_SECONDS}\s+(?P<side>before|after)\s+)?(?:the\s+)?(?P<which>first|last)?\s*(?:(?P<name>[^\W\d]\w*)|[\"“](?P<words>[^\"”]+)[\"”])",
)
Span = tuple[float, float]


def check_span(rule: str, events: Iterable[str]) -> None:
    """Raises PlanTrouble where the sentence cannot be read, or names what gives no events."""
    known = set(events)
    for found in _read(rule):
        if found.get("name") and found["name"] not in known:
            raise PlanTrouble("span-names-nothing", name=found["name"], known=", ".join(sorted(known)) or "none")


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
