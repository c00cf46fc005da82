"""The class dataset: class line, scatter, outliers, sealing."""

from common_bench.offers import names_of, offering

OFFERS = {
    "class_line": (
        "class_graph_of",
        "class_result",
    ),
    "department": ("Department",),
    "department_places": ("grouped_by_server",),
    "limits": (
        "limit_words",
        "shares_words",
    ),
    "many_classes": (
        "many_classes",
        "ManyClasses",
    ),
    "many_schools": (
        "add_to_dataset",
        "lines_of_schools",
        "many_schools",
        "plans_of",
        "schools_json",
    ),
    "places": ("stands_in",),
    "power": ("power_words",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
