"""Steadiness, reference points, curves and their uncertainty."""

from common_bench.offers import names_of, offering

OFFERS = {
    "applied": ("Applied",),
    "comparing": (
        "disagreeing",
        "Disagreement",
        "drifted",
        "Reads",
    ),
    "copied": ("cell_of",),
    "curves": (
        "curve_name",
        "CURVES",
        "find_curve",
        "FORMULA",
        "KINDS",
    ),
    "fitting": (
        "alike",
        "calibrate",
        "EVERYWHERE",
        "standing",
    ),
    "judging": (
        "check_number",
        "check_state",
        "FAR_OFF",
        "fit_words",
        "in_a_cell",
        "parameter_words",
        "prefix_of",
        "sentence",
        "worth",
    ),
    "points": (
        "check_reference",
        "take_point",
    ),
    "steady": (
        "HOLD",
        "Limits",
        "LONG_ENOUGH",
        "PROPOSED",
        "steadiness",
        "Steadiness",
        "STRETCHES",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
