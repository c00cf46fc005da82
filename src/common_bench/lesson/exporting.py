"""A book, or one of its lessons, exported to open formats: a folder that any spreadsheet or script can read."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

import msgspec

from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD
from common_bench.exchange.columnar import keep_parquet
from common_bench.exchange.data_package import data_package
from common_bench.exchange.figure import class_graph
from common_bench.exchange.senml_out import senml_pack
from common_bench.exchange.tables import csv_text, pool_csv, pool_json, run_csv, series_csv, told_dof
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.lessons import NO_PLAN
from common_bench.lesson.run_words import why_to_look
from common_bench.lesson.sharing import keep_package, shared_pool
from common_bench.lesson.store_rows import applied_words
from common_bench.links.file_link import tape_text
from common_bench.model.block import Series
from common_bench.model.class_line import ClassResult
from common_bench.model.measured import u_words
from common_bench.model.plan_file import plan_to_text
from common_bench.model.run import Run
from common_bench.model.trouble import BookTrouble, Trouble
from common_bench.reading.lines import LineCutter
from common_bench.record.replay import Replayed, quantities
from common_bench.workings.evaluate import INNER

MOST_TOLD = 3  # reasons in one sentence
LONGEST_STEM = 80  # bytes
SENML = ".senml"  # RFC 8428, 12.2


def export_pool(lesson: OpenLesson, folder: Path) -> list[Path]:
    """pool.csv, pool.json and a picture of the class graph; gives the files. Raises BookTrouble where the folder cannot
    be written to."""
    return pool_export(lesson)(folder)


def pool_export(lesson: OpenLesson) -> Callable[[Path], list[Path]]:
    """The pool as it is now, gathered from the book: what is given writes it into a folder, in any thread."""
    result: ClassResult | None
    try:
        result = lesson.pooling.class_result()
    except Trouble:
        result = None
    store = lesson.store
    rows, name, class_name = store.pool_rows(), store.plan.name, store.class_name
    emblems = {group.id: group.emblem for group in store.groups}
    path, id = lesson.book.path, store.id

    def write(folder: Path) -> list[Path]:
        files = [folder / "pool.csv", folder / "pool.json"]
        try:
            _text(files[0], pool_csv(rows, result), private=False)
            files[1].write_bytes(pool_json(name, class_name, rows, result))
            if result is not None and result.points:
                files.append(folder / "class-graph.png")
                class_graph(files[-1], f"{name}, class {class_name}", result, emblems)
            if rows:
                files.append(_package(path, id, folder / "pool"))
        except OSError as fault:
            raise BookTrouble("export-folder-read-only", where=str(folder)) from fault
        return files

    return write


def _package(book: Path, lesson: int, path: Path) -> Path:
    """The pool for another book or machine, read from the book anew, so that it can be done in any thread."""
    again = OpenLesson.open(book, lesson, readonly=True)
    try:
        return keep_package(shared_pool(again.store), path)
    finally:
        again.close()


class Exported(NamedTuple):
    """folder: where everything is; files: all that were written; left_out: what was not, a sentence each."""

    folder: Path
    files: list[Path]
    left_out: list[str]

    def describe(self) -> str:
        """`27 files in /home/…/export. Left out: 2 (left-out.csv says why).`"""
        told = f"{len(self.files)} file{'s' if len(self.files) != 1 else ''} in {self.folder}"
        if not self.left_out:
            return told
        return f"{told}. Not exported: {'; '.join(self.left_out[:MOST_TOLD])}{'; …' if len(self.left_out) > MOST_TOLD else ''}"


def export_book(path: Path, folder: Path, *, lesson: int | None = None, parquet: bool = False) -> Exported:
    """Exports every lesson of a book, each to a folder of its own where there are several, or one of them by its id; one data
    package names all files. Reads the book by itself, so that any thread can do it while a lesson is held.

    folder: is made, with those above it; parquet: runs as columnar files too. Raises BookTrouble where the folder cannot be written
    or is not empty, and where the book has no such lesson.
    """
    first = OpenLesson.open(path, lesson, readonly=True)
    try:
        rows = [row for row in first.book.rows("lesson") if lesson in (None, row["id"])]
        plans = {row["id"]: row["name"] for row in first.book.rows("plan")}
        ids = [
            row["id"] for row in rows if plans.get(row["plan"]) != NO_PLAN or first.book.rows("run", lesson=row["id"])
        ]
        if len(ids) < 2:
            shown = ids[0] if ids else rows[-1]["id"]
            if shown == first.store.id:
                return export_all(first, folder, parquet=parquet)
            return _export_one(path, shown, folder, parquet=parquet)
        _take_folder(folder)
        files, left_out = list[Path](), list[str]()
        for number, id in enumerate(ids, 1):
            held_on, name = next((row["held_on"], plans.get(row["plan"], "")) for row in rows if row["id"] == id)
            stem = "-".join(re.findall(r"\w+", f"lesson {number} {held_on} {name}".lower()))
            within = folder / stem.encode()[:LONGEST_STEM].decode("utf-8", "ignore")
            found = _export_one(path, id, within, parquet=parquet, package=False)
            files += found.files
            left_out += [f"lesson {number}: {each}" for each in found.left_out]
        title = f"class {first.store.class_name}" if first.store.class_name else path.stem
        files.append(_keep_package(folder, path.stem, title, files))
        return Exported(folder, files, left_out)
    finally:
        first.close()


def _export_one(path: Path, lesson: int, folder: Path, *, parquet: bool, package: bool = True) -> Exported:
    opened = OpenLesson.open(path, lesson, readonly=True)
    try:
        return export_all(opened, folder, parquet=parquet, package=package)
    finally:
        opened.close()


def _take_folder(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        taken = any(folder.iterdir())
    except OSError as fault:
        raise BookTrouble("export-folder-read-only", where=str(folder)) from fault
    if taken:
        raise BookTrouble("export-folder-not-empty", where=str(folder))


def _keep_package(folder: Path, name: str, title: str, files: Sequence[Path]) -> Path:
    about = folder / "datapackage.json"
    about.write_bytes(
        data_package(name, title, [each for each in files if each.suffix not in (".tape", SENML)], folder)
    )
    return about


def export_all(lesson: OpenLesson, folder: Path, *, parquet: bool = False, package: bool = True) -> Exported:
    """Exports the lesson that is open. parquet: runs as columnar files too; package: with a data package of its own. Raises
    BookTrouble where the folder cannot be written or is not empty."""
    _take_folder(folder)
    try:
        return _export_lesson(lesson, folder, parquet=parquet, package=package)
    except OSError as fault:
        raise BookTrouble("export-folder-read-only", where=str(folder)) from fault


def _export_lesson(lesson: OpenLesson, folder: Path, *, parquet: bool, package: bool) -> Exported:
    files = [folder / "plan.toml", folder / "findings.csv", folder / "calibrations.json"]
    _text(files[0], plan_to_text(lesson.store.plan))
    _text(files[1], _findings(lesson), private=False)
    _text(files[2], _all_calibrations(lesson))
    stems = stems_of({group.id: group.alias for group in lesson.store.all_groups})
    left_out = []
    for run in lesson.store.runs():
        alias = lesson.store.group(run.group).alias
        try:
            replayed = lesson.working_up.replayed(run.id)
        except Trouble as trouble:
            left_out.append([alias, run.number, trouble.sentence])
            continue
        files += _export_run(lesson, run, replayed, folder, f"{stems[run.group]}-run-{run.number}", parquet=parquet)
    told = [f"{alias} run {number}: {why}" for alias, number, why in left_out]
    if damaged := lesson.store.damaged():
        files.append(folder / "damaged.csv")
        _text(files[-1], csv_text(["what is damaged in the book and left out"], [[each] for each in damaged]))
        told.append(f"{len(damaged)} damaged rows of the book (damaged.csv)")
    if left_out:
        files.append(folder / "left-out.csv")
        _text(files[-1], csv_text(["group", "run", "why it is not here"], left_out))
    files += export_pool(lesson, folder)
    title = f"{lesson.store.plan.name}, class {lesson.store.class_name}".removesuffix(", class ")
    if package:
        files.append(_keep_package(folder, lesson.store.plan.name, title, files))
    return Exported(folder, files, told)


def _export_run(
    lesson: OpenLesson, run: Run, replayed: Replayed, folder: Path, stem: str, *, parquet: bool
) -> list[Path]:
    """A run as a table, as its tape, as SenML, and a table for each quantity at events."""
    units = {c.name: c.unit for c in replayed.format.columns} if replayed.format else {}
    path = folder / f"{stem}.csv"
    _text(path, run_csv(replayed.t, replayed.raw, units, quantities(replayed)))
    tape = folder / f"{stem}.tape"
    with open(tape, "wb", opener=_private) as file:
        file.write(tape_text(_stamped_lines(lesson, run)))
    pack = folder / f"{stem}{SENML}"
    with open(pack, "wb", opener=_private) as file:
        file.write(senml_pack(stem, quantities(replayed), _epoch(run)))
    files = [path, tape, pack, *([keep_parquet(path)] if parquet else [])]
    for name, result in replayed.results.items():
        named = INNER not in name and name not in quantities(replayed)
        if isinstance(result, Series) and named and len(result):
            path = folder / f"{stem}-{name[:LONGEST_STEM]}.csv"
            _text(path, series_csv(name, result))
            files.append(path)
    return files


def keep_run_csv(replayed: Replayed, path: Path) -> Path:
    """One run as a table with units and uncertainties; a file that is there stays. Gives where it is. Raises Trouble."""
    units = {c.name: c.unit for c in replayed.format.columns} if replayed.format else {}
    return _keep_csv(path, lambda: run_csv(replayed.t, replayed.raw, units, quantities(replayed)))


def keep_runs_csv(lesson: OpenLesson, path: Path) -> Path:
    """All runs of the lesson as a table: conditions and findings with units and uncertainties, and whether each counts; a file that is
    there stays. Gives where it is. Raises Trouble."""
    store = lesson.store

    def remark(run: Run) -> str:
        counts = "practice" if run.practice else "in the pool" if run.id in store.pooled() else ""
        return "; ".join(each for each in (counts, why_to_look(store, run), run.note) if each)

    rows = store.rows_of([(run, run.aside, remark(run)) for run in store.ended_runs()])
    return _keep_csv(path, lambda: pool_csv(rows, None))


def _keep_csv(path: Path, made: Callable[[], str]) -> Path:
    path = path if path.suffix else path.with_suffix(".csv")
    if path.exists():
        raise BookTrouble("book-name-taken", where=str(path))
    try:
        _text(path, made())
    except OSError as fault:
        raise BookTrouble("export-folder-read-only", where=str(path.parent)) from fault
    return path


def stems_of(aliases: Mapping[int, str]) -> dict[int, str]:
    """Group -> how the names of its files begin: letters and figures that any file system takes, no two alike."""
    found: dict[int, str] = {}
    for group, alias in aliases.items():
        plain = "-".join(re.findall(r"\w+", alias.lower()))
        plain = plain.encode()[:LONGEST_STEM].decode("utf-8", "ignore") or f"group-{group}"
        stem, number = plain, 1
        while stem in found.values():
            number += 1
            stem = f"{plain}-{number}"
        found[group] = stem
    return found


def _epoch(run: Run) -> float | None:
    """s since 1970 at which a run's time 0 was; None where only durations are known."""
    try:
        return datetime.fromisoformat(run.began_at).timestamp() if run.began_at else None
    except ValueError:
        return None


def _stamped_lines(lesson: OpenLesson, run: Run) -> Iterator[tuple[float, bytes]]:
    """The lines of a run as they came, with s since the first of them."""
    assert run.begin is not None
    assert run.end is not None
    cutter, began = LineCutter(), None
    for what, _, chunks in heard(lesson.book, run.session, run.begin, run.end):
        if what != HEARD:
            continue
        for lines in cutter.feed(chunks):
            for at, _, line in lines.each():
                began = at if began is None else began
                yield at - began, line


def _findings(lesson: OpenLesson) -> str:
    rows = []
    for run in lesson.store.runs():
        for finding in lesson.store.findings(run.id):
            measured = finding.measured
            dof = told_dof(measured.dof)
            made_of = "; ".join(f"{share.name} {u_words(share.u)}" for share in finding.made_of)
            rows.append(
                [
                    lesson.store.group(run.group).alias, run.number, finding.name, measured.value, measured.u, dof, measured.unit,
                    *finding.span, finding.n, finding.working, made_of, finding.how, _calibrations(run), run.aside,
                ]
            )  # fmt: skip
    header = [
        "group",
        "run",
        "finding",
        "value",
        "standard uncertainty",
        "degrees of freedom",
        "unit",
        "span from (s)",
        "span to (s)",
    ]
    return csv_text([*header, "values used", "working", "made of", "how", "calibration", "set aside because"], rows)


def _all_calibrations(lesson: OpenLesson) -> str:
    """Every calibration that runs were computed with, whole: curve, parameters and their covariance, points, range."""
    settings = [run.setting for run in lesson.store.runs() if run.setting is not None]
    kept = dict.fromkeys(msgspec.json.encode(each) for setting in settings for each in setting.calibrations)
    return msgspec.json.format(b"[" + b",".join(kept) + b"]", indent=1).decode() + "\n"


def _calibrations(run: Run) -> str:
    """Which calibrations a run was computed with, and whether they were applied afterwards."""
    kept = run.setting.calibrations if run.setting else ()
    words = "; ".join(
        f"{each.channel} to {each.quantity}" + (f" of {each.made_at}" if each.made_at else ", without points")
        for each in kept
    )
    return "; ".join(part for part in (words, applied_words(run.setting)) if part)


def _text(path: Path, text: str, *, private: bool = True) -> None:
    """private: for this user's eyes alone, as what holds more than findings."""
    with open(path, "w", encoding="utf-8", newline="", opener=_private if private else None) as file:
        file.write(text)


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)
