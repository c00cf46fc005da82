"""How many bits it takes to write a column of texts, given the ones before: the currency in which formats are compared.

A format is a claim about how lines come about; the better claim needs fewer bits (minimum description length:
Rissanen, Automatica 14, 465 (1978); Grünwald, The Minimum Description Length Principle (2007)). Texts in; bits out.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Hashable, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.reading.values import plain_number, table, unit_pattern, units

DIGIT_BITS, LETTER_BITS = 3.4, 5.5  # log2 of 10 digits with a few signs; of the letters that kits use
CHARACTER_BITS = 8.0  # of what no format explains
ESCAPE_BITS = 6.0  # one value in 64 may lie anywhere: spikes, steps, an end of the scale
TRIMMED = 8.0  # mean steps beyond which a step says nothing about how large steps are
INF = math.inf
MOST_WORDS = 12  # that come again, in a column of words
ODD_STYLE_BITS = 4.0  # a whole number with a zero in front, among others without
PADDED_BITS = 8.0  # to state that numbers are filled up with zeros
PART_BITS = 4.0  # to state how a column goes on from value to value


class NumberText(NamedTuple):
    """A number as it is written: its value, digits behind the point, whether it has an exponent, whether its whole
    part is filled up with zeros, how many characters, and the unit behind it as it is shown."""

    value: float
    decimals: int
    exponent: bool
    filled: bool
    length: int
    unit: str


@lru_cache(maxsize=2)
def _number(comma: bool) -> re.Pattern[str]:
    point = "[.,]" if comma else r"\."
    return re.compile(
        rf"([+\-−]?(?:([0-9]+)({point}[0-9]*)?|({point}[0-9]+))([eE][+\-]?[0-9]+)?)(?: ?({unit_pattern()}))?"
    )


@lru_cache(maxsize=1 << 14)
def number_text(text: str, comma: bool) -> NumberText | None:
    """A field as a number; None where it is none."""
    if text.isascii() and text.isdigit():
        value = float(text)
        return NumberText(value, 0, False, len(text) > 1 and text[0] == "0", len(text), "") if value < INF else None
    found = _number(comma).fullmatch(text)
    if found is None:
        return None
    number, whole, part, alone, exponent, unit = found.groups()
    behind = part or alone or ""
    value = plain_number(number)
    if value - value != 0.0:
        return None
    filled = whole is not None and len(whole) > 1 and whole[0] == "0"
    if filled and exponent and not part:
        return None  # as `04E13`: rather hexadecimal digits
    return NumberText(
        value, max(0, len(behind) - 1), exponent is not None, filled, len(text), units().get(unit or "", "")
    )


def letters_bits(text: str) -> float:
    """To write a text letter by letter."""
    return 2.0 + sum(DIGIT_BITS if each.isdigit() else LETTER_BITS for each in text)


def counts_bits(counts: Sequence[int]) -> float:
    """To say which of several things came each time, learning how often each comes (Krichevsky and Trofimov,
    IEEE Trans. Inf. Theory 27, 199 (1981))."""
    kinds, total = len(counts), sum(counts)
    if kinds < 2:
        return 0.0
    nats = math.lgamma(kinds / 2 + total) - math.lgamma(kinds / 2)
    nats -= sum(math.lgamma(each + 0.5) for each in counts) - kinds * math.lgamma(0.5)
    return nats / math.log(2)


def sequence_bits(seen: Sequence[Hashable]) -> float:
    """To say which of a few things came each time: given nothing, or given the one before, whichever is less."""
    alone = Counter(seen)
    if len(alone) < 2:
        return 0.0
    plain = counts_bits(list(alone.values()))
    after: dict[Hashable, list[int]] = {}
    for (before, _), times in Counter(zip(seen, seen[1:], strict=False)).items():
        after.setdefault(before, []).append(times)
    known = len(alone)
    given = math.log2(known) + sum(counts_bits(each + [0] * (known - len(each))) for each in after.values())
    return min(plain, given) + 1.0


def words_bits(texts: Sequence[str]) -> float:
    """To write texts of which a few come again and again; each new one is written letter by letter."""
    return sequence_bits(texts) + sum(letters_bits(each) for each in set(texts))


def whole_bits(value: float) -> float:
    """To write one whole number of any size (Elias, IEEE Trans. Inf. Theory 21, 194 (1975), his code delta)."""
    digits = math.log2(1.0 + abs(value))
    return digits + 2.0 * math.log2(1.0 + digits) + 1.0


def middle_of(values: Floats) -> float:
    """The value in the middle (the upper one of two); np.median's care for edge cases takes longer than all else here."""
    at = len(values) // 2
    return float(np.partition(values, at)[at])


def steps_bits(steps: Floats) -> float:
    """To write whole steps: which are none, their signs, and their sizes under a geometric law whose width follows
    them; one far outside is written by itself."""
    count = len(steps)
    if count == 0:
        return 0.0
    sizes = np.abs(steps)
    moved = sizes[sizes > 0.0]
    if not len(moved):
        return 0.5 * math.log2(count) + 1.0
    up = int(np.count_nonzero(steps > 0.0))
    bits = counts_bits((count - len(moved), len(moved))) + counts_bits((up, len(moved) - up))
    beyond = moved - 1.0
    width = float(np.minimum(beyond, TRIMMED * (middle_of(beyond) + 0.5)).sum()) / len(beyond)
    share = min(width / (1.0 + width), 1.0 - 1e-9) if width > 0.0 else 0.5 / (len(moved) + 1.0)
    usual = beyond * -math.log2(share) - math.log2(1.0 - share) + 0.05
    if float(usual.max()) > ESCAPE_BITS:
        digits = np.log2(np.maximum(moved, 1.0))
        usual = np.minimum(usual, digits + 2.0 * np.log2(1.0 + digits) + 1.0 + ESCAPE_BITS)
    return bits + float(usual.sum()) + 0.5 * math.log2(count) + 1.0


def numbers_bits(values: Floats) -> float:
    """To write whole numbers as their place between the least and the greatest, as their distance from the middle, as
    steps, as steps besides a steady rise, or as changes of the steps, whichever is least."""
    count = len(values)
    if count < 2:
        return PART_BITS + (whole_bits(float(values[0])) if count else 0.0)
    first = whole_bits(float(values[0]))
    steps = values[1:] - values[:-1]
    best = first + steps_bits(steps)
    if best - first > 0.5 * math.log2(count) + 1.0:
        least, span = float(values.min()), float(values.max() - values.min())
        best = min(best, whole_bits(least) + whole_bits(span) + count * math.log2(span + 1.0))
        middle = middle_of(values)
        best = min(best, whole_bits(middle) + steps_bits(values - middle))
        usual = middle_of(steps)
        if usual:
            usual = math.floor(usual + 0.5)
            best = min(best, first + whole_bits(usual) + steps_bits(steps - usual))
        if count > 2:
            best = min(best, first + whole_bits(float(steps[0])) + steps_bits(steps[1:] - steps[:-1]))
    return best + PART_BITS


def series_bits(numbers: Sequence[NumberText]) -> float:
    """To write numbers one after the other, in steps of their last digit, and how they are written."""
    if not numbers:
        return 0.0
    first = numbers[0]
    if all(each == first for each in numbers):
        return PART_BITS + whole_bits(first.value * 10.0**first.decimals) + 0.5 * math.log2(len(numbers))
    decimals = [each.decimals for each in numbers]
    finest = max(decimals)
    bits = 0.0
    if min(decimals) != finest:
        # Where zeros at the end are left out, a number with fewer digits tells nothing new; else each pays for its digits.
        shortest = all(_is_short(each) for each in numbers)
        bits += DIGIT_BITS if shortest else sequence_bits(decimals) + DIGIT_BITS + sum(_waste(each) for each in numbers)
    filled = sum(each.filled for each in numbers)
    if filled:
        same = len({each.length for each in numbers}) == 1
        bits += PADDED_BITS + filled * (ODD_STYLE_BITS / 2 if same else ODD_STYLE_BITS)
    if any(each.exponent for each in numbers):
        finest = min(12, finest + 3)
    values = np.array([each.value for each in numbers]) * 10.0**finest
    rounded = np.rint(values)
    bits += _without_odd(rounded, finest)
    return bits


def _is_short(number: NumberText) -> bool:
    """Whether no zero stands at the end of its decimals."""
    return number.decimals == 0 or abs(number.value * 10.0**number.decimals) % 10.0 > 0.5 or number.value == 0.0


def _waste(number: NumberText) -> float:
    return 0.0 if _is_short(number) else DIGIT_BITS


@lru_cache(maxsize=1)
def odd_numbers() -> frozenset[float]:
    """Numbers that often stand for no value."""
    return frozenset(float(text) for text in table()["sentinels"]["numbers"])


def _without_odd(values: Floats, decimals: int) -> float:
    """numbers_bits, where a far-off number that comes again to the last digit may stand for no value."""
    best = numbers_bits(values)
    if len(values) < 4:
        return best
    middle = middle_of(values)
    off = np.abs(values - middle)
    odd = values[int(np.argmax(off))]
    there = values == odd
    times = int(np.count_nonzero(there))
    if times < 2 and odd / 10.0**decimals not in odd_numbers():
        return best
    others = values[~there]
    if not len(others) or abs(odd - middle) < 3.0 * float(np.ptp(others)):
        return best
    mask = sequence_bits(there.tolist())
    return min(best, numbers_bits(others) + mask + whole_bits(float(odd)))
