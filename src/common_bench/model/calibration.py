"""Reference points and calibrations as they are kept."""

from __future__ import annotations

import re

import msgspec


def curve_key(name: str) -> str:
    """The key by which a curve is kept, from its key or its name: `straight line` gives `straight-line`."""
    return "-".join(re.findall(r"[a-z0-9]+", name.lower()))


class PlannedPoint(msgspec.Struct, frozen=True):
    """A reference point that the plan asks for: what is hung or held, its value and uncertainty."""

    label: str
    value: float
    u: float
    check: bool = False


class Readings(msgspec.Struct, frozen=True):
    """The single readings that a point was taken from: t in s before it was taken, raw numbers."""

    t: tuple[float, ...] = ()
    raw: tuple[float, ...] = ()


class ReferencePoint(msgspec.Struct, frozen=True):
    """A known value and the raw reading taken at it.

    reading, u_reading: mean and its standard uncertainty (raw unit), `step` / √12 of resolution and
    what it drifted included; scatter: standard deviation of the readings; independent: how many
    independent readings the n over `seconds` are worth; drift: raw unit per s; reference,
    u_reference in `unit`; taken_at ISO 8601; board: temperature of the board in °C where it is sent;
    reason: why it was taken before it was steady; against: the bench whose calibrated sensor gave
    the reference.
    """

    label: str
    reading: float
    u_reading: float
    reference: float
    u_reference: float
    unit: str
    n: int = 1
    scatter: float = 0.0
    seconds: float = 0.0
    taken_at: str = ""
    check: bool = False
    id: int = 0
    step: float = 0.0
    independent: float = 1.0
    drift: float = 0.0
    board: float | None = None
    reason: str = ""
    against: str = ""
    channel: str = ""
    readings: Readings = Readings()


class Frame(msgspec.Struct, frozen=True):
    """What a curve's parameters are counted from, so that they keep their digits far from zero.

    Polynomials take (reading − origin) / scale, curves with a logarithm or a power reading / origin.
    factor, offset: from the raw unit to the quantity's (offset only), or from K to it (thermistors).
    knots: the readings of a table's points, in order.
    """

    origin: float = 0.0
    scale: float = 1.0
    factor: float = 1.0
    offset: float = 0.0
    knots: tuple[float, ...] = ()


class CurveChoice(msgspec.Struct, frozen=True):
    """Which curve (its key) and what comes before it.

    steps: workings that lead from `reading` to what the curve takes, as counts to voltage to
    resistance; formula: for the curve “formula”, the working that gives the quantity; u: its stated
    standard uncertainty in the quantity's unit; raw_unit: unit of `reading`; against: what all reference points were
    held against, as one thermometer or one set of masses, whose error they have in common: common_u in the quantity's
    unit, common_share of the reference value.
    """

    curve: str = "straight-line"
    steps: tuple[str, ...] = ()
    formula: str = ""
    u: float = 0.0
    raw_unit: str = ""
    against: str = ""
    common_u: float = 0.0
    common_share: float = 0.0

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "curve", curve_key(self.curve))


class Calibration(msgspec.Struct, frozen=True):
    """A curve (its key) from raw reading to quantity.

    parameters and covariance in the order that the curve's entry in the table of curves gives and
    counted from `frame`, the covariance empty where it is not known, and known from u_dof degrees of freedom (None: not
    limited); range: what the curve takes (raw readings, or what `choice.steps` make of
    them), between its points; noise, step: scatter of single readings at the points and resolution
    (raw unit); chi_square over `dof` degrees of freedom; rms_residual: how far the points lie, or may lie,
    from the curve (rms, in the quantity's unit). As the plan has it when it is put to use: heard_as, the column in which
    this kit sends the channel, where it is another; believed, the range of the quantity outside which it is a guess; edges,
    whether each change of an on/off signal has a line of its own.
    """

    channel: str
    quantity: str
    unit: str
    curve: str
    parameters: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]
    range: tuple[float, float]
    points: tuple[ReferencePoint, ...]
    noise: float = 0.0
    step: float = 0.0
    made_at: str = ""
    id: int = 0
    frame: Frame = Frame()
    choice: CurveChoice = CurveChoice()
    chi_square: float = 0.0
    dof: int = 0
    rms_residual: float = 0.0
    heard_as: str = ""
    believed: tuple[float, float] | None = None
    edges: bool = False
    u_dof: float | None = None

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "curve", curve_key(self.curve))
