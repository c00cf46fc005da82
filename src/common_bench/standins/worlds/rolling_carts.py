"""Rolling carts: a cart with a card of two bars rolls down a track through a light gate, whose kit tells each change of the
gate with its own µs clock, and how it stands twice a second besides."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from common_bench.standins.classes import ALIASES
from common_bench.standins.dialects import Speech
from common_bench.standins.kit import StandInKit
from common_bench.standins.pendulum import GRAVITY
from common_bench.standins.world import Act, StandInBench, Truth, World

HEIGHTS = (0.03, 0.05, 0.07, 0.09, 0.12, 0.15)  # m by which one end of the track is raised
TRACK = 1.200  # m between its feet
ROLLING = 0.012  # of g: what rolling takes off
WAY = 0.40  # m from rest to the gate
BAR, PITCH = 0.050, 0.100  # m: width of each bar of the card, and from one bar's edge to the other's
NARROW = 0.045  # m: the bars of one group's card
SAYS_EVERY = 0.5  # s
U_HEIGHT = 0.0005  # m


@dataclass(frozen=True, kw_only=True)
class CartBench(StandInBench):
    """A track raised by a height in m, and a card with bars of a width in m."""

    height: float
    bar: float

    @property
    def acceleration(self) -> float:
        """m/s² down the track."""
        slope = self.height / TRACK
        return GRAVITY * (slope - ROLLING * math.sqrt(1 - slope**2))


class CartKit(StandInKit):
    """A light gate: a line for each change, with the µs of its own clock."""

    hello = b"gate kit v1, beam seen"
    word = "gate"

    def __init__(self, bench: CartBench, seed: int, **options: Any) -> None:
        super().__init__(bench, seed, **{**options, "rate": 1 / SAYS_EVERY})
        self.track = bench
        self._dark = False
        self._edges: list[tuple[float, bool]] = []  # world s at which the gate changes, and to what
        self._row_world = 0.0
        self.hung = "nothing"

    def spoken_in(self, dialect: str) -> Speech:
        """It knows one way to speak only."""
        return Speech("each change of a light gate with µs", lambda _: b"", (b"us,gate",))

    def hang(self, what: str) -> None:
        """`cart`, let go above the gate, or `nothing`. Raises ValueError otherwise."""
        if what == "cart":
            a, begun = self.track.acceleration, self._world + self._dice.uniform(0.2, 0.4)
            way = WAY + self._dice.gauss(0.0, 0.01)
            places = (way, way + self.track.bar, way + PITCH, way + PITCH + self.track.bar)
            self._edges = [(begun + math.sqrt(2 * s / a), at % 2 == 0) for at, s in enumerate(places)]
            self._next = min(self._next, self._row_at())
        elif what == "nothing":
            self._edges = []
        else:
            raise ValueError(f"“{what}” cannot roll here: say cart, or nothing")
        self.hung = what

    def _follow(self, h: float) -> None:
        """Nothing changes but at its edges."""

    def _shown(self) -> float:
        return float(self._dark)

    def _row_at(self) -> float:
        """The next edge, or the next time at which it says how it stands."""
        usual = super()._row_at()
        return min(usual, self._edges[0][0]) if self._edges else usual

    def _line(self) -> bytes:
        at = self._world
        if self._edges and self._edges[0][0] <= at + 1e-9:
            at, self._dark = self._edges.pop(0)
            self._row -= 1  # an edge comes between, and puts off nothing
        us = round((at - self._started) * 1e6 * (1 + self.bench.clock_error + self.drift) + self.clock_from * 1000)
        state = self.sensor in ("stuck", "saturated") or self._dark
        return f"{us % 2**32},{int(state)}".encode() + self.speech.end


class RollingCarts(World):
    """Gneiss has cut the bars of its card 5 mm too narrow."""

    key = "rolling-carts"
    word = "gate"
    before = ()
    after = (Act("cart", 0.5),)
    settle = 1.0
    hands = (("cart, let go", "cart"),)
    hang = "Do"

    def benches(self, count: int = 6, seed: int = 9) -> Sequence[CartBench]:
        dice = self.dice(seed)
        benches = []
        for place in range(count):
            alias, height = ALIASES[place % len(ALIASES)], HEIGHTS[place % len(HEIGHTS)]
            narrow = alias == "Gneiss"
            bar = (NARROW if narrow else BAR) + dice.gauss(0.0, 0.0001)
            stated = height + dice.gauss(0.0, U_HEIGHT)
            benches.append(
                CartBench(
                    alias, height=height, bar=bar, clock_error=dice.gauss(0.0, 60e-6), noise=0.0,
                    stated={"height": f"{stated:.4f} ± {U_HEIGHT} m"},
                    trouble="the bars of its card are 5 mm too narrow" if narrow else "",
                    true={"height in m": height, "bar in m": bar},
                )
            )  # fmt: skip
        return benches

    def kit(self, bench: CartBench, seed: int, **options: Any) -> CartKit:
        return CartKit(bench, seed, **options)

    def truth(self, benches: Sequence[CartBench]) -> Truth:
        return Truth("g", GRAVITY, "m/s²")


WORLD = RollingCarts()
