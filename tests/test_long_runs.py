"""Runs of many readings: drawn at once from the picture that is kept beside their bytes, finer where one looks closer."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from common_bench.book.removing import remove_run
from common_bench.desk.work.stage import WorkStage
from common_bench.lesson import run_pictures
from common_bench.lesson.bring_files import bring_files
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Stamped
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.stream import Column, StreamFormat
from common_bench.record.chain import Chain
from common_bench.record.rules import Rule
from common_bench.record.runs import Room, RunUnderWay
from common_bench.workings.evaluate import check
from person import Desk

COUNT, SPIKE = 6000, 4321


@pytest.fixture
def long_book(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A book with one run of a slow swing, with a spike of one reading and a gap of 50 s."""
    monkeypatch.setattr(run_pictures, "LONG", 5000)
    monkeypatch.setattr(run_pictures, "STRETCHES", 100)
    book = tmp_path / "long.benchbook"
    plan = Plan("Long", sensors=(SensorPlan("load", "load_now", unit="g", curve="as-it-comes"),), show=("load_now",))
    OpenLesson.make(book, plan, "9B", ["Flint"]).close()
    t = np.arange(COUNT) * 0.5 + 50 * (np.arange(COUNT) >= 2000)
    values = np.where(np.arange(COUNT) == SPIKE, 900, 100 * np.sin(t / 200))
    file = tmp_path / "night.csv"
    file.write_text("time (s),load\n" + "".join(f"{a:.1f},{b:.3f}\n" for a, b in zip(t, values, strict=True)))
    (told,) = bring_files(book, [file], "Flint", began="", ended="")
    assert told["rows"] == COUNT
    return book


def test_a_long_run_is_drawn_from_its_picture_until_it_is_read_and_never_from_one_of_before(long_book: Path) -> None:
    lesson = OpenLesson.open(long_book)
    working, run = lesson.working_up, lesson.store.runs()[0]
    while working.at_hand(run.id) is None:
        working.collect()
    whole, seen = working.replayed(run.id), working.pictured(run.id)
    assert seen is not None
    assert len(seen.t) < 350 < len(whole.t)
    assert seen.seconds == whole.seconds
    pictured, real = seen.results["load_now"], whole.results["load_now"]
    assert pictured.unit == real.unit
    assert np.nanmax(pictured.values) == np.nanmax(real.values) == 900, "no spike is lost"
    assert np.nanmin(pictured.values) == np.nanmin(real.values)
    known = np.isfinite(pictured.values)
    at = np.searchsorted(whole.t, pictured.t[known])
    assert (whole.t[at] == pictured.t[known]).all()
    assert (real.values[at] == pictured.values[known]).all(), "nothing is drawn that was not there"
    ((low, high),) = whole.gaps
    place = np.flatnonzero(~known)
    assert len(place) == 1
    assert pictured.t[place[0] - 1] <= low < high <= pictured.t[place[0] + 1], "the line is broken in the gap"
    lesson.close()
    again = OpenLesson.open(long_book)
    assert again.working_up.pictured(run.id) is not None, "it lies in the book"
    before = again.book.rows("run_picture")
    change = again.working_up.leave_out(run.id, (10.0, 20.0), "bumped")
    assert again.working_up.pictured(run.id) is None, "another setting: what was drawn of it is of before"
    again.working_up.let_go(run.id)
    while again.working_up.at_hand(run.id) is None:
        again.working_up.collect()
    assert again.working_up.pictured(run.id) is not None
    after = again.book.rows("run_picture")
    assert len(after) == len(before)
    assert {row["digest"] for row in after} != {row["digest"] for row in before}
    again.changes.undo(change)
    assert again.book.check() == []
    remove_run(again.book, run.id)
    assert again.book.rows("run_picture") == []
    again.close()


@pytest.fixture
def made(long_book: Path, alone: Callable[[OpenLesson], Desk]) -> Desk:
    """The window on it, with nothing plugged in."""
    return alone(OpenLesson.open(long_book))


def test_a_run_is_looked_at_closer_while_it_stays_where_one_looks(made: Desk) -> None:
    stage = made.window.stages["work"]
    assert isinstance(stage, WorkStage)
    card = stage.graph_card
    made.press("5")
    made.until(lambda: card._line is not None and "readings" in stage.subtitle.text(), "the run is read and drawn")
    made.lesson.working_up.let_go(made.lesson.store.runs()[0].id)
    stage.refresh()
    assert "being read" in stage.subtitle.text()
    assert card._line is not None, "its picture is drawn meanwhile"
    assert np.nanmax(card._line.item.getData()[1]) == 900
    made.until(lambda: "readings" in stage.subtitle.text(), "it is read")

    def drawn() -> tuple[float, float, int]:
        t = card._line.item.getData()[0]
        low, high = card.graph.getViewBox().viewRange()[0]
        return low, high, int(((t >= low) & (t <= high)).sum())

    _, _, coarse = drawn()
    made.press("+", "+", "+", "+", "+")
    made.until(lambda: card._line.item.getData()[0][0] > 100, "the line is drawn anew")
    low, high, fine = drawn()
    assert high - low == pytest.approx((COUNT * 0.5 + 50) / 32, rel=0.02)
    assert fine == pytest.approx(2 * (high - low), abs=3), "each reading of what is seen"
    assert fine < coarse
    made.press(".")
    made.until(lambda: drawn()[0] == pytest.approx(low + 0.25 * (high - low), abs=0.01), "a quarter later")
    there = drawn()[:2]
    stage.refresh()
    assert drawn()[:2] == pytest.approx(there), "what one looks at stays when something is drawn anew"
    made.press("N")
    made.until(lambda: drawn()[2] == coarse, "all of it again")
    made.press("-")
    assert drawn()[1] > COUNT * 0.5


def test_what_runs_keep_in_memory_has_an_end_however_long_they_last_and_however_many_they_are() -> None:
    workings = check(["load_now = calibrated load"], {"load": "g"})
    room = Room(60_000)
    chains = [Chain(workings, (), StreamFormat(",", (Column("load"),))) for _ in range(3)]
    runs = [RunUnderWay(at, 1, Rule(), 0, chain.begin_run(), room=room) for at, chain in enumerate(chains)]
    kept: list[int] = []
    for turn in range(200):
        for run, chain in zip(runs, chains, strict=True):
            run.take(chain.feed([Stamped(turn * 0.05, b"1\n2\n3\n")]))
        kept.append(sum(len(run.worked or ()) for run in runs))
    assert kept[5] == 18, "as long as there is room, what was seen live is kept"
    assert max(kept) < 200, "and no more than there is room for"
    assert all(run.readings == 600 for run in runs), "each goes on"
    assert [run.worked is None for run in runs].count(True) >= 2
    for run in runs:
        run.let_go()
    fresh = RunUnderWay(9, 2, Rule(), 0, chains[0].begin_run(), room=room)
    fresh.take(chains[0].feed([Stamped(11.0, b"4\n")]))
    assert fresh.worked, "what runs that have ended took is free for the next"
