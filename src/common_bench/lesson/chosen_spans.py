"""Spans of a run that a person chooses: typed or dragged, the one that is used and those with a name."""

from __future__ import annotations

import json
from dataclasses import replace

import msgspec

from common_bench.book.changes import Change
from common_bench.lesson.changes import Changes
from common_bench.lesson.store import LessonStore
from common_bench.lesson.worked_runs import finding_rows, findings_in, named_in, span_of, taken_of
from common_bench.lesson.working_up import Rework, WorkingUp
from common_bench.model.run import Finding
from common_bench.model.trouble import FindingTrouble
from common_bench.workup.span_rule import main_span, span_by_rule, spans_in, typed_span


class ChosenSpans:
    """Guarantees that a run is worked up again over what was chosen, in one step with a way back, or stays as it is."""

    def __init__(self, store: LessonStore, changes: Changes, working_up: WorkingUp) -> None:
        self._store, self._changes, self._working_up = store, changes, working_up

    @property
    def span_names(self) -> list[str]:
        """Spans that the plan gives a name."""
        return [name for name in spans_in(self._store.plan.rule.used) if name]

    def type_span(self, run: int, text: str) -> Change:
        """The span that is used, or one with a name, as a person types it: `2 to 14`, `early: from let_go to 5 s after`. Raises
        Trouble where it cannot be read or found, and where that gives no finding."""
        return self.typing_span(run, text).now()

    def typing_span(self, run: int, text: str) -> Rework:
        """As `type_span`, with the slow part apart."""
        name, rule = typed_span(text)
        moments, read, used, book = (
            self._store.moments(run),
            self._working_up.reader(run),
            self._store.plan.rule.used,
            self._store.book,
        )
        found: list[Rework] = []

        def compute() -> object:
            replayed = read()
            span = span_by_rule(rule, replayed.results, moments, replayed.seconds) if rule else None
            work = (
                self.choosing_named_span(run, name, span)
                if name
                else self._working_up.choosing_span(run, span or span_of(book, replayed, used))
            )
            found.append(work)
            return work.compute()

        return Rework(compute, lambda given: found[0].keep(given))

    def choose_named_span(self, run: int, name: str, span: tuple[float, float] | None) -> Change:
        """Works the lines of a run that end with `during NAME` up over another span; None: as the plan finds it. Raises Trouble
        where the plan has no such span, or where that gives no finding."""
        return self.choosing_named_span(run, name, span).now()

    def choosing_named_span(self, run: int, name: str, span: tuple[float, float] | None) -> Rework:
        """As `choose_named_span`, with the slow part apart."""
        book, found, plan = self._store.book, self._store.run(run), self._store.plan
        known = self.span_names
        if name not in known:
            raise FindingTrouble("no-such-span", name=name, known=", ".join(known) or "none")
        spans = {**found.spans, name: span} if span is not None else {k: v for k, v in found.spans.items() if k != name}
        read, main = self._working_up.reader(run), main_span(self._store.findings(run))

        def compute() -> list[Finding]:
            replayed = replace(read(), run=msgspec.structs.replace(found, spans=spans))
            named, used = named_in(book, replayed, plan.rule.used), main or span_of(book, replayed, plan.rule.used)
            return findings_in(replayed, used, plan.findings, taken_of(book, run), named)

        def keep(new: list[Finding]) -> Change:
            self._working_up.until_kept()
            old = {finding.name: finding for finding in self._store.findings(run)}
            rows = [book.changed("run", run, spans=json.dumps(spans), trouble=""), *finding_rows(book, run, old, new)]
            return self._changes.do(f"Choose the span “{name}”", rows)

        return Rework(compute, keep)
