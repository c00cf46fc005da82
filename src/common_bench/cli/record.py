"""`record`: one run on each link, without a window."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import say, seconds_in, world_speed

HELP = "record one run on each link without a window"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK", help="a book; it is made where there is none")
    parser.add_argument("links", nargs="+", metavar="LINK")
    parser.add_argument("--for", dest="seconds", required=True, metavar="TIME", help="how long, as 10s")
    parser.add_argument("--plan", type=Path, metavar="FILE", help="a plan file for a new book")
    parser.add_argument(
        "--speed", type=float, default=1.0, metavar="X", help="the stand-ins' world runs X times as fast (1)"
    )


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.recording import record

    record(asked.book, asked.links, seconds_in(asked.seconds), asked.plan, speed=world_speed(asked.speed, 1.0), say=say)
    return 0
