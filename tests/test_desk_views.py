"""What a class watches in Record besides the wall: all groups in one graph, a run played again, what was expected, pictures of
graphs; and what is removed for good."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import msgspec
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QGuiApplication, QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget

from common_bench.book.book import Book
from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD
from common_bench.desk.shell.application import application, demo_window
from common_bench.lesson.class_views import aliased, hum, spectrum
from common_bench.model.plan import Condition, RulePlan, Threshold
from common_bench.record.traces import Picture
from person import Desk
from test_desk_record import uncut

Made = Callable[..., Desk]


def drag(widget: QWidget, *places: tuple[int, int]) -> None:
    """With the left button, from the first place to the last."""
    first, *rest = (QPoint(*each) for each in places)
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, pos=first)
    for each in rest:
        QTest.mouseMove(widget, each)
        QTest.qWait(20)
    QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=rest[-1])


def test_all_groups_are_seen_in_every_way_and_a_run_of_another_day_behind(worked: Desk) -> None:
    made = worked
    made.press("4", "G")
    stage = made.window.stage
    graph = stage.graph_card

    def drawn() -> int:
        return sum(
            len(curve.getData()[0] if curve.getData()[0] is not None else ()) > 10
            for curve, _ in graph._curves.values()
        )

    made.until(lambda: drawn() == 6, "six lines by the clock")
    made.press("J")
    made.until(lambda: drawn() == 0, "no run is under way that could be aligned")
    made.until(lambda: not any(map(made.lesson.roster.why_not_ready, made.group.values())), "all are ready")
    made.hang("bottle", 1.5)  # once more: on a slow machine it has come to rest by now
    made.press("R")
    made.until(lambda: drawn() == 6, "six lines from where each began")
    assert all(curve.getData()[0][0] >= -0.1 for curve, _ in graph._curves.values())
    made.press("J")
    made.until(lambda: drawn() == 6, "six lines from the first event")
    made.press("A")
    made.answer("the bell")
    graph.behind.setCurrentIndex(1)
    graph.behind.activated.emit(1)
    made.until(lambda: graph._lain is not None and graph._lain[1] is not None, "a run lies behind")
    assert "run 1" in graph.behind.currentText()
    made.press("V")
    made.until(lambda: drawn() == 6, "one against another")
    made.press("V")
    made.see("All groups", stage)
    made.until(lambda: sum(type(each).__name__ == "BarGraphItem" for each in graph._more) == 6, "bars of now")
    made.press("V")
    made.until(lambda: drawn() == 6, "spectra")
    assert uncut(made, "spectra", themes=True) == []
    made.press("R")


def test_a_run_is_played_again_in_the_same_views_while_its_kit_is_heard(desk: Made) -> None:
    made = desk()
    made.run_lasts(8)
    made.record()
    made.press("5", "V")
    stage, group = made.window.stage, made.hub.group
    made.see("Back to now (Esc)", stage)
    assert made.hub.stage == "record"
    run = made.lesson.store.kept_runs(group)[0]
    played = made.lesson.replays.playing
    assert played is not None
    made.press("F", "F")
    made.see("5 ×", stage)
    made.press("Z")
    made.see("stands still", stage)
    still = played.played.seconds
    QTest.qWait(200)
    assert played.played.seconds == still
    made.press("Z", *"FFFF")
    made.until(lambda: played.played.ended, "it comes to its end")
    whole = made.lesson.working_up.replayed(run.id)
    assert played.state.readings == len(whole.t)
    assert played._live.happened("pass")[0] == len(whole.results["pass"])
    seen = played.state.live.since("tension", -1e9, 10**6, 1.0)
    assert seen.values == pytest.approx(whole.results["tension"].values, nan_ok=True), "as it was, to the last bit"
    assert made.lesson.roster.state(group).readings > 0
    made.press("Escape")
    assert made.lesson.seen(group) is made.lesson.roster.state(group)
    made.until(lambda: not stage.replay_bar.isVisible(), "back to now")


def test_what_a_group_expects_is_drawn_or_typed_before_and_laid_over_the_run(worked: Desk) -> None:
    made = worked
    made.run_lasts(6)
    made.press("4", "E")
    stage, group, predictions = made.window.stage, made.hub.group, made.lesson.predictions
    made.answer("0 two")
    made.see("is no time and value", made.window)
    made.press("Escape")
    trace = stage.one.traces[0]
    made.press("E")
    made.until(lambda: trace.drawn is not None, "it can be drawn on")
    wide, high = trace.viewport().width(), trace.viewport().height()
    drag(trace.viewport(), (wide // 4, high // 2), (wide // 2, high // 3), (3 * wide // 4, high // 2))
    made.until(lambda: predictions.waiting(group) is not None, "it is kept")
    first = predictions.waiting(group)
    assert first.quantity == "tension"
    assert 0 < first.t[0] < first.t[-1] < 7
    made.see("drawn for the next run", stage)
    made.undo()
    assert predictions.waiting(group) is None
    made.press("E")
    made.answer("0 2.0, 3 2,5, 6 2.0")
    assert predictions.waiting(group).values == (2.0, 2.5, 2.0)
    assert uncut(made, "expected") == []
    made.record()
    run = made.lesson.store.kept_runs(group)[-1]
    assert predictions.of_run(run.id).t == (0.0, 3.0, 6.0)
    assert predictions.waiting(group) is None, "it was of this run"
    made.press("5")
    graph = made.window.stage.graph_card
    made.until(lambda: "expected by the group (E hides it)" in notes(graph.graph), "it is laid over")
    made.press("E")
    made.until(lambda: "expected by the group (E hides it)" not in notes(graph.graph), "it is hidden")


def notes(graph: QWidget) -> str:
    return " ".join(each.toPlainText() for each in graph.getPlotItem().items if hasattr(each, "toPlainText"))


def test_tiles_are_laid_as_the_room_is_show_what_is_asked_and_sound_where_the_plan_says(
    worked: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = worked
    plan, store = made.lesson.store.plan, made.lesson.store
    sensor = msgspec.structs.replace(plan.sensors[0], warn=(Threshold("too much", above=-1e9, sound=True),))
    asked = (Condition("mass", "g", per_run=True), Condition("wind", kind="words", per_run=True, at_end=True))
    changed = msgspec.structs.replace(plan, sensors=(sensor,), conditions=(*plan.conditions, *asked), rule=RulePlan())
    made.lesson.planning.change_plan(changed, "More of it")
    heard: list[int] = []
    monkeypatch.setattr("common_bench.desk.record.stage.QApplication.beep", lambda: heard.append(1))
    made.press("4")
    stage = made.window.stage
    first, second = (group.alias for group in store.groups[:2])
    made.until(lambda: stage.tiles[1].x() > 100, "they are laid out")
    drag(stage.tiles[0], (10, 10), (60, 20), (stage.tiles[1].x() - stage.tiles[0].x() + 12, 12))
    made.until(lambda: [group.alias for group in store.groups[:2]] == [second, first], "it has the other's place")
    made.press("<")
    made.until(lambda: [group.alias for group in store.groups[:2]] == [first, second], "and its own again")
    made.see("too much", stage)
    assert len(heard) <= len(store.groups), "each bench once, not again and again"
    made.press("Q")
    made.see("first.", made.window)
    made.press("W")
    made.see("first on", made.window)
    made.press("Space")
    made.see("mass of this run? C sets it.", made.window)
    made.press("C")
    made.answer("12 ± 1")
    run = store.runs(made.hub.group)[-1]
    assert str(store.run_stated(run.id)["mass"]) == "12.0 ± 1.0 g"
    made.until(lambda: made.lesson.roster.recording(made.hub.group), "it records")
    made.world(1)
    made.press("M")
    made.answer("a gust")
    made.until(lambda: stage.tiles[0].trace.flags_shown, "a flag on its tile")
    made.press("U")
    made.until(lambda: stage.one.traces and len(stage.one.traces[0].spread.x) > 20, "a band about the line")
    made.press("Space")
    made.until(lambda: len(store.ended_runs(made.hub.group)) == 2, "it is kept")
    made.press("C")
    made.answer("strong")
    assert store.run_stated(run.id)["wind"] == "strong"
    made.press("C")
    made.see("No condition of a run is asked for now.", made.window)


def test_a_graph_goes_on_paper_in_its_colours_with_its_title_and_never_over_a_file(desk: Made, tmp_path: Path) -> None:
    made = desk()
    made.run_lasts(4)
    made.record()
    made.change_theme()
    made.press("5")
    made.see("Gneiss run 1" if False else "run 1", made.window.stage)
    stage = made.window.stage
    made.until(lambda: stage.picture() is not None, "there is a graph")
    QTest.keyClick(made.window, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    made.see("Copied: ", made.window)
    image = QGuiApplication.clipboard().image()
    assert image.width() > 1200
    assert image.pixelColor(3, 3).name() == "#ffffff", "paper, though the projector's theme is worn"
    for ending, begins in ((".png", b"\x89PNG"), (".svg", b"<?xml"), (".pdf", b"%PDF")):
        QTest.keyClick(made.window, Qt.Key.Key_P, Qt.KeyboardModifier.ControlModifier)
        place = tmp_path / f"graph{ending}"
        made.answer(str(place))
        made.see(f"The picture is {place}", made.window)
        assert place.read_bytes().startswith(begins)
    words = (tmp_path / "graph.svg").read_text("utf-8")
    assert "run 1" in words
    assert "class 9B" in words
    assert QImage(str(tmp_path / "graph.png")).width() == image.width()
    QTest.keyClick(made.window, Qt.Key.Key_P, Qt.KeyboardModifier.ControlModifier)
    made.answer(str(tmp_path / "graph.png"))
    made.see("there is such a file already; it stays as it is.", made.window)
    made.answer(str(tmp_path / "graph.bmp"))
    made.see("ends in .png, .svg, .pdf", made.window)
    made.answer(str(tmp_path / "no" / "graph.png"))
    made.see("cannot be written there", made.window)


def test_what_is_removed_for_good_is_in_no_byte_of_the_book(desk: Made) -> None:
    made = desk()
    made.run_lasts(2)
    made.record()
    made.press("4", "Space")  # a second of this bench alone
    made.until(lambda: len(made.lesson.store.kept_runs(made.hub.group)) == 2, "its second run")
    made.press("5")
    group, store = made.hub.group, made.lesson.store
    alias = store.group(group).alias
    first, second = store.kept_runs(group)
    whole = made.lesson.working_up.replayed(second.id)
    made.lesson.recording.set_note(first.id, "Zaphirah slipped")
    made.press("Left") if made.window.stage._run != first.id else None
    made.until(lambda: made.window.stage._run == first.id, "the first is shown")
    made.press("Delete")
    made.answer("basalt")
    made.see("is neither", made.window)
    made.answer(f"{alias} {first.number}")
    made.see(f"{alias} {first.number} is removed for good: 1 run", made.window)
    assert [run.id for run in store.kept_runs(group)] == [second.id]
    assert store.run(first.id).number == first.number, "its number stays taken"
    made.lesson.working_up.let_go(second.id)
    again = made.lesson.working_up.replayed(second.id)
    assert again.t.tolist() == whole.t.tolist()
    assert again.raw["load"].tolist() == whole.raw["load"].tolist()
    made.until(lambda: made.window.stage._run == second.id, "the other is shown")
    made.press("Delete")
    made.answer(alias)
    made.see(f"{alias} is removed for good: 2 runs", made.window)
    assert alias not in [each.alias for each in store.groups]
    path = made.lesson.book.path
    made.window.close()
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    connection.close()
    held = path.read_bytes()
    assert b"Zaphirah" not in held
    book = Book.open(path)
    assert book.check() == []
    left = b"".join(each.data for what, _, found in heard(book, first.session, 0, second.end) if what == HEARD for each in found)  # fmt: skip
    assert len(left) == second.end
    assert set(left) == {0}, "all that its kit had sent until then"
    book.close()


def test_hum_is_found_where_it_shows_and_not_in_noise() -> None:
    import numpy as np

    dice = np.random.default_rng(4)
    for rate in (47.0, 88.0, 120.0, 333.0):
        t = np.arange(int(20 * rate)) / rate
        noise = dice.normal(0, 0.1, len(t))
        loud = noise + 0.2 * np.sin(2 * np.pi * 50 * t)
        for values, wanted in ((noise, []), (loud, [50.0])):
            found = spectrum(Picture(t, values))
            assert found is not None
            assert hum(*found) == wanted, rate
        frequencies, density, _ = spectrum(Picture(t, loud))
        assert frequencies[int(np.argmax(density))] == pytest.approx(aliased(50.0, rate), abs=1.0)
    assert spectrum(Picture(np.arange(8.0), np.arange(8.0))) is None


def test_files_that_are_dropped_are_looked_at_before_they_come_in_as_runs(worked: Desk, tmp_path: Path) -> None:
    made = worked
    lines = [
        f"01/01/2010,00:{at // 3:02d}:{20 * (at % 3):02d},{230_000 - 10 * at},21.{at % 7},0.050," for at in range(90)
    ]
    lines[40:60] = []
    first, again, bad = tmp_path / "Chalk 7.txt", tmp_path / "other.txt", tmp_path / "diary.txt"
    first.write_text("date,time,load,temp,rate,\n" + "\n".join(lines) + "\n", "ascii")
    again.write_text("time (s),load\n0,230000\n1,230010\n2,230020\n", "ascii")
    bad.write_text("dear diary\n", "ascii")
    made.press("4")
    stage, store = made.window.stage, made.lesson.store
    stage.bring_in([bad])
    made.see("no rows of numbers can be made out", made.window)
    stage.bring_in([first, again])
    made.see("Bring in what a kit logged on its own", stage)
    made.see("01/01/2010,00:00:00,230000", stage)
    made.see("was never set", stage)
    assert stage.bringing.whose.currentText() == "Chalk"
    rows = [stage.bringing.columns.item(row, 1).text() for row in range(stage.bringing.columns.rowCount())]
    assert rows == ["the kit's clock", "the kit's clock", "a channel", "a channel", "left out"]
    assert [run.number for run in store.runs(made.group["Chalk"])] == [1], "nothing is kept yet"
    assert uncut(made, "bringing in") == []
    stage.bringing.columns.item(3, 0).setText("warmth")
    made.until(lambda: stage.bringing.preview.columns[3].name == "warmth", "a name is typed over")
    stage.bringing.columns.item(3, 2).setText("blorps")
    made.see("“blorps” is no unit", made.window)
    stage.bringing.columns.item(3, 1).setText("a clock of mine")
    made.see("is none of these", made.window)
    stage.bringing.columns.item(3, 1).setText("left out")
    made.until(lambda: stage.bringing.preview.columns[3].role == "ignored", "a column is left out by hand")
    made.see("left out by hand", stage)
    stage.bringing.main.click()
    made.see("1 gap", made.window)
    made.until(lambda: len(store.kept_runs(made.group["Chalk"])) == 2, "it is a run like any other")
    made.see("Bring in as a run of", stage)
    stage.bringing.when.setCurrentText("began when I say")
    stage.bringing.when.activated.emit(0)
    stage.bringing.main.click()
    made.see("is no moment", made.window)
    stage.bringing.moment.setText("2026-11-24 09:40")
    made.press("Return")
    made.until(lambda: not stage.bringing.isVisible(), "back to the wall")
    run = store.runs(made.hub.group)[-1]
    assert run.began_at == "2026-11-24T09:40:00"
    made.undo()
    assert store.run(run.id).aside == "taken back"
    live = store.kept_runs(made.group["Flint"])[0]
    seen = made.lesson.working_up.replayed(live.id)
    rows = [
        f"{5000 + at:.3f},{load:.0f}" for at, load in zip(seen.t, seen.raw["load"], strict=True) if 3.0 <= at < 13.0
    ]
    shown = tmp_path / "beside Flint.csv"
    shown.write_text("\n".join(["time (s),scale", *rows, ""]), "ascii")
    stage.bring_in([shown])
    choices = [stage.bringing.when.itemText(at) for at in range(stage.bringing.when.count())]
    place = next(at for at, each in enumerate(choices) if each == "as seen in Flint run 1")
    stage.bringing.when.setCurrentIndex(place)
    stage.bringing.when.activated.emit(place)
    made.see("scale of this file and load of that run", stage)
    shift = float(stage.bringing.beside.field.text().removesuffix(" s"))
    assert -10.0 < shift < 20.0, "a swing fits again and again, and only one of its places is proposed"
    assert uncut(made, "held against a run") == []
    before = float(stage.bringing.beside.handle.value())
    stage.bringing.beside.handle.setValue(before - 1.0)
    assert stage.bringing.beside.field.text() == f"{shift + 1.0:.2f} s", (
        "the trace of that run is dragged over the file's"
    )
    stage.bringing.beside.field.setText("somewhen")
    stage.bringing.main.click()
    made.see("is no moment", made.window)
    stage.bringing.beside.field.setText("4.5 s")
    stage.bringing.beside.field.editingFinished.emit()
    stage.bringing.main.click()
    made.until(lambda: not stage.bringing.isVisible(), "it is in")
    placed = store.runs(made.group["Flint"])[-1]
    began = [datetime.fromisoformat(each.began_at).replace(tzinfo=None) for each in (live, placed)]
    assert (began[1] - began[0]).total_seconds() == pytest.approx(4.5)


def test_the_drying_sponges_are_brought_in_from_their_cards_and_find_what_is_true(tmp_path: Path) -> None:
    """The whole lesson in the window: files chosen, each looked at and brought in, sent, the pool opened, one set aside."""
    application()
    window = demo_window(tmp_path, tmp_path / "ports", 1.0, "drying-sponges")
    window.show()
    hub, record = window.hub, window.stages["record"]
    cards = sorted((tmp_path / "memory cards").iterdir())
    assert len(cards) == 7
    assert str(tmp_path / "memory cards") in hub.messages.text
    record.bring_in(cards)
    seen = []
    while record.bringing.isVisible():
        seen.append((record.bringing.files.text(), record.bringing.whose.currentText()))
        record.bringing.main.click()
    assert [whose for _, whose in seen] == ["Basalt", "Chalk", "Flint", "Gneiss", "Marble", "Slate"]
    assert "joined" in {whose: files for files, whose in seen}["Marble"]
    store = hub.lesson.store
    deadline = time.monotonic() + 60
    while not (len(store.kept_runs()) == 6 and all(store.findings(run.id) for run in store.kept_runs())):
        assert time.monotonic() < deadline, "all are worked up"
        QTest.qWait(50)
    window.go_to("work")
    window.stages["work"].deeds.send_all()
    window.go_to("pool")
    pool = window.stages["pool"]
    pool.open_or_seal()
    assert "Slate" in next(place.alias for place in hub.lesson.pooling.class_result().places if place.stands_out)
    hub.select(next(group.id for group in store.groups if group.alias == "Slate"))
    pool.ask_aside()
    pool.question._field.setText("only some sides counted")
    QTest.keyClick(pool.question._field, Qt.Key.Key_Return)
    found = hub.lesson.pooling.class_result().finding
    assert found.value == pytest.approx(0.020, abs=3 * found.u)
    assert "agrees with" in pool.finding_card.agreement.text()
    window.close()
