"""Runs that kits logged on their own: a file looked at, told, and brought in as a run like any other. Its bytes are kept whole; its
rows stand in the journal, each with its time and the number of its line in the file, so that all can be computed again and followed
back."""

from __future__ import annotations

import hashlib
import json
import logging
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

import msgspec
import numpy as np

from common_bench.book.book import Book
from common_bench.book.book_file import now
from common_bench.book.changes import Change
from common_bench.book.deflate import check_sum
from common_bench.book.file_keeping import StampedLines, StampedRows, keep_file, kept_file
from common_bench.book.journal import HEARD
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import FileTimes, later, times_of
from common_bench.exchange.logged import Logged, logged_from
from common_bench.exchange.series_of_files import by_speaker, in_series, joined_files, speakers_at
from common_bench.exchange.steps import steps_of, steps_that, usual_step
from common_bench.lesson.brought_columns import columns_of
from common_bench.lesson.brought_words import Correction, Preview, Role, told_of
from common_bench.lesson.changes import Changes
from common_bench.lesson.file_lines import format_of, lines_of, stand_for_lines
from common_bench.lesson.store import LessonStore
from common_bench.lesson.store_rows import condition_row
from common_bench.model.block import Arrived
from common_bench.model.calibration import Calibration
from common_bench.model.long_task import LongTask
from common_bench.model.run import Ending, RunSetting
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.model.trouble import FileTrouble, Trouble
from common_bench.model.units import is_unit
from common_bench.record.chain import Chain
from common_bench.record.replay import RunReading
from common_bench.record.runs import Recorded

GAP = 3.0  # times the usual step, from which time between rows is a gap
MOST_GAPS = 400  # that are told
SETTINGS = ("settings", "config", "logger", "kit", "info", "station", "setup")  # what a file beside may be called
SETTINGS_KINDS = (".ini", ".cfg", ".conf", ".txt", ".json", ".toml", ".yaml", ".yml")
MOST_SETTINGS = 8192  # bytes
DIGESTED = 1 << 16  # bytes at each end of a file
OLD_DIGEST = 64  # letters of a digest that an older book has (SHA-256)
log = logging.getLogger(__name__)

TAKEN_BACK = "taken back"  # why a run does not count that was brought in and taken back


@dataclass(frozen=True)
class PlaceInBook:
    """Where a file will lie: a session of its own, of a kit of a group."""

    book: Book
    preview: Preview
    group: int
    kit: int
    session: int
    setting: RunSetting
    channels: dict[str, str]

    def keep(self, progress: LongTask | None = None) -> KeptFile:
        """Puts its bytes and its lines there, and reads these as they will be read from there. Takes its time with a long file;
        safe from any thread. Raises BookTrouble, and what `progress` does: nothing is kept then."""
        logged, lines = self.preview.logged, lines_of(self.preview)
        told = lines if progress is None else self._told(lines, progress)
        reading = BroughtReading(self.setting, self.channels)
        whole = None if stand_for_lines(self.preview) else logged.data
        size = keep_file(self.book, self.session, whole, told, reading.hear, reading.join)
        if isinstance(logged.rows, ColumnRows):
            logged.rows.let_go()  # readings take its room
        return KeptFile(size, reading)

    def _told(
        self, lines: Iterator[StampedLines | StampedRows], progress: LongTask
    ) -> Iterator[StampedLines | StampedRows]:
        done, whole = 0, max(1, len(self.preview.logged.rows))
        for each in lines:
            yield each
            done += len(each.t)
            progress.tell(done / whole)


class BroughtReading:
    """The lines of a file, read while they are being kept, so that nothing has to be read back. What cannot be read at once is left to
    who works the run up, as any other run."""

    def __init__(self, setting: RunSetting, channels: dict[str, str]) -> None:
        self._reading: RunReading | None = RunReading(0, setting, 0, channels)

    def hear(self, lines: Arrived) -> None:
        """Never raises: keeping goes on."""
        if self._reading is None:
            return
        try:
            self._reading.hear(HEARD, 0.0, lines)
        except Exception as fault:
            if not isinstance(fault, Trouble):
                log.exception("reading a file that is brought in")
            self._reading = None

    def join(self) -> None:
        """Puts what was read together, for which there is time while the book is written."""
        if self._reading is not None:
            self._reading.join()

    def recorded(self, run: int, end: int) -> Recorded | None:
        """What is to be worked up; None where it is to be read from the book."""
        reading, self._reading = self._reading, None
        return reading.recorded(run, end) if reading is not None else None


@dataclass(frozen=True)
class KeptFile:
    """A file that is in the book, without a run yet. size: bytes of its lines."""

    size: int
    reading: BroughtReading

    def recorded(self, run: int) -> Recorded | None:
        """Its readings, as a run's that was seen live; once: they take room. None where they are to be read from the book."""
        return self.reading.recorded(run, self.size)


class BringingIn:
    """Guarantees that nothing is kept before somebody says so, that a file comes in as one step that can be taken back, and that
    the same file is noticed."""

    def __init__(self, store: LessonStore, changes: Changes) -> None:
        self._store, self._changes = store, changes

    def look_at(self, path: Path) -> Preview:
        """One file as one run. Raises FileTrouble where nothing can be read."""
        return self.recognised(self._preview(logged_from(path)))

    def look_at_all(self, paths: Sequence[Path]) -> list[Preview]:
        """What would come in, a run each: files of one series joined, a file in which several kits speak taken apart. Raises
        FileTrouble where nothing can be read of one of them."""
        return [self.recognised(each) for each in self.previews([logged_from(path) for path in paths])]

    def looked_through(
        self, paths: Sequence[Path], progress: LongTask | None = None
    ) -> tuple[list[Preview], FileTrouble | None]:
        """The same of those that can be read, and why the others cannot. Safe from any thread: what the book knows of them is not in
        it yet (`recognised`). Raises what `progress` does."""
        read: list[Logged] = []
        refused: list[FileTrouble] = []
        for path in paths:
            try:
                read.append(logged_from(path, progress))
            except FileTrouble as trouble:
                refused.append(trouble)
        if len(refused) < 2:
            return self.previews(read), refused[0] if refused else None
        told = "; ".join(f"{Path(each.where).name}: {each.what.rstrip('.')}" for each in refused)
        return self.previews(read), FileTrouble("files-not-read", count=len(refused), whole=len(paths), told=told)

    def previews(self, read: Sequence[Logged]) -> list[Preview]:
        """The same of files that have been read; what is long in it. Safe from any thread: what the book knows of them is not in it yet
        (`recognised`)."""
        aliases = [group.alias for group in self._store.groups]
        found: list[Preview] = []
        for series in in_series(read):
            at = speakers_at(series[0], aliases) if len(series) == 1 else None
            if at is not None:
                found += [self._preview(part, kit=id) for id, part in by_speaker(series[0], at)]
            elif len(series) == 1:
                found.append(self._preview(series[0]))
            else:
                files = tuple(self._preview(each) for each in series)
                found.append(replace(self._preview(joined_files(series)), files=files))
        return found

    def recognised(self, preview: Preview) -> Preview:
        """With whose it seems to be, and what of it was brought in before."""
        again = self._again(preview.logged, preview.digest, preview.kit)
        files = tuple(self.recognised(each) for each in preview.files)
        return replace(preview, group=self._whose(preview.logged, preview.kit), again=again, files=files)

    def corrected(self, preview: Preview, corrections: Mapping[int, Correction]) -> Preview:
        """The same file with columns as somebody says; by their places. Safe from any thread. Raises FileTrouble where a name, a unit
        or a role is none, and where no channel is left."""
        logged = preview.logged
        names, units = list(logged.names), list(logged.units)
        for at, each in corrections.items():
            if not each.name.strip() or each.name.strip() in [*names[:at], *names[at + 1 :]]:
                raise FileTrouble("logged-column-named", name=each.name.strip())
            if each.unit and not is_unit(each.unit):
                raise FileTrouble("logged-column-unit", unit=each.unit)
            names[at], units[at] = each.name.strip(), each.unit
        roles = {at: each.role for at, each in corrections.items() if each.role}
        found = self._preview(replace(logged, names=names, units=units), kit=preview.kit, roles=roles)
        if not any(each.role == "channel" for each in found.columns):
            raise FileTrouble("no-channel-left", where=str(logged.path))
        return replace(found, files=preview.files, group=preview.group, again=preview.again)

    def _preview(self, logged: Logged, *, kit: str = "", roles: Mapping[int, Role] | None = None) -> Preview:
        times = _times(logged, roles or {})
        columns = tuple(columns_of(logged, times, roles or {}, self._store.channels))
        usual = usual_step(times.t)
        widest = max(GAP * usual, 1e-9)
        some = usual > 0 and steps_of(times.t).high > widest
        wide = steps_that(times.t, lambda steps: steps > widest) if some else np.empty(0, int)
        ends = sorted({*wide.tolist(), *times.breaks})[:MOST_GAPS]
        gaps = tuple((float(times.t[row - 1]), float(times.t[row])) for row in ends if row > 0)
        return Preview(logged, times, columns, gaps, None, _digest(logged, kit), "", kit)

    def _whose(self, logged: Logged, kit: str) -> int | None:
        """By the kit's own id, the file's name, what its first lines say, or a file of settings beside it; the only group, where
        there is one."""
        groups = self._store.groups
        for text in (kit, logged.path.stem, "\n".join(logged.settings), "" if kit else _beside(logged.path)):
            named = [group for group in groups if _names(text, group.alias)]
            if len(named) == 1:
                return named[0].id
            heard = {
                each.id for each in self._store.kits.values() if _names(text, each.identity) or _names(text, each.name)
            }
            owned = [group for group in groups if self._store.kit_of(group.id) in heard]
            if len(owned) == 1:
                return owned[0].id
        return groups[0].id if len(groups) == 1 and not kit else None

    def _again(self, logged: Logged, digest: str, kit: str) -> str:
        for row in self._store.rows("brought_file"):
            run = self._store.run(row["run"])
            if run.aside == TAKEN_BACK:
                continue
            which = f"{self._store.group(run.group).alias} run {run.number}"
            old = len(row["digest"]) == OLD_DIGEST and row["size"] == len(logged.data)
            if row["digest"] == (_digest_of_old(logged.data, kit) if old else digest):
                return f"brought in before, as {which}"
            of_it = json.loads(row["told"] or "{}").get("kit", "")
            if (
                of_it == kit
                and 0 < row["size"] < len(logged.data)
                and logged.data.startswith(kept_file(self._store.book, run.session))
            ):
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
    ) -> tuple[int, Change, Recorded | None]:
        """Keeps a file as a run of a group; gives the run, the step and what is to be worked up of it (None: from the book). began, ended: when its first or last row was, where somebody
        knows; told: the file's own times are believed where nobody does. Raises FileTrouble for a file that is there already."""
        place = self.place_for(preview, group)
        kept = place.keep()
        run, change = self.brought(preview, place, kept, began=began, ended=ended, told=told)
        return run, change, kept.recorded(run)

    def place_for(self, preview: Preview, group: int) -> PlaceInBook:
        """Where a file will lie in the book. Raises FileTrouble for a file that is there already."""
        for each in (preview, *preview.files):
            if each.again.startswith("brought in before"):
                raise FileTrouble("brought-before", where=str(each.logged.path), told=each.again)
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
        format = format_of(preview)
        setting = Chain(store.watching, self._calibrations(kit, format), format).setting(format, ClockState())
        return PlaceInBook(book, preview, group, kit, session, setting, store.channels)

    def brought(
        self, preview: Preview, place: PlaceInBook, kept: KeptFile, *, began: datetime | None = None,
        ended: datetime | None = None, told: bool = True,
    ) -> tuple[int, Change]:  # fmt: skip
        """Makes a run of a file whose bytes and lines are in the book (kept: what keeping them gave)."""
        store, book, group, session = self._store, self._store.book, place.group, place.session
        wall = _began(preview, began, ended) if told or began or ended else None
        number = book.largest("run", "number", lesson=store.id, group=group) + 1
        ending = Ending("brought-in", {"file": preview.logged.path.name})
        run = book.record(
            "run", lesson=store.id, group=group, number=number, session=session, state="closed", began_at=wall.isoformat() if wall else "",
            ending=json.dumps(msgspec.to_builtins(ending)), setting=msgspec.json.encode(place.setting).decode(), aside=TAKEN_BACK, trouble="",
            begin_byte=0, end_byte=kept.size, note="; ".join(preview.times.notes), lacks="", practice=0,
        )  # fmt: skip
        for each in preview.files or (preview,):
            book.record(
                "brought_file", run=run, name=each.logged.path.name, digest=each.digest, size=len(each.logged.data),
                told=json.dumps(told_of(each, number)), brought_at=now(),
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
        return later(ended, -preview.seconds)
    if preview.times.state == "never set":  # it ended when the file was last written
        written = datetime.fromtimestamp(preview.logged.path.stat().st_mtime)
        return later(written, -preview.seconds)
    return preview.times.first


def _digest(logged: Logged, kit: str) -> str:
    """By which a file, or what one kit says in it, is known again: how long it is, a sum over all of it, and a digest of its ends."""
    data = logged.data
    ends = hashlib.blake2b(data[:DIGESTED] + data[-DIGESTED:] + kit.encode(), digest_size=20)
    summed = check_sum(data) if logged.pieces is None else logged.pieces.check_sum.result()
    return f"{len(data)}-{summed:08x}-{ends.hexdigest()}"


def _digest_of_old(data: bytes, kit: str) -> str:
    """The same as books have it of files that were brought in long ago."""
    return hashlib.sha256(data + kit.encode()).hexdigest()


def _names(text: str, name: str) -> bool:
    """Whether a text names somebody, as a word or words of it."""
    return bool(name) and re.search(rf"(?<![^\W\d_]){re.escape(name)}(?![^\W_])", text, re.IGNORECASE) is not None


def _beside(path: Path) -> str:
    """What a small file of settings beside a logged one says."""
    for each in sorted(path.parent.iterdir()) if path.parent.is_dir() else ():
        known = each.stem.lower() in (*SETTINGS, path.stem.lower()) and each.suffix.lower() in SETTINGS_KINDS
        if known and each != path and each.is_file() and each.stat().st_size <= MOST_SETTINGS:
            return each.read_bytes().decode("utf-8", "replace")
    return ""


def _times(logged: Logged, roles: Mapping[int, Role]) -> FileTimes:
    """By the columns that somebody calls the clock, else by those that nobody calls anything else."""
    asked = [at for at, role in roles.items() if role == "clock"]
    usable = asked or [at for at in range(len(logged.names)) if at not in roles]
    if len(usable) == len(logged.names) and not asked:
        return times_of(logged)
    names = [f"time {logged.names[at]}" if asked else logged.names[at] for at in usable]
    part = replace(
        logged, names=names, units=[logged.units[at] for at in usable], rows=logged.only(usable),
    )  # fmt: skip
    times = times_of(part)
    return replace(times, columns=tuple(usable[at] for at in times.columns))
