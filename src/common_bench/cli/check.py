"""`check`: whether a book is sound."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import say

HELP = "whether a book is sound; exit status 0 only if it is"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.book.book import Book

    book = Book.open(asked.book, readonly=True)
    try:
        problems = book.check()
    finally:
        book.close()
    for problem in problems:
        say(problem)
    if not problems:
        say(f"{asked.book} is sound.")
    return 1 if problems else 0
