"""`export`: every lesson of a book, or one, to open formats."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import say

HELP = "every lesson of a book, or one, to open formats"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")
    parser.add_argument(
        "folder", type=Path, metavar="DIR", help="a new or empty folder; it is made where it does not exist"
    )
    parser.add_argument(
        "--lesson", type=int, metavar="N", help="one lesson by its number (`show` lists them); all of them otherwise"
    )
    parser.add_argument("--parquet", action="store_true", help="runs as columnar files (Parquet) too")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.exporting import export_book

    done = export_book(asked.book, asked.folder, lesson=asked.lesson, parquet=asked.parquet)
    for path in done.files:
        say(str(path))
    for each in done.left_out:
        say(f"not exported: {each}")
    say(f"{len(done.files)} files in {asked.folder}")
    return 0
