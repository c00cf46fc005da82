"""Fuzzes the rim: damaged books, hostile kits beside a healthy one, floods on each kind of link, hostile plans and units, 200 kills.

Run by `make fuzz`; `python bench/rim.py PART … --seconds 60` runs some of it. Prints what was tried and found; exit status 1
where anything was found.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
import tty
from collections.abc import Callable, Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from common_bench.book.book import Book
from common_bench.cli.running import main as command
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import read_address
from common_bench.links.opening import open_link
from common_bench.model.bench import Port
from common_bench.model.plan import Plan
from common_bench.model.plan_file import plan_from_text, shipped_plan
from common_bench.model.plan_file import plan_to_text as text_of_plan
from common_bench.model.trouble import Trouble
from common_bench.model.units import conversion
from common_bench.workings.evaluate import check
from damage import damaged
from kills import kills

OLD = Path(__file__).parent.parent / "tests" / "books" / "version-3.benchbook"
LIMIT = 20  # s that one input may take
PIECES = ("m", "s", "kg", "°C", "^", "**", "9", "-2", "(", ")", "/", "·", "²", "⁻", "1e9", "=", "[", "]", "{", "}", '"', ".", ",", "\n", "a", "peaks in ", "mean of ", " ± ", "#", "\x00", "é", "99999999")  # fmt: skip


class TooLong(Exception):
    """One input took longer than LIMIT s."""


@contextlib.contextmanager
def limited() -> Iterator[None]:
    def stop(*_: object) -> None:
        raise TooLong

    before = signal.signal(signal.SIGALRM, stop)
    signal.alarm(LIMIT)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


def tried(what: str, act: Callable[[], object]) -> int:
    """1 where something but a trouble in words came of it."""
    try:
        with limited(), contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
            act()
    except Trouble as trouble:
        return 0 if trouble.sentence else 1
    except BaseException:
        print(f"FOUND with {what}:\n{traceback.format_exc(limit=-3)}")
        return 1
    return 0


def books(seconds: float) -> int:
    """Books damaged at random: `check`, `show`, `pool`, `export` and the lesson that opens them."""
    folder = Path(tempfile.mkdtemp(prefix="rim-"))
    source = folder / "source.benchbook"
    shutil.copy(OLD, source)
    Book.open(source).close()
    found, seed, until = 0, random.SystemRandom().randrange(10**6), time.monotonic() + seconds
    first = seed
    while time.monotonic() < until:
        book, out = folder / f"{seed}.benchbook", folder / f"out-{seed}"
        shutil.copy(source, book)
        how = damaged(book, seed)
        for words in (["check", str(book)], ["show", str(book)], ["pool", str(book), "--json"], ["export", str(book), str(out)]):  # fmt: skip
            found += tried(f"book {seed} ({how}), {words[0]}", lambda words=words: command(words))  # type: ignore[misc]

        def hold(book: Path = book) -> None:
            lesson = OpenLesson.open(book)
            lesson.tick()
            lesson.close()

        found += tried(f"book {seed} ({how}), held", hold)
        for each in folder.glob(f"*{seed}*"):
            shutil.rmtree(each, ignore_errors=True) if each.is_dir() else each.unlink()
        seed += 1
    print(f"{seed - first} damaged books: {found} found")
    return found


def texts(seconds: float) -> int:
    """Units, workings and plans made of pieces, each within LIMIT s."""
    dice, found, count = random.Random(), 0, 0
    plan = text_of_plan(shipped_plan("swinging-bottles"))
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        text = "".join(dice.choice(PIECES) for _ in range(dice.choice((3, 8, 30, 400))))
        at = dice.randrange(len(plan))
        mixed = plan[:at] + text + plan[at + dice.randrange(40) :]
        found += tried(f"the unit {text!r}", lambda text=text: conversion(text, "m"))  # type: ignore[misc]
        found += tried(
            f"the working {text!r}", lambda text=text: check([f"a = 3 {text}", f"b = a * 2 s as {text}"], {})
        )  # type: ignore[misc]
        found += tried(f"the plan {mixed!r}", lambda mixed=mixed: plan_from_text(mixed, "fuzz"))  # type: ignore[misc]
        count += 3
    print(f"{count} hostile texts: {found} found")
    return found


def _terminal() -> tuple[int, str]:
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    return ours, os.ttyname(theirs)


def kits(seconds: float) -> int:
    """A healthy kit beside hostile ones: its drops and gaps are counted."""
    dice = random.Random()
    evil: list[Callable[[], bytes]] = [
        lambda: b"".join(b"%d;%d\n" % (dice.randrange(999), k) for k in range(300)),
        lambda: dice.randbytes(dice.randrange(2000)),
        lambda: b'{"id":"<img src=/dev/zero>' + dice.randbytes(9).hex().encode() + b'","\\u001b[2J":1}\n',
        lambda: b"9" * 3000,
        lambda: b"[" * 500 + b"\n" + b"a;b;c;" * 200 + b"\n",
        lambda: b"m^9^9^9;x (m^9^9^9)\n1;2\n",
    ]
    going = threading.Event()
    lines = 0

    def healthy(end: int) -> None:
        nonlocal lines
        os.write(end, b"ms;load\n")
        began = time.monotonic()
        while not going.wait(max(0.0, began + lines / 100 - time.monotonic())):
            os.write(end, b"%d;%d\n" % (10 * lines, 4000 + lines % 7))
            lines += 1

    def hostile(end: int, makes: Callable[[], bytes]) -> None:
        while not going.wait(0.01):
            with contextlib.suppress(OSError):
                os.write(end, makes())

    book = Path(tempfile.mkdtemp(prefix="rim-")) / "kits.benchbook"
    lesson = OpenLesson.make(book, Plan("rim"), "9B", [f"Bench {k}" for k in range(len(evil) + 1)])
    end, place = _terminal()
    kit = lesson.roster.hear(Port(place, "healthy", "healthy"))
    while not ((state := lesson.roster.kits.get(kit)) is not None and state.is_open):
        time.sleep(0.05)
    time.sleep(0.5)  # what comes while a port is opened is nobody's
    threading.Thread(target=healthy, args=(end,), daemon=True).start()
    for makes in evil:
        theirs, at = _terminal()
        os.set_blocking(theirs, False)
        lesson.roster.hear(Port(at, at, at))
        threading.Thread(target=hostile, args=(theirs, makes), daemon=True).start()
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        lesson.tick()
        time.sleep(0.05)
    going.set()
    time.sleep(0.5)
    state = lesson.roster.kits[kit]
    lesson.close()
    heard = Book.open(book, readonly=True)
    unsound = heard.check()
    heard.close()
    lost = lines + 1 - state.lines  # the line of names is one too
    print(f"a healthy kit beside {len(evil)} hostile ones for {seconds:.0f} s: {lines} lines sent, {lost} lost, {state.unreadable} unreadable; book: {unsound or 'sound'}")  # fmt: skip
    return int(lost != 0) + int(state.unreadable != 0) + len(unsound)


def floods(seconds: float) -> int:
    """As much as can be sent on each kind of link, read as the engine reads; memory is watched."""
    server = socket.create_server(("127.0.0.1", 0))
    going = threading.Event()

    def pour(line: socket.socket) -> None:
        with line, contextlib.suppress(OSError):
            while not going.is_set():
                line.sendall(b"1;2;3\n" * 10_000)

    def serve() -> None:
        with contextlib.suppress(OSError):
            while True:
                threading.Thread(target=pour, args=(server.accept()[0],), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    port = server.getsockname()[1]
    endless = Path(tempfile.mkdtemp(prefix="rim-")) / "endless"
    with endless.open("wb") as file:
        file.truncate(10**10)
    links = {"tcp": f"tcp://127.0.0.1:{port}", "file without a line's end": f"file:{endless}?rate=1000000"}
    with _broker() as place:
        if place:
            links["mqtt"] = f"mqtt://{place}/flood"
            threading.Thread(target=_publish, args=(place, going), daemon=True).start()
        found = 0
        for kind, link in links.items():
            opened = open_link(read_address(link))
            began, came, sizes, told = time.monotonic(), 0, [], set()
            while time.monotonic() - began < seconds:
                with contextlib.suppress(Trouble):
                    came += len(opened.read())
                warning = getattr(opened, "warning", None)
                told |= {warning.code} if warning is not None else set()
                if time.monotonic() - began > 2.0 + len(sizes):
                    sizes.append(_resident())
                time.sleep(0.002)
            opened.close()
            grown = max(sizes) - sizes[0] if sizes else 0.0
            print(f"flood by {kind} for {seconds:.0f} s: {came / seconds / 1e6:.2f} MB/s let through, memory {grown:+.1f} MB, told: {', '.join(told) or 'nothing'}")  # fmt: skip
            found += grown > 20.0
        going.set()
    return found


def _resident() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


@contextlib.contextmanager
def _broker() -> Iterator[str]:
    program = shutil.which("mosquitto") or "/usr/sbin/mosquitto"
    if not Path(program).exists():
        yield ""
        return
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = subprocess.Popen([program, "-p", str(port)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(1.0)
    yield f"127.0.0.1:{port}"
    process.kill()
    process.wait()


def _publish(place: str, going: threading.Event) -> None:
    import paho.mqtt.client as mqtt

    host, _, port = place.partition(":")
    sender = mqtt.Client(mqtt.CallbackAPIVersion.VERSION2)
    sender.connect(host, int(port))
    sender.loop_start()
    while not going.is_set():
        sender.publish("flood", b"1;2;3\n" * 8000)
        time.sleep(0.002)
    sender.loop_stop()


PARTS: dict[str, Callable[[float], int]] = {
    "books": books, "texts": texts, "kits": kits, "floods": floods, "kills": lambda seconds: kills(round(200 * seconds / 60)),
}  # fmt: skip


def main() -> int:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("parts", nargs="*", choices=[*PARTS, []])
    asked.add_argument("--seconds", type=float, default=60.0)
    options = asked.parse_args()
    return int(sum(PARTS[name](options.seconds) for name in options.parts or PARTS) > 0)


if __name__ == "__main__":
    sys.exit(main())
