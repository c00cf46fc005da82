"""`open`: a bench book in the window."""

from __future__ import annotations

import argparse
from pathlib import Path

HELP = "open a bench book in the window"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.book.book_file import check_file
    from common_bench.desk.shell.application import run_book

    check_file(asked.book)
    return run_book(asked.book)
