"""What went wrong, as data: a code and its fields. Words are made last, from the one table of sentences.

A caller that has to decide looks at the code; nobody compares, keeps or takes apart a sentence.
"""

from __future__ import annotations

import tomllib
from collections import defaultdict
from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from string import Formatter
from typing import Any, TypeVar

Field = str | int | float | None
ELSE = "else"  # the words of an entry that has none for its case


@cache
def sentences() -> dict[str, dict[str, Any]]:
    """The table `sentences.toml`: code -> parts. A part is a sentence with places for fields in braces, or a table
    of such by the field `case`."""
    table: dict[str, dict[str, Any]] = tomllib.loads(
        files("common_bench.model").joinpath("sentences.toml").read_text("utf-8")
    )
    return table


class _Lenient(Formatter):
    """A field that is missing or of another kind than its place wants is shown as it is: telling never fails."""

    def format_field(self, value: object, format_spec: str) -> str:
        try:
            return str(super().format_field(value, format_spec))
        except (ValueError, TypeError):
            return str(value)


def words_of(code: str, part: str, fields: Mapping[str, Field]) -> str:
    """One part of a code's entry in words; '' where it has no such part. A code that is not in the table is told
    with its fields, so that nothing is ever hidden by a missing sentence."""
    entry = sentences().get(code)
    if entry is None:
        return f"{code} {dict(fields)}" if part == "what" else ""
    found = entry.get(part, "")
    if isinstance(found, dict):
        found = found.get(str(fields.get("case", ELSE)), found.get(ELSE, ""))
    return _Lenient().vformat(found, (), defaultdict(str, fields))


class Trouble(Exception):
    """A problem that a person can act on.

    Guarantees three parts in words, so that no caller has to invent them: `what` happened, `where` it
    happened (may be empty) and what to `do` about it (may be empty where nothing helps). `code` names
    the row of the table of sentences, `fields` fill its places.
    """

    def __init__(self, code: str, *, where: str = "", **fields: object) -> None:
        super().__init__(code)
        self.code = code
        self.where = where
        self.fields: dict[str, Field] = {
            name: value if value is None or isinstance(value, (str, int, float)) else str(value)
            for name, value in fields.items()
        }

    def part(self, name: str) -> str:
        """Another part of the entry in words, as what stands on a bench or on a card."""
        return words_of(self.code, name, self.fields)

    @property
    def what(self) -> str:
        return self.part("what")

    @property
    def do(self) -> str:
        return self.part("do")

    @property
    def sentence(self) -> str:
        place = f"{self.where}: " if self.where else ""
        advice = f" {self.do}" if self.do else ""
        return f"{place}{self.what}{advice}"

    @property
    def alone(self) -> str:
        """The sentence where nothing stands before it: with a capital, unless it begins with somebody's own word."""
        told = self.sentence
        ours = words_of(self.code, "what", {"case": self.fields.get("case", "")})[:1]
        return told[:1].upper() + told[1:] if not self.where and told[:1] == ours else told

    def __str__(self) -> str:
        return self.sentence

    def __eq__(self, other: object) -> bool:
        """Two troubles are one where they say the same of the same place."""
        if not isinstance(other, Trouble):
            return NotImplemented
        return (type(self), self.code, self.where, self.fields) == (type(other), other.code, other.where, other.fields)

    def __hash__(self) -> int:
        return hash((type(self), self.code, self.where))

    @property
    def data(self) -> dict[str, Any]:
        """The trouble as it is kept in a book; as `KeptTrouble` it is read again."""
        return {"code": self.code, "where": self.where, "fields": self.fields}


SomeTrouble = TypeVar("SomeTrouble", bound=Trouble)


def as_another(kind: type[SomeTrouble], trouble: Trouble, **more: object) -> SomeTrouble:
    """The same trouble as one of another type, with more fields."""
    made = kind(trouble.code, where=trouble.where)
    made.fields.update(trouble.fields)
    made.fields.update({name: str(value) for name, value in more.items()})
    return made


class UnitTrouble(Trouble):
    """A unit that is not known or does not fit."""


class PlanTrouble(Trouble):
    """A plan that cannot be read."""


class WorkingTrouble(Trouble):
    """A working that is refused; `start` and `end` are the columns of the offending text."""

    def __init__(self, code: str, *, where: str = "", start: int = 0, end: int = 0, **fields: object) -> None:
        super().__init__(code, where=where, **fields)
        self.start = start
        self.end = end

    def at(self, start: int, end: int) -> WorkingTrouble:
        """The same at these columns."""
        self.start, self.end = start, end
        return self


class LinkTrouble(Trouble):
    """A link that cannot be opened, has gone, or gives what cannot be used.

    `act` is the next action that the program can do (`restart`, `send`, `ask`), `label` what stands on
    its button, `send` what it sends.
    """

    @property
    def act(self) -> str:
        return self.part("act")

    @property
    def label(self) -> str:
        return self.part("label")

    @property
    def send(self) -> str:
        return str(self.fields.get("send") or "")


class EngineTrouble(Trouble):
    """The engine or the journal did not do what it was asked for, or not in time."""


class CalibrationTrouble(Trouble):
    """Points that make no calibration."""


class FileTrouble(Trouble):
    """A file of data that cannot be read."""


class BookTrouble(Trouble):
    """A bench book that cannot be opened, read or written."""


class FindingTrouble(Trouble):
    """A run or a span that gives no finding."""


class PoolTrouble(Trouble):
    """Findings that make no class line."""
