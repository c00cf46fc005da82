"""Long logged files are cut in arrays: whatever their habits, to the same as line by line."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import text as text_of

from common_bench.book import file_keeping, file_pieces
from common_bench.book.file_keeping import StampedRows, kept_file
from common_bench.book.heard_again import heard
from common_bench.book.journal import HEARD, NO_TEXT
from common_bench.book.removing import remove_run
from common_bench.exchange import logged, long_files
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import numbers, times_of
from common_bench.exchange.logged import Logged, logged_from
from common_bench.exchange.series_of_files import by_speaker, joined_files, speakers_at
from common_bench.lesson import file_lines
from common_bench.lesson.brought_words import Preview
from common_bench.lesson.file_lines import format_of, lines_of
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Series
from common_bench.model.long_task import LongTask
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.run import Run
from common_bench.model.trouble import FileTrouble, Trouble
from common_bench.record.replay import Replayed, as_recorded, replay
from person import Desk

HEADS = ["time (s)", "load (g)", "temp (°C)", "kit", "level"]
ODD_CELLS = ["", "nan", "-", "1e3", "+5", ".5", "−3", "1 234", "word", "inf", "12.", " 7 "]


def both(path: Path, monkeypatch: pytest.MonkeyPatch, beginning: int = 200) -> tuple[Logged | str, Logged | str]:
    """A file line by line, and as a long one; in place of it the code of why it is refused."""
    found: list[Logged | str] = []
    for long in (1 << 40, 1):
        monkeypatch.setattr(logged, "LONG", long)
        monkeypatch.setattr(long_files, "BEGINNING", beginning)
        try:
            found.append(logged_from(path))
        except FileTrouble as trouble:
            found.append(trouble.code)
    return found[0], found[1]


def same(slow: Logged, fast: Logged) -> None:
    for name in ("names", "units", "breaks", "left_out", "settings", "comma"):
        assert getattr(slow, name) == getattr(fast, name), name
    assert list(slow.numbers) == list(fast.numbers)
    assert list(slow.rows) == list(fast.rows)
    assert slow.rows[::3] == fast.rows[::3]
    for at in range(len(slow.names)):
        np.testing.assert_array_equal(numbers(slow, at), numbers(fast, at))
        assert slow.column(at) == fast.column(at)
        assert slow.counts(at, 5) == fast.counts(at, 5)
    one, other = times_of(slow), times_of(fast)
    np.testing.assert_array_equal(one.t, other.t)
    assert (one.first, one.last, one.state, one.notes) == (other.first, other.last, other.state, other.notes)
    assert speakers_at(slow) == speakers_at(fast)


@given(st.data())
def test_a_long_file_gives_what_it_gives_line_by_line(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    draw, patch = data.draw, pytest.MonkeyPatch()
    mark = draw(st.sampled_from([",", ";", "\t"]))
    comma = mark != "," and draw(st.booleans())
    wide, count = draw(st.integers(2, 5)), draw(st.integers(20, 60))
    dice = np.random.default_rng(draw(st.integers(0, 99)))
    cells = [[f"{at * 0.5:.1f}", *(f"{each:.3f}" for each in dice.normal(20, 5, wide - 1))] for at in range(count)]
    if wide > 3:
        for at, row in enumerate(cells):
            row[3] = str(at % 2 + 1)
    if draw(st.booleans()):
        for at, row in enumerate(cells):
            row[0] = f"2026-03-{1 + at // 24:02d} {at % 24:02d}:30:00"
    elif comma:
        cells = [[each.replace(".", ",") for each in row] for row in cells]
    for _ in range(draw(st.integers(0, 2))):
        cells[draw(st.integers(0, count - 1))][draw(st.integers(1, wide - 1))] = draw(st.sampled_from(ODD_CELLS))
    lines = [mark.join(row) for row in cells]
    trailing = draw(st.booleans())
    lines = [line + mark * trailing for line in [mark.join(HEADS[:wide]), *lines]]
    for _ in range(draw(st.integers(0, 1))):
        more = draw(st.sampled_from([lines[0], "battery low", "", mark.join(["1"] * (wide + 2)), "# remark"]))
        lines.insert(draw(st.integers(1, len(lines))), more)
    end = draw(st.sampled_from(["\n", "\r\n"]))
    text = end.join(lines) + draw(st.sampled_from([end, "", end + lines[-1][: len(lines[-1]) // 2]]))
    path = tmp_path_factory.mktemp("long") / "LOG1.CSV"
    path.write_bytes(draw(st.sampled_from([b"", b"\xef\xbb\xbf"])) + text.encode())
    slow, fast = both(path, patch)
    patch.undo()
    if isinstance(slow, str) or isinstance(fast, str):
        assert slow == fast
        return
    same(slow, fast)


def plain(folder: Path, name: str, begin: int, count: int = 400) -> Path:
    path = folder / name
    rows = "".join(f"{begin + at},{at % 2 + 1},{at * 1.5},{'nan' if at == 300 else at % 7}\n" for at in range(count))
    path.write_text(f"time (s),kit,level (cm),warm\n{rows}")
    return path


def test_plain_rows_are_taken_in_arrays_and_kept_joined_and_parted_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    slow, fast = both(plain(tmp_path, "LOG1.CSV", 0), monkeypatch)
    after, next_fast = both(plain(tmp_path, "LOG2.CSV", 500), monkeypatch)
    assert all(isinstance(each, Logged) for each in (slow, fast, after, next_fast))
    assert isinstance(fast.rows, ColumnRows)  # type: ignore[union-attr]
    assert not isinstance(slow.rows, ColumnRows)  # type: ignore[union-attr]
    same(joined_files([slow, after]), joined_files([fast, next_fast]))  # type: ignore[list-item]
    for (id, one), (other_id, other) in zip(by_speaker(slow, 1), by_speaker(fast, 1), strict=True):  # type: ignore[arg-type]
        assert id == other_id
        same(one, other)
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    kept = []
    for made in (slow, fast):
        preview = lesson.bringing_in._preview(made)  # type: ignore[arg-type]
        format, told = format_of(preview), list(lines_of(preview))
        data = b"".join(
            each.made.lines(each.rows, each.t)[0] if isinstance(each, StampedRows) else each.data for each in told
        )
        kept.append([[float(cell or "nan") for cell in line.split(b";")] for line in data.splitlines()])
        assert [column.name for column in format.columns] == ["line", "time", "kit", "level", "warm"]
        assert sum(int(each.sizes.sum()) for each in told) == len(data)
    np.testing.assert_allclose(kept[0], kept[1], rtol=1e-11, equal_nan=True)
    lesson.close()


@given(
    count=st.integers(30, 400),
    rows=st.integers(7, 90),
    odd=st.lists(st.integers(1, 29), max_size=3),
    seed=st.integers(0, 99),
    mark=st.sampled_from([",", ";", "\t"]),
    end=st.sampled_from(["\n", "\r\n"]),
    tail=st.sampled_from(["", "12.", "1"]),
)
def test_what_is_read_while_a_file_is_kept_is_what_its_bytes_give_again(
    tmp_path_factory: pytest.TempPathFactory, count: int, rows: int, odd: list[int], seed: int, mark: str, end: str, tail: str,
) -> None:  # fmt: skip
    folder, patch, dice = tmp_path_factory.mktemp("again"), pytest.MonkeyPatch(), np.random.default_rng(seed)
    patch.setattr(file_keeping, "CHUNKS_A_ROW", rows)
    patch.setattr(file_lines, "AT_ONCE", 3 * rows)
    patch.setattr(file_lines, "PIECES_AT_ONCE", 3)
    patch.setattr(file_pieces, "PIECE", 20 * rows)
    times = np.cumsum(dice.choice([0.1, 0.1, 0.1, 4.0], count)) + (0.0 if seed % 2 else 1e5 + seed)
    cells = [
        [f"{t:.2f}", f"{load:.3f}", f"{temp:.1f}"]
        for t, load, temp in zip(times, *dice.normal(20, 3, (2, count)), strict=True)
    ]
    for at in odd:
        cells[at][1 + at % 2] = ""
    path = folder / "LOG1.CSV"
    if mark != "," and seed % 3:
        cells = [[each.replace(".", ",") for each in row] for row in cells]
    text = end.join([mark.join(["time (s)", "load (g)", "temp (°C)"]), *map(mark.join, cells), tail])
    path.write_bytes(text.encode())
    sensors = tuple(SensorPlan(each, f"{each}_now", curve="as-it-comes") for each in ("load", "temp"))
    lines = (
        "slow = rate of load_now over 0.5 s",
        "calm = smooth temp_now over 0.3 s",
        "tops = peaks in load_now above 20, 0.3 s apart",
    )
    lesson = OpenLesson.make(folder / "b.benchbook", Plan("Pond", sensors=sensors, workings=lines), "9B", ["Flint"])
    _, long = both(path, patch)
    preview = lesson.bringing_in.recognised(lesson.bringing_in.previews([long])[0])  # type: ignore[list-item]
    at, _, recorded = lesson.bringing_in.bring(preview, lesson.store.groups[0].id)
    assert recorded is not None
    told = list(lines_of(preview))
    standing = [each for each in told if isinstance(each, StampedRows)]
    assert standing, "the file is not kept beside its lines"
    assert odd or all(each.numbers is not None for each in standing), "no number is read twice"
    run = lesson.store.run(at)
    seen = as_recorded(run, recorded, lesson.store.channels)
    read = replay(lesson.book, run, lesson.store.channels)
    assert bits(seen) == bits(read)
    assert set(seen.results) >= {"slow", "calm", "tops"}
    assert len(seen.t) == count
    assert kept_file(lesson.book, run.session) == path.read_bytes()
    assert heard_in(lesson, run) == as_lines(preview, cells)
    assert lesson.book.check() == []
    one = lesson.book.rows("journal", session=run.session)[-1]
    with lesson.book.engine.begin() as connection:
        connection.execute(text_of("UPDATE journal SET bytes = substr(bytes, 2) WHERE id = :id"), {"id": one["id"]})
    assert len(lesson.book.check()) == 1, "a piece that is damaged is told"
    assert kept_file(lesson.book, run.session) == b"", "and does not stand for what was there"
    before, after = as_lines(preview, cells), heard_in(lesson, run)
    assert after == before[: one["first_byte"]] + NO_TEXT * (len(before) - one["first_byte"]), "the others are read"
    remove_run(lesson.book, run.id)
    assert heard_in(lesson, run) == NO_TEXT * len(before)
    assert kept_file(lesson.book, run.session) == b"", "and nothing of the file is left either"
    patch.undo()
    lesson.close()


def test_of_a_file_that_is_stopped_on_its_way_in_nothing_stays_and_it_may_come_in_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(file_pieces, "PIECE", 500)
    monkeypatch.setattr(file_lines, "PIECES_AT_ONCE", 2)
    monkeypatch.setattr(file_keeping, "ROWS_AT_ONCE", 2)
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    path = plain(tmp_path, "LOG1.CSV", 0, 300)
    _, long = both(path, monkeypatch)
    preview = lesson.bringing_in.recognised(lesson.bringing_in.previews([long])[0])  # type: ignore[list-item]
    group, seen = lesson.store.groups[0].id, list[int]()

    class StoppedLater(LongTask):
        def tell(self, share: float) -> None:
            if share > 0.5:
                for _ in range(200):  # until some of it is in the book
                    seen.append(len(lesson.book.rows("journal")))
                    if seen[-1]:
                        break
                    time.sleep(0.01)
                self.stop()
            super().tell(share)

    with pytest.raises(Trouble, match="stopped"):
        lesson.bringing_in.place_for(preview, group).keep(StoppedLater())
    assert seen[-1] > 0
    assert lesson.book.rows("journal") == []
    run, _, recorded = lesson.bringing_in.bring(preview, group)
    assert recorded is not None
    assert kept_file(lesson.book, lesson.store.run(run).session) == path.read_bytes()
    assert lesson.book.check() == []
    lesson.close()


def test_a_long_file_with_a_word_among_its_first_rows_is_kept_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    path = tmp_path / "LOG1.CSV"
    path.write_text("time (s),level (cm)\n" + "".join(f"{at},{'low' if at == 3 else at * 1.5}\n" for at in range(300)))
    _, long = both(path, monkeypatch, beginning=200)
    assert isinstance(long, Logged)
    assert isinstance(long.rows, ColumnRows)
    preview = lesson.bringing_in.recognised(lesson.bringing_in.previews([long])[0])
    run, _, _ = lesson.bringing_in.bring(preview, lesson.store.groups[0].id)
    assert kept_file(lesson.book, lesson.store.run(run).session) == path.read_bytes()
    lesson.close()


def as_lines(preview: Preview, cells: list[list[str]]) -> bytes:
    """Rows as the lines that they stand for."""
    found = []
    for number, at, row in zip(preview.logged.numbers, preview.times.t.tolist(), cells, strict=True):
        whole, parts = divmod(round(float(np.rint(at * 1e6))), 10**6)
        found.append(";".join([str(number), f"{whole}.{parts:06d}", *row[1:]]).replace(",", ".") + "\n")
    return "".join(found).encode()


def heard_in(lesson: OpenLesson, run: Run) -> bytes:
    """All that the journal has of a run as it was brought in."""
    assert run.begin is not None
    assert run.end is not None
    told = heard(lesson.book, run.session, run.begin, run.end)
    return b"".join(chunk.data for what, _, chunks in told if what == HEARD for chunk in chunks)


def bits(run: Replayed) -> list[object]:
    """All numbers of a run, as bytes."""
    found: list[object] = [run.t.tobytes(), run.offset.tobytes(), run.gaps, run.other_lines, run.began]
    found += [(name, each.tobytes()) for name, each in run.raw.items()]
    for name, each in run.results.items():
        arrays = [each.t, each.values] if isinstance(each, Series) else [each.t]
        found.append(
            (name, *(own.tobytes() for own in arrays), {source: part.tobytes() for source, part in each.parts.items()})
        )
    return found


def test_a_long_file_is_read_and_kept_beside_the_window_and_left_while_it_is(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, alone: Callable[[OpenLesson], Desk]
) -> None:
    from common_bench.desk.record import bring_view

    monkeypatch.setattr(bring_view, "LONG", 1000)
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Flint"])
    made = alone(lesson)
    made.press("4")
    stage, store = made.window.stage, made.lesson.store
    path = tmp_path / "pond.csv"
    path.write_text("time (s),level (cm)\n" + "".join(f"{at},{at * 1.5}\n" for at in range(3000)))
    stage.bring_in([path])
    made.see("Reading pond.csv (0 MB)", stage)
    made.press("Escape")
    made.until(lambda: not stage.bringing.isVisible(), "it is left")
    assert store.runs() == []
    stage.bring_in([path])
    made.until(lambda: stage.bringing.preview is not None, "it is read")
    made.see("3000 rows", stage)
    for name, said in (
        ("time", "time"),
        ("depth", "depth"),
    ):  # one that is taken is refused, and the file stays as it was
        stage.bringing.columns.item(1, 0).setText(name)
        made.see("Looking again", stage)
        made.until(lambda: stage.bringing.preview is not None, "it is looked through again")
        made.see(said, made.window)
        names = [each.name for each in stage.bringing.preview.columns]
        assert names == ["time", "level" if name == "time" else "depth"]
        assert stage.bringing.main.isVisible()
    stage.bringing.main.click()
    made.until(lambda: len(store.kept_runs()) == 1, "it is kept, and worked up")
    assert len(lesson.working_up.replayed(store.runs()[0].id).t) == 3000
    assert set(lesson.working_up.replayed(store.runs()[0].id).raw) == {"depth"}
    made.until(lambda: not stage.bringing.isVisible(), "and left")
    made.undo()
    made.until(lambda: store.kept_runs() == [], "taken back")
    missing = tmp_path / "broken.csv"
    missing.write_text("dear diary\n" * 500)
    stage.bring_in([missing])
    made.see("no rows of numbers", made.window)
    made.until(lambda: not stage.bringing.isVisible(), "nothing to bring in")
    assert lesson.book.check() == []
