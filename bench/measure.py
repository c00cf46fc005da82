"""Measures ours beside the named yardstick in one run, and prints each figure with what was asked for.

`make bench` runs all parts; `python bench/measure.py chain wall` some of them. `--minutes` sets how long
memory is watched (10).
"""

from __future__ import annotations

import argparse
import csv
import json
import os
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from calibration import calibration
from class_line import class_lines
from class_of_runs import class_of_runs_inside
from common_bench.book.book import Book
from common_bench.book.book_file import now
from common_bench.book.heard_again import heard
from common_bench.book.journal import JournalWriter
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import Address
from common_bench.model.calibration import Calibration
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.plan_file import shipped_plan
from common_bench.record.engine import Engine
from common_bench.record.rules import Rule
from common_bench.standins.control import StandInProcess
from common_bench.standins.dialects import SPEECHES
from common_bench.standins.worlds.swinging_bottles import WORLD, BottleKit
from common_bench.workings.evaluate import check
from department import department_lines
from fit_coverage import fit_coverage
from formats import formats
from long_runs import READINGS, import_long, journal_room, long_runs_inside, recorded_before
from many_schools import school_lines
from trust import trust
from workings import workings

HERE = Path(__file__).parent
PLAN = shipped_plan("swinging-bottles")
WORKINGS = check(PLAN.workings, {"load": "N"})
CALIBRATION = Calibration(
    "load", "tension", "N", "straight-line", (-0.08, 9.8e-6), ((1e-6, 0.0), (0.0, 1e-16)), (0.0, 4e5), (), noise=30.0
)
KITS = 16


@contextmanager
def fed(*words: object) -> Iterator[tuple[list[str], subprocess.Popen[bytes]]]:
    """Links that a feeder keeps filling, and the feeder."""
    with tempfile.TemporaryDirectory(prefix="bench-") as folder:
        command = [sys.executable, str(HERE / "feeder.py"), *map(str, words), "--folder", folder]
        feeder = subprocess.Popen(command, stdout=subprocess.PIPE, stdin=subprocess.PIPE)
        assert feeder.stdout
        try:
            yield json.loads(feeder.stdout.readline()), feeder
        finally:
            feeder.kill()
            feeder.wait()


def begin(feeder: subprocess.Popen[bytes]) -> None:
    assert feeder.stdin
    feeder.stdin.write(b"go\n")
    feeder.stdin.flush()


def told(name: str, figure: str, asked: str, good: bool) -> None:
    print(f"{name:<58} {figure:>24}   asked: {asked:<22} {'met' if good else 'NOT MET'}", flush=True)


# bytes to journalled, calibrated, derived blocks


def plain_script(link: str, seconds: float) -> tuple[float, float]:
    """Lines per second, and per second of processor time, of the script that teachers write: readline, decode,
    split, float, stamp, csv row."""
    import serial

    lines = 0
    with serial.Serial(link, 115_200, timeout=1) as port, tempfile.TemporaryFile("w", newline="") as file:
        writer = csv.writer(file)
        port.readline()
        began, cpu = time.perf_counter(), time.process_time()
        while time.perf_counter() - began < seconds:
            fields = port.readline().decode(errors="replace").strip().split(";")
            try:
                values = [float(field) for field in fields]
            except ValueError:
                continue
            writer.writerow([time.time(), *values])
            lines += 1
        return lines / (time.perf_counter() - began), lines / (time.process_time() - cpu)


def engine_with(folder: Path, links: list[str], *, calibrated: bool = True) -> tuple[Engine, Book, list[int]]:
    """An engine on a new book that hears the links; gives the kits' ids too."""
    book = Book.make(folder / "measured.benchbook")
    rows = [book.added("plan", name="measured", text="", kept_at=now())]
    rows.append(book.added("lesson", plan=rows[0].id, class_name="", held_on="", pool_open=0))
    book.apply("Make the book", rows)
    engine = Engine(JournalWriter(book.path))
    kits = []
    for at, link in enumerate(links):
        kit = book.record("kit", identity=link, name=link, link=link, format="")
        session = book.record("session", lesson=rows[1].id, kit=kit, link=link, opened_at=now(), closed_at="")
        group = book.record("group", alias=str(at), shape="circle", colour="#000000", position=at)
        book.record("run", lesson=rows[1].id, group=group, number=1, session=session, state="asked")
        engine.hear(kit, session, Address(link), WORKINGS, [CALIBRATION] if calibrated else [], settled=True)
        kits.append(kit)
    engine.start()
    return engine, book, kits


def our_chain(link: str, seconds: float) -> float:
    """Lines per second that are read, clocked, calibrated, worked, and in the book when the time is over."""
    with tempfile.TemporaryDirectory() as folder:
        engine, book, (kit,) = engine_with(Path(folder), [link])
        while not engine.snapshot.kits[kit].can_record:
            time.sleep(0.05)
        engine.begin_runs([(kit, 1, 1)], Rule()).result()
        began, first = time.perf_counter(), engine.snapshot.kits[kit].readings
        time.sleep(seconds)
        engine.stop()
        engine.journal.close()
        lines = engine.snapshot.kits[kit].readings - first
        took = time.perf_counter() - began
        assert book.heard_bytes(1) > lines * 10
        book.close()
        return lines / took


def chain() -> None:
    with fed("flood") as ([link], _):
        plain, _ = plain_script(link, 5.0)
    with fed("flood") as ([link], _):
        ours = our_chain(link, 5.0)
    told("plain script, one pseudo-terminal", f"{plain:,.0f} lines/s", "(yardstick)", True)
    told("our chain, bytes to journalled derived blocks", f"{ours:,.0f} lines/s", "", True)
    told("ratio", f"{ours / plain:.1f} ×", "at least 20 ×", ours >= 20 * plain)


def dialects() -> None:
    """Every dialect, as fast as it is taken; both it and the plain script per second of processor time."""
    plain_ones = {
        "semicolons",
        "commas",
        "comma-space",
        "tabs",
        "spaces",
        "padded",
        "trailing",
        "micros",
        "seconds",
        "no-clock",
        "cr",
        "lf",
    }
    for name in SPEECHES:
        if name == "on-change":
            continue  # it is quiet by its nature; its lines are those of names-equals
        with tempfile.TemporaryDirectory() as folder:
            text = Path(folder) / "lines"
            text.write_bytes(lines_of(name))
            with fed("flood") as ([link], _):
                _, plain = plain_script(link, 1.0)  # beside each, since the machine's own pace changes by the minute
            with fed("flood", "--text", text) as ([link], _):
                lines, cpu = flooded(link, 2.0)
        wanted = 20 if name in plain_ones else 10
        ours = lines / cpu
        told(f"{name}", f"{ours:,.0f} lines/s, {ours / plain:.0f} ×", f"at least {wanted} ×", ours >= wanted * plain)


def lines_of(dialect: str) -> bytes:
    """4000 lines of a kit whose clock is no faster than ours at the pace at which they are taken."""
    rate = 1_000_000.0
    kit = BottleKit(WORLD.benches(1)[0], 9, dialect=dialect, rate=rate)
    kit.restart(0.0)
    return kit.until(kit.start_up + 4000 / rate)


def flooded(link: str, seconds: float) -> tuple[int, float]:
    """Lines read and the processor s that engine and journal took for them."""
    with tempfile.TemporaryDirectory() as folder:
        running, book, (kit,) = engine_with(Path(folder), [link], calibrated=False)
        deadline = time.monotonic() + 10
        while running.snapshot.kits[kit].readings < 1000 and time.monotonic() < deadline:
            time.sleep(0.02)
        seen: list[tuple[int, int, float]] = []

        def look() -> None:
            """Between two turns all that was counted has been worked through."""
            state = running.snapshot.kits[kit]
            seen.append((state.lines, state.readings, thread_seconds(("engine", "journal"))))

        running.ask(look)
        time.sleep(seconds)
        running.ask(look)
        (first, readings, before), (last, later, after) = seen
        lines, cpu = last - first, after - before
        assert later - readings > 0.5 * lines, f"it is not read: {seen}, {running.snapshot.kits[kit].format}"
        running.stop()
        running.journal.close()
        book.close()
        return lines, cpu


def many() -> None:
    """32 kits of mixed dialects at 100 lines/s each, all read, nothing dropped by count."""
    seconds = 60.0
    names = [name for name in SPEECHES if name != "on-change"]
    with tempfile.TemporaryDirectory() as folder:
        ports = Path(folder) / "ports"
        with StandInProcess(ports, "--dialect", ",".join(names), "--rate", "100", count=32) as kits:
            links = [port.link for port in kits.notice.ports]
            running, book, ids = engine_with(Path(folder), links, calibrated=False)
            deadline = time.monotonic() + 30
            while not all(running.snapshot.kits[kit].can_record for kit in ids) and time.monotonic() < deadline:
                time.sleep(0.05)
            unread = [names[at % len(names)] for at, kit in enumerate(ids) if not running.snapshot.kits[kit].can_record]
            time.sleep(10)
            rss = resident()
            before, began = thread_seconds(("engine", "journal")), time.perf_counter()
            time.sleep(seconds)
            share = (thread_seconds(("engine", "journal")) - before) / (time.perf_counter() - began)
            grown = resident() - rss
            kits.order(kits="all", fault="silent")
            time.sleep(1.5)
            sent = kits.order(ask="state")["sent"]
            read = [running.snapshot.kits[kit].lines for kit in ids]
            lost = sum(sent.values()) - sum(read)
            running.stop()
            running.journal.close()
            kept = sum(book.heard_bytes(session) for session in range(1, 33))
            book.close()
    told(
        "32 kits of mixed dialects at 100 lines/s, all read",
        f"{32 - len(unread)} of 32 {','.join(unread)}",
        "all",
        not unread,
    )
    told("engine and journal for them", f"{share:.1%} of a core", "(shown)", True)
    told(f"lines sent and not read, of {sum(sent.values()):,}", f"{lost}", "none", lost == 0)
    told(
        f"memory over {seconds:.0f} s of it ({kept / 1e6:.0f} MB journalled)",
        f"{grown:+.1f} MB",
        "flat (under 5 MB)",
        grown < 5,
    )


def resident() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


# sixteen kits


def thread_seconds(names: tuple[str, ...]) -> float:
    """Processor s that this process's threads of these names have taken."""
    import threading

    total = 0.0
    for thread in threading.enumerate():
        if thread.name in names and thread.native_id:
            fields = Path(f"/proc/self/task/{thread.native_id}/stat").read_text().rsplit(")", 1)[1].split()
            total += (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    return total


def engine() -> None:
    seconds = 20.0
    with (
        fed("pace", "--kits", KITS, "--seconds", seconds + 6) as (links, feeder),
        tempfile.TemporaryDirectory() as folder,
    ):
        begin(feeder)
        running, book, kits = engine_with(Path(folder), links)
        while not all(running.snapshot.kits[kit].can_record for kit in kits):
            time.sleep(0.05)
        for at, kit in enumerate(kits, 1):
            running.begin_runs([(kit, at, 1)], Rule()).result()
        time.sleep(1)
        before, began = thread_seconds(("engine", "journal")), time.perf_counter()
        time.sleep(seconds)
        share = (thread_seconds(("engine", "journal")) - before) / (time.perf_counter() - began)
        running.stop()
        running.journal.close()
        book.close()
    told(
        f"engine and journal, {KITS} kits at 50 lines/s, recording", f"{share:.1%} of a core", "under 25%", share < 0.25
    )


def journal() -> None:
    """What a minute of sixteen kits takes in the book, beside the plain script's CSV of the same lines."""
    seconds = 60.0
    with (
        fed("pace", "--kits", KITS, "--seconds", seconds + 6) as (links, feeder),
        tempfile.TemporaryDirectory() as folder,
    ):
        begin(feeder)
        running, book, kits = engine_with(Path(folder), links)
        before = book.path.stat().st_size
        while not all(running.snapshot.kits[kit].can_record for kit in kits):
            time.sleep(0.05)
        time.sleep(seconds)
        running.stop()
        running.journal.close()
        lines: list[tuple[float, bytes]] = []
        for row in book.rows("session"):
            for _, _, chunks in heard(book, row["id"], 0, 1 << 40):
                whole = b"".join(chunk.data for chunk in chunks)
                lines += [(chunks[0].at, line) for line in whole.split(b"\n")[1:-1] if line]
        with book.engine.connect() as connection:
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        journal_room(told, book.path, before, lines)
        book.close()


# the window


def in_a_window(part: str, *words: str) -> None:
    """Runs a part in the real window on a virtual screen."""
    command = ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, __file__, part, *words]
    subprocess.run(command, check=True, env={**os.environ, "QT_QPA_PLATFORM": "xcb"})


def thirty_two_before() -> None:
    """What the same wall costs where each bench has recorded for three hours in this lesson before, beside a new lesson."""
    with tempfile.TemporaryDirectory() as name:
        costs = []
        for hours in (0.0, 3.0):
            print(f"recorded before: {hours:g} h by each of {MANY} benches", flush=True)
            kept = Path(name) / "cores"
            in_a_window("thirty-two-inside", "--hours", str(hours), "--keep", str(kept))
            costs.append(float(kept.read_text()))
    ratio = costs[1] / costs[0]
    told("with 3 hours recorded before, beside none", f"{ratio:.2f} × the cost", "at most 1.2 ×", ratio <= 1.2)


def wall() -> None:
    in_a_window("wall-inside")


def memory(minutes: float) -> None:
    in_a_window("memory-inside", "--minutes", str(minutes))


class Wall:
    """The window on a class wall of 16 tiles, all recording what a feeder sends."""

    def __init__(
        self, folder: Path, links: list[str], plan: Plan = PLAN, before: Callable[[OpenLesson], object] | None = None
    ) -> None:
        """before: what is done to the lesson before the kits are heard."""
        import msgspec

        from common_bench.desk.shell.application import application
        from common_bench.desk.shell.hub import Hub
        from common_bench.desk.shell.window import Bench
        from common_bench.lesson.warming import warm_all
        from common_bench.model.bench import Port
        from common_bench.model.plan import RulePlan
        from common_bench.record.apart import prepare
        from common_bench.standins.classes import ALIASES

        self.app = application()
        prepare()
        warm_all()  # as the program does beside its first window
        plan = msgspec.structs.replace(plan, rule=RulePlan(0.0))
        self.lesson = OpenLesson.make(folder / "wall.benchbook", plan, "9B", ALIASES[: len(links)], apart=True)
        if before is not None:
            before(self.lesson)
        kits = [self.lesson.roster.hear(Port(link, Path(link).name, link)) for link in links]
        self.lesson.roster.give_kits_in_order(kits)
        hub = Hub(self.lesson, folder)
        hub.stage = "record"
        self.window = Bench(hub)
        self.window.show()
        self.stage = self.window.stages["record"]
        deadline = time.monotonic() + 20
        while (
            any(self.lesson.roster.why_not_ready(group.id) for group in self.lesson.store.groups)
            and time.monotonic() < deadline
        ):
            self.wait(50)
        self.stage.record_all()
        self.wait(1500)

    @staticmethod
    def wait(ms: int) -> None:
        """By an event loop, as the program itself waits for whatever comes next."""
        from PyQt6.QtCore import QEventLoop, Qt, QTimer

        loop = QEventLoop()
        QTimer.singleShot(ms, Qt.TimerType.PreciseTimer, loop.quit)
        loop.exec()

    def close(self) -> None:
        self.window.close()


def _latencies(made: Wall, seconds: float, log: Path) -> np.ndarray:
    """s from a kit's write to the painting of its value, of all that were painted in so many s."""
    from PyQt6.QtCore import QEvent, QObject

    painted: list[tuple[int, float]] = []

    class Watch(QObject):
        def eventFilter(self, watched: QObject, event: QEvent) -> bool:
            if event.type() == QEvent.Type.Paint:
                digits = "".join(each for each in watched.text() if each.isdigit())
                if digits:
                    painted.append((int(digits), time.monotonic()))
            return False

    watch = Watch()
    for tile in made.stage.tiles:
        tile.value.installEventFilter(watch)
    made.wait(int(seconds * 1000))
    for tile in made.stage.tiles:
        tile.value.removeEventFilter(watch)
    kept = log.read_bytes()
    written = dict(struct.iter_unpack("<qd", kept[: len(kept) // 16 * 16]))
    first: dict[int, float] = {}
    for number, at in painted:
        first.setdefault(number, at)
    return np.array([at - written[number] for number, at in first.items() if number in written])


def wall_inside() -> object:
    seconds = 20.0
    with tempfile.TemporaryDirectory() as name, fed("pace", "--kits", KITS, "--seconds", seconds + 25, "--log", f"{name}/log") as (links, feeder):  # fmt: skip
        made = Wall(Path(name), links, before=lambda _: begin(feeder))
        frames = [tile.trace.frames for tile in made.stage.tiles]
        began = time.perf_counter()
        late = _latencies(made, seconds, Path(name) / "log")
        took = time.perf_counter() - began
        rates = [(tile.trace.frames - before) / took for tile, before in zip(made.stage.tiles, frames, strict=True)]
        made.close()
    told(
        f"class wall of {KITS} tiles while recording, slowest tile",
        f"{min(rates):.1f} frames/s",
        "at least 20",
        min(rates) >= 20,
    )
    most = float(np.percentile(late, 95)) * 1000
    told(f"kit's write to painted value, 95 of 100 ({len(late)} values)", f"{most:.0f} ms", "under 120 ms", most < 120)
    return made  # its windows are not taken down before the process ends


MANY, QUANTITIES, RATE = 32, 4, 100.0


def many_quantities() -> Plan:
    """What each of four columns gives as it comes, worked on a little."""
    names = ("load", "temp", "more0", "more1")
    sensors = tuple(SensorPlan(each, f"{each}_now", curve="as-it-comes") for each in names)
    return Plan("Thirty-two", sensors=sensors, show=tuple(each.quantity for each in sensors))


def of_both(made: Wall) -> float:
    """s of a core that the window's process and the engine's have taken."""
    ours = os.times()
    engine = Path(f"/proc/{made.lesson.engine.process}/stat").read_text().rsplit(")")[1].split()
    return ours.user + ours.system + sum(map(int, engine[11:13])) / os.sysconf("SC_CLK_TCK")


def taken_away() -> float:
    """s of a core that the machine beneath this one has had for others (`steal` in proc(5)); 0 where there is none."""
    return int(Path("/proc/stat").read_text().split()[8]) / os.sysconf("SC_CLK_TCK")


USUAL_FRAME = 1 / 30  # s that lie between two frames in any case


def _longest_still(made: Wall) -> float:
    """s without a frame, at most, while all runs are ended at once and worked up."""
    frames, drawn = made.window.frames, [time.perf_counter()]
    draw = frames._draw

    def seen() -> None:
        draw()
        drawn.append(time.perf_counter())

    frames._draw = seen
    made.wait(500)
    made.stage.record_all()
    made.wait(4000)
    frames._draw = draw
    return float(np.diff(drawn).max())


def thirty_two_inside(hours: float = 0.0, keep: Path | None = None) -> object:
    """32 benches, 4 quantities, 100 readings/s each, recording, the wall shown. hours: that each has recorded in this lesson
    before; keep: where the cores that it takes are written."""
    seconds = 20.0
    before = [READINGS * round(hours * 3600 * RATE / READINGS)] * MANY
    with tempfile.TemporaryDirectory() as name, fed("pace", "--kits", MANY, "--rate", RATE, "--columns", QUANTITIES, "--seconds", 2 * seconds + 40, "--log", f"{name}/log") as (links, feeder):  # fmt: skip

        def first(lesson: OpenLesson) -> None:
            if hours:
                recorded_before(lesson, before)
            begin(feeder)

        made = Wall(Path(name), links, many_quantities(), first)
        made.wait(5000)
        tiles = made.stage.tiles
        # By a filter of events in Python, which costs too: not counted below.
        late = _latencies(made, seconds, Path(name) / "log")
        frames = [tile.trace.frames for tile in tiles]
        before, taken, began = of_both(made), taken_away(), time.perf_counter()
        made.wait(int(seconds * 1000))
        took, after, taken = time.perf_counter() - began, of_both(made), taken_away() - taken
        rates = [(tile.trace.frames - start) / took for tile, start in zip(tiles, frames, strict=True)]
        cores = (after - before) / took
        dropped = made.lesson.journal.dropped
        still = _longest_still(made)
        made.close()
    if keep is not None:
        keep.write_text(str(cores))
    told("32 benches × 4 quantities × 100/s on the wall while recording, slowest tile", f"{min(rates):.1f} frames/s", "at least 30", min(rates) >= 30)  # fmt: skip
    told("engine and desk together", f"{cores:.2f} cores", "under 1.5", cores < 1.5)
    told("which the machine beneath had for others meanwhile", f"{taken / took:.2f} cores", "(told)", True)
    told(f"kit's write to painted value, 95 of 100 ({len(late)} values)", f"{np.percentile(late, 95) * 1000:.0f} ms", "under 60 ms", float(np.percentile(late, 95)) < 0.06)  # fmt: skip
    told("bytes dropped", str(dropped), "none", dropped == 0)
    told("all 32 runs ended at once: the longest time without a frame", f"{1000 * still:.0f} ms", "a frame or two, 67 ms", still < 0.067 + USUAL_FRAME)  # fmt: skip
    return made  # its windows are not taken down before the process ends


def memory_inside(minutes: float, kits: int = KITS) -> object:
    """Of the window while it records: a class, or as many benches as a wall has, with four quantities at 100 readings/s."""
    more = ["--rate", RATE, "--columns", QUANTITIES] if kits == MANY else []
    with tempfile.TemporaryDirectory() as name, fed("pace", "--kits", kits, *more, "--seconds", minutes * 60 + 90) as (links, feeder):  # fmt: skip
        plan = many_quantities() if kits == MANY else PLAN
        made = Wall(Path(name), links, plan, lambda _: begin(feeder))
        seen = []
        for _ in range(max(2, round(minutes * 2))):
            made.wait(30_000)
            seen.append(resident())
        made.close()
    settled = seen[len(seen) // 5 :]
    growth = settled[-1] - settled[0]
    words = f"{settled[0]:.0f} to {settled[-1]:.0f} MB"
    print("MB each half minute:", " ".join(f"{each:.1f}" for each in seen), flush=True)
    most = 5 if kits == KITS else 50
    told(
        f"memory over {minutes:g} min of recording {kits} kits in the window",
        words,
        f"flat (under {most} MB)",
        growth < most,
    )
    return made


def start() -> None:
    command = ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, __file__, "start-inside"]
    subprocess.run(command, check=True, env={**os.environ, "QT_QPA_PLATFORM": "xcb"})


def start_inside() -> None:
    times = []
    with tempfile.TemporaryDirectory() as home:
        for _ in range(3):
            environment = {**os.environ, "COMMON_BENCH_TIMES": "1", "HOME": home, "XDG_CONFIG_HOME": home}
            began = time.perf_counter()
            program = subprocess.Popen(
                [str(Path(sys.executable).parent / "common-bench")], stderr=subprocess.PIPE, env=environment
            )
            assert program.stderr
            for line in program.stderr:
                if b"first painted window" in line:
                    times.append(time.perf_counter() - began)
                    break
            program.kill()
            program.wait()
    told(
        "start of the program to its first painted window (3 starts)",
        f"{max(times):.2f} s at most",
        "under 1.5 s",
        max(times) < 1.5,
    )


def main() -> None:
    parts: dict[str, Callable[[], None]] = {
        "chain": chain, "dialects": dialects, "engine": engine, "many": many, "wall": wall, "start": start,
    }  # fmt: skip
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("parts", nargs="*")
    asked.add_argument("--minutes", type=float, default=10.0)
    asked.add_argument("--hours", type=float, default=0.0)
    asked.add_argument("--keep", type=Path)
    options = asked.parse_args()
    parts["formats"] = lambda: formats(told)
    parts["calibration"] = lambda: calibration(told)
    parts["trust"] = lambda: trust(told)
    parts["workings"] = lambda: workings(told)
    parts["pool"] = lambda: class_lines(told)
    parts["thirty-two"] = lambda: in_a_window("thirty-two-inside")
    parts["thirty-two-before"] = thirty_two_before
    parts["journal"] = journal
    parts["fits"] = lambda: fit_coverage(told)
    parts["many-schools"] = lambda: school_lines(told)
    parts["department"] = lambda: department_lines(told)
    parts["import"] = lambda: import_long(told)
    parts["long-runs"] = lambda: in_a_window("long-runs-inside")
    parts["class-of-runs"] = lambda: in_a_window("class-of-runs-inside")
    parts["memory"] = lambda: memory(options.minutes)
    parts["memory-thirty-two"] = lambda: in_a_window("memory-thirty-two-inside", "--minutes", str(options.minutes))
    inside = {
        "wall-inside": wall_inside, "thirty-two-inside": lambda: thirty_two_inside(options.hours, options.keep), "start-inside": start_inside, "memory-inside": lambda: memory_inside(options.minutes),
        "memory-thirty-two-inside": lambda: memory_inside(options.minutes, MANY),
        "long-runs-inside": lambda: long_runs_inside(told),
        "class-of-runs-inside": lambda: class_of_runs_inside(told),
    }  # fmt: skip
    for name in options.parts or parts:
        kept = (parts | inside)[name]()  # noqa: F841  (until the process ends)
        if name in inside:  # a process of its own, whose windows are not taken down in any order
            sys.stdout.flush()
            os._exit(0)


if __name__ == "__main__":
    main()
