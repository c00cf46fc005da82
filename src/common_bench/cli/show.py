"""`show`: lessons, groups, runs and findings of a book."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from common_bench.cli.saying import print_json, say

HELP = "lessons, groups, runs and findings of a book"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    summaries = _summaries(asked.book)
    if asked.json:
        print_json({**summaries[0], "earlier": summaries[1:]})
        return 0
    for summary in summaries:
        say(
            f"lesson {summary['lesson']}: {summary['plan']} · class {summary['class']} · {summary['held_on']} · pool {summary['pool']}"
        )
        for damaged in summary["damaged"]:
            say(f"damaged and left out: {damaged}")
        for group in summary["groups"]:
            conditions = ", ".join(f"{name} {value}" for name, value in group["conditions"].items())
            say(f"{group['alias']}  {conditions}")
            for run in group["runs"]:
                say(f"  run {run['number']}  {_run_words(run)}")
    return 0


def _summaries(path: Path) -> list[dict[str, Any]]:
    """One of each lesson of a book, the newest first."""
    from common_bench.lesson.lesson import OpenLesson, lesson_summary

    newest = OpenLesson.open(path, readonly=True)
    try:
        ids = [row["id"] for row in newest.book.rows("lesson")]
        found = [lesson_summary(newest)]
    finally:
        newest.close()
    for lesson in reversed(ids[:-1]):
        before = OpenLesson.open(path, lesson, readonly=True)
        try:
            found.append(lesson_summary(before))
        finally:
            before.close()
    return found


def _run_words(run: dict[str, Any]) -> str:
    from common_bench.model.measured import written

    found = ", ".join(f"{name} = {written(f['value'], f['u'], f['unit'])}" for name, f in run["findings"].items())
    aside = f"set aside: {run['set_aside']}" if run["set_aside"] else ""
    far = f"{run['readings']} readings so far" if run["readings"] is not None else ""
    return "  ".join(
        part for part in (run["state"], far, f"{run['bytes']} bytes", run["ended_by"], found, aside) if part
    )
