"""Lines and curves through points with errors in both coordinates; shared by calibrate, workup and pool."""

from common_bench.offers import names_of, offering

OFFERS = {
    "curve_fit": (
        "chance",
        "Fit",
        "fit_curve",
        "growth",
        "Model",
        "stated",
        "UNLIKELY",
    ),
    "group_line": (
        "design",
        "group_line",
        "LineOfGroups",
        "steepness",
    ),
    "group_loops": ("products",),
    "straight_line": ("straight_line",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
