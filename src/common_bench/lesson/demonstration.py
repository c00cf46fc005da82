"""The whole lesson by itself, with stand-in kits, through the same engine and actions that the window uses."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from common_bench.calibrate.judging import check_state, sentence
from common_bench.lesson.brought_words import words_of_file
from common_bench.lesson.exporting import export_pool
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.discovery import plugged_in
from common_bench.model.measured import Measured, written
from common_bench.model.plan import SensorPlan
from common_bench.model.plan_file import shipped_plan
from common_bench.model.run import Run
from common_bench.model.trouble import PoolTrouble, Trouble
from common_bench.standins.classes import CLASS_NAME
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import MAIN, World, world_of

Say = Callable[[str], None]
PATIENCE = 60.0  # s of real time for any one step
POLL = 0.05  # s
CARDS = "memory cards"  # the folder of what kits have logged on their own
UNIT_ROOM = 8  # characters for a point's name


class Demonstrated(NamedTuple):
    """What the headless lesson leaves: its book, the class finding by name, the files."""

    book: Path
    name: str
    finding: Measured
    files: list[Path]


def prepared_lesson(
    book: Path, *, speed: float = 1.0, count: int = 6, class_name: str = MAIN, seed: int = 9, apart: bool = False,
) -> OpenLesson:  # fmt: skip
    """A new book of the sample class with its groups and what they state of their conditions; nothing heard yet.

    class_name: of a world that has a shipped plan; apart: kits are heard by a process of their own.
    """
    plan, benches = shipped_plan(class_name), world_of(class_name).benches(count, seed)
    lesson = OpenLesson.make(book, plan, CLASS_NAME, [bench.alias for bench in benches], speed=speed, apart=apart)
    state_conditions(lesson, {bench.alias: bench.stated for bench in benches})
    return lesson


def state_conditions(lesson: OpenLesson, stated: Mapping[str, Mapping[str, str]]) -> None:
    """Sets the conditions of the plan that the groups of a sample class state. stated: alias -> condition -> text."""
    wanted = {condition.name for condition in lesson.store.plan.stated}
    for group in lesson.store.groups:
        for name, text in stated.get(group.alias, {}).items():
            if name in wanted and name not in lesson.store.conditions(group.id):
                lesson.planning.set_condition(group.id, name, text)


def plug_in(lesson: OpenLesson, folder: Path) -> None:
    """Hears every stand-in of a folder and gives each to its bench."""
    made = lesson.roster.appear([port for port in plugged_in(folder) if port.stand_in])
    lesson.roster.give_kits_in_order(made)


def demonstrate(
    out: Path, *, speed: float = 6.0, seed: int = 9, class_name: str = MAIN, say: Say = print
) -> Demonstrated:
    """Calibrates as the plan asks, records the plan's runs for each group, works up and pools.

    `out` gets the book, pool.csv, pool.json and the class graph. Raises Trouble in words.
    """
    out.mkdir(parents=True, exist_ok=True)
    book = out / f"{class_name}.benchbook"
    folder = out / ".ports"
    lesson = prepared_lesson(book, speed=speed, class_name=class_name, seed=seed)
    try:
        if world_of(class_name).logs:
            _bring_in(lesson, world_of(class_name).cards(out / CARDS, seed=seed), say)
            _pool(lesson, say)
            return _demonstrated(lesson, book, out, say)
        with StandInProcess(folder, seed=seed, world_speed=speed, class_name=class_name) as stand_ins:
            say(f"Six stand-in kits are plugged in; their world runs {speed:g} times as fast as ours.")
            plug_in(lesson, folder)
            _until(
                lesson,
                lambda: all(lesson.roster.is_read_for_sure(g.id) for g in lesson.store.groups),
                "every kit is heard",
            )
            say(f"Plug in    {len(lesson.store.groups)} of {len(lesson.store.groups)} kits heard and read.")
            for sensor in lesson.store.plan.sensors:
                if sensor.needs_points:
                    _calibrate(lesson, sensor, stand_ins, world_of(class_name), say)
            _record(lesson, stand_ins, world_of(class_name), say)
            _pool(lesson, say)
        return _demonstrated(lesson, book, out, say)
    finally:
        lesson.close()
        if folder.exists() and not any(folder.iterdir()):
            folder.rmdir()


def _demonstrated(lesson: OpenLesson, book: Path, out: Path, say: Say) -> Demonstrated:
    """What the lesson leaves in its folder. Raises PoolTrouble where the class found nothing."""
    files = export_pool(lesson, out)
    result = lesson.pooling.class_result()
    if result.finding is None:
        raise (
            PoolTrouble("no-class-line", why=result.why_no_line)
            if result.why_no_line
            else PoolTrouble("no-class-finding")
        )
    say(f"In {out}: {', '.join(path.name for path in [book, *files])}")
    return Demonstrated(book, result.finding_name, result.finding, files)


def _bring_in(lesson: OpenLesson, cards: list[Path], say: Say) -> None:
    """What the kits of a class have logged on their own, each file by whose name it has."""
    say(f"Six memory cards lie in {cards[0].parent}: {len(cards)} files.")
    for preview in lesson.bringing_in.look_at_all(cards):
        assert preview.group is not None, "each has its group's name"
        run, _, recorded = lesson.bringing_in.bring(preview, preview.group)
        lesson.working_up.ended(run, recorded)
        _until(lesson, lambda: not lesson.working_up.is_busy, "the run is worked up")
        kept = lesson.store.run(run)
        alias = lesson.store.group(kept.group).alias
        say(f"Record     {words_of_file(preview, f'{alias} run {kept.number}')}")
        _tell_run(lesson, kept, say)


def _until(lesson: OpenLesson, met: Callable[[], bool], what: str, left: Callable[[], str] = str) -> None:
    """left: what keeps it from coming about, for whoever is told that it did not."""
    deadline = time.monotonic() + PATIENCE
    while not met():
        lesson.tick()
        if time.monotonic() > deadline:
            raise Trouble("did-not-come-about", patience=PATIENCE, told=what + left())
        time.sleep(POLL)


def _wait(lesson: OpenLesson, seconds: float, what: str) -> None:
    """Lets world seconds go by."""
    begun = lesson.engine.now()
    _until(lesson, lambda: lesson.engine.now() > begun + seconds, what)


def _calibrate(lesson: OpenLesson, sensor: SensorPlan, stand_ins: StandInProcess, world: World, say: Say) -> None:
    everybody = [group.id for group in lesson.store.groups]
    for point in sensor.points:
        stand_ins.order(kits="all", hang=point.label)
        # What was held before was steady too: only readings after the change count.
        _wait(lesson, world.settle, f"{point.label} is held")
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
            f"Calibrate  {point.label:>{UNIT_ROOM}} = {point.value:.3f} {sensor.unit} taken on {len(everybody)} benches"
            + (" (check point)" if point.check else "")
        )
    lesson.calibrating.keep_calibrations(everybody, sensor.channel)
    for group in lesson.store.groups:
        ready = lesson.sensors.applied(group.id, sensor.channel)
        assert ready is not None
        tested = [f"check point {check_state(ready, point)}" for point in ready.calibration.points if point.check]
        say(f"Calibrate  {group.alias:<8} {sentence(ready)}   {' '.join(tested)}")


def _take_points(lesson: OpenLesson, stand_ins: StandInProcess, world: World, say: Say) -> None:
    """Every value of the plan is set and taken on every bench."""
    taking, everybody = lesson.point_taking, [group.id for group in lesson.store.groups]
    visited = lesson.store.plan.visited
    assert visited is not None
    for value in visited.values:
        stand_ins.order(kits="all", hang=f"{value:g} {visited.unit}")
        _wait(lesson, world.settle, f"{value:g} {visited.unit} is set")
        left = set(everybody)

        def take(left: set[int] = left, value: float = value) -> bool:
            left -= set(taking.take(sorted(left), value)[0])
            return not left

        def waits(left: set[int] = left) -> str:
            each = [f"{lesson.store.group(group).alias} {taking.state(group).state}" for group in sorted(left)]
            return f" ({', '.join(each)})"

        _until(lesson, take, f"{value:g} {visited.unit} is taken on every bench", waits)
        say(f"Record     {value:g} {visited.unit} taken on {len(everybody)} benches")


def _record(lesson: OpenLesson, stand_ins: StandInProcess, world: World, say: Say) -> None:
    everybody = [group.id for group in lesson.store.groups]
    for number in range(1, lesson.store.plan.runs_per_group + 1):
        for act in world.before:
            stand_ins.order(kits="all", hang=act.what)
            _wait(lesson, act.wait, f"{act.what} has been done")
        _begin_all(lesson, everybody)
        say(f"Record     run {number} begins on {len(everybody)} benches, {lesson.store.plan.rule.words}")
        if lesson.store.plan.visited is not None:
            _take_points(lesson, stand_ins, world, say)
        for act in world.after:
            _wait(lesson, act.wait, "the runs go on")
            stand_ins.order(kits="all", hang=act.what)
        _until(lesson, lambda: not any(lesson.roster.busy(g) for g in everybody), f"run {number} ends")
        _until(lesson, lambda: len(lesson.store.kept_runs()) == number * len(everybody), "the runs are kept")
        for run in lesson.store.kept_runs()[-len(everybody) :]:
            _tell_run(lesson, run, say)


def _begin_all(lesson: OpenLesson, groups: Sequence[int]) -> None:
    """Begins a run on each bench as it gets ready: a kit that a busy machine has not read for a moment is waited for."""
    left = set(groups)

    def all_begun() -> bool:
        left.difference_update(lesson.recording.begin_runs(sorted(left)))
        return not left

    _until(lesson, all_begun, "every bench is ready to record")


def _tell_run(lesson: OpenLesson, run: Run, say: Say) -> None:
    words = ", ".join(f"{f.name} = {f.measured} ({f.how})" for f in lesson.store.findings(run.id))
    words = words or (run.trouble.trouble.sentence if run.trouble is not None else "no finding")
    say(f"Work up    {lesson.store.group(run.group).alias:<8} run {run.number}: {words}")


def _pool(lesson: OpenLesson, say: Say) -> None:
    """Sends what has findings, and sets aside one after the other whoever stands out, as a class would agree to."""
    lesson.pooling.send_to_pool([run.id for run in lesson.store.kept_runs() if lesson.store.findings(run.id)])
    lesson.pooling.open_pool(opened=True)
    result = lesson.pooling.class_result()
    say(f"Pool       {len(result.points)} runs of {len(result.places)} groups: {_class_words(lesson)}")
    for _ in result.places:
        out = [place for place in lesson.pooling.class_result().places if place.stands_out and not place.aside]
        if not out:
            break
        worst = max(out, key=lambda place: abs(place.away))
        say(f"Pool       {worst.words}")
        runs = [row.run for row in lesson.store.pool_rows() if row.group == worst.group]
        lesson.pooling.set_aside_in_pool(runs, REASON)
        say(f"Pool       {worst.alias} set aside: {REASON}; {_class_words(lesson)}")


REASON = "to be measured again"


def _class_words(lesson: OpenLesson) -> str:
    result = lesson.pooling.class_result()
    if result.finding is None:
        return result.why_no_line or "no class finding"
    found = result.finding
    return f"{result.finding_name} = {written(found.value, found.u, found.unit)}"
