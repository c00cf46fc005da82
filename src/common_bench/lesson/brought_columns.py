"""The columns of a file as they would come in: what each is, which of them moved when something was touched, and whose colour each
cell of a line wears."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

import numpy as np

from common_bench.exchange.file_times import FileTimes, numbers
from common_bench.exchange.logged import Logged
from common_bench.exchange.steps import usual_step
from common_bench.lesson.brought_words import BroughtColumn, Preview, Role
from common_bench.model.block import Floats
from common_bench.model.measured import how_long

LINE_END = re.compile(r"\r\n|\n|\r")
STILL = "always the same"
ROWS_LOOKED_AT = 6000  # by which it is found what was touched; of more, means of neighbours
AROUND = (5, 20, 80)  # rows before and after, with which a reading is held against its surroundings
STANDS_OUT = 12.0  # times what a column usually does, from which it has moved
ONE_TIME = 0.04  # of the whole record, within which somebody who touches a sensor leaves it again
COMES_BACK = 0.35  # of the move, by which what lies after may differ from what lay before
APART = 0.01  # of the whole record: moves that lie closer were one

Piece = tuple[str, int | None]
"""Some text of a line, and the column that it belongs to; None for what stands between them."""


def columns_of(
    logged: Logged, times: FileTimes, roles: Mapping[int, Role], wanted: Collection[str] = ()
) -> list[BroughtColumn]:
    """roles: what somebody says that a column is; wanted: channels of the plan. A column that never changes is a channel where
    the plan wants it, or where there is no other."""
    found = list(_each(logged, times, roles))
    still = [at for at, each in enumerate(found) if each.note == STILL]
    others = any(each.role == "channel" for each in found)
    named = [at for at in still if found[at].name in wanted]
    for at in named if named or others else still:
        found[at] = replace(found[at], role="channel")
    moved = {
        at: when
        for at, column in enumerate(found)
        if column.role == "channel"
        and (when := touched(times.t, numbers(logged, at), known=logged.are_known(at))) is not None
    }
    channels = sum(1 for each in found if each.role == "channel")
    for at, when in moved.items():
        together = [other for other in moved.values() if abs(other - when) <= APART * float(times.t[-1])]
        if channels > 1 and len(together) == channels:
            continue  # all of them moved at once: that points at none
        words = f"moved at {how_long(when)}, as if it was touched"
        note = f"{found[at].note}; {words}" if found[at].note else words
        found[at] = replace(found[at], note=note)
    return found


def _each(logged: Logged, times: FileTimes, roles: Mapping[int, Role]) -> Iterator[BroughtColumn]:
    usual = usual_step(times.t, onwards=True)
    rate = round(1 / usual, 6) if usual == usual else 0.0
    for at, (name, unit) in enumerate(zip(logged.names, logged.units, strict=True)):
        if at in times.columns:
            note = "never set" if times.state == "never set" else ""
            yield BroughtColumn(name, unit, "clock", rate, len(times.t), note)
            continue
        values = numbers(logged, at)
        there = values if logged.are_known(at) else values[np.isfinite(values)]
        empty = len(values) - len(there)
        if roles.get(at) == "ignored":
            yield BroughtColumn(name, unit, "ignored", rate, len(there), "left out by hand")
        elif not len(there):
            yield BroughtColumn(name, unit, "ignored", 0.0, 0, "no numbers")
        elif len(there) > 2 and float(np.ptp(there)) == 0.0 and roles.get(at) != "channel":
            yield BroughtColumn(name, unit, "ignored", rate, len(there), STILL)
        else:
            again = "two columns of one name" if name.rpartition(" ")[0] in logged.names and name[-1].isdigit() else ""
            note = "; ".join(each for each in (again, f"{empty} empty: no value" if empty else "") if each)
            yield BroughtColumn(name, unit, "channel", rate, len(there), note)


def touched(t: Floats, values: Floats, *, known: bool = False) -> float | None:
    """s at which a column left what lies before and after for a while, once, as a sensor does that somebody warms or shakes; None
    where it did not, or does so all the time. known: none of its values is missing."""
    v = values
    if not known and not (there := np.isfinite(values)).all():
        t, v = t[there], values[there]
    if len(v) > ROWS_LOOKED_AT:
        count = len(v) // (len(v) // ROWS_LOOKED_AT)
        size = len(v) // count
        t, v = t[: count * size].reshape(count, size)[:, 0], v[: count * size].reshape(count, size).mean(axis=1)
    if len(v) < 4 * max(AROUND[:2]) or not t[-1] > 0:
        return None
    for reach in AROUND:
        if len(v) < 4 * reach:
            continue
        sums = np.concatenate([[0.0], np.cumsum(v - v.mean())])
        means = (sums[reach:] - sums[:-reach]) / reach
        off = (v - v.mean())[reach:-reach] - (means[: -reach - 1] + means[reach + 1 :]) / 2
        usual = float(np.median(np.abs(off - np.median(off)))) * 1.4826
        steps = np.abs(np.diff(v))
        step = float(steps[steps > 0].min()) if (steps > 0).any() else 0.0
        size = np.abs(off)
        most = float(size.max())
        if not most > STANDS_OUT * max(usual, step / 2):
            continue
        out = np.flatnonzero(size > max(most / 2, STANDS_OUT * usual)) + reach
        if len(out) >= 2 and t[out[-1]] - t[out[0]] <= ONE_TIME * t[-1] and _comes_back(v, out[0], out[-1], reach):
            return float(t[out[0]])
    return None


def _comes_back(v: Floats, first: int, last: int, reach: int) -> bool:
    """Whether what lies after is about what lay before, as it is not where something was put on or ran empty."""
    before, after = v[max(0, first - reach) : first], v[last + 1 : last + 1 + reach]
    if not len(before) or not len(after):
        return False
    ends = float(before.mean()), float(after.mean())
    most = float(np.abs(v[first : last + 1] - sum(ends) / 2).max())
    return abs(ends[1] - ends[0]) < COMES_BACK * most


def first_lines(preview: Preview, most: int, longest: int) -> list[list[Piece]]:
    """The first lines of a file as they stand there, taken apart by column."""
    logged = preview.logged
    text = LINE_END.split(logged.beginning)[:most]
    rows = set(logged.numbers[:most])
    places = logged.places or tuple(range(len(logged.names)))
    column_at = {cell: column for column, cell in enumerate(places)}
    return [_pieces(line[:longest], logged.mark, column_at, number in rows) for number, line in enumerate(text, 1)]


def _pieces(line: str, mark: str, column_at: Mapping[int, int], is_row: bool) -> list[Piece]:
    if not is_row or not mark or '"' in line:
        return [(line, None)]
    found: list[Piece] = []
    for at, cell in enumerate(line.split(mark)):
        found += [(mark, None)] * (at > 0) + ([(cell, column_at.get(at))] if cell else [])
    return found
