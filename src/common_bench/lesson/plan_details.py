"""What a plan says of a measured quantity besides its line: other names, points, ranges, thresholds, as text and back."""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec

from common_bench.model.calibration import PlannedPoint
from common_bench.model.measured import number, read_measured, written
from common_bench.model.plan import Plan, SensorPlan, Threshold
from common_bench.model.trouble import PlanTrouble


def _range(text: str, field: str) -> tuple[float, float] | None:
    if not text.strip():
        return None
    parts = [each.strip() for each in re.split(r"…|\.\.\.?|\bto\b", text) if each.strip()]
    try:
        low, high = (number(each) for each in parts)
    except ValueError:
        raise PlanTrouble("not-a-range", field=field) from None
    return low, high


def _warnings(text: str) -> tuple[Threshold, ...]:
    found = []
    for part in (each.strip() for each in text.split(";") if each.strip()):
        read = re.match(r"(above|below)\s+([^\s:]+)[^:]*:\s*(.+)$", part)
        if not read:
            raise PlanTrouble("not-a-threshold")
        try:
            value = number(read[2])
        except ValueError:
            raise PlanTrouble("not-a-threshold") from None
        found.append(Threshold(read[3], value if read[1] == "above" else None, value if read[1] == "below" else None))
    return tuple(found)


def _points(text: str, unit: str) -> tuple[PlannedPoint, ...]:
    """`nothing = 0 ± 0.001 N; check 350 g = 3.432 ± 0.004 N`"""
    found = []
    for part in (each.strip() for each in text.split(";") if each.strip()):
        label, sign, value = (each.strip() for each in part.partition("="))
        if not sign or not label:
            raise PlanTrouble("not-a-planned-point", unit=unit)
        read = read_measured(value, unit)
        check = label.lower().startswith("check ")
        found.append(PlannedPoint(label[6:].strip() if check else label, read.value, read.u, check))
    return tuple(found)


COMMON = re.compile(r"^([^:]*):\s*(?:([\d.,eE+-]*\d)(?!\S*\s*%)\s*[^\s%+]*)?\s*\+?\s*(?:([\d.,eE+-]*\d)\s*%)?\s*$")


def _against(text: str) -> dict[str, object]:
    """`one thermometer: 0.1`, `one set of masses: 0.2 %`, `a spring balance: 0.01 + 0.5 %`"""
    if not text.strip():
        return {"against": "", "common_u": 0.0, "common_share": 0.0}
    found = COMMON.match(text.strip())
    if not found or not (found[2] or found[3]):
        raise ValueError(text)
    values = [number(each) if each else 0.0 for each in (found[2], found[3])]
    return {"against": found[1].strip(), "common_u": values[0], "common_share": values[1] / 100}


def against_line(sensor: SensorPlan) -> str:
    """What all points are held against and the error that they have in common, as it is typed."""
    sizes = [f"{sensor.common_u:g}"] if sensor.common_u else []
    sizes += [f"{100 * sensor.common_share:g} %"] if sensor.common_share else []
    return f"{sensor.against}: {' + '.join(sizes)}" if sizes else ""


DETAILS: dict[str, tuple[str, str, Callable[[SensorPlan], str]]] = {
    "also": ("other names for it", "as volt*, (V)", lambda s: ", ".join(s.also)),
    "points": (
        "reference points", "as 0 V = 0 ± 0.001 V; check 3 V = 3 ± 0.002 V",
        lambda s: "; ".join(f"{'check ' if p.check else ''}{p.label} = {written(p.value, p.u, s.unit)}" for p in s.points),
    ),
    "against": (
        "held against", "as one thermometer: 0.1; one set of masses: 0.2 %",
        lambda s: against_line(s),
    ),
    "believed": ("believed from … to", "as 0 … 5; beyond it is a guess", lambda s: _ends(s.believed)),
    "warn": (
        "a tile turns amber", "as above 5.2: too high for the pin",
        lambda s: "; ".join(f"{'above' if w.above is not None else 'below'} {(w.above if w.above is not None else w.below):g}: {w.words}" for w in s.warn),
    ),
    "scale": ("axis of its graph", "as 0 … 5; free where empty", lambda s: _ends(s.scale)),
    "steady": (
        "counts as steady", "drift per s · scatter, as 0.001 · 0.01; proposed where empty",
        lambda s: f"{s.steady_drift:g} · {s.steady_scatter:g}" if s.steady_drift or s.steady_scatter else "",
    ),
    "raw_unit": (
        "unit of its raw numbers", "as counts; workings may then call the channel by its name", lambda s: s.raw_unit,
    ),
    "u": ("uncertainty", "as 0.02; of a number that comes as it is", lambda s: f"{s.u:g}" if s.u else ""),
    "digits": ("decimals", "as the uncertainty deserves where empty", lambda s: "" if s.digits is None else str(s.digits)),
    "edges": ("each line tells a change", "yes for a light gate that sends each change with its time", lambda s: "yes" if s.edges else ""),
}  # fmt: skip
"""entry -> (what it is called, how it is typed, how it stands)"""


def _ends(ends: tuple[float, float] | None) -> str:
    return f"{ends[0]:g} … {ends[1]:g}" if ends is not None else ""


def with_detail(plan: Plan, at: int, entry: str, text: str) -> Plan:
    """The plan with an entry of a measured quantity as it was typed. Raises Trouble where it cannot be read."""
    sensor = plan.sensors[at]
    changes: dict[str, object] = {}
    try:
        if entry == "raw_unit":
            changes["raw_unit"] = text.strip()
        elif entry == "also":
            changes["also"] = tuple(each.strip() for each in text.split(",") if each.strip())
        elif entry == "points":
            changes["points"] = _points(text, sensor.unit)
        elif entry == "against":
            changes |= _against(text)
        elif entry in ("believed", "scale"):
            changes[entry] = _range(text, DETAILS[entry][0])
        elif entry == "warn":
            changes["warn"] = _warnings(text)
        elif entry == "steady":
            drift, _, scatter = (part.strip() for part in text.replace(";", "·").partition("·"))
            changes |= {
                "steady_drift": number(drift) if drift else 0.0,
                "steady_scatter": number(scatter) if scatter else 0.0,
            }
        elif entry == "u":
            changes["u"] = number(text) if text.strip() else 0.0
        elif entry == "digits":
            changes["digits"] = int(text) if text.strip() else None
        else:
            changes["edges"] = text.strip().lower() in ("yes", "y", "true", "1")
    except ValueError:
        raise PlanTrouble("not-a-number-here", field=DETAILS[entry][0], example=DETAILS[entry][1]) from None
    return msgspec.structs.replace(
        plan, sensors=(*plan.sensors[:at], msgspec.structs.replace(sensor, **changes), *plan.sensors[at + 1 :])
    )
