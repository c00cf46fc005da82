"""What a form of the language is, and how the ways of writing it become rules of the grammar.

A form is one entry in the table (table.py): how it is written, what it takes, what it gives, how late, the function that
works it out, one sentence and an example. Parser, checker, evaluator, completion, help and tests walk that table.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

Group = Literal["over time", "events", "on events", "over a span"]
Takes = Literal[
    "series", "signal", "values", "quantity", "events", "condition", "time", "level", "depth", "number of readings"
]

SLOT = re.compile(r"\{(\w+)([.+?=]?)\}")
OPTIONAL = re.compile(r"\[([^\]]*)\]")
TERM = re.compile(r"\{(\w+)([.+?=]?)\}|([\w|]+)|(,)")
BLANKS = r"\s+"
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
    of_time: int = 0  # power of the time in what it gives over a span, by which the kit's clock moves it
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
    """How a form is written, for the grammar. alias: its rule, which it may share with forms that open with other words;
    opening: the grammar's name of the words that it opens with, shared likewise; rule: what follows; begins: the rule of
    the operand with which it begins, where it does not open with words."""

    alias: str
    form: Form
    slots: tuple[str, ...]
    opening: str
    rule: str
    begins: str = ""


def ways_of(forms: Sequence[Form]) -> list[Writing]:
    """How the forms are written; what may be left out are clauses of their own, in any order. Words that open the same
    forms are one to the grammar, which is quicker made so."""
    rests: dict[str, list[str]] = {}
    told = []
    for form in forms:
        pattern = " ".join(OPTIONAL.sub("", form.written).split())
        clauses = [clause_of(each) for each in OPTIONAL.findall(form.written)]
        rule = " ".join([*_terms(pattern), *([f"({' | '.join(clauses)})*"] if clauses else [])])
        first = SLOT.match(pattern)
        told.append((form, pattern, rule, RULES[first[2]] if first is not None else ""))
        rests.setdefault(form.opening, []).append(rule)
    groups = list(dict.fromkeys(tuple(each) for opening, each in rests.items() if opening))
    rules = list(dict.fromkeys(rule for _, _, rule, _ in told))
    found = []
    for form, pattern, rule, begins in told:
        opening = f"BEGINS_{groups.index(tuple(rests[form.opening]))}" if form.opening else ""
        alias = f"form_{rules.index(rule)}_{opening.lower() or form.name.replace(' ', '_')}"
        slots = tuple(each[0] for each in SLOT.findall(pattern))
        found.append(Writing(alias, form, slots, opening, rule, begins))
    return found


def clause_of(piece: str) -> str:
    """The grammar's name of what may be left out, by the operand in it and how it is written."""
    slot = SLOT.findall(piece)[0][0]
    words = re.sub(r"\W+", "_", SLOT.sub("", piece)).strip("_").lower()
    return f"clause_{slot}__{words}" if words else f"clause_{slot}"


def _terms(pattern: str) -> Iterable[str]:
    """What follows the words that open a form."""
    opening = pattern.partition("{")[0]
    for slot, mark, word, comma in TERM.findall(pattern[len(opening) :] if opening[:1].isalpha() else pattern):
        if slot:
            yield RULES[mark]
        elif comma:
            yield '","'
        else:
            choice = [f'"{each}"' for each in word.split("|")]
            yield choice[0] if len(choice) == 1 else f"({' | '.join(choice)})"


def grammar_with(text: str, ways: Sequence[Writing]) -> str:
    """The grammar's text with the rules of the forms. The words that open one stand for themselves only together, so that
    each alone may be the name of a quantity."""
    opening: dict[str, list[str]] = {}
    for way in ways:
        if way.opening and way.form.opening not in opening.setdefault(way.opening, []):
            opening[way.opening].append(way.form.opening)
    terminals = "\n".join(
        f"{name}.3: /({'|'.join(each.replace(' ', BLANKS) for each in words)})\\b/" for name, words in opening.items()
    )
    for place, begins in (
        ("// forms that end with a condition", "chosen"),
        ("// forms that begin with what they are about", "atom"),
        ("// forms that begin with words of their own", ""),
    ):
        rules = dict.fromkeys(
            f"| {way.opening} {way.rule}  -> {way.alias}" for way in ways if way.begins == begins
        )  # fmt: skip
        text = text.replace(place, "\n    ".join(rules) if rules else place)
    pieces = dict.fromkeys(piece for way in ways for piece in OPTIONAL.findall(way.form.written))
    clauses = "\n".join(f"{clause_of(piece)}: {' '.join(_terms(f' {piece.strip()}'))}" for piece in pieces)
    return f"{text}\n{terminals}\n{clauses}\n"
