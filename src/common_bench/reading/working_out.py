"""Working a stream format out by evidence. Lines as they were heard in; a format, and what speaks for it, out.

The shape of the lines is the one under which they need the fewest bits (choosing); what each column is follows from
what it predicts (roles). Nothing is assumed that the lines do not show: what may stand for "no value" is only proposed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import msgspec
import numpy as np

from common_bench.model.block import Floats
from common_bench.model.stream import Column, Role, StreamFormat, ValueKind
from common_bench.reading.check_sums import may_check
from common_bench.reading.choosing import CONFIRMING, MOST_LINES, choose, confirmed
from common_bench.reading.description import number_text
from common_bench.reading.evidence import Evidence, heard_of, stretch
from common_bench.reading.judgement import Judgement, Reading
from common_bench.reading.layouts import layout_of
from common_bench.reading.naming_columns import column_names, unlike
from common_bench.reading.proposing import LOWEST_ID, MOST_IDS, speak_by_turns
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
from common_bench.reading.rows import Line, is_unnamed, mostly_numbers
from common_bench.reading.senml import senml_format
from common_bench.reading.sentences import values_in_pattern
from common_bench.reading.torn_lines import without_torn_numbers
from common_bench.reading.values import NAN, NOTHING, table, value_of
from common_bench.reading.weighing import ColumnFields, ColumnText, Weight, cut_all, fields_of_columns

COMMA_LEAD = 60.0  # bits, where it is about a decimal comma
SURE_LEAD = 40.0  # bits: see docs/links.md for how often the leader is wrong at each lead
CLEAR_FROM = 6  # lines
CLEAR_LEAD = 150.0  # bits, from which a choice is only confirmed while it explains what comes
SURE_FROM = 10  # lines
MOST_HEADS = 6
CLOCK_KINDS = ("number", "hexadecimal", "time")
ODD_LINES = 60  # lines that are wanted where some that look like rows are not read
FEW_SUMS = 3  # different texts of a column, from which it tells what it is
AGAIN = 5  # times that each kind, id and word is wanted
EXPLAINED = 0.5  # of the lines that could be readings
FEW, FEW_UNNAMED = 2, 3  # lines before anything is shown
ASKED_AFTER = 10.0  # s, after which two readings that are equally likely are asked about
FAR_SPANS = 3.0  # of all other values, beyond which a number of the table may stand for no value


NO_FIELDS = ColumnFields([], [], [])  # of a column that no line holds


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
    now = layout_of(known) if known is not None and known.dialect != "senml" else None
    choice = None
    if now is not None and lead:
        latin, texts, arrivals = heard_of(
            lines[-(CONFIRMING // 2 if known is not None and known.is_sure else CONFIRMING) :]
        )
        choice = confirmed(now, texts, lead)
    if choice is None:
        latin, texts, arrivals = heard_of(lines[-MOST_LINES:])
        nameless = known is not None and any(each.role == "kit" and is_unnamed(each.name) for each in known.columns)
        also = (now,) if now is not None else ()
        choice = choose(texts, arrivals, words, also, nameless=nameless) if len(texts) >= FEW else None
    if choice is None or choice.best.explained < EXPLAINED * choice.lines:
        return None
    texts = texts[-choice.lines :]
    evidence = Evidence(texts, arrivals[-choice.lines :], *stretch(lines, latin), words, latin, paced)
    best = _format(choice.best, evidence, known)
    if best is None:
        return None
    format, roles_sure = best
    if len(texts) < FEW_UNNAMED and format.dialect not in ("json", "senml") and is_unnamed(format.columns[0].name):
        return None
    other = _format(choice.other, evidence) if choice.other is not None else None
    wanted = (
        COMMA_LEAD if choice.other is not None and choice.other.layout.comma != choice.best.layout.comma else SURE_LEAD
    )
    sure = choice.lead >= wanted and choice.best.explained >= _enough(choice.best, texts) and roles_sure
    format = msgspec.structs.replace(
        format, worked_out_from=len(texts), sure=1.0 if sure else _share(choice.lead, len(texts))
    )
    if other is not None and choice.lead < wanted and lines[-1][0] - lines[0][0] >= ASKED_AFTER:
        format = msgspec.structs.replace(format, question=_question(format, other[0], texts[-1]), other=other[0])
    return Judgement(
        format, _reading(choice.best, format), _reading(choice.other, other[0]) if choice.other and other else None,
        choice.lead, len(texts), sure, choice.lead >= CLEAR_LEAD and choice.best.explained >= _enough(choice.best, texts, CLEAR_FROM),
        choice.behind, tuple(texts[-3:]),
    )  # fmt: skip


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
    most = MOST_IDS if lettered or least < SURE_FROM or speak_by_turns(heads) else MOST_HEADS
    counted = len(heads) > CLEAR_FROM and _are_no_ids(heads)
    if weight.layout.dialect == "separated" and 2 <= (few := len(set(heads))) <= most and not counted:
        kinds.append(few)  # they may turn out to be tags, or ids
    first = next(
        at for at, cut in enumerate(weight.cuts) if cut is not None
    )  # what came before was perhaps another kit's
    pairs = list(zip(texts, weight.cuts, strict=True))[first:]
    marked = weight.layout.dialect == "tagged" or weight.layout.start != ""
    if any(cut is None and (mostly_numbers(text) or (marked and text[-1:].isdigit())) for text, cut in pairs):
        kinds.append(ODD_LINES // AGAIN)  # rows of another kind may be coming
    return max(least, *(AGAIN * kind for kind in kinds if kind > 1), 0)


def _are_no_ids(heads: Sequence[str]) -> bool:
    """Whether what lines begin with are numbers too large for ids, of which none came twice."""
    if len(set(heads)) < len(heads):
        return False
    numbers = [number_text(head, False) for head in heads]
    return all(n is not None for n in numbers) and max(n.value for n in numbers if n) > 3 * len(heads) + LOWEST_ID


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
    if other.dialect == "tagged" and any(column.role == "kit" for column in format.columns):
        return f"Is the first number of “{line[:40]}” that of a kit, one of several that speak by turns, or of a sensor of one kit?"
    return f"Is “{line[:40]}” {_count(one)}, or {_count(two)}?"


def _count(numbers: int) -> str:
    words = ("no number", "one number", "two numbers", "three numbers", "four numbers", "five numbers")
    return words[numbers] if numbers < len(words) else f"{numbers} numbers"


def _format(weight: Weight, heard: Evidence, known: StreamFormat | None = None) -> tuple[StreamFormat, bool] | None:
    """The format of a layout with its columns, and whether it is sure what they are."""
    layout = weight.layout
    shape = StreamFormat(
        layout.separator, (), dialect=layout.dialect, decimal_comma=layout.comma, start=layout.start, end=layout.end,
        kit_mark=layout.kit_mark, latin=heard.latin, patterns=layout.patterns,
        lengths=tuple(sorted(set(layout.counts) - {max(layout.counts)})) if layout.counts else (),
    )  # fmt: skip
    if layout.dialect == "senml":
        found = senml_format(heard.texts)
        return (
            (msgspec.structs.replace(found, columns=tuple(unlike(found.columns))), True) if found is not None else None
        )
    order = _keys_in_order(weight)
    names = column_names(weight, order, heard.words)
    before = (
        known.columns if known is not None and layout_of(known) == layout and len(known.columns) == len(order) else ()
    )
    if before and layout.dialect == "separated":  # what a line of names told stands, though it is long gone
        names = [
            (old.name, old.unit) if is_unnamed(name) and not is_unnamed(old.name) else (name, unit)
            for old, (name, unit) in zip(before, names, strict=True)
        ]
    settled = before if known is not None and known.is_sure and layout.dialect == "separated" else ()
    fields = fields_of_columns(weight.cuts)
    columns, sure = _columns(weight, order, names, fields, heard, settled)
    if not any(column.role == "channel" for column in columns):
        return None
    format = msgspec.structs.replace(shape, columns=tuple(unlike(columns)))
    return msgspec.structs.replace(format, proposals=_proposals(order, fields, format)), sure


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
    weight: Weight, order: Sequence[str], names: Sequence[tuple[str, str]], fields: Mapping[str, ColumnFields], heard: Evidence,
    settled: Sequence[Column],
) -> tuple[list[Column], bool]:  # fmt: skip
    layout = weight.layout
    far: Mapping[str, ColumnFields] = {}
    when = heard.long_arrivals if heard.long else heard.arrivals
    made: list[Column] = []
    clocked = False
    sure = not _may_be_check_sum(weight, heard.texts)
    for at, (key, (name, unit)) in enumerate(zip(order, names, strict=True)):
        held = weight.columns.get(key, ColumnText("number"))
        unit = unit or held.unit
        rows, texts, kits = fields.get(key, NO_FIELDS)
        was = settled[at] if settled else None
        if was is not None and was.kind != held.kind and _still_reads(was, texts, layout.comma):
            held = held._replace(kind=was.kind, words=was.words)
        kind = "text" if key == layout.kit_key and held.kind != "number" else held.kind
        column = Column(name, unit, "channel", kind=kind, key=_key(weight, key), words=held.words if held.kind == "words" else ())  # fmt: skip
        clock = None
        if not clocked and held.kind in CLOCK_KINDS:
            held_values = without_torn_numbers(texts, numbers_of_column(texts, held.kind, layout.comma))
            steps = np.diff(_of_busiest(held_values, kits))
            far = far or (fields_of_columns(cut_all(layout, heard.long)) if heard.long else fields)
            places, long, senders = far.get(key, NO_FIELDS)
            values, times = without_torn_numbers(long, numbers_of_column(long, held.kind, layout.comma)), when[places]
            pace = pace_of(_of_busiest(values, senders), _of_busiest(times, senders))
            clock = clock_of(column.name, column.unit, held.kind, pace, steps, alone=len(order) == 1, paced=heard.paced)
            if (
                clock is None
                and was is not None
                and was.role == "clock"
                and pace.rises
                and (pace.off(was.tick) < CONTRADICTED or not pace.is_steady)
            ):
                clock = Clock(was.tick, True, False)  # one that was sure is given up only against its pace
        if clock is not None:
            column = msgspec.structs.replace(
                column, role="clock", tick=clock.tick, unit=UNIT_NAMES.get(clock.tick, "s")
            )
            if held.kind != "time" and clock.tick not in UNIT_NAMES:
                column = msgspec.structs.replace(column, unit="ticks")
            sure = sure and clock.sure
            clocked = layout.dialect not in ("tagged", "sentence")
        else:
            sure = sure and not (
                _may_turn_out_a_clock(column, texts, heard.arrivals[rows], layout.comma) and heard.paced
            )
            role = _role(weight, key, column, texts)
            if was is not None and was.role == "ignored" and len(set(texts)) < FEW_SUMS:
                role = "ignored"  # a check sum of lines that stand still is as good as none
            column = msgspec.structs.replace(column, role=role)
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


def numbers_of_column(texts: Sequence[str], kind: ValueKind, comma: bool) -> Floats:
    """(n,) the numbers of a column's texts, nan where there is none."""
    if kind == "number":
        return np.array([n.value if (n := number_text(text, comma)) is not None else NAN for text in texts])
    return np.array([NAN if (v := value_of(text, kind, comma, NOTHING)) is None else v for text in texts])


def _may_be_check_sum(weight: Weight, texts: Sequence[str]) -> bool:
    """Whether lines that stand still end in what might be their check sum."""
    layout, last = weight.layout, next(cut for cut in reversed(weight.cuts) if cut is not None)
    if layout.dialect != "separated" or len(last.fields) < 2 or weight.check or layout.separator == " ":
        return False
    if len({cut.fields for cut in weight.cuts if cut is not None}) > 1:
        return False
    text = next(text for text, cut in zip(texts, weight.cuts, strict=True) if cut is last)
    return may_check(text.removesuffix(layout.end).rpartition(layout.separator)[0], last.fields[-1])


def _still_reads(column: Column, texts: Sequence[str], comma: bool) -> bool:
    """Whether a column of another kind than was known tells nothing new: it stands still, and reads as it did."""
    return (
        column.kind not in ("text", "number")
        and len(set(texts)) < FEW_SUMS
        and all(value_of(text, column.kind, comma, NOTHING, column.words) is not None for text in texts)
    )


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


def _proposals(order: Sequence[str], fields: Mapping[str, ColumnFields], format: StreamFormat) -> tuple[str, ...]:
    """Texts from the table that stand far away from all other values of their column."""
    known = table()["sentinels"]["numbers"]
    found: list[str] = []
    for key, column in zip(order, format.columns, strict=True):
        texts = fields.get(key, NO_FIELDS).texts
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
