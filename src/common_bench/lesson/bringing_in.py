"""Runs that kits logged on their own: a file looked at, told, and brought in as a run like any other. Its bytes are kept whole; its
rows stand in the journal, each with its time and the number of its line in the file, so that all can be computed again and followed
back."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from common_bench.book.book_file import now
from common_bench.book.changes import Change
from common_bench.book.journal import keep_file, kept_file
from common_bench.exchange.file_times import FileTimes, numbers, times_of
from common_bench.exchange.logged import Logged, logged_from
from common_bench.lesson.changes import Changes
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row
from common_bench.model.block import Floats, Stamped
from common_bench.model.calibration import Calibration
from common_bench.model.run import Ending
from common_bench.model.stream import ClockState, Column, StreamFormat
from common_bench.model.trouble import FileTrouble
from common_bench.record.chain import Chain

GAP = 3.0  # times the usual step, from which time between rows is a gap
MOST_GAPS = 400  # that are told
LINE, TIME = "line", "time"  # names of the columns that a kept row has besides the file's own
STILL = "always the same"
TAKEN_BACK = "taken back"  # why a run does not count that was brought in and taken back


@dataclass(frozen=True)
class BroughtColumn:
    """role: `clock`, `channel` or `ignored`; rate: values per s; values: that there are; note: what is to be known of it."""

    name: str
    unit: str
    role: str
    rate: float
    values: int
    note: str = ""


@dataclass(frozen=True)
class Preview:
    """A file as it would come in. gaps: (from, to) in s since its first row; group: whose it seems to be, None where nothing tells;
    again: what of it was brought in before, in words."""

    logged: Logged
    times: FileTimes
    columns: tuple[BroughtColumn, ...]
    gaps: tuple[tuple[float, float], ...]
    group: int | None
    digest: str
    again: str

    @property
    def seconds(self) -> float:
        return float(self.times.t[-1]) if len(self.times.t) else 0.0


class BringingIn:
    """Guarantees that nothing is kept before somebody says so, that a file comes in as one step that can be taken back, and that
    the same file is noticed."""

    def __init__(self, store: LessonStore, changes: Changes) -> None:
        self._store, self._changes = store, changes

    def look_at(self, path: Path) -> Preview:
        """Raises FileTrouble where nothing can be read."""
        logged = logged_from(path)
        times = times_of(logged)
        digest = hashlib.sha256(logged.data).hexdigest()
        usual = float(np.median(np.diff(times.t))) if len(times.t) > 1 else 0.0
        wide = np.flatnonzero(np.diff(times.t) > max(GAP * usual, 1e-9)) + 1 if usual > 0 else np.empty(0, int)
        ends = sorted({*wide.tolist(), *times.breaks})[:MOST_GAPS]
        gaps = tuple((float(times.t[row - 1]), float(times.t[row])) for row in ends if row > 0)
        return Preview(
            logged, times, tuple(_columns(logged, times)), gaps, self._whose(path), digest, self._again(logged, digest)
        )

    def _whose(self, path: Path) -> int | None:
        groups = self._store.groups
        named = [group for group in groups if group.alias.lower() in path.stem.lower()]
        return named[0].id if len(named) == 1 else groups[0].id if len(groups) == 1 else None

    def _again(self, logged: Logged, digest: str) -> str:
        for row in self._store.rows("brought_file"):
            run = self._store.run(row["run"])
            if run.aside == TAKEN_BACK:
                continue
            which = f"{self._store.group(run.group).alias} run {run.number}"
            if row["digest"] == digest:
                return f"brought in before, as {which}"
            if 0 < row["size"] < len(logged.data) and logged.data.startswith(kept_file(self._store.book, run.session)):
                return f"a longer version of what is {which}"
        return ""

    def bring(
        self,
        preview: Preview,
        group: int,
        *,
        began: datetime | None = None,
        ended: datetime | None = None,
        told: bool = True,
    ) -> tuple[int, Change]:
        """Keeps a file as a run of a group; gives the run and the step. began, ended: when its first or last row was, where somebody
        knows; told: the file's own times are believed where nobody does. Raises FileTrouble for a file that is there already."""
        if preview.again.startswith("brought in before"):
            raise FileTrouble("brought-before", where=str(preview.logged.path), told=preview.again)
        store, book = self._store, self._store.book
        kit = store.kit_of(group)
        if kit is None:
            identity = f"files of {store.group(group).alias}"
            known = next((row["id"] for row in store.rows("kit") if row["identity"] == identity), None)
            kit = known or book.record("kit", identity=identity, name=identity, link=f"file:{preview.logged.path.name}", format="", asking="")  # fmt: skip
            store.refresh("kit")
        session = book.record(
            "session",
            lesson=store.id,
            kit=kit,
            link=f"file:{preview.logged.path.name}",
            opened_at=now(),
            closed_at=now(),
        )
        format, chunks = _kept_lines(preview)
        size = keep_file(book, session, preview.logged.data, chunks)
        setting = Chain(store.watching, self._calibrations(kit, format), format).setting(format, ClockState())
        wall = _began(preview, began, ended) if told or began or ended else None
        number = book.largest("run", "number", lesson=store.id, group=group) + 1
        ending = Ending("brought-in", {"file": preview.logged.path.name})
        run = book.record(
            "run", lesson=store.id, group=group, number=number, session=session, state="closed", began_at=wall.isoformat() if wall else "",
            ending=json.dumps(msgspec.to_builtins(ending)), setting=msgspec.json.encode(setting).decode(), aside=TAKEN_BACK, trouble="",
            begin_byte=0, end_byte=size, note="; ".join(preview.times.notes), lacks="", practice=0,
        )  # fmt: skip
        book.record(
            "brought_file", run=run, name=preview.logged.path.name, digest=preview.digest, size=len(preview.logged.data),
            told=json.dumps(told_of(preview, number)), brought_at=now(),
        )  # fmt: skip
        for name, value in store.stated(group).items():
            book.record("run_condition", run=run, name=name, **condition_row(value))
        store.refresh("run", "brought_file", "run_condition")
        counts = book.changed("run", run, aside="")  # taken back it stays, set aside, and may come in anew
        return run, self._changes.do(f"Bring in {preview.logged.path.name}", [counts])

    def _calibrations(self, kit: int, format: StreamFormat) -> list[Calibration]:
        """Those of the group's kit, each heard in the file's own column."""
        found = []
        columns = [(each.name, each.unit) for each in format.columns if each.role == "channel"]
        for sensor in self._store.plan.sensors:
            kept, column = self._store.calibration(kit, sensor.channel), sensor.heard_in(columns)
            if kept is not None:
                found.append(
                    msgspec.structs.replace(kept, heard_as=column if column and column != sensor.channel else "")
                )
        return found


def _began(preview: Preview, began: datetime | None, ended: datetime | None) -> datetime | None:
    if began is not None:
        return began
    if ended is not None:
        return ended - timedelta(seconds=preview.seconds)
    if preview.times.state == "never set":  # it ended when the file was last written
        written = datetime.fromtimestamp(preview.logged.path.stat().st_mtime)
        return written - timedelta(seconds=preview.seconds)
    return preview.times.first


def _columns(logged: Logged, times: FileTimes) -> Iterator[BroughtColumn]:
    steps = np.diff(times.t)
    usual = float(np.median(steps[steps > 0])) if (steps > 0).any() else 0.0
    rate = round(1 / usual, 6) if usual else 0.0
    for at, (name, unit) in enumerate(zip(logged.names, logged.units, strict=True)):
        if at in times.columns:
            yield BroughtColumn(
                name, unit, "clock", rate, len(times.t), "never set" if times.state == "never set" else ""
            )
            continue
        values = numbers(logged, at)
        there = values[np.isfinite(values)]
        empty = len(values) - len(there)
        if not len(there):
            yield BroughtColumn(name, unit, "ignored", 0.0, 0, "no numbers")
        elif len(there) > 2 and float(np.ptp(there)) == 0.0:
            yield BroughtColumn(name, unit, "ignored", rate, len(there), STILL)
        else:
            again = "two columns of one name" if name.rpartition(" ")[0] in logged.names and name[-1].isdigit() else ""
            note = "; ".join(each for each in (again, f"{empty} empty: no value" if empty else "") if each)
            yield BroughtColumn(name, unit, "channel", rate, len(there), note)


def _kept_lines(preview: Preview) -> tuple[StreamFormat, list[Stamped]]:
    """Rows as lines `L12;3.500;271044;21.4` at their times, and the format by which they are read."""
    logged, t = preview.logged, preview.times.t
    channels = [at for at, each in enumerate(preview.columns) if each.role == "channel"]
    columns = [Column(LINE, role="ignored", kind="text"), Column(TIME, "s", "clock", 1.0)]
    columns += [Column(preview.columns[at].name, preview.columns[at].unit) for at in channels]
    cells: list[list[str]] = [_cells(numbers(logged, at)) for at in channels]
    chunks = []
    for row, (number, at) in enumerate(zip(logged.numbers, t.tolist(), strict=True)):
        values = ";".join(each[row] for each in cells)
        chunks.append(Stamped(at, f"L{number};{at:.6f};{values}\n".encode()))
    return StreamFormat(";", tuple(columns), by_hand=True), chunks


def _cells(values: Floats) -> list[str]:
    return ["" if value != value else f"{value:.12g}" for value in values.tolist()]


def told_of(preview: Preview, number: int | None) -> dict[str, Any]:
    """The object that `import --json` prints for a file."""
    times = preview.times
    return {
        "file": str(preview.logged.path),
        "rows": len(preview.logged.rows),
        "columns": [
            {"name": each.name, "unit": each.unit, "is": each.role, "rate": each.rate} for each in preview.columns
        ],
        "first": times.first.isoformat() if times.first is not None else None,
        "last": times.last.isoformat() if times.last is not None else None,
        "gaps": [list(each) for each in preview.gaps],
        "left_out": [{"what": each.what, "lines": each.lines} for each in preview.logged.left_out],
        "run": number,
        "clock": times.state,
        "notes": list(times.notes),
    }


def words_of_file(preview: Preview, who: str) -> str:
    """What came in, in one sentence or two."""
    logged, times = preview.logged, preview.times
    channels = [each.name for each in preview.columns if each.role == "channel"]
    left = ", ".join(f"{each.lines} lines left out: {each.what}" for each in logged.left_out)
    parts = [
        f"{logged.path.name}: {who}, {len(logged.rows)} rows over {preview.seconds:g} s, {', '.join(channels) or 'no channel'}"
    ]
    parts += [f"{len(preview.gaps)} gap{'s' if len(preview.gaps) != 1 else ''}"] if preview.gaps else []
    return "; ".join([*parts, *times.notes, *([left] if left else [])])
