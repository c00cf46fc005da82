"""`demo`: a whole lesson with stand-in kits."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import say, world_speed
from common_bench.model.plan_file import shipped_names
from common_bench.model.trouble import Trouble

HELP = "a whole lesson with stand-in kits: in the window, or by itself with --headless"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("--headless", action="store_true", help="hold the whole lesson without a window")
    parser.add_argument(
        "--out", type=Path, metavar="DIR", help="where the book and the results go (a new or empty folder)"
    )
    parser.add_argument(
        "--class",
        dest="class_name",
        default="swinging-bottles",
        choices=shipped_names(),
        help="which sample class",
    )
    parser.add_argument(
        "--speed", type=float, metavar="X", help="the stand-ins' world runs X times as fast (headless: 6)"
    )
    parser.add_argument("--seed", type=int, default=9, help="repeats the same class (9)")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    if asked.headless:
        from common_bench.lesson.demonstration import demonstrate

        out = asked.out or Path("out/demo")
        if out.exists() and any(out.iterdir()):
            raise Trouble("demo-folder-not-empty", where=str(out))
        done = demonstrate(
            out, speed=world_speed(asked.speed, 6.0), seed=asked.seed, class_name=asked.class_name, say=say
        )
        say(f"{done.name} = {done.finding}")
        return 0
    from common_bench.desk.shell.application import run_demo as open_desk

    return open_desk(asked.out, world_speed(asked.speed, 1.0), asked.seed, asked.class_name)
