"""What a room offers to others: names by the module that holds them, found when they are first asked for.

A room's `__init__` declares its offers; nothing else in it is for others to use, which `tests/test_rooms.py` holds. Asked
for late, so that the window is there before the slow libraries are.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any

Offers = Mapping[str, tuple[str, ...]]
"""module of the room -> names"""


def offering(room: str, offers: Offers) -> Callable[[str], Any]:
    """The `__getattr__` of a room's package. Raises AttributeError for what is not offered."""
    where = {name: module for module, names in offers.items() for name in names}

    def find(name: str) -> Any:
        if name not in where:
            raise AttributeError(f"{room} offers no {name}")
        return getattr(import_module(f"{room}.{where[name]}"), name)

    return find


def names_of(offers: Offers) -> list[str]:
    """All that is offered, for `__all__`."""
    return [name for names in offers.values() for name in names]
