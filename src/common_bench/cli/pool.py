"""`pool`: the class dataset of a book and its statistics."""

from __future__ import annotations

import argparse
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

from common_bench.cli.saying import print_json, say

if TYPE_CHECKING:
    from common_bench.pool.department import Department

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
    parser.add_argument("--with", dest="others", nargs="+", default=[], type=Path, metavar="FILE", help="other pools of the same plan: packages (.benchpool) or bench books")  # fmt: skip
    parser.add_argument(
        "--package", type=Path, metavar="FILE", help="keep the pool as a package for another book or machine"
    )
    parser.add_argument("--to", default="", metavar="URL", help="send the pool to a department's, as postgresql://…")
    parser.add_argument(
        "--wait", type=float, default=0.0, metavar="SECONDS", help="how long a server that is away is tried again"
    )
    parser.add_argument(
        "--from", dest="of", default="", metavar="URL", help="read a department's pool; --plan names the plan"
    )
    parser.add_argument("--grouped", action="store_true", help="with --from: the server brings runs down to the places of groups, for pools of millions")  # fmt: skip
    parser.add_argument(
        "--make-ready",
        default="",
        metavar="URL",
        help="make the tables and roles of a department's pool, once, as its owner",
    )
    parser.add_argument("--dataset", type=Path, metavar="FOLDER", help="many schools' runs as Parquet: with BOOK and --school its pool is added, with --plan the name of a plan what they find is told")  # fmt: skip
    parser.add_argument("--school", default="", metavar="NAME", help="whose pool is added to a dataset")
    parser.add_argument("--engine", choices=["duckdb", "dask"], default="duckdb", help="what goes through a dataset: on this machine, or by several processes")  # fmt: skip
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.lesson import OpenLesson
    from common_bench.lesson.table_pool import pool_lines, pooled_json, pooled_table
    from common_bench.model.trouble import FileTrouble

    if asked.dataset is not None:
        return _dataset(asked)
    if asked.make_ready or asked.of or asked.to or asked.others or asked.package:
        return _shared(asked)
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


def _dataset(asked: argparse.Namespace) -> int:
    """Adds to many schools' runs, or tells what they find."""
    from common_bench.lesson.sharing import pool_from
    from common_bench.pool.many_schools import add_to_dataset, lines_of_schools, many_schools, plans_of, schools_json

    if asked.book is not None:
        shared = pool_from(asked.book)
        added = add_to_dataset(asked.dataset, asked.school, shared)
        say(f"{asked.dataset}: {added} of {len(shared.runs)} runs are new there.")
        return 0
    if asked.plan is None:
        for name, place in plans_of(asked.dataset).items():
            say(f"{name}: {len(list(place.glob('school=*')))} schools")
        return 0
    found = many_schools(asked.dataset, str(asked.plan), asked.engine)
    if asked.json:
        print_json(schools_json(found))
        return 0
    for line in lines_of_schools(found):
        say(line)
    return 0


def _grouped(department: Department, asked: argparse.Namespace) -> int:
    from common_bench.pool.department_places import grouped_by_server

    found = grouped_by_server(department, str(asked.plan))
    if asked.json:
        print_json(found.json)
        return 0
    for line in found.lines:
        say(line)
    return 0


def _shared(asked: argparse.Namespace) -> int:
    """What goes to other books and machines, or comes from there."""
    from common_bench.lesson.lesson import OpenLesson
    from common_bench.lesson.sharing import (
        keep_package,
        pool_from,
        pooled_together,
        shared_pool,
        together_json,
        together_lines,
    )
    from common_bench.model.trouble import FileTrouble
    from common_bench.pool.department import Department

    if asked.make_ready:
        with closing(Department(asked.make_ready)) as department:
            version = department.make_ready()
            say(f"{department.name} is ready, version {version}: the roles bench_adds and bench_reads are there.")
        return 0
    if asked.of:
        with closing(Department(asked.of)) as department:
            if asked.plan is None:
                for name, count in department.plans().items():
                    say(f"{name}: {count} runs")
                return 0
            if asked.grouped:
                return _grouped(department, asked)
            own = department.pool_of(str(asked.plan))
    elif asked.book is None:
        raise FileTrouble("pool-of-nothing")
    else:
        lesson = OpenLesson.open(asked.book, readonly=True)
        try:
            own, name = shared_pool(lesson.store), lesson.store.plan.name
            if asked.package is not None:
                say(f"The pool is {keep_package(own, asked.package)}")
        finally:
            lesson.close()
        if asked.to:
            with closing(Department(asked.to)) as department:
                added = department.send_within(own, name, asked.wait)
                say(f"{department.name}: {added} of {len(own.runs)} runs are new there; all are there now.")
        if not asked.others:
            return 0
    found = pooled_together(own, [(str(path), pool_from(path)) for path in asked.others])
    if asked.json:
        print_json(together_json(found))
        return 0
    for line in together_lines(found):
        say(line)
    return 0
