"""`import`: files that kits logged on their own, as runs of a book."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import print_json, say

HELP = "bring files that kits logged on their own in as runs"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK", help="a book; it is made where there is none")
    parser.add_argument("files", nargs="+", type=Path, metavar="FILE")
    parser.add_argument(
        "--group", default="", metavar="ALIAS", help="whose they are (by the file's name, or the only group)"
    )
    parser.add_argument("--began", default="", metavar="TIME", help="when the first row was, as 2026-11-24T09:40")
    parser.add_argument("--ended", default="", metavar="TIME", help="when the last row was")
    parser.add_argument("--json", action="store_true", help="print as JSON, one object a file")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.bring_files import bring_files

    for told in bring_files(asked.book, asked.files, asked.group, began=asked.began, ended=asked.ended):
        if asked.json:
            print_json(told)
        else:
            say(told["words"])
    return 0
