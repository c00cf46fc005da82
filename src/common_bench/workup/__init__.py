"""Spans and findings."""

from common_bench.offers import names_of, offering

OFFERS = {
    "findings": (
        "findings_of",
        "note_words",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
