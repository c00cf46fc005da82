"""Readings out as a pack of the Sensor Measurement Lists (SenML, RFC 8428), which many programs read."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import msgspec
import numpy as np

from common_bench.model.block import Series

UNITS = {"°C": "Cel", "ohm": "Ohm", "Ω": "Ohm", "deg": "deg", "°": "deg", "lux": "lx"}
"""As the registry of RFC 8428 calls them, where it does not call them as we do; others stand as they are."""
RAISED = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻·", "0123456789-.")
NO_NAME = re.compile(r"[^A-Za-z0-9\-:./_]+")  # RFC 8428, 4.5.1


def senml_pack(base: str, series: Mapping[str, Series], began: float | None) -> bytes:
    """Every known value of each quantity with its unit and time, in order of time. base: what the names begin with; began: s since
    1970 at which the series' time 0 was; where that is not known, times count from there and stay below 2^28 s, which by the RFC is
    from now."""
    records: list[tuple[float, dict[str, Any]]] = []
    for name, each in series.items():
        unit = UNITS.get(each.unit, each.unit.translate(RAISED).replace("^", ""))
        head = {"n": _name(name), **({"u": unit} if unit else {})}
        known = np.isfinite(each.values)
        times = zip(each.t[known].tolist(), each.values[known].tolist(), strict=True)
        records += [(t, {**head, "t": round(t, 6), "v": value}) for t, value in times]
    records.sort(key=lambda each: each[0])
    pack = [record for _, record in records]
    if pack:
        pack[0] = {"bn": f"{_name(base)}:", **({"bt": began} if began is not None else {}), **pack[0]}
    return msgspec.json.encode(pack)


def _name(text: str) -> str:
    plain = NO_NAME.sub("-", text).lstrip("-:./_")
    return plain or "x"
