"""`kits`: stand-in kits that are served until stopped."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from common_bench.cli.saying import say, world_speed
from common_bench.model.trouble import Trouble
from common_bench.standins.world import worlds

HELP = "start stand-in kits, print their links, serve until stopped"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument(
        "--class",
        dest="class_name",
        default="swinging-bottles",
        choices=worlds(),
        help="which sample class",
    )
    parser.add_argument("--count", type=int, default=6, help="how many kits, 1 to 32 (6)")
    parser.add_argument("--seed", type=int, default=9, help="repeats the same class (9)")
    parser.add_argument("--speed", type=float, default=1.0, metavar="X", help="their world runs X times as fast (1)")
    parser.add_argument("--kit-speed", type=int, default=115_200, metavar="BAUD", help="baud (115200)")
    parser.add_argument(
        "--dialect",
        default="semicolons",
        metavar="NAME,…",
        help="how they speak, in turn; `all` for every dialect, `list` lists them",
    )
    parser.add_argument(
        "--rate", type=float, default=0.0, help="readings per second of each (as its class has it, mostly 50)"
    )
    parser.add_argument(
        "--gate", default="", metavar="NAME,…", help="what they wait for, in turn: none, button, menu, asked"
    )
    parser.add_argument(
        "--fault", action="append", default=[], metavar="NAME", help="a fault from the start; `list` lists them"
    )
    parser.add_argument(
        "--over", default="serial", choices=["serial", "tcp", "rfc2217", "mqtt"], help="where they are heard"
    )
    parser.add_argument(
        "--broker", default="", metavar="LINK", help="for --over mqtt: the broker, as mqtt://127.0.0.1:1883/lab"
    )
    parser.add_argument("--folder", type=Path, help="where their links are made (the ports folder)")
    parser.add_argument("--json", action="store_true", help="print the links, and what is true of each bench, as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.links.discovery import ports_folder
    from common_bench.standins.dialects import SPEECHES
    from common_bench.standins.faults import FAULTS, GATES
    from common_bench.standins.stand_in_class import StandInClass

    if asked.dialect == "list":
        for name, speech in SPEECHES.items():
            say(f"{name:<16}{speech.about}")
        return 0
    if asked.fault == ["list"]:
        for name, words in FAULTS.items():
            say(f"{name:<16}{words}")
        return 0
    if not 1 <= asked.count <= 32:
        raise Trouble("count-out-of-range", count=asked.count)
    dialects = list(SPEECHES) if asked.dialect == "all" else asked.dialect.split(",")
    gates = ["" if each == "none" else each for each in asked.gate.split(",")]
    for chosen, known, option in (
        (dialects, SPEECHES, "dialect"),
        (gates, GATES, "gate"),
        (asked.fault, FAULTS, "fault"),
    ):
        unknown = [each for each in chosen if each not in known]
        if unknown:
            raise Trouble("no-such-choice", option=option, unknown=unknown[0], known=", ".join(n for n in known if n))
    if asked.over == "mqtt" and not asked.broker:
        raise Trouble("broker-missing")
    try:
        made = StandInClass(
            asked.folder or ports_folder(), count=asked.count, seed=asked.seed, world_speed=world_speed(asked.speed, 1.0),
            speed=asked.kit_speed, dialects=dialects, rate=asked.rate, gates=gates, faults=asked.fault, over=asked.over,
            broker=asked.broker, class_name=asked.class_name,
        )  # fmt: skip
    except OSError as fault:
        raise Trouble("stand-ins-cannot-start", strerror=fault.strerror or fault) from fault
    if asked.json:
        say(
            json.dumps(
                [
                    {
                        "link": p.link,
                        "name": p.name,
                        "kit": p.identity,
                        "speed": p.speed,
                        "truth": made.truth_of(p.identity.removeprefix("stand-in-")),
                        "class_finds": made.truth,
                    }
                    for p in made.ports
                ]
            )
        )
    else:
        for port in made.ports:
            say(f"{port.link}  {port.description}, {port.speed} baud")
        say("Serving until stopped (Ctrl+C). Hang something with: common-bench hang '100 g'")
    made.serve()
    return 0
