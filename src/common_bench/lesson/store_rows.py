"""Rows of the bench book as values of the model, and back."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

import msgspec

from common_bench.book.changes import Row
from common_bench.links.address import Address, read_address
from common_bench.model.bench import Emblem, Group
from common_bench.model.calibration import Calibration, CurveChoice, Frame, Readings, ReferencePoint
from common_bench.model.measured import Measured
from common_bench.model.run import (
    Ending,
    Finding,
    KeptTrouble,
    Prediction,
    Run,
    RunSetting,
    Share,
    TakenPoint,
    shared_of,
)
from common_bench.model.stream import StreamFormat
from common_bench.model.trouble import Trouble


def group_of(row: Row) -> Group:
    """A row of `group`."""
    return Group(
        row["id"],
        row["alias"],
        Emblem(row["shape"], row["colour"]),
        row["position"],
        row["initials"],
        bool(row["gone"]),
    )


def format_of(row: Row) -> StreamFormat | None:
    """The stream format of a row of `kit`; None where none is known."""
    return msgspec.json.decode(row["format"], type=StreamFormat) if row["format"] else None


def measured_of(row: Row) -> Measured:
    """value, u and unit of a row."""
    u, dof = row["u"], row.get("dof")
    return Measured(
        row["value"], math.nan if u is None else u, row["unit"],
        0.0 if u is None else math.inf if dof is None else dof,
    )  # fmt: skip


def condition_row(value: Measured | str) -> Row:
    """The columns of a condition that say its value."""
    if isinstance(value, str):
        return {"value": None, "u": None, "unit": "", "words": value}
    return {"value": value.value, "u": value.u, "unit": value.unit, "words": ""}


def point_of(row: Row) -> ReferencePoint:
    """A row of `reference_point`."""
    return ReferencePoint(
        row["label"], row["reading"], row["u_reading"], row["reference"], row["u_reference"], row["unit"], row["n"],
        row["scatter"], row["seconds"], row["taken_at"], bool(row["is_check"]), row["id"], row["step"], row["independent"],
        row["drift"], row["board"], row["reason"], row["against"], row["channel"],
        msgspec.json.decode(row["readings"] or "{}", type=Readings),
    )  # fmt: skip


def point_row(point: ReferencePoint) -> Row:
    """The columns of `reference_point`, without lesson and kit."""
    return {
        "channel": point.channel, "label": point.label, "reading": point.reading, "u_reading": point.u_reading, "reference": point.reference,
        "u_reference": point.u_reference, "unit": point.unit, "n": point.n, "scatter": point.scatter,
        "seconds": point.seconds, "taken_at": point.taken_at, "is_check": int(point.check), "aside": "",
        "step": point.step, "independent": point.independent, "drift": point.drift, "board": point.board,
        "reason": point.reason, "against": point.against, "readings": msgspec.json.encode(point.readings).decode(),
    }  # fmt: skip


def calibration_of(row: Row) -> Calibration:
    """A row of `calibration`."""
    return Calibration(
        row["channel"], row["quantity"], row["unit"], row["curve"], tuple(json.loads(row["parameters"])),
        tuple(tuple(each) for each in json.loads(row["covariance"])), (row["range_low"], row["range_high"]),
        msgspec.json.decode(row["points"], type=tuple[ReferencePoint, ...]), row["noise"], row["step"], row["made_at"], row["id"],
        msgspec.json.decode(row["frame"] or "{}", type=Frame), msgspec.json.decode(row["choice"] or "{}", type=CurveChoice),
        row["chi_square"] or 0.0, row["dof"] or 0, row["rms_residual"] or 0.0, u_dof=row["u_dof"],
    )  # fmt: skip


def _without_readings(calibration: Calibration) -> list[ReferencePoint]:
    """The points as a calibration keeps them; their single readings stay in their own rows."""
    return [msgspec.structs.replace(point, readings=Readings()) for point in calibration.points]


def calibration_row(kit: int, calibration: Calibration) -> Row:
    """The columns of `calibration`."""
    return {
        "kit": kit, "channel": calibration.channel, "quantity": calibration.quantity, "unit": calibration.unit,
        "curve": calibration.curve, "parameters": json.dumps(calibration.parameters),
        "covariance": json.dumps(calibration.covariance), "range_low": calibration.range[0],
        "range_high": calibration.range[1], "points": msgspec.json.encode(_without_readings(calibration)).decode(),
        "noise": calibration.noise, "step": calibration.step, "made_at": calibration.made_at, "aside": "",
        "frame": msgspec.json.encode(calibration.frame).decode(), "choice": msgspec.json.encode(calibration.choice).decode(),
        "chi_square": calibration.chi_square, "dof": calibration.dof, "rms_residual": calibration.rms_residual,
        "u_dof": calibration.u_dof,
    }  # fmt: skip


def run_of(row: Row) -> Run:
    """A row of `run`."""
    setting = msgspec.json.decode(row["setting"], type=RunSetting) if row["setting"] else None
    return Run(
        row["id"], row["lesson"], row["group"], row["number"], row["session"], row["begin_byte"], row["end_byte"],
        row["state"], row["began_at"], msgspec.json.decode(row["ending"], type=Ending) if row["ending"] else None, setting,
        row["aside"], msgspec.json.decode(row["trouble"], type=KeptTrouble) if row["trouble"] else None, row["note"],
        tuple(each for each in row["lacks"].split("\n") if each), bool(row["practice"]),
        msgspec.json.decode(row["spans"], type=dict[str, tuple[float, float]]) if row["spans"] else {},
    )  # fmt: skip


def prediction_of(row: Row) -> Prediction:
    """A row of `prediction`."""
    points = msgspec.json.decode(row["points"] or "[]", type=list[tuple[float, float]])
    t, values = zip(*points, strict=True) if points else ((), ())
    return Prediction(row["id"], row["group"], row["run"], row["quantity"], row["unit"], tuple(t), tuple(values))


def taken_point_of(row: Row) -> TakenPoint:
    """A row of `taken_point`."""
    shown = msgspec.json.decode(row["shown"], type=dict[str, Measured]) if row["shown"] else {}
    value = Measured(row["value"], row["u"], row["unit"])
    return TakenPoint(
        row["id"], row["run"], row["name"], value, row["t_from"], row["t_to"], row["taken_at"], row["aside"], shown
    )


def finding_of(row: Row) -> Finding:
    """A row of `finding`."""
    made_of = msgspec.json.decode(row["made_of"], type=tuple[Share, ...])
    return Finding(
        row["name"], msgspec.structs.replace(measured_of(row), shared=shared_of(made_of)), (row["span_from"], row["span_to"]),
        row["n"], row["words"], made_of, row["working"], row["run"], row["id"], row["guesses"] or 0, tuple(row["doubts"].split()),
    )  # fmt: skip


def finding_row(finding: Finding) -> dict[str, Any]:
    """The columns of `finding`, without run and time."""
    return {
        "name": finding.name, "value": finding.measured.value, "u": finding.measured.u, "unit": finding.measured.unit,
        "span_from": finding.span[0], "span_to": finding.span[1], "n": finding.n, "words": finding.words,
        "made_of": msgspec.json.encode(finding.made_of).decode(), "working": finding.working, "guesses": finding.guesses,
        "dof": finding.measured.dof if math.isfinite(finding.measured.dof) else None, "doubts": " ".join(finding.doubts),
    }  # fmt: skip


def as_remembered(address: Address, link: str) -> Address:
    """The address with the speed and settings under which the kit was last heard."""
    try:
        kept = read_address(link)
    except Trouble:
        return address
    return replace(address, speed=kept.speed, settings=kept.settings) if kept.kind == address.kind else address


def applied_words(setting: RunSetting | None) -> str:
    """`calibrated afterwards, 25 Nov 12:03` for a run that did not keep the calibration it was made with."""
    if setting is None or not setting.applied_at:
        return ""
    return f"calibrated afterwards, {datetime.fromisoformat(setting.applied_at):%-d %b %H:%M}"


def numbers_in(stated: Mapping[str, Measured | str]) -> dict[str, Measured]:
    """Those of what was stated that are numbers."""
    return {name: value for name, value in stated.items() if not isinstance(value, str)}


def stated_in(rows: Sequence[Row]) -> dict[str, Measured | str]:
    """Name -> value, of rows of conditions."""
    found: dict[str, Measured | str] = {}
    for row in rows:
        if row["words"]:
            found[row["name"]] = str(row["words"])
        elif row["value"] is not None:
            found[row["name"]] = measured_of(row)
    return found
