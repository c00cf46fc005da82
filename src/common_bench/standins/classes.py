"""The sample classes: their groups, kits and what is true of each (which no program that measures can see)."""

from __future__ import annotations

import random
from dataclasses import dataclass

ALIASES = (
    "Basalt", "Chalk", "Flint", "Gneiss", "Marble", "Slate", "Granite", "Tuff", "Shale", "Quartz", "Schist",
    "Pumice", "Jasper", "Agate", "Opal", "Gypsum", "Mica", "Talc", "Beryl", "Topaz", "Garnet", "Zircon", "Spinel",
    "Onyx", "Pyrite", "Halite", "Galena", "Cinnabar", "Olivine", "Peridot", "Sandstone", "Travertine",
)  # fmt: skip
LENGTHS = (0.50, 0.62, 0.66, 0.90, 1.10, 1.30)  # m, true
CLASS_NAME = "9B"
BOTTLE = 0.220  # kg


@dataclass(frozen=True)
class BottleBench:
    """What is true of one bench of the swinging bottles, and the length that its group states."""

    alias: str
    length: float
    stated_length: float
    u_length: float
    zero: int
    counts_per_newton: float
    clock_error: float  # relative
    damping: float  # 1/s
    noise: float  # counts


def swinging_bottles(count: int = 6, seed: int = 9) -> list[BottleBench]:
    """The benches of the class. Flint has measured its string to the wrong place, 9 cm too far."""
    dice = random.Random(seed)
    benches = []
    for place in range(count):
        length = LENGTHS[place % len(LENGTHS)]
        error = dice.gauss(0.0, 0.0015)
        wrong = 0.09 if ALIASES[place] == "Flint" else 0.0
        benches.append(
            BottleBench(
                ALIASES[place % len(ALIASES)], length, round(length + error + wrong, 3), 0.003,
                round(dice.gauss(8400, 2500)), dice.gauss(101_700, 1500), dice.gauss(0.0, 60e-6),
                1 / dice.uniform(45, 65), dice.uniform(25, 35),
            )
        )  # fmt: skip
    return benches


ROOM = 20.0  # °C
DIVIDER_FULL, DIVIDER_OHMS = 4095, 10_000  # counts of the converter, fixed resistor


@dataclass(frozen=True)
class BathBench:
    """What is true of one bench of the warm baths: its thermistor, and how long the probe takes to follow."""

    alias: str
    ohms_at_room: float  # at 25 °C
    b: float  # K
    settling: float  # s
    clock_error: float  # relative
    noise: float  # counts


def warm_baths(count: int = 6, seed: int = 9) -> list[BathBench]:
    """The benches of the class. Marble's probe sits in a thick sleeve and follows slowly."""
    dice = random.Random(seed)
    return [
        BathBench(
            ALIASES[place % len(ALIASES)], dice.gauss(10_000, 150), dice.gauss(3950, 25),
            6.0 if ALIASES[place] == "Marble" else dice.uniform(1.5, 3.0), dice.gauss(0.0, 60e-6), dice.uniform(0.6, 1.2),
        )
        for place in range(count)
    ]  # fmt: skip
