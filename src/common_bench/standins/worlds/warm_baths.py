"""Warm baths: a thermistor in a divider with a fixed resistor, held into baths; it takes its time to follow."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import RATE, StandInKit
from common_bench.standins.world import Act, StandInBench, Truth, World

ROOM = 20.0  # °C
TRIED = 37.0  # °C, the bath in which all are compared
DIVIDER_FULL, DIVIDER_OHMS = 4095, 10_000  # counts of the converter, fixed resistor
BATH = re.compile(r"^\s*([-−]?\d+(?:\.\d+)?)\s*°?C\s*$")
MOST_RATE = 10.0  # readings per second of a kit with a thermistor


@dataclass(frozen=True, kw_only=True)
class BathBench(StandInBench):
    """A thermistor, and how long its probe takes to follow."""

    ohms_at_room: float  # at 25 °C
    b: float  # K
    settling: float  # s


class BathKit(StandInKit):
    """A thermistor in a divider with a fixed resistor, held into baths; it takes its time to follow."""

    hello = b"bath kit v1, probe on"
    word = "probe"

    def __init__(self, bench: BathBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **{**options, "rate": min(options.get("rate", RATE), MOST_RATE)})
        self.bath = bench
        self._around = self._probe = ROOM  # °C
        self.hung = f"{ROOM:g} °C"

    def hang(self, what: str) -> None:
        """A bath as `40 °C`, or `nothing` for the room's air."""
        found = BATH.match(what)
        if not found and what != "nothing":
            raise ValueError(f"the probe cannot be held into “{what}”: say a bath as 40 °C, or nothing")
        degrees = float(found[1].replace("−", "-")) if found else ROOM
        if not -20 <= degrees <= 105:
            raise ValueError("a bath has −20 to 105 °C")
        self._around = degrees
        self.hung = what

    def _follow(self, h: float) -> None:
        self._probe += (self._around - self._probe) * (1 - math.exp(-h / self.bath.settling))

    def _shown(self) -> float:
        kelvin = self._probe + 273.15
        ohms = self.bath.ohms_at_room * math.exp(self.bath.b * (1 / kelvin - 1 / 298.15))
        return DIVIDER_FULL * ohms / (ohms + DIVIDER_OHMS)


class WarmBaths(World):
    """Marble's probe sits in a thick sleeve and follows slowly."""

    key = "warm-baths"
    word = "probe"
    before = (Act("nothing", 8.0), Act(f"{TRIED:g} °C", 14.0))
    settle = 10.0
    hands = ((f"{TRIED:g} °C", f"{TRIED:g} °C"),)
    hang = "Hold in"

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[BathBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias = ALIASES[place % len(ALIASES)]
            slow = alias == "Marble"
            benches.append(
                BathBench(
                    alias, ohms_at_room=dice.gauss(10_000, 150), b=dice.gauss(3950, 25),
                    settling=12.0 if slow else dice.uniform(1.5, 3.0), clock_error=dice.gauss(0.0, 60e-6),
                    noise=dice.uniform(0.6, 1.2),
                    trouble="its probe sits in a thick sleeve and follows slowly" if slow else "",
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: BathBench, seed: int, **options: Any) -> BathKit:
        return BathKit(bench, seed, **options)

    def truth(self, benches: Sequence[BathBench]) -> Truth:
        return Truth("bath", TRIED, "°C")


WORLD = WarmBaths()
