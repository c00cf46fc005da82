"""Drying sponges: a wet sponge loses its water to dry air for days, on a scale that logs on a memory card with a clock that nobody
set."""

from __future__ import annotations

import math
import os
import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.world import StandInBench, Truth, World

TRANSFER = 0.020  # g/h from each cm² into air without any water in it
AREAS = (70.0, 95.0, 120.0, 85.0, 105.0, 60.0)  # cm²
HUMIDITIES = (30.0, 40.0, 50.0, 60.0, 70.0, 35.0)  # %, of the boxes in which they dry
AREA_WITHIN = 2.0  # cm², standard, of a group's ruler
FORGOTTEN = 0.55  # of its area, that a group has stated which counted only some sides
DAYS, STEP = 3.0, 120.0  # of the log; s between its rows
BATTERY, CHANGED = (1.2, 1.3)  # days after which a battery was changed, and its logger went on
BEGAN = datetime(2026, 11, 20, 16, 30)
NEVER_SET = datetime(2000, 1, 1)


@dataclass(frozen=True, kw_only=True)
class Sponge(StandInBench):
    """area in cm²; humidity of its air in %; water and dry mass in g; scale: relative error of its scale."""

    area: float
    humidity: float
    water: float
    dry: float

    def mass(self, hours: float) -> float:
        """g; what is wet of its surface shrinks with the water that is left."""
        rate = TRANSFER * self.area * (1 - self.humidity / 100)
        return self.dry + self.water * math.exp(-rate / self.water * hours)


class ScaleKit(StandInKit):
    """The scale by itself, for whoever would rather watch a sponge dry."""

    hello = b"scale logger v2"
    word = "mass"

    def __init__(self, bench: Sponge, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.sponge, self._hours, self._wet = bench, 0.0, False

    def hang(self, what: str) -> None:
        """`sponge` or `nothing`. Raises ValueError otherwise."""
        if what not in ("sponge", "nothing"):
            raise ValueError(f"“{what}” cannot be laid on the scale: say sponge or nothing")
        self._wet, self._hours, self.hung = what == "sponge", 0.0, what

    def _follow(self, h: float) -> None:
        self._hours += h / 3600

    def _shown(self) -> float:
        return self.sponge.mass(self._hours) if self._wet else 0.0


def _rows(bench: Sponge, dice: random.Random) -> list[tuple[float, float, float, float]]:
    """(s since the beginning, mass in g, humidity in %, temperature in °C), of each row that was written."""
    found = []
    for row in range(int(DAYS * 86_400 / STEP)):
        t = row * STEP * (1 + bench.clock_error)
        swing = math.sin(2 * math.pi * t / 86_400)
        mass = bench.mass(t / 3600) + dice.gauss(0, bench.noise)
        found.append(
            (t, mass, bench.humidity + 0.6 * swing + dice.gauss(0, 0.3), 20.5 + 1.2 * swing + dice.gauss(0, 0.05))
        )
    return found


Rows = list[tuple[float, float, float, float]]


def _never_set(rows: Rows, alias: str) -> dict[str, str]:
    lines = [
        f"{NEVER_SET + timedelta(seconds=12 + t):%d/%m/%Y,%H:%M:%S},{m:.2f},{h:.1f},{c:.1f}" for t, m, h, c in rows
    ]
    return {f"{alias} LOG00001.CSV": "\n".join(["date,time,mass (g),hum (%),temp (°C)", *lines, ""])}


def _decimal_comma(rows: Rows, alias: str) -> dict[str, str]:
    lines = [
        f"{BEGAN + timedelta(seconds=t):%d.%m.%Y;%H:%M:%S};{f'{m:.2f};{h:.1f};{c:.1f}'.replace('.', ',')};"
        for t, m, h, c in rows
    ]
    return {f"{alias} log.csv": "\r\n".join(["date;time;mass (g);hum (%);temp (°C);", *lines, ""])}


def _a_year_off(rows: Rows, alias: str) -> dict[str, str]:
    wrong = BEGAN.replace(year=BEGAN.year - 1)
    lines = [
        f"{(wrong + timedelta(seconds=t)).isoformat(timespec='seconds')}\t{m:.2f}\t{h:.1f}\t{c:.1f}"
        for t, m, h, c in rows
    ]
    return {f"{alias}.txt": "\n".join(["stamp\tmass\thum\ttemp", "\tg\t%\t°C", *lines, ""])}


def _only_millis(rows: Rows, alias: str) -> dict[str, str]:
    lines = [f"{round(1000 * (t + 3.2))},{m:.2f},{h:.1f},{c:.1f}," for t, m, h, c in rows]
    return {f"{alias}.csv": "\n".join(["# scale logger v2", "millis,mass (g),hum (%),temp (°C),", *lines, "41"])}


def _two_files(rows: Rows, alias: str) -> dict[str, str]:
    """Its battery was changed, and its logger began another file."""
    parts = [
        [row for row in rows if row[0] < BATTERY * 86_400],
        [row for row in rows if row[0] >= CHANGED * 86_400],
    ]
    return {
        f"{alias} {number}.csv": "\n".join([
            "time;mass (g);hum (%)", *(f"{(BEGAN + timedelta(seconds=t)).isoformat(sep=' ', timespec='seconds')};{m:.2f};{h:.1f}" for t, m, h, _ in part), "",
        ])
        for number, part in enumerate(parts, 1)
    }  # fmt: skip


def _restarted(rows: Rows, alias: str) -> dict[str, str]:
    """Its power failed: bytes of nothing, its names again, and its clock began anew."""
    head, lines, began = "date;time;mass (g);hum (%)", list[str](), 0.0
    for t, m, h, _ in rows:
        if began == 0.0 and t >= 2 * 86_400:
            began = t
            lines += ["\x00" * 200, head]
        lines.append(f"{NEVER_SET + timedelta(seconds=5 + t - began):%Y-%m-%d;%H:%M:%S};{m:.2f};{h:.1f}")
    return {f"{alias} data.txt": "\n".join([head, *lines, ""])}


HABITS: tuple[Callable[[Rows, str], dict[str, str]], ...] = (_never_set, _decimal_comma, _a_year_off, _only_millis, _two_files, _restarted)  # fmt: skip


class DryingSponges(World):
    """Slate counted some sides of its sponge alone."""

    key = "drying-sponges"
    word = "mass"
    hands = (("lay the sponge on", "sponge"), ("take it off", "nothing"))
    hang = "Lay on"
    logs = True

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[Sponge]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias = ALIASES[place % len(ALIASES)]
            area, humidity = AREAS[place % len(AREAS)] * dice.uniform(0.97, 1.03), HUMIDITIES[place % len(HUMIDITIES)]
            forgets = alias == "Slate"
            stated = (area + dice.gauss(0, AREA_WITHIN)) * (FORGOTTEN if forgets else 1.0)
            benches.append(
                Sponge(
                    alias, area=area, humidity=humidity, water=dice.uniform(35, 45), dry=dice.uniform(8, 12),
                    clock_error=dice.gauss(0.0, 60e-6), noise=dice.uniform(0.02, 0.04),
                    stated={"area": f"{stated:.0f} ± {AREA_WITHIN:g} cm^2"},
                    trouble="it counted only some sides of its sponge" if forgets else "",
                    true={"area in cm^2": area, "humidity in %": humidity},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: Sponge, seed: int, **options: Any) -> ScaleKit:
        return ScaleKit(bench, seed, **options)

    def cards(self, folder: Path, count: int = 6, seed: int = 9) -> list[Path]:
        folder.mkdir(parents=True, exist_ok=True)
        found = []
        for place, bench in enumerate(self.benches(count, seed)):
            rows = _rows(bench, random.Random(f"{seed}/{bench.alias}"))
            for name, text in HABITS[place % len(HABITS)](rows, bench.alias).items():
                path = folder / name
                path.write_bytes(text.encode())
                ended = (BEGAN + timedelta(days=DAYS)).timestamp()
                os.utime(path, (ended, ended))
                found.append(path)
        return found

    def truth(self, benches: Sequence[Sponge]) -> Truth:
        return Truth("transfer", TRANSFER, "g/(h·cm^2)")


WORLD = DryingSponges()
