"""The stream format: how one kit's lines are read."""

from __future__ import annotations

from typing import Literal

import msgspec

Role = Literal["channel", "clock", "kit", "ignored"]
ValueKind = Literal["number", "hexadecimal", "on/off", "words", "time", "text"]
Dialect = Literal["separated", "named", "json", "senml", "tagged", "sentence"]
DIALECT_WORDS: dict[str, str] = {
    "separated": "values in a row",
    "named": "a name at each value",
    "json": "JSON",
    "senml": "SenML (RFC 8428)",
    "tagged": "rows of several kinds",
    "sentence": "values between words",
}
ASSUMED_NO_VALUE = ("", "nan", "NaN", "NAN", "-", "--", "null", "None", "n/a")


class Column(msgspec.Struct, frozen=True):
    """A named column. For a clock, `tick` is the length of one unit of it in s.

    `key` finds it where its place alone does not: its name as the line writes it, or the tag of its row.
    `words`: those that stand in a column of words, whose value is their place among them.
    """

    name: str
    unit: str = ""
    role: Role = "channel"
    tick: float = 0.0
    kind: ValueKind = "number"
    key: str = ""
    words: tuple[str, ...] = ()


class StreamFormat(msgspec.Struct, frozen=True):
    """Separator (one character; a space stands for any run of spaces), columns in order, the texts
    that stand for "no value".

    start, end: marks around each line (`end` "*" stands for a star and two check digits). kit_mark:
    what ends an id in front of each line, where one port relays many kits ("." joins it to the
    names). proposals: texts that may stand for "no value" and wait for somebody to say so.
    question: set where two readings of the lines are equally likely; `other` is then the second.
    sure: 1 where nothing else comes near, less while it is so far only. only: the id to which this kit is narrowed on
    a shared port. patterns: of the dialect "sentence", the words of each kind of line with `{}` for each value, whose
    columns follow each other. lengths: how many fields a row may have besides all of them. by_hand: somebody has set
    it, and it stands above all that is worked out.
    """

    separator: str
    columns: tuple[Column, ...]
    no_value: tuple[str, ...] = ASSUMED_NO_VALUE
    worked_out_from: int = 0
    dialect: Dialect = "separated"
    decimal_comma: bool = False
    start: str = ""
    end: str = ""
    kit_mark: str = ""
    latin: bool = False
    sure: float = 1.0
    question: str = ""
    other: StreamFormat | None = None
    proposals: tuple[str, ...] = ()
    only: str = ""
    patterns: tuple[str, ...] = ()
    lengths: tuple[int, ...] = ()
    by_hand: bool = False

    @property
    def channels(self) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns if column.role == "channel")

    @property
    def clock(self) -> int | None:
        """Position of the first clock column, None where the kit sends no clock."""
        return next((at for at, column in enumerate(self.columns) if column.role == "clock"), None)

    @property
    def is_sure(self) -> bool:
        """Whether nothing else comes near, rather than that it is so far only."""
        return self.sure >= 1.0

    @property
    def shared(self) -> bool:
        """Whether an id in the lines tells several kits apart."""
        return bool(self.kit_mark) or any(column.role == "kit" for column in self.columns)

    @property
    def shape(self) -> tuple[object, ...]:
        """How lines are cut, whatever their columns are called: formats of one shape are for lines of one kind."""
        return (
            self.dialect, self.separator, len(self.columns), self.start, self.end, self.decimal_comma, self.kit_mark,
            self.patterns,
        )  # fmt: skip

    @property
    def sparse(self) -> bool:
        """Whether a line need not hold every column."""
        return self.dialect != "separated" or bool(self.lengths)

    def unit_of(self, channel: str) -> str:
        return next((column.unit for column in self.columns if column.name == channel), "")


class ClockState(msgspec.Struct, frozen=True):
    """A kit's clock mapped to ours: t = at_ours + rate * (clock - at_kit), all in s.

    `u_rate` is the relative standard uncertainty of the rate; `spacing` the usual time between
    readings in s; `pace` how many s of the kit's world go by in one of ours, other than 1 only for stand-ins; None
    stands for what is not known yet.
    """

    at_kit: float | None = None
    at_ours: float | None = None
    rate: float = 1.0
    u_rate: float = 5e-4
    spacing: float | None = None
    last_raw: float | None = None
    wraps: float = 0.0
    last_t: float | None = None
    step: float | None = None
    last_arrival: float | None = None
    pace: float = 1.0
