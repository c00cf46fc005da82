"""Files that kits logged on their own come in as runs: of many habits, with every kind of clock, noticed where they come again."""

from __future__ import annotations

import csv
import io
import json
import os
import zipfile
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table, TableCell, TableRow
from odf.text import P
from openpyxl import Workbook

from common_bench.book.book import Book
from common_bench.book.journal import kept_file
from common_bench.cli.running import main
from common_bench.exchange.file_times import numbers, times_of
from common_bench.exchange.logged import logged_from
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.trouble import FileTrouble

SET = datetime(2026, 11, 24, 9, 40, 0)


def written(folder: Path, text: str | bytes, name: str = "log.txt") -> Path:
    path = folder / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


def xlsx(*rows: list[object], before: list[list[object]] | None = None) -> bytes:
    """A workbook with an empty sheet before the one that counts."""
    book = Workbook()
    book.active.append(["notes of the teacher"])
    sheet = book.create_sheet("log")
    for row in [*(before or []), *rows]:
        sheet.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def ods(*rows: list[object]) -> bytes:
    document, table = OpenDocumentSpreadsheet(), Table(name="log")
    document.spreadsheet.addElement(table)
    for row in rows:
        line = TableRow()
        table.addElement(line)
        for value in row:
            if isinstance(value, datetime):
                cell = TableCell(valuetype="date", datevalue=value.isoformat())
            elif isinstance(value, (int, float)):
                cell = TableCell(valuetype="float", value=value)
            else:
                cell = TableCell(valuetype="string")
            cell.addElement(P(text=str(value)))
            line.addElement(cell)
    out = io.BytesIO()
    document.write(out)
    return out.getvalue()


def packed(name: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as file:
        file.writestr(name, "dear diary")
    return out.getvalue()


AFTER = [SET + timedelta(seconds=20 * k) for k in range(3)]

HABITS = {
    "spreadsheet": (xlsx(["time (s)", "load", "temp (°C)"], [0, 1, 21.4], [0.5, 2, 21.5], [1.0, 3, None]), ["load", "temp"], [0, 0.5, 1.0]),
    "spreadsheet with dates": (xlsx(["when", "load"], *([at, k] for k, at in enumerate(AFTER)), before=[["Pond, north side"], []]), ["load"], [0, 20, 40]),
    "open spreadsheet": (ods(["time (s)", "load"], [0, 1], [0.5, 2], [1.0, 3]), ["load"], [0, 0.5, 1.0]),
    "open spreadsheet with dates": (ods(["when", "load"], *([at, k] for k, at in enumerate(AFTER))), ["load"], [0, 20, 40]),
    "SenML": ('[{"bn":"pond/","bt":1795599600,"n":"load","v":1},{"n":"temp","u":"Cel","v":21.4},{"n":"load","t":20,"v":2},{"n":"temp","u":"Cel","t":20,"v":21.5},{"n":"load","t":40,"v":3}]', ["pond/load", "pond/temp"], [0, 20, 40]),
    "SenML, a record a line": ('{"bn":"pond ","n":"load","t":1,"v":1}\n{"n":"load","t":1.5,"v":2}\n{"n":"load","t":2,"v":3}\n', ["pond load"], [0, 0.5, 1.0]),
    "a run that went out": ("time (s),raw load,tension (N),u_tension (N),tension is a guess\n0,1,2.1,0.01,\n0.5,101,2.2,0.01,yes\n1,102,2.3,0.01,\n", ["load", "tension", "u_tension", "tension is a guess"], [0, 0.5, 1.0]),
    "a tape": ("# common bench tape: seconds, tab, line\n0.000000\tload,temp\n0.500000\t1,21.4\n1.000000\t2,21.5\n1.500000\t3,21.6\n", ["load", "temp"], [0, 0.5, 1.0]),
    "a tape of one column": ("# common bench tape: seconds, tab, line\n0.500000\t1\n1.000000\t2\n1.500000\t3\n", ["column 1"], [0, 0.5, 1.0]),
    "comma": ("t (s),load,temp\n0.0,1,21.4\n0.5,2,21.5\n1.0,3,21.6\n", ["load", "temp"], [0, 0.5, 1.0]),
    "decimal comma": ("t;load;temp\n0,0;1;21,4\n0,5;2;21,5\n1,0;3;21,6\n", ["load", "temp"], [0, 0.5, 1.0]),
    "tabs and ms": ("ms\tload\n100\t1\n600\t2\n1100\t3\n", ["load"], [0, 0.5, 1.0]),
    "millis by name": ("millis,load\n100,1\n600,2\n1100,3\n", ["load"], [0, 0.5, 1.0]),
    "units below": ("time,load,temp\n(s),(N),(°C)\n0,1,21.4\n1,2,21.5\n2,3,21.6\n", ["load", "temp"], [0, 1, 2]),
    "remarks on top": ("# kit 3\n# gain 128\ntime (s),load\n0,1\n1,2\n2,3\n", ["load"], [0, 1, 2]),
    "spaces": ("time load temp\n0 1 21.4\n1 2 21.5\n2 3 21.6\n", ["load", "temp"], [0, 1, 2]),
    "trailing separator": ("time,load,\n0,1,\n1,2,\n2,3,\n", ["load"], [0, 1, 2]),
    "quoted": ('"time (s)","load, raw"\n"0","1"\n"1","2"\n"2","3"\n', ["load, raw"], [0, 1, 2]),
    "quoted decimal comma": ('"time";"load"\n"0,0";"1,5"\n"1,0";"2,5"\n"2,0";"3,5"\n', ["load"], [0, 1, 2]),
    "no header": ("0.0,1,21.4\n0.5,2,21.5\n1.0,3,21.6\n", ["column 1", "column 2", "column 3"], [0, 1, 2]),
    "ISO": ("time,load\n2026-11-24T09:40:00,1\n2026-11-24T09:40:20,2\n2026-11-24T09:40:40,3\n", ["load"], [0, 20, 40]),
    "ISO with zone": ("time,load\n2026-11-24T09:40:00+01:00,1\n2026-11-24T09:40:20+01:00,2\n2026-11-24T09:40:40+01:00,3\n", ["load"], [0, 20, 40]),
    "day first": ("date,time,load\n24/11/2026,09:40:00,1\n24/11/2026,09:40:20,2\n24/11/2026,09:40:40,3\n", ["load"], [0, 20, 40]),
    "month first": ("date,time,load\n11/24/2026,09:40:00,1\n11/24/2026,09:40:20,2\n11/24/2026,09:40:40,3\n", ["load"], [0, 20, 40]),
    "points in dates": ("Datum;Zeit;load\n24.11.2026;09:40:00;1,5\n24.11.2026;09:40:20;2,5\n24.11.2026;09:40:40;3,5\n", ["load"], [0, 20, 40]),
    "twelve hours": ("time,load\n11/24/2026 11:59:40 AM,1\n11/24/2026 12:00:00 PM,2\n11/24/2026 12:00:20 PM,3\n", ["load"], [0, 20, 40]),
    "thousandths": ("time,load\n2026-11-24 09:40:00.250,1\n2026-11-24 09:40:00.500,2\n2026-11-24 09:40:00.750,3\n", ["load"], [0, 0.25, 0.5]),
    "time of day over midnight": ("time,load\n23:59:40,1\n00:00:00,2\n00:00:20,3\n", ["load"], [0, 20, 40]),
    "seconds since 1970": ("timestamp,load\n1795599600,1\n1795599620,2\n1795599640,3\n", ["load"], [0, 20, 40]),
    "milliseconds since 1970": ("timestamp,load\n1795599600000,1\n1795599620000,2\n1795599640000,3\n", ["load"], [0, 20, 40]),
    "interval in a remark": ("# interval: 20 s\nload,temp\n1,21.4\n2,21.5\n3,21.6\n", ["load", "temp"], [0, 20, 40]),
    "two of one name": ("time,temp,temp\n0,1,21.4\n1,2,21.5\n2,3,21.6\n", ["temp", "temp 2"], [0, 1, 2]),
    "carriage returns": ("time,load\r0,1\r1,2\r2,3\r", ["load"], [0, 1, 2]),
    "byte order mark": (b"\xef\xbb\xbftime,load\r\n0,1\r\n1,2\r\n2,3\r\n", ["load"], [0, 1, 2]),
    "UTF-16": ("time\tload\r\n0\t1\r\n1\t2\r\n2\t3\r\n".encode("utf-16"), ["load"], [0, 1, 2]),
    "UTF-16 without a mark": ("time\tload\r\n0\t1\r\n1\t2\r\n2\t3\r\n".encode("utf-16-le"), ["load"], [0, 1, 2]),
    "Latin-1": ("time,temp (°C)\n0,1\n1,2\n2,3\n".encode("latin-1"), ["temp"], [0, 1, 2]),
    "a minus of its own": ("time,load\n0,−1.5\n1,−2.5\n2,−3.5\n", ["load"], [0, 1, 2]),
    "no value": ("time,load\n0,1\n1,nan\n2,\n3,4\n", ["load"], [0, 1, 2, 3]),
    "lines of nothing": (b"time,load\n0,1\n" + b"\x00" * 64 + b"\n1,2\n2,3\n", ["load"], [0, 1, 2]),
    "last line cut off": ("time,load,temp\n0,1,21.4\n1,2,21.5\n2,3,21.6\n3,", ["load", "temp"], [0, 1, 2]),
    "names again": ("time,load\n0,1\n1,2\n2,3\ntime,load\n0,4\n1,5\n", ["load"], [0, 1, 2, 12, 13]),
    "clock goes back": ("date,time,load\n24/11/2026,09:40:00,1\n24/11/2026,09:40:20,2\n24/11/2026,09:40:40,3\n24/11/2026,09:00:00,4\n24/11/2026,09:00:20,5\n", ["load"], [0, 20, 40, 240, 260]),
    "coarse stamps": ("time,load\n" + "".join(f"09:40:{s:02d},{s * 4 + k}\n" for s in range(5) for k in range(4)), ["load"], [0.25 * k for k in range(20)]),
    "words between": ("time,load\n0,1\nbattery low now\n1,2\n2,3\n", ["load"], [0, 1, 2]),
}  # fmt: skip


@pytest.mark.parametrize("habit", HABITS)
def test_a_file_of_each_habit_comes_in_with_its_columns_and_times(habit: str, tmp_path: Path) -> None:
    text, names, times = HABITS[habit]
    logged = logged_from(written(tmp_path, text))
    found = times_of(logged)
    channels = [name for at, name in enumerate(logged.names) if at not in found.columns]
    assert channels == names
    assert found.t.tolist() == pytest.approx(times, abs=1e-6)
    first = numbers(logged, logged.names.index(names[0]))
    assert np.isfinite(first[0])
    assert float(first[0]) in (1.0, 1.5, -1.5, 0.0)


def test_every_record_of_a_long_sensor_measurement_file_comes_in(tmp_path: Path) -> None:
    records = [{"n": "load", "t": 0.5 * k, "v": float(k)} for k in range(5000)]
    logged = logged_from(written(tmp_path, json.dumps(records)))
    assert numbers(logged, logged.names.index("load")).tolist() == [float(k) for k in range(5000)]


@pytest.mark.parametrize(("text", "code"), [(b"", "logged-empty"), (b"\x00" * 900, "logged-empty"), (b"dear diary\nnothing today\n", "logged-without-rows"), (bytes(range(128, 256)) * 9, "logged-without-rows"), (xlsx([1, 2])[:900], "sheet-broken"), (packed("diary.txt"), "packed-no-sheet"), (xlsx(["dear", "diary"]), "logged-without-rows"), (b'{"dear": "diary"}', "logged-without-rows")])  # fmt: skip
def test_what_holds_no_rows_is_told_in_words(text: bytes, code: str, tmp_path: Path) -> None:
    with pytest.raises(FileTrouble) as told:
        logged_from(written(tmp_path, text))
    assert told.value.code == code
    assert told.value.do


@given(st.integers(0, 10**6))
def test_tables_of_random_habits_are_read_back(seed: int) -> None:
    dice = np.random.default_rng(seed)
    mark = str(dice.choice([",", ";", "\t", "|"]))
    comma = mark != "," and bool(dice.random() < 0.5)
    rows, wide = int(dice.integers(5, 60)), int(dice.integers(1, 5))
    step = float(dice.choice([0.02, 0.1, 0.5, 1.0, 20.0, 300.0]))
    kind = str(dice.choice(["s", "ms", "iso", "dmy", "mdy", "two columns"] if step >= 1 else ["s", "ms", "iso"]))
    t = np.arange(rows) * step
    values = np.round(dice.normal(0, 100, (rows, wide)), int(dice.integers(0, 4)))
    missing = dice.random((rows, wide)) < 0.05

    def moment(at: float) -> list[str]:
        when = datetime(2026, 11, 24, 9, 40) + timedelta(seconds=at)
        if kind == "s":
            return [f"{at:.3f}".replace(".", "," if comma else ".")]
        if kind == "ms":
            return [f"{at * 1000 + 5000:.0f}"]
        if kind == "iso":
            return [when.isoformat(sep=str(dice.choice(["T"])), timespec="milliseconds")]
        day = f"{when:%d/%m/%Y}" if kind in ("dmy", "two columns") else f"{when:%m/%d/%Y}"
        return [day, f"{when:%H:%M:%S}"] if kind == "two columns" else [f"{day} {when:%H:%M:%S}"]

    heads = {"s": ["time (s)"], "ms": ["time (ms)"], "two columns": ["date", "time"]}.get(kind, ["time"])
    names = [f"q{at}" for at in range(wide)]
    out = io.StringIO()
    writer = csv.writer(out, delimiter=mark, lineterminator=str(dice.choice(["\n", "\r\n"])))
    for _ in range(int(dice.integers(0, 3))):
        out.write("# a remark\n")
    writer.writerow([*heads, *names])
    for row in range(rows):
        cells = [
            "" if missing[row, at] else f"{values[row, at]:g}".replace(".", "," if comma else ".") for at in range(wide)
        ]
        writer.writerow([*moment(float(t[row])), *cells])
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        logged = logged_from(written(Path(folder), out.getvalue()))
    found = times_of(logged)
    assert [name for at, name in enumerate(logged.names) if at not in found.columns] == names
    assert found.t == pytest.approx(t, abs=2e-3)
    for at, name in enumerate(names):
        read = numbers(logged, logged.names.index(name))
        wanted = np.where(missing[:, at], np.nan, [float(f"{each:g}") for each in values[:, at]])
        assert read == pytest.approx(wanted, nan_ok=True), (name, kind, mark)


def test_a_file_becomes_a_run_that_is_calibrated_worked_up_followed_back_and_noticed_again(tmp_path: Path) -> None:
    sensor = SensorPlan(
        "scale", "mass", "g", curve="formula", formula="mass = 0.001 * reading", u=0.01, also=("scale_*",)
    )
    plan = Plan("Drying", sensors=(sensor,), workings=("lost = first of mass - last of mass",), findings=("lost",))
    lesson = OpenLesson.make(tmp_path / "b.benchbook", plan, "9B", ["Basalt", "Chalk"])
    lines = [f"01/01/2010,00:{at // 3:02d}:{20 * (at % 3):02d},{50_000 - 10 * at},21.{at % 7}" for at in range(90)]
    lines[40:60] = []
    text = "date,time,scale_raw,temp\n" + "\n".join(lines) + "\n"
    path = written(tmp_path, text, "Chalk 7.txt")
    os.utime(path, (SET.timestamp(), SET.timestamp()))
    preview = lesson.bringing_in.look_at(path)
    assert preview.group == lesson.store.groups[1].id, "by its name"
    assert preview.times.state == "never set"
    assert list(preview.gaps) == [(39 * 20.0, 60 * 20.0)]
    assert not lesson.store.runs(), "nothing is kept before somebody says so"
    run, change = lesson.bringing_in.bring(preview, preview.group)
    lesson.working_up.ended(run, None)
    while lesson.working_up.is_busy:
        lesson.tick()
    kept = lesson.store.run(run)
    assert datetime.fromisoformat(kept.began_at) == SET - timedelta(seconds=89 * 20), (
        "it ended when the file was last written"
    )
    assert lesson.store.run(run).trouble is None, lesson.store.run(run).trouble
    (finding,) = lesson.store.findings(run)
    assert finding.measured.value == pytest.approx(0.89, abs=0.02)
    replayed = lesson.working_up.replayed(run)
    assert replayed.t[-1] == pytest.approx(89 * 20.0, abs=0.01)
    assert len(replayed.gaps) == 1
    assert kept_file(lesson.book, kept.session) == text.encode(), "all its bytes"
    with pytest.raises(FileTrouble, match="as Chalk run 1"):
        lesson.bringing_in.bring(lesson.bringing_in.look_at(path), preview.group)
    longer = lesson.bringing_in.look_at(written(tmp_path, text + "01/01/2010,01:00:00,49000,21.1\n", "more.txt"))
    assert longer.again == "a longer version of what is Chalk run 1"
    assert longer.group is None
    lesson.changes.undo(change)
    assert not lesson.store.kept_runs(), "it stays, and does not count"
    assert lesson.bringing_in.look_at(path).again == ""
    lesson.changes.redo(change)
    assert [each.number for each in lesson.store.kept_runs()] == [1]
    assert lesson.book.check() == []
    lesson.close()


def test_import_tells_each_file_as_json_and_refuses_in_words(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    book = tmp_path / "new.benchbook"
    one = written(tmp_path, "time (s),load\n" + "".join(f"{at / 10},{at % 9}\n" for at in range(200)), "one.csv")
    assert main(["import", str(book), str(one), "--group", "Flint", "--began", "2026-11-24T09:40", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["rows"] == 200
    assert told["run"] == 1
    assert told["columns"] == [{"name": "time", "unit": "s", "is": "clock", "rate": 10.0}, {"name": "load", "unit": "", "is": "channel", "rate": 10.0}]  # fmt: skip
    assert (told["gaps"], told["left_out"]) == ([], [{"what": "words on top", "lines": 1}])
    assert main(["import", str(book), str(one)]) == 2
    assert "brought in before, as Flint run 1" in capsys.readouterr().err
    assert main(["import", str(book), str(one), "--group", "Nobody"]) == 2
    assert "There are: Flint" in capsys.readouterr().err
    assert main(["import", str(book), str(tmp_path / "none.csv")]) == 2
    assert main(["import", str(book), str(written(tmp_path, b"", "empty.txt"))]) == 2
    assert "there is nothing in this file" in capsys.readouterr().err
    assert main(["show", str(book), "--json"]) == 0
    shown = json.loads(capsys.readouterr().out)
    assert shown["groups"][0]["runs"][0]["began_at"] == "2026-11-24T09:40:00"
    kept = Book.open(book, readonly=True)
    assert kept.check() == []
    kept.close()
