"""Lines that lost a part of themselves on their way: a beginning, an end, or some of the middle. Texts in; those that are whole out.

A torn line is made of a head and a tail of what most lines look like, and it is torn anywhere; a kind of line of its own begins where
a word or a number does, and comes again. What is torn says nothing of how a kit writes, and a name that lost a letter is no other name.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import takewhile

import numpy as np

from common_bench.model.block import Floats

NUMBER = re.compile(r"[+\-−]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+\-]?[0-9]+)?")
USUAL = 0.1  # of the lines that look alike, from which they are what others were torn from; of fewer, each may be torn
MOST_TORN = 0.3  # of all lines; of more it is not known what a whole one looks like
MANY_PLACES = 3  # at which lines were torn, from which none of them is a kind of its own
LEAST_NUMBERS = 8
MOST_NUMBERS = 0.12  # of a column
OF_ITS_OWN = 4  # times that one comes that begins with a word or a number, from which it may be


def without_torn(heard: Sequence[tuple[float, str]]) -> list[tuple[float, str]]:
    """The lines, each with its arrival, without those that are torn."""
    shapes = [NUMBER.sub("#", text) for _, text in heard]
    times = Counter(shapes)
    if len(times) < 2:
        return list(heard)
    usual = [shape for shape, count in times.items() if count > USUAL * len(shapes)]
    torn = {shape for shape in times if shape not in usual and any(_is_part(shape, of) for of in usual)}
    if len(torn) < MANY_PLACES and not any(_within_a_word(shape, of) for shape in torn for of in usual):
        torn = {shape for shape in torn if times[shape] < OF_ITS_OWN}
    if not torn or sum(times[shape] for shape in torn) > MOST_TORN * len(shapes):
        return list(heard)
    return [each for each, shape in zip(heard, shapes, strict=True) if shape not in torn]


def _is_part(shape: str, of: str) -> bool:
    """Whether a shape is a head and a tail of a longer one."""
    if len(shape) >= len(of):
        return False
    head = sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(shape, of, strict=False)))
    return head == len(shape) or of.endswith(shape[head:])


def _within_a_word(shape: str, of: str) -> bool:
    """Whether it is the tail of one, which begins in the midst of a word."""
    if not (shape and of.endswith(shape) and len(shape) < len(of)):
        return False
    return shape[0].isalpha() and of[-len(shape) - 1].isalpha()


def without_torn_numbers(texts: Sequence[str], values: Floats) -> Floats:
    """(n,) values, nan for those that lost their first digits: shorter than those before and after, and less than both, in a column that
    goes on rising. Of columns in which more than a few are so, all are as they were."""
    there = np.flatnonzero(np.isfinite(values))
    if len(there) < LEAST_NUMBERS:
        return values
    found, long = values[there], np.array([len(texts[int(at)]) for at in there])
    before, after = slice(0, -2), slice(2, None)
    low = (found[1:-1] < found[before]) & (found[before] < found[after])
    torn = low & (long[1:-1] < long[before]) & (long[1:-1] < long[after])
    if not 0 < np.count_nonzero(torn) <= MOST_NUMBERS * len(there):
        return values
    kept = values.copy()
    kept[there[1:-1][torn]] = np.nan
    return kept
