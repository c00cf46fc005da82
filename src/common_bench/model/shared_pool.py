"""Runs of a pool as they leave a bench book: findings, conditions and where they came from; no names of people."""

from __future__ import annotations

import msgspec

from common_bench.model.measured import Measured


class SharedNumber(msgspec.Struct, frozen=True):
    """A measured value as it travels; u None where it is not known, dof None where it is known exactly enough; shared: as of a
    measured value, 0 of what an older program sent."""

    value: float
    u: float | None
    unit: str
    dof: float | None = None
    shared: float = 0.0

    @classmethod
    def of(cls, measured: Measured) -> SharedNumber:
        """nan and infinity have no place in a file."""
        u = measured.u if measured.u == measured.u else None
        dof = measured.dof if measured.dof < float("inf") else None
        return cls(measured.value, u, measured.unit, dof, measured.shared)

    @property
    def told(self) -> dict[str, float | str | None]:
        """As an object for JSON."""
        return {"value": self.value, "u": self.u, "unit": self.unit, "dof": self.dof}

    @property
    def measured(self) -> Measured:
        u, dof = self.u, self.dof
        known = 0.0 if u is None else float("inf") if dof is None else dof
        return Measured(self.value, float("nan") if u is None else u, self.unit, known, self.shared)


class SharedRun(msgspec.Struct, frozen=True):
    """id: the same wherever the run is, made of its own bytes; source: digest of the bytes that it was recorded as; class_id: of
    the class, told apart from all others and saying nothing of it; group: its alias; words: conditions that are no numbers;
    aside: why it does not count."""

    id: str
    class_id: str
    group: str
    number: int
    began_at: str
    sent_at: str
    source: str
    conditions: dict[str, SharedNumber]
    findings: dict[str, SharedNumber]
    words: dict[str, str] = {}
    aside: str = ""


class SharedPool(msgspec.Struct, frozen=True):
    """What a lesson shares: its plan as a text, and the runs of its pool."""

    plan: str
    runs: tuple[SharedRun, ...]
    kind: str = "benchpool"
    version: int = 1
