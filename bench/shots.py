"""Pictures of each main view from the demo data, made by holding the lesson in the real window.

Run by `make shots`: writes docs/screenshots/*.png at 1280x800. `--only NAME …` makes some of them,
`--out DIR` puts them elsewhere.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMainWindow

from common_bench.desk.look.palette import PAPER
from common_bench.desk.look.sheet import wear
from common_bench.desk.shell.application import application, demo_window
from common_bench.desk.shell.house import House
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.window import Bench
from common_bench.lesson.demonstration import demonstrate
from common_bench.lesson.known_books import remember
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.lessons import class_register
from common_bench.model.plan_file import shipped_plan
from common_bench.standins.control import StandInProcess

SPEED = 4.0
PATIENCE = 40.0  # s


def wait_for(met: Callable[[], bool], what: str) -> None:
    deadline = time.monotonic() + PATIENCE
    while not met():
        if time.monotonic() > deadline:
            raise SystemExit(f"this did not come about: {what}")
        QTest.qWait(50)


class Lesson:
    """The demo lesson in the window, step by step as a teacher would."""

    def __init__(self, folder: Path, speed: float = SPEED) -> None:
        self.stand_ins = StandInProcess(folder / "ports", world_speed=speed)
        self.window: Bench = demo_window(folder, folder / "ports", speed)
        self.window.show()
        self.lesson = self.window.hub.lesson
        self.groups = {group.alias: group.id for group in self.lesson.store.groups}
        wait_for(lambda: all(not self.lesson.roster.why_not_ready(g) for g in self.groups.values()), "kits are heard")

    def steady(self, after: float) -> None:
        wait_for(lambda: self.lesson.engine.now() > after, "settling")
        sensor = self.lesson.store.sensor()
        assert sensor
        wait_for(
            lambda: all(
                (s := self.lesson.sensors.steady(g, sensor.channel)) and s.steady for g in self.groups.values()
            ),
            "steady",
        )

    def calibrate(self, picture: Callable[[str], None]) -> None:
        sensor = self.lesson.store.sensor()
        assert sensor
        stage = self.window.stages["calibrate"]
        for point in sensor.points:
            self.stand_ins.order(kits="all", hang=point.label)
            self.steady(self.lesson.engine.now() + 3.5)
            if point.check:
                QTest.qWait(300)
                picture("calibrate")
            wait_for(lambda p=point: self._taken(stage, p), "the point is taken")
        stage.keep_calibration()

    def _taken(self, stage: object, point: object) -> bool:
        stage.take_point()
        channel = self.lesson.store.sensor().channel
        return all(self.lesson.calibrating.has_point(group, channel, point.label) for group in self.groups.values())

    def record(self, run: int, during: Callable[[], None]) -> None:
        self.stand_ins.order(kits="all", hang="bottle")
        start = self.lesson.engine.now() + 6
        wait_for(lambda: self.lesson.engine.now() > start, "swinging")
        self.window.hub.go("record")
        self.window.stages["record"].record_all()
        QTest.qWait(400)
        during()
        wait_for(lambda: len(self.lesson.store.kept_runs()) >= run * len(self.groups), "the run ends")

    def close(self) -> None:
        self.window.close()
        self.stand_ins.stop()


def trouble_pictures(folder: Path, picture: Callable[[Bench, str], None]) -> None:
    """Stage 2 with kits of several dialects, some of which need somebody, and the open tape."""
    kits = StandInProcess(
        folder / "trouble-ports", "--dialect", "json,relay-letters,semicolons,no-value,names-colon,tabs", "--gate", "none,none,menu,none,none,none",
    )  # fmt: skip
    aliases = ["Basalt", "Chalk", "Flint", "Gneiss", "Marble", "Slate"]
    lesson = OpenLesson.make(folder / "trouble.benchbook", shipped_plan("swinging-bottles"), "9B", aliases)
    hub = Hub(lesson, folder / "trouble-ports", only_stand_ins=True)
    hub.stage = "plug"
    window = Bench(hub)
    window.show()
    kits.order(kits=["Slate"], fault="half lines")
    hub.look_for_kits()
    QTest.qWait(9000)
    stage = window.stages["plug"]
    stage._give_in_order()
    known = {kit.identity: id for id, kit in lesson.store.kits.items()}
    stage.choose(f"kit {known['stand-in-Flint']}")
    QTest.qWait(4500)
    picture(window, "plug-trouble")
    stage.choose(f"kit {known['stand-in-Marble']}")
    window.tape.toggle()
    QTest.qWait(600)
    picture(window, "tape")
    window.close()
    kits.stop()


def bath_picture(folder: Path, picture: Callable[[Bench, str], None]) -> None:
    """Stage 3 with thermistors in baths: three points are taken, and the benches settle in the bath of the check point."""
    kits = StandInProcess(folder / "bath-ports", world_speed=SPEED, class_name="warm-baths")
    window = demo_window(folder / "baths", folder / "bath-ports", SPEED, "warm-baths")
    window.show()
    lesson, stage = window.hub.lesson, window.stages["calibrate"]
    wait_for(lambda: all(not lesson.roster.why_not_ready(group.id) for group in lesson.store.groups), "kits are heard")
    for point in lesson.store.sensor().points:
        kits.order(kits="all", hang=point.label)
        QTest.qWait(900)
        stage.take_point()
        if point.check:
            wait_for(
                lambda: sum(lesson.calibrating.has_point(g.id, "probe", "30 °C") for g in lesson.store.groups) >= 4,
                "some have it",
            )
            window.hub.select(lesson.store.groups[1].id)
            window.hub.messages.clear()
            picture(window, "calibrate-baths")
            break
        wait_for(
            lambda p=point: all(lesson.calibrating.has_point(g.id, "probe", p.label) for g in lesson.store.groups),
            point.label,
        )
    window.close()
    kits.stop()


def points_picture(folder: Path, picture: Callable[[Bench, str], None]) -> None:
    """Stage 4 point by point: five masses are taken, the sixth hangs still."""
    kits = StandInProcess(folder / "spring-ports", world_speed=SPEED, class_name="stretching-springs")
    window = demo_window(folder / "springs", folder / "spring-ports", SPEED, "stretching-springs")
    window.show()
    lesson, stage = window.hub.lesson, window.stages["record"]
    groups = [group.id for group in lesson.store.groups]
    wait_for(lambda: all(not lesson.roster.why_not_ready(group) for group in groups), "kits are heard")
    window.hub.go("record")
    window.hub.select(groups[3])
    stage.record_all()
    QTest.qWait(300)
    taking = lesson.point_taking
    for value in taking.values[:6]:
        kits.order(kits="all", hang=f"{value:g} g")
        QTest.qWait(1100)
        if value == taking.values[5]:
            break

        def taken(value: float = value) -> bool:
            stage.acts.take_points()
            return all(taking.at(group, value) is not None for group in groups)

        wait_for(taken, f"{value:g} g is taken")
    QTest.qWait(1200)
    window.hub.messages.clear()
    stage.refresh()
    picture(window, "points")
    window.close()
    kits.stop()


def curve_picture(folder: Path, picture: Callable[[Bench, str], None]) -> None:
    """Stage 5 with a fit: a capacitor that fades, another group's run beside it, a stretch set aside."""
    held = demonstrate(folder / "curve", speed=12.0, class_name="fading-capacitor", say=lambda _: None)
    hub = Hub(OpenLesson.open(held.book), folder / "none", only_stand_ins=True)
    window = Bench(hub)
    window.show()
    hub.select(next(group.id for group in hub.lesson.store.groups if group.alias == "Gneiss"))
    run = hub.lesson.store.kept_runs(hub.group)[-1]
    hub.lesson.working_up.leave_out(run.id, (9.0, 9.4), "touched the wire")
    hub.go("work")
    stage = window.stages["work"]
    QTest.qWait(1500)
    stage.next_beside()
    wait_for(lambda: bool(stage.curve_card.others.text()), "other shapes are tried")
    hub.messages.clear()
    picture(window, "curve")
    window.close()


def shelf_pictures(folder: Path, books: list[Path], picture: Callable[[QMainWindow, str], None]) -> None:
    """The shelf of a teacher with two classes; the pool of a class whose groups are compared."""
    compared = demonstrate(folder / "compared", speed=12.0, class_name="warm-baths", say=lambda _: None)
    for book, name in ((compared.book, "8C"), *((book, "9B") for book in books)):
        with class_register(book) as register:
            register.rename_class(name)
        remember(book)
    house = House(ports=folder / "none")
    window = house.show_shelf()
    window.shelf.refresh()
    window.shelf.grid.move(1)
    picture(window, "shelf")
    house.open_lesson(compared.book, None)
    assert house.bench is not None
    house.bench.hub.go("pool")
    house.bench.hub.messages.clear()
    picture(house.bench, "pool-compared")
    house.bench.close()


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("--out", type=Path, default=Path("docs/screenshots"))
    asked.add_argument("--only", nargs="*", default=[])
    options = asked.parse_args()
    options.out.mkdir(parents=True, exist_ok=True)
    app = application()
    folder = Path(tempfile.mkdtemp(prefix="shots-"))
    os.environ["XDG_DATA_HOME"] = str(folder / "data")
    show = Lesson(folder)
    window, hub = show.window, show.window.hub

    def picture(name: str) -> None:
        keep(window, name)

    def keep(shown: QMainWindow, name: str) -> None:
        if not options.only or name in options.only:
            QTest.qWait(350)
            shown.grab().save(str(options.out / f"{name}.png"))

    hub.select(show.groups["Gneiss"])
    show.calibrate(picture)
    hub.go("plan")
    window.stages["plan"].written.choose(window.stages["plan"].written.all[1])
    show.stand_ins.order(kits="all", hang="bottle")
    QTest.qWait(9000)
    window.hub.messages.clear()
    picture("plan")
    window.stages["plan"].written.choose(window.stages["plan"].written.all[0])
    window.stages["plan"].turn_to(1)
    picture("plan-details")
    window.stages["plan"].turn_to(3)
    picture("plan-forms")
    hub.go("plug")
    show.stand_ins.order(kits=["Gneiss"], fault="noise")
    QTest.qWait(1500)
    picture("plug-in")
    show.stand_ins.order(kits=["Gneiss"], fault="no noise")

    def with_a_gap() -> None:
        QTest.qWait(500)
        show.stand_ins.order(kits=["Chalk"], fault="unplug")
        QTest.qWait(600)
        show.stand_ins.order(kits=["Chalk"], fault="plug")
        QTest.qWait(1900)
        window.hub.messages.clear()
        picture("record")
        window.stages["record"].switch_view()
        QTest.qWait(300)
        picture("one-graph")
        window.stages["record"].look_closely()
        QTest.qWait(900)
        picture("one-bench")
        window.stages["record"].look_closely()

    show.record(1, with_a_gap)
    show.record(2, lambda: None)
    hub.go("work")
    hub.select(show.groups["Gneiss"])
    picture("work-up")
    for group in show.groups.values():
        hub.select(group)
        window.stages["work"].deeds.send_to_pool()
    hub.go("pool")
    hub.select(show.groups["Flint"])
    picture("pool-sealed")
    window.stages["pool"].open_or_seal()
    picture("pool")
    window.change_theme()
    hub.go("record")
    QTest.qWait(800)
    picture("projector")
    show.close()
    wear(app, PAPER)
    if not options.only or "calibrate-baths" in options.only:
        bath_picture(folder, keep)
    if not options.only or "points" in options.only:
        points_picture(folder, keep)
    if not options.only or "curve" in options.only:
        curve_picture(folder, keep)
    trouble_pictures(folder, keep)
    if not options.only or {"shelf", "pool-compared"} & set(options.only):
        shelf_pictures(folder, [show.lesson.book.path], keep)
    app.processEvents()
    os._exit(0)  # the offscreen platform sometimes faults while Python takes the window down


if __name__ == "__main__":
    main()
