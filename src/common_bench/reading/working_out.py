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

from common_bench.model.stream import StreamFormat
from common_bench.reading.dialects import unframed
from common_bench.reading.in_columns import ENOUGH_LINES, FEW_WITH_NAMES, KIT_TAG, MOST_TAGS, explained, separated
from common_bench.reading.in_names import json_format, named, senml_format
from common_bench.reading.rows import text_of
from common_bench.reading.values import units

START_MARKS = re.compile(r"^([$#<>!@&~^:*]{1,3}|[A-Z]{1,6}[,:; ]?)(?=[\s<]*[+\-]?[.\d])")
EXPLAINED = 0.6  # of the lines that could be readings


def work_out(lines: Sequence[bytes], words: Sequence[bytes]) -> StreamFormat | None:
    """The format of `lines` (all could be readings), with names and legends from `words` beside them.

    None until enough of them agree.
    """
    latin = any(text_of(line) is None for line in lines)
    texts = [text for line in lines if (text := text_of(line, latin))]
    if not texts:
        return None
    proposals = [
        each for make in (json_format, senml_format, named, _marked, separated) if (each := make(texts, words))
    ]
    best: StreamFormat | None = None
    most = 0
    for proposal in proposals:
        lines_read = explained(proposal, texts)
        if lines_read > most:
            best, most = proposal, lines_read
    if best is None or most < EXPLAINED * len(texts) or most < _needed(best, texts, words):
        return None
    share = most / len(texts)
    sure = best.sure * (share if best.question == "" else 0.5)
    return msgspec.structs.replace(best, worked_out_from=len(texts), latin=latin, sure=round(sure, 2))


def _needed(format: StreamFormat, texts: Sequence[str], words: Sequence[bytes]) -> int:
    if format.dialect in ("json", "senml"):
        return 2
    named = format.dialect == "named" and format.separator == ":"
    if named or any(column.name != f"column {at}" for at, column in enumerate(format.columns, 1)):
        return FEW_WITH_NAMES
    return ENOUGH_LINES


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
    found = next((made for make in (json_format, named, separated) if (made := make(inner, words))), None)
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
        found = next(
            (each for make in (json_format, senml_format, named, separated) if (each := make(inner, words))), None
        )
        if found is not None and not found.shared:
            return msgspec.structs.replace(found, kit_mark=mark)
    return None
