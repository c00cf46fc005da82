"""`plans`: the plans to begin with."""

from __future__ import annotations

import argparse

from common_bench.cli.saying import print_json, say

HELP = "the plans to begin with: shipped and one's own"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("--json", action="store_true", help="print them as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status."""
    from common_bench.lesson.plan_library import all_plans, library_folder

    plans = all_plans()
    if asked.json:
        print_json(
            [
                {
                    "key": each.key, "name": each.name, "shipped": each.is_shipped,
                    "file": str(each.path) if each.path else None, "gives": each.plan.gives if each.plan else "",
                    "trouble": each.trouble.sentence if each.trouble else None, "stand_ins": bool(each.world),
                }
                for each in plans
            ]
        )  # fmt: skip
        return 0
    for each in plans:
        told = each.trouble.sentence if each.trouble else each.plan.gives if each.plan else ""
        say(f"{each.key:<24}{each.name:<26}{told}")
    say(f"Your own plans lie in {library_folder()}")
    return 0
