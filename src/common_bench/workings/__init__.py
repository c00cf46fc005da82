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
    "formula": ("Formula",),
    "kinds": (
        "Kind",
        "kind_of",
        "NO_UNIT",
    ),
    "reading": (
        "Node",
        "read_working",
        "WORDS",
    ),
    "spans": ("Note",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
