"""What went wrong, in words a student understands: what happened, where, and what to do next."""

from __future__ import annotations


class Trouble(Exception):
    """A problem that a person can act on.

    Guarantees three parts, so that no caller has to invent words: `what` happened, `where` it
    happened (may be empty) and what to `do` about it (may be empty where nothing helps).
    """

    def __init__(self, what: str, *, where: str = "", do: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.do = do

    @property
    def sentence(self) -> str:
        place = f"{self.where}: " if self.where else ""
        advice = f" {self.do}" if self.do else ""
        return f"{place}{self.what}{advice}"

    def __str__(self) -> str:
        return self.sentence


class UnitTrouble(Trouble):
    """A unit that is not known or does not fit."""


class PlanTrouble(Trouble):
    """A plan that cannot be read."""


class WorkingTrouble(Trouble):
    """A working that is refused; `start` and `end` are the columns of the offending text."""

    def __init__(self, what: str, *, where: str = "", do: str = "", start: int = 0, end: int = 0) -> None:
        super().__init__(what, where=where, do=do)
        self.start = start
        self.end = end


class LinkTrouble(Trouble):
    """A link that cannot be opened, has gone, or gives what cannot be used.

    `cause` names the row of the table of causes; `act` is the next action that the program can do
    (`restart`, `send`, `ask`), `label` what stands on its button, `send` what it sends.
    """

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        do: str = "",
        cause: str = "",
        act: str = "",
        label: str = "",
        send: str = "",
    ) -> None:
        super().__init__(what, where=where, do=do)
        self.cause, self.act, self.label, self.send = cause, act, label, send


class CalibrationTrouble(Trouble):
    """Points that make no calibration."""


class BookTrouble(Trouble):
    """A bench book that cannot be opened, read or written."""


class FindingTrouble(Trouble):
    """A run or a span that gives no finding."""


class PoolTrouble(Trouble):
    """Findings that make no class line."""
