"""Swinging bottles: a bottle hangs on a string from a load cell. The real equation of motion, finite amplitude, damping."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.pendulum import GRAVITY, Pendulum
from common_bench.standins.world import Act, StandInBench, Truth, World

LENGTHS = (0.50, 0.62, 0.66, 0.90, 1.10, 1.30)  # m, true
BOTTLE = 0.220  # kg
SETTLING = 0.25  # s, how fast the cell follows a new load
LET_GO_AT = 0.20  # rad
WRONG = 0.09  # m by which one group measures too far
U_LENGTH = 0.003  # m
MASS = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(g|kg)\s*$")


@dataclass(frozen=True, kw_only=True)
class BottleBench(StandInBench):
    """A load cell and a string of a true length, and the length that its group states."""

    length: float
    zero: int
    counts_per_newton: float
    damping: float  # 1/s


class BottleKit(StandInKit):
    """A load cell on which a mass hangs still or a bottle swings."""

    hello = b"swing kit v3, zero done"

    def __init__(self, bench: BottleBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.bottle = bench
        self._load = 0.0  # N that hangs still
        self._cell = 0.0  # N that the cell shows
        self._pendulum: Pendulum | None = None

    def hang(self, what: str) -> None:
        """`nothing`, a mass as `100 g`, or `bottle` (pulled aside and let go). Raises ValueError otherwise."""
        mass = MASS.match(what)
        if mass:
            kilograms = float(mass[1]) / (1000 if mass[2] == "g" else 1)
            if kilograms > 20:
                raise ValueError("the load cell carries 20 kg at most")
            self._load, self._pendulum = kilograms * GRAVITY, None
        elif what == "nothing":
            self._load, self._pendulum = 0.0, None
        elif what == "bottle":
            angle = LET_GO_AT * self._dice.uniform(0.95, 1.05)
            self._pendulum = Pendulum(self.bottle.length, BOTTLE, self.bottle.damping, angle)
        else:
            raise ValueError(f"“{what}” cannot be hung: say nothing, a mass as 100 g, or bottle")
        self.hung = what

    def _follow(self, h: float) -> None:
        if self._pendulum is not None:
            self._pendulum.step(h)
            self._cell = self._pendulum.tension
        else:
            self._cell += (self._load - self._cell) * (1 - math.exp(-h / SETTLING))

    def _shown(self) -> float:
        return self.bottle.zero + self.bottle.counts_per_newton * self._cell


class SwingingBottles(World):
    """Flint has measured its string to the wrong place, 9 cm too far."""

    key = "swinging-bottles"
    before = (Act("bottle", 0.8),)
    hands = (("bottle, let go", "bottle"),)

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[BottleBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            length, alias = LENGTHS[place % len(LENGTHS)], ALIASES[place % len(ALIASES)]
            error = dice.gauss(0.0, 0.0015)
            off = WRONG if alias == "Flint" else 0.0
            benches.append(
                BottleBench(
                    alias, zero=round(dice.gauss(8400, 2500)), counts_per_newton=dice.gauss(101_700, 1500),
                    clock_error=dice.gauss(0.0, 60e-6), damping=1 / dice.uniform(45, 65), noise=dice.uniform(25, 35),
                    length=length, stated={"length": f"{round(length + error + off, 3)} ± {U_LENGTH} m"},
                    trouble="its length is measured to the wrong place, 9 cm too far" if off else "",
                    true={"length in m": length},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: BottleBench, seed: int, **options: Any) -> BottleKit:
        return BottleKit(bench, seed, **options)

    def truth(self, benches: Sequence[BottleBench]) -> Truth:
        return Truth("g", GRAVITY, "m/s²")


WORLD = SwingingBottles()
