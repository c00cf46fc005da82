"""Formats of lines whose values stand in columns, separated or after a tag. Lines of text in; a format or nothing out."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import msgspec
import numpy as np

from common_bench.model.stream import ASSUMED_NO_VALUE, Column, Role, StreamFormat, ValueKind
from common_bench.reading.dialects import fields_of, line_reader
from common_bench.reading.naming import MOST_COLUMNS, legend_in, names_in
from common_bench.reading.rows import text_of
from common_bench.reading.values import BARE_HEX, kind_of, number_pattern, plain_number, table

SEPARATORS = (";", "\t", ",", "|", " ")
KIT_TAG = re.compile(r"[A-Za-z]{1,8}[-_#]?[0-9]{1,4}")
ENOUGH_LINES = 5  # alike in shape, before a format is believed
FEW_WITH_NAMES = 3  # where a line of names fits, or names stand in the lines
MOST_TAGS = 12


def explained(format: StreamFormat, texts: Sequence[str]) -> int:
    """How many of the texts a format reads."""
    read = line_reader(msgspec.structs.replace(format, latin=False))
    return sum(1 for text in texts if read(text.encode()))


def renamed(old: StreamFormat, names: list[tuple[str, str]]) -> StreamFormat:
    """The same format under other names."""
    kinds = [column.kind for column in old.columns]
    columns = columns_of(names, [[] for _ in names], kinds, ["" if c.role == "clock" else c.unit for c in old.columns])
    return msgspec.structs.replace(old, columns=tuple(columns))


def columns_of(
    named: list[tuple[str, str]] | None,
    fields: Sequence[Sequence[str]],
    kinds: Sequence[ValueKind],
    seen_units: Sequence[str],
) -> list[Column]:
    """fields: the texts of each column. Two columns of one name get a number behind the second's."""
    taken: Counter[str] = Counter()
    columns: list[Column] = []
    clocked = False
    for at, kind in enumerate(kinds):
        name, unit = named[at] if named else (f"column {at + 1}", "")
        unit = unit or seen_units[at]
        tick = 0.0 if clocked or kind in ("text", "on/off") else _tick(name, unit, kind)
        if not named and not clocked and not tick and at == 0 and len(kinds) > 1 and kind == "number":
            tick = _counting_up(fields[0])
        clocked = clocked or tick > 0
        taken[name] += 1
        shown = name if taken[name] == 1 else f"{name} {taken[name]}"
        role: Role = "channel"
        if tick:
            role, unit = "clock", {1e-3: "ms", 1e-6: "µs"}.get(tick, "s")
        elif name.lower() in table()["kit"]["names"] and few_values(fields[at]):
            role = "kit"
        elif kind == "text":
            role = "kit" if _tells_kits_apart(fields[at]) else "ignored"
        columns.append(Column(shown, unit or ("" if tick else table()["unit"].get(name.lower(), "")), role, tick, kind))
    return columns


def few_values(fields: Sequence[str]) -> bool:
    """Whether a column holds a few words or numbers that come again and again."""
    return len(set(fields)) <= MOST_TAGS


def _tells_kits_apart(fields: Sequence[str]) -> bool:
    found = set(fields)
    return 2 <= len(found) <= MOST_TAGS and all(KIT_TAG.fullmatch(each) for each in found)


def _tick(name: str, unit: str, kind: ValueKind = "number") -> float:
    if kind == "time":
        return 1.0
    low = name.lower()
    if unit:
        known = low in ("t", "time", "clock", "millis", "micros", "timestamp", "uptime")
        return float(table()["clock_unit"].get(unit, 0.0)) if known else 0.0
    return float(table()["clock"].get(low, 0.0))


def _counting_up(fields: Sequence[str]) -> float:
    """The first of several unnamed columns is a clock in ms where it counts up in whole, even steps."""
    if not all(field.isascii() and field.isdigit() for field in fields):
        return 0.0
    steps = np.diff([float(field) for field in fields])
    if len(steps) < ENOUGH_LINES - 1 or steps.min() < 2:
        return 0.0
    return 1e-3 if steps.max() <= 2 * steps.min() else 0.0


def kind_of_column(fields: Sequence[str], decimal_comma: bool) -> tuple[ValueKind, str] | None:
    """What all fields of a column are, and the unit behind them; None where they are no values."""
    found = [kind_of(field, decimal_comma) for field in fields if field not in ASSUMED_NO_VALUE]
    if not found:
        return "number", ""
    known = [each for each in found if each is not None]
    if len(known) < len(found):
        filled = [field for field in fields if field not in ASSUMED_NO_VALUE]
        same = len({len(field) for field in filled}) == 1
        if same and all(BARE_HEX.fullmatch(field) for field in filled):
            return "hexadecimal", ""
        return None
    kinds = {kind for kind, _ in known}
    if kinds == {"number", "on/off"}:
        kinds = {"on/off"} if all(f in ("0", "1") or kind_of(f, False) != ("number", "") for f in fields) else set()
    if len(kinds) != 1:
        return None
    unit = Counter(unit for _, unit in known if unit).most_common(1)
    return kinds.pop(), unit[0][0] if unit else ""


def longer_rows(known: StreamFormat, lines: Sequence[bytes]) -> StreamFormat | None:
    """The format with further columns, where all lines begin as it says and go on alike."""
    rows = [fields_of(text_of(line, known.latin) or "", known.separator) for line in lines]
    count, more = len(known.columns), len(rows[0]) - len(known.columns)
    if known.start or known.end or known.kit_mark or more < 1 or any(len(row) != count + more for row in rows):
        return None
    read = line_reader(known)
    if not all(read(known.separator.join(row[:count]).encode()) for row in rows):
        return None
    fields = list(zip(*[row[count:] for row in rows], strict=True))
    kinds = [kind_of_column(each, known.decimal_comma) for each in fields]
    if any(kind is None for kind in kinds) or count + more > MOST_COLUMNS:
        return None
    taken = {column.name for column in known.columns}
    new = [Column(f"column {count + at}", kind[1], kind=kind[0]) for at, kind in enumerate(kinds, 1) if kind]
    if any(column.name in taken for column in new):
        return None
    return msgspec.structs.replace(known, columns=(*known.columns, *new))


def separated(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    """The best of all separators, with a decimal point or a comma; rows of tags where lines differ in length."""
    best: tuple[float, StreamFormat] | None = None
    for separator in SEPARATORS:
        for comma in (False, True):
            if comma and separator == ",":
                continue
            for made in (_in_rows(texts, words, separator, comma), _in_tagged_rows(texts, words, separator, comma)):
                if made is None:
                    continue
                named = made.columns[0].name != "column 1"
                score = explained(made, texts) + 0.01 * min(len(made.columns), 20) + 0.3 * named - 0.2 * comma
                score -= 0.3 * (made.dialect == "tagged") - 0.25 * (separator in ";\t|")
                score += 0.5 * (made.dialect == "tagged" and {c.key for c in made.columns} <= legend_in(words).keys())
                if best is None or score > best[0]:
                    best = score, made
    return _with_question(best[1], texts, words) if best else None


def _in_rows(texts: Sequence[str], words: Sequence[bytes], separator: str, comma: bool) -> StreamFormat | None:
    rows = [fields_of(text, separator) for text in texts]
    (count, times), *_ = Counter(len(row) for row in rows).most_common(1)
    kept = [row for row in rows if len(row) == count]
    if times < FEW_WITH_NAMES or count > MOST_COLUMNS or (count == 1 and separator != ";" and not comma):
        return None
    # Names may differ from values in one field alone, so lines that hold none are left out first.
    kept = [row for row in kept if any(kind_of(field, comma) or BARE_HEX.fullmatch(field) for field in row)]
    if len(kept) < FEW_WITH_NAMES:
        return None
    columns = list(zip(*kept, strict=True))
    kinds: list[tuple[ValueKind, str]] = []
    for fields in columns:
        kind: tuple[ValueKind, str] | None = kind_of_column(_usual(fields, comma), comma)
        if kind is None:
            # Words come again and again, or are the ids of kits; what is new in each line is neither.
            again = len(set(fields)) <= len(fields) / 2 or _tells_kits_apart(fields)
            words_only = again and all(len(field) <= 24 for field in fields) and len(set(fields)) <= MOST_TAGS
            if all(kind_of(field, not comma) == ("number", "") for field in fields):
                return None  # numbers written the other way that stand still are no words
            if not words_only or count == 1:
                return None
        kinds.append(kind or ("text", ""))
    if not any(kind in ("number", "hexadecimal", "on/off") for kind, _ in kinds):
        return None
    if comma and not any("," in field for fields in columns for field in fields):
        return None
    named = next((n for w in reversed(words) if (n := names_in(w, separator)) and len(n) == count), None)
    made = columns_of(named, columns, [kind for kind, _ in kinds], [unit for _, unit in kinds])
    format = StreamFormat(separator, tuple(made), decimal_comma=comma)
    return msgspec.structs.replace(format, proposals=_sentinels(format, columns))


def _usual(fields: Sequence[str], comma: bool) -> Sequence[str]:
    """A column without the odd field that is damaged, where nearly all others are values."""
    good = [field for field in fields if field in ASSUMED_NO_VALUE or kind_of(field, comma)]
    return (
        good if len(good) >= 0.8 * len(fields) and len(good) < len(fields) and len(fields) >= ENOUGH_LINES else fields
    )


def _sentinels(format: StreamFormat, columns: Sequence[Sequence[str]]) -> tuple[str, ...]:
    """Texts from the table that stand far away from all other values of their column."""
    known = table()["sentinels"]["numbers"]
    found: list[str] = []
    for column, fields in zip(format.columns, columns, strict=True):
        if column.role != "channel" or column.kind != "number":
            continue
        numbers = {
            f: plain_number(m[1]) for f in set(fields) if (m := number_pattern(format.decimal_comma).fullmatch(f))
        }
        suspects = [f for f in numbers if f in known]
        others = [value for f, value in numbers.items() if f not in suspects]
        for suspect in suspects:
            if others and abs(numbers[suspect] - float(np.median(others))) > 3 * (
                np.ptp(others) + 1e-9 + abs(np.median(others)) * 0.2
            ):
                found.append(suspect)
    return tuple(dict.fromkeys(found))


def _with_question(best: StreamFormat, texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat:
    """Where only commas part the digits, they may be decimal commas: decided by what the digits show, else asked."""
    if best.dialect != "separated" or not (
        (best.separator == "," and len(best.columns) == 2) or (best.decimal_comma and len(best.columns) == 1)
    ):
        return best
    if any("." in text or ", " in text or re.search(r",[+\-]", text) or re.search(r"[A-Za-z]", text) for text in texts):
        return best
    one: StreamFormat | None
    two: StreamFormat | None
    two = best if best.separator == "," else _in_rows(texts, words, ",", False)
    one = best if best.decimal_comma else _in_rows(texts, words, ";", True)
    if one is None or two is None or best.columns[0].name != "column 1":
        return best
    digits = {len(text.partition(",")[2]) for text in texts}
    zero_first = any(re.search(r",0\d", text) for text in texts)
    if len(digits) > 1 and not zero_first:
        return two
    if zero_first and len(digits) == 1:
        return one
    if best.columns[0].role == "clock":
        return two
    shown = texts[-1]
    question = f"Is “{shown}” one number with a decimal comma, or two numbers?"
    return msgspec.structs.replace(one, question=question, other=two, sure=0.5)


def _in_tagged_rows(texts: Sequence[str], words: Sequence[bytes], separator: str, comma: bool) -> StreamFormat | None:
    """Rows of several kinds, told apart by their first field; a legend may name them."""
    rows = [fields_of(text, separator) for text in texts]
    rows = [row for row in rows if len(row) > 1 and len(row[0]) <= 8 and all(_is_value(f, comma) for f in row[1:])]
    rows = [row for row in rows if re.fullmatch(r"[A-Za-z]\w*|\d{1,3}", row[0])]
    tags = Counter(row[0] for row in rows)
    if not 2 <= len(tags) <= MOST_TAGS or len(rows) < ENOUGH_LINES:
        return None
    legend = legend_in(words)
    lengths = {tag: {len(row) for row in rows if row[0] == tag} for tag in tags}
    if any(len(each) > 1 for each in lengths.values()) or min(tags.values()) < 1:
        return None
    differ = len({next(iter(each)) for each in lengths.values()}) > 1
    letters = all(not tag[-1].isdigit() for tag in tags) and not _alike(rows, comma)
    if not (differ or letters or set(tags) <= legend.keys()):
        return None
    columns: list[Column] = []
    for tag in sorted(tags, key=lambda each: (len(each), each)):
        fields = list(zip(*[row[1:] for row in rows if row[0] == tag], strict=True))
        kinds = [kind_of_column(each, comma) for each in fields]
        if any(kind is None for kind in kinds):
            return None
        count = len(fields)
        names = legend.get(tag, [])
        if len(names) != count:
            base = names[0] if len(names) == 1 else (tag, "")
            names = [base] if count == 1 else [(f"{base[0]} {k}", base[1]) for k in range(1, count + 1)]
            if not legend.get(tag) and tag.isdigit():
                names = [(f"row {tag}" if count == 1 else f"row {tag} value {k}", "") for k in range(1, count + 1)]
        made = columns_of(names, fields, [kind[0] for kind in kinds if kind], [kind[1] for kind in kinds if kind])
        columns += [msgspec.structs.replace(column, key=tag) for column in made]
    return StreamFormat(separator, tuple(unlike(columns)), dialect="tagged", decimal_comma=comma)


def _is_value(field: str, comma: bool) -> bool:
    return field in ASSUMED_NO_VALUE or kind_of(field, comma) is not None


def _alike(rows: Sequence[Sequence[str]], comma: bool) -> bool:
    """Whether rows of different tags hold the same quantities: all their medians lie close together."""
    medians: dict[str, list[float]] = {}
    for tag in {row[0] for row in rows}:
        fields = zip(*[row[1:] for row in rows if row[0] == tag], strict=False)
        numbers = [[plain_number(m[1]) for f in each if (m := number_pattern(comma).fullmatch(f))] for each in fields]
        medians[tag] = [float(np.median(each)) if each else np.nan for each in numbers]
    if len({len(each) for each in medians.values()}) > 1:
        return False
    table_of = np.array(list(medians.values()))
    return bool((np.ptp(table_of, axis=0) <= 0.2 * np.abs(table_of).max(axis=0) + 1e-12).all())


def unlike(columns: Sequence[Column]) -> list[Column]:
    """Columns with names of their own: one that comes again gets a number."""
    taken: Counter[str] = Counter()
    made = []
    for column in columns:
        taken[column.name] += 1
        name = column.name if taken[column.name] == 1 else f"{column.name} {taken[column.name]}"
        made.append(msgspec.structs.replace(column, name=name))
    return made
