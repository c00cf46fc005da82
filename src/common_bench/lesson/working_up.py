"""Stage 5 as actions: runs worked up when they end, over other spans, with other calibrations. The slow part is done by
workers; the book is read and written in the lesson's own thread alone."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from typing import Any, NamedTuple, TypeVar

import msgspec
import numpy as np

from common_bench.book.changes import Change, Row
from common_bench.lesson.changes import Changes
from common_bench.lesson.keeping import Keeping
from common_bench.lesson.origins import reading_at
from common_bench.lesson.planning import read_condition
from common_bench.lesson.run_pictures import as_replayed, kept_picture
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row, run_of
from common_bench.lesson.worked_runs import (
    Asked,
    Outcome,
    Reworked,
    TriedSpan,
    finding_rows,
    findings_in,
    named_in,
    no_reason,
    reworked_run,
    span_of,
    taken_of,
    tried_over,
    worked_up_of,
)
from common_bench.model.block import Events
from common_bench.model.run import Finding, LeftOut, Run, RunSetting
from common_bench.model.trouble import FindingTrouble, Trouble
from common_bench.record.replay import Replayed, replay
from common_bench.record.runs import Recorded
from common_bench.workings.leaving_off import leaves_off_at
from common_bench.workings.over import Stretches
from common_bench.workup.span_rule import main_span

NEVER = -1  # no end of a run
MOST_HELD, MOST_HELD_READINGS = 8, 20_000_000  # runs, and their readings, that are held as a whole
WORKERS = 2

Given = TypeVar("Given")
EVENT_HALF = 0.01  # s on each side of an event that is set aside, within which it is found again


class Rework(NamedTuple):
    """A change of a run that takes long to work out. compute: the slow part, for a worker; keep: what is done with its answer in the
    lesson's own thread, as one change. Both raise Trouble in words."""

    compute: Callable[[], Any]
    keep: Callable[[Any], Change]

    def now(self) -> Change:
        return self.keep(self.compute())


class WorkingUp:
    """Guarantees that a run that has ended is worked up once by itself: its findings are kept, or it is marked with why
    it has none and is not tried again but when a person asks."""

    def __init__(self, store: LessonStore, changes: Changes) -> None:
        self._store, self._changes = store, changes
        self.is_closed, self.closing = False, threading.Event()
        ends = (self.closing,)
        self._workers = ThreadPoolExecutor(WORKERS, "work-up", initializer=leaves_off_at, initargs=ends)
        # For many that end at once: the window goes on.
        self._one = ThreadPoolExecutor(1, "ended", initializer=leaves_off_at, initargs=ends)
        self._keeping = Keeping(store)
        self.give_way: Callable[[], object] = lambda: None
        """Called by the worker before each of many runs that have ended at once: comes back when it may go on."""
        self._under_way: dict[int, Future[Outcome]] = {}
        self._untold: list[int] = []  # runs that were kept while somebody waited for it
        self._held: dict[int, Replayed | Trouble] = {}
        self._tried: dict[int, int | None] = {}  # run -> the end with which it was worked up
        self._resumed: dict[int, int] = {}
        self._settled = {run.id for run in store.runs() if run.state == "closed"}
        changes.followers.append(self._follow)

    def close(self) -> None:
        self.is_closed = True
        self.closing.set()
        for each in (self._workers, self._one):
            each.shutdown(wait=True, cancel_futures=True)
        self._keeping.close()

    def _follow(self, change: Change) -> None:
        for row in change.rows:
            if row.table == "run" and row.after is not None and "setting" in row.after:
                self.let_go(row.id)

    def submit(self, work: Callable[[], Given]) -> Future[Given]:
        """Something else that takes long, done by a worker. It must not touch the book but by a connection of its own; a fit
        in it is left off when all is closed."""
        return self._workers.submit(work)

    # when runs end

    def ended(self, run: int, recorded: Recorded | None, resumed: int = 0) -> None:
        """A run is whole in the book: what was seen of it live is worked up by a worker. An end that was taken back
        meanwhile is passed over, whatever the book says of it still: the one that counts is told too. resumed: how often
        the run had been taken up again before this end."""
        self.all_ended([(run, recorded, resumed)])

    def all_ended(self, ends: Sequence[tuple[int, Recorded | None, int]], *, many: bool = False) -> None:
        """The same of several at once; many: there are more than these."""
        rows = {row["id"]: row for row in self._store.book.rows("run", id=[run for run, _, _ in ends])}
        for run, recorded, resumed in ends:
            if run in rows and resumed == self._resumed.get(run, 0):
                self._ended(run, rows[run], recorded, many=many or len(ends) > WORKERS)

    def _ended(self, run: int, row: Row, recorded: Recorded | None, *, many: bool) -> None:
        found = run_of(row)
        if found.state != "closed" or (recorded is not None and recorded.end != found.end):
            return
        if found.begin is not None and self._tried.get(run, NEVER) != found.end:
            self._under_way.pop(run, None)
            self._ask(found, recorded, to_keep=True, many=many)
        elif run not in self._under_way:
            self._settled.add(run)
            self._store.put("run", [row])

    def reopened(self, run: int) -> None:
        """A run goes on: what was worked up of it so far does not count."""
        self._resumed[run] = self._resumed.get(run, 0) + 1
        for each in (self._under_way, self._held, self._tried):
            each.pop(run, None)
        self._settled.discard(run)

    def catch_up(self) -> None:
        """Runs that ended when nobody worked them up, as when the program was stopped. From now on a run counts once it
        has been worked up."""
        self._store.settled = self._settled
        with_findings = {row["run"] for row in self._store.rows("finding")}
        for run in self._store.kept_runs():
            if run.id not in with_findings and run.trouble is None and run.id not in self._tried:
                self._ask(run, None, to_keep=True)

    def _ask(self, run: Run, recorded: Recorded | None, *, to_keep: bool, many: bool = False) -> None:
        """many: runs have ended at once with it, so that the window goes on the better the fewer workers there are."""
        if run.id in self._under_way:
            return
        if to_keep:
            self._tried[run.id] = run.end
        plan, worker = self._store.plan, self._one if many or recorded is not None else self._workers
        asked = Asked(run, recorded, self._store.channels, plan.findings, to_keep, plan.rule.used)
        self._under_way[run.id] = worker.submit(self._one_of, asked, give_way=many)

    def _one_of(self, asked: Asked, *, give_way: bool) -> Outcome:
        if give_way and not self.is_closed:
            self.give_way()
        return worked_up_of(self._store.book, asked)

    @property
    def is_busy(self) -> bool:
        return bool(self._under_way)

    @property
    def has_finished(self) -> bool:
        """Whether there is something to collect at once: findings are kept, or may begin to be."""
        return (
            self._keeping.has_kept
            if self._keeping.is_under_way
            else any(answer.done() for answer in self._under_way.values())
        )

    def collect(self) -> list[int]:
        """Has what is finished kept; gives the runs of which it is since the last time. To be asked a few times a second, waits for
        nothing. Raises BookTrouble where the book is not written; kept later then."""
        kept = [*self._untold, *(self._collected() if self._keeping.has_kept else [])]
        self._untold.clear()
        if not self._keeping.is_under_way:
            finished = [answer.result() for answer in self._under_way.values() if answer.done()]
            if finished:
                self._keeping.begin(finished)
        return kept

    def until_kept(self) -> None:
        """Waits for what is being kept just now, as before a person changes what it is of."""
        if self._keeping.is_under_way:
            self._untold += self._collected()

    def _collected(self) -> list[int]:
        kept = []
        for each in self._keeping.take():
            asked, run = each.outcome.asked, each.outcome.asked.run.id
            answer = self._under_way.get(run)
            if answer is None or not answer.done() or answer.result() is not each.outcome:
                continue  # its end was taken back meanwhile
            del self._under_way[run]
            if each.stands is None:
                continue  # removed for good
            kept.append(run)
            if each.behind:
                self._ask(each.stands, None, to_keep=asked.to_keep)
                continue
            self._hold(run, each.outcome.replayed or each.outcome.trouble)
            self._settled |= {run} if asked.to_keep else set()
        return kept

    def _hold(self, run: int, found: Replayed | Trouble | None) -> None:
        if found is None:
            return
        self.let_go(run)
        self._held[run] = found
        readings = [len(each.t) if isinstance(each, Replayed) else 0 for each in self._held.values()]
        while len(readings) > 1 and (len(readings) > MOST_HELD or sum(readings) > MOST_HELD_READINGS):
            self._held.pop(next(iter(self._held)))
            readings.pop(0)

    # a run as a whole

    def at_hand(self, run: int, *, ask: bool = True) -> Replayed | None:
        """The run as a whole where it is held; None while a worker computes it, as it is asked to here.

        Raises FindingTrouble for an empty or open run.
        """
        found = self._held.get(run)
        if isinstance(found, Trouble):
            raise found
        if found is None and ask:
            self._ask(self._closed(run), None, to_keep=False)
        return found

    def pictured(self, run: int) -> Replayed | None:
        """A long run as it is drawn before it is read: its quantities thinned, nothing else; None where no such picture is kept."""
        found = self._store.run(run)
        picture = kept_picture(self._store.book, found)
        return as_replayed(found, picture, self._store.channels) if picture is not None else None

    def let_go(self, run: int) -> None:
        """A run is no longer what is held of it."""
        self._held.pop(run, None)

    def replayed(self, run: int) -> Replayed:
        """The run as a whole, computed here and now where it is not held. Raises FindingTrouble for an empty or open
        one."""
        found = self._held.get(run)
        if isinstance(found, Trouble):
            raise found
        if found is None:
            found = replay(self._store.book, self._closed(run), self._store.channels)
            self._hold(run, found)
        return found

    def _closed(self, run: int) -> Run:
        found = self._store.run(run)
        if found.state != "closed":
            raise FindingTrouble("run-not-ended", number=found.number)
        return found

    def worked_up(self, run: int, span: tuple[float, float] | None) -> list[Finding]:
        """The plan's findings over a span of a run (None: all of it). Raises Trouble in words."""
        replayed, taken = self.replayed(run), taken_of(self._store.book, run)
        if span is None and taken is None:
            span = self.span_by_plan(run)
        return findings_in(replayed, span, self._store.plan.findings, taken, self.named_spans(run))

    def tried(self, run: Run, span: tuple[float, float]) -> Future[TriedSpan]:
        """What a run that is held would give over a span, by a worker; nothing is kept."""
        replayed, plan = replace(self.replayed(run.id), run=run), self._store.plan
        return self._workers.submit(tried_over, self._store.book, replayed, span, plan.findings, plan.rule.used)

    def used_span(self, run: int) -> tuple[float, float] | None:
        """The span that is used: as its findings tell it, or as the plan finds it; None where it finds none."""
        findings = self._store.findings(run)
        found = main_span(findings)
        if found is None and findings:
            with suppress(Trouble):
                return self.span_by_plan(run)
        return found

    def named_spans(self, run: int) -> dict[str, Stretches]:
        """Where the plan's spans with a name lie in a run, or why one does not: as somebody has set them, or as the plan says."""
        replayed = replace(self.replayed(run), run=self._store.run(run))
        return named_in(self._store.book, replayed, self._store.plan.rule.used)

    def span_by_plan(self, run: int) -> tuple[float, float]:
        """The span that the plan finds in a run; all of it where the plan does not say. Raises FindingTrouble."""
        return span_of(self._store.book, self.replayed(run), self._store.plan.rule.used)

    # what a person does

    def choose_span(self, run: int, span: tuple[float, float]) -> Change:
        """Works a run up over another span. Raises Trouble where that gives no finding; the old one then stays."""
        return self.choosing_span(run, span).now()

    def choosing_span(self, run: int, span: tuple[float, float]) -> Rework:
        """As `choose_span`, with the slow part apart."""
        book, plan, read = self._store.book, self._store.plan, self.reader(run)

        def compute() -> list[Finding]:
            replayed = read()
            named = named_in(book, replayed, plan.rule.used)
            return findings_in(replayed, span, plan.findings, taken_of(book, run), named)

        def keep(found: list[Finding]) -> Change:
            self.until_kept()
            old = {finding.name: finding for finding in self._store.findings(run)}
            rows = finding_rows(book, run, old, found)
            if self._store.run(run).trouble is not None:
                rows.append(book.changed("run", run, trouble=""))
            return self._changes.do("Choose the span", rows)

        return Rework(compute, keep)

    def reader(self, run: int) -> Callable[[], Replayed]:
        """Gives the run as a whole, in any thread: as it is held, or read from its bytes. Raises FindingTrouble as `replayed`."""
        held, found = self._held.get(run), self._closed(run)
        if isinstance(held, Trouble):
            raise held
        book, channels = self._store.book, self._store.channels
        return lambda: replace(held, run=found) if held is not None else replay(book, found, channels)

    def leave_out(self, run: int, stretch: tuple[float, float], reason: str) -> Change:
        """Sets a stretch of a run aside, as if nothing had been heard in it, and works the run up again. Raises Trouble for a
        stretch without length and where no reason is given."""
        return self.leaving_out(run, stretch, reason).now()

    def leaving_out(self, run: int, stretch: tuple[float, float], reason: str) -> Rework:
        """As `leave_out`, with the slow part apart."""
        low, high = min(stretch), max(stretch)
        left_out = LeftOut(low, high, no_reason(reason))
        return self._left_out(run, "Set a stretch aside", lambda _: left_out)

    def leave_out_reading(self, run: int, t: float, reason: str) -> Change:
        """Sets the reading nearest to t s aside, by itself: it leaves no gap. Raises Trouble where no reason is given."""
        return self.leaving_out_reading(run, t, reason).now()

    def leaving_out_reading(self, run: int, t: float, reason: str) -> Rework:
        """As `leave_out_reading`, with the slow part apart."""
        why, number = no_reason(reason), self._store.run(run).number

        def found(replayed: Replayed) -> LeftOut:
            at = reading_at(replayed, t)
            if at is None:
                raise FindingTrouble("run-without-readings", number=number)
            near = np.diff(replayed.t[max(0, at - 1) : at + 2])
            half = 0.25 * float(near[near > 0].min()) if (near > 0).any() else 1e-3
            place = float(replayed.t[at])
            return LeftOut(place - half, place + half, why, "reading")

        return self._left_out(run, "Set a reading aside", found)

    def leave_out_event(self, run: int, name: str, t: float, reason: str) -> Change:
        """Sets the event nearest to t s aside that the line `name` finds: it counts nowhere, its readings do. Raises Trouble
        where no reason is given, and where there is no such event."""
        return self.leaving_out_event(run, name, t, reason).now()

    def leaving_out_event(self, run: int, name: str, t: float, reason: str) -> Rework:
        """As `leave_out_event`, with the slow part apart."""
        why = no_reason(reason)

        def found(replayed: Replayed) -> LeftOut:
            events = replayed.results.get(name)
            if not isinstance(events, Events) or not len(events):
                raise FindingTrouble("span-without-event", name=name)
            place = float(events.t[int(np.argmin(np.abs(events.t - t)))])
            near = np.diff(np.sort(events.t))
            half = min(EVENT_HALF, 0.25 * float(near[near > 0].min())) if (near > 0).any() else EVENT_HALF
            return LeftOut(place - half, place + half, why, "event", name)

        return self._left_out(run, "Set an event aside", found)

    def _left_out(self, run: int, label: str, find: Callable[[Replayed], LeftOut]) -> Rework:
        """find: what is left out, by the run as it is now."""
        before, read = self._with_setting(run).left_out, self.reader(run)
        return self._worked_again(
            run, lambda: tuple(sorted((*before, find(read())), key=lambda each: each.t_from)), label
        )

    def take_in(self, run: int, at: int) -> Change:
        """A stretch, a reading or an event counts again; at: its place among those that are set aside."""
        return self.taking_in(run, at).now()

    def taking_in(self, run: int, at: int) -> Rework:
        """As `take_in`, with the slow part apart."""
        kept = self._with_setting(run).left_out
        return self._worked_again(run, lambda: (*kept[:at], *kept[at + 1 :]), "Take a stretch back")

    def _with_setting(self, run: int) -> RunSetting:
        found = self._closed(run)
        if found.setting is None:
            raise FindingTrouble("run-without-readings", number=found.number)
        return found.setting

    def _worked_again(self, run: int, left_out: Callable[[], tuple[LeftOut, ...]], label: str) -> Rework:
        """With other stretches set aside; where it gives no finding any more, the run says why."""
        store, book = self._store, self._store.book
        setting, found_run = self._with_setting(run), store.run(run)
        before = {finding.name: finding for finding in store.findings(run)}
        channels, wanted, used = store.channels, store.plan.findings, store.plan.rule.used

        def compute() -> Reworked:
            changed = msgspec.structs.replace(setting, left_out=left_out())
            return reworked_run(book, found_run, changed, before, channels, wanted, used=used)

        def keep(found: Reworked) -> Change:
            self.until_kept()
            now = {finding.name: finding for finding in store.findings(run)}
            told = json.dumps(found.why_not.data) if found.why_not is not None else ""
            rows = [book.changed("run", run, setting=msgspec.json.encode(found.setting).decode(), trouble=told)]
            if found.why_not is None:
                rows += finding_rows(book, run, now, found.after)
            else:  # what it gave with the stretch is no longer true
                rows += [book.gone("finding", each.id) for each in now.values()]
            return self._changes.do(label, rows)

        return Rework(compute, keep)

    def set_aside_run(self, run: int, reason: str) -> Change:
        row = self._store.book.changed("run", run, aside=no_reason(reason))
        return self._changes.do("Set a run aside", [row])

    def take_back_run(self, run: int) -> Change:
        return self._changes.do("Take a run back", [self._store.book.changed("run", run, aside="")])

    def set_aside_runs(self, runs: Sequence[int], reason: str, label: str) -> Change:
        """Several runs in one step, as those that one key has ended."""
        rows = [self._store.book.changed("run", run, aside=no_reason(reason)) for run in runs]
        return self._changes.do(label, rows)

    def set_run_condition(self, run: int, name: str, text: str) -> Change:
        """A condition of one run, corrected afterwards."""
        store = self._store
        values = condition_row(read_condition(store.plan, name, text))
        for row in store.rows("run_condition"):
            if (row["run"], row["name"]) == (run, name):
                return self._changes.do(f"{name} of a run", [store.book.changed("run_condition", row["id"], **values)])
        added = store.book.added("run_condition", run=run, name=name, **values)
        return self._changes.do(f"{name} of a run", [added])
