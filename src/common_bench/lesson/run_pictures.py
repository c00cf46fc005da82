"""Pictures of long runs, kept beside their bytes: a run of millions of readings is drawn at once, and read meanwhile."""

from __future__ import annotations

import hashlib
import logging
from dataclasses import dataclass

import msgspec
import numpy as np

from common_bench.book.book import Book
from common_bench.book.changes import RowChange
from common_bench.model.block import Floats, Series
from common_bench.model.run import Run
from common_bench.model.trouble import Trouble
from common_bench.record.replay import Replayed, quantities
from common_bench.workings.evaluate import check
from common_bench.workings.thinning import extremes

log = logging.getLogger(__name__)
LONG = 200_000  # readings from which on a run is not read in the time that a person waits for
STRETCHES = 1500  # as many as a graph has pixels across: in each the smallest and largest of every quantity are kept
RAW = "raw"  # in the place of the unit, of a channel of a run that gives no quantity


@dataclass(frozen=True)
class RunPicture:
    """A long run as it is drawn. t: (n,) s from its first reading; values: quantity -> its unit and (n,) values, nan where
    nothing was heard before that time."""

    t: Floats
    values: dict[str, tuple[str, Floats]]


def picture_of(replayed: Replayed) -> RunPicture | None:
    """None of a run that is read quickly enough."""
    if len(replayed.t) < LONG:
        return None
    keep = np.zeros(len(replayed.t), bool)
    keep[[0, -1]] = True
    per_second = STRETCHES / max(replayed.seconds - float(replayed.t[0]), 1e-9)
    seen = {
        name: (each.unit, each.values) for name, each in quantities(replayed).items() if np.isfinite(each.values).any()
    }
    if not seen:
        seen = {name: (RAW, values) for name, values in replayed.raw.items()}
    for _, values in seen.values():
        extremes(replayed.t, values, per_second, keep)
    t = replayed.t[keep]
    after = np.searchsorted(t, [high for _, high in replayed.gaps])
    times = np.insert(t, after, t[np.minimum(after, len(t) - 1)])
    return RunPicture(
        times, {name: (unit, np.insert(values[keep], after, np.nan)) for name, (unit, values) in seen.items()}
    )


def keep_picture(book: Book, run: Run, picture: RunPicture | None) -> None:
    """Beside the run's bytes, where there is a picture and the book may be written."""
    if picture is None or book.is_readonly:
        return
    try:
        book.complete(picture_rows(book, run, picture))
    except Trouble as trouble:  # it can be made again
        log.warning("the picture of run %s is not kept: %s", run.id, trouble.sentence)


def picture_rows(book: Book, run: Run, picture: RunPicture) -> list[RowChange]:
    """What is to be written so that the book holds this picture of a run and no other; nothing where it does."""
    old, digest = book.rows("run_picture", run=run.id), _digest(run)
    if old and all(row["digest"] == digest for row in old):
        return []
    rows = [book.gone("run_picture", row["id"]) for row in old]
    for name, (unit, values) in picture.values.items():
        cells = {"t": picture.t.astype("<f8").tobytes(), "value": values.astype("<f8").tobytes()}
        rows.append(book.added("run_picture", run=run.id, digest=digest, name=name, unit=unit, **cells))
    return rows


def kept_picture(book: Book, run: Run) -> RunPicture | None:
    """The picture of a run as it is set now; None where there is none, or where it was made of another setting."""
    digest = _digest(run)
    rows = [row for row in book.rows("run_picture", run=run.id) if row["digest"] == digest]
    if not rows or len({row["t"] for row in rows}) != 1 or any(len(row["value"]) != len(row["t"]) for row in rows):
        return None
    values = {row["name"]: (row["unit"], np.frombuffer(row["value"], "<f8")) for row in rows}
    return RunPicture(np.frombuffer(rows[0]["t"], "<f8"), values)


def as_replayed(run: Run, picture: RunPicture, channels: dict[str, str]) -> Replayed | None:
    """A run of which nothing but its picture is known yet, to be drawn. channels: channel -> unit of its quantity."""
    if run.setting is None:
        return None
    workings = check(run.setting.workings, channels, run.setting.raw)
    results = {name: Series(picture.t, values, unit) for name, (unit, values) in picture.values.items() if unit != RAW}
    raw = {name: values for name, (unit, values) in picture.values.items() if unit == RAW}
    nothing = np.zeros(len(picture.t), int)
    return Replayed(run, run.setting.format, workings, picture.t, nothing, raw, dict(results), [], [], 0.0)


def _digest(run: Run) -> str:
    """Of all that the picture of a run hangs on."""
    told = f"{run.session} {run.begin} {run.end} ".encode() + msgspec.json.encode(run.setting)
    return hashlib.sha256(told).hexdigest()
