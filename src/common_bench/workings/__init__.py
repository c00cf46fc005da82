"""The formula language: grammar, checking, evaluation over blocks, events."""

from common_bench.offers import names_of, offering

OFFERS = {
    "evaluate": (
        "check",
        "Evaluator",
        "gathered",
        "INNER",
        "number_from",
        "over_span",
        "Workings",
    ),
    "forms": (
        "Form",
        "plainly",
    ),
    "formula": ("Formula",),
    "kinds": ("kind_of",),
    "picture": (
        "FormPicture",
        "picture_of",
    ),
    "reading": (
        "Node",
        "read_working",
        "WORDS",
    ),
    "ready": ("ready_ones",),
    "shapes": (
        "Kind",
        "NO_UNIT",
    ),
    "spans": (
        "Note",
        "NumberOf",
    ),
    "table": ("FORMS",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
