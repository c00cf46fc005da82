"""`export`: everything in a book out to open formats."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import say

HELP = "everything in a book out to open formats"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")
    parser.add_argument("folder", type=Path, metavar="DIR", help="a new or empty folder")
    parser.add_argument("--parquet", action="store_true", help="runs as columnar files (Parquet) too")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.exporting import export_all
    from common_bench.lesson.lesson import OpenLesson

    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        files = export_all(lesson, asked.folder, parquet=asked.parquet)
        for path in files:
            say(str(path))
        say(f"{len(files)} files in {asked.folder}")
    finally:
        lesson.close()
    return 0
