"""Spans and findings."""

from common_bench.offers import names_of, offering

OFFERS = {
    "comparing": ("difference_words",),
    "curves": (
        "against_others",
        "beside",
        "curves_of",
        "pieces_of",
        "RunCurve",
        "TRIED",
        "try_curve",
    ),
    "findings": (
        "ASKED_ABOUT",
        "DOUBTS",
        "findings_of",
        "note_words",
        "over_gaps",
        "rests_on",
        "unheard_in",
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
    "shared_curves": (
        "curve_together",
        "shared_in",
    ),
    "span_rule": (
        "check_span",
        "main_span",
        "named_spans",
        "renamed_in_spans",
        "span_by_rule",
        "spans_in",
        "typed_span",
        "WHOLE",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
