"""`record`: runs on each link as the plan says, without a window."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import say, seconds_in, world_speed

HELP = "record runs on each link as the plan says, without a window"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("book", type=Path, metavar="BOOK", help="a book; it is made where there is none")
    parser.add_argument("links", nargs="+", metavar="LINK")
    parser.add_argument(
        "--for",
        dest="seconds",
        metavar="TIME",
        help="the longest that a run lasts, as 10s; otherwise as the plan's rule says",
    )
    parser.add_argument(
        "--plan", type=Path, metavar="FILE", help="the plan of a new book, or of a further lesson of a book that exists"
    )
    parser.add_argument("--runs", type=int, metavar="N", help="runs of each group; otherwise as many as the plan wants")
    parser.add_argument(
        "--speed", type=float, default=1.0, metavar="X", help="the stand-ins' world runs X times as fast (1)"
    )


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.lesson.recording import record

    seconds = seconds_in(asked.seconds) if asked.seconds is not None else None
    record(
        asked.book, asked.links, seconds, asked.plan, speed=world_speed(asked.speed, 1.0), say=say, runs=asked.runs
    )  # fmt: skip
    return 0
