"""Ready lines for common class quantities: data in ready.toml; what a plan can take of it out."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from typing import Any

import msgspec

from common_bench.model.units import same_kind


class ReadyLines(msgspec.Struct, frozen=True):
    """needs: the quantities that the lines rest on, name -> unit; source: where they come from; tried, gives: an example
    with its value, for the tests."""

    title: str
    needs: dict[str, str]
    lines: list[str]
    source: str
    tried: dict[str, str] = msgspec.field(name="try")
    gives: dict[str, Any]

    def for_plan(self, quantities: Mapping[str, str], taken: frozenset[str] = frozenset()) -> list[str]:
        """The lines with a plan's own quantities (name -> unit) in the place of those that they need, where it has some of
        that kind, and with names of their own where theirs are taken."""
        named = dict(_own(self.needs, quantities))
        used = {each.lower() for each in taken}
        for line in self.lines:
            name = line.partition("=")[0].strip()
            if name.lower() in used:
                named[name] = next(f"{name}{k}" for k in range(2, 99) if f"{name}{k}".lower() not in used)
            used.add(named.get(name, name).lower())
        return [re.sub(r"[^\W\d_]\w*", lambda found: named.get(found[0], found[0]), line) for line in self.lines]

    def missing(self, quantities: Mapping[str, str]) -> list[str]:
        """Names of what it needs and a plan has nothing of."""
        found = dict(_own(self.needs, quantities))
        return [name for name in self.needs if name not in found]


def _own(needs: Mapping[str, str], quantities: Mapping[str, str]) -> list[tuple[str, str]]:
    found: list[tuple[str, str]] = []
    for name, unit in needs.items():
        used = {own for _, own in found}
        fitting = [own for own, its in quantities.items() if own not in used and same_kind(its, unit)]
        if name in fitting:
            found.append((name, name))
        elif fitting:
            found.append((name, fitting[0]))
    return found


@cache
def ready_ones() -> tuple[ReadyLines, ...]:
    """All of them, in the order of the file."""
    text = files("common_bench.workings").joinpath("ready.toml").read_bytes()
    return tuple(msgspec.toml.decode(text, type=dict[str, list[ReadyLines]])["ready"])
