"""What a form of the language is, and how the ways of writing it become rules of the grammar.

A form is one entry in the table (table.py): how it is written, what it takes, what it gives, how late, the function that
works it out, one sentence and an example. Parser, checker, evaluator, completion, help and tests walk that table.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

Group = Literal["over time", "events", "on events", "over a span"]
Takes = Literal[
    "series", "signal", "values", "quantity", "events", "condition", "time", "level", "depth", "number of readings"
]

SLOT = re.compile(r"\{(\w+)([.+?=]?)\}")
RULES = {"": "atom", ".": "primary", "+": "sum", "?": "either", "=": "chosen"}


@dataclass(frozen=True)
class Form:
    """One form.

    written: with its operands in braces, the ones that may be left out in square brackets, words of which one is chosen
    with a stroke between them; a dot behind an operand's name takes the nearest value alone, a plus a whole sum, a
    question mark a condition, an equals sign all that was written before. takes: operand -> what it must be. gives: the checker's rule, from what is known of the
    operands to what comes out. step: makes what works it out over blocks, from the numbers among its operands; over: works
    out the number over a span, from the span, the name of what it is about, and either its operands or what `step` makes of
    them.
    """

    name: str
    written: str
    says: str
    takes: Mapping[str, Takes]
    gives: Callable[..., Any]
    example: str
    group: Group
    step: Callable[..., Any] | None = None
    over: Callable[..., Any] | None = None
    each: bool = False  # worked out value by value
    late: str = ""  # how late it is told, in words; empty where at once

    @property
    def slots(self) -> tuple[str, ...]:
        return tuple(each[0] for each in SLOT.findall(self.written))

    @property
    def opening(self) -> str:
        """The words with which it begins; empty for one that begins with what it is about."""
        return self.written.partition("{")[0].strip()

    @property
    def shown(self) -> str:
        """How it is written, for people: `peaks in X above LEVEL, APART apart`."""
        plain = SLOT.sub(lambda m: CALLED.get(m[1], m[1].upper()), self.written)
        return re.sub(r"(\w+)\|\w+(?:\|\w+)*", r"\1", plain).replace("[", "").replace("]", "")


def plainly(written: str, operands: Mapping[str, str]) -> str:
    """The form with operands in their places, in its shortest writing, without what may be left out but for a pause."""
    short = re.sub(r"\[([^\]]*)\]", lambda m: m[1] if m[1].startswith((" through", ", {z}")) else "", written)
    return re.sub(r"(\w+)\|\w+", r"\1", SLOT.sub(lambda m: operands[m[1]], short))


CALLED = {"x": "X", "y": "Y", "z": "Z", "e": "EVENTS", "a": "EVENTS", "b": "OTHERS", "time": "TIME", "apart": "TIME"}


@dataclass(frozen=True)
class Writing:
    """One way of writing a form: the grammar's name for it, and which operands it has."""

    alias: str
    form: Form
    slots: tuple[str, ...]
    rule: str
    begins: str = field(default="")  # the rule of the operand with which it begins


def ways_of(forms: Sequence[Form]) -> list[Writing]:
    """All ways of writing the forms, with and without what may be left out."""
    found: list[Writing] = []
    for form in forms:
        for pattern in _whole(form.written):
            begins = SLOT.match(pattern)
            rule = " ".join(_terms(pattern))
            slots = tuple(each[0] for each in SLOT.findall(pattern))
            found.append(
                Writing(f"form_{len(found)}", form, slots, rule, RULES[begins[2]] if begins is not None else "")
            )
    return found


def _whole(written: str) -> Iterable[str]:
    """The pattern with each choice of what may be left out."""
    pieces = re.split(r"\[([^\]]*)\]", written)
    for chosen in itertools.product((False, True), repeat=len(pieces) // 2):
        kept = [piece for at, piece in enumerate(pieces) if at % 2 == 0 or chosen[at // 2]]
        yield " ".join("".join(kept).split())


def _terms(pattern: str) -> Iterable[str]:
    first = SLOT.search(pattern)
    opening = pattern[: first.start()] if first is not None and first.start() else ""
    if opening.strip():
        yield opening_terminal(opening.strip())
        pattern = pattern[len(opening) :]
    for slot, mark, word, other in re.findall(r"\{(\w+)([.+?=]?)\}|([\w|]+)|(,)", pattern):
        if slot:
            yield RULES[mark]
        elif other:
            yield '","'
        else:
            choice = [f'"{each}"' for each in word.split("|")]
            yield choice[0] if len(choice) == 1 else f"({' | '.join(choice)})"


def opening_terminal(opening: str) -> str:
    """The grammar's name for the words with which a form begins; they stand for themselves only together, so that each
    alone may be the name of a quantity."""
    return "BEGINS_" + re.sub(r"\W+", "_", opening).upper()


def grammar_with(text: str, ways: Sequence[Writing]) -> str:
    """The grammar's text with a rule for each way."""
    openings = dict.fromkeys(way.form.opening for way in ways if way.form.opening)
    words = {opening_terminal(each): r"\s+".join(each.split()) for each in openings}
    terminals = "\n".join(f"{name}.3: /{each}\\b/" for name, each in words.items())
    for place, begins in (
        ("// forms that end with a condition", ("chosen",)),
        ("// forms that begin with what they are about", ("atom",)),
        ("// forms that begin with words of their own", ("",)),
    ):
        rules = [f"| {way.rule}  -> {way.alias}" for way in ways if way.begins in begins]
        text = text.replace(place, "\n    ".join(rules) if rules else place)
    return f"{text}\n{terminals}\n"
