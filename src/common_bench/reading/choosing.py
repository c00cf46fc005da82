"""Choosing among layouts: which needs the fewest bits for the lines that were heard, and by how much. Lines in; the
lightest layout and the lightest other one that reads other numbers out.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.reading.description import number_text
from common_bench.reading.layouts import Layout
from common_bench.reading.naming import are_names, legend_in, names_in
from common_bench.reading.proposing import KIT_ID, LOWEST_ID, MOST_IDS, MOST_TAGS, SMALL, proposed, told_apart
from common_bench.reading.roles import SHORTEST, pace_of, unit_at
from common_bench.reading.torn_lines import without_torn_numbers
from common_bench.reading.weighing import Weight, cut_all, explain, unexplained_bits, weigh

SAMPLE = 48  # lines on which all layouts are weighed
MOST_LINES = 200  # on which those that lead are weighed again
LEADING = 3
CONFIRMING, CONFIRMED = 48, 0.9  # lines, and the share of them that a clear choice must explain to stand
FAR_BEHIND = 60.0  # bits, beyond which a layout that explains less is not weighed
FIRST_VALUE_BITS = 26.0  # of a column, of one kit more
AGAIN_WITHIN = 300.0  # bits on the sample, within which one is weighed again on more lines
SHORT_IDS_BITS = 24.0  # ids of a letter and a small number are what kits are called; a quantity seldom looks like it
LEGEND_BITS = 60.0  # a legend that names the tags
NAMES_BITS = 60.0  # a line of names with as many as there are columns
UNNAMED_BITS = 8.0  # for kits that nothing tells of but small numbers in front
ROWS_LEAD = 12.0  # bits at most, by which kits that only their numbers tell apart lead rows of several kinds of one kit: people are asked
CLOCK_BITS = 20.0  # for what a clock or counter in front tells
LEAST_STEPS = 5
SAME_LINES = 8  # of which two layouts must read the same numbers, to be the same


@dataclass(frozen=True, slots=True)
class Choice:
    """best: the lightest; other: the lightest that reads other numbers, None where there is none; lead: bits by which
    that is heavier; lines: on how many lines they were weighed; behind: bits by which the layout of now is heavier, 0
    where it is the lightest or reads the same numbers."""

    best: Weight
    other: Weight | None
    lead: float
    lines: int
    behind: float = 0.0


def choose(
    texts: Sequence[str],
    arrivals: Floats,
    words: Sequence[bytes],
    also: Sequence[Layout] = (),
    *,
    nameless: bool = False,
) -> Choice | None:
    """The choice for these lines (oldest first); None where no layout explains any. arrivals: (n,) s; words: lines among
    which legends are looked for; also: layouts that are weighed in any case, as the one of now; nameless: nothing ever said that
    these tell kits apart."""
    sample = texts[-SAMPLE:]
    apart = told_apart(proposed(sample), sample, words)
    layouts = list(dict.fromkeys([*apart, *also]))
    unnamed = frozenset(each for each in apart if each.kit_key and replace(each, kit_key="") in apart)
    told = _told(layouts, words, unnamed | {each for each in also if nameless and each.kit_key})
    weights = _weighed(layouts, sample, arrivals[-SAMPLE:], told)
    if not weights:
        return None
    near = [each for each in _different(weights) if each.bits < weights[0].bits + AGAIN_WITHIN][:LEADING]
    if len(texts) > len(sample) and len(near) > 1:
        leading = [each.layout for each in near]
        leading += [layout for layout in also if layout not in leading]
        weights = _weighed(leading, texts[-MOST_LINES:], arrivals[-MOST_LINES:], told) or weights
    best = weights[0]
    others = [each for each in _different(weights)[1:] if each is not best]
    nothing = sum(unexplained_bits(text) for text in texts[-len(best.cuts) :])
    other = others[0] if others else None
    lead = (other.bits if other is not None else nothing) - best.bits
    if best.layout in told.unnamed and (rows := _as_rows(best, texts[-len(best.cuts) :])) is not None:
        other, lead = rows, min(lead, ROWS_LEAD)
    return Choice(best, other, lead, len(best.cuts), _behind(best, weights, also, nothing))


def confirmed(layout: Layout, texts: Sequence[str], lead: float) -> Choice | None:
    """The same choice as before, where it was clear by `lead` bits and nearly all newer lines are as it says."""
    weight = explain(layout, texts, cut_all(layout, texts))
    if weight is None or weight.explained < CONFIRMED * len(texts):
        return None
    return Choice(weight, None, lead, len(texts))


def _behind(best: Weight, weights: Sequence[Weight], also: Sequence[Layout], nothing: float) -> float:
    """Bits by which the layout of now is heavier than the best."""
    if not also or best.layout in also:
        return 0.0
    now = next((each for each in weights if each.layout in also), None)
    if now is None:
        return nothing - best.bits
    return 0.0 if _numbers(now) == _numbers(best) else now.bits - best.bits


def _weighed(layouts: Sequence[Layout], texts: Sequence[str], arrivals: Floats, told: Told) -> list[Weight]:
    """Those that explain anything, lightest first; one that explains far less than another is not weighed."""
    cut = [(layout, cut_all(layout, texts)) for layout in layouts]
    costs = [sum(unexplained_bits(t) for t, c in zip(texts, cuts, strict=True) if c is None) for _, cuts in cut]
    order = sorted(range(len(cut)), key=costs.__getitem__)
    found: list[tuple[float, int, Weight]] = []
    most = float("inf")
    for at in order:
        layout, cuts = cut[at]
        if costs[at] > most + FAR_BEHIND:
            continue
        made = weigh(layout, texts, cuts, most + FAR_BEHIND)
        if made is None:
            continue
        bits = made.bits + _known_bits(made, told) - _clock_bits(made, arrivals)
        made = Weight(made.layout, bits, made.unexplained, made.cuts, made.columns, made.check)
        found.append((bits, at, made))
        most = min(most, bits)
    return [each for _, _, each in sorted(found, key=lambda each: each[:2])]


def _as_rows(kits: Weight, texts: Sequence[str]) -> Weight | None:
    """The same lines as rows of several kinds that one kit sends, as of its sensors, or as plain ones where those would be too many.
    No line says which it is."""
    times = Counter(cut.kit for cut in kits.cuts if cut is not None)
    ids = sorted(each for each, count in times.items() if count > 1 and SMALL.fullmatch(each))
    layout = replace(kits.layout, kit_key="")
    if len(ids) <= MOST_TAGS:
        layout = replace(layout, dialect="tagged", tags=tuple((each, layout.counts[0] - 1) for each in ids), counts=())
    return weigh(layout, texts, cut_all(layout, texts))


class Told(NamedTuple):
    """What words beside the lines tell: tags of a legend; (separator, columns) of lines of names. unnamed: layouts that tell kits
    apart by a column of which nothing says that it does."""

    tags: frozenset[str]
    names: frozenset[tuple[str, int]]
    unnamed: frozenset[Layout]


def _told(layouts: Sequence[Layout], words: Sequence[bytes], unnamed: frozenset[Layout]) -> Told:
    separators = {layout.separator for layout in layouts if layout.dialect == "separated" and max(layout.counts) > 1}
    found = {
        (separator, len(names)) for separator in separators for line in words
        if separator.encode() in line and (names := names_in(line, separator)) and are_names(names)
    }  # fmt: skip
    return Told(frozenset(legend_in(words)), frozenset(found), unnamed)


def _known_bits(weight: Weight, told: Told) -> float:
    """What is known beforehand of how kits are called, and what a legend and lines of names say."""
    layout, bits = weight.layout, 0.0
    if layout.tags and told.tags and {tag for tag, _ in layout.tags} <= told.tags:
        bits -= LEGEND_BITS
    if layout.dialect == "separated" and (layout.separator, max(layout.counts) + bool(layout.kit_mark)) in told.names:
        bits -= NAMES_BITS
    if layout.kit_key:
        ids = {cut.kit for cut in weight.cuts if cut is not None}
        named = -UNNAMED_BITS - FIRST_VALUE_BITS * (len(ids) - 1) if layout in told.unnamed else LEGEND_BITS
        bits -= named + _again_bits(weight, len(ids))
    if layout.kit_mark:
        ids = {cut.kit for cut in weight.cuts if cut is not None}
        if _are_called_kits(ids) and weight.explained >= 2 * len(ids):
            bits -= SHORT_IDS_BITS + _again_bits(weight, len(ids))
    return bits


def _clock_bits(weight: Weight, arrivals: Floats) -> float:
    """What a first column tells of the arrivals, or of itself: one that keeps pace with them in some unit says when lines
    come; one that counts lines says how many there were. That the whole part of a number should do so is chance."""
    layout = weight.layout
    if layout.dialect not in ("separated", "sentence") or layout.comma or len(weight.columns) < 2:
        return 0.0
    key = "1" if layout.dialect == "separated" else "0:1"
    held = weight.columns.get(key)
    if held is None or held.kind != "number":
        return 0.0
    rows = [(row, cut.fields[0], number.value) for row, cut in enumerate(weight.cuts) if cut is not None and cut.keys[0] == key and (number := number_text(cut.fields[0], False))]  # fmt: skip
    if len(rows) < LEAST_STEPS:
        return 0.0
    places, texts, numbers = zip(*rows, strict=True)
    values = without_torn_numbers(texts, np.array(numbers))
    steps = np.diff(values[np.isfinite(values)])
    if (steps == steps[0]).all() and steps[0] != 0.0:
        return CLOCK_BITS
    pace = pace_of(values, arrivals[list(places)])
    return CLOCK_BITS if pace.rises and pace.seconds > SHORTEST and unit_at(pace) else 0.0


def _are_called_kits(ids: set[str]) -> bool:
    """Whether ids are a few small numbers behind a letter or a word."""
    if not 1 < len(ids) <= MOST_IDS or not all(map(KIT_ID.fullmatch, ids)):
        return False
    numbers = [int(re.sub(r"\D", "", each)) for each in ids]
    return min(numbers) <= LOWEST_ID and max(numbers) <= 3 * len(ids) + LOWEST_ID


def _again_bits(weight: Weight, ids: int) -> float:
    """Every kit has its own first values, which were sent once and not again; they say nothing against kits."""
    return FIRST_VALUE_BITS * (ids - 1) * max(1, len(weight.columns))


def _different(weights: Sequence[Weight]) -> list[Weight]:
    """The lightest of all that read the same numbers from the same lines."""
    kept: list[Weight] = []
    seen: set[tuple[object, ...]] = set()
    for weight in weights:
        read = tuple(_numbers(weight))
        if read not in seen:
            seen.add(read)
            kept.append(weight)
    return kept


def _numbers(weight: Weight) -> list[object]:
    """What the last lines say under it, without regard to how they are cut."""
    comma = weight.layout.comma
    found: list[object] = []
    for cut in weight.cuts[-SAME_LINES:]:
        if cut is None:
            found.append(None)
            continue
        fields = tuple(
            number.value if (number := number_text(field, comma)) is not None else field
            for key, field in zip(cut.keys, cut.fields, strict=True)
            if weight.columns[key].kind != "text"
        )
        found.append((cut.kit, _tag_of(cut.keys), fields))
    return found


def _tag_of(keys: tuple[str, ...]) -> str:
    return keys[0].partition(":")[0] if keys and ":" in keys[0] and not keys[0][0].isdigit() else ""
