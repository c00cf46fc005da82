"""Reading a working: its text in, a tree out. What cannot be read is refused with its place."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from common_bench.model.measured import number
from common_bench.model.trouble import WorkingTrouble
from common_bench.workings.forms import Form, Writing, grammar_with, ways_of
from common_bench.workings.table import FORMS

LONGEST_WORKING = 500  # characters
DEEPEST = 30  # brackets and operations inside each other
WORDS = frozenset(
    [
        "peaks",
        "dips",
        "in",
        "above",
        "below",
        "apart",
        "gap",
        "between",
        "calibrated",
        "mean",
        "scatter",
        "median",
        "largest",
        "smallest",
        "first",
        "last",
        "count",
        "of",
        "as",
        "and",
        "or",
        "not",
        "if",
        "then",
        "else",
        "where",
        "over",
        "by",
        "through",
        "rate",
        "total",
        "smooth",
        "middle",
        "change",
        "delayed",
        "during",
        "pi",
    ]
)


@dataclass(frozen=True)
class Node:
    """One form with its operands. start, end: columns in the working's text; slots: for a form of the table, which of its
    operands these are."""

    form: str
    operands: tuple[Node, ...] = ()
    word: str = ""
    value: float = 0.0
    u: float = 0.0
    unit: str = ""
    start: int = 0
    end: int = 0
    slots: tuple[str, ...] = ()
    table: Form | None = None

    def part(self, slot: str) -> Node | None:
        """The operand of a form of the table; None where it was left out."""
        return self.operands[self.slots.index(slot)] if slot in self.slots else None


@dataclass(frozen=True)
class Read:
    """name = expression, then as unit ('' where none is asked for); during: the named span that it is worked out over, '' where
    that is the one that is used."""

    name: str
    expression: Node
    unit: str
    text: str
    during: str = ""


@cache
def _parser() -> Any:
    from lark import Lark

    text = files("common_bench.workings").joinpath("grammar.lark").read_text("utf-8")
    return Lark(
        grammar_with(text, tuple(_ways().values())),
        start="working",
        parser="lalr",
        propagate_positions=True,
        maybe_placeholders=False,
        cache=_kept_tables(),
    )


def _kept_tables() -> str | bool:
    """Where the parser's tables are kept from one start to the next, in the user's own cache; False where that cannot be
    written. The library makes them anew where the grammar is another."""
    import platformdirs

    place = Path(platformdirs.user_cache_dir("common-bench"))
    try:
        place.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError:
        return False
    return str(place / "grammar") if os.access(place, os.W_OK) else False


@cache
def _ways() -> dict[str, Writing]:
    return {f"{way.alias} {way.form.opening}": way for way in ways_of(tuple(FORMS.values()))}


@lru_cache(maxsize=4096)
def read_working(text: str) -> Read:
    """The tree of `name = expression`. Raises WorkingTrouble with the place in the text."""
    from lark import Token, Tree
    from lark.exceptions import UnexpectedInput

    if len(text) > LONGEST_WORKING:
        raise WorkingTrouble("working-too-long", end=len(text), longest_working=LONGEST_WORKING, text=len(text))  # fmt: skip
    if not re.match(r"\s*[^\W\d_]\w*\s*=", text):
        raise WorkingTrouble("working-without-name", end=len(text))
    try:
        tree: Any = _parser().parse(text)
    except UnexpectedInput as fault:
        raise _unreadable(text, fault) from None
    except RecursionError:
        raise _too_deep(text) from None
    name = str(tree.children[0])
    if name in WORDS:
        raise WorkingTrouble("word-of-the-language", end=len(name), name=name)
    more = {str(each.data): str(each.children[-1]) for each in tree.children[2:]}
    expression = _node(tree.children[1], Token, Tree, 0, text)
    return Read(name, expression, more.get("conversion", ""), text, more.get("during", ""))


def _too_deep(text: str) -> WorkingTrouble:
    return WorkingTrouble("working-too-deep", end=len(text), deepest=DEEPEST)


def _unreadable(text: str, fault: Any) -> WorkingTrouble:
    at = min(max(0, getattr(fault, "pos_in_stream", None) or 0), len(text))
    if getattr(getattr(fault, "token", None), "type", "") == "$END":
        at = len(text)
    rest = text[at:].strip()
    if not rest:
        return WorkingTrouble("working-stops-early", start=at, end=at + 1)
    word = rest.split()[0]
    end = at + len(word)
    if word in WORDS:
        return WorkingTrouble("unexpected-word", start=at, end=end, word=word, case=_form(text))
    return WorkingTrouble("unreadable-from", start=at, end=end, word=word, case=_form(text))


def _form(text: str) -> str:
    """The form that was likely meant, by which the advice is chosen."""
    return next(
        (
            word
            for word in ("peaks", "dips", "rises", "falls", "changes", "gap", "calibrated", "mean")
            if re.search(rf"\b{word}\b", text)
        ),
        "",
    )


def _node(tree: Any, token: Any, branch: Any, depth: int, text: str) -> Node:
    if depth > DEEPEST:
        raise _too_deep(text)
    place = {"start": tree.meta.start_pos, "end": tree.meta.end_pos}
    form = str(tree.data)
    words = [str(each) for each in tree.children if isinstance(each, token)]
    operands = tuple(_node(each, token, branch, depth + 1, text) for each in tree.children if isinstance(each, branch))
    if form == "quantity":
        found = re.match(r"([\d.,]+(?:[eE][+-]?\d+)?)\s*(?:(?:±|\+-)\s*([\d.,]+(?:[eE][+-]?\d+)?))? ?(.*)", words[0])
        assert found is not None
        return Node(form, value=number(found[1]), u=number(found[2] or "0"), unit=found[3], word=words[0], **place)
    if form.startswith("form_"):
        opening = " ".join(words[0].split()) if "begins" in form else ""
        way = _ways()[f"{form} {opening}"]
        return _with_clauses(way, operands, place)
    if form == "parameter":
        at = tree.children[1]
        fit = Node("name", word=words[1], start=at.start_pos, end=at.end_pos)
        return Node(form, (fit,), words[0], **place)
    if form == "calibrated":
        words = [words[1][1:-1] if words[1][0] in '"“' else words[1]]
    return Node(form, operands, words[0].rstrip(" (") if words else "", **place)


def _with_clauses(way: Writing, operands: tuple[Node, ...], place: dict[str, int]) -> Node:
    """A form of the table with what may be left out; in any order, each once."""
    slots, own = list(way.slots), [each for each in operands if not each.form.startswith("clause_")]
    for each in operands:
        if each.form.startswith("clause_"):
            slot = each.form.removeprefix("clause_").partition("__")[0]
            if slot in slots:
                raise WorkingTrouble("clause-twice", start=each.start, end=each.end)
            slots.append(slot)
            own.append(each.operands[0])
    return Node(
        way.form.name,
        tuple(own),
        way.form.opening,
        start=place["start"],
        end=place["end"],
        slots=tuple(slots),
        table=way.form,
    )


def renamed_in(text: str, old: str, new: str) -> str:
    """A working with a quantity renamed wherever a name of it stands: as what the line gives, or as an operand. Units, channels,
    parameters of fits, remarks and words of the language stay. A line that cannot be read is renamed word by word, without
    its numbers' units, quoted channels and remarks."""
    try:
        read = read_working(text)
    except WorkingTrouble:
        return _renamed_by_words(text, old, new)
    begin = text.index(read.name)
    places = {(begin, begin + len(read.name))} if read.name == old else set[tuple[int, int]]()
    places |= {
        (node.start, node.start + len(old))
        for node in _nodes(read.expression)
        if node.form == "name" and node.word == old
    }
    for start, end in sorted(places, reverse=True):
        text = text[:start] + new + text[end:]
    return text


def renamed_in_expression(text: str, old: str, new: str) -> str:
    """The same for an expression that gives no name, as an axis of the class graph; empty stays empty."""
    if not text.strip() or "=" in text:
        return renamed_in(text, old, new) if text.strip() else text
    head = "expression_ = "
    return renamed_in(head + text, old, new).removeprefix(head)


def _nodes(node: Node) -> Iterator[Node]:
    yield node
    for each in node.operands:
        yield from _nodes(each)


# What is no name though it may be spelt like one: a number with its unit, a unit that is asked for, a channel, a remark.
_NO_NAME = re.compile(
    r"""\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?(?:\s*(?:±|\+-)\s*\d+(?:[.,]\d+)?)?\ [^\s,()]+ | \bas\s+\S+ | \bcalibrated\s+(?:"[^"]*"|“[^”]*”|\S+)
    | "[^"]*" | “[^”]*” | \#.*""",
    re.VERBOSE,
)


def _renamed_by_words(text: str, old: str, new: str) -> str:
    name, parts, at = re.compile(rf"(?<!\w){re.escape(old)}(?!\w)"), list[str](), 0
    for kept in _NO_NAME.finditer(text):
        parts += [name.sub(new, text[at : kept.start()]), kept[0]]
        at = kept.end()
    return "".join([*parts, name.sub(new, text[at:])])
