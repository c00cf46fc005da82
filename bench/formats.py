"""How well streams are read with no help: the share read right, the share wrong among those that are called sure, and how
many lines it takes; and what working formats out costs. Run by `make bench` (part `formats`).
"""

from __future__ import annotations

import argparse
import random
import sys
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import NamedTuple

import msgspec

from common_bench.model.block import Stamped
from common_bench.reading.reader import Reader

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from streams import Stream, streams, torn, wrong_in

WORKERS = 2
COUNT, FIRST = 2000, 100_000  # streams and the first of their seeds
KITS, PER_SECOND, SECONDS = 32, 100, 10
Told = Callable[[str, str, str, bool], None]


class Verdict(NamedTuple):
    """What came of one stream. wrong: what is read wrongly in the end, "" where nothing; sure_wrong: the same of the
    format that was called sure first, None where none was; right_from: after how many lines it was read as in the end."""

    family: str
    about: str
    wrong: str
    asked: bool
    sure_wrong: str | None
    right_from: int


def verdict(stream: Stream) -> Verdict:
    """Feeds a stream line by line, as it was heard, and looks at what is made of it."""
    reader, first_sure, changed = Reader(), None, 0
    before = None
    for number, (at, line, _) in enumerate(stream.lines, 1):
        reader.feed([Stamped(at, line + b"\n")])
        if reader.format is None:
            continue
        shape = (reader.format.dialect, reader.format.columns, reader.format.decimal_comma)
        if shape != before:
            before, changed = shape, number
        if first_sure is None and reader.format.sure >= 1.0:
            first_sure = wrong_in(reader.format, stream, heard=number)
    wrong = wrong_in(reader.format, stream)
    asked = reader.format is not None and bool(reader.format.question)
    return Verdict(stream.family, stream.about, wrong, asked, first_sure, changed)


def _some(asked: tuple[int, int, bool, bool]) -> list[Verdict]:
    count, first, aside, are_torn = asked
    found = streams(count, first, aside=aside)
    return [verdict(torn(each, random.Random(first)) if are_torn else each) for each in found]


def judged(count: int, first: int, *, aside: bool, are_torn: bool = False) -> list[Verdict]:
    """The verdicts on so many streams; are_torn: one line in ten is."""
    parts = [(min(100, count - at), first + at, aside, are_torn) for at in range(0, count, 100)]
    with ProcessPoolExecutor(WORKERS) as pool:
        return [each for part in pool.map(_some, parts) for each in part]


def formats(told: Told, count: int = COUNT, *, show: bool = False) -> None:
    for aside, number, name in ((False, count, "known"), (True, max(1, count // 4), "set-aside")):
        found = judged(number, FIRST, aside=aside)
        right = sum(1 for each in found if not each.wrong)
        asked = sum(1 for each in found if each.wrong and each.asked)
        sure = [each for each in found if each.sure_wrong is not None]
        wrong = sum(1 for each in sure if each.sure_wrong)
        lines = sorted(each.right_from for each in found if not each.wrong)
        told(
            f"streams of {name} families read right in the end",
            f"{right} of {number} ({right / number:.1%})",
            "99%",
            right >= 0.99 * number,
        )
        print(
            f"    asked about rather than read right: {asked}; lines until right: {lines[len(lines) // 2]} in the middle, {lines[(9 * len(lines)) // 10]} at nine of ten"
        )
        told(
            f"wrong among those called sure ({name})",
            f"{wrong} of {len(sure)}",
            "under 1 in 200",
            wrong * 200 < max(1, len(sure)),
        )
        by_family = Counter(each.family for each in found if each.wrong)
        print(
            "    not right by family:",
            ", ".join(f"{family} {times}" for family, times in by_family.most_common()) or "none",
        )
        if show:
            for each in found:
                if each.wrong or each.sure_wrong:
                    print("   ", each.family, "|", each.about, "|", each.wrong, "| when sure:", each.sure_wrong)
        some = judged(number // 5, FIRST, aside=aside, are_torn=True)
        kept = sum(1 for each in some if not each.wrong)
        share = f"{kept} of {len(some)} ({kept / len(some):.1%})"
        told(f"the same ({name}), one line in ten torn", share, "(told)", True)
    cost(told)


def cost(told: Told) -> None:
    """Processor time of working formats out, beside reading the same lines when their format is known."""
    dice = random.Random(1)
    lines = [b"ms;load;temp"] + [b"%d;%d;%.1f" % (10 * k, 8412 + dice.randrange(-40, 40), 21.4 + dice.gauss(0, 0.05)) for k in range(PER_SECOND * (SECONDS + 20))]  # fmt: skip
    probe = Reader()
    for at, line in enumerate(lines[:600]):
        probe.feed([Stamped(at / PER_SECOND, line + b"\n")])
    assert probe.format is not None
    known = msgspec.structs.replace(probe.format, by_hand=True)

    def seconds(
        format: msgspec.Struct | None, first: int, last: int, reader: Reader | None = None
    ) -> tuple[float, Reader]:
        reader = reader or Reader(format)  # type: ignore[arg-type]
        began = time.process_time()
        for at in range(first, last, 5):
            reader.feed([Stamped(at / PER_SECOND, b"\n".join(lines[at : at + 5]) + b"\n")])
        return time.process_time() - began, reader

    early, late, knowns = [], [], []
    for _ in range(KITS):
        with_it, reader = seconds(None, 0, PER_SECOND * SECONDS)
        without, other = seconds(known, 0, PER_SECOND * SECONDS)
        early.append(with_it - without)
        knowns.append(without)
        later = PER_SECOND * (SECONDS + 1)  # the last look within the first ten seconds comes just after them
        for each in (reader, other):
            seconds(None, PER_SECOND * SECONDS, later, each)
        after, _ = seconds(None, later, len(lines), reader)
        plain, _ = seconds(None, later, len(lines), other)
        late.append(after - plain)
    plain_began = time.process_time()
    for line in lines[: PER_SECOND * SECONDS]:  # what the yardstick's script does with a line, but for keeping it
        [float(each) for each in line.decode().split(";") if each[:1].isdigit()]
    plain_script = KITS * (time.process_time() - plain_began)
    print(
        f"    reading them when their format is known: {KITS * sum(knowns) / len(knowns) / SECONDS:.1%}; decoding, splitting and float alone, line by line: {plain_script / SECONDS:.1%}"
    )
    told(
        f"working formats out of {KITS} kits at {PER_SECOND} lines/s, ten s",
        f"{sum(early) / SECONDS:.1%} of a core",
        "under 3%",
        sum(early) / SECONDS < 0.03,
    )
    told("the same from 11 s on", f"{sum(late) / 19:.2%} of a core", "nothing measurable", sum(late) / 19 < 0.005)


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--count", type=int, default=COUNT)
    asked.add_argument("--show", action="store_true", help="each stream that is not read right")
    options = asked.parse_args()
    formats(
        lambda name, figure, wanted, good: print(
            f"{name:<58} {figure:>24}   asked: {wanted:<22} {'met' if good else 'NOT MET'}"
        ),
        options.count,
        show=options.show,
    )


if __name__ == "__main__":
    main()
