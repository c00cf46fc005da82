"""Simulated kits, classes and faults, on real pseudo-terminals."""

from common_bench.offers import names_of, offering

OFFERS = {
    "classes": (
        "ALIASES",
        "CLASS_NAME",
    ),
    "control": (
        "order",
        "StandInProcess",
    ),
    "dialects": ("SPEECHES",),
    "faults": (
        "FAULTS",
        "GATES",
    ),
    "stand_in_class": ("StandInClass",),
    "world": (
        "MAIN",
        "World",
        "world_of",
        "worlds",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
