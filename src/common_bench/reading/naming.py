"""What a line calls its columns: lines of names, legends, words before numbers. A line in; names and units out."""

from __future__ import annotations

import re
from collections.abc import Sequence

from common_bench.reading.dialects import fields_of
from common_bench.reading.json_lines import decoded
from common_bench.reading.pairs import pairs_in
from common_bench.reading.rows import text_of
from common_bench.reading.values import kind_of, table, units

NUMBER = re.compile(rb"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?")
NAME = re.compile(
    r"^\W{0,2}\s*([^\W\d][\w .%°²-]{0,40}?)\s*(?:[(\[]\s*([^)\]]{1,16})\s*[)\]]|/\s*([^\s/\d][^\s]{0,8}))?\s*$"
)
LEGEND = re.compile(
    r"^\W{0,3}(?:row|id|type|tag|sensor|channel)?\s*([A-Za-z]{1,8}|[0-9]{1,3})\s*(?:->|[:=–\-|,;\t])\s*(\S.*)$", re.I
)
NAMES_BY_SPACES = re.compile(r"[^\s(\[]+(?:\s*[(\[][^)\]]*[)\]])?")
MOST_COLUMNS = 64


def names_in(line: bytes, separator: str) -> list[tuple[str, str]] | None:
    """(name, unit) of each field of a line of names; None where it is not one."""
    text = text_of(line) or text_of(line, latin=True) or ""
    text = re.sub(r"^(?:#|//|%|names?:|header:)\s*", "", text, flags=re.I)
    fields = NAMES_BY_SPACES.findall(text) if separator == " " else fields_of(text, separator)
    if not fields or len(fields) > MOST_COLUMNS:
        return None
    found = [NAME.match(field) for field in fields]
    return [name_and_unit(m[1], m[2] or m[3] or "") for m in found if m] if all(found) else None


def are_names(found: Sequence[tuple[str, str]]) -> bool:
    """Whether words are names of columns rather than a greeting: none of them says how a kit fares, no name comes in
    bits, and a single word has a unit or is short."""
    told = [word.lower() for name, _ in found for word in name.split()]
    if any(word in table()["not_names"]["words"] or re.fullmatch(r"v?[0-9.]+", word) for word in told):
        return False
    return len(found) > 1 or bool(found[0][1]) or " " not in found[0][0]


def name_and_unit(name: str, unit: str) -> tuple[str, str]:
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


def legend_in(words: Sequence[bytes]) -> dict[str, list[tuple[str, str]]]:
    """Tag -> (name, unit) of its fields, from lines as `1 = temperature (°C), humidity (%)`, `5: tilt, deg` or
    `5 | tilt | deg`."""
    found: dict[str, list[tuple[str, str]]] = {}
    for line in words:
        match = LEGEND.match(text_of(line) or "")
        if match is None:
            continue
        parts = [part.strip() for part in re.split(r"[,;|\t]", match[2]) if part.strip()]
        if len(parts) == 2 and parts[1] in units() and names_in(parts[0].encode(), ";"):
            found[match[1]] = [name_and_unit(parts[0], parts[1])]
            continue
        for separator in (",", ";", "|", "\t", " "):
            names = names_in(match[2].encode(), separator)
            if names and (separator != " " or len(match[2].split()) <= 4):
                if separator == " " and len(names) > 1 and match[2].rstrip().endswith((")", "]")):
                    continue
                found[match[1]] = names
                break
    return found
