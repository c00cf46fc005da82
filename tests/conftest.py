"""Real parts for the tests: stand-in classes in their own process, bench books on disk, a lesson that hears."""

from __future__ import annotations

import gc
import os
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_DATA_HOME"] = tempfile.mkdtemp(prefix="common-bench-tests-")  # nobody's own plans and books are touched

from common_bench.book.book import Book
from common_bench.book.book_file import now
from common_bench.book.migrations import whole_copy
from common_bench.lesson.demonstration import plug_in, prepared_lesson
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan, RulePlan
from common_bench.record import loop
from common_bench.standins.control import StandInProcess
from waiting import SPEED, Class

loop.TICK = loop.TICK_APART = 0.1  # s: four tests share two cores, and how lines are cut into blocks never matters

# The same examples each time, so that a test tells of a change; `make fuzz` looks for others, and for more.
ALL = list(HealthCheck)
settings.register_profile("bench", deadline=None, max_examples=20, suppress_health_check=ALL, derandomize=True)
settings.register_profile("explore", deadline=None, max_examples=1500, suppress_health_check=ALL)
settings.load_profile(os.environ.get("PROFILE", "bench"))


def pytest_collection_finish() -> None:
    """What is loaded by now stays for good: it is not looked through again whenever memory is tidied."""
    gc.collect()
    gc.freeze()


@pytest.fixture
def faults() -> Iterator[list[BaseException]]:
    """Whatever the window lets through."""
    found: list[BaseException] = []
    before = sys.excepthook

    def caught(kind: type[BaseException], fault: BaseException, trace: TracebackType | None) -> None:
        found.append(fault)

    sys.excepthook = caught
    yield found
    sys.excepthook = before


@pytest.fixture
def stand_ins(tmp_path: Path) -> Iterator[Callable[..., StandInProcess]]:
    """Starts stand-in classes; all are stopped after the test."""
    started: list[StandInProcess] = []

    def start(*more: str, **options: object) -> StandInProcess:
        folder = tmp_path / f"ports-{len(started)}"
        started.append(StandInProcess(folder, *more, **options))  # type: ignore[arg-type]
        return started[-1]

    yield start
    for each in started:
        each.stop()


@pytest.fixture
def school(tmp_path: Path, stand_ins: Callable[..., StandInProcess]) -> Iterator[Callable[..., Class]]:
    """Makes a class of `count` stand-in kits that are heard; the book is `tmp_path/lesson.benchbook`."""
    opened: list[OpenLesson] = []

    def make(count: int = 2, speed: float = SPEED, *, wait: bool = True, **options: object) -> Class:
        kits = stand_ins(count=count, world_speed=speed, **options)
        sample = str(options.get("class_name", "swinging-bottles"))
        lesson = prepared_lesson(tmp_path / "lesson.benchbook", speed=speed, count=count, class_name=sample)
        opened.append(lesson)
        plug_in(lesson, kits.folder)
        made = Class(lesson, kits)
        if wait:
            made.heard()
        return made

    yield make
    for lesson in opened:
        lesson.close(60.0)  # a book that a test that failed still holds holds up no others


@pytest.fixture
def desk(tmp_path: Path, stand_ins: Callable[..., StandInProcess]) -> Iterator[Callable[..., Any]]:
    """Opens the window on the demo; or, with words for the stand-ins, on a new book on which they are plugged in."""
    from PyQt6.QtWidgets import QApplication

    from common_bench.desk.look import sheet
    from common_bench.standins.world import MAIN
    from person import DESK_SPEED, Desk, open_desk, take_down

    made: list[Desk] = []

    def open_it(
        *more: str,
        speed: float = DESK_SPEED,
        plan: Plan | None = None,
        class_name: str = MAIN,
        book: Path | None = None,
    ) -> Desk:
        kits = stand_ins(*more, world_speed=speed, class_name=class_name)
        made.append(open_desk(tmp_path, kits, *more, speed=speed, plan=plan, class_name=class_name, book=book))
        return made[-1]

    yield open_it
    for each in made:
        each.window.close()
        each.window.deleteLater()
    take_down()
    if sheet.palette() is not sheet.PAPER:
        sheet.wear(QApplication.instance(), sheet.PAPER)


@pytest.fixture
def alone(tmp_path: Path) -> Iterator[Callable[[Any], Any]]:
    """Opens the window on a lesson with nothing plugged in."""
    from PyQt6.QtTest import QTest

    from common_bench.desk.shell.application import application
    from common_bench.desk.shell.hub import Hub
    from common_bench.desk.shell.window import Bench
    from person import Desk, take_down

    application()
    windows: list[Any] = []

    def open_it(lesson: Any) -> Any:
        windows.append(Bench(Hub(lesson, tmp_path / "ports", only_stand_ins=True)))
        windows[-1].show()
        windows[-1].activateWindow()
        assert QTest.qWaitForWindowActive(windows[-1])
        return Desk(windows[-1], None)  # type: ignore[arg-type]

    yield open_it
    for window in windows:
        window.close()
        window.deleteLater()
    take_down()


@pytest.fixture(scope="session")
def held(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where the book of that class is kept once it has been held, by any of the processes that test."""
    own = tmp_path_factory.getbasetemp()
    return (own.parent if "PYTEST_XDIST_WORKER" in os.environ else own) / "held.benchbook"


@pytest.fixture
def worked(desk: Callable[..., Any], held: Path, tmp_path: Path) -> Any:
    """A class that is calibrated, with one run of each group in the opened pool, and runs that end by hand."""
    if held.exists():
        made = desk(book=Path(shutil.copy(held, tmp_path / "class.benchbook")))
        made.hang("bottle", 1.5)
        return made
    made = desk()
    made.calibrate()
    made.hang("bottle", 1.5)
    made.record()
    for run in made.lesson.store.kept_runs():
        made.until(lambda run=run: made.lesson.store.findings(run.id), "it has its finding")
    made.lesson.pooling.send_to_pool([run.id for run in made.lesson.store.kept_runs()])
    made.lesson.pooling.open_pool(opened=True)
    plan = msgspec.structs.replace(made.lesson.store.plan, rule=RulePlan())
    made.lesson.planning.change_plan(plan, "End runs by hand")
    made.lesson.journal.flush()
    own = tmp_path / "held.benchbook"
    whole_copy(made.lesson.book.path, own)
    own.replace(held)
    return made


@pytest.fixture
def session(tmp_path: Path) -> tuple[Book, int]:
    """A new book and a session in it, as of a kit that has just been heard."""
    book = Book.make(tmp_path / "session.benchbook")
    rows = [book.added("plan", name="p", text="", kept_at=now())]
    rows.append(book.added("lesson", plan=rows[0].id, class_name="", held_on="", pool_open=0))
    book.apply("Make the book", rows)
    kit = book.record("kit", identity="k", name="k", link="k", format="", asking="")
    return book, book.record("session", lesson=rows[1].id, kit=kit, link="k", opened_at=now(), closed_at="")
