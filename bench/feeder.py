"""Feeds pseudo-terminals for the measurements, in a process of its own. Makes the links and prints them as one JSON line.

`flood` writes the same block of lines as fast as it is taken. `pace` writes `ms;load;temp` rows at a rate
on many links, each row with a number of its own, and keeps in LOG when (monotonic s) each was written.
"""

from __future__ import annotations

import argparse
import json
import os
import struct
import sys
import time
import tty
from pathlib import Path

FLOOD_BLOCK = 4096  # lines
LINES_A_MS = 1000  # of a flood's clock: one that ran faster than ours would be told as leaping, again and again


def terminal(link: Path) -> int:
    master, other = os.openpty()
    tty.setraw(other)
    link.unlink(missing_ok=True)
    link.symlink_to(os.ttyname(other))
    return master  # the other side stays open too, so that a reader that leaves does not end the feed


def flood(folder: Path, text: Path | None) -> None:
    master = terminal(folder / "flood")
    if text:
        block = text.read_bytes()
    else:
        block = b"".join(
            b"%d;%d;%.1f\r\n" % (at // LINES_A_MS, 271044 + at % 977, 21 + at % 10 / 10) for at in range(FLOOD_BLOCK)
        )
    print(json.dumps([str(folder / "flood")]), flush=True)
    if not text:
        block = b"ms;load;temp\r\n" + block  # the names come again with each block
    view = memoryview(block)
    while True:
        sent = 0
        while sent < len(block):
            sent += os.write(master, view[sent : sent + 65_536])


def pace(folder: Path, kits: int, rate: float, seconds: float, log: Path, columns: int) -> None:
    masters = [terminal(folder / f"pace-{at}") for at in range(kits)]
    for master in masters:
        os.set_blocking(master, False)
    print(json.dumps([str(folder / f"pace-{at}") for at in range(kits)]), flush=True)
    sys.stdin.readline()  # begins when it is told to
    began = time.monotonic()
    with log.open("wb", buffering=0) as kept:
        for row in range(int(seconds * rate)):
            time.sleep(max(0.0, began + row / rate - time.monotonic()))
            for kit, master in enumerate(masters):
                number = 100_000 + row * kits + kit
                # Opening a port throws away what was sent before, so the names come again for a while.
                heads = b"".join(b";more%d" % each for each in range(columns - 2))
                names = b"ms;load;temp%s\r\n" % heads if row % 50 == 25 and row < 300 else b""
                more = b"".join(b";%d" % (30_000 + (row * (each + 3)) % 977) for each in range(columns - 2))
                line = names + b"%d;%d;%.1f%s\r\n" % (row * 1000 / rate, number, 21 + row % 10 / 10, more)
                at = time.monotonic()
                try:
                    os.write(master, line)
                except BlockingIOError:
                    continue
                kept.write(struct.pack("<qd", number, at))


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("what", choices=["flood", "pace"])
    asked.add_argument("--folder", type=Path, required=True)
    asked.add_argument("--text", type=Path)
    asked.add_argument("--kits", type=int, default=16)
    asked.add_argument("--rate", type=float, default=50.0)
    asked.add_argument("--seconds", type=float, default=30.0)
    asked.add_argument("--columns", type=int, default=2)
    asked.add_argument("--log", type=Path, default=Path("/dev/null"))
    options = asked.parse_args()
    if options.what == "flood":
        flood(options.folder, options.text)
    else:
        pace(options.folder, options.kits, options.rate, options.seconds, options.log, options.columns)


if __name__ == "__main__":
    main()
