"""What a world of stand-in kits has: one file in `worlds/` with its physics, and a plan file of the same key.

A world says what is true of each bench, what each group states of it, how its kits behave, what a class does with them and
what a class that measures well must find.
"""

from __future__ import annotations

import random
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from importlib import import_module
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

if TYPE_CHECKING:
    from common_bench.standins.kit import StandInKit


@dataclass(frozen=True)
class StandInBench:
    """What is true of one bench. stated: condition -> what its group states of it, right or wrong; trouble: what is
    wrong with it, in words; true: what else is true, by name with the unit in the name."""

    alias: str
    clock_error: float  # relative
    noise: float  # counts
    stated: Mapping[str, str] = field(default_factory=dict)
    trouble: str = ""
    true: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Act:
    """Something that is done on all benches: what is hung or held, and world s that are waited then."""

    what: str
    wait: float


@dataclass(frozen=True)
class Truth:
    """What a class finds that measures without fault."""

    name: str
    value: float
    unit: str


class World(ABC):
    """One experiment with stand-in kits. before, after: what is done before a run begins, and once it has; settle: world s
    from holding a known value until it may be steady; hands: other things than reference points that can be done, as
    (words, what is ordered); hang: the word on the button."""

    key: ClassVar[str]
    word: ClassVar[str] = "load"  # the channel's name
    before: ClassVar[tuple[Act, ...]] = ()
    after: ClassVar[tuple[Act, ...]] = ()
    settle: ClassVar[float] = 2.0
    hands: ClassVar[tuple[tuple[str, str], ...]] = ()
    hang: ClassVar[str] = "Hang"
    hello: ClassVar[bytes] = b"kit v1"
    rate: ClassVar[float] = 50.0  # lines per s of its kits, where nobody asks for others
    logs: ClassVar[bool] = (
        False  # its kits log on their own; what they have written is brought in from their memory cards
    )

    @abstractmethod
    def benches(self, count: int = 6, seed: int = 9) -> Sequence[StandInBench]:
        """The benches of a class; the same seed gives the same."""

    @abstractmethod
    def kit(self, bench: Any, seed: int, **options: Any) -> StandInKit:
        """The kit of one of its benches. options: dialect, rate, gate, as `StandInKit` takes them."""

    def cards(self, folder: Path, count: int = 6, seed: int = 9) -> list[Path]:
        """The files on the memory cards of a class whose kits log on their own, written into a folder; none otherwise."""
        return []

    @abstractmethod
    def truth(self, benches: Sequence[Any]) -> Truth:
        """The class finding that is true of these benches."""

    def dice(self, seed: int) -> random.Random:
        return random.Random(seed)


@cache
def worlds() -> tuple[str, ...]:
    """The keys of all worlds, the main one first."""
    found = sorted(
        each.name.removesuffix(".py").replace("_", "-")
        for each in files("common_bench.standins").joinpath("worlds").iterdir()
        if each.name.endswith(".py") and not each.name.startswith("_")
    )
    return tuple(sorted(found, key=lambda key: key != MAIN))


MAIN = "swinging-bottles"


@cache
def world_of(key: str) -> World:
    """The world of a key. Raises KeyError where there is none."""
    if key not in worlds():
        raise KeyError(key)
    module = import_module(f"common_bench.standins.worlds.{key.replace('-', '_')}")
    made: World = module.WORLD
    return made
