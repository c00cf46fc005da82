"""`calibrate`: a calibration from a file of points."""

from __future__ import annotations

import argparse
from pathlib import Path

from common_bench.cli.saying import print_json, say

HELP = "a calibration from a file of points (columns reading, u_reading, reference, u_reference)"


def arguments(parser: argparse.ArgumentParser) -> None:
    """The words that it takes."""
    parser.add_argument("points", type=Path, metavar="POINTS.csv")
    parser.add_argument(
        "--curve", default="straight line", metavar="KIND", help="which curve (straight line); `list` lists them"
    )
    parser.add_argument("--quantity", default="quantity", metavar="NAME", help="what it shows, for the sentence")
    parser.add_argument("--unit", default="", help="unit of the references, where the header gives none")
    parser.add_argument(
        "--step",
        action="append",
        default=[],
        metavar="WORKING",
        help="what comes before the curve, as 'voltage = reading * 3.3 V / 1023'",
    )
    parser.add_argument(
        "--formula",
        default="",
        metavar="WORKING",
        help="for --curve formula: the data sheet's, as 'temperature = reading / 10 - 50'",
    )
    parser.add_argument("--u", type=float, default=0.0, help="the formula's standard uncertainty")
    parser.add_argument("--json", action="store_true", help="print as JSON")


def run(asked: argparse.Namespace) -> int:
    """Does it; gives the exit status. Raises Trouble."""
    from common_bench.calibrate.curves import CURVES, FORMULA
    from common_bench.lesson.from_file import as_json, as_words, calibration_from

    if asked.curve == "list":
        for curve in CURVES.values():
            say(f"{curve.name:<29}{curve.equation}; {curve.least} point{'s' if curve.least > 1 else ''} at least")
        say(f"{FORMULA:<29}a working by hand, with --formula and --u")
        return 0
    ready = calibration_from(
        asked.points, FORMULA if asked.formula else asked.curve, quantity=asked.quantity, unit=asked.unit,
        steps=tuple(asked.step), formula=asked.formula, u=asked.u,
    )  # fmt: skip
    if asked.json:
        print_json(as_json(ready))
    else:
        say("\n".join(as_words(ready)))
    return 0
