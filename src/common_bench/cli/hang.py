"""`hang`: something on running stand-in kits, or a fault."""

from __future__ import annotations

import argparse

from common_bench.model.trouble import Trouble

HELP = "hang something on running stand-in kits, or give them a fault"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument(
        "what",
        help="what the class knows, as nothing, '100 g', bottle, '40 °C', charged, 'let go', cart, lamp; or a fault as unplug, plug, silent, talk, restart, noise",
    )
    parser.add_argument("kits", nargs="*", metavar="KIT", help="aliases, as Basalt (all)")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.links.discovery import all_notices
    from common_bench.standins.control import order

    running = all_notices()
    if not running:
        raise Trouble("no-stand-ins-running")
    from common_bench.standins.faults import FAULTS

    what = {"fault": asked.what} if asked.what in FAULTS else {"hang": asked.what}
    for notice in running:
        order(notice.control, kits=asked.kits or "all", **what)
    return 0
