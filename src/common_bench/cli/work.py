"""`work`: workings on a table."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import print_json, say
from common_bench.model.trouble import FileTrouble

HELP = "workings on a table (first column the time; headers with units, as `load (counts)`)"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument(
        "words", nargs="*", metavar="DATA.csv WORKING",
        help="the table, in which a column `u_load` states the uncertainties of `load`; then lines as 'speed = rate of height over 0.4 s'",
    )  # fmt: skip
    parser.add_argument("--forms", action="store_true", help="list the forms of the language")
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.table_work import result_json, result_words, worked_table
    from common_bench.workings.table import FORMS

    if asked.forms:
        for form in FORMS.values():
            say(f"{form.shown:<58}{form.says}")
        return 0
    if len(asked.words) < 2:
        raise FileTrouble("work-needs-lines")
    results = worked_table(Path(asked.words[0]), asked.words[1:])
    if asked.json:
        print_json({name: result_json(each) for name, each in results.items()})
    else:
        for name, each in results.items():
            say(result_words(name, each))
    return 0
