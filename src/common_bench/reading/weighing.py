"""Weighing a layout against the lines that were heard: how many bits they take under it. A layout and lines in; its
weight, with what each column holds, out.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from common_bench.model.stream import ASSUMED_NO_VALUE, ValueKind
from common_bench.reading.check_sums import checks
from common_bench.reading.description import (
    CHARACTER_BITS,
    LETTER_BITS,
    MOST_WORDS,
    NumberText,
    letters_bits,
    number_text,
    numbers_bits,
    sequence_bits,
    series_bits,
    words_bits,
)
from common_bench.reading.layouts import Cut, Layout, cutter
from common_bench.reading.values import BARE_HEX, HEX_TEXT, NOTHING, clock_seconds, value_of, word_value

MOSTLY_NUMBERS = 0.5  # of a column's fields, from which it holds numbers; a line with any other is not explained
MOST_OF_A_FEW, MOST_OF_A_COLUMN, MANY = (
    0.75,
    0.9,
    12,
)  # the same of other kinds, in fewer than so many fields and in more
COLUMN_BITS = 4.0
DIALECT_BITS = {"separated": 1.0, "json": 1.0, "senml": 1.0, "named": 2.0, "tagged": 8.0, "sentence": 30.0}
COMMA_BITS, MARK_BITS, IDS_BITS, KIND_BITS = 3.0, 4.0, 8.0, 6.0
MANY_DECIMALS, DECIMAL_BITS = 2, 14.0  # numbers with a decimal comma have few decimals
PARTED_MARK_BITS = 20.0  # what stands behind a separator is rather a column
COMMA_TAGS_BITS = 60.0  # a number, a comma and a number are rather one with a decimal comma than a tag and its value
WHOLE_PARTS_BITS = 240.0  # the same of tags that follow on one another, as the whole part of a quantity does
FEW_SUMS = 2  # different ones, from which a check sum is told from a number that stands still
ID_NAMES_BITS = 90.0  # names that differ in their number alone are rather ids of kits
ID_NAME = re.compile(r"[A-Za-z]{1,8}[-_#]?[0-9]{1,2}")
FIXED_LETTER_BITS, FIXED_DIGIT_BITS, MARK_DIGIT_BITS = 0.5, 16.0, 40.0
LONGEST_WORD = 24
STILL_HEX = 4  # digits, from which letters and digits that stand still are hexadecimal
WORD = re.compile(r"[^\W\d_][^\W\d_ .\-]*(?:[ .\-]?[^\W_]+){0,2}")


class ColumnText(NamedTuple):
    """What a column holds: its kind, the unit behind its values, the places of fields that do not fit, and the words
    of a column of words."""

    kind: ValueKind
    unit: str = ""
    misfits: tuple[int, ...] = ()
    words: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Weight:
    """bits: in all; unexplained: of those, for lines that the layout does not explain; cuts: (n,) each line cut, None
    where it is not explained; columns: key -> what it holds, in the order in which they come; check: the key of a
    column that holds a check sum of what stands before it, or `*` for the check digits of the frame."""

    layout: Layout
    bits: float
    unexplained: float
    cuts: tuple[Cut | None, ...]
    columns: dict[str, ColumnText]
    check: str = ""

    @property
    def explained(self) -> int:
        return sum(1 for cut in self.cuts if cut is not None)


def unexplained_bits(text: str) -> float:
    return CHARACTER_BITS * (len(text) + 1)


def cut_all(layout: Layout, texts: Sequence[str]) -> list[Cut | None]:
    cut = cutter(layout)
    return [cut(text) for text in texts]


def explain(layout: Layout, texts: Sequence[str], cuts: Sequence[Cut | None], most: float = math.inf) -> Weight | None:
    """What a layout that cuts the texts in this way makes of them, with the bits of what it leaves unexplained; None
    where it explains none of them, or leaves more than `most` bits."""
    kept = list(cuts)
    columns: dict[str, ColumnText] = {}
    check = _check_sum(layout, texts, kept)
    for key, (rows, fields, _) in fields_of_columns(kept).items():
        if key == check or (key == layout.kit_key and any(number_text(field, False) is None for field in fields)):
            columns[key] = ColumnText("text")
            continue
        found = column_text(fields, layout.comma)
        if found is None:
            for row in rows:
                kept[row] = None
            continue
        columns[key] = found
        for place in found.misfits:
            kept[rows[place]] = None
    _like_its_neighbours(columns, kept)
    values = {key for key, each in columns.items() if each.kind != "text"}
    kept = [cut if cut is not None and not values.isdisjoint(cut.keys) else None for cut in kept]
    unexplained = sum(unexplained_bits(text) for text, cut in zip(texts, kept, strict=True) if cut is None)
    if unexplained > most or not any(kept):
        return None
    held = {key for keys in {cut.keys for cut in kept if cut is not None} for key in keys}
    columns = {key: each for key, each in columns.items() if key in held}
    return Weight(layout, unexplained, unexplained, tuple(kept), columns, check)


def _like_its_neighbours(columns: dict[str, ColumnText], cuts: Sequence[Cut | None]) -> None:
    """Digits of one width beside hexadecimal numbers of that width are hexadecimal too, though no letter came yet."""
    if not any(each.kind == "hexadecimal" for each in columns.values()):
        return
    fields = {key: held.texts for key, held in fields_of_columns(cuts).items()}
    widths = {len(each) for key, held in columns.items() if held.kind == "hexadecimal" for each in fields.get(key, ())}
    for key, held in columns.items():
        if (
            held.kind in ("number", "text")
            and not held.misfits
            and all(len(each) in widths and BARE_HEX.fullmatch(each) for each in fields.get(key, ("",)))
        ):
            columns[key] = ColumnText("hexadecimal")


def weigh(layout: Layout, texts: Sequence[str], cuts: Sequence[Cut | None], most: float = math.inf) -> Weight | None:
    """The weight of a layout that cuts the texts in this way; None where it explains none of them, or is heavier than
    `most` by what it does not explain alone."""
    made = explain(layout, texts, cuts, most)
    if made is None:
        return None
    kept, columns, check = made.cuts, made.columns, made.check
    bits = made.unexplained + _stated_bits(layout, columns)
    ids = [cut.kit for cut in kept if cut is not None]
    if layout.kit_mark or layout.kit_key:
        bits += words_bits(ids)
    bits += sequence_bits([cut.keys if cut is not None else None for cut in kept])
    series: dict[tuple[str, str], list[str]] = {}
    for cut in kept:
        if cut is not None:
            for key, field in zip(cut.keys, cut.fields, strict=True):
                series.setdefault((cut.kit, key), []).append(field)
    for (_, key), fields in series.items():
        if key not in (check, layout.kit_key):
            bits += column_bits(tuple(fields), columns[key].kind, layout.comma)
    if layout.end == "*" and check != "*":
        bits += 8.0 * len(ids)
    return Weight(layout, bits, made.unexplained, kept, columns, check)


class ColumnFields(NamedTuple):
    """The lines that hold a column, its texts, and the kit of each."""

    rows: list[int]
    texts: list[str]
    kits: list[str]


def fields_of_columns(cuts: Sequence[Cut | None]) -> dict[str, ColumnFields]:
    """The fields of each column, in the order in which columns come."""
    found: dict[str, ColumnFields] = {}
    there = [(row, cut) for row, cut in enumerate(cuts) if cut is not None]
    keys = {cut.keys for _, cut in there}
    if len(keys) == 1 and (one := next(iter(keys))) and len(set(one)) == len(one):
        rows, kits = [row for row, _ in there], [cut.kit for _, cut in there]
        columns = zip(*(cut.fields for _, cut in there), strict=True)
        return {key: ColumnFields(rows, list(fields), kits) for key, fields in zip(one, columns, strict=True)}
    for row, cut in enumerate(cuts):
        if cut is not None:
            for key, field in zip(cut.keys, cut.fields, strict=True):
                held = found.get(key)
                if held is None:
                    held = found[key] = ColumnFields([], [], [])
                held.rows.append(row)
                held.texts.append(field)
                held.kits.append(cut.kit)
    return found


def _stated_bits(layout: Layout, columns: dict[str, ColumnText]) -> float:
    bits = DIALECT_BITS[layout.dialect] + COLUMN_BITS * len(columns) + COMMA_BITS * layout.comma
    bits += sum(MARK_BITS + _mark_bits(mark) for mark in (layout.start, layout.end) if mark)
    bits += IDS_BITS * (layout.kit_mark != "" or layout.kit_key != "")
    if layout.separator == "," and all(tag.isdigit() and count == 1 for tag, count in layout.tags) and layout.tags:
        numbers = sorted(int(tag) for tag, _ in layout.tags)
        bits += COMMA_TAGS_BITS if numbers[-1] - numbers[0] >= len(numbers) else WHOLE_PARTS_BITS
    bits += sum(letters_bits(tag) for tag, _ in layout.tags if not tag.startswith("#"))
    bits += sum(_literal_bits(pattern, len(layout.patterns) > 1) for pattern in layout.patterns)
    if layout.dialect == "named" and len(columns) > 1 and all(ID_NAME.fullmatch(key) for key in columns):
        bits += ID_NAMES_BITS
    bits += KIND_BITS * max(0, len(layout.counts) - 1, len(layout.tags) - 1, len(layout.patterns) - 1)
    return bits + 2.0 * sum(1 for each in columns.values() if each.kind in ("words", "text", "hexadecimal"))


def _literal_bits(pattern: str, one_of_many: bool) -> float:
    """Words between values are expected to be words; a digit that never changes is rather a value that stands still.
    Where there are several patterns, words that change might be values as well."""
    letter = LETTER_BITS if one_of_many else FIXED_LETTER_BITS
    return sum(FIXED_DIGIT_BITS if each.isdigit() else letter for each in pattern if each.isalnum())


def _mark_bits(mark: str) -> float:
    rest = re.sub(r"(?<=[A-Za-z]{2})[0-9]{1,2}(?![0-9])", "#", mark)  # as in `kit2>`; other digits are rather values
    value = len(mark) > 3 and BARE_HEX.fullmatch(mark) is not None  # one that stands still
    bits = PARTED_MARK_BITS if value or re.search(r"[;,|\t]", mark) else 0.0
    return bits + sum(MARK_DIGIT_BITS if each.isdigit() else LETTER_BITS if each.isalpha() else 1.0 for each in rest)


def column_text(fields: Sequence[str], comma: bool) -> ColumnText | None:
    """What most fields of a column are; None where they are nothing that can be read."""
    filled = [at for at, field in enumerate(fields) if field not in ASSUMED_NO_VALUE]
    if not filled:
        return ColumnText("number")
    enough = MOSTLY_NUMBERS * len(filled)
    numbers = {at: number_text(fields[at], comma) for at in filled}
    good = sum(1 for each in numbers.values() if each is not None)
    exponent = any(each is not None and each.exponent for each in numbers.values())
    bare = _other_than_bare_hex(fields, filled) if exponent or good < len(filled) else None
    if good >= enough and (good == len(filled) or bare is None):
        if exponent and bare is not None:
            return ColumnText("hexadecimal", misfits=bare)
        unit = Counter(each.unit for each in numbers.values() if each is not None and each.unit).most_common(1)
        return ColumnText("number", unit[0][0] if unit else "", tuple(at for at in filled if numbers[at] is None))
    enough = (MOST_OF_A_COLUMN if len(filled) >= MANY else MOST_OF_A_FEW) * len(filled)
    kind: ValueKind
    for kind in ("time", "on/off", "hexadecimal"):
        misfits = tuple(at for at in filled if not _fits(fields[at], kind))
        odd = Counter(fields[at] for at in misfits)
        third = kind == "on/off" and any(n > 1 or _is_new_word(word, set(fields) - {word}) for word, n in odd.items())
        if len(misfits) <= len(filled) - enough and not third:
            return ColumnText(kind, misfits=misfits)
    if bare is not None:
        return ColumnText("hexadecimal", misfits=bare)
    return _words_of(fields, filled, comma)


def _fits(field: str, kind: str) -> bool:
    if kind == "time":
        return clock_seconds(field) is not None
    if kind == "on/off":
        return field in ("0", "1") or word_value(field) is not None
    return HEX_TEXT.fullmatch(field) is not None


def _other_than_bare_hex(fields: Sequence[str], filled: Sequence[int]) -> tuple[int, ...] | None:
    """The places of the few fields that are no hexadecimal digits of one width, where all others are; else None."""
    width = Counter(len(fields[at]) for at in filled).most_common(1)[0][0]
    others = tuple(at for at in filled if len(fields[at]) != width or not BARE_HEX.fullmatch(fields[at]))
    if len(others) > (1.0 - MOST_OF_A_COLUMN) * len(filled):
        return None
    seen = sorted({fields[at] for at in filled}.difference(fields[at] for at in others))
    if not seen:
        return None
    if len(seen) == 1:
        return (
            others if width >= STILL_HEX and any(map(str.isalpha, seen[0])) and any(map(str.isdigit, seen[0])) else None
        )
    same = next((at for at, (a, b) in enumerate(zip(seen[0], seen[-1], strict=True)) if a != b), 0)  # a start mark
    return others if any(each.isalpha() for field in seen for each in field[max(1, same) :]) else None


def _is_new_word(word: str, others: Collection[str]) -> bool:
    """Whether it could be one more word of a column, rather than what is left of a damaged one."""
    if not WORD.fullmatch(word) or any(map(str.isdigit, word)):
        return False
    return not any(word in each or each in word for each in others if each)


def _words_of(fields: Sequence[str], filled: Sequence[int], comma: bool) -> ColumnText | None:
    """A column of a few words that come again and again, or of one that stands still."""
    times = Counter(fields[at] for at in filled)
    usual = [word for word, count in times.items() if count >= 2 or len(filled) < 6]
    late = [word for word in times if word not in usual and len(usual) < 6 and _is_new_word(word, usual)]
    if len(late) == 1 and len(usual) >= 2:
        usual += late  # one more of a few, that has come for the first time
    if not 1 <= len(usual) <= MOST_WORDS or sum(times[word] for word in usual) < 0.9 * len(filled):
        return None
    if any(len(word) > LONGEST_WORD or number_text(word, not comma) is not None for word in usual):
        return None
    if len(usual) > 1 and not all(WORD.fullmatch(word) for word in usual):
        return None
    if len(filled) < 2 * len(usual) and len(usual) > 1:
        return None
    known = frozenset(usual)
    misfits = tuple(at for at in filled if fields[at] not in known)
    return ColumnText("words" if 2 <= len(usual) <= 6 else "text", misfits=misfits, words=tuple(sorted(usual)))


@lru_cache(maxsize=256)
def column_bits(fields: tuple[str, ...], kind: ValueKind, comma: bool) -> float:
    """To write a column of one kit, each field given the ones before."""
    if kind in ("words", "text", "on/off"):
        return words_bits(fields) + sum(FIXED_DIGIT_BITS for word in set(fields) for each in word if each.isdigit())
    filled = [field for field in fields if field not in ASSUMED_NO_VALUE]
    bits = 0.0
    if len(filled) < len(fields):
        bits += sequence_bits([field in ASSUMED_NO_VALUE for field in fields]) + LETTER_BITS
    if kind == "number":
        numbers: list[NumberText] = [each for field in filled if (each := number_text(field, comma)) is not None]
        if comma and numbers:
            bits += DECIMAL_BITS * max(0, max(each.decimals for each in numbers) - MANY_DECIMALS)
        return bits + series_bits(numbers)
    if kind == "hexadecimal":
        values = np.array([v for field in filled if (v := value_of(field, kind, comma, NOTHING)) is not None])
    else:
        digits = max(
            len(field.replace(",", ".").rpartition(".")[2]) if "." in field or "," in field else 0 for field in filled
        )
        values = np.rint(np.array([(clock_seconds(field) or 0.0) for field in filled]) * 10.0 ** min(6, digits))
    return bits + numbers_bits(values)


def _check_sum(layout: Layout, texts: Sequence[str], cuts: Sequence[Cut | None]) -> str:
    """The key of a last column that is a check sum of what stands before it; `*` for that of the frame."""
    rows = [at for at, cut in enumerate(cuts) if cut is not None]
    if layout.end == "*":
        bodies = [texts[at].rpartition("*") for at in rows]
        return "*" if checks([(body, digits) for body, _, digits in bodies]) else ""
    if layout.dialect != "separated" or max(layout.counts) < 2 or layout.kit_mark or layout.separator == " ":
        return ""
    last = str(max(layout.counts))
    pairs = []
    for at in rows:
        cut = cuts[at]
        if cut is not None and cut.keys[-1] == last:
            body, _, _ = texts[at].removesuffix(layout.end).rpartition(layout.separator)
            pairs.append((body, cut.fields[-1]))
    return last if len({digits for _, digits in pairs}) >= FEW_SUMS and checks(pairs) else ""
