"""`show`: lessons, groups, runs and findings of a book."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from common_bench.cli.saying import print_json

HELP = "lessons, groups, runs and findings of a book"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.lesson import OpenLesson, lesson_summary

    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        summary = lesson_summary(lesson)
        if asked.json:
            print_json(summary)
            return 0
        print(f"{summary['plan']} · class {summary['class']} · {summary['held_on']} · pool {summary['pool']}")
        for group in summary["groups"]:
            conditions = ", ".join(f"{name} {value}" for name, value in group["conditions"].items())
            print(f"{group['alias']}  {conditions}")
            for run in group["runs"]:
                print(f"  run {run['number']}  {_run_words(run)}")
    finally:
        lesson.close()
    return 0


def _run_words(run: dict[str, Any]) -> str:
    from common_bench.model.measured import written

    found = ", ".join(f"{name} = {written(f['value'], f['u'], f['unit'])}" for name, f in run["findings"].items())
    aside = f"set aside: {run['set_aside']}" if run["set_aside"] else ""
    return "  ".join(part for part in (run["state"], f"{run['bytes']} bytes", run["ended_by"], found, aside) if part)
