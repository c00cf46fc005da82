"""Files that kits could have logged, mutated and brought in: nothing may be raised but our own troubles, and what comes in must be
sound. Part of `make fuzz`; SECONDS_TO_RUN=… for another time than ten minutes."""

from __future__ import annotations

import os
import random
import resource
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan
from common_bench.model.trouble import Trouble

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from test_bringing_in import HABITS

SLOWEST = 10.0  # s that one file of a few kB may take
PIECES = (
    b",",
    b";",
    b"\t",
    b"\n",
    b"\r",
    b'"',
    b"\x00",
    b"-",
    b":",
    b"/",
    b".",
    b" ",
    b"nan",
    b"9" * 40,
    b"1e400",
    b"\xff\xfe",
    "−".encode(),
)
KEPT = 40  # runs in a book, before it is checked and another is begun


def mutated(dice: random.Random, seeds: list[bytes]) -> bytes:
    data = bytearray(dice.choice(seeds))
    for _ in range(dice.randint(1, 8)):
        at, upto = sorted(dice.randrange(len(data) + 1) for _ in range(2))
        kind = dice.randrange(7)
        if kind == 0 and data:
            data[min(at, len(data) - 1)] = dice.randrange(256)
        elif kind == 1:
            del data[at : min(upto, at + 40)]
        elif kind == 2:
            data[at:at] = dice.choice(PIECES) * dice.choice((1, 1, 1, 3, 200))
        elif kind == 3:
            data[at:at] = data[at : min(upto, at + 400)]
        elif kind == 4:
            data = data[:at] + bytearray(dice.choice(seeds)[dice.randrange(8) :])
        elif kind == 5:
            lines = data.split(b"\n")
            dice.shuffle(lines)
            data = bytearray(b"\n".join(lines))
        else:
            data = bytearray(data.replace(dice.choice(PIECES[:6]), dice.choice(PIECES[:6])))
    return bytes(data[:20_000])


def main() -> int:
    seconds, dice = float(os.environ.get("SECONDS_TO_RUN", "600")), random.Random(int(os.environ.get("SEED", "5")))
    seeds = [text if isinstance(text, bytes) else text.encode() for text, _, _ in HABITS.values()]
    told, bad, slowest, began = Counter[str](), 0, 0.0, time.monotonic()
    with tempfile.TemporaryDirectory(prefix="files-") as name:
        folder, number = Path(name), 0
        while time.monotonic() - began < seconds:
            number += 1
            lesson = OpenLesson.make(folder / f"{number}.benchbook", Plan("Fuzz"), "9B", ["Basalt", "Chalk"])
            for _ in range(KEPT):
                path = folder / f"log{dice.randrange(3)}.csv"
                data = mutated(dice, seeds)
                path.write_bytes(data)
                at = time.monotonic()
                try:
                    for preview in lesson.bringing_in.look_at_all([path]):
                        run, *_ = lesson.bringing_in.bring(preview, lesson.store.groups[0].id)
                        replayed = lesson.working_up.replayed(run)
                        assert len(replayed.t) == len(preview.logged.rows), "as many readings as rows"
                        told["brought in"] += 1
                except Trouble as trouble:
                    told[trouble.code] += 1
                except Exception as fault:
                    bad += 1
                    kept = Path(tempfile.gettempdir()) / f"file-that-failed-{bad}"
                    kept.write_bytes(data)
                    print(f"{type(fault).__name__}: {fault}: {kept}", flush=True)
                slowest = max(slowest, time.monotonic() - at)
            faults = lesson.book.check()
            lesson.close()
            if faults:
                bad += 1
                print(f"the book is not sound: {faults}", flush=True)
            (folder / f"{number}.benchbook").unlink()
    bad += slowest > SLOWEST
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000
    print(
        f"{sum(told.values())} mutated files in {seconds:.0f} s: {dict(told)}; slowest {slowest:.1f} s; at most {most:.0f} MB; {bad} bad"
    )
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
