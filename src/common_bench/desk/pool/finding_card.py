"""The class finding: its value, what it comes of, whether it agrees with what is accepted, and what it would be without a group."""

from __future__ import annotations

import math
from collections.abc import Callable

from common_bench.desk.look.labels import label
from common_bench.desk.look.pieces import Card, pretty, say, shortened
from common_bench.desk.look.sheet import palette
from common_bench.model.class_line import MEAN, ClassResult
from common_bench.model.measured import NO_VALUE, interval_words, written
from common_bench.model.plan import Plan
from common_bench.pool.class_line import class_graph_of
from common_bench.pool.limits import shares_words

LONG = 18  # characters of a finding, beyond which larger type has no room for it on a line
AGREES = 2.0  # standard uncertainties; 95 of 100 agreeing findings lie inside
NameOf = Callable[[str, int], str]


class ClassFindingCard(Card):
    """What the class has found."""

    def __init__(self) -> None:
        super().__init__("Class finding")
        self.finding = label("", "finding", wrap=True)
        self.finding_words = label("", "soft", wrap=True)
        self.agreement = label("", "good", wrap=True)
        self.without = label("", "soft", wrap=True)
        self.made_of = label("", "soft", wrap=True)
        self.add(self.finding, self.finding_words, self.made_of, self.agreement, self.without)

    def _show_without(self, result: ClassResult, group: int, name_of: NameOf) -> None:
        """What the class would find without the selected bench."""
        own = next((place for place in result.places if place.group == group and place.without), None)
        self.without.setVisible(own is not None)
        if own is not None and own.without is not None and result.finding is not None:
            found, alias = own.without, name_of(own.alias, own.group)
            by = found.value / result.finding.value - 1 if result.finding.value else math.nan
            say(
                self.without,
                f"without {shortened(alias)}: {written(found.value, found.u)} ({by:+.1%})".replace("-", "−"),
            )

    def show_trouble(self, sentence: str) -> None:
        """There is no result, and why."""
        say(self.finding, NO_VALUE)
        say(self.finding_words, sentence)

    def show_result(self, result: ClassResult, plan: Plan, group: int, name_of: NameOf) -> None:
        """group: without which the class finding is told too; name_of: how a group is called, where names may be hidden."""
        self._show_without(result, group, name_of)
        self.made_of.setVisible(False)
        if result.finding is None:
            say(self.finding, NO_VALUE)
            say(self.finding_words, result.why_no_line or "The plan names no class finding.")
            say(self.agreement, "")
            return
        found = result.finding
        told = f"{result.finding_name} = {written(found.value, found.u, found.unit)}"
        say(self.finding, told, "title" if len(told) > LONG and palette().scale > 1 else "finding")
        graph = class_graph_of(plan)
        assert graph is not None, "a class finding comes of a class graph"
        formula = graph.finding.partition("=")[2].strip()
        formula = "mean of the groups' means" if formula in ("", MEAN) else formula
        counted = result.line or result.level
        assert counted is not None, "a class finding comes of a class line or of groups compared"
        words = [f"{pretty(formula)}, {counted.runs} runs, {counted.groups} groups", interval_words(found)]
        say(self.finding_words, "\n".join(each for each in words if each))
        say(self.made_of, f"± made of: {pretty(shares_words(result.made_of))}")
        said = any(place.words for place in result.places if place.group == group)  # what is said of it needs the room
        self.made_of.setVisible(bool(result.made_of) and palette().scale <= 1 and not said)
        if result.accepted is None:
            say(self.agreement, "")
            return
        away = abs(result.agreement)
        accepted = pretty(graph.accepted)
        if not math.isfinite(away):
            say(self.agreement, f"whether it agrees with {accepted} cannot be told", "amber")
        else:
            how = f"{accepted} ({away:.1f} of its uncertainty, Eₙ\N{NO-BREAK SPACE}=\N{NO-BREAK SPACE}{abs(result.e_n):.1f})"
            agrees = away <= AGREES
            if agrees and result.is_too_wide:
                low_high = interval_words(found).partition(" holds")[0]
                say(self.agreement, f"cannot tell: {low_high} is too wide an interval to test {accepted}", "amber")
                return
            say(self.agreement, f"{'agrees' if agrees else 'does not agree'} with {how}", "good" if agrees else "red")
