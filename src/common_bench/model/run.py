"""Runs, moments, findings and their place in the pool, as they are kept."""

from __future__ import annotations

from typing import Literal

import msgspec

from common_bench.model.calibration import Calibration
from common_bench.model.measured import Measured
from common_bench.model.stream import ClockState, StreamFormat


class RunSetting(msgspec.Struct, frozen=True):
    """All that is needed to compute a run again from its bytes, as it was when the run began; applied_at: when
    its calibrations were put in the place of those it was made with, '' where they never were."""

    format: StreamFormat | None
    clock: ClockState
    calibrations: tuple[Calibration, ...]
    workings: tuple[str, ...]
    applied_at: str = ""


class Run(msgspec.Struct, frozen=True):
    """One recording by one group: bytes `begin` to `end` of a hearing. `state` open until closed."""

    id: int
    lesson: int
    group: int
    number: int
    hearing: int
    begin: int | None
    end: int | None
    state: Literal["asked", "open", "closed"]
    began_at: str
    ended_by: str
    setting: RunSetting | None
    aside: str = ""


class Moment(msgspec.Struct, frozen=True):
    id: int
    run: int
    t: float
    text: str


class Share(msgspec.Struct, frozen=True):
    """One entry in the list of what an uncertainty is made of."""

    name: str
    u: float


class Finding(msgspec.Struct, frozen=True):
    """A number worked up from a run. span in s since the run began; made_of in the finding's unit."""

    name: str
    measured: Measured
    span: tuple[float, float]
    n: int
    words: str
    made_of: tuple[Share, ...]
    working: str = ""
    run: int = 0
    id: int = 0


class PoolRow(msgspec.Struct, frozen=True):
    """One run in the class dataset, with its conditions and findings by name."""

    run: int
    group: int
    alias: str
    number: int
    conditions: dict[str, Measured]
    findings: dict[str, Measured]
    aside: str = ""
    note: str = ""
