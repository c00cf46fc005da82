"""`pool`: the class dataset of a book and its statistics."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from common_bench.cli.saying import print_json, say

HELP = "the class dataset of a book and its statistics"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.exchange.tables import pool_json
    from common_bench.lesson.lesson import OpenLesson
    from common_bench.model.measured import written

    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        for run in [] if asked.json else lesson.store.runs():
            if run.ending is not None and run.ending.code == "cut-off":
                say(f"{lesson.store.group(run.group).alias} run {run.number}  {run.ended_by}; it is not in the pool")
        rows, result = lesson.store.pool_rows(), lesson.pooling.class_result()
        if asked.json:
            print_json(json.loads(pool_json(lesson.store.plan.name, lesson.store.class_name, rows, result)))
            return 0
        for row in rows:
            values = ", ".join(f"{name} {value}" for name, value in {**row.conditions, **row.findings}.items())
            say(f"{row.alias} run {row.number}  {values}" + (f"  set aside: {row.aside}" if row.aside else ""))
        for place in result.places:
            if place.words:
                say(place.words)
        if result.finding is not None:
            say(f"{result.finding_name} = {written(result.finding.value, result.finding.u, result.finding.unit)}")
        else:
            say(result.why_no_line or "The pool is empty: send findings to it in stage 5, Work up.")
    finally:
        lesson.close()
    return 0
