"""How much room the journal takes beside a plain script's CSV, and how long a large book and a long run keep one waiting."""

from __future__ import annotations

import csv
import gc
import io
import json
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import msgspec
import numpy as np
from sqlalchemy import insert, text

from common_bench.book import schema
from common_bench.book.journal import HEARD, heard_row
from common_bench.book.packing import packed, unpacked
from common_bench.book.soundness import journal_sum
from common_bench.calibrate.fitting import standing
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Stamped
from common_bench.model.calibration import CurveChoice
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.stream import ClockState
from common_bench.record.chain import Chain
from common_bench.standins.classes import ALIASES

Told = Callable[[str, str, str, bool], None]
ROW = 1 << 14  # bytes that lie in a row of the journal
RUNS, READINGS, LONG, RATE = 1000, 100_000, 10_000_000, 100.0


def csv_of(lines: list[tuple[float, bytes]]) -> int:
    """Bytes of what the plain script keeps of lines of numbers: the time of day and each number."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    for at, line in lines:
        with suppress(ValueError):  # words between the numbers
            writer.writerow([1.7e9 + at, *map(float, line.replace(b";", b",").split(b","))])
    return len(out.getvalue())


def journal_room(told: Told, path: Path, before: int, lines: list[tuple[float, bytes]]) -> None:
    """before: bytes of the book before anything was heard."""
    ours, theirs = (path.stat().st_size - before) / len(lines), csv_of(lines) / len(lines)
    told(
        "bytes of the book for each reading, beside the plain script's CSV", f"{ours:.1f} and {theirs:.1f}: {ours / theirs:.2f}",
        "at most half", ours <= 0.5 * theirs,
    )  # fmt: skip


def lines_of(count: int, numbers: int = 2) -> tuple[list[bytes], np.ndarray]:
    """Lines of a kit with a clock in ms and so many numbers, and when each came in s."""
    dice = np.random.default_rng(1)
    t = np.arange(count) / RATE
    load = (271_000 + 5000 * np.sin(t / 3) + dice.normal(0, 40, count)).astype(int)
    lines = [
        b"%d,%d,%.2f%s\n" % (1000 * at, load, 18 + 0.01 * (load % 7), b"".join(b",%d" % (load % (97 + each)) for each in range(numbers - 2)))
        for at, load in zip(t, load.tolist(), strict=True)
    ]  # fmt: skip
    return lines, t + dice.uniform(0, 0.002, count)


def rows_of(lines: list[bytes], stamps: np.ndarray) -> tuple[list[dict], int]:
    """The same as rows of the journal of a session that is still to be said, and how many bytes they hold."""
    rows, first, begin, size = [], 0, 0, 0
    for at, line in enumerate(lines):
        size += len(line)
        if size >= ROW or at == len(lines) - 1:
            part = [Stamped(float(stamps[k]), lines[k]) for k in range(begin, at + 1)]
            rows.append(packed([heard_row(0, HEARD, first, part[0].at, part)]))
            first, begin, size = first + size, at + 1, 0
    return rows, first


def big_book(folder: Path, runs: int = RUNS, longest: int = LONG) -> tuple[Path, int]:
    """A class with so many runs of 10⁵ readings and a long one; gives the book and that run."""
    sensors = tuple(SensorPlan(each, f"{each}_now", curve="as-it-comes") for each in ("load", "temp"))
    plan = Plan("Long", sensors=sensors, show=("load_now", "temp_now"))
    path = folder / "large.benchbook"
    lesson = OpenLesson.make(path, plan, "9B", ALIASES[:32])
    lengths = [READINGS] * runs + [longest]
    *own, chosen = recorded_before(lesson, lengths)
    with lesson.book.engine.begin() as connection:
        made = [{"run": run, "name": "load", "value": 1.0, "u": 0.1, "unit": "g", "span_from": 0.0, "span_to": READINGS / RATE - 1, "n": 5, "words": "", "made_of": "[]", "working": "", "made_at": ""} for run in own]  # fmt: skip
        connection.execute(insert(schema.finding), made)
    with lesson.book.engine.connect() as connection:
        connection.execute(text("PRAGMA wal_checkpoint(TRUNCATE)"))
    lesson.close()
    return path, chosen


def recorded_before(lesson: OpenLesson, lengths: list[int]) -> list[int]:
    """Runs of so many readings each, by the groups in turn, written into a lesson as if they had been recorded in it; their
    numbers in the book."""
    sensors = lesson.store.plan.sensors
    book, store = lesson.book, lesson.store
    lines, stamps = lines_of(READINGS, len(sensors))
    rows, size = rows_of(lines, stamps)
    reader = Chain(store.watching, ())
    reader.feed([Stamped(0.0, ",".join(["ms", *(each.channel for each in sensors)]).encode() + b"\n")])
    reader.feed([Stamped(float(at), line) for at, line in zip(stamps[:300], lines[:300], strict=True)])
    format = reader.reader.format
    kept = [standing(each.channel, each.quantity, each.unit, CurveChoice("as-it-comes")) for each in sensors]
    setting = msgspec.json.encode(Chain(store.watching, kept, format).setting(format, ClockState())).decode()
    ending = json.dumps({"code": "by-hand", "fields": {}})
    kits = [book.record("kit", identity=f"k{at}", name=f"kit {at}", link="/dev/ttyUSB0") for at in range(32)]
    made_runs = []
    for number, length in enumerate(lengths):
        repeats = length // READINGS
        group = store.groups[number % len(store.groups)].id
        session = book.record("session", lesson=store.id, kit=kits[number % 32], link="/dev/ttyUSB0", opened_at="2026-01-01T00:00:00+00:00", closed_at="x")  # fmt: skip
        with book.engine.begin() as connection:
            for repeat in range(repeats):
                made = []
                for row in rows:
                    moved = {**row, "session": session, "first_byte": row["first_byte"] + repeat * size, "at": row["at"] + repeat * READINGS / RATE}  # fmt: skip
                    if repeat:
                        again = np.frombuffer(unpacked(row)["stamps"], "<f8") + repeat * READINGS / RATE
                        moved["stamps"] = packed([{**unpacked(row), "stamps": again.astype("<f8").tobytes()}])["stamps"]
                    made.append({**moved, "check_sum": journal_sum(moved)})
                connection.execute(insert(schema.journal), made)
        run = book.record(
            "run", lesson=store.id, group=group, number=number // 32 + 1, session=session, state="closed", began_at="2026-01-01T00:00:00+00:00",
            ending=ending, setting=setting, aside="", trouble="", begin_byte=0, end_byte=size * repeats, note="", lacks="", practice=0,
        )  # fmt: skip
        made_runs.append(run)
    return made_runs


def long_runs_inside(told: Told) -> object:
    from PyQt6.QtTest import QTest

    from common_bench.desk.shell.application import application
    from common_bench.desk.shell.hub import Hub
    from common_bench.desk.shell.window import Bench

    app = application()
    with tempfile.TemporaryDirectory() as name:
        began = time.perf_counter()
        path, run = big_book(Path(name))
        print(
            f"the book was made in {time.perf_counter() - began:.0f} s: {path.stat().st_size / 1e6:.0f} MB", flush=True
        )
        lesson = OpenLesson.open(path)
        began = time.perf_counter()
        while lesson.working_up.at_hand(run) is None:
            lesson.working_up.collect()
            time.sleep(0.05)
        print(f"{LONG:g} readings were read in {time.perf_counter() - began:.0f} s", flush=True)
        lesson.close()
        began = time.perf_counter()
        lesson = OpenLesson.open(path)
        opened = time.perf_counter() - began
        told(f"a book of {RUNS} runs and {RUNS * READINGS + LONG:.2g} readings opens", f"{opened:.2f} s", "under 1 s", opened < 1)  # fmt: skip
        hub = Hub(lesson, Path(name), only_stand_ins=True)
        window = Bench(hub)
        window.show()
        QTest.qWaitForWindowExposed(window)
        group = lesson.store.run(run).group
        hub.select(group)
        hub.go("work")
        stage = window.stages["work"]
        QTest.qWait(300)
        own = [each.id for each in lesson.store.ended_runs(group)]
        stage._choose_run(own[0])  # type: ignore[attr-defined]
        QTest.qWait(1500)
        took = []
        for _ in range(5):
            began = time.perf_counter()
            stage._choose_run(run)  # type: ignore[attr-defined]
            stage.graph.repaint()  # type: ignore[attr-defined]
            took.append(time.perf_counter() - began)
            line = stage.graph_card._line  # type: ignore[attr-defined]
            assert line is not None
            assert len(line.item.getData()[0]) > 500
            stage._choose_run(own[0])  # type: ignore[attr-defined]
            QTest.qWait(1500)
        print("s each:", " ".join(f"{each:.2f}" for each in took))
        told(f"a run of {LONG:g} readings is chosen and drawn (5 times)", f"{max(took):.2f} s at most", "under 0.3 s", max(took) < 0.3)  # fmt: skip
        return window, app


def import_long(told: Told) -> None:
    """50 MB of CSV by the command, with everything done, beside the reading of its cells alone by pandas."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        dice, count = np.random.default_rng(1), 1_900_000
        t = np.arange(count) * 0.05
        columns = (t, 100 + 10 * np.sin(t / 60) + dice.normal(0, 0.1, count), 20 + dice.normal(0, 0.02, count), dice.integers(300, 320, count))  # fmt: skip
        file = folder / "long.csv"
        with file.open("w") as out:
            out.write("time (s),load (g),temp (°C),light\n")
            out.writelines(f"{a:.2f},{b:.3f},{c:.2f},{d}\n" for a, b, c, d in zip(*columns, strict=True))
        size = file.stat().st_size / 1e6
        program = [str(Path(sys.executable).parent / "common-bench"), "import", str(folder / "b.benchbook"), str(file)]
        began = time.perf_counter()
        subprocess.run(program, check=True, capture_output=True)
        took = time.perf_counter() - began
        memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1e3
        whole = subprocess.run([sys.executable, __file__, str(file)], capture_output=True, text=True, check=True).stdout
        inside, beside = map(float, whole.split())
    told(f"{size:.0f} MB of CSV ({count / 1e6:.1f} million rows) come in with everything done", f"{took:.1f} s", "under 10 s", took < 10)  # fmt: skip
    told("the same in a program that is open already, beside pandas.read_csv in one that has it loaded", f"{inside:.2f} s, {inside / beside:.1f} × ({beside:.2f} s)", "at most 3 ×", inside < 3 * beside)  # fmt: skip
    told("memory at most", f"{memory:.0f} MB", "under 500 MB", memory < 500)


def brought_in_here(file: Path) -> None:
    """Prints the s that a file takes to come into a lesson that is open, until its run is worked up, where all that the program needs is
    loaded, and the s of pandas; the best of ten of each, in turns."""
    import pandas

    from common_bench.lesson.bring_files import bring_into

    ours, theirs = [], []
    gc.freeze()  # as the window does
    for _ in range(11):
        with tempfile.TemporaryDirectory() as name:
            lesson = OpenLesson.make(Path(name) / "b.benchbook", Plan("Brought in"), "", ["Files"])
            began = time.perf_counter()
            list(bring_into(lesson, [file], ""))
            ours.append(time.perf_counter() - began)
            lesson.close()
        began = time.perf_counter()
        pandas.read_csv(file)
        theirs.append(time.perf_counter() - began)
    print(min(ours[1:]), min(theirs[1:]))


if __name__ == "__main__":
    brought_in_here(Path(sys.argv[1]))
