"""Working a stream format out by evidence. Lines as they were heard in; a format, and what speaks for it, out.

The shape of the lines is the one under which they need the fewest bits (choosing); what each column is follows from
what it predicts (roles). Nothing is assumed that the lines do not show: what may stand for "no value" is only proposed.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import msgspec
import numpy as np

from common_bench.model.block import Floats
from common_bench.model.stream import Column, Role, StreamFormat
from common_bench.reading.choosing import MOST_LINES, choose, confirmed
from common_bench.reading.description import number_text
from common_bench.reading.judgement import Judgement, Reading
from common_bench.reading.layouts import Cut, layout_of
from common_bench.reading.naming_columns import column_names, unlike
from common_bench.reading.proposing import MOST_IDS
from common_bench.reading.roles import (
    CONTRADICTED,
    CONTRADICTED_AFTER,
    UNIT_NAMES,
    Clock,
    clock_of,
    few_again,
    named_tick,
    pace_of,
)
from common_bench.reading.rows import Line, text_of
from common_bench.reading.senml import senml_format
from common_bench.reading.sentences import values_in_pattern
from common_bench.reading.values import NAN, clock_seconds, table
from common_bench.reading.weighing import ColumnText, Weight, cut_all

SURE_LEAD = 24.0  # bits: see docs/links.md for how often the leader is wrong at each lead
MOSTLY_LATIN = 0.2  # of the lines
STRETCH_LINES = 60  # of all that is kept, by which a pace is told
CLEAR_FROM = 6  # lines
CLEAR_LEAD = 150.0  # bits, from which a choice is only confirmed while it explains what comes
SURE_FROM = 10  # lines
MOST_HEADS = 6
HEXADECIMAL = re.compile(r"(?:0[xX])?[0-9a-fA-F]{1,16}")
CLOCK_KINDS = ("number", "hexadecimal", "time")
ODD_LINES = 60  # lines that are wanted where some that look like rows are not read
FEW_WORDS = 12  # lines, as of a greeting with a menu
AGAIN = 5  # times that each kind, id and word is wanted
EXPLAINED = 0.5  # of the lines that could be readings
FEW, FEW_UNNAMED = 2, 3  # lines before anything is shown
ASKED_AFTER = 10.0  # s, after which two readings that are equally likely are asked about
FAR_SPANS = 3.0  # of all other values, beyond which a number of the table may stand for no value


def work_out(
    lines: Sequence[Line],
    words: Sequence[bytes] = (),
    *,
    known: StreamFormat | None = None,
    paced: bool = True,
    lead: float = 0.0,
) -> Judgement | None:
    """How the newest of `lines` are read, by their evidence. None where nothing reads them.

    words: lines among which names and legends are looked for; known: how they are read so far, weighed in any case;
    paced: the arrivals mean something, as they do not where a file of text is replayed; lead: bits by which `known` has
    led so far, so that only its columns are looked at where it has led clearly.
    """
    latin = _is_latin([line for _, _, line in lines[-MOST_LINES:]])
    heard = [(at, text) for at, _, line in lines[-MOST_LINES:] if (text := text_of(line, latin))]
    heard = _without_words(heard)
    if len(heard) < FEW:
        return None
    texts, arrivals = [text for _, text in heard], np.array([at for at, _ in heard])
    long, seconds = _stretch(lines, latin), lines[-1][0] - lines[0][0]
    now = layout_of(known) if known is not None and known.dialect != "senml" else None
    choice = confirmed(now, texts, lead) if now is not None and lead else None
    if choice is None:
        choice = choose(texts, arrivals, words, (now,) if now is not None else ())
    if choice is not None:
        texts, arrivals = texts[-choice.lines :], arrivals[-choice.lines :]
    if choice is None or choice.best.explained < EXPLAINED * len(texts):
        return None
    best = _format(choice.best, texts, arrivals, long, words, latin, known, paced=paced)
    if best is None:
        return None
    format, roles_sure = best
    if len(texts) < FEW_UNNAMED and format.dialect not in ("json", "senml") and format.columns[0].name == "column 1":
        return None
    other = (
        _format(choice.other, texts, arrivals, long, words, latin, None, paced=paced)
        if choice.other is not None
        else None
    )
    sure = choice.lead >= SURE_LEAD and choice.best.explained >= _enough(choice.best, texts) and roles_sure
    format = msgspec.structs.replace(
        format, worked_out_from=len(texts), sure=1.0 if sure else _share(choice.lead, len(texts))
    )
    if other is not None and choice.lead < SURE_LEAD and seconds >= ASKED_AFTER:
        format = msgspec.structs.replace(format, question=_question(format, other[0], texts[-1]), other=other[0])
    return Judgement(
        format, _reading(choice.best, format), _reading(choice.other, other[0]) if choice.other and other else None,
        choice.lead, len(texts), sure, choice.lead >= CLEAR_LEAD and choice.best.explained >= _enough(choice.best, texts, CLEAR_FROM),
        choice.behind, tuple(texts[-3:]),
    )  # fmt: skip


def _is_latin(lines: Sequence[bytes]) -> bool:
    """Whether lines hold letters that are none of UTF-8's, rather than noise now and then."""
    odd = sum(1 for line in lines if not line.isascii() and text_of(line) is None)
    return odd > max(1, MOSTLY_LATIN * len(lines))


def _without_words(heard: list[tuple[float, str]]) -> list[tuple[float, str]]:
    """The lines without those that hold no digit and name nothing, where most have digits: words between rows."""
    kept = [each for each in heard if any(map(str.isdigit, each[1])) or ":" in each[1] or "=" in each[1]]
    return kept if len(kept) >= 0.6 * len(heard) or len(heard) - len(kept) <= FEW_WORDS else heard


def _enough(weight: Weight, texts: Sequence[str], least: int = SURE_FROM) -> int:
    """Lines that are wanted before it is sure: a few, and each tag, id and word a few times."""
    kinds = [
        len(weight.layout.tags),
        len({cut.kit for cut in weight.cuts if cut is not None}),
        len(weight.layout.patterns),
    ]
    kinds += [len(each.words) for each in weight.columns.values() if each.kind == "words"]
    heads = [cut.fields[0] for cut in weight.cuts if cut is not None]
    lettered = weight.layout.start[-1:].isalpha() and all(head.isdigit() and len(head) <= 2 for head in heads)
    most = MOST_IDS if lettered or least < SURE_FROM else MOST_HEADS
    if weight.layout.dialect == "separated" and 2 <= (few := len(set(heads))) <= most:
        kinds.append(few)  # they may turn out to be tags, or ids
    first = next(
        at for at, cut in enumerate(weight.cuts) if cut is not None
    )  # what came before was perhaps another kit's
    pairs = list(zip(texts, weight.cuts, strict=True))[first:]
    if any(cut is None and _is_numeric(text) for text, cut in pairs):
        kinds.append(ODD_LINES // AGAIN)  # rows of another kind may be coming
    return max(least, *(AGAIN * kind for kind in kinds if kind > 1), 0)


def _is_numeric(text: str) -> bool:
    """Whether a line is rather numbers than words."""
    return sum(map(str.isdigit, text)) > sum(map(str.isalpha, text))


def _share(lead: float, lines: int) -> float:
    """How sure it is while it is so far only, below 0.95."""
    return round(0.5 + 0.4 * min(1.0, max(0.0, lead / SURE_LEAD)) * min(1.0, lines / SURE_FROM), 2)


def _reading(weight: Weight, format: StreamFormat) -> Reading:
    return Reading(format, weight.bits / max(1, len(weight.cuts)), weight.explained, len(weight.cuts))


def _question(format: StreamFormat, other: StreamFormat, line: str) -> str:
    one, two = len(format.channels), len(other.channels)
    if format.decimal_comma != other.decimal_comma:
        return f"Is “{line[:40]}” {_count(one)} with a decimal comma, or {_count(two)}?" if format.decimal_comma else (
            f"Is “{line[:40]}” {_count(one)}, or {_count(two)} with a decimal comma?"
        )  # fmt: skip
    return f"Is “{line[:40]}” {_count(one)}, or {_count(two)}?"


def _count(numbers: int) -> str:
    words = ("no number", "one number", "two numbers", "three numbers", "four numbers", "five numbers")
    return words[numbers] if numbers < len(words) else f"{numbers} numbers"


def _format(
    weight: Weight,
    texts: Sequence[str],
    arrivals: Floats,
    long: Stretch,
    words: Sequence[bytes],
    latin: bool,
    known: StreamFormat | None,
    *,
    paced: bool,
) -> tuple[StreamFormat, bool] | None:
    """The format of a layout with its columns, and whether it is sure what they are."""
    layout = weight.layout
    shape = StreamFormat(
        layout.separator, (), dialect=layout.dialect, decimal_comma=layout.comma, start=layout.start, end=layout.end,
        kit_mark=layout.kit_mark, latin=latin, patterns=layout.patterns,
        lengths=tuple(sorted(set(layout.counts) - {max(layout.counts)})) if layout.counts else (),
    )  # fmt: skip
    if layout.dialect == "senml":
        found = senml_format(texts, words)
        return (
            (msgspec.structs.replace(found, columns=tuple(unlike(found.columns))), True) if found is not None else None
        )
    order = _keys_in_order(weight)
    names = column_names(weight, order, words)
    before = (
        known.columns if known is not None and layout_of(known) == layout and len(known.columns) == len(order) else ()
    )
    if before and layout.dialect == "separated":  # what a line of names told stands, though it is long gone
        names = [
            (old.name, old.unit) if name.startswith("column ") and not old.name.startswith("column ") else (name, unit)
            for old, (name, unit) in zip(before, names, strict=True)
        ]
    settled = before if known is not None and known.sure >= 1.0 and layout.dialect == "separated" else ()
    columns, sure = _columns(weight, order, names, arrivals, long, settled, paced=paced)
    if not any(column.role == "channel" for column in columns):
        return None
    format = msgspec.structs.replace(shape, columns=tuple(unlike(columns)))
    return msgspec.structs.replace(format, proposals=_proposals(weight, order, format)), sure


def _keys_in_order(weight: Weight) -> list[str]:
    """The columns as they stand in the format: of rows by their place; of kinds by tag; of names as they come."""
    layout = weight.layout
    if layout.dialect == "separated":
        return [str(at) for at in range(1, max(layout.counts) + 1)]
    if layout.dialect == "tagged":
        tags = sorted(layout.tags, key=lambda each: (len(each[0]), each[0]))
        return [f"{tag}:{at}" for tag, count in tags for at in range(1, count + 1)]
    if layout.dialect == "sentence":
        return [
            f"{k}:{at}" for k, pattern in enumerate(layout.patterns) for at in range(1, values_in_pattern(pattern) + 1)
        ]
    return list(weight.columns)


def _columns(
    weight: Weight,
    order: Sequence[str],
    names: Sequence[tuple[str, str]],
    arrivals: Floats,
    long: Stretch,
    settled: Sequence[Column],
    *,
    paced: bool,
) -> tuple[list[Column], bool]:
    layout, sure = weight.layout, True
    fields = _fields(weight.cuts, order)
    far: dict[str, tuple[list[int], list[str], list[str]]] = {}
    when = long[0] if long[1] else arrivals
    made: list[Column] = []
    clocked = False
    for at, (key, (name, unit)) in enumerate(zip(order, names, strict=True)):
        held = weight.columns.get(key, ColumnText("number"))
        unit = unit or held.unit
        kind = "text" if key == layout.kit_key and held.kind != "number" else held.kind
        column = Column(name, unit, "channel", kind=kind, key=_key(weight, key), words=held.words if held.kind == "words" else ())  # fmt: skip
        rows, texts, kits = fields[key]
        clock = None
        if not clocked and held.kind in CLOCK_KINDS:
            steps = np.diff(_of_busiest(numbers_of_column(texts, held.kind, layout.comma), kits))
            if not far and long[1]:
                far = _fields(cut_all(layout, long[1]), order)
            far = far or fields
            values, times = numbers_of_column(far[key][1], held.kind, layout.comma), when[far[key][0]]
            pace = pace_of(_of_busiest(values, far[key][2]), _of_busiest(times, far[key][2]))
            clock = clock_of(column.name, column.unit, held.kind, pace, steps, alone=len(order) == 1, paced=paced)
            if (
                clock is None
                and settled
                and settled[at].role == "clock"
                and pace.rises
                and pace.off(settled[at].tick) < CONTRADICTED
            ):
                clock = Clock(settled[at].tick, True, False)  # one that was sure is given up only against its pace
        if clock is not None:
            column = msgspec.structs.replace(
                column, role="clock", tick=clock.tick, unit=UNIT_NAMES.get(clock.tick, "s")
            )
            if held.kind != "time" and clock.tick not in UNIT_NAMES:
                column = msgspec.structs.replace(column, unit="ticks")
            sure = sure and clock.sure
            clocked = layout.dialect not in ("tagged", "sentence")
        else:
            sure = sure and not (_may_turn_out_a_clock(column, texts, arrivals[rows], layout.comma) and paced)
            column = msgspec.structs.replace(column, role=_role(weight, key, column, texts))
            if not column.unit and column.role == "channel":
                column = msgspec.structs.replace(column, unit=table()["unit"].get(name.lower(), ""))
        made.append(column)
    if layout.kit_mark and layout.kit_mark != "\t":
        ids = [cut.kit for cut in weight.cuts if cut is not None]
        sure = sure and few_again(ids, MOST_IDS)
    return made, sure


def _key(weight: Weight, key: str) -> str:
    dialect = weight.layout.dialect
    if dialect in ("named", "json"):
        return key
    return key.partition(":")[0] if dialect == "tagged" else ""


Stretch = tuple[Floats, list[str]]
"""Arrivals and texts of lines over all that is kept, every so many of them."""


def _stretch(lines: Sequence[Line], latin: bool) -> Stretch:
    """Every so many of all lines, as far as they go back, for the pace of a clock; nothing where there are few."""
    every = len(lines) // STRETCH_LINES
    if every < 1:
        return np.empty(0), []
    found = [(at, text) for at, _, line in lines[:: every + 1] if (text := text_of(line, latin))]
    return np.array([at for at, _ in found]), [text for _, text in found]


def _fields(cuts: Sequence[Cut | None], order: Sequence[str]) -> dict[str, tuple[list[int], list[str], list[str]]]:
    """Of each column: the lines that hold it, its texts, and the kit of each."""
    found: dict[str, tuple[list[int], list[str], list[str]]] = {key: ([], [], []) for key in order}
    for row, cut in enumerate(cuts):
        if cut is None:
            continue
        for key, field in zip(cut.keys, cut.fields, strict=True):
            if key in found:
                rows, texts, kits = found[key]
                rows.append(row)
                texts.append(field)
                kits.append(cut.kit)
    return found


def numbers_of_column(texts: Sequence[str], kind: str, comma: bool) -> Floats:
    """(n,) the numbers of a column's texts, nan where there is none."""
    if kind == "number":
        return np.array([n.value if (n := number_text(text, comma)) is not None else NAN for text in texts])
    if kind == "hexadecimal":
        return np.array([float(int(text, 16)) if HEXADECIMAL.fullmatch(text) else NAN for text in texts])
    if kind == "time":
        return np.array([NAN if (s := clock_seconds(text)) is None else s for text in texts])
    return np.full(len(texts), NAN)


def _of_busiest(values: Floats, kits: Sequence[str]) -> Floats:
    """Those of the kit that sends most: each kit's clock is its own."""
    if len(set(kits)) < 2:
        return values
    busiest = Counter(kits).most_common(1)[0][0]
    own: Floats = values[np.array([kit == busiest for kit in kits])]
    return own


def _may_turn_out_a_clock(column: Column, texts: Sequence[str], arrivals: Floats, comma: bool) -> bool:
    """Whether a column rises all the time so far, so that it is too early to say that it is no clock."""
    if column.kind != "number" or len(texts) < 3:
        return False
    pace = pace_of(numbers_of_column(texts, "number", comma), arrivals)
    _, maybe = named_tick(column.name, column.unit)
    early = pace.seconds < (CONTRADICTED_AFTER if maybe else 1.0) or pace.values < 12
    return early and pace.rises and (maybe or bool((pace.steps > 0).mean() > 0.5))


def _role(weight: Weight, key: str, column: Column, texts: Sequence[str]) -> Role:
    if key == weight.check:
        return "ignored"
    if key == weight.layout.kit_key:
        return "kit"
    if column.kind in ("text", "words"):
        return "channel" if column.kind == "words" else "ignored"
    if weight.layout.dialect == "tagged" and texts and set(texts) <= set(table()["sentinels"]["numbers"]):
        return "ignored"  # nothing ever stands there
    return "channel"


def _proposals(weight: Weight, order: Sequence[str], format: StreamFormat) -> tuple[str, ...]:
    """Texts from the table that stand far away from all other values of their column."""
    known = table()["sentinels"]["numbers"]
    found: list[str] = []
    fields = _fields(weight.cuts, order)
    for key, column in zip(order, format.columns, strict=True):
        texts = fields[key][1]
        suspects = [text for text in dict.fromkeys(texts) if text in known]
        if column.kind != "number" or column.role == "clock" or not suspects:
            continue
        if column.role == "ignored":
            found += suspects
            continue
        others = numbers_of_column([text for text in texts if text not in suspects], "number", format.decimal_comma)
        others = others[np.isfinite(others)]
        for suspect in suspects if len(others) else ():
            middle = float(np.median(others))
            away = abs(float(suspect) - middle)
            if away > FAR_SPANS * (float(np.ptp(others)) + 1e-9 + abs(middle) * 0.2):
                found.append(suspect)
    return tuple(dict.fromkeys(found))
