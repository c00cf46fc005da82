"""What was heard of a kit, as it is judged by: lines in; their texts and arrivals, and what of them could be readings, out."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from common_bench.model.block import Floats
from common_bench.reading.rows import Line, text_of
from common_bench.reading.torn_lines import without_torn

MOSTLY_LATIN = 0.2  # of the lines
STRETCH_LINES = 60  # of all that is kept, by which a pace is told
FEW_WORDS = 12  # lines, as of a greeting with a menu
FEWEST_ROWS = 3  # behind a greeting
WORDS = re.compile(r"(?=.*[g-zG-Z])(?=.*[^\W\d_]{2})")  # rather than hexadecimal digits
DIGITS = {ord(each): None for each in "0123456789.,+-"}


class Evidence(NamedTuple):
    """What was heard: texts and their arrivals (n,) in s; long, long_arrivals: every so many lines of all that is kept,
    none where there are few; words: lines among which names are looked for; latin: they are Latin-1; paced: arrivals mean
    something."""

    texts: Sequence[str]
    arrivals: Floats
    long_arrivals: Floats
    long: Sequence[str]
    words: Sequence[bytes]
    latin: bool
    paced: bool


def heard_of(lines: Sequence[Line]) -> tuple[bool, list[str], Floats]:
    """Whether lines are Latin-1, the texts of those that could be readings, and (n,) their arrivals in s."""
    latin = _is_latin([line for _, _, line in lines])
    texts = [(at, text) for at, _, line in lines if (text := text_of(line, latin))]
    heard = without_torn(_without_words(_without_greeting(texts)))
    return latin, [text for _, text in heard], np.array([at for at, _ in heard])


def _is_latin(lines: Sequence[bytes]) -> bool:
    """Whether lines hold letters that are none of UTF-8's, rather than noise now and then."""
    odd = sum(1 for line in lines if not line.isascii() and text_of(line) is None)
    return odd > max(1, MOSTLY_LATIN * len(lines))


def _without_greeting(heard: list[tuple[float, str]]) -> list[tuple[float, str]]:
    """The lines without those of words that stand before all rows, of which none comes again in another form."""
    first = next((at for at, (_, text) in enumerate(heard) if not WORDS.match(text)), len(heard))
    if not first or len(heard) - first < FEWEST_ROWS:
        return heard
    greeting = {text.translate(DIGITS) for _, text in heard[:first]}
    again = any(text.translate(DIGITS) in greeting for _, text in heard[first:] if text[0].isalpha())
    return heard if again else heard[first:]


def _without_words(heard: list[tuple[float, str]]) -> list[tuple[float, str]]:
    """The lines without those that hold no digit and name nothing, where most have digits: words between rows."""
    kept = [each for each in heard if any(map(str.isdigit, each[1])) or ":" in each[1] or "=" in each[1]]
    return kept if len(kept) >= 0.6 * len(heard) or len(heard) - len(kept) <= FEW_WORDS else heard


def stretch(lines: Sequence[Line], latin: bool) -> tuple[Floats, list[str]]:
    """Every so many of all lines, as far as they go back, for the pace of a clock; nothing where there are few."""
    every = len(lines) // STRETCH_LINES
    if every < 1:
        return np.empty(0), []
    found = [(at, text) for at, _, line in lines[:: every + 1] if (text := text_of(line, latin))]
    return np.array([at for at, _ in found]), [text for _, text in found]
