"""Long logged files are cut in arrays: whatever their habits, to the same as line by line."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from common_bench.book import file_keeping
from common_bench.exchange import logged, long_files
from common_bench.exchange.column_rows import ColumnRows
from common_bench.exchange.file_times import numbers, times_of
from common_bench.exchange.logged import Logged, logged_from
from common_bench.exchange.series_of_files import by_speaker, joined_files, speakers_at
from common_bench.lesson import file_lines
from common_bench.lesson.file_lines import format_of, lines_of
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.block import Series
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.trouble import FileTrouble
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
        data = b"".join(each.data for each in told)
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
)
def test_what_is_read_while_a_file_is_kept_is_what_its_bytes_give_again(
    tmp_path_factory: pytest.TempPathFactory, count: int, rows: int, odd: list[int], seed: int
) -> None:
    folder, patch, dice = tmp_path_factory.mktemp("again"), pytest.MonkeyPatch(), np.random.default_rng(seed)
    patch.setattr(file_keeping, "CHUNKS_A_ROW", rows)
    patch.setattr(file_lines, "AT_ONCE", 3 * rows)
    times = np.cumsum(dice.choice([0.1, 0.1, 0.1, 4.0], count))
    cells = [
        [f"{t:.2f}", f"{load:.3f}", f"{temp:.1f}"]
        for t, load, temp in zip(times, *dice.normal(20, 3, (2, count)), strict=True)
    ]
    for at in odd:
        cells[at][1 + at % 2] = ""
    path = folder / "LOG1.CSV"
    path.write_text("time (s),load (g),temp (°C)\n" + "".join(",".join(row) + "\n" for row in cells))
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
    assert odd or all(each.numbers is not None for each in lines_of(preview)), "no number is read twice"
    run = lesson.store.run(at)
    seen = as_recorded(run, recorded, lesson.store.channels)
    read = replay(lesson.book, run, lesson.store.channels)
    assert bits(seen) == bits(read)
    assert set(seen.results) >= {"slow", "calm", "tops"}
    assert len(seen.t) == count
    patch.undo()
    lesson.close()


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
