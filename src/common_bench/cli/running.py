"""Choosing the command, and telling a problem in one line."""

from __future__ import annotations

import argparse
import importlib
import os
import sys
import time
from collections.abc import Sequence
from types import ModuleType

from common_bench import __version__
from common_bench.model.trouble import Trouble
from common_bench.model.visible import visible

REFUSED = 2  # exit status of a problem told in words
COMMANDS = {
    "open": "open_book", "demo": "demo", "kits": "kits", "hang": "hang", "ports": "ports", "listen": "listen",
    "plans": "plans", "plan": "plan", "record": "record", "show": "show", "pool": "pool", "calibrate": "calibrate", "check": "check", "export": "export", "import": "bring", "work": "work", "fit": "fit",
}  # fmt: skip
"""command -> its module, which has HELP, arguments(parser) and run(asked)"""


def _module(command: str) -> ModuleType:
    return importlib.import_module(f"common_bench.cli.{COMMANDS[command]}")


def parser() -> argparse.ArgumentParser:
    """All commands with their arguments."""
    top = argparse.ArgumentParser(
        prog="common-bench",
        description="Class experiments: hears every group's kit, calibrates, records, works up and pools.",
        epilog="Without a command the window opens with the last book.",
    )
    top.add_argument("--version", action="version", version=f"common-bench {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND")
    for name in COMMANDS:
        module = _module(name)
        one = commands.add_parser(name, help=module.HELP, description=module.HELP[0].upper() + module.HELP[1:] + ".")
        module.arguments(one)
    return top


def main(words: Sequence[str] | None = None) -> int:
    """Runs one command; problems are one line on standard error and exit status 2."""
    given = sys.argv[1:] if words is None else list(words)
    began = time.perf_counter()
    try:
        asked = parser().parse_args(given)
        if asked.command is None:
            from common_bench.desk.shell.application import run_last_book

            return run_last_book()
        return int(_module(asked.command).run(asked))
    except Trouble as trouble:
        print(visible(f"common-bench: {trouble.sentence}"), file=sys.stderr)
        return REFUSED
    except KeyboardInterrupt:
        return 0 if time.perf_counter() - began > 0.5 else REFUSED
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
