"""What one line gives: its rows of numbers, or nothing. The words that all dialects share."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

LONGEST_NAME = 40
UNNAMED = "column "  # with its number, where nothing tells a column's name


def is_unnamed(name: str) -> bool:
    """Whether a column is called by its number alone."""
    return name.startswith(UNNAMED)


def unnamed(number: int | str) -> str:
    """What a column is called that nothing names."""
    return f"{UNNAMED}{number}"


Line = tuple[float, int, bytes]
"""arrival in s, byte offset, the line without its end"""


class ParsedLine(NamedTuple):
    """values: one per column, nan where the line holds none; kit: the id that the line names, or '';
    shift: s by which the reading is older than the line."""

    values: list[float]
    kit: str = ""
    shift: float = 0.0


Reads = Callable[[str], list[ParsedLine] | None]


def text_of(line: bytes, latin: bool = False) -> str | None:
    """The line as text; None where its bytes are no text."""
    try:
        return line.decode("latin-1" if latin else "utf-8").strip(" \t\x00\ufeff")
    except UnicodeDecodeError:
        return None


def mostly_numbers(text: str) -> bool:
    """Whether a line is rather numbers than words."""
    return sum(map(str.isdecimal, text)) > sum(map(str.isalpha, text))


def kit_word(value: float) -> str:
    """A kit's id that is a number, as a word."""
    return f"{value:g}" if value == value else ""
