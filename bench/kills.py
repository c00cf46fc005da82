"""Kills a program that records at random moments, again and again: what is lost of each run, and whether its book is sound."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from common_bench.lesson.lesson import OpenLesson
from common_bench.standins.control import StandInProcess
from test_engine import RECORDER

MOST_LOST = 0.25  # s
LONGEST = 2.5  # s from the beginning of the runs to the kill


def kills(times: int) -> int:
    """Gives how often more was lost than may be, or a book was not sound."""
    dice, bad, worst = random.Random(7), 0, 0.0
    with tempfile.TemporaryDirectory(prefix="kills-") as name:
        folder = Path(name)
        stand_ins = StandInProcess(folder / "ports", count=2)
        try:
            for number in range(times):
                lost, faults = _once(folder / f"{number}.benchbook", stand_ins.folder, dice.uniform(0.0, LONGEST))
                worst = max(worst, lost)
                if lost > MOST_LOST or faults:
                    bad += 1
                    print(f"kill {number}: {lost * 1000:.0f} ms lost; {'; '.join(faults) or 'sound'}", flush=True)
                (folder / f"{number}.benchbook").unlink(missing_ok=True)
        finally:
            stand_ins.stop()
    print(f"killed {times} times at random moments: at most {worst * 1000:.0f} ms of readings lost (asked: 250), {bad} bad", flush=True)  # fmt: skip
    return bad


def _once(book: Path, ports: Path, after: float) -> tuple[float, list[str]]:
    """s of readings that were heard and are not in the book, and what is wrong with it."""
    command = [sys.executable, "-c", RECORDER, str(book), str(ports)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline() == "recording\n"
    time.sleep(after)
    process.send_signal(signal.SIGKILL)
    process.wait()
    seen = [tuple(line.split()) for line in process.stdout.read().splitlines() if len(line.split()) == 4]
    heard = [(int(kit), float(at), int(offset)) for kit, _, at, offset in seen]
    lesson = OpenLesson.open(book)
    try:
        faults = list(lesson.book.check())
        told = [notice.code for notice in lesson.notices]
        runs = lesson.store.runs()
        if told.count("run-was-open") != len(runs) or any(run.state != "closed" for run in runs):
            faults.append(f"told {told} of {len(runs)} runs")
        lost = 0.0
        last = max((at for _, at, _ in heard), default=0.0)
        for session in lesson.book.rows("session"):
            kept = lesson.book.heard_bytes(session["id"])
            missing = [at for kit, at, offset in heard if kit == session["kit"] and offset > kept]
            lost = max(lost, last - min(missing)) if missing else lost
        return lost, faults
    finally:
        lesson.close()
