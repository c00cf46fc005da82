"""A lesson's pool as it is shared: as a package for another book or machine, or sent to a department's server."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.store import LessonStore
from common_bench.lesson.table_pool import pool_lines, pooled_json
from common_bench.model.measured import written
from common_bench.model.plan import Plan
from common_bench.model.plan_file import plan_from_text, plan_to_text
from common_bench.model.run import Run
from common_bench.model.shared_pool import SharedNumber, SharedPool, SharedRun
from common_bench.model.trouble import FileTrouble, PlanTrouble
from common_bench.pool.many_classes import ManyClasses, many_classes

PACKAGE = ".benchpool"
MOST_BYTES = 200_000_000  # of a package


def shared_pool(store: LessonStore) -> SharedPool:
    """What is in the lesson's pool. A run's own bytes make its id, so that it is the same in every copy of the book."""
    of_class = class_id(store)
    runs = []
    for row in store.pool_rows():
        run = store.run(row.run)
        source = digest_of(store, run)
        id = hashlib.sha256(
            f"{store.plan.name}\0{row.alias}\0{row.number}\0{run.began_at}\0{source}".encode()
        ).hexdigest()[:32]
        runs.append(
            SharedRun(
                id, of_class, row.alias, row.number, run.began_at, str(store.pooled()[row.run]["sent_at"]), source,
                {name: SharedNumber.of(each) for name, each in row.conditions.items()},
                {name: SharedNumber.of(each) for name, each in row.findings.items()}, dict(row.words), row.aside,
            )
        )  # fmt: skip
    return SharedPool(plan_to_text(store.plan), tuple(runs))


def class_id(store: LessonStore) -> str:
    """Tells the class of a book apart from all others, the same in every copy of the book, and says nothing of it."""
    plans, groups = store.rows("plan"), store.rows("group")
    first = min((str(row["kept_at"]) for row in plans), default="")
    told = "\0".join([first, store.class_name, *(str(row["alias"]) for row in groups[:1])])
    return hashlib.sha256(told.encode()).hexdigest()[:16]


def digest_of(store: LessonStore, run: Run) -> str:
    """Of the bytes that a run was recorded as, with the times at which they came."""
    made = hashlib.sha256()
    if run.begin is not None and run.end is not None:
        for what, _, chunks in heard(store.book, run.session, run.begin, run.end):
            for chunk in chunks if what == HEARD else ():
                made.update(f"{chunk.at!r}\0".encode() + chunk.data)
    return made.hexdigest()[:32]


def keep_package(shared: SharedPool, path: Path) -> Path:
    """Writes what a lesson shares; gives where it is. Raises FileTrouble where there is nothing to share, a file is there already,
    or it cannot be written."""
    path = path.expanduser()
    path = path if path.suffix == PACKAGE else path.with_name(f"{path.name}{PACKAGE}")
    if not shared.runs:
        raise FileTrouble("package-of-nothing", where=str(path))
    try:
        with path.open("xb") as file:
            file.write(msgspec.json.format(msgspec.json.encode(shared), indent=1) + b"\n")
    except FileExistsError:
        raise FileTrouble("package-there", where=str(path)) from None
    except OSError as fault:
        raise FileTrouble("package-refused", where=str(path), fault=fault.strerror or str(fault)) from fault
    return path


def pool_from(path: Path) -> SharedPool:
    """A package, or what the last lesson of a bench book shares. Raises Trouble in words."""
    if path.suffix == ".benchbook":
        lesson = OpenLesson.open(path, readonly=True)
        try:
            return shared_pool(lesson.store)
        finally:
            lesson.close()
    try:
        data = path.read_bytes() if path.stat().st_size <= MOST_BYTES else b""
        found = msgspec.json.decode(data, type=SharedPool)
    except OSError as fault:
        raise FileTrouble("package-unreadable", where=str(path), fault=fault.strerror or str(fault)) from fault
    except msgspec.MsgspecError as fault:
        raise FileTrouble("package-broken", where=str(path), fault=str(fault)) from fault
    if found.kind != "benchpool" or found.version != 1:
        raise FileTrouble("package-newer", where=str(path))
    return found


@dataclass(frozen=True)
class PooledTogether:
    """plan: whose class graph it is; found: of all; left: pools of another plan, in words."""

    plan: Plan
    found: ManyClasses
    left: tuple[str, ...]


def pooled_together(own: SharedPool, others: Sequence[tuple[str, SharedPool]]) -> PooledTogether:
    """A pool with others of the same plan; others: each with where it comes from. Raises PoolTrouble."""
    plan = plan_from_text(own.plan, "the plan of the pool")
    taken, left = [own.runs], []
    for where, each in others:
        try:
            other = plan_from_text(each.plan, where)
        except PlanTrouble as trouble:
            left.append(trouble.sentence)
            continue
        if other.name != plan.name or other.graph != plan.graph or other.findings != plan.findings:
            left.append(f"{where} is left out: its plan “{other.name}” finds something else.")
        else:
            taken.append(each.runs)
    return PooledTogether(plan, many_classes(plan, taken), tuple(left))


def together_json(found: PooledTogether) -> dict[str, Any]:
    """All groups as one class, with what each class finds by itself and what scatters between classes."""
    many = found.found
    classes = [
        {
            "class": each.name, "groups": len({row.group for row in each.rows}), "runs": len(each.rows),
            "finding": None if each.result is None or each.result.finding is None else SharedNumber.of(each.result.finding).told, "why": each.why or None,
        }
        for each in many.classes
    ]  # fmt: skip
    between = many.between if many.between == many.between else None
    return pooled_json(many.whole) | {
        "plan": found.plan.name, "classes": classes, "mean_of_classes": None if many.finding is None else SharedNumber.of(many.finding).told,
        "between_classes": between, "told": [*many.told, *found.left],
    }  # fmt: skip


def together_lines(found: PooledTogether) -> list[str]:
    """The same for a terminal."""
    many, lines = found.found, []
    for each in many.classes:
        finding = each.result.finding if each.result is not None else None
        what = each.why or "no finding" if finding is None else written(finding.value, finding.u, finding.unit)
        lines.append(f"{each.name}: {len({row.group for row in each.rows})} groups, {len(each.rows)} runs: {what}")
    lines += [*many.told, *found.left]
    if many.finding is not None:
        mean = written(many.finding.value, many.finding.u, many.finding.unit)
        lines.append(f"mean of {len(many.classes)} classes: {mean}; they scatter by {many.between:.2g} {many.finding.unit} beyond what they state".rstrip())  # fmt: skip
    return [*lines, *(f"all groups as one class: {line}" for line in pool_lines(many.whole)[-1:])]
