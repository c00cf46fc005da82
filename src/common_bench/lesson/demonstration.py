"""The whole lesson by itself, with stand-in kits, through the same engine and actions that the window uses."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from common_bench.calibrate.judging import check_state, sentence
from common_bench.lesson.exporting import export_pool
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.discovery import plugged_in
from common_bench.model.measured import Measured, written
from common_bench.model.plan import shipped_plan
from common_bench.model.trouble import PoolTrouble, Trouble
from common_bench.standins.classes import ALIASES, CLASS_NAME, swinging_bottles
from common_bench.standins.control import StandInProcess

Say = Callable[[str], None]
PATIENCE = 60.0  # s of real time for any one step
SETTLE = 0.8  # world s between letting go and recording
POLL = 0.05  # s
CLASSES = ("swinging-bottles",)


class Demonstrated(NamedTuple):
    """What the headless lesson leaves: its book, the class finding, the files."""

    book: Path
    g: Measured
    files: list[Path]


def prepared_lesson(
    book: Path, *, speed: float = 1.0, count: int = 6, class_name: str = "swinging-bottles"
) -> OpenLesson:
    """A new book of the class with its groups and the lengths that they state; nothing heard yet."""
    if class_name != "swinging-bottles":
        return OpenLesson.make(book, shipped_plan(class_name), CLASS_NAME, ALIASES[:count], speed=speed)
    benches = swinging_bottles(count)
    lesson = OpenLesson.make(
        book, shipped_plan("swinging-bottles"), CLASS_NAME, [bench.alias for bench in benches], speed=speed
    )
    for group, bench in zip(lesson.store.groups, benches, strict=True):
        lesson.planning.set_condition(group.id, "length", f"{bench.stated_length} ± {bench.u_length} m")
    return lesson


def plug_in(lesson: OpenLesson, folder: Path) -> None:
    """Hears every stand-in of a folder and gives each to its bench."""
    made = lesson.roster.appear([port for port in plugged_in(folder) if port.stand_in])
    lesson.roster.give_kits_in_order(made)


def demonstrate(out: Path, *, speed: float = 6.0, seed: int = 9, say: Say = print) -> Demonstrated:
    """Calibrates on known masses, records three runs for each group, works up and pools.

    `out` gets the book, pool.csv, pool.json and the class graph. Raises Trouble in words.
    """
    out.mkdir(parents=True, exist_ok=True)
    book = out / "swinging-bottles.benchbook"
    folder = out / ".ports"
    lesson = prepared_lesson(book, speed=speed)
    try:
        with StandInProcess(folder, seed=seed, world_speed=speed) as stand_ins:
            say(f"Six stand-in kits are plugged in; their world runs {speed:g} times as fast as ours.")
            plug_in(lesson, folder)
            _until(
                lesson,
                lambda: all(not lesson.roster.why_not_ready(g.id) for g in lesson.store.groups),
                "every kit is heard",
            )
            say(f"Plug in    {len(lesson.store.groups)} of {len(lesson.store.groups)} kits heard and read.")
            _calibrate(lesson, stand_ins, say)
            _record(lesson, stand_ins, say)
            _pool(lesson, say)
        files = export_pool(lesson, out)
        result = lesson.pooling.class_result()
        if result.finding is None:
            raise (
                PoolTrouble("no-class-line", why=result.why_no_line)
                if result.why_no_line
                else PoolTrouble("no-class-finding")
            )
    finally:
        lesson.close()
        if folder.exists() and not any(folder.iterdir()):
            folder.rmdir()
    say(f"In {out}: {', '.join(path.name for path in [book, *files])}")
    return Demonstrated(book, result.finding, files)


def _until(lesson: OpenLesson, met: Callable[[], bool], what: str) -> None:
    deadline = time.monotonic() + PATIENCE
    while not met():
        lesson.tick()
        if time.monotonic() > deadline:
            raise Trouble("did-not-come-about", patience=PATIENCE, told=what)
        time.sleep(POLL)


def _calibrate(lesson: OpenLesson, stand_ins: StandInProcess, say: Say) -> None:
    sensor = lesson.store.sensor()
    assert sensor is not None
    everybody = [group.id for group in lesson.store.groups]
    for point in sensor.points:
        stand_ins.order(kits="all", hang=point.label)
        begun = lesson.engine.now()
        # What hung before was steady too: only readings after the change count.
        _until(lesson, lambda: lesson.engine.now() > begun + 2.0, "the masses hang still")
        left = set(everybody)
        while left:
            left -= set(lesson.calibrating.take_points(sorted(left), sensor.channel, point)[0])
            if left:
                _until(
                    lesson,
                    lambda: any(lesson.sensors.is_steady(group, sensor.channel) for group in left),
                    "the kits are steady",
                )
        say(
            f"Calibrate  {point.label:>8} = {point.value:.3f} N taken on {len(everybody)} benches"
            + (" (check point)" if point.check else "")
        )
    lesson.calibrating.keep_calibrations(everybody, sensor.channel)
    for group in lesson.store.groups:
        ready = lesson.sensors.applied(group.id, sensor.channel)
        assert ready is not None
        check = next(point for point in ready.calibration.points if point.check)
        say(f"Calibrate  {group.alias:<8} {sentence(ready)}   check point {check_state(ready, check)}")


def _record(lesson: OpenLesson, stand_ins: StandInProcess, say: Say) -> None:
    everybody = [group.id for group in lesson.store.groups]
    for number in range(1, lesson.store.plan.runs_per_group + 1):
        stand_ins.order(kits="all", hang="bottle")
        begun = lesson.engine.now()
        _until(lesson, lambda: lesson.engine.now() > begun + SETTLE, "the bottles swing")
        begun_on = lesson.recording.begin_runs(everybody)
        if len(begun_on) < len(everybody):
            raise Trouble("not-every-bench-ready")
        say(f"Record     run {number} begins on {len(begun_on)} benches, {lesson.store.plan.rule.words}")
        _until(lesson, lambda: not any(lesson.roster.recording(g) for g in everybody), f"run {number} ends")
        _until(lesson, lambda: len(lesson.store.kept_runs()) == number * len(everybody), "the runs are kept")
        for run in lesson.store.kept_runs()[-len(everybody) :]:
            words = ", ".join(f"{f.name} = {f.measured} ({f.how})" for f in lesson.store.findings(run.id))
            say(f"Work up    {lesson.store.group(run.group).alias:<8} run {run.number}: {words}")


def _pool(lesson: OpenLesson, say: Say) -> None:
    lesson.pooling.send_to_pool([run.id for run in lesson.store.kept_runs()])
    lesson.pooling.open_pool(opened=True)
    result = lesson.pooling.class_result()
    say(f"Pool       {len(result.points)} runs of {len(result.places)} groups: {_class_words(lesson)}")
    for place in result.places:
        if place.stands_out:
            say(f"Pool       {place.words}")
            runs = [row.run for row in lesson.store.pool_rows() if row.group == place.group]
            lesson.pooling.set_aside_in_pool(runs, "length to be measured again")
            say(f"Pool       {place.alias} set aside: length to be measured again; {_class_words(lesson)}")
            break


def _class_words(lesson: OpenLesson) -> str:
    result = lesson.pooling.class_result()
    if result.finding is None:
        return result.why_no_line
    found = result.finding
    return f"{result.finding_name} = {written(found.value, found.u, found.unit)}"
