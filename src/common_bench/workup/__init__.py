"""Spans and findings."""

from common_bench.offers import names_of, offering

OFFERS = {
    "comparing": ("difference_words",),
    "curves": (
        "against_others",
        "beside",
        "curves_of",
        "RunCurve",
        "TRIED",
        "try_curve",
    ),
    "findings": (
        "findings_of",
        "note_words",
    ),
    "outliers": ("far_readings",),
    "points": (
        "as_seen",
        "counted",
        "findings_over_points",
        "means_of",
        "over_points",
        "OverPoints",
        "seen_mean",
    ),
    "span_rule": (
        "check_span",
        "span_by_rule",
        "WHOLE",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
