"""The command line. Words in; one thing done; plain sentences, or JSON where the output is data, out.

Slow imports wait until a command needs them, so that the window is there at once.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from common_bench import __version__
from common_bench.model.trouble import Trouble

REFUSED = 2  # exit status of a problem told in words


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(
        prog="common-bench",
        description="Class experiments: hears every group's kit, calibrates, records, works up and pools.",
        epilog="Without a command the window opens with the last book.",
    )
    top.add_argument("--version", action="version", version=f"common-bench {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND")

    def command(name: str, help: str) -> argparse.ArgumentParser:
        return commands.add_parser(name, help=help, description=help[0].upper() + help[1:] + ".")

    one = command("open", "open a bench book in the window")
    one.add_argument("book", type=Path, metavar="BOOK")
    one = command("demo", "a whole lesson with stand-in kits: in the window, or by itself with --headless")
    one.add_argument("--headless", action="store_true", help="hold the whole lesson without a window")
    one.add_argument(
        "--out", type=Path, metavar="DIR", help="where the book and the results go (a new or empty folder)"
    )
    one.add_argument(
        "--class",
        dest="class_name",
        default="swinging-bottles",
        choices=["swinging-bottles", "warm-baths"],
        help="which sample class",
    )
    one.add_argument("--speed", type=float, metavar="X", help="the stand-ins' world runs X times as fast (headless: 6)")
    one.add_argument("--seed", type=int, default=9, help="repeats the same class (9)")
    one = command("kits", "start stand-in kits, print their links, serve until stopped")
    one.add_argument(
        "--class",
        dest="class_name",
        default="swinging-bottles",
        choices=["swinging-bottles", "warm-baths"],
        help="which sample class",
    )
    one.add_argument("--count", type=int, default=6, help="how many kits, 1 to 32 (6)")
    one.add_argument("--seed", type=int, default=9, help="repeats the same class (9)")
    one.add_argument("--speed", type=float, default=1.0, metavar="X", help="their world runs X times as fast (1)")
    one.add_argument("--kit-speed", type=int, default=115_200, metavar="BAUD", help="baud (115200)")
    one.add_argument(
        "--dialect",
        default="semicolons",
        metavar="NAME,…",
        help="how they speak, in turn; `all` for every dialect, `list` lists them",
    )
    one.add_argument("--rate", type=float, default=50.0, help="readings per second of each (50)")
    one.add_argument(
        "--gate", default="", metavar="NAME,…", help="what they wait for, in turn: none, button, menu, asked"
    )
    one.add_argument(
        "--fault", action="append", default=[], metavar="NAME", help="a fault from the start; `list` lists them"
    )
    one.add_argument(
        "--over", default="serial", choices=["serial", "tcp", "rfc2217", "mqtt"], help="where they are heard"
    )
    one.add_argument(
        "--broker", default="", metavar="LINK", help="for --over mqtt: the broker, as mqtt://127.0.0.1:1883/lab"
    )
    one.add_argument("--folder", type=Path, help="where their links are made (the ports folder)")
    one.add_argument("--json", action="store_true", help="print the links as JSON")
    one = command("hang", "hang something on running stand-in kits, or give them a fault")
    one.add_argument(
        "what",
        help="nothing, a mass as '100 g', bottle, a bath as '40 °C', or a fault as unplug, plug, silent, talk, restart, noise",
    )
    one.add_argument("kits", nargs="*", metavar="KIT", help="aliases, as Basalt (all)")
    one = command("ports", "what is plugged in, and what is wrong with each")
    one.add_argument("--json", action="store_true", help="print as JSON")
    one = command("listen", "read one link and print its readings")
    one.add_argument("link", metavar="LINK")
    one.add_argument(
        "--for", dest="seconds", default="", metavar="TIME", help="stop after this time, as 10s (until stopped)"
    )
    one.add_argument("--json", action="store_true", help="one JSON object a line")
    one = command("record", "record one run on each link without a window")
    one.add_argument("book", type=Path, metavar="BOOK", help="a book; it is made where there is none")
    one.add_argument("links", nargs="+", metavar="LINK")
    one.add_argument("--for", dest="seconds", required=True, metavar="TIME", help="how long, as 10s")
    one.add_argument("--plan", type=Path, metavar="FILE", help="a plan file for a new book")
    one.add_argument(
        "--speed", type=float, default=1.0, metavar="X", help="the stand-ins' world runs X times as fast (1)"
    )
    for name, help in (
        ("show", "lessons, groups, runs and findings of a book"),
        ("pool", "the class dataset of a book and its statistics"),
    ):
        one = command(name, help)
        one.add_argument("book", type=Path, metavar="BOOK")
        one.add_argument("--json", action="store_true", help="print as JSON")
    one = command(
        "calibrate", "a calibration from a file of points (columns reading, u_reading, reference, u_reference)"
    )
    one.add_argument("points", type=Path, metavar="POINTS.csv")
    one.add_argument(
        "--curve", default="straight line", metavar="KIND", help="which curve (straight line); `list` lists them"
    )
    one.add_argument("--quantity", default="quantity", metavar="NAME", help="what it shows, for the sentence")
    one.add_argument("--unit", default="", help="unit of the references, where the header gives none")
    one.add_argument(
        "--step",
        action="append",
        default=[],
        metavar="WORKING",
        help="what comes before the curve, as 'voltage = reading * 3.3 V / 1023'",
    )
    one.add_argument(
        "--formula",
        default="",
        metavar="WORKING",
        help="for --curve formula: the data sheet's, as 'temperature = reading / 10 - 50'",
    )
    one.add_argument("--u", type=float, default=0.0, help="the formula's standard uncertainty")
    one.add_argument("--json", action="store_true", help="print as JSON")
    one = command("check", "whether a book is sound; exit status 0 only if it is")
    one.add_argument("book", type=Path, metavar="BOOK")
    one = command("export", "everything in a book out to open formats")
    one.add_argument("book", type=Path, metavar="BOOK")
    one.add_argument("folder", type=Path, metavar="DIR", help="a new or empty folder")
    return top


def seconds_in(text: str) -> float:
    """`10s`, `2 min`, `500ms` or plain seconds. Raises Trouble otherwise."""
    for ending, factor in (("ms", 1e-3), ("min", 60.0), ("s", 1.0), ("", 1.0)):
        number = text.strip().removesuffix(ending).strip()
        if text.strip().endswith(ending):
            with contextlib.suppress(ValueError):
                value = float(number) * factor
                if 0 < value < 1e7:
                    return value
    raise Trouble(f"“{text}” is no length of time.", do="Write it as 10s or 2min.")


def _speed(given: float | None, usual: float) -> float:
    speed = usual if given is None else given
    if not 0.1 <= speed <= 50:
        raise Trouble(f"the stand-ins' world cannot run {speed:g} times as fast.", do="Give a --speed from 0.1 to 50.")
    return speed


def run_demo(asked: argparse.Namespace) -> int:
    if asked.headless:
        from common_bench.lesson.demonstration import demonstrate

        if asked.class_name != "swinging-bottles":
            raise Trouble(f"the class {asked.class_name} has no lesson by itself.", do="Leave --headless away.")

        out = asked.out or Path("out/demo")
        if (out / "swinging-bottles.benchbook").exists() or (out.exists() and any(out.iterdir())):
            raise Trouble(
                "this folder is not empty.", where=str(out), do="Choose a new one with --out; nothing is overwritten."
            )
        done = demonstrate(out, speed=_speed(asked.speed, 6.0), seed=asked.seed, say=_say)
        print(f"g = {done.g}")
        return 0
    from common_bench.desk.shell.application import run_demo as open_desk

    return open_desk(asked.out, _speed(asked.speed, 1.0), asked.seed, asked.class_name)


def _say(words: str) -> None:
    print(words, flush=True)


def run_open(asked: argparse.Namespace) -> int:
    from common_bench.book.book import check_file
    from common_bench.desk.shell.application import run_book

    check_file(asked.book)
    return run_book(asked.book)


def run_kits(asked: argparse.Namespace) -> int:
    from common_bench.links.discovery import ports_folder
    from common_bench.standins.dialects import SPEECHES
    from common_bench.standins.faults import FAULTS, GATES
    from common_bench.standins.stand_in_class import StandInClass

    if asked.dialect == "list":
        for name, speech in SPEECHES.items():
            print(f"{name:<16}{speech.about}")
        return 0
    if asked.fault == ["list"]:
        for name, words in FAULTS.items():
            print(f"{name:<16}{words}")
        return 0
    if not 1 <= asked.count <= 32:
        raise Trouble(f"there cannot be {asked.count} kits.", do="Give a --count from 1 to 32.")
    dialects = list(SPEECHES) if asked.dialect == "all" else asked.dialect.split(",")
    gates = ["" if each == "none" else each for each in asked.gate.split(",")]
    for chosen, known, option in (
        (dialects, SPEECHES, "dialect"),
        (gates, GATES, "gate"),
        (asked.fault, FAULTS, "fault"),
    ):
        unknown = [each for each in chosen if each not in known]
        if unknown:
            raise Trouble(
                f"there is no {option} “{unknown[0]}”.", do=f"Choose from: {', '.join(n for n in known if n)}."
            )
    if asked.over == "mqtt" and not asked.broker:
        raise Trouble("the broker is missing.", do="Give it as --broker mqtt://127.0.0.1:1883/lab")
    try:
        made = StandInClass(
            asked.folder or ports_folder(), count=asked.count, seed=asked.seed, world_speed=_speed(asked.speed, 1.0),
            speed=asked.kit_speed, dialects=dialects, rate=asked.rate, gates=gates, faults=asked.fault, over=asked.over,
            broker=asked.broker, class_name=asked.class_name,
        )  # fmt: skip
    except OSError as fault:
        raise Trouble(
            f"the stand-in kits cannot start ({fault.strerror}).", do="Check --folder and --broker."
        ) from fault
    if asked.json:
        print(
            json.dumps([{"link": p.link, "name": p.name, "kit": p.identity, "speed": p.speed} for p in made.ports]),
            flush=True,
        )
    else:
        for port in made.ports:
            print(f"{port.link}  {port.description}, {port.speed} baud", flush=True)
        print("Serving until stopped (Ctrl+C). Hang something with: common-bench hang '100 g'", flush=True)
    made.serve()
    return 0


def run_hang(asked: argparse.Namespace) -> int:
    from common_bench.links.discovery import notices
    from common_bench.standins.control import order

    running = notices()
    if not running:
        raise Trouble("no stand-in class is running.", do="Start one with: common-bench kits")
    from common_bench.standins.faults import FAULTS

    what = {"fault": asked.what} if asked.what in FAULTS else {"hang": asked.what}
    for notice in running:
        order(notice.control, kits=asked.kits or "all", **what)
    return 0


def run_ports(asked: argparse.Namespace) -> int:
    import msgspec

    from common_bench.links.discovery import plugged_in

    found = plugged_in()
    if asked.json:
        print(json.dumps([msgspec.to_builtins(port) for port in found]))
    elif not found:
        print("Nothing is plugged in. Plug a kit in, or start stand-in kits with: common-bench kits")
    else:
        for port in found:
            print(f"{port.link}  {port.name}  {port.trouble or port.description or 'can be opened'}")
    return 0


def run_listen(asked: argparse.Namespace) -> int:
    from common_bench.lesson.listening import listen

    return listen(asked.link, seconds_in(asked.seconds) if asked.seconds else None, as_json=asked.json)


def run_record(asked: argparse.Namespace) -> int:
    from common_bench.lesson.recording import record

    record(asked.book, asked.links, seconds_in(asked.seconds), asked.plan, speed=_speed(asked.speed, 1.0), say=_say)
    return 0


def run_show(asked: argparse.Namespace) -> int:
    from common_bench.lesson.lesson import OpenLesson, lesson_summary

    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        summary = lesson_summary(lesson)
        if asked.json:
            print(json.dumps(_plain(summary)))
            return 0
        print(f"{summary['plan']} · class {summary['class']} · {summary['held_on']} · pool {summary['pool']}")
        for group in summary["groups"]:
            conditions = ", ".join(f"{name} {value}" for name, value in group["conditions"].items())
            print(f"{group['alias']}  {conditions}")
            for run in group["runs"]:
                print(f"  run {run['number']}  {_run_words(run)}")
    finally:
        lesson.book.close()
    return 0


def _run_words(run: dict[str, Any]) -> str:
    from common_bench.model.measured import written

    found = ", ".join(f"{name} = {written(f['value'], f['u'], f['unit'])}" for name, f in run["findings"].items())
    aside = f"set aside: {run['set_aside']}" if run["set_aside"] else ""
    return "  ".join(part for part in (run["state"], f"{run['bytes']} bytes", run["ended_by"], found, aside) if part)


def run_pool(asked: argparse.Namespace) -> int:
    from common_bench.exchange.tables import pool_json
    from common_bench.lesson.lesson import OpenLesson
    from common_bench.model.measured import written

    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        rows, result = lesson.pool_rows(), lesson.class_result()
        if asked.json:
            print(json.dumps(json.loads(pool_json(lesson.plan.name, lesson.class_name, rows, result))))
            return 0
        for row in rows:
            values = ", ".join(f"{name} {value}" for name, value in {**row.conditions, **row.findings}.items())
            print(f"{row.alias} run {row.number}  {values}" + (f"  set aside: {row.aside}" if row.aside else ""))
        for place in result.places:
            if place.words:
                print(place.words)
        if result.finding is not None:
            print(f"{result.finding_name} = {written(result.finding.value, result.finding.u, result.finding.unit)}")
        else:
            print(result.why_no_line or "The pool is empty: send findings to it in stage 5, Work up.")
    finally:
        lesson.book.close()
    return 0


def _plain(value: Any) -> Any:
    from common_bench.exchange.tables import without_nan

    return without_nan(value)


def run_calibrate(asked: argparse.Namespace) -> int:
    from common_bench.calibrate.curves import CURVES, FORMULA
    from common_bench.lesson.from_file import as_json, as_words, calibration_from

    if asked.curve == "list":
        for curve in CURVES.values():
            print(f"{curve.name:<29}{curve.equation}; {curve.least} point{'s' if curve.least > 1 else ''} at least")
        print(f"{FORMULA:<29}a working by hand, with --formula and --u")
        return 0
    ready = calibration_from(
        asked.points, FORMULA if asked.formula else asked.curve, quantity=asked.quantity, unit=asked.unit,
        steps=tuple(asked.step), formula=asked.formula, u=asked.u,
    )  # fmt: skip
    if asked.json:
        print(json.dumps(_plain(as_json(ready))))
    else:
        print("\n".join(as_words(ready)))
    return 0


def run_check(asked: argparse.Namespace) -> int:
    from common_bench.book.book import Book

    book = Book.open(asked.book, readonly=True)
    try:
        problems = book.check()
    finally:
        book.close()
    for problem in problems:
        print(problem)
    if not problems:
        print(f"{asked.book} is sound.")
    return 1 if problems else 0


def run_export(asked: argparse.Namespace) -> int:
    from common_bench.lesson.exporting import export_all
    from common_bench.lesson.lesson import OpenLesson

    lesson = OpenLesson.open(asked.book, readonly=True)
    try:
        for path in export_all(lesson, asked.folder):
            print(path)
    finally:
        lesson.book.close()
    return 0


def main(words: Sequence[str] | None = None) -> int:
    """Runs one command; problems are one line on standard error and exit status 2."""
    asked = parser().parse_args(words)
    began = time.perf_counter()
    try:
        if asked.command is None:
            from common_bench.desk.shell.application import run_last_book

            return run_last_book()
        commands = {
            "open": run_open, "demo": run_demo, "kits": run_kits, "hang": run_hang, "ports": run_ports, "listen": run_listen,
            "record": run_record, "show": run_show, "pool": run_pool, "calibrate": run_calibrate, "check": run_check, "export": run_export,
        }  # fmt: skip
        return commands[asked.command](asked)
    except Trouble as trouble:
        print(f"common-bench: {trouble.sentence}", file=sys.stderr)
        return REFUSED
    except KeyboardInterrupt:
        return 0 if time.perf_counter() - began > 0.5 else REFUSED
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0


if __name__ == "__main__":
    sys.exit(main())
