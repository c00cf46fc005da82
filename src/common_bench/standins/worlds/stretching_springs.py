"""Stretching springs: masses are hung on a spring one after the other; a sensor below sees how far away the pan hangs."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.world import StandInBench, Truth, World

G = 9.81  # m/s²
PER_COIL = 1.62  # mm/N, by which one coil of this wire gives way
COILS = (20, 25, 30, 35, 40, 45)
WIRES_WITHIN = 0.004  # relative: how far springs of one wire differ
SETTLES = 0.6  # s in which a swing falls to a third
PAN = 0.03  # kg that hang on it always
PULLED = 1.22  # by which the spring that was pulled past its limit gives way more than its coils say
LIMIT, GIVES = 2.5, 0.05  # N from which on it gives way still more, and by how much
AWAY = 400.0  # mm from the sensor to the unloaded pan, about
SPREAD = 0.25  # mm, by which readings scatter
MASS = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*g\s*$")


@dataclass(frozen=True, kw_only=True)
class SpringBench(StandInBench):
    """compliance in mm/N; away: mm from the sensor to the empty pan; pulled: past its limit once."""

    coils: int
    compliance: float
    away: float
    pulled: bool


class SpringKit(StandInKit):
    """A spring with a pan; tenths of millimetres are sent."""

    hello = b"ranger v1"
    word = "dist"

    def __init__(self, bench: SpringBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.spring = bench
        self._mass = 0.0
        self._off, self._since = 0.0, 1e9  # mm and s of the swing since something was hung
        self.hung = "0 g"

    def hang(self, what: str) -> None:
        """A mass as `150 g`, or `nothing`. Raises ValueError otherwise."""
        found = MASS.match("0 g" if what == "nothing" else what)
        if not found or float(found[1]) > 1000:
            raise ValueError(f"“{what}” cannot be hung here: say a mass up to 1000 g, as 150 g")
        before = self._stretch()
        self._mass = float(found[1]) / 1000
        self._off, self._since = before - self._stretch(), 0.0
        self.hung = what

    def _stretch(self) -> float:
        """How far the load pulls it in the end, in mm."""
        force = self._mass * G
        more = max(0.0, force - LIMIT) * GIVES if self.spring.pulled else 0.0
        return (force + more) * self.spring.compliance * (PULLED if self.spring.pulled else 1.0)

    def _follow(self, h: float) -> None:
        self._since += h

    def _shown(self) -> float:
        pace = math.sqrt(1000 / self.spring.compliance / (self._mass + PAN))  # rad/s
        swing = self._off * math.exp(-self._since / SETTLES) * math.cos(pace * self._since)
        return 10 * (self.spring.away - self._stretch() - swing)


class StretchingSprings(World):
    """Chalk's spring was pulled past its limit once: it gives way more than its coils say."""

    key = "stretching-springs"
    word = "dist"
    settle = 3.5
    hands = (("take all off", "0 g"), *((f"hang {mass} g", f"{mass} g") for mass in range(50, 400, 50)))

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[SpringBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias, coils = ALIASES[place % len(ALIASES)], COILS[place % len(COILS)]
            wrong = alias == "Chalk"
            compliance = PER_COIL * coils * dice.gauss(1, WIRES_WITHIN)
            benches.append(
                SpringBench(
                    alias, coils=coils, compliance=compliance, away=AWAY + dice.uniform(-15, 15), pulled=wrong,
                    clock_error=dice.gauss(0.0, 60e-6), noise=10 * SPREAD * dice.uniform(0.8, 1.2),
                    stated={"coils": f"{coils} ± 0.1"},
                    trouble="its spring was pulled past its limit" if wrong else "",
                    true={"spring constant in N/m": 1000 / compliance},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: SpringBench, seed: int, **options: Any) -> SpringKit:
        return SpringKit(bench, seed, **options)

    def truth(self, benches: Sequence[SpringBench]) -> Truth:
        return Truth("softness", PER_COIL, "mm/N")


WORLD = StretchingSprings()
