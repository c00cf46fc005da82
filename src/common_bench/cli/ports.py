"""`ports`: what is plugged in."""

from __future__ import annotations

import argparse
import json

from common_bench.cli.saying import say

HELP = "what is plugged in, and what is wrong with each"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    import msgspec

    from common_bench.links.discovery import plugged_in

    found = plugged_in()
    if asked.json:
        print(json.dumps([msgspec.to_builtins(port) for port in found]))
    elif not found:
        say("Nothing is plugged in. Plug a kit in, or start stand-in kits with: common-bench kits")
    else:
        for port in found:
            say(f"{port.link}  {port.name}  {port.trouble or port.description or 'can be opened'}")
    return 0
