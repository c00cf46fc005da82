"""What speaks for the way in which a kit is read, and what comes next to it, in words for the Plug in stage."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from common_bench.lesson.store import LessonStore
from common_bench.model.stream import DIALECT_WORDS, StreamFormat
from common_bench.reading.dialects import line_reader
from common_bench.reading.judgement import Judgement, Reading

SEPARATORS = {" ": "spaces", "\t": "tabs", ",": "commas", ";": "semicolons", "|": "bars", ":": "colons", "/": "slashes"}
MOST_LETTERS = 40  # of the names or values of a reading, with another one beside it


class ShownReading(NamedTuple):
    """One way of reading: what it is, its columns, what speaks for it, and what it makes of the last lines."""

    title: str
    columns: str
    evidence: str
    lines: tuple[str, ...]


def shape_words(format: StreamFormat) -> str:
    """How lines are cut, as `values in a row, parted by semicolons, decimal comma`."""
    parts = [DIALECT_WORDS[format.dialect]]
    if format.dialect in ("separated", "tagged") and len(format.columns) > 1:
        parts.append(f"parted by {SEPARATORS.get(format.separator, format.separator)}")
    if format.decimal_comma:
        parts.append("decimal comma")
    if format.start or format.end:
        parts.append(f"marks {format.start}…{format.end}".strip())
    if format.shared:
        parts.append("several kits")
    return ", ".join(parts)


def sure_words(format: StreamFormat) -> str:
    """How sure the program is of how it reads."""
    if format.by_hand:
        return "set by hand, so it stands"
    if format.question:
        return "two readings are equally likely"
    return "sure" if format.is_sure else "so far"


def shown_readings(judgement: Judgement) -> list[ShownReading]:
    """The way in which lines are read and the next one, where there is one."""
    found = [_shown(judgement.best, judgement)]
    if judgement.other is not None:
        found.append(_shown(judgement.other, judgement))
    return found


def lead_words(judgement: Judgement) -> str:
    """By how much the one is ahead of the other, in one sentence."""
    if judgement.other is None:
        return f"Nothing else reads these {judgement.lines} lines nearly as well."
    per_line = judgement.lead / max(1, judgement.lines)
    return (
        f"The first needs {judgement.lead:.0f} bits less for {judgement.lines} lines ({per_line:.1f} a line) than the other; "
        + ("that is sure." if judgement.sure else "it is not sure yet.")
    )


def _shown(reading: Reading, judgement: Judgement) -> ShownReading:
    format = reading.format
    names = [f"{c.name} ({c.unit})" if c.unit and c.role == "channel" else c.name for c in format.columns]
    what = f"{len(names)} column{'s' if len(names) != 1 else ''}: {_as_many(names, ', ')}"
    evidence = f"{reading.bits:.1f} bits a line · reads {reading.explained} of {reading.lines} lines"
    return ShownReading(shape_words(format), what, evidence, tuple(_read(format, text) for text in judgement.shown))


def _read(format: StreamFormat, text: str) -> str:
    rows = line_reader(format)(text.encode("latin-1" if format.latin else "utf-8", "replace"))
    if not rows:
        return "not read"
    there = [
        f"{column.name} {value:.12g}"
        for column, value in zip(format.columns, rows[0].values, strict=True)
        if value == value and column.role not in ("ignored", "kit")
    ]
    kit = [f"kit {rows[0].kit}"] if rows[0].kit else []
    return _as_many([*kit, *there], " · ")


def _as_many(parts: Sequence[str], between: str) -> str:
    """As many of them as have room beside another reading, one at least."""
    shown = parts[:1]
    for each in parts[1:]:
        if len(between.join([*shown, each])) > MOST_LETTERS:
            return f"{between.join(shown)} …"
        shown = [*shown, each]
    return between.join(shown)


def change_words(alias: str, before: StreamFormat, now: StreamFormat) -> str:
    """That a kit is read in another way from here on, in one sentence."""
    if shape_words(before) != shape_words(now):
        return f"{alias} is read in another way now: {shape_words(now)}. What had come was read anew."
    clock, old = (next((c for c in f.columns if c.role == "clock"), None) for f in (now, before))
    if (clock is None) != (old is None):
        told = f"“{clock.name}” keeps time" if clock is not None else "no column keeps time"
        return f"{alias} is read in another way now: {told}. What had come was read anew."
    return f"{alias} is read in another way now. What had come was read anew."


def plugged_words(store: LessonStore, kits: int, heard: int) -> str:
    """`5 of 6 kits heard`, of benches; kits: that are plugged in, be they of a bench or not; heard: benches whose kits are."""
    given = any(store.kit_of(group.id) is not None for group in store.groups)
    if kits and not given:
        return f"{kits} kit{'s' if kits != 1 else ''}, no bench yet"
    return f"{heard} of {len(store.groups)} kits heard"
