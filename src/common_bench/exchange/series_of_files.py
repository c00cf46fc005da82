"""Files that belong together: several of one series joined into one, and one in which several kits speak taken apart."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import FileTimes, times_of
from common_bench.exchange.logged import NOTHING, NUMBER, Logged

SPEAKER = re.compile(
    r"(^|[^a-z])(kit|node|device|station|logger|source|group|bench|serial|unit_id|sensor_id|id)([^a-z]|$)", re.I
)
MOST_SPEAKERS = 64
LOOKED_AT = 50  # rows by which most columns show that they hold no alias
LEAST_ROWS = 2  # of each kit in a file of several
COUNTED = re.compile(r"\d+")
APART = 86_400.0  # s that may lie between two files of one series, or as long as the longer of them


def speakers_at(made: Logged, aliases: Sequence[str] = ()) -> int | None:
    """The column that says which of several kits each row is of; None where one kit wrote them all. aliases: by which a kit
    may be called, whatever its column is."""
    known = {alias.lower() for alias in aliases}
    some = made.rows[:LOOKED_AT]
    for at, name in enumerate(made.names):
        if not SPEAKER.search(name) and any(cell and cell.lower() not in NOTHING | known for cell in (row[at] for row in some)):  # fmt: skip
            continue
        count = made.counts(at, MOST_SPEAKERS + len(NOTHING)) or {}
        ids = {cell: number for cell, number in count.items() if cell and cell.lower() not in NOTHING}
        if not 2 <= len(ids) <= MOST_SPEAKERS or len(ids) * LEAST_ROWS > len(made.rows):
            continue
        plain = all(not NUMBER.fullmatch(each) or each.isdigit() for each in ids)
        called = bool(SPEAKER.search(name)) and plain
        if (called or {each.lower() for each in ids} <= known) and min(ids.values()) >= LEAST_ROWS:
            return at
    return None


def by_speaker(made: Logged, at: int) -> list[tuple[str, Logged]]:
    """Each kit's own rows, without the column that says whose they are."""
    cells = made.column(at)
    found = []
    for id in dict.fromkeys(cell for cell in cells if cell and cell.lower() not in NOTHING):
        rows = [row for row, cell in enumerate(cells) if cell == id]
        places = {row: place for place, row in enumerate(rows)}
        breaks = sorted(
            {places[row] for each in made.breaks if (row := next((r for r in rows if r >= each), None)) is not None}
        )
        part = replace(
            made, names=_without(made.names, at), units=_without(made.units, at),
            rows=replace(made, rows=made.taken(rows)).only([k for k in range(len(made.names)) if k != at]), numbers=[made.numbers[row] for row in rows],
            breaks=[each for each in breaks if each > 0], places=tuple(k for k in range(len(made.names)) if k != at),
        )  # fmt: skip
        found.append((id, part))
    return found


def _without(cells: list[str], at: int) -> list[str]:
    return [*cells[:at], *cells[at + 1 :]]


def in_series(files: Sequence[Logged]) -> list[list[Logged]]:
    """Files in the order in which they belong together: those of one series in one list, whatever order they were given in."""
    if len(files) == 1:
        return [list(files)]
    told = [(each, times_of(each)) for each in files]
    found: list[list[tuple[Logged, FileTimes]]] = []
    for made, times in sorted(told, key=lambda each: _order(each[0], each[1])):
        last = next((series[-1] for series in found if _goes_on(*series[-1], made, times)), None)
        if last is None:
            found.append([(made, times)])
        else:
            next(series for series in found if series[-1] is last).append((made, times))
    given = {id(each): at for at, each in enumerate(files)}
    found.sort(key=lambda series: min(given[id(each)] for each, _ in series))
    return [[each for each, _ in series] for series in found]


def _order(made: Logged, times: FileTimes) -> tuple[str, tuple[int, ...]]:
    stem = made.path.stem
    return COUNTED.sub("#", stem).lower(), tuple(int(each) for each in COUNTED.findall(stem))


def _goes_on(before: Logged, then: FileTimes, made: Logged, times: FileTimes) -> bool:
    """Whether a file is the next of a series: alike in its columns and its name but for a number that counts on, and its clock
    goes on from where the one before ended."""
    if (before.names, before.units) != (made.names, made.units) or before.path.parent != made.path.parent:
        return False
    (name, counts), (next_name, next_counts) = _order(before, then), _order(made, times)
    if name != next_name or not counts or not counts < next_counts or then.state != times.state:
        return False
    if then.last is not None and times.first is not None:
        apart = (times.first - then.last).total_seconds()
    elif then.began is not None and times.began is not None:
        apart = times.began - (then.began + float(then.t[-1]))
    else:
        return False
    return 0.0 < apart <= max(APART, float(then.t[-1]), float(times.t[-1]))


def joined_files(series: Sequence[Logged]) -> Logged:
    """Several files as one, a stretch each; its bytes are theirs, one after the other, and its lines are counted through."""
    first = series[0]
    whole: list[bytes] = []
    count = before = 0
    numbers: list[int] = []
    breaks: list[int] = []
    left_out = [each for made in series for each in made.left_out]
    for made in series:
        breaks += ([count] if count else []) + [count + each for each in made.breaks]
        count += len(made.rows)
        numbers += [before + each for each in made.numbers]
        whole.append(made.data if made.data.endswith(b"\n") else made.data + b"\n")
        before += whole[-1].count(b"\n")
    columns = all(isinstance(made.rows, ColumnRows) for made in series)
    rows = _joined_rows([made.rows for made in series]) if columns else [row for made in series for row in made.rows]
    return replace(
        first, data=b"".join(whole), rows=rows, numbers=numbers, breaks=breaks, left_out=left_out,
        comma=any(made.comma for made in series), pieces=None,
    )  # fmt: skip


def _joined_rows(parts: Sequence[Sequence[list[str]]]) -> Sequence[list[str]]:
    from common_bench.exchange.plain_rows import StackedRows

    return StackedRows([each for each in parts if isinstance(each, ColumnRows)])
