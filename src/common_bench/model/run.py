"""Runs, moments, findings and their place in the pool, as they are kept."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Literal

import msgspec

from common_bench.model.calibration import Calibration
from common_bench.model.measured import Measured
from common_bench.model.stream import ClockState, StreamFormat
from common_bench.model.trouble import Trouble, words_of


class LeftOut(msgspec.Struct, frozen=True):
    """What of a run is set aside, from and to in s since the run began, with the reason: a stretch, which leaves a gap; a
    reading by itself, which leaves none; or an event, named by the line that finds it, whose readings stay."""

    t_from: float
    t_to: float
    reason: str
    kind: Literal["stretch", "reading", "event"] = "stretch"
    event: str = ""

    @property
    def words(self) -> str:
        """`4.00 s to 4.30 s`, `the reading at 4.02 s`, `pass at 4.02 s`."""
        if self.kind == "stretch":
            return f"{self.t_from:.2f} s to {self.t_to:.2f} s"
        return f"{self.event or 'the reading'} at {(self.t_from + self.t_to) / 2:.2f} s"


class RunSetting(msgspec.Struct, frozen=True):
    """All that is needed to compute a run again from its bytes, as it was when the run began; applied_at: when
    its calibrations were put in the place of those it was made with, '' where they never were; raw: channel -> unit of its
    raw numbers, by which workings may name it; zero: s from the first reading, kept from before, to where the run's time begins;
    left_out: stretches that are set aside, as if nothing had been heard in them."""

    format: StreamFormat | None
    clock: ClockState
    calibrations: tuple[Calibration, ...]
    workings: tuple[str, ...]
    applied_at: str = ""
    raw: dict[str, str] = {}
    zero: float = 0.0
    left_out: tuple[LeftOut, ...] = ()


class KeptTrouble(msgspec.Struct, frozen=True):
    """A trouble as it is kept with what it is about."""

    code: str
    where: str = ""
    fields: dict[str, str | float | int | None] = {}

    @property
    def trouble(self) -> Trouble:
        return Trouble(self.code, where=self.where, **self.fields)


UNHEARD = "by-rule-unheard"


class Ending(msgspec.Struct, frozen=True):
    """How a run ended, as a code of the table of sentences with its fields."""

    code: str
    fields: dict[str, str | float | int | None] = {}

    @property
    def words(self) -> str:
        return words_of(self.code, "what", self.fields)


class Run(msgspec.Struct, frozen=True):
    """One recording by one group: bytes `begin` to `end` of a session. `state` open until closed; trouble: why it
    could not be worked up, None where it could or was not tried; note: of whoever recorded it; lacks: what was missing when it
    was begun all the same, in words; practice: it counts nowhere; spans: those with a
    name that somebody has set in it, in s since it began."""

    id: int
    lesson: int
    group: int
    number: int
    session: int
    begin: int | None
    end: int | None
    state: Literal["asked", "open", "closed"]
    began_at: str
    ending: Ending | None
    setting: RunSetting | None
    aside: str = ""
    trouble: KeptTrouble | None = None
    note: str = ""
    lacks: tuple[str, ...] = ()
    practice: bool = False
    spans: dict[str, tuple[float, float]] = {}

    @property
    def ended_by(self) -> str:
        """How it ended, in words."""
        return self.ending.words if self.ending is not None else ""


class Moment(msgspec.Struct, frozen=True):
    """A remark at t s since the run began."""

    id: int
    run: int
    t: float
    text: str


class Prediction(msgspec.Struct, frozen=True):
    """What a group expects of a run before it is made: a quantity over time, as lines between points, times in s since the run
    begins; run: the one that it was drawn for, None where that has not begun."""

    id: int
    group: int
    run: int | None
    quantity: str
    unit: str
    t: tuple[float, ...]
    values: tuple[float, ...]


class TakenPoint(msgspec.Struct, frozen=True):
    """A point of a run that is taken point by point: a condition set to a value while all stood still, from and to in s since
    the run began. shown: quantity -> what it was as seen then; aside: why it does not count."""

    id: int
    run: int
    name: str
    value: Measured
    t_from: float
    t_to: float
    taken_at: str = ""
    aside: str = ""
    shown: dict[str, Measured] = {}


class Share(msgspec.Struct, frozen=True):
    """One entry in the list of what an uncertainty is made of; u None where it is not known; shared: further runs of the same
    group have it too."""

    name: str
    u: float | None
    shared: bool = False


def shared_of(made_of: Iterable[Share]) -> float:
    """The part of an uncertainty that further runs of the same group have too."""
    return math.sqrt(sum(each.u * each.u for each in made_of if each.shared and each.u is not None))


class Finding(msgspec.Struct, frozen=True):
    """A number worked up from a run. span in s since the run began; n: values that it comes from, guesses: how many of
    them lie outside a calibration; words: how; made_of in the finding's unit; doubts: why somebody should look at it before it is
    used, as codes."""

    name: str
    measured: Measured
    span: tuple[float, float]
    n: int
    words: str
    made_of: tuple[Share, ...]
    working: str = ""
    run: int = 0
    id: int = 0
    guesses: int = 0
    doubts: tuple[str, ...] = ()

    @property
    def how(self) -> str:
        """How it was worked up, and how much of it is a guess."""
        guessed = f" · {self.guesses} of them outside the calibration: a guess" if self.guesses else ""
        return self.words + guessed


class PoolRow(msgspec.Struct, frozen=True):
    """One run in the class dataset, with its conditions and findings by name; words: conditions that are no numbers."""

    run: int
    group: int
    alias: str
    number: int
    conditions: dict[str, Measured]
    findings: dict[str, Measured]
    aside: str = ""
    note: str = ""
    words: dict[str, str] = {}
