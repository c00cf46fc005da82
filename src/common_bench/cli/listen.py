"""`listen`: the readings of one link."""

from __future__ import annotations

import argparse

from common_bench.cli.saying import seconds_in

HELP = "read one link and print its readings"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("link", metavar="LINK")
    parser.add_argument(
        "--for", dest="seconds", default="", metavar="TIME", help="stop after this time, as 10s (until stopped)"
    )
    parser.add_argument("--json", action="store_true", help="one JSON object a line")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.listening import listen

    return listen(asked.link, seconds_in(asked.seconds) if asked.seconds else None, as_json=asked.json)
