"""Working a stream format out by looking at the lines. Lines in, format out, or None where it is too early.

Every dialect makes its proposal with the number of lines that it explains; the best explanation
wins. Nothing is assumed that the lines do not show: what may stand for "no value" is only proposed,
and where two explanations are equally good the format carries the question.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import msgspec
import numpy as np

from common_bench.model.stream import ASSUMED_NO_VALUE, Column, Kind, Role, StreamFormat
from common_bench.reading.dialects import fields_of, line_reader, unframed
from common_bench.reading.json_lines import MOST_KEYS, decoded, flat, json_number
from common_bench.reading.pairs import pairs_in
from common_bench.reading.rows import text_of
from common_bench.reading.senml import LEAST_ABSOLUTE, senml_records
from common_bench.reading.values import BARE_HEX, clock_seconds, kind_of, number_pattern, plain_number, table, units

SEPARATORS = (";", "\t", ",", "|", " ")
NUMBER = re.compile(rb"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?")
NAME = re.compile(
    r"^\W{0,2}\s*([^\W\d][\w .%°²-]{0,40}?)\s*(?:[(\[]\s*([^)\]]{1,16})\s*[)\]]|/\s*([^\s/\d][^\s]{0,8}))?\s*$"
)
LEGEND = re.compile(
    r"^\W{0,3}(?:row|id|type|tag|sensor|channel)?\s*([A-Za-z]{1,8}|[0-9]{1,3})\s*(?:[:=]|->|–|-)\s*(\S.*)$", re.I
)
START_MARKS = re.compile(r"^([$#<>!@&~^:*]{1,3}|[A-Z]{1,6}[,:; ]?)(?=[\s<]*[+\-]?[.\d])")
KIT_TAG = re.compile(r"[A-Za-z]{1,8}[-_#]?[0-9]{1,4}")
ENOUGH_LINES = 5  # alike in shape, before a format is believed
FEW_WITH_NAMES = 3  # where a line of names fits, or names stand in the lines
MOST_COLUMNS = 64
MOST_TAGS = 12
EXPLAINED = 0.6  # of the lines that could be readings


def names_in(line: bytes, separator: str) -> list[tuple[str, str]] | None:
    """(name, unit) of each field of a line of names; None where it is not one."""
    text = text_of(line) or text_of(line, latin=True) or ""
    text = re.sub(r"^(?:#|//|%|names?:|header:)\s*", "", text, flags=re.I)
    fields = fields_of(text, separator)
    if not fields or len(fields) > MOST_COLUMNS:
        return None
    found = [NAME.match(field) for field in fields]
    return [_name(m[1], m[2] or m[3] or "") for m in found if m] if all(found) else None


def _name(name: str, unit: str) -> tuple[str, str]:
    """A unit at the end of a name, as `temp_C`, is a unit where the table knows it."""
    if not unit and "_" in name and name.lower() not in table()["clock"]:
        front, _, back = name.rpartition("_")
        if front and back in units():
            return front, units()[back]
    return name, units().get(unit, unit)


def could_be_reading(line: bytes) -> bool:
    """Whether it is worth looking at: text with a digit, or with a word that stands for a value."""
    text = text_of(line) or text_of(line, latin=True)
    if not text or not all(each.isprintable() or each == "\t" for each in text):
        return False
    if text[0] == "{" or (text[0] == "[" and decoded(text) is not None):
        return True
    if any(each.isdigit() for each in text):
        return not _wordy(text)
    return kind_of(text, False) is not None or _ends_in_word(text)


def _wordy(text: str) -> bool:
    """Words for people with a number in them, as a greeting with a version; no field of it is a value."""
    letters, digits = (sum(1 for each in text if test(each)) for test in (str.isalpha, str.isdigit))
    if letters <= 3 * digits or re.search(r"[:=]\s*[-+]?[\d.]", text) or pairs_in(text, " "):
        return False
    fields = [field.strip() for field in re.split(r"[;,\t|]", text)]
    return len(fields) == 1 or not any(kind_of(field, False) for field in fields if field)


def _ends_in_word(text: str) -> bool:
    pairs = pairs_in(text, ":") if len(text) < 80 else None
    return bool(pairs) and kind_of(pairs[-1][1], False) is not None if pairs else False


def work_out(lines: Sequence[bytes], words: Sequence[bytes]) -> StreamFormat | None:
    """The format of `lines` (all could be readings), with names and legends from `words` beside them.

    None until enough of them agree.
    """
    latin = any(text_of(line) is None for line in lines)
    texts = [text for line in lines if (text := text_of(line, latin))]
    if not texts:
        return None
    proposals = [each for make in (_json, _senml, _named, _marked, _separated) if (each := make(texts, words))]
    best: StreamFormat | None = None
    most = 0
    for proposal in proposals:
        explained = _explained(proposal, texts)
        if explained > most:
            best, most = proposal, explained
    if best is None or most < EXPLAINED * len(texts) or most < _needed(best, texts, words):
        return None
    share = most / len(texts)
    sure = best.sure * (share if best.question == "" else 0.5)
    return msgspec.structs.replace(best, worked_out_from=len(texts), latin=latin, sure=round(sure, 2))


def _explained(format: StreamFormat, texts: Sequence[str]) -> int:
    read = line_reader(msgspec.structs.replace(format, latin=False))
    return sum(1 for text in texts if read(text.encode()))


def _needed(format: StreamFormat, texts: Sequence[str], words: Sequence[bytes]) -> int:
    if format.dialect in ("json", "senml"):
        return 2
    named = format.dialect == "named" and format.separator == ":"
    if named or any(column.name != f"column {at}" for at, column in enumerate(format.columns, 1)):
        return FEW_WITH_NAMES
    return ENOUGH_LINES


# columns


def renamed(old: StreamFormat, names: list[tuple[str, str]]) -> StreamFormat:
    """The same format under other names."""
    kinds = [column.kind for column in old.columns]
    columns = _columns(names, [[] for _ in names], kinds, ["" if c.role == "clock" else c.unit for c in old.columns])
    return msgspec.structs.replace(old, columns=tuple(columns))


def _columns(
    named: list[tuple[str, str]] | None,
    fields: Sequence[Sequence[str]],
    kinds: Sequence[Kind],
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
        elif name.lower() in table()["kit"]["names"] and _few_values(fields[at]):
            role = "kit"
        elif kind == "text":
            role = "kit" if _tells_kits_apart(fields[at]) else "ignored"
        columns.append(Column(shown, unit or ("" if tick else table()["unit"].get(name.lower(), "")), role, tick, kind))
    return columns


def _few_values(fields: Sequence[str]) -> bool:
    return len(set(fields)) <= MOST_TAGS


def _tells_kits_apart(fields: Sequence[str]) -> bool:
    found = set(fields)
    return 2 <= len(found) <= MOST_TAGS and all(KIT_TAG.fullmatch(each) for each in found)


def _tick(name: str, unit: str, kind: Kind = "number") -> float:
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


def _kind_of_column(fields: Sequence[str], decimal_comma: bool) -> tuple[Kind, str] | None:
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
    kinds = [_kind_of_column(each, known.decimal_comma) for each in fields]
    if any(kind is None for kind in kinds) or count + more > MOST_COLUMNS:
        return None
    taken = {column.name for column in known.columns}
    new = [Column(f"column {count + at}", kind[1], kind=kind[0]) for at, kind in enumerate(kinds, 1) if kind]
    if any(column.name in taken for column in new):
        return None
    return msgspec.structs.replace(known, columns=(*known.columns, *new))


# values in a row


def _separated(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
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
                score = _explained(made, texts) + 0.01 * min(len(made.columns), 20) + 0.3 * named - 0.2 * comma
                score -= 0.3 * (made.dialect == "tagged") - 0.25 * (separator in ";\t|")
                score += 0.5 * (made.dialect == "tagged" and {c.key for c in made.columns} <= _legend(words).keys())
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
    kinds: list[tuple[Kind, str]] = []
    for fields in columns:
        kind: tuple[Kind, str] | None = _kind_of_column(_usual(fields, comma), comma)
        if kind is None:
            # Words come again and again, or are the ids of kits; what is new in each line is neither.
            again = len(set(fields)) <= len(fields) / 2 or _tells_kits_apart(fields)
            words_only = again and all(len(field) <= 24 for field in fields) and len(set(fields)) <= MOST_TAGS
            if not words_only or count == 1:
                return None
        kinds.append(kind or ("text", ""))
    if not any(kind in ("number", "hexadecimal", "on/off") for kind, _ in kinds):
        return None
    if comma and not any("," in field for fields in columns for field in fields):
        return None
    named = next((n for w in reversed(words) if (n := names_in(w, separator)) and len(n) == count), None)
    made = _columns(named, columns, [kind for kind, _ in kinds], [unit for _, unit in kinds])
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
    legend = _legend(words)
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
        kinds = [_kind_of_column(each, comma) for each in fields]
        if any(kind is None for kind in kinds):
            return None
        count = len(fields)
        names = legend.get(tag, [])
        if len(names) != count:
            base = names[0] if len(names) == 1 else (tag, "")
            names = [base] if count == 1 else [(f"{base[0]} {k}", base[1]) for k in range(1, count + 1)]
            if not legend.get(tag) and tag.isdigit():
                names = [(f"row {tag}" if count == 1 else f"row {tag} value {k}", "") for k in range(1, count + 1)]
        made = _columns(names, fields, [kind[0] for kind in kinds if kind], [kind[1] for kind in kinds if kind])
        columns += [msgspec.structs.replace(column, key=tag) for column in made]
    return StreamFormat(separator, tuple(_unlike(columns)), dialect="tagged", decimal_comma=comma)


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


def _legend(words: Sequence[bytes]) -> dict[str, list[tuple[str, str]]]:
    """Tag -> (name, unit) of its fields, from lines as `1 = temperature (°C), humidity (%)`."""
    found: dict[str, list[tuple[str, str]]] = {}
    for line in words:
        match = LEGEND.match(text_of(line) or "")
        if match is None:
            continue
        for separator in (",", ";", " "):
            names = names_in(match[2].encode(), separator)
            if names and (separator != " " or len(match[2].split()) <= 4):
                if separator == " " and len(names) > 1 and match[2].rstrip().endswith((")", "]")):
                    continue
                found[match[1]] = names
                break
    return found


def _unlike(columns: Sequence[Column]) -> list[Column]:
    taken: Counter[str] = Counter()
    made = []
    for column in columns:
        taken[column.name] += 1
        name = column.name if taken[column.name] == 1 else f"{column.name} {taken[column.name]}"
        made.append(msgspec.structs.replace(column, name=name))
    return made


# marks around the lines, ids in front of them


def _marked(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    """Start and end marks, check letters, and ids in front of each line; inside them any dialect again."""
    prefixed = _prefixed(texts, words)
    if prefixed is not None:
        return prefixed
    start, end = _start_mark(texts), _end_mark(texts)
    if not start and not end:
        return None
    inner = [each for text in texts if (each := unframed(text, start, end))]
    if len(inner) < FEW_WITH_NAMES:
        return None
    found = next((made for make in (_json, _named, _separated) if (made := make(inner, words))), None)
    return msgspec.structs.replace(found, start=start, end=end) if found and not found.start else None


def _start_mark(texts: Sequence[str]) -> str:
    marks = Counter(match[1] for text in texts if (match := START_MARKS.match(text)))
    if not marks:
        return ""
    mark, times = marks.most_common(1)[0]
    return mark if times >= EXPLAINED * len(texts) else ""


def _end_mark(texts: Sequence[str]) -> str:
    count = len(texts)
    if sum(1 for text in texts if re.search(r"\*[0-9A-Fa-f]{2}$", text)) >= EXPLAINED * count:
        return "*"
    ends = Counter(text[-1] for text in texts if re.search(r"[\d\s][A-Za-z>#$!&~/\\)\]]$", text))
    if not ends:
        return ""
    mark, times = ends.most_common(1)[0]
    return mark if times >= EXPLAINED * count and mark not in units() else ""


def _prefixed(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    """`kit2> 21.4;40` and its kin: a short id, a mark, then the line."""
    for mark in ("\t", ">", "|", ": ", ":", ";", ",", " "):
        parts = [text.partition(mark) for text in texts]
        ids = Counter(kit.strip() for kit, found, rest in parts if found and rest.strip())
        if sum(ids.values()) < 0.9 * len(texts) or not 1 <= len(ids) <= MOST_TAGS:
            continue
        tells = all(KIT_TAG.fullmatch(kit) and kit[0].isalpha() for kit in ids) and len(ids) > 1
        topic = mark == "\t" and all(re.fullmatch(r"@\S{1,40}", kit) for kit in ids)
        if not (tells or topic):
            continue
        inner = [rest.strip() for _, found, rest in parts if found]
        found = next((each for make in (_json, _senml, _named, _separated) if (each := make(inner, words))), None)
        if found is not None and not found.shared:
            return msgspec.structs.replace(found, kit_mark=mark)
    return None


# names at the values, JSON, SenML


def _named(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    best: tuple[int, str, list[list[tuple[str, str, str]]]] | None = None
    for form in (":", ",", " "):
        lines = [pairs for text in texts if (pairs := pairs_in(text, form))]
        if lines and (best is None or len(lines) > best[0]):
            best = len(lines), form, lines
    if best is None or best[0] < FEW_WITH_NAMES:
        return None
    _, form, lines = best
    mark = "." if _prefixes(lines) else ""
    order: dict[str, list[tuple[str, str]]] = {}
    for pairs in lines:
        seen: Counter[str] = Counter()
        for name, value, unit in pairs:
            own = name.partition(".")[2] if mark else name
            seen[own] += 1
            key = own if seen[own] == 1 else f"{own} {seen[own]}"
            order.setdefault(key, []).append((value, unit))
    if len(order) > MOST_COLUMNS or (
        form == " " and any(re.fullmatch(r"(?i)v|ver|version|no|nr", name) for name in order)
    ):
        return None
    kinds: list[Kind] = []
    names, seen_units, fields = [], [], []
    for key, found in order.items():
        values = [value for value, _ in found]
        kind = _kind_of_column(values, form == ",")
        if kind is None:
            return None
        kinds.append(kind[0])
        name, unit = _name(key, "")
        written = Counter(units().get(unit, unit) for _, unit in found if unit).most_common(1)
        names.append((name, unit))
        seen_units.append(written[0][0] if written else "")
        fields.append(values)
    made = _columns(names, fields, kinds, seen_units)
    columns = [msgspec.structs.replace(column, key=key) for column, key in zip(made, order, strict=True)]
    if not any(column.role == "channel" for column in columns):
        return None
    return StreamFormat(form, tuple(columns), dialect="named", decimal_comma=form == ",", kit_mark=mark)


def _prefixes(lines: Sequence[Sequence[tuple[str, str, str]]]) -> bool:
    """Whether every name of a line begins with the id of a kit and a point, as in `k1.temp`."""
    ids = [{name.partition(".")[0] for name, _, _ in pairs if "." in name} for pairs in lines]
    whole = all(all("." in name for name, _, _ in pairs) for pairs in lines)
    found = {kit for each in ids for kit in each}
    return whole and all(len(each) == 1 for each in ids) and len(found) > 1 and all(KIT_TAG.fullmatch(k) for k in found)


def _json(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    lines = [value for text in texts if isinstance(value := decoded(text), (dict, list)) and not _only_names(value)]
    if len(lines) < 2 or any(senml_records(value) and _looks_like_senml(value) for value in lines):
        return None
    order: dict[str, list[object]] = {}
    for value in lines:
        for key, leaf in flat(value).items():
            order.setdefault(key, []).append(leaf)
    if not order or len(order) > MOST_KEYS:
        return None
    array = all(isinstance(value, list) for value in lines)
    named = None
    if array:
        named = next((n for w in reversed(words) if (n := _json_names(w)) and len(n) == len(order)), None)
    columns: list[Column] = []
    for at, (key, found_leaves) in enumerate(order.items()):
        leaves = [leaf for leaf in found_leaves if leaf is not None]
        texts_of = [str(leaf) for leaf in leaves]
        kit = key.lower() in table()["kit"]["names"] and _few_values(texts_of)
        times = all(isinstance(leaf, str) and clock_seconds(leaf) is not None for leaf in leaves)
        numbers = all(json_number(leaf) is not None for leaf in leaves)
        name, unit = named[at] if named else _name(f"column {key}" if array and "." not in key else key, "")
        kind: Kind = "time" if times else "number" if numbers else "text"
        made = _columns([(name, unit)], [texts_of], [kind], [""])[0]
        clocked = any(column.role == "clock" for column in columns)
        if made.role == "clock" and clocked:
            made = Column(made.name, made.unit)
        if kit:
            made = Column(key, "", "kit", kind="text")
        columns.append(msgspec.structs.replace(made, key=key))
    if not any(column.role == "channel" for column in columns):
        return None
    return StreamFormat(",", tuple(_unlike(columns)), dialect="json")


def _only_names(value: object) -> bool:
    return isinstance(value, list) and all(isinstance(each, str) for each in value)


def _json_names(line: bytes) -> list[tuple[str, str]] | None:
    value = decoded(text_of(line) or "")
    if isinstance(value, list) and value and all(isinstance(each, str) for each in value):
        found = [NAME.match(each) for each in value]
        return [_name(m[1], m[2] or m[3] or "") for m in found if m] if all(found) else None
    return names_in(line, ",")


def _looks_like_senml(value: object) -> bool:
    records = value if isinstance(value, list) else [value]
    return any(isinstance(each, dict) and {"v", "vb", "bn", "bt", "bv"} & each.keys() for each in records)


def _senml(texts: Sequence[str], words: Sequence[bytes]) -> StreamFormat | None:
    packs = [
        records for text in texts if _looks_like_senml(value := decoded(text)) and (records := senml_records(value))
    ]
    if len(packs) < 2:
        return None
    order: dict[str, str] = {}
    absolute = False
    for records in packs:
        for record in records:
            if record.value is not None:
                order[record.name] = order.get(record.name) or record.unit
            absolute = absolute or record.time >= LEAST_ABSOLUTE
    if not order or len(order) > MOST_COLUMNS:
        return None
    front = _common_front(list(order))
    columns = [
        Column(name[len(front) :] or name, SENML_UNITS.get(unit, unit), key=name) for name, unit in order.items()
    ]
    if absolute:
        columns.insert(0, Column("time", "s", "clock", 1.0, "time", key="\x00time"))
    return StreamFormat(",", tuple(_unlike(columns)), dialect="senml")


SENML_UNITS = {"Cel": "°C", "%RH": "%", "lx": "lx", "Ohm": "Ω", "deg": "°", "/": "", "rad": "rad"}


def _common_front(names: Sequence[str]) -> str:
    """What all names begin with up to a border, as a device's address in SenML."""
    front = names[0]
    for name in names[1:]:
        while not name.startswith(front):
            front = front[:-1]
    cut = max(front.rfind(each) for each in ":/.")
    return front[: cut + 1]
