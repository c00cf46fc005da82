"""Light and distance: a lamp on a ruler before a light sensor. Kits for a lesson of one's own: no plan is shipped for it."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.world import StandInBench, Truth, World

LAMP = 60.0  # lx m²: what the lamp gives at 1 m, times its distance squared
ROOM = 12.0  # lx that are there without the lamp
FOLLOWS = 0.15  # s
DISTANCES = (0.30, 0.36, 0.43, 0.52, 0.63, 0.75)  # m
DISTANCE = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(cm|m)\s*$")
NEAREST, FARTHEST = 0.05, 5.0  # m


@dataclass(frozen=True, kw_only=True)
class LampBench(StandInBench):
    """A sensor that shows so many counts for a lx, and where its group puts the lamp in m."""

    counts_per_lux: float
    distance: float
    offset: float  # m from the ruler's zero to the sensor's face


class LampKit(StandInKit):
    """A light sensor; the lamp stands somewhere on the ruler, or is off."""

    hello = b"light meter ready, gain 1 of 4"
    word = "light"

    def __init__(self, bench: LampBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.ruler = bench
        self._lux = ROOM
        self._towards = ROOM

    def hang(self, what: str) -> None:
        """A distance as `40 cm`, `lamp` at the group's own distance, or `nothing`: the lamp is off. Raises ValueError."""
        found = DISTANCE.match(what)
        if what == "nothing":
            self._towards = ROOM
        elif what == "lamp" or found:
            metres = float(found[1]) * (0.01 if found[2] == "cm" else 1.0) if found else self.ruler.distance
            if not NEAREST <= metres <= FARTHEST:
                raise ValueError(f"the ruler goes from {NEAREST * 100:g} cm to {FARTHEST:g} m")
            self._towards = ROOM + LAMP / (metres + self.ruler.offset) ** 2
        else:
            raise ValueError(f"“{what}” is no place for the lamp: say lamp, nothing, or a distance as 40 cm")
        self.hung = what

    def _follow(self, h: float) -> None:
        self._lux += (self._towards - self._lux) * (1 - math.exp(-h / FOLLOWS))

    def _shown(self) -> float:
        return self.ruler.counts_per_lux * self._lux


class LightAndDistance(World):
    """Slate's lamp stands 8 cm farther away than its group reads."""

    key = "light-and-distance"
    word = "light"
    before = ()
    hands = (
        ("lamp on the ruler", "lamp"),
        ("lamp off", "nothing"),
    )
    hang = "Do"

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[LampBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias, distance = ALIASES[place % len(ALIASES)], DISTANCES[place % len(DISTANCES)]
            far = alias == "Slate"
            benches.append(
                LampBench(
                    alias, counts_per_lux=1.0, distance=distance, offset=0.08 if far else 0.0,
                    clock_error=dice.gauss(0.0, 60e-6), noise=dice.uniform(0.8, 1.6),
                    stated={"distance": f"{distance + dice.gauss(0.0, 0.0005):.3f} ± 0.001 m"},
                    trouble="its lamp stands 8 cm farther away than its group reads" if far else "",
                    true={"distance in m": distance},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: LampBench, seed: int, **options: Any) -> LampKit:
        return LampKit(bench, seed, **options)

    def truth(self, benches: Sequence[LampBench]) -> Truth:
        return Truth("lamp", LAMP, "lx·m²")


WORLD = LightAndDistance()
