"""Open formats out of the book."""

from common_bench.offers import names_of, offering

OFFERS = {
    "column_rows": ("ColumnRows",),
    "columnar": ("keep_parquet",),
    "columns": (
        "cells_from",
        "Columns",
        "columns_from",
        "number_in",
        "STATED",
    ),
    "data_package": ("data_package",),
    "figure": ("class_graph",),
    "file_times": (
        "FileTimes",
        "later",
        "numbers",
        "times_of",
    ),
    "logged": (
        "Logged",
        "logged_from",
        "LONG",
    ),
    "matching": (
        "Match",
        "matched",
    ),
    "plain_rows": (
        "plain_rows",
        "PlainRows",
        "StackedRows",
    ),
    "points": ("points_from",),
    "senml_out": ("senml_pack",),
    "series_of_files": (
        "by_speaker",
        "in_series",
        "joined_files",
        "speakers_at",
    ),
    "steps": (
        "steps_of",
        "steps_that",
        "usual_step",
    ),
    "tables": (
        "csv_text",
        "pool_csv",
        "pool_json",
        "run_csv",
        "series_csv",
        "told_dof",
        "with_unit",
        "without_nan",
    ),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
