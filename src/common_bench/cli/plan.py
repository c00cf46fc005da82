"""`plan`: one plan checked, or read aloud."""

from __future__ import annotations

import argparse
import json

from common_bench.cli.saying import print_json, say

HELP = "check a plan file, or read a plan aloud"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument(
        "what",
        choices=["check", "show", "schema"],
        help="check it, read it aloud, or print the JSON Schema of plan files",
    )
    parser.add_argument(
        "plan", nargs="?", default="", metavar="FILE", help="a plan file, or the key of a plan as `plans` lists it"
    )
    parser.add_argument("--json", action="store_true", help="check: print what is wrong as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status: 2 for a plan that cannot be used. Raises Trouble."""
    from common_bench.lesson.plan_checking import faults_of
    from common_bench.lesson.plan_library import find_plan
    from common_bench.lesson.plan_words import read_aloud
    from common_bench.model.plan_file import plan_schema
    from common_bench.model.trouble import PlanTrouble

    if asked.what == "schema":
        print(json.dumps(plan_schema(), indent=1, ensure_ascii=False))
        return 0
    if not asked.plan:
        raise PlanTrouble("plan-not-named")
    plan = find_plan(asked.plan).plan
    assert plan is not None
    if asked.what == "show":
        say("\n".join(read_aloud(plan)))
        return 0
    faults = faults_of(plan)
    if asked.json:
        print_json(
            [
                {"part": f.part, "at": f.at, "field": f.field, "code": f.trouble.code, "words": f.sentence}
                for f in faults
            ]
        )
        return 2 if faults else 0
    for fault in faults:
        say(f"{place_words(fault.part, fault.at, fault.field)}: {fault.sentence}")
    if not faults:
        say(f"“{plan.name}” can be used: {plan.gives or 'a class can run it'}.")
    return 2 if faults else 0


def place_words(part: str, at: int, field: str) -> str:
    """`measured 2, unit`"""
    numbered = part in ("measured", "working", "finding", "condition")
    return (
        f"{part} {at + 1}" + (f", {field}" if field else "") if numbered else f"{part}{f', {field}' if field else ''}"
    )
