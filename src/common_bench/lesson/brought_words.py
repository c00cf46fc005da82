"""A file as it would come in, and what is told of it: as an object for programs, in a sentence for people."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from common_bench.exchange.file_times import FileTimes
from common_bench.exchange.logged import Logged
from common_bench.model.measured import how_long
from common_bench.record.traces import Picture

Role = Literal["clock", "channel", "ignored"]


@dataclass(frozen=True)
class BroughtColumn:
    """role: `clock`, `channel` or `ignored`; rate: values per s; values: that there are; note: what is to be known of it."""

    name: str
    unit: str
    role: Role
    rate: float
    values: int
    note: str = ""


@dataclass(frozen=True)
class Correction:
    """What somebody says of a column; role: empty where it is what the program takes it for."""

    name: str
    unit: str
    role: Role | Literal[""] = ""


@dataclass(frozen=True)
class Preview:
    """A file as it would come in. gaps: (from, to) in s since its first row; group: whose it seems to be, None where nothing tells;
    again: what of it was brought in before, in words; kit: which of several in the file; files: those that were joined to it, each by
    itself; pictures: of its channels by place, where somebody has made them."""

    logged: Logged
    times: FileTimes
    columns: tuple[BroughtColumn, ...]
    gaps: tuple[tuple[float, float], ...]
    group: int | None
    digest: str
    again: str
    kit: str = ""
    files: tuple[Preview, ...] = ()
    pictures: Mapping[int, Picture] = field(default_factory=dict)

    @property
    def seconds(self) -> float:
        return float(self.times.t[-1]) if len(self.times.t) else 0.0


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
        **({"kit": preview.kit} if preview.kit else {}),
    }


def words_of_file(preview: Preview, who: str) -> str:
    """What came in, in one sentence or two."""
    logged, times = preview.logged, preview.times
    channels = [each.name for each in preview.columns if each.role == "channel"]
    count: dict[str, int] = {}
    for each in logged.left_out:
        count[each.what] = count.get(each.what, 0) + each.lines
    left = ", ".join(f"{lines} line{'s' if lines != 1 else ''} left out: {what}" for what, lines in count.items())
    parts = [
        f"{file_words(preview)}: {who}, {len(logged.rows)} rows over {how_long(preview.seconds)}, {', '.join(channels) or 'no channel'}"
    ]
    parts += [f"{len(preview.gaps)} gap{'s' if len(preview.gaps) != 1 else ''}"] if preview.gaps else []
    return "; ".join([*parts, *times.notes, *([left] if left else [])])


def file_words(preview: Preview) -> str:
    """`LOG1.CSV`, `LOG1.CSV to LOG3.CSV, joined`, `pond.csv, kit B`."""
    if preview.files:
        return f"{preview.files[0].logged.path.name} to {preview.files[-1].logged.path.name}, joined"
    return f"{preview.logged.path.name}, kit {preview.kit}" if preview.kit else preview.logged.path.name
