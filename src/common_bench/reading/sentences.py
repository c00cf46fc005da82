"""Lines whose values stand between words, brackets or marks that stand still, as `Temp is 21.4 C, humidity 44 percent`
or `[412] [577]`. Lines of text in; their patterns out, with `{}` for each value.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from functools import cache, lru_cache

from common_bench.reading.values import table, units, words

MOST_PATTERNS = 12
FEW_KINDS = 8  # numbers in a name, as in `sensor 3:`, that tell lines apart
NAME_AFTER = (":", "=", ")")  # what stands behind a number that is part of a name
WORDS_OR_BRACKETS = re.compile(r"[^\W\d_]|[\[(<{\"']")
TIME = r"(?:[0-9]{4}-[0-9]{2}-[0-9]{2}[T ])?[0-9]{1,2}:[0-9]{2}:[0-9]{2}(?:[.,][0-9]{1,6})?"


@cache
def _value_in_text(comma: bool) -> re.Pattern[str]:
    """A number that stands for itself rather than being part of a word."""
    point = r"[.,]" if comma else r"\."
    return re.compile(
        rf"(?<![\w.:]){TIME}(?![\w:])|(?<![A-Za-z0-9_.²°])(?:(?<![0-9])[+\-−])?(?:[0-9]+(?:{point}[0-9]+)?|\.[0-9]+)(?:[eE][+\-]?[0-9]+)?(?![0-9])"
    )


@cache
def _word_in_text() -> re.Pattern[str]:
    each = "|".join(sorted((re.escape(word) for word in words()), key=len, reverse=True))
    return re.compile(rf"(?i)\b(?:{each})\b")


def skeleton_of(text: str, comma: bool) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """(what stands between the values, the values); one piece more than values."""
    text = re.sub(r"\s+", " ", text.strip())
    pieces: list[str] = []
    values: list[str] = []
    at = 0
    found = [*_value_in_text(comma).finditer(text), *_word_in_text().finditer(text)]
    for match in sorted(found, key=re.Match.start):
        if match.start() < at:
            continue
        pieces.append(text[at : match.start()])
        values.append(match[0])
        at = match.end()
    return (*pieces, text[at:]), tuple(values)


def patterns_of(texts: Sequence[str], comma: bool) -> tuple[str, ...]:
    """The patterns that come again among these lines and hold values between words or brackets, in order of their
    letters; none where there are too many."""
    kinds: dict[tuple[str, ...], list[tuple[str, ...]]] = {}
    for text in texts:
        if len(text) < 200:
            pieces, values = skeleton_of(text, comma)
            if values:
                kinds.setdefault(pieces, []).append(values)
    made: Counter[str] = Counter()
    for pieces, rows in kinds.items():
        if (
            len(set(rows)) == 1
            and not _tells_a_value(pieces, rows[0])
            and (len(rows) < len(texts) / 5 or len(kinds) == 1)
        ):
            continue  # words with a number that never changes, as in a menu that comes again, tell nothing
        for pattern, times in _with_what_stands_still(pieces, rows):
            made[pattern] += times
    least = max(2, len(texts) // 50)
    kept = sorted(pattern for pattern, times in made.items() if times >= least and "{}" in pattern)
    kept = [each for each in kept if WORDS_OR_BRACKETS.search(each.replace("{}", "")) or _has_several_separators(each)]
    return tuple(kept) if 1 <= len(kept) <= MOST_PATTERNS else ()


def _has_several_separators(pattern: str) -> bool:
    """Whether not the same stands between all values, as in `12.5: 412 577`."""
    return len({each.strip() for each in _pieces(pattern)[1:-1]}) > 1


def _tells_a_value(pieces: tuple[str, ...], values: tuple[str, ...]) -> bool:
    """Whether a line that never changes looks like one of a sensor that stands still."""
    if any("." in value or "," in value for value in values):
        return True
    return any(
        before.rstrip().endswith(("=", ":", "[", "(", "<")) or _unit_at(after)
        for before, after in zip(pieces, pieces[1:], strict=False)
    )


def _with_what_stands_still(pieces: tuple[str, ...], rows: list[tuple[str, ...]]) -> list[tuple[str, int]]:
    """The patterns of one kind of line: words that never change, and numbers that are part of a name, become words."""
    count = len(pieces) - 1
    fixed = []
    for at in range(count):
        seen = {row[at] for row in rows}
        word = all(each.lower() in words() for each in seen)
        named = pieces[at + 1].lstrip().startswith(NAME_AFTER) and all(each.isdigit() for each in seen)
        few = len(seen) <= FEW_KINDS and len(rows) >= 2 * len(seen)
        if (word and len(seen) == 1) or (named and few and bool(re.search(r"[^\W\d_] ?$", pieces[at]))):
            fixed.append(at)
    kinds = Counter(tuple(row[at] for at in fixed) for row in rows)
    found = []
    for kept, times in kinds.items():
        told = dict(zip(fixed, kept, strict=True))
        parts = [_escaped(pieces[0])]
        for at in range(count):
            parts += [_escaped(told[at]) if at in told else "{}", _escaped(pieces[at + 1])]
        found.append(("".join(parts), times))
    return found


def _escaped(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}")


def _pieces(pattern: str) -> list[str]:
    """What stands between the values of a pattern."""
    marked = re.sub(r"(?<!\{)((?:\{\{)*)\{\}", "\\1\x00", pattern)
    return [each.replace("{{", "{").replace("}}", "}") for each in marked.split("\x00")]


def values_in_pattern(pattern: str) -> int:
    """How many values a line of a pattern holds."""
    return len(_pieces(pattern)) - 1


@lru_cache(maxsize=512)
def pattern_expression(pattern: str, comma: bool) -> re.Pattern[str]:
    """An expression that matches the lines of a pattern, with a group for each value."""
    point = "[.,]" if comma else r"\."
    number = rf"[+\-−]?(?:[0-9]+(?:{point}[0-9]*)?|{point}[0-9]+)(?:[eE][+\-]?[0-9]+)?"
    value = rf"\s*({TIME}|{number}|[^\W\d_]{{1,12}}|-{{1,3}}|n/a)"
    between = [re.sub(r"(?:\\ )+", r"\\s+", re.escape(piece)) for piece in _pieces(pattern)]
    return re.compile(value.join(between).replace(r"\s+\s*(", r"\s+("))


def names_of(pattern: str) -> list[tuple[str, str]]:
    """(name, unit) of each value of a pattern, from the words before it and behind it; "" where there are none."""
    pieces = _pieces(pattern)
    found: list[tuple[str, str]] = []
    for before, after in zip(pieces, pieces[1:], strict=False):
        unit = _unit_at(after)
        if found:  # the unit of the value before is no part of this one's name
            before = before.strip()
            for written in sorted(_unit_words(), key=len, reverse=True):
                if found[-1][1] and re.match(rf"{re.escape(written)}(?![\w])", before, re.I):
                    before = before[len(written) :]
                    break
        if not re.search(r"[^\W\d_]", before) and found and found[-1][1]:
            before, found[-1] = pieces[len(found)], (found[-1][0], "")  # the only word between two values is a name
        part = re.split(r"[,;|\])}>]", before.rstrip(" ,;|:=->\t"))[-1]
        name = " ".join(word for word in re.findall(r"[^\W_][\w.\-]*", part) if word.lower() not in _fillers())
        found.append((name[:40], unit))
    return found


def _unit_at(after: str) -> str:
    text = after.lstrip(" ([")
    for written in sorted(_unit_words(), key=len, reverse=True):
        if text.startswith(written) or (len(written) > 3 and text.lower().startswith(written.lower())):
            behind = text[len(written) :]
            if not behind or not (behind[0].isalnum() or behind[0] in "_/"):
                return _unit_words()[written]
    return ""


@cache
def _unit_words() -> dict[str, str]:
    return {**units(), **table()["unit_words"]}


@cache
def _fillers() -> frozenset[str]:
    return frozenset(table()["fillers"]["words"])
