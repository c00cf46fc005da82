"""`pool`: the class dataset of a book and its statistics."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import print_json, say

HELP = "the class dataset of a book and its statistics"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK", nargs="?")
    parser.add_argument(
        "--table",
        type=Path,
        metavar="FINDINGS.csv",
        help="columns group, run, conditions and findings with units, u_NAME; class for several",
    )
    parser.add_argument("--plan", type=Path, metavar="FILE", help="the plan whose class graph the table is for")
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.lesson import OpenLesson
    from common_bench.lesson.table_pool import pool_lines, pooled_json, pooled_table
    from common_bench.model.trouble import FileTrouble

    if asked.table is not None:
        if asked.plan is None:
            raise FileTrouble("table-without-plan", where=str(asked.table))
        found = pooled_table(asked.table, asked.plan)
        if asked.json:
            told = [pooled_json(result, name) for name, result in found.items()]
            print_json(told if "" not in found else told[0])
            return 0
        for name, result in found.items():
            for line in [*([name] if name else []), *pool_lines(result)]:
                say(line)
        return 0
    if asked.book is None:
        raise FileTrouble("pool-of-nothing")
    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        for run in [] if asked.json else lesson.store.runs():
            if run.ending is not None and run.ending.code == "cut-off":
                say(f"{lesson.store.group(run.group).alias} run {run.number}  {run.ended_by}; it is not in the pool")
        rows, result = lesson.store.pool_rows(), lesson.pooling.class_result()
        if asked.json:
            print_json(pooled_json(result) | {"plan": lesson.store.plan.name, "runs": len(rows)})
            return 0
        for row in rows:
            values = ", ".join(f"{name} {value}" for name, value in {**row.conditions, **row.findings}.items())
            say(f"{row.alias} run {row.number}  {values}" + (f"  set aside: {row.aside}" if row.aside else ""))
        for line in pool_lines(result):
            say(line)
    finally:
        lesson.close()
    return 0
