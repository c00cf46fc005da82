"""Who is in the room: groups with their emblems, kits, ports."""

from __future__ import annotations

from typing import Literal

import msgspec

EmblemShape = Literal["circle", "square", "triangle", "diamond", "hexagon", "plus", "star", "ring", "drop", "bar"]
SHAPES: tuple[EmblemShape, ...] = (
    "circle",
    "square",
    "triangle",
    "diamond",
    "hexagon",
    "plus",
    "star",
    "ring",
    "drop",
    "bar",
)
HUES = ("#0B6E99", "#C4611B", "#3C7A35", "#8A3D91", "#B0892A", "#586A78", "#A12D5A", "#1F6F6B", "#6B4E2E", "#44409A")


class Emblem(msgspec.Struct, frozen=True):
    """A shape and a colour; the shape alone is enough to tell groups apart."""

    shape: EmblemShape
    colour: str


def emblem_for(position: int) -> Emblem:
    """The emblem of the group at `position`: shape and hue walk at different paces, so that 16
    groups have 16 different emblems."""
    return Emblem(SHAPES[position % len(SHAPES)], HUES[(position + position // len(SHAPES) * 3) % len(HUES)])


class Group(msgspec.Struct, frozen=True):
    """The students at one bench; position: their place in the class, from 0; initials: their own, where they want to be
    told apart; gone: no longer in the class, their runs are kept."""

    id: int
    alias: str
    emblem: Emblem
    position: int = 0
    initials: str = ""
    gone: bool = False


class Kit(msgspec.Struct, frozen=True):
    """One microcontroller. `identity` is its serial number, or else its place, by which it is known again."""

    id: int
    identity: str
    name: str
    link: str


class Port(msgspec.Struct, frozen=True):
    """Something that is plugged in. `trouble` is empty where it can be opened."""

    link: str
    name: str
    identity: str
    description: str = ""
    trouble: str = ""
    cause: str = ""
    stand_in: bool = False
    speed: int = 0


class StandInNotice(msgspec.Struct, frozen=True):
    """What a stand-in class leaves in the ports folder so that its kits are found like real ones."""

    process: int
    control: str
    ports: tuple[Port, ...]
    world: str = ""
    speed: float = 1.0
