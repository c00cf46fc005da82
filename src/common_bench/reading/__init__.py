"""Lines, stream formats, working a format out, blocks of readings, clocks."""

from common_bench.offers import names_of, offering

OFFERS = {
    "dialects": ("line_reader",),
    "format_finding": ("OtherLine",),
    "gaps": ("GapFinder",),
    "health": (
        "column_health",
        "ColumnHealth",
    ),
    "heard": ("Heard",),
    "judgement": (
        "Judgement",
        "Reading",
    ),
    "lines": (
        "LineCutter",
        "Lines",
    ),
    "naming": ("names_in",),
    "plain_loops": (
        "number_at",
        "plain_numbers",
        "uncounted",
    ),
    "prompts": ("waiting_for",),
    "reader": ("Reader",),
    "senml": (
        "common_front",
        "LEAST_ABSOLUTE",
        "Pack",
        "senml_records",
        "SENML_UNITS",
    ),
    "spans": (
        "Span",
        "spans_of",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
