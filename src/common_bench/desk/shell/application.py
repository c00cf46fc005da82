"""Starting the window. The frame is painted first; the slow imports come after it."""

from __future__ import annotations

import contextlib
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QSettings, Qt, QTimer
from PyQt6.QtGui import QPixmapCache
from PyQt6.QtWidgets import QApplication, QLabel, QMainWindow

from common_bench.desk.look.palette import PAPER
from common_bench.desk.look.sheet import wear

STARTED = time.perf_counter()
PIXMAP_CACHE = 1024  # KB; what is drawn anew thirty times a second needs no memory of its past


def application() -> QApplication:
    existing = QApplication.instance()
    app = existing or QApplication(sys.argv[:1])
    app.setApplicationName("common-bench")
    app.setApplicationDisplayName("Common Bench")
    app.setStyle("Fusion")
    QPixmapCache.setCacheLimit(PIXMAP_CACHE)
    wear(app, PAPER)
    return app


def settings() -> QSettings:
    return QSettings("common-bench", "desk")


class FirstWindow(QMainWindow):
    """The paper that is there at once, and says what is being opened."""

    def __init__(self, words: str) -> None:
        super().__init__()
        self.resize(1280, 800)
        said = QLabel(words)
        said.setObjectName("paper")
        said.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.setCentralWidget(said)
        self.setWindowTitle("Common Bench")


def _open_after_first_paint(words: str, make: Callable[[], QMainWindow]) -> int:
    """Shows the frame, then makes the real window in its place; a trouble becomes a start window that says it."""
    from common_bench.model.trouble import Trouble

    app = application()
    first = FirstWindow(words)
    first.show()
    app.processEvents()
    if os.environ.get("COMMON_BENCH_TIMES"):
        print(f"first painted window after {time.perf_counter() - STARTED:.3f} s", file=sys.stderr)
    kept: list[QMainWindow] = [first]
    failed: list[Trouble] = []

    def proceed() -> None:
        try:
            window = make()
        except Trouble as trouble:
            failed.append(trouble)
            app.quit()
            return
        window.setGeometry(first.geometry())
        window.show()
        kept.append(window)
        first.close()
        if os.environ.get("COMMON_BENCH_TIMES"):
            app.processEvents()
            print(f"whole window after {time.perf_counter() - STARTED:.3f} s", file=sys.stderr)

    app.setQuitOnLastWindowClosed(False)
    QTimer.singleShot(0, proceed)
    QTimer.singleShot(0, lambda: app.setQuitOnLastWindowClosed(True))
    status = app.exec()
    if failed:
        raise failed[0]
    return status


def run_book(path: Path) -> int:
    def make() -> QMainWindow:
        from common_bench.desk.shell.hub import Hub
        from common_bench.desk.shell.window import Bench
        from common_bench.lesson.lesson import OpenLesson

        lesson = OpenLesson.open(path)
        settings().setValue("last book", str(path.resolve()))
        return Bench(Hub(lesson))

    return _open_after_first_paint(f"Opening {path.name} …", make)


def run_last_book() -> int:
    """Opens the last book, or the start window where there is none."""
    last = settings().value("last book", "")
    if last and Path(str(last)).is_file():
        with contextlib.suppress(Exception):
            from common_bench.book.book import check_file

            check_file(Path(str(last)))
            return run_book(Path(str(last)))

    def make() -> QMainWindow:
        from common_bench.desk.shell.start import StartWindow

        return StartWindow()

    return _open_after_first_paint("Common Bench", make)


def run_demo(out: Path | None, speed: float, seed: int, class_name: str) -> int:
    """The desk with the stand-in class plugged in and ready to calibrate."""
    from common_bench.standins.control import StandInProcess

    folder = Path(tempfile.mkdtemp(prefix="common-bench-"))
    stand_ins = StandInProcess(folder / "ports", seed=seed, world_speed=speed, class_name=class_name)

    def make() -> QMainWindow:
        return demo_window(out or folder, folder / "ports", speed, class_name)

    try:
        return _open_after_first_paint("Plugging the stand-in class in …", make)
    finally:
        stand_ins.stop()


def demo_window(out: Path, ports: Path, speed: float, class_name: str = "swinging-bottles") -> QMainWindow:
    """A window on a new book in `out`, with the stand-ins of `ports` heard and given to their benches."""
    from common_bench.desk.shell.hub import Hub
    from common_bench.desk.shell.window import Bench
    from common_bench.lesson.demonstration import plug_in, prepared_lesson

    out.mkdir(parents=True, exist_ok=True)
    lesson = prepared_lesson(out / f"{class_name}.benchbook", speed=speed, class_name=class_name)
    plug_in(lesson, ports)
    hub = Hub(lesson, ports, only_stand_ins=True)
    hub.stage = "calibrate"
    return Bench(hub)
