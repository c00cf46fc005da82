"""From the shelf to a class finding, as a teacher does it: with an empty home folder, on stand-in kits, in the window."""

from __future__ import annotations

import os
import shutil
import signal
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QTimer, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest

from common_bench.book.book import Book
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.plan_checking import faults_of
from common_bench.lesson.plan_library import library_folder
from common_bench.model.plan_file import plan_from_file, shipped_names, shipped_plan
from common_bench.standins.control import StandInProcess
from common_bench.standins.world import world_of
from cuts import cut_texts
from person import APPLICATION, take_down
from teacher import Teacher


def move_home(to: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, at in (
        ("HOME", ""),
        ("XDG_DATA_HOME", "data"),
        ("XDG_CONFIG_HOME", "config"),
        ("XDG_DOCUMENTS_DIR", "Documents"),
    ):
        monkeypatch.setenv(name, str(to / at))
    (to / "Documents").mkdir(parents=True, exist_ok=True)


@pytest.fixture
def teacher(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[..., Teacher]]:
    """Starts the program with an empty home; what it left open is closed after the test."""
    move_home(tmp_path / "home", monkeypatch)
    started: list[Teacher] = []
    short = Path(tempfile.mkdtemp(prefix="cb-"))  # a socket's path may have 107 characters

    def start(ports: Path | None = None, speed: float = 1.0) -> Teacher:
        started.append(Teacher(ports or short / "p", tmp_path / "trials", speed))
        return started[-1]

    yield start
    for each in started:
        each.leave()
    take_down()
    shutil.rmtree(short, ignore_errors=True)


def kits_at(ports: Path, *more: str, **options: object) -> StandInProcess:
    return StandInProcess(ports, *more, **options)  # type: ignore[arg-type]


def test_a_lesson_with_a_lamp_and_a_ruler_is_made_from_nothing_and_finds_what_the_lamp_gives(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    ports = tmp_path / "ports"
    with kits_at(ports, "--dialect", "names-equals", class_name="light-and-distance") as kits:
        t = teacher(ports)
        t.see("No class yet. Make one, or open a bench book.")
        t.press("E")  # an empty plan: a class is asked for first
        t.see("needs a class: name it, and the lesson begins.")
        t.shelf.new_form.place.setText(str(tmp_path / "lamp.benchbook"))
        t.shelf.new_form.make()
        t.see("a class needs a name.")
        t.shelf.new_form.name.setText("8C")
        t.shelf.new_form.make()
        t.see("empty")
        plan = t.plan
        t.type_into(plan.name, "Lamp and ruler")
        assert {"Measure", "Find events"} <= {heading for heading, _ in plan.lines._ready()}
        t.until(
            lambda: any("from light as it comes" in text for text in plan.lines._ready()[0][1]),
            "what is heard is offered",
        )
        t.write("light = from light as it comes, in lux_")
        t.see("is not a unit")
        t.write("light = from light as it comes, in lx", 0)
        t.write("bright = mean of ligth")
        t.see("Did you mean “light”?")
        t.click("Take this correction")
        t.click("Finding")
        t.see("finding")
        plan.conditions.setPlainText("distance (m) ± 0.001")
        plan.conditions.keep_it()
        for name, text in (
            ("y", "1 / (bright - 12 lx)"),
            ("x", "distanc ^ 2"),
            ("finding", "lamp = 1 / slope"),
            ("accepted", "60 ± 1 N"),
        ):
            t.type_into(plan.finds.texts.fields[name], text)
        t.see("nothing is called “distanc”")
        t.type_into(plan.finds.texts.fields["x"], "distance ^ 2")
        t.see("the accepted value is in N")
        t.type_into(plan.finds.texts.fields["accepted"], "60 ± 1 lx·m²")
        t.type_into(plan.run.ends, "after 2 s")
        t.type_into(plan.run.runs, "2")
        assert faults_of(plan.plan) == []
        t.see("2 lines, all usable")
        t.give(6)
        t.see("nothing to calibrate")
        stated = world_of("light-and-distance").benches()
        t.press("1", "B")
        for row, bench in enumerate(stated):
            plan.by_bench.item(row, 2).setText(bench.stated["distance"])
            t.until(lambda row=row: "±" in plan.by_bench.item(row, 2).text(), "it is kept")
        kits.order(kits="all", hang="lamp")
        kits.order(kits=["Chalk"], fault="half lines")
        QTest.qWait(1500)
        t.record(6)
        kits.order(kits=["Chalk"], fault="whole lines")
        kits.order(kits=["Basalt"], fault="unplug")
        t.until(lambda: t.bench.hub.lesson.roster.why_not_ready(t.bench.hub.lesson.store.groups[0].id), "it is gone")
        t.record(5)
        lesson = t.bench.hub.lesson
        assert {f.name for run in lesson.store.kept_runs() for f in lesson.store.findings(run.id)} == {"bright"}
        assert not [
            (r.id, r.number, r.trouble, r.ended_by, r.begin, r.end)
            for r in lesson.store.kept_runs()
            if not lesson.store.findings(r.id)
        ]
        lesson.pooling.send_to_pool([run.id for run in lesson.store.kept_runs()])
        t.press("6", "O")
        t.see("lamp = ")
        slate = lesson.store.groups[5].id
        t.bench.hub.select(slate)
        t.until(
            lambda: any(p.alias == "Slate" and p.stands_out for p in lesson.pooling.class_result().places),
            "who is wrong stands out",
        )
        t.bench.stage.ask_aside()
        t.bench.stage.question._field.setText("the lamp stood behind the mark")
        QTest.keyClick(t.bench.stage.question._field, Qt.Key.Key_Return)
        found = lesson.pooling.class_result().finding
        assert found is not None
        truth = world_of("light-and-distance").truth(stated)
        assert abs(found.to(truth.unit).value - truth.value) < 3 * max(found.u, 0.3)
        t.see("agrees with 60")
        book = lesson.book.path
        t.press("0")
        t.see("Lamp and ruler")
        t.see("open now: go back to it")
        t.leave()
        kept = Book.open(book)
        assert kept.check() == []
        kept.close()


def test_a_plan_is_changed_kept_given_to_a_colleague_and_opened_on_another_machine(
    teacher: Callable[..., Teacher], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    t = teacher()
    t.make_class("9B", "Basalt, Chalk", tmp_path / "a.benchbook")
    t.see("9B is there, with 2 groups.")
    t.press("Right", "Right", "Return")
    t.see("Fading capacitor")
    plan = t.plan
    t.type_into(plan.name, "Fading with bricks")
    t.type_into(plan.texts.fields["about"], "How long does it last?")
    t.write("let_go = falls of voltage through 4.2 V, 2 s apart", 1)
    t.write("half_life = tau * ln(2)")
    t.click("Finding")
    t.press("D")
    t.type_into(plan.details.texts.fields["warn"], "above 4.9: too high; below 0.1: not plugged")
    t.type_into(plan.told.texts.fields["record"], "Charge, then let go.")
    assert faults_of(plan.plan) == []
    t.click("Keep among my plans")
    t.see("is among your plans")
    t.click("Keep among my plans")
    t.see("is among your plans already.")
    made = plan.plan
    colleague = tmp_path / "stick" / "for you.benchplan"
    plan.files.copy_to(colleague)
    plan.files.copy_to(colleague)
    t.see("there is a plan of that name already")
    assert plan_from_file(next(library_folder().glob("*.benchplan"))) == made
    t.press("0")
    t.see("Fading with bricks")
    assert t.shelf.grid.cards[0].kept.plan == made, "one's own stand first"
    t.leave()

    move_home(tmp_path / "elsewhere", monkeypatch)
    other = teacher()
    assert [card.kept.key for card in other.shelf.grid.cards] == [
        "swinging-bottles",
        *sorted(set(shipped_names()) - {"swinging-bottles"}),
    ]
    carried = QMimeData()
    carried.setUrls([QUrl.fromLocalFile(str(colleague))])
    event = QDropEvent(
        QPointF(300, 300), Qt.DropAction.CopyAction, carried, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    other.shelf.dropEvent(event)
    other.see("“Fading with bricks” is among your plans now.")
    assert other.shelf.grid.chosen.plan == made
    (tmp_path / "bad.benchplan").write_text('name = "Bad"\nbrightnes = 3', "utf-8")
    other.shelf.take_plan(tmp_path / "bad.benchplan")
    other.see("“brightnes” in the plan is no entry of a plan.")
    other.press("Return")
    other.shelf.new_form.name.setText("10A")
    other.shelf.new_form.place.setText(str(tmp_path / "b.benchbook"))
    other.shelf.new_form.make()
    other.see("Charge, then let go.")
    assert other.plan.plan == made
    assert other.bench.hub.lesson.store.class_name == "10A"


def test_next_week_two_kits_are_absent_one_is_new_and_the_class_goes_on(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    ports = tmp_path / "ports"
    with kits_at(ports, count=4) as first:
        t = teacher(ports)
        t.make_class("9B", "4", tmp_path / "c.benchbook")
        t.see("4 kits are plugged in: they send ms load temp")
        t.press("Return")
        t.see("4 lines, all usable")
        t.give(4)
        t.type_into(t.plan.run.ends, "after 1 s")
        t.record(4)
        t.press("0")
        t.see("open now: go back to it")
        t.press("0")
        assert t.bench.pages.currentIndex() == 0
        lesson = t.bench.hub.lesson
        kits = {g.alias: lesson.store.kit_of(g.id) for g in lesson.store.groups}
        first.order(kits=["Chalk", "Gneiss"], fault="unplug")
        with kits_at(ports, count=5) as second:
            second.order(kits=["Basalt", "Chalk", "Flint", "Gneiss"], fault="unplug")
            t.press(
                "0", "Right", "Right", "Right", "Right", "Right", "Return"
            )  # the next lesson of the same class, with another plan
            t.until(lambda: t.bench.hub.lesson.store.plan.name == "Rolling carts", "the next lesson has begun")
            t.press("0", "Return")
            t.until(lambda: t.bench.hub.lesson.store.plan.name == "Swinging bottles", "and another")
            lesson = t.bench.hub.lesson
            assert {g.alias: lesson.store.kit_of(g.id) for g in lesson.store.groups} == kits, "kits came along"
            t.ready(2)
            t.press("2")
            t.until(lambda: len(lesson.roster.kits) == 3, "the new one is heard")
            t.press("G")
            new = {g.alias: lesson.store.kit_of(g.id) for g in lesson.store.groups}
            assert [alias for alias in kits if new[alias] != kits[alias]] == ["Chalk"], (
                "who is there is not moved; who is absent makes room"
            )
            t.ready(3)
            t.type_into(t.plan.run.ends, "after 1 s")
            t.record(3)
            assert lesson.store.pool_rows() == []
            t.press("0")
            t.see("Last time: Swinging bottles")
            old = next(each for each in reversed(t.shelf.book.lessons) if each.runs == 4)
            t.shelf._go_on(old)
            t.until(lambda: t.bench.hub.lesson.store.id == old.id, "the first lesson is open again")
            assert len(t.bench.hub.lesson.store.kept_runs()) == 4


@pytest.mark.long_proof
def test_a_class_of_thirty_two_groups_is_made_recorded_and_read(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    ports = tmp_path / "ports"
    with kits_at(ports, "--rate", "10", count=32):
        t = teacher(ports)
        t.make_class("All of year 9", "32", tmp_path / "big.benchbook")
        t.press("Return")
        t.see("4 lines, all usable")
        t.give(32)
        t.type_into(t.plan.run.ends, "after 1 s")
        t.record(32)
        for key in "1245":
            t.press(key)
            QTest.qWait(200)
            assert cut_texts(t.window) == []


def test_a_trial_class_is_one_choice_on_the_shelf_and_left_only_when_somebody_says_so(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    t = teacher(speed=8.0)
    t.make_class("8C", "2", tmp_path / "hers.benchbook")
    t.press("Right", "Right", "Right", "Right", "Right", "S", "Return")
    t.ready(6)
    t.see("This is a trial class 9B with stand-in kits.")
    store, roster = t.bench.hub.lesson.store, t.bench.hub.lesson.roster
    assert t.bench.hub.lesson.book.path.is_relative_to(tmp_path / "trials")
    assert all(store.stated(group.id) for group in store.groups), "they have stated their heights"
    t.press("0")
    assert t.shelf.book.path == tmp_path / "hers.benchbook", "the trial is no class of hers"
    t.press("1")
    t.type_into(t.plan.run.ends, "by hand")
    t.press("4", "R")
    t.until(lambda: all(roster.recording(group.id) for group in store.groups), "they record")
    t.press("0", "Left", "Left", "Return")
    t.see("6 benches record; leaving this lesson ends that.")
    assert t.bench.hub.lesson.store is store
    t.click("Leave all the same")
    t.until(lambda: t.house.bench is not None and t.bench.hub.lesson.store.class_name == "8C", "her lesson has begun")
    assert t.bench.hub.lesson.store.plan.name == "Swinging bottles"


def test_the_next_lesson_begins_while_one_is_open_and_the_program_does_not_end_between_them(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    t = teacher(tmp_path / "ports")
    t.make_class("8C", "2", tmp_path / "8c.benchbook")
    t.press("E")
    t.see("0 of 2 in")
    t.press("6", "O")
    t.see("groups have sent their findings")  # and no empty card, though it is open
    first = t.house.open_now()

    def next_lesson() -> None:
        t.press("0")
        t.see("Back (0)")
        t.press("E")
        t.until(lambda: t.house.open_now() not in (None, first), "the next lesson is open")
        QTimer.singleShot(300, lambda: APPLICATION.exit(42))

    QTimer.singleShot(0, next_lesson)
    assert APPLICATION.exec() == 42, "and not what it gives when its last window has gone"
    assert t.window.isVisible()


def test_a_lesson_whose_kits_are_heard_no_more_is_opened_again_with_one_click(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    ports = tmp_path / "ports"
    with kits_at(ports, count=2):
        t = teacher(ports)
        t.make_class("9B", "2", tmp_path / "9b.benchbook")
        t.press("E")
        t.press("2")
        t.until(lambda: len([kit for kit in t.bench.hub.lesson.roster.kits.values() if kit.can_record]) == 2, "heard")
        t.press("G", "4", "R")
        t.until(
            lambda: all(t.bench.hub.lesson.roster.run(g.id) for g in t.bench.hub.lesson.store.groups), "they record"
        )
        QTest.qWait(1500)
        os.kill(t.bench.hub.lesson.engine.process, signal.SIGKILL)
        t.see("the part of the program that listens has stopped")
        t.click("Open it again")
        t.see("were still open when the program stopped")
        lesson = t.bench.hub.lesson
        t.until(lambda: len([kit for kit in lesson.roster.kits.values() if kit.can_record]) == 2, "heard again")
        assert len([run for run in lesson.store.kept_runs() if run.end]) == 2


def test_a_book_that_another_program_holds_is_opened_to_be_read_and_follows_what_is_done_there(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    path = tmp_path / "9b.benchbook"
    holder = OpenLesson.make(path, shipped_plan("swinging-bottles"), "9B", ["Basalt", "Chalk"])
    t = teacher(tmp_path / "ports")
    t.house.open_lesson(path, None)
    t.see(f"{path}: this book is open elsewhere (process {os.getpid()}")
    assert "only read" in t.window.windowTitle()
    lesson = t.bench.hub.lesson
    for stage in "123456":
        t.press(stage)
        QTest.qWait(150)
        assert cut_texts(t.window) == []
    t.press("4")
    t.see("only read")
    t.press("R", "Space", "M", "B", "G")
    t.press("1")
    t.type_into(t.plan.name, "Mine")
    t.see("only read here: nothing was changed.")
    assert lesson.store.plan.name == "Swinging bottles"
    basalt = holder.store.groups[0].id
    holder.register.rename_group(basalt, "Granite")
    t.until(lambda: lesson.store.group(basalt).alias == "Granite", "what is done there is read here")
    t.see("Granite")
    holder.close()
    t.window.close()
    assert Book.open(path).notices == [], "and it was left as it was"


def test_classes_are_changed_on_the_shelf_whether_they_are_open_or_not(
    teacher: Callable[..., Teacher], tmp_path: Path
) -> None:
    t = teacher()
    t.make_class("9B", "3", tmp_path / "d.benchbook")
    t.press("G")
    form = t.shelf.groups_form
    t.until(lambda: len(form.fields) == 3, "three groups are shown")
    alias, initials = next(iter(form.fields.values()))
    t.type_into(alias, "Obsidian")
    t.until(lambda: "Obsidian" in [f[0].text() for f in form.fields.values()], "it is renamed")
    t.type_into(next(iter(form.fields.values()))[1], "A. B.")
    t.click("Another emblem")
    t.type_into(form.alias, "Chalk")
    t.see("cannot be the alias of a group")
    t.type_into(form.alias, "Tuff")
    t.until(lambda: len(form.fields) == 4, "the group is there")
    t.click("Take out")
    t.until(lambda: len(form.fields) == 3, "one has left")
    t.type_into(form.name, "9C")
    t.see("What will 9C do next?")
    t.press("Escape")
    copy = tmp_path / "copy.benchbook"
    t.shelf.copy_to(copy)
    t.shelf.copy_to(copy)
    t.see("already there")
    t.shelf.add_book(copy)
    t.see(f"9C is on the shelf: {copy}")
    t.shelf._forget()
    t.see("It is off the shelf; its file stays")
    assert copy.exists()
    (tmp_path / "notes.benchbook").write_text("dear diary, this is no database at all")
    t.shelf.add_book(tmp_path / "notes.benchbook")
    t.see("this file is no bench book")
    t.press("Return")  # the first plan: the lesson begins
    t.until(lambda: t.house.bench is not None, "the lesson is open")
    t.press("0", "G")
    form = t.shelf.groups_form
    t.type_into(form.alias, "Shale")
    t.until(lambda: len(t.bench.benches.rows) == 4, "the open lesson has the new bench")
    assert cut_texts(t.window) == []


@pytest.mark.parametrize("name", ["9B", "The class with the very long name of room 217"])
def test_no_text_is_cut_on_the_shelf_in_both_themes(teacher: Callable[..., Teacher], tmp_path: Path, name: str) -> None:
    t = teacher()
    long_names = len(name) > 10
    t.make_class(name, "8", tmp_path / "e.benchbook")
    found = []
    for _ in range(2):
        for key in ("", "N", "G"):
            if key:
                t.press(key)
            QTest.qWait(120)
            found += [f"{key} {words}" for words in cut_texts(t.window, long_names=long_names)]
            t.press("Escape")
        t.press("F9")
        QTest.qWait(200)
    assert found == []
