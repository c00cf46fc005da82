"""Jumping plate: somebody steps on a plate that weighs, and jumps again and again; its kit sends newtons, 500 times a second."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.kit import StandInKit
from common_bench.standins.world import Act, StandInBench, Truth, World

G = 9.81  # m/s²
RATE = 500.0  # lines per s
STEP_ON = 0.25  # s until all of the weight stands on the plate
STILL = 1.6  # s that somebody stands before each jump
DIP, DEPTH = 0.35, 0.45  # s and share of the weight by which it is less while somebody bends the knees
PUSH = 0.35  # s
LANDING = 0.20  # s
SETTLES, SHAKES = 0.18, 5.5  # s and Hz of the knees after a landing
SWAY, SWAY_PACE = 0.004, 0.7  # share of the weight and Hz, of somebody who stands
NOT_ZEROED = 38.0  # N that one group's plate shows with nobody on it
WEIGHED_WITHIN = 0.2  # kg, standard, of a bathroom scale


@dataclass(frozen=True, kw_only=True)
class JumpBench(StandInBench):
    """mass in kg; air: s that a jump lasts; zero: N that the plate shows with nobody on it."""

    mass: float
    air: float
    zero: float


class PlateKit(StandInKit):
    """A plate with a jumper, or with nobody."""

    hello = b"plate v2"
    word = "force"

    def __init__(self, bench: JumpBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **options)
        self.jumper = bench
        self._on = math.nan  # s since somebody stepped on
        self._jump_at, self._air = math.inf, bench.air
        self.hung = "step off"

    def hang(self, what: str) -> None:
        """`step on` (and jump again and again), `step off`, `nothing`. Raises ValueError otherwise."""
        if what == "step on":
            self._on = 0.0
            self._next_jump(STEP_ON + STILL)
        elif what in ("step off", "nothing"):
            self._on, self._jump_at = math.nan, math.inf
        else:
            raise ValueError(f"“{what}” cannot be done here: say step on, or step off")
        self.hung = what

    def _next_jump(self, at: float) -> None:
        self._jump_at, self._air = at, self.jumper.air * self._dice.gauss(1.0, 0.02)

    def _follow(self, h: float) -> None:
        if not math.isnan(self._on):
            self._on += h
            if self._on > self._jump_at + DIP + PUSH + self._air + LANDING + 1.2:
                self._next_jump(self._on + STILL)

    def _load(self) -> float:
        """What stands on the plate, in weights; what pushes off and lands gives the jumper just the speed that the time in
        the air asks for."""
        if math.isnan(self._on):
            return 0.0
        since = self._on - self._jump_at
        if self._on < STEP_ON:
            return 0.5 - 0.5 * math.cos(math.pi * self._on / STEP_ON)
        if since < 0:
            return 1.0 + SWAY * math.sin(2 * math.pi * SWAY_PACE * self._on)
        if since < DIP:
            return 1.0 - DEPTH * math.sin(math.pi * since / DIP)
        since -= DIP
        half_air = self._air / 2  # s in which weight alone takes that speed away
        if since < PUSH:
            return 1.0 + (half_air + DEPTH * DIP * 2 / math.pi) * math.pi / 2 / PUSH * math.sin(math.pi * since / PUSH)
        since -= PUSH
        if since < self._air:
            return 0.0
        since -= self._air
        if since < LANDING:
            return 1.0 + half_air * math.pi / 2 / LANDING * math.sin(math.pi * since / LANDING)
        since -= LANDING
        return 1.0 - 0.3 * math.exp(-since / SETTLES) * math.sin(2 * math.pi * SHAKES * since)

    def _shown(self) -> float:
        return self.jumper.zero + self.jumper.mass * G * self._load()


class JumpingPlate(World):
    """Slate's plate was not zeroed."""

    key = "jumping-plate"
    word = "force"
    before = (Act("step off", 2.5),)
    after = (Act("step on", 0.6),)
    settle = 1.0
    rate = RATE
    hands = (("step on it", "step on"), ("step off it", "step off"))
    hang = "Do"

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[JumpBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias = ALIASES[place % len(ALIASES)]
            wrong = alias == "Slate"
            mass = 47.0 + 4.6 * (place * 5 % 7) + dice.uniform(-1, 1)
            weighed = mass + dice.gauss(0, WEIGHED_WITHIN / 2)
            zero = (NOT_ZEROED if wrong else 0.0) + dice.gauss(0, 0.4)
            benches.append(
                JumpBench(
                    alias, mass=mass, air=dice.uniform(0.40, 0.50), zero=zero, clock_error=dice.gauss(0.0, 60e-6),
                    noise=dice.uniform(0.7, 1.2), stated={"mass": f"{weighed:.1f} ± {WEIGHED_WITHIN:g} kg"},
                    trouble="its plate was not zeroed" if wrong else "",
                    true={"mass in kg": mass, "zero in N": zero},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: JumpBench, seed: int, **options: Any) -> PlateKit:
        return PlateKit(bench, seed, **options)

    def truth(self, benches: Sequence[JumpBench]) -> Truth:
        return Truth("g", G, "m/s²")


WORLD = JumpingPlate()
