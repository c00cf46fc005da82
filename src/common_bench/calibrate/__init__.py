"""Steadiness, reference points, curves and their uncertainty."""

from common_bench.offers import names_of, offering

OFFERS = {
    "applied": ("Applied",),
    "comparing": ("disagreeing", "Disagreement", "drifted", "Reads"),
    "curves": ("CURVES", "FORMULA", "KINDS", "curve_name", "find_curve"),
    "fitting": ("EVERYWHERE", "alike", "calibrate"),
    "judging": (
        "FAR_OFF",
        "check_number",
        "check_state",
        "fit_words",
        "parameter_words",
        "prefix_of",
        "sentence",
        "worth",
    ),
    "points": ("check_reference", "take_point"),
    "steady": ("HOLD", "STRETCHES", "Limits", "Steadiness", "steadiness"),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
