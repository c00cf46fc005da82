"""What commands have in common: lengths of time, speeds, printing."""

from __future__ import annotations

import contextlib
import json

from common_bench.model.trouble import Trouble
from common_bench.model.visible import visible


def seconds_in(text: str) -> float:
    """`10s`, `2 min`, `500ms` or plain seconds. Raises Trouble otherwise."""
    for ending, factor in (("ms", 1e-3), ("min", 60.0), ("s", 1.0), ("", 1.0)):
        number = text.strip().removesuffix(ending).strip()
        if text.strip().endswith(ending):
            with contextlib.suppress(ValueError):
                value = float(number) * factor
                if 0 < value < 1e7:
                    return value
    raise Trouble("no-length-of-time", text=text)


def world_speed(given: float | None, usual: float) -> float:
    """How many times as fast the stand-ins' world runs. Raises Trouble where it cannot."""
    speed = usual if given is None else given
    if not 0.1 <= speed <= 50:
        raise Trouble("speed-out-of-range", speed=speed)
    return speed


def say(words: str) -> None:
    """One line, at once. What would steer the terminal is written out."""
    print(visible(words), flush=True)


def print_json(value: object) -> None:
    """One line of JSON; what is no number is null. Nothing in it steers a terminal: all but ASCII is escaped."""
    from common_bench.exchange.tables import without_nan

    print(json.dumps(without_nan(value)))
