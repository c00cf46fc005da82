"""Starting the window. The frame is painted first; the slow imports come after it."""

from __future__ import annotations

import contextlib
import os
import sys
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from threading import Thread
from typing import TYPE_CHECKING

from PyQt6.QtCore import QSettings, Qt, QTimer
from PyQt6.QtGui import QPixmapCache
from PyQt6.QtWidgets import QApplication, QMainWindow

from common_bench.desk.look.labels import PlainLabel
from common_bench.desk.look.palette import PAPER
from common_bench.desk.look.sheet import wear

if TYPE_CHECKING:
    from common_bench.desk.shell.faults import Faults
    from common_bench.desk.shell.house import House

LAST_BOOK = "last book"
STARTED = time.perf_counter()
PIXMAP_CACHE = 1024  # KB; what is drawn anew thirty times a second needs no memory of its past
SWITCHES = (
    0.001  # s after which a thread that works gives way: the window waits no longer for its turn, however many it needs
)


def application() -> QApplication:
    """The Qt application, made once."""
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("common-bench")
    app.setApplicationDisplayName("Common Bench")
    app.setStyle("Fusion")
    QPixmapCache.setCacheLimit(PIXMAP_CACHE)
    wear(app, PAPER)
    sys.setswitchinterval(SWITCHES)
    return app


def _warm() -> None:
    """So that the first reading that is worked out does not wait for what is compiled."""
    from common_bench.lesson.warming import warm_all
    from common_bench.record.crash_report import watch_c_stack

    watch_c_stack()
    warm_all()


def settings() -> QSettings:
    """The desk's own settings on this machine."""
    return QSettings("common-bench", "desk")


class FirstWindow(QMainWindow):
    """The paper that is there at once, and says what is being opened."""

    def __init__(self, words: str) -> None:
        super().__init__()
        self.resize(1280, 800)
        said = PlainLabel(words)
        said.setObjectName("paper")
        said.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.setCentralWidget(said)
        self.setWindowTitle("Common Bench")


def _open_after_first_paint(words: str, make: Callable[[Faults], QMainWindow]) -> int:
    """Shows the frame, then makes the real window in its place. A Trouble ends the program with its sentence."""
    from common_bench.desk.shell.faults import Faults, keep_a_log
    from common_bench.model.trouble import Trouble
    from common_bench.record.apart import prepare
    from common_bench.record.crash_report import end_watching, watch_for_crashes

    app = application()
    first = FirstWindow(words)
    first.show()
    app.processEvents()
    if os.environ.get("COMMON_BENCH_TIMES"):
        print(f"first painted window after {time.perf_counter() - STARTED:.3f} s", file=sys.stderr)
    prepare()
    keep_a_log()
    faults = Faults()
    faults.watch()
    faults.take_last_crash()
    watch_for_crashes("window")
    kept: list[QMainWindow] = [first]
    failed: list[Trouble] = []

    def proceed() -> None:
        try:
            window = make(faults)
        except Trouble as trouble:
            failed.append(trouble)
            app.quit()
            return
        if not window.isVisible():
            window.setGeometry(first.geometry())
            window.show()
        kept.append(window)
        first.close()
        Thread(target=_warm, name="warming", daemon=True).start()
        if os.environ.get("COMMON_BENCH_TIMES"):
            app.processEvents()
            print(f"whole window after {time.perf_counter() - STARTED:.3f} s", file=sys.stderr)

    app.setQuitOnLastWindowClosed(False)
    QTimer.singleShot(0, proceed)
    QTimer.singleShot(0, lambda: app.setQuitOnLastWindowClosed(True))
    status = app.exec()
    end_watching()
    if failed:
        raise failed[0]
    return status


def run_book(path: Path, lesson: int | None = None) -> int:
    """The window on a bench book, which is opened the next time too."""

    def make(faults: Faults) -> QMainWindow:
        from common_bench.desk.shell.house import House

        house = House(faults)
        house.open_lesson(path, lesson)
        return shown_by(house)

    return _open_after_first_paint(f"Opening {path.name} …", make)


def shown_by(house: House) -> QMainWindow:
    """The window that a house shows now."""
    assert house.window is not None
    return house.window


def run_shelf() -> int:
    """The shelf, with no lesson open."""

    def make(faults: Faults) -> QMainWindow:
        from common_bench.desk.shell.house import House

        house = House(faults)
        house.show_shelf()
        return shown_by(house)

    return _open_after_first_paint("Common Bench", make)


def run_last_book() -> int:
    """Opens the lesson that was open last, or the shelf where there is none."""
    from common_bench.lesson.known_books import known_books

    known = known_books()
    last = settings().value(LAST_BOOK, "")
    if not known and last and Path(str(last)).is_file():
        from common_bench.lesson.known_books import KnownBook

        known = [KnownBook(str(last))]  # as an older version remembered it
    if known:
        from common_bench.book.book_file import check_file
        from common_bench.model.trouble import Trouble

        with contextlib.suppress(Trouble):
            check_file(Path(known[0].path))
            return run_book(Path(known[0].path), known[0].lesson)
    return run_shelf()


def demo_folder(class_name: str) -> Path:
    """A new folder of its own under the user's data, named by the day and time."""
    import platformdirs

    place = Path(platformdirs.user_data_dir("common-bench")) / "demo"
    name = f"{class_name} {datetime.now():%Y-%m-%d %H.%M.%S}"
    return place / name


def run_demo(out: Path | None, speed: float, seed: int, class_name: str) -> int:
    """The desk with the stand-in class plugged in and ready to calibrate; says where its book is."""
    from common_bench.links.discovery import ports_folder
    from common_bench.standins.control import StandInProcess
    from common_bench.standins.world import world_of

    folder = out or demo_folder(class_name)
    ports = ports_folder() / f"demo-{os.getpid()}"
    logs = world_of(class_name).logs
    stand_ins = None if logs else StandInProcess(ports, seed=seed, world_speed=speed, class_name=class_name)
    print(f"The demo's book is in {folder}", flush=True)

    def make(faults: Faults) -> QMainWindow:
        from common_bench.desk.shell.house import House

        house = House(faults)
        house.window = demo_window(folder, ports, speed, class_name, faults, house)
        return house.window

    try:
        return _open_after_first_paint("Plugging the stand-in class in …", make)
    finally:
        if stand_ins is not None:
            stand_ins.stop()
        with contextlib.suppress(OSError):
            ports.rmdir()


def demo_window(
    out: Path, ports: Path, speed: float, class_name: str = "swinging-bottles", faults: Faults | None = None,
    house: House | None = None,
) -> QMainWindow:  # fmt: skip
    """A window on a new book in `out`, with the stand-ins of `ports` heard and given to their benches."""
    from common_bench.desk.shell.hub import Hub
    from common_bench.desk.shell.window import Bench
    from common_bench.lesson.demonstration import plug_in, prepared_lesson
    from common_bench.standins.world import world_of

    out.mkdir(parents=True, exist_ok=True)
    path = out / f"{class_name}.benchbook"
    lesson = prepared_lesson(path, speed=speed, class_name=class_name, apart=True)
    plug_in(lesson, ports)
    hub, logs = Hub(lesson, ports, only_stand_ins=True), world_of(class_name).logs
    hub.stage = "record" if logs else "calibrate"
    window = Bench(hub, faults, house)
    hub.tell(f"This is the demo. Its book is {path}", "good")
    if logs:
        hub.tell(*lay_out_cards(class_name, out))
    return window


def lay_out_cards(class_name: str, out: Path) -> tuple[str, str]:
    """Writes the memory cards of a class whose kits log on their own; what is to be told of them."""
    from common_bench.lesson.demonstration import CARDS
    from common_bench.standins.world import world_of

    place = out / CARDS
    world_of(class_name).cards(place)
    return (
        f"The kits of this class have logged on their own. Their files lie in {place}: drop them here, or press I.",
        "good",
    )
