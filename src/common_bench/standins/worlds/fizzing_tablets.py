"""Fizzing tablets: a tablet in warm water gives off gas in a closed bottle; a sensor looks at the pressure above the air's."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.world import Act, StandInBench, Truth, World

TEMPERATURES = (10.0, 20.0, 30.0, 40.0)  # °C, of the water
STATED_WITHIN = 0.5  # °C, standard, of a group's thermometer
RATE_AT_20 = 0.8  # kPa/s, at the start in water of 20 °C
TEN_DEGREES = 2.0  # times as fast in water that is 10 °C warmer
MOST_GAS = 40.0  # kPa, of a whole tablet in the bottle
LEAK = 0.4  # share of the gas that a stopper lets out which does not close, of one group's bottle
COUNTS_PER_KPA, ZERO = 150.0, 420.0  # of the sensor, nominal
PRESSURE = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*kPa\s*$")


@dataclass(frozen=True, kw_only=True)
class BottleOfWater(StandInBench):
    """temperature in °C; leak: share of the gas that escapes; the sensor's scale in counts per kPa and its zero in counts."""

    temperature: float
    leak: float
    counts_per_kpa: float
    zero: float


class GasKit(StandInKit):
    """A pressure sensor on a bottle that is open, held at a known pressure by a syringe, or closed over a tablet."""

    hello = b"gas kit v1"
    word = "p_raw"

    def __init__(self, bench: BottleOfWater, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.bottle = bench
        self._pressure, self._kept_at, self._left = 0.0, 0.0, 0.0  # kPa; of gas still in the tablet
        self.hung = "0 kPa"

    def hang(self, what: str) -> None:
        """`open`, `tablet`, or a known pressure as `20 kPa`. Raises ValueError otherwise."""
        known = PRESSURE.match(what)
        self._left = 0.0
        if known:
            if float(known[1]) > 60:
                raise ValueError("the sensor takes 60 kPa at most")
            self._kept_at = float(known[1])
        elif what in ("open", "nothing"):
            self._kept_at = 0.0
        elif what == "tablet":
            self._kept_at, self._left, self._pressure = math.nan, MOST_GAS, 0.0
        else:
            raise ValueError(f"“{what}” cannot be done here: say open, tablet, or a pressure as 20 kPa")
        self.hung = what

    def _follow(self, h: float) -> None:
        if not math.isnan(self._kept_at):
            self._pressure = self._kept_at + (self._pressure - self._kept_at) * math.exp(-h / 0.05)
            return
        rate = RATE_AT_20 * TEN_DEGREES ** ((self.bottle.temperature - 20.0) / 10.0) / MOST_GAS
        given = self._left * (1 - math.exp(-rate * h))
        self._left -= given
        self._pressure += given * (1 - self.bottle.leak)

    def _shown(self) -> float:
        return self.bottle.zero + self.bottle.counts_per_kpa * self._pressure


class FizzingTablets(World):
    """Marble's bottle leaks."""

    key = "fizzing-tablets"
    word = "p_raw"
    before = (Act("open", 1.0),)
    after = (Act("tablet", 1.0),)
    settle = 1.0
    hands = (("open the bottle", "open"), ("drop a tablet in", "tablet"))
    hang = "Do"

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[BottleOfWater]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias, stated = ALIASES[place % len(ALIASES)], TEMPERATURES[place % len(TEMPERATURES)]
            leaks = alias == "Marble"
            true = stated + dice.gauss(0, STATED_WITHIN / 2)
            benches.append(
                BottleOfWater(
                    alias, temperature=true, leak=LEAK if leaks else 0.0, counts_per_kpa=COUNTS_PER_KPA * dice.gauss(1, 0.02),
                    zero=ZERO + dice.gauss(0, 5), clock_error=dice.gauss(0.0, 60e-6), noise=dice.uniform(2.0, 4.0),
                    stated={"temperature": f"{stated:g} ± {STATED_WITHIN:g} °C"},
                    trouble="its bottle leaks" if leaks else "",
                    true={"temperature in °C": true, "rate in kPa/s": RATE_AT_20 * TEN_DEGREES ** ((true - 20) / 10)},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: BottleOfWater, seed: int, **options: Any) -> GasKit:
        return GasKit(bench, seed, **options)

    def truth(self, benches: Sequence[BottleOfWater]) -> Truth:
        return Truth("growth", TEN_DEGREES, "")


WORLD = FizzingTablets()
