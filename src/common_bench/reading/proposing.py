"""Layouts that the lines might have. Lines of text in; every layout worth weighing out, plain ones first.

What is proposed need not be right: the weight of each decides.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from common_bench.reading.dialects import fields_of, unframed
from common_bench.reading.json_lines import decoded
from common_bench.reading.layouts import TAG, Layout, cutter
from common_bench.reading.naming import MOST_COLUMNS, names_in
from common_bench.reading.pairs import pairs_in
from common_bench.reading.roles import few_again
from common_bench.reading.senml import looks_like_senml, senml_records
from common_bench.reading.sentences import WORDS_OR_BRACKETS, patterns_of
from common_bench.reading.values import kind_of, table, units

SEPARATORS = (";", "\t", ",", "|", " ", ":", "/")
ID_MARKS = ("\t", ">", "|", ": ", ":", ";", ",", " ", "-", "=")
SMALL = re.compile(r"[0-9]{1,2}")
LOWEST_ID = 3  # kits are counted from a small number on
AGAIN = 3  # times that each of them has come
NEARLY = 0.9  # of the rows, that begin so: some are torn
TURNS = 0.8  # of the rows, that are followed by the one that mostly follows them: a quantity takes no turns
KIT_ID = re.compile(r"[A-Za-z]{1,8}[-_#]?[0-9]{1,4}")
TOPIC = re.compile(r"@\S{1,40}")
MOST_TAGS = 12
MOST_IDS = 32  # kits on one port
MOST_LENGTHS = 3
LEAST_SHARE = 0.06  # of the lines, of a length or tag that is one of several kinds
OFTEN_SHORT = 0.09
REGULAR = 0.6  # of the times between rows of a length, that are alike
MOSTLY = 0.6  # of the lines
LONGEST_MARK = 24
DIGITS_SHARE = 0.25  # of a line, from which it may be a row with marks around it rather than words
BETWEEN_NUMBERS = re.compile(r"(?<=\d)[^\w.+\-]+(?=[+\-]?\.?\d)")
NUMBER_END = re.compile(r"[+\-−.,\d\s]*$")
NUMBER_BEGIN = re.compile(r"^[\d.,\s]*")


def proposed(texts: Sequence[str]) -> list[Layout]:
    """All layouts worth weighing."""
    if not texts:
        return []
    if (relayed := _topics(texts)) is not None:
        return [replace(each, kit_mark="\t") for each in proposed(relayed) if not each.kit_mark]
    objects = _in_json(texts)
    if objects:
        return objects
    found = _in_frame(texts, "", "")
    for start, end in _frames(texts):
        inner = [text for each in texts if (text := unframed(each, start, end))]
        found += [replace(each, start=start, end=end) for each in _json_or_frame(inner) if not each.kit_mark]
    if sum(1 for text in texts if _could_be_sentence(text)) >= _few(texts):
        found += [Layout("sentence", " ", comma, patterns=patterns) for comma in (False, True) if (patterns := patterns_of(texts, comma))]  # fmt: skip
    found += _relayed(texts)
    return list(dict.fromkeys(found))


def _could_be_sentence(text: str) -> bool:
    """Whether it holds words or brackets, or not the same stands between all its numbers."""
    return bool(WORDS_OR_BRACKETS.search(text)) or len({each.strip() for each in BETWEEN_NUMBERS.findall(text)}) > 1


def told_apart(layouts: Sequence[Layout], texts: Sequence[str], words: Sequence[bytes]) -> list[Layout]:
    """Those layouts; that tells kits apart which has a column that a line of names or a key calls an id. One whose rows begin
    with the numbers of kits, for all that can be seen of them, stands there in both ways."""
    found: list[Layout] = []
    for layout in layouts:
        if not layout.kit_mark and (key := _id_column(layout, texts, words)):
            found.append(replace(layout, kit_key=key))
            continue
        found.append(layout)
        if _begins_with_kits(layout, texts):
            found.append(replace(layout, kit_key="1"))
    return found


def _begins_with_kits(layout: Layout, texts: Sequence[str]) -> bool:
    """Whether rows begin with small numbers that change from row to row and come again and again, as when several kits speak by
    turns: a state stays for a while, and what counts on does not come again. Kits send numbers of one form."""
    marked = layout.kit_mark or layout.start
    if layout.dialect != "separated" or marked or len(layout.counts) != 1 or layout.counts[0] < 2:
        return False
    cut = cutter(layout)
    every = [made.fields for text in texts if (made := cut(text)) is not None]
    rows = [row for row in every if SMALL.fullmatch(row[0])]
    heads = [row[0] for row in rows]
    if len(rows) < NEARLY * len(every) or len(heads) < AGAIN * len(set(heads)) or not speak_by_turns(heads):
        return False
    finest: dict[str, list[int]] = {}  # most decimals in each column, by what rows begin with
    for head, *rest in rows:
        decimals = [len(each.strip().partition("," if layout.comma else ".")[2]) for each in rest]
        finest[head] = list(map(max, finest.get(head, decimals), decimals))
    return all(each == finest[heads[0]] for each in finest.values())  # kits are alike, sensors are not


def speak_by_turns(heads: Sequence[str]) -> bool:
    """Whether what rows begin with may be the numbers of kits, each of which has come at least once."""
    ids = set(heads)
    if not 2 <= len(ids) <= MOST_IDS or not all(SMALL.fullmatch(each) for each in ids):
        return False
    numbers = [int(each) for each in ids]
    followers: dict[str, Counter[str]] = {}
    for one, after in pairwise(heads):
        followers.setdefault(one, Counter())[after] += 1
    turns = sum(found.most_common(1)[0][1] for one, found in followers.items() if found.most_common(1)[0][0] != one)
    return min(numbers) <= LOWEST_ID and max(numbers) <= 2 * len(ids) + LOWEST_ID and turns >= TURNS * (len(heads) - 1)


def _id_column(layout: Layout, texts: Sequence[str], words: Sequence[bytes]) -> str:
    ids = table()["kit"]["names"]
    keys: list[str] = []
    if layout.dialect == "separated" and max(layout.counts) > 1:
        for line in words:
            names = names_in(line, layout.separator)
            if names and len(names) == max(layout.counts):
                keys = [str(at) for at, (name, _) in enumerate(names, 1) if name.lower() in ids]
    elif layout.dialect in ("json", "named"):
        cut = cutter(layout)
        first = next((made for text in texts if (made := cut(text)) is not None), None)
        keys = [key for key in first.keys if key.lower() in ids] if first is not None else []
    if not keys:
        return ""
    cut = cutter(layout)
    seen = [made.fields[made.keys.index(keys[0])] for text in texts if (made := cut(text)) and keys[0] in made.keys]
    return keys[0] if len(set(seen)) <= MOST_IDS and (len(seen) < 24 or few_again(seen, MOST_IDS)) else ""


def _topics(texts: Sequence[str]) -> list[str] | None:
    """The lines without the topics in front that a broker's link puts there."""
    parts = [text.partition("\t") for text in texts]
    rest = [line.strip() for topic, found, line in parts if found and TOPIC.fullmatch(topic)]
    return rest if len(rest) >= 0.9 * len(texts) else None


def _json_or_frame(texts: Sequence[str]) -> list[Layout]:
    return _in_json(texts) or _in_frame(texts, "", "")


def _in_json(texts: Sequence[str]) -> list[Layout]:
    values = [value for text in texts if text[:1] in "{[" and isinstance(value := decoded(text), (dict, list))]
    if len(values) < max(2, MOSTLY * len(texts)):
        return []
    if sum(1 for value in values if looks_like_senml(value) and senml_records(value)) >= MOSTLY * len(values):
        return [Layout("senml", ",")]
    return [Layout("json", ",")]


def _in_frame(texts: Sequence[str], start: str, end: str) -> list[Layout]:
    """Layouts of lines without marks around them."""
    if not texts:
        return []
    commas = (False, True) if any(re.search(r"\d,\d", text) for text in texts) else (False,)
    found: list[Layout] = []
    for form in (":", ",", " "):
        if (form == ",") <= (len(commas) > 1) and sum(1 for t in texts if pairs_in(t, form)) >= _few(texts):
            found.append(Layout("named", form, form == ",", kit_mark="." if _ids_in_names(texts, form) else ""))
    for separator in SEPARATORS:
        holding = sum(1 for text in texts if separator in text)
        if holding < _few(texts):
            continue
        rows = [fields_of(text, separator) for text in texts]
        rows = [row for row in rows if _could_be_row(row)]
        for comma in commas:
            if not (comma and separator == ","):
                found += _in_rows(rows, separator, comma, len(texts))
    found += [Layout("separated", ";", comma, counts=(1,)) for comma in commas]
    return found


def _few(texts: Sequence[str]) -> int:
    return max(2 if len(texts) > 2 else 1, int(LEAST_SHARE * len(texts)))


def _could_be_row(row: Sequence[str]) -> bool:
    """Whether any field of it is a value of some kind."""
    return any(field and (field[-1].isdigit() or field[0].isdigit() or kind_of(field, True)) for field in row)


def _in_rows(rows: Sequence[Sequence[str]], separator: str, comma: bool, of: int) -> list[Layout]:
    lengths = Counter(len(row) for row in rows if len(row) <= MOST_COLUMNS)
    if not lengths:
        return []
    most = lengths.most_common(1)[0][0]
    ending = len(rows[-1]) if len(rows) > 1 and len(rows[-1]) == len(rows[-2]) else 0
    if not all(kind_of(field, comma) for row in rows[-2:] for field in row):
        ending = 0
    usual = [count for count, times in lengths.most_common(MOST_LENGTHS) if _is_length(count, times, most, ending, of)]
    found = [Layout("separated", separator, comma, counts=(count,)) for count in usual if count > 1]
    if len(usual) > 1 and _come_in_turns([len(row) for row in rows], usual):
        counts = tuple(sorted(usual, reverse=True))
        found.append(Layout("separated", separator, comma, counts=counts))
        found.append(Layout("tagged", separator, comma, tags=tuple(sorted((f"#{count}", count) for count in usual))))
    found += _in_tagged_rows(rows, separator, comma, of)
    return found


def _come_in_turns(lengths: Sequence[int], usual: Sequence[int]) -> bool:
    """Whether rows of several lengths come regularly, as a slow sensor's do; rows that were cut off come by chance."""
    most = usual[0]
    for rare in usual[1:]:
        at = [place for place, length in enumerate(lengths) if length == rare]
        if rare < most or len(at) > 2:
            gaps = Counter(later - one for one, later in zip(at, at[1:], strict=False))
            if not gaps or gaps.most_common(1)[0][1] < REGULAR * gaps.total():
                return False
    return True


def _is_length(count: int, times: int, most: int, ending: int, of: int) -> bool:
    """Whether rows of so many fields are no damaged ones: longer ones come again, or have come twice just now; shorter
    ones come often, as half a row is shorter too."""
    if count >= most:
        return times >= max(3 if count > most else 2, LEAST_SHARE * of) or (count == ending and times >= 2)
    return times >= max(4, OFTEN_SHORT * of)


def _in_tagged_rows(rows: Sequence[Sequence[str]], separator: str, comma: bool, of: int) -> list[Layout]:
    """Rows of several kinds, told apart by their first field."""
    kinds = Counter((row[0], len(row) - 1) for row in rows if len(row) > 1 and TAG.fullmatch(row[0]))
    if separator == ":" or not kinds:
        return []
    best: dict[str, tuple[int, int]] = {}
    for (tag, count), times in kinds.items():
        if times > best.get(tag, (0, 0))[1]:
            best[tag] = count, times
    heads = [row[0] for row in rows]
    turns = sum(1 for one, next in zip(heads, heads[1:], strict=False) if one != next)
    tags = {tag: count for tag, (count, times) in best.items() if times >= 2}
    if len(rows) >= 8 and turns < 2 * len(tags):
        return []  # a quantity that changed its first digit
    if not 2 <= len(tags) <= MOST_TAGS or sum(best[tag][1] for tag in tags) < 0.5 * of:
        return []
    return [Layout("tagged", separator, comma, tags=tuple(sorted(tags.items())))]


def _ids_in_names(texts: Sequence[str], form: str) -> bool:
    """Whether every name of a line begins with the id of a kit and a point, as in `k1.temp`."""
    lines = [pairs for text in texts if (pairs := pairs_in(text, form))]
    if not lines or not all("." in name for pairs in lines for name, _, _ in pairs):
        return False
    ids = [{name.partition(".")[0] for name, _, _ in pairs} for pairs in lines]
    found = {kit for each in ids for kit in each}
    return all(len(each) == 1 for each in ids) and 1 < len(found) <= MOST_IDS and all(map(KIT_ID.fullmatch, found))


def _frames(texts: Sequence[str]) -> list[tuple[str, str]]:
    """Marks that most lines begin and end with."""
    texts = [each for each in texts if sum(map(str.isdigit, each)) >= DIGITS_SHARE * len(each)]
    if not texts:
        return []
    front = _common_front(texts)
    start, letters = NUMBER_END.sub("", front), NUMBER_END.sub("", re.split(r"\d", front)[0])
    back = _common_front([text[::-1] for text in texts])[::-1]
    end, tail = NUMBER_BEGIN.sub("", back).strip(), re.split(r"\d", back)[-1].strip()
    if sum(1 for text in texts if re.search(r"\*[0-9A-Fa-f]{2}$", text)) >= MOSTLY * len(texts):
        end = "*"
    elif end in units() or end in SEPARATORS or len(end) > LONGEST_MARK:
        end = ""
    if len(start) > LONGEST_MARK:
        start = ""
    if end == "*" or tail in units() or tail in SEPARATORS or len(tail) > LONGEST_MARK:
        tail = end
    found = []
    for one in dict.fromkeys((start, letters, "")):
        found += [(one, other) for other in dict.fromkeys((end, tail, "")) if one or other]
    return found


def _common_front(texts: Sequence[str]) -> str:
    """What most of the texts begin with: in order of their letters, the one at a fifth and the one at four fifths have in
    common what all between them have."""
    ordered = sorted(texts)
    one, other = ordered[len(ordered) // 5], ordered[(4 * len(ordered)) // 5]
    same = 0
    while same < min(len(one), len(other)) and one[same] == other[same]:
        same += 1
    return one[:same]


def _relayed(texts: Sequence[str]) -> list[Layout]:
    """`kit2> 21.4;40` and its kin: a short id, a mark, then the line."""
    found: list[Layout] = []
    for mark in ID_MARKS:
        parts = [text.partition(mark) for text in texts]
        ids = Counter(kit.strip() for kit, met, rest in parts if met and rest.strip())
        usual = {kit for kit, times in ids.items() if KIT_ID.fullmatch(kit) and (times > 1 or len(texts) < 8)}
        if not 2 <= len(usual) <= MOST_IDS or sum(ids[kit] for kit in usual) < 0.8 * len(texts):
            continue
        inner = [rest.strip() for kit, met, rest in parts if met and kit.strip() in usual]
        layouts = [each for each in _json_or_frame(inner) if not each.kit_mark and not _has_numbers_as_tags(each)]
        found += [replace(each, kit_mark=mark) for each in layouts]
    return found


def _has_numbers_as_tags(layout: Layout) -> bool:
    return any(tag.isdigit() for tag, _ in layout.tags)
