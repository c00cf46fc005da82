"""`fit`: a formula with free parameters on a table."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import print_json, say

HELP = "a fit with free parameters on a table (columns with units, `u_NAME` their uncertainties)"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("table", type=Path, metavar="DATA.csv")
    parser.add_argument(
        "formula", metavar="'Y = FORMULA'", help="names that are no columns are found, as 'u = A * exp(-time / tau)'"
    )
    parser.add_argument("--x", default="", metavar="NAME", help="the column that `time` stands for (the first)")
    parser.add_argument(
        "--held", action="append", default=[], metavar="c=0", help="a parameter that is held, with its unit"
    )
    parser.add_argument(
        "--also",
        action="append",
        default=[],
        type=Path,
        metavar="MORE.csv",
        help="another run of the same columns, fitted together with it",
    )
    parser.add_argument(
        "--shared", action="append", default=[], metavar="tau", help="a parameter that is the same in all of them"
    )
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.table_fit import fit_json, fit_lines, fitted_table, fitted_tables

    if asked.also or asked.shared:
        fit = fitted_tables([asked.table, *asked.also], asked.formula, asked.shared, x=asked.x, held=asked.held)
    else:
        fit = fitted_table(asked.table, asked.formula, x=asked.x, held=asked.held)
    if asked.json:
        print_json(fit_json(fit))
    else:
        for line in fit_lines(fit):
            say(line)
    return 0
