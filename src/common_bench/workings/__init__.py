"""The formula language: grammar, checking, evaluation over blocks, events."""

from common_bench.offers import names_of, offering

OFFERS = {
    "arithmetic": ("elementwise",),
    "compiled": ("FUNCTIONS",),
    "evaluate": (
        "check",
        "Evaluator",
        "gathered",
        "INNER",
        "line_fit",
        "Working",
        "Workings",
    ),
    "fit_problem": ("spread_out",),
    "fits_together": (
        "fitted_together",
        "own_name",
    ),
    "fitting": ("FoundFit",),
    "forms": (
        "Form",
        "plainly",
    ),
    "formula": ("Formula",),
    "kinds": ("kind_of",),
    "leaving_off": ("leaves_off_at",),
    "line_fits": ("chosen_rows",),
    "loops": (
        "part_of_loop",
        "short_loop",
    ),
    "over": (
        "number_from",
        "over_span",
        "Stretches",
    ),
    "picture": (
        "FormPicture",
        "picture_of",
    ),
    "reading": (
        "Node",
        "read_working",
        "renamed_in",
        "renamed_in_expression",
        "WORDS",
    ),
    "ready": ("ready_ones",),
    "shapes": (
        "Kind",
        "NO_UNIT",
        "TIME",
    ),
    "spans": (
        "Note",
        "number_over",
        "NumberOf",
    ),
    "streams": ("Value",),
    "table": ("FORMS",),
    "thinning": (
        "extremes",
        "laid_out",
        "moved_on",
        "spread",
    ),
    "warming": ("warm",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
