"""The window as a person uses it: keys after clicks, messages in their place, what can be taken back and says so."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QComboBox, QLineEdit, QWidget

from chance import trials
from common_bench.desk.look.pieces import Table, is_open
from common_bench.desk.look.sheet import palette
from common_bench.desk.plug.kit_card import KitCard
from common_bench.desk.record.tile import Tile
from common_bench.desk.shell.benches import BenchRow
from common_bench.lesson.plan_details import with_detail
from common_bench.lesson.words import STAGES
from common_bench.model.measured import Measured
from common_bench.model.trouble import EngineTrouble
from cuts import cut_texts
from person import Desk, code_of, type_into
from waiting import KitNow, is_steady, wait_for

Made = Callable[..., Desk]
OPENS_A_DIALOG = ("Choose files", "Save as", "A copy for a colleague")
LONG = ("Obsidian by the window", "The long bench at the back", "Flintstones and company", "Gneissgneissgneissgneiss")


def shown(made: Desk, *kinds: type[QWidget]) -> list[QWidget]:
    found = [each for kind in kinds for each in made.window.findChildren(kind)]
    return [each for each in found if each.isVisible() and each.isEnabled() and each.window() is made.window]


def places_to_click(made: Desk) -> Iterator[tuple[str, QWidget, QPoint]]:
    """Everything that a mouse can do something to, with where."""
    alike = [shown(made, kind)[:2] for kind in (KitCard, Tile, BenchRow)]
    for each in [*shown(made, QAbstractButton, QComboBox, QLineEdit), *(one for pair in alike for one in pair)]:
        words = each.text() if isinstance(each, (QAbstractButton, QLineEdit)) else ""
        if not words.startswith(OPENS_A_DIALOG):
            yield f"{type(each).__name__} {words!r}", each, QPoint(min(30, each.width() // 2), each.height() // 2)
    for table in shown(made, Table):
        assert isinstance(table, Table)
        port = table.viewport()
        for row in range(min(2, table.rowCount())):
            if port is not None and table.item(row, 0) is not None:
                yield f"cell {row}", port, table.visualItemRect(table.item(row, 0)).center()


def leave_what_it_opened(made: Desk) -> None:
    for box in made.window.findChildren(QComboBox):
        if is_open(box):
            box.hidePopup()
    while (menu := QApplication.activePopupWidget()) is not None:
        menu.close()
    focus = QApplication.focusWidget()
    works_in_a_cell = isinstance(focus, Table) and focus.takes_typing
    if made.hub.messages.asks or isinstance(focus, QLineEdit) or works_in_a_cell:
        QTest.keyClick(focus or made.window, Qt.Key.Key_Escape)
    assert not made.hub.messages.asks


def keys_that_do_not_work(made: Desk) -> list[str]:
    """Presses every key that a label names; only what it would do is noted instead of being done."""
    heard: list[str] = []
    keyboard = made.window._keyboard
    kept, now = keyboard._keys, made.window.keys()
    keyboard._keys = lambda: {key: (words, lambda key=key: heard.append(key)) for key, (words, _) in now.items()}
    try:
        for key in now:
            QTest.keyClick(QApplication.focusWidget() or made.window, code_of(key))
    finally:
        keyboard._keys = kept
    return [key for key in now if heard.count(key) != 1]


def test_every_key_does_what_its_label_says_whatever_was_clicked_before(worked: Desk) -> None:
    made = worked
    clicks = 0
    for stage, _ in STAGES:
        made.hub.go(stage)
        QTest.qWait(80)
        alike: Counter[type[QWidget]] = Counter()
        for words, widget, at in list(places_to_click(made)):
            try:
                if not widget.isVisible() or alike[type(widget)] == trials(1000, 4):
                    continue
            except RuntimeError:
                continue  # it was built anew by an earlier click
            QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at)
            QTest.qWait(5)
            clicks += 1
            alike[type(widget)] += 1
            leave_what_it_opened(made)
            made.hub.go(stage)
            focus = QApplication.focusWidget()
            assert not isinstance(focus, (QAbstractButton, QAbstractItemView, QComboBox, QLineEdit)), (stage, words)
            assert keys_that_do_not_work(made) == [], (stage, words)
            if made.window.tape.is_open:
                made.window.tape.toggle()
    assert clicks > trials(60, 40)


def test_a_space_after_record_all_ends_one_run_and_says_so_and_it_can_go_on(worked: Desk) -> None:
    made = worked
    made.press("4")
    stage = made.window.stage
    QTest.mouseClick(stage.all_ready, Qt.MouseButton.LeftButton)
    made.see("Recording ", made.window.stage)
    made.under_way("Basalt", 3)
    while made.hub.group != made.group["Chalk"]:
        made.press("Down")
    assert stage.this_one.text() == "End Chalk (space)"
    made.press("Space")
    made.see("Run of Chalk ended at ", stage)
    assert [a for a, g in made.group.items() if not made.lesson.roster.recording(g)] == ["Chalk"], "five go on"
    made.undo()
    made.see("Taken back: End 1 run.", stage)
    assert made.lesson.roster.recording(made.group["Chalk"])
    made.press("R")
    made.see("6 runs ended at ", stage)
    act = made.hub.messages.notice._act
    assert act.text() == "Take back: go on recording"
    QTest.mouseClick(act, Qt.MouseButton.LeftButton)
    assert all(made.lesson.roster.recording(group) for group in made.group.values())
    begun = KitNow.of_group(made.lesson, made.group["Chalk"]).run.seconds
    made.under_way("Chalk", begun + 2)
    made.press("R")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 12, "all are kept, once")
    run = made.lesson.store.kept_runs(made.group["Chalk"])[-1]
    assert made.lesson.working_up.replayed(run.id).gaps == [], "nothing of it is missing"
    assert made.lesson.working_up.replayed(run.id).seconds > begun

    def left() -> bool:
        try:
            made.lesson.roster.leave(made.lesson.store.kit_of(made.group["Chalk"]))
        except EngineTrouble:  # on a machine that has much else to do: it was late, and nothing was done
            return False
        return True

    made.until(left, "its kit is heard no longer")
    made.undo()
    made.until(lambda: "cannot" in made.hub.messages.text or "go on" in made.hub.messages.text, "the refusal is told")
    assert [a for a, g in made.group.items() if not made.lesson.roster.recording(g)] == ["Chalk"], "the others go on"
    assert made.hub.history.redo_label() == "End 6 runs", "what was taken back is not lost from the way on"


def test_messages_move_nothing_take_no_focus_and_go_with_their_cause(worked: Desk) -> None:
    made = worked
    made.press("4")

    def all_places() -> dict[int, QRect]:
        # What a tile hears changes its numbers and its state, and their widths, whenever it likes.
        tiles = made.window.findChildren(Tile)
        live = [n for t in tiles for n in (t.value, t.unit, t.second, t.second_unit, t.state, *t.conditions.values())]
        shown = [each for each in made.window.stage.findChildren(QWidget) if each.isVisible()]
        found = [each for each in shown if each not in live]
        return {id(each): QRect(each.mapTo(made.window, QPoint(0, 0)), each.size()) for each in found}

    QTest.qWait(300)
    made.hub.messages.clear()
    before, focus = all_places(), QApplication.focusWidget()
    made.hub.tell("6 runs ended.", "good", act="Take back", then=lambda: None)
    made.hub.messages.tell_besides("Chalk run 1 is kept, without a finding.")
    assert made.hub.messages.text == "6 runs ended. Chalk run 1 is kept, without a finding."
    assert made.hub.messages.notice._act.text() == "Take back", "the way back stands for as long as it would have"
    over: list[bool] = []
    made.hub.tell(
        "The cable of a kit is out. " * 6, "red", act="Take back", then=lambda: None, ended=lambda: bool(over)
    )
    QTest.qWait(60)
    assert {key: place for key, place in all_places().items() if key in before} == before
    assert QApplication.focusWidget() is focus
    made.window.stage.ask("Why?", "Answer", lambda _: None)
    assert all_places() == before
    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Escape)
    assert not made.hub.messages.asks
    assert made.hub.messages.text.startswith("The cable"), "it stands for as long as its cause"
    over.append(True)
    made.until(lambda: made.hub.messages.text == "", "it goes with its cause")
    for number, _ in enumerate(STAGES, 1):
        made.press(str(number))
        for field in shown(made, QLineEdit):
            field.setFocus()
            QTest.keyClick(field, Qt.Key.Key_Escape)
            assert QApplication.focusWidget() is not field, "Escape leaves every field"
    QTest.keyClick(made.window, Qt.Key.Key_F1)
    stage = made.window.stage
    left = made.window.help.mapTo(made.window, QPoint(made.window.help.width(), 0)).x()
    assert left <= stage.mapTo(made.window, QPoint(0, 0)).x() + 1, "beside the stage, not over it"
    for key, (words, _) in made.window.stage.keys().items():
        assert words.split(" <")[0][:12] in made.window.help_words.text().replace("&#x27;", "'"), key
    QTest.keyClick(made.window, Qt.Key.Key_Escape)
    assert not made.window.help.isVisible()


def test_runs_follow_a_line_that_changes_at_once_and_back_and_what_is_lost_is_told_before(worked: Desk) -> None:
    made = worked
    store = made.lesson.store

    def told() -> dict[int, list[Measured]]:
        return {run.id: [f.measured for f in store.findings(run.id)] for run in store.kept_runs()}

    before = told()
    made.press("1")
    stage = made.window.stage
    made.write(2, "swing = 4 * gap between pass")
    made.see("6 runs worked up by the lines of now", made.window)
    for run, (old,) in before.items():
        assert told()[run][0].value == pytest.approx(2 * old.value)
    made.write(2, "swing = 4 * gap between pss")
    made.see("6 runs keep what they had", made.window)
    assert all(told()[run][0].value == pytest.approx(2 * old.value) for run, (old,) in before.items())
    made.undo()
    made.undo()
    made.until(lambda: told() == before, "what follows from a change is taken back with it")
    stage.written.choose(stage.written.all[3])
    stage.written.toggle_finding()
    made.see("keep “period”, which counts no longer", made.window)
    assert "period" in store.plan.findings, "told before it is done"
    made.hub.messages.notice._act.click()
    assert "period" not in store.plan.findings
    made.undo()
    assert "period" in store.plan.findings


def test_lines_are_changed_beside_the_graph_of_a_run_and_all_runs_follow(worked: Desk) -> None:
    made = worked
    made.press("5", "L")
    work = made.window.stage
    made.until(lambda: "last " in work.written.card.rows[0].value.text(), "what each line gives in this run")
    raw = with_detail(made.lesson.store.plan, 0, "raw_unit", "counts")  # its name stands for what it sends, from now on
    made.lesson.planning.change_plan(raw, "State the unit of what it sends")
    type_into(work.written.card.rows[-1].field, "sent = mean of load")
    work.written.choose(work.written.all[-1])
    work.written.toggle_finding()
    made.until(
        lambda: (
            "sent" in {f.name for r in made.lesson.store.kept_runs()[-1:] for f in made.lesson.store.findings(r.id)}
        ),
        "of it",
    )
    sent = next(
        f.measured for f in made.lesson.store.findings(made.lesson.store.kept_runs()[-1].id) if f.name == "sent"
    )
    assert sent.unit == "counts"
    assert sent.value > 10_000
    type_into(work.written.card.rows[-1].field, "high = largest of tension")
    made.see("high =", work)
    work.written.choose(next(each for each in work.written.all if each.name == "high"))
    work.written.toggle_finding()
    made.until(
        lambda: all(
            "high" in {f.name for f in made.lesson.store.findings(r.id)} for r in made.lesson.store.kept_runs()
        ),
        "every run has the new finding",
    )
    work.written.choose(next(each for each in work.written.all if each.name == "pass"))
    made.until(lambda: work.graph_card.level.is_usable, "the level can be dragged")
    work.graph_card.level.item.setValue(2.19)
    work.graph_card.level.item.sigPositionChangeFinished.emit(work.graph_card.level.item)
    assert "above 2.19" in made.lesson.store.plan.workings[0], made.lesson.store.plan.workings
    made.until(lambda: work.graph_card.pause.item.isVisible(), "the pause stands behind the first event")
    low, _ = work.graph_card.pause.item.getRegion()
    work.graph_card.pause.item.setRegion((low, low + 0.55))
    made.until(lambda: "0.55 s apart" in made.lesson.store.plan.workings[0], "the line follows the pause")
    made.window.setFocus()
    made.press("L")
    assert not work.lines_shown


def test_what_is_refused_does_not_stay_and_taking_back_says_from_what_to_what(worked: Desk) -> None:
    made = worked
    made.press("1")
    stage = made.window.stage
    kept = stage.by_bench.item(0, 2).text()
    stage.by_bench.item(0, 2).setText("half a metre")
    made.see("is not a number with its uncertainty", stage)
    made.until(lambda: stage.by_bench.item(0, 2).text() == kept, "what was kept is shown again")
    stage.by_bench.item(0, 2).setText("0,6")
    made.until(lambda: stage.by_bench.item(0, 2).text() == "0.600 ± 0.003 m", "it is shown as it was understood")
    made.undo()
    told = made.hub.messages.text
    assert told.startswith("Taken back:"), told
    assert f"from 0.600 ± 0.003 m to {kept}" in told, told
    made.redo()
    assert f"from {kept} to 0.600 ± 0.003 m" in made.hub.messages.text
    made.press("4", "R")
    made.under_way("Basalt", 1.5)
    made.press("M")
    made.answer("bumped")
    made.press("R")
    made.until(lambda: len(made.lesson.store.kept_runs()) == 12, "the runs are kept")
    made.press("5")
    while made.hub.group != made.group["Basalt"]:
        made.press("Down")
    made.see("bumped", stage := made.window.stage)

    def drawn() -> list[str]:
        return [i.toPlainText() for i in stage.graph.getPlotItem().items if hasattr(i, "toPlainText")]

    made.until(lambda: any("bumped" in words for words in drawn()), "the moment is drawn on the graph")
    plain_ink = stage.finding_card.finding.property("role")
    made.press("X")
    made.answer("the string slipped")
    made.see("Set aside: the string slipped.", stage)
    assert stage.finding_card.finding.property("role") != plain_ink, "it does not look valid"
    chosen = stage._current().id
    assert made.change_theme() == "projector"
    assert made.window.stage._current().id == chosen, "another theme chooses nothing else"
    assert made.hub.group == made.group["Basalt"]
    plan = msgspec.structs.replace(made.lesson.store.plan, graph=None)
    made.lesson.planning.change_plan(plan, "No class graph")
    made.press("6")
    made.see("Findings of all groups".upper(), made.window.stage)
    pool = made.window.stage
    assert pool.graph_card.isVisible(), "a strip of values, never an empty graph"
    assert len(pool.graph.getPlotItem().items) > 6
    assert pool.findings.rowCount() == 6
    made.see("1.4", pool.findings_card)


def test_a_point_by_itself_waits_for_a_new_level_and_all_name_the_same_next_point(desk: Made) -> None:
    made = desk()
    stage, lesson = made.window.stages["calibrate"], made.lesson
    made.press("3")
    made.hang("nothing")
    group = made.hub.group
    made.press("A")
    made.until(lambda: lesson.calibrating.has_point(group, "load", "nothing"), "the first is taken by itself")
    assert stage.planned.label != "nothing"
    made.until(lambda: is_steady(lesson, group, 4), "it stays where it was")
    made.world(6)
    taken = [point.label for point in lesson.store.points(lesson.store.kit_of(group), "load")]
    assert taken == ["nothing"], "nothing new hangs there, so nothing more is taken"
    assert stage.planned.label in made.seen(stage), "the button names the point"
    label = stage.planned.label
    assert any(label in each.text() for each in stage.findChildren(QAbstractButton) if each.isVisible())
    made.hang(label)
    made.until(lambda: lesson.calibrating.has_point(group, "load", label), "the next is taken on its level")


def test_no_text_is_cut_in_any_stage_in_both_themes_with_long_names_too(worked: Desk) -> None:
    made = worked
    made.window.resize(1280, 800)

    def walk(when: str, stages: Sequence[int] = range(1, len(STAGES) + 1), *, long_names: bool = False) -> list[str]:
        found = []
        for number in stages:
            made.hub.go(STAGES[number - 1][0])  # keys would be typed into the tape
            for _ in range(20):  # until it has been laid out, which a busy machine puts off
                QTest.qWait(60)
                cut = cut_texts(made.window, long_names=long_names)
                if not cut:
                    break
            found += [f"{when}, {palette().name}, stage {number}: {each}" for each in cut]
        return found

    assert (made.window.width(), made.window.height()) == (1280, 800)
    found = []
    assert palette().name == "paper"
    found += walk("worked")
    made.press("4", "R")
    found += walk("recording", (2, 3, 4))  # where it is seen
    made.press("4", "R")
    made.press("T")
    found += walk("with the tape", (2, 4))  # where it is opened
    made.press("T")
    assert made.change_theme() == "projector"
    found += walk("worked")
    rows = [made.lesson.book.changed("group", group.id, alias=alias) for group, alias in zip(made.lesson.store.groups, LONG, strict=False)]  # fmt: skip
    made.lesson.changes.do("Long names", rows)
    plan = msgspec.structs.replace(made.lesson.store.plan, name="Swinging bottles of many sizes and shapes")
    made.lesson.planning.change_plan(plan, "A long name")
    made.window.refresh()
    found += walk("long names", long_names=True)
    made.change_theme()
    found += walk("long names", (4, 6), long_names=True)  # where there is least room
    assert found == []


FAULTY = """
import os, sys, threading
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from common_bench.desk.shell.application import _open_after_first_paint
from common_bench.desk.shell.hub import Hub
from common_bench.desk.shell.window import Bench
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan

def bad():
    raise RuntimeError("a slot that nobody foresaw")

def bad_thread():
    raise LookupError("a thread that nobody foresaw")

shown = []
def make(faults):
    faults.found.connect(lambda words: shown.append(words.strip().splitlines()[-1]))
    window = Bench(Hub(OpenLesson.make(Path(sys.argv[1]), Plan("Nothing"), "", ["Basalt"])), faults)
    repeated = QTimer(window)
    repeated.timeout.connect(bad)
    repeated.start(20)
    QTimer.singleShot(300, lambda: threading.Thread(target=bad_thread).start())
    def last():
        repeated.stop()
        panel = window.fault_panel
        print("panel", panel.isVisible(), panel.details.toPlainText().splitlines()[-1])
        panel.copy()
        print("copied", QApplication.clipboard().text().splitlines()[0])
        window.escape()
        print("closed", not panel.isVisible(), "goes on", window.isVisible())
        window.hub.go("record")
        print("stage", window.hub.stage)
        window.close()
        QApplication.instance().quit()
    QTimer.singleShot(1200, last)
    return window

_open_after_first_paint("Opening", make)
print("told", shown, flush=True)
os._exit(0)  # nothing is left of Qt that could be taken down in order
"""


def test_what_nobody_foresaw_is_shown_once_kept_in_a_log_and_the_program_goes_on(tmp_path: Path) -> None:
    place = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "state"), "QT_QPA_PLATFORM": "offscreen"}
    ran = subprocess.run(
        [sys.executable, "-c", FAULTY, str(tmp_path / "a.benchbook")], env=place, capture_output=True, text=True, timeout=90,
    )  # fmt: skip
    said = ran.stdout
    assert ran.returncode == 0, ran.stderr
    assert "panel True LookupError: a thread that nobody foresaw" in said
    assert "copied Common Bench " in said
    assert "closed True goes on True" in said
    assert "stage record" in said
    assert "told ['RuntimeError: a slot that nobody foresaw', 'LookupError: a thread that nobody foresaw']" in said, (
        said
    )
    (log,) = (tmp_path / "state").rglob("*.log")
    words = log.read_text("utf-8")
    assert words.count("a slot that nobody foresaw") > 1, "each time is in the log"
    assert "Traceback" in words
    assert "a thread that nobody foresaw" in words


def test_the_demo_has_a_folder_of_its_own_and_hang_reaches_it(tmp_path: Path) -> None:
    short = Path(tempfile.mkdtemp(prefix="cb"))  # a socket's path may not be long
    place = {
        **os.environ, "XDG_DATA_HOME": str(tmp_path / "data"), "XDG_RUNTIME_DIR": str(short), "QT_QPA_PLATFORM": "offscreen",
        "XDG_STATE_HOME": str(tmp_path / "state"), "XDG_CONFIG_HOME": str(tmp_path / "config"),
    }  # fmt: skip
    command = [sys.executable, "-m", "common_bench.cli"]
    demo = subprocess.Popen([*command, "demo"], env=place, stdout=subprocess.PIPE, text=True)
    try:
        assert demo.stdout is not None
        said = demo.stdout.readline()
        folder = Path(said.partition("is in ")[2].strip())
        assert (tmp_path / "data") in folder.parents, said
        for _ in range(60):
            ran = subprocess.run([*command, "hang", "100 g"], env=place, capture_output=True, text=True, timeout=60)
            if ran.returncode == 0:
                break
        assert ran.returncode == 0, ran.stderr
        wait_for(lambda: list(folder.glob("*.benchbook")), "its book is there")
    finally:
        demo.terminate()
        demo.wait(30)
        shutil.rmtree(short, ignore_errors=True)
