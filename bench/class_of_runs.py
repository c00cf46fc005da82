"""A whole class's runs worked up by other lines while the window stays alive, and a span that is dragged over a long run."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import msgspec

from long_runs import Told, big_book

RUNS, LONGEST = 96, 1_000_000
LINES = (
    "swing = peaks in load_now above 271100, 5 s apart",
    "period = gap between swing",
    "usual = mean of period",
    "level = mean of load_now",
)
FRAMES = 60  # places of a span that is dragged


def class_of_runs_inside(told: Told) -> object:
    from PyQt6.QtCore import QTimer
    from PyQt6.QtTest import QTest

    from common_bench.desk.shell.application import application
    from common_bench.desk.shell.hub import Hub
    from common_bench.desk.shell.window import Bench
    from common_bench.lesson.lesson import OpenLesson

    app = application()
    with tempfile.TemporaryDirectory() as name:
        path, long = big_book(Path(name), RUNS, LONGEST)
        lesson = OpenLesson.open(path)
        window = Bench(Hub(lesson, Path(name), only_stand_ins=True))
        window.show()
        QTest.qWaitForWindowExposed(window)
        stalls, last = [0.0], [time.perf_counter()]

        def look() -> None:
            now = time.perf_counter()
            stalls.append(now - last[0])
            last[0] = now

        timer = QTimer()
        timer.timeout.connect(look)
        timer.start(10)
        QTest.qWait(1000)
        stalls.clear()
        lesson.working_up.set_aside_run(long, "not yet")
        plan = lesson.store.plan
        began = time.perf_counter()
        lesson.planning.change_plan(
            msgspec.structs.replace(plan, workings=LINES, findings=("usual", "level")), "Other lines"
        )
        told_of: set[str] = set()
        while lesson.runs_in_step.is_busy:
            QTest.qWait(50)
            told_of.add(window.hub.messages.text)
        took = time.perf_counter() - began
        found = lesson.runs_in_step.last
        assert found is not None
        assert len(found.followed) == RUNS, found.refused[:1]
        told(
            f"{RUNS} runs of 10⁵ readings follow other lines, by processes", f"{took:.1f} s",
            "under 20 s", took < 20,
        )  # fmt: skip
        told("the window stands still meanwhile, longest", f"{max(stalls):.2f} s", "under 0.25 s", max(stalls) < 0.25)
        print("told meanwhile:", len([each for each in told_of if "follow the plan" in each]), "sentences", flush=True)
        lesson.working_up.take_back_run(long)
        window.hub.select(lesson.store.run(long).group)
        window.hub.go("work")
        stage = window.stages["work"]
        stage._choose_run(long)  # type: ignore[attr-defined]
        while lesson.working_up.at_hand(long) is None:
            QTest.qWait(50)
        QTest.qWait(1500)
        region, whole = stage.graph_card.region, lesson.working_up.replayed(long).seconds  # type: ignore[attr-defined]
        began = time.perf_counter()
        for step in range(FRAMES):
            region.lines[0].setValue(whole * step / (2 * FRAMES))
            region.lines[1].setValue(whole * (1 - step / (3 * FRAMES)))
            app.processEvents()
            stage.graph.repaint()  # type: ignore[attr-defined]
        per_second = FRAMES / (time.perf_counter() - began)
        shown = stage.following.shown * per_second / FRAMES  # type: ignore[attr-defined]
        print(f"its findings are shown {shown:.0f} times a second meanwhile", flush=True)
        told("a span is dragged over 10⁶ readings", f"{per_second:.0f} frames/s", "at least 20", per_second >= 20)
        began = time.perf_counter()
        region.setRegion((100.0, whole - 1000.0))
        region.sigRegionChangeFinished.emit(region)
        app.processEvents()
        print(f"let go, its findings were there after {time.perf_counter() - began:.2f} s", flush=True)
        return window, app
