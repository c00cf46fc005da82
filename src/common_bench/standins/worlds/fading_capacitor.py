"""Fading capacitor: a charged capacitor empties through a resistor; a converter of ten bits looks at its voltage."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.world import Act, StandInBench, Truth, World

RESISTANCES = (1.0, 2.2, 4.7, 6.8, 10.0, 15.0)  # kΩ, as printed
PRINTED_WITHIN = 0.01  # relative, standard
CAPACITANCE = 455e-6  # F, of the batch
CAPACITORS_WITHIN = 0.006  # relative: how far those of one batch differ
SUPPLY = 4.80  # V
CHARGING = 100.0  # ohm, through which it is charged
FULL = 1023  # counts of the converter at its reference
REFERENCE = 5.0  # V, nominal
WRONG = 1.2  # by which one group's resistor is larger than it says
VOLTAGE = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*V\s*$")


@dataclass(frozen=True, kw_only=True)
class CapacitorBench(StandInBench):
    """A capacitor in F and a resistor in ohm; the converter's scale in counts per V and its zero in counts."""

    capacitance: float
    resistance: float
    counts_per_volt: float
    zero: float


class CapacitorKit(StandInKit):
    """A converter on a capacitor that is charged, or let go; or on a known voltage."""

    hello = b"volt kit v2"
    word = "a0"

    def __init__(self, bench: CapacitorBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.circuit = bench
        self._voltage = 0.0
        self._towards = 0.0
        self._tau = 0.01
        self.hung = "0 V"

    def hang(self, what: str) -> None:
        """`charged`, `let go`, or a known voltage as `2.50 V`. Raises ValueError otherwise."""
        known = VOLTAGE.match(what)
        if known:
            if float(known[1]) > REFERENCE:
                raise ValueError(f"the converter takes {REFERENCE:g} V at most")
            self._towards, self._tau = float(known[1]), 0.005
        elif what == "nothing":
            self._towards, self._tau = 0.0, 0.005
        elif what == "charged":
            self._towards, self._tau = SUPPLY, CHARGING * self.circuit.capacitance
        elif what == "let go":
            self._towards, self._tau = 0.0, self.circuit.resistance * self.circuit.capacitance
        else:
            raise ValueError(f"“{what}” cannot be done here: say charged, let go, or a voltage as 2.50 V")
        self.hung = what

    def _follow(self, h: float) -> None:
        self._voltage = self._towards + (self._voltage - self._towards) * math.exp(-h / self._tau)

    def _shown(self) -> float:
        return min(float(FULL), self.circuit.zero + self.circuit.counts_per_volt * self._voltage)


class FadingCapacitor(World):
    """Marble's resistor is a fifth larger than its group reads on it."""

    key = "fading-capacitor"
    word = "a0"
    before = (Act("charged", 1.5),)
    after = (Act("let go", 1.0),)
    settle = 1.0
    hands = (
        ("charge it", "charged"),
        ("let it go", "let go"),
    )
    hang = "Do"

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[CapacitorBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias, printed = ALIASES[place % len(ALIASES)], RESISTANCES[place % len(RESISTANCES)]
            wrong = alias == "Marble"
            true = printed * dice.gauss(1, PRINTED_WITHIN / 2) * (WRONG if wrong else 1.0)
            capacitance = CAPACITANCE * dice.gauss(1, CAPACITORS_WITHIN)
            benches.append(
                CapacitorBench(
                    alias, capacitance=capacitance, resistance=1000 * true,
                    counts_per_volt=FULL / REFERENCE * dice.gauss(1, 0.01), zero=dice.gauss(2.0, 1.0),
                    clock_error=dice.gauss(0.0, 60e-6), noise=dice.uniform(0.4, 0.8),
                    stated={"resistance": f"{printed:g} ± {printed * PRINTED_WITHIN:.3g} kΩ"},
                    trouble="its resistor is a fifth larger than its group reads on it" if wrong else "",
                    true={"resistance in kΩ": true, "capacitance in µF": capacitance * 1e6},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: CapacitorBench, seed: int, **options: Any) -> CapacitorKit:
        return CapacitorKit(bench, seed, **options)

    def truth(self, benches: Sequence[CapacitorBench]) -> Truth:
        return Truth("capacitance", CAPACITANCE * 1e6, "µF")


WORLD = FadingCapacitor()
