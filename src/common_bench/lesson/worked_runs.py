"""A run worked up: from what was seen live or from its bytes to findings. Safe from any thread, with a connection of its own to the
book."""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from common_bench.book.book import Book
from common_bench.book.book_file import now
from common_bench.book.changes import RowChange
from common_bench.lesson.run_pictures import RunPicture, picture_of
from common_bench.lesson.store_rows import finding_row, taken_point_of
from common_bench.model.run import Finding, Moment, Run, RunSetting, TakenPoint
from common_bench.model.trouble import FindingTrouble, PoolTrouble, Trouble
from common_bench.record.replay import Replayed, as_recorded, replay
from common_bench.record.runs import Recorded
from common_bench.workings.over import Stretches
from common_bench.workup.findings import findings_of, over_gaps, unheard_in
from common_bench.workup.points import OverPoints, counted, findings_over_points, means_of, over_points
from common_bench.workup.span_rule import main_span, named_spans, span_by_rule, spans_in

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Asked:
    """What a worker is asked to work up: a run with the plan's findings, as it was seen live or from its bytes.

    to_keep: its findings are to be kept, the run alone is wanted otherwise; used: how its span is found.
    """

    run: Run
    recorded: Recorded | None
    channels: dict[str, str]
    wanted: tuple[str, ...]
    to_keep: bool
    used: str = ""


@dataclass(frozen=True)
class Outcome:
    """What came of it: the run as a whole, its findings, or why there are none; the picture of a long one."""

    asked: Asked
    replayed: Replayed | None = None
    findings: tuple[Finding, ...] = ()
    trouble: Trouble | None = None
    picture: RunPicture | None = None


@dataclass(frozen=True)
class Reworked:
    """A run as another calibration would make it: its findings before and after, by name."""

    run: Run
    setting: RunSetting
    before: dict[str, Finding]
    after: list[Finding]
    why_not: Trouble | None = None


@dataclass(frozen=True)
class TriedSpan:
    """What a run would give over a span that nobody has chosen yet: its findings, or why there are none."""

    span: tuple[float, float]
    findings: tuple[Finding, ...] = ()
    why_not: Trouble | None = None


def tried_over(
    book: Book, replayed: Replayed, span: tuple[float, float], wanted: Sequence[str], used: str
) -> TriedSpan:
    """Safe from any thread; keeps nothing."""
    try:
        named = named_in(book, replayed, used)
        found = findings_in(replayed, span, wanted, taken_of(book, replayed.run.id), named)
    except Trouble as trouble:
        return TriedSpan(span, (), trouble)
    return TriedSpan(span, tuple(found))


def no_reason(reason: str) -> str:
    """The reason without spaces around it. Raises PoolTrouble where there is none."""
    if not reason.strip():
        raise PoolTrouble("reason-missing")
    return reason.strip()


def finding_rows(book: Book, run: int, old: dict[str, Finding], new: Sequence[Finding]) -> list[RowChange]:
    rows = []
    for finding in new:
        values = finding_row(finding)
        if finding.name in old:
            rows.append(book.changed("finding", old[finding.name].id, made_at=now(), **values))
        else:
            rows.append(book.added("finding", run=run, made_at=now(), **values))
    return rows


@dataclass(frozen=True)
class TakenPoints:
    """Points of a run and the condition that was set."""

    points: tuple[TakenPoint, ...]
    visited: str


def taken_of(book: Book, run: int) -> TakenPoints | None:
    """Where the points of a run lie that was taken point by point; None of any other. Safe from any thread."""
    points = counted([taken_point_of(row) for row in book.rows_apart("taken_point", run=run)])
    return TakenPoints(tuple(points), points[0].name) if points else None


def at_points(replayed: Replayed, taken: TakenPoints) -> OverPoints:
    """What the lines of a run give at its points."""
    measured = {}
    for line in replayed.workings.lines:
        node = line.read.expression if line.read is not None else None
        if node is not None and node.form == "calibrated" and node.word != taken.visited:
            measured[node.word] = line.name
    means = means_of(replayed.results, measured, taken.points)
    return over_points(replayed.workings, means, taken.points, taken.visited)


def findings_in(
    replayed: Replayed, span: tuple[float, float] | None, wanted: Sequence[str], taken: TakenPoints | None = None,
    named: Mapping[str, Stretches] | None = None,
) -> list[Finding]:  # fmt: skip
    workings, whole = replayed.workings, span or (0.0, replayed.seconds)
    names = [name for name in wanted if name in workings.kinds] or list(wanted)
    if taken is not None:
        return findings_over_points(workings, at_points(replayed, taken), whole, names)
    try:
        found = findings_of(workings, replayed.results, whole, names, named)
        return over_gaps(found, replayed.gaps)
    except FindingTrouble as trouble:
        not_heard = _not_heard(replayed, names)
        if not_heard is None:
            raise
        raise not_heard from trouble


def _not_heard(replayed: Replayed, names: Sequence[str]) -> FindingTrouble | None:
    """That a quantity which these rest on was not heard in a run, by any column or with any number; None where all were."""
    for name in names:
        for quantity, channel in unheard_in(replayed.workings, replayed.results, name):
            values = replayed.raw.get(channel)
            if values is None or not np.isfinite(values).any():
                return FindingTrouble("quantity-not-heard", name=quantity, channel=channel)
    return None


def span_of(book: Book, replayed: Replayed, used: str) -> tuple[float, float]:
    """The span of a run as the plan says how it is found. Raises FindingTrouble where the run has not what that needs. Safe
    from any thread."""
    return span_by_rule(spans_in(used)[""], replayed.results, _moments(book, replayed.run.id), replayed.seconds)


def named_in(book: Book, replayed: Replayed, used: str) -> dict[str, Stretches]:
    """Where the plan's spans with a name lie in a run, or why one does not. Safe from any thread."""
    run = replayed.run
    return named_spans(used, replayed.results, _moments(book, run.id), replayed.seconds, run.spans)


def _moments(book: Book, run: int) -> list[Moment]:
    return [Moment(row["id"], row["run"], row["t"], row["text"]) for row in book.rows_apart("moment", run=run)]


def worked_up_of(book: Book, asked: Asked) -> Outcome:
    """In a worker's thread: never raises."""
    replayed = picture = None
    try:
        if asked.recorded is not None:
            replayed = as_recorded(asked.run, asked.recorded, asked.channels)
        else:
            replayed = replay(book, asked.run, asked.channels)
        picture = picture_of(replayed)
        taken = taken_of(book, asked.run.id) if asked.to_keep else None
        span = span_of(book, replayed, asked.used) if asked.to_keep and taken is None else None
        named = named_in(book, replayed, asked.used) if asked.to_keep else {}
        found = findings_in(replayed, span, asked.wanted, taken, named) if asked.to_keep else []
    except Trouble as trouble:
        return Outcome(asked, replayed, (), trouble, picture)
    except Exception as fault:
        log.exception("working up run %s", asked.run.id)
        told = FindingTrouble("work-up-failed", fault=f"{type(fault).__name__}: {fault}")
        return Outcome(asked, replayed, (), told, picture)
    return Outcome(asked, replayed, tuple(found), picture=picture)


def reworked_run(
    book: Book, run: Run, setting: RunSetting, before: dict[str, Finding], channels: dict[str, str],
    wanted: Sequence[str], names: Sequence[str] = (), used: str = "",
) -> Reworked:  # fmt: skip
    """names: of the findings, those that it had where none are named; used: how the span is found of a run that had none."""
    try:
        replayed = replay(book, msgspec.structs.replace(run, setting=setting), channels)
        span = main_span(before.values()) or span_of(book, replayed, used)
        names = list(names) or list(before) or [name for name in wanted if name in replayed.workings.kinds]
        after = findings_in(replayed, span, names, taken_of(book, run.id), named_in(book, replayed, used))
    except Trouble as trouble:
        return Reworked(run, setting, before, [], trouble)
    return Reworked(run, setting, before, after)
