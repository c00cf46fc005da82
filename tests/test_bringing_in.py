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
from common_bench.book.file_keeping import kept_file
from common_bench.cli.running import main
from common_bench.exchange.file_times import numbers, times_of
from common_bench.exchange.logged import logged_from
from common_bench.lesson.brought_words import Correction, file_words
from common_bench.lesson.lesson import OpenLesson
from common_bench.model.plan import Plan, SensorPlan
from common_bench.model.trouble import FileTrouble, FindingTrouble

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
    "SenML": ('[{"bn":"pond/","bt":1795599600,"n":"load","v":1},{"n":"temp","u":"Cel","v":21.4},{"n":"load","t":20,"v":2},{"n":"temp","u":"Cel","t":20,"v":21.5},{"n":"load","t":40,"v":3}]', ["load", "temp"], [0, 20, 40]),
    "SenML of a kit, its unit told once": ('[{"bn":"urn:dev:ow:10e2073a:","bu":"Cel","bt":1795599600,"n":"in","v":1},{"n":"out","v":21.4},{"n":"in","t":20,"v":2}]', ["in", "out"], [0, 20]),
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
    "last row with too few cells": ("date;time;load;temp;\n1.11.2026;09:05:00;1;21,4;\n1.11.2026;09:05:02;2;21,5;\n1.11.2026;09:05:04;;21,5;\n1.11.2026;09:05:1\n", ["load", "temp"], [0, 2, 4]),
    "rows of several lengths": ("time,load,temp\n0,1,21.4\n1,2\n2,3,21.6\n3,4\n", ["load", "temp"], [0, 1, 2, 3]),
    "names again": ("time,load\n0,1\n1,2\n2,3\ntime,load\n0,4\n1,5\n", ["load"], [0, 1, 2, 12, 13]),
    "clock goes back": ("date,time,load\n24/11/2026,09:40:00,1\n24/11/2026,09:40:20,2\n24/11/2026,09:40:40,3\n24/11/2026,09:00:00,4\n24/11/2026,09:00:20,5\n", ["load"], [0, 20, 40, 240, 260]),
    "coarse stamps": ("time,load\n" + "".join(f"09:40:{s:02d},{s * 4 + k}\n" for s in range(5) for k in range(4)), ["load"], [0.25 * k for k in range(20)]),
    "pipes": ("time|load|temp\n0|1|21.4\n1|2|21.5\n2|3|21.6\n",["load","temp"],[0,1,2]),
    "remarks with slashes": ("// pond logger\n// fw 3\ntime (s),load\n0,1\n1,2\n2,3\n",["load"],[0,1,2]),
    "remarks with per cent": ("% log\ntime (s),load\n0,1\n1,2\n2,3\n",["load"],[0,1,2]),
    "names in a remark": ("# time (s), load, temp\n0,1,21.4\n1,2,21.5\n2,3,21.6\n",["load","temp"],[0,1,2]),
    "settings as key and value": ("serial: 0417\nfirmware: 2.3\ninterval: 20 s\n\nload,temp\n1,21.4\n2,21.5\n3,21.6\n",["load","temp"],[0, 20, 40]),
    "settings rows": ("Device;Pond 3\nInterval;20 s\nStart;24.11.2026 09:40\n\nDate;Time;Level (cm)\n24.11.2026;09:40:00;1,5\n24.11.2026;09:40:20;2,5\n24.11.2026;09:40:40;3,5\n",["Level"],[0, 20, 40]),
    "two digit years": ("date,time,load\n24.11.26,09:40:00,1\n24.11.26,09:40:20,2\n24.11.26,09:40:40,3\n",["load"],[0, 20, 40]),
    "slashes with time": ("when,load\n2026/11/24 09:40:00,1\n2026/11/24 09:40:20,2\n2026/11/24 09:40:40,3\n",["load"],[0, 20, 40]),
    "ISO with Z": ("t,load\n2026-11-24T09:40:00Z,1\n2026-11-24T09:40:20Z,2\n2026-11-24T09:40:40Z,3\n",["load"],[0, 20, 40]),
    "hours and minutes alone": ("time,load\n09:40,1\n09:41,2\n09:42,3\n",["load"],[0,60,120]),
    "micros": ("micros,load\n100000,1\n600000,2\n1100000,3\n",["load"],[0,.5,1]),
    "minutes": ("elapsed (min),load\n0,1\n0.5,2\n1,3\n",["load"],[0,30,60]),
    "hours": ("t (h),load\n0,1\n0.5,2\n1,3\n",["load"],[0,1800,3600]),
    "a row number first": ("no,time (s),load\n1,0,1\n2,0.5,2\n3,1,3\n",["no","load"],[0,.5,1]),
    "exponents": ("time (s),load\n0.0E+00,1.0E+00\n5.0E-01,2.0E+00\n1.0E+00,3.0E+00\n",["load"],[0,.5,1]),
    "plus signs": ("time (s),load\n+0.0,+1.0\n+0.5,+2.0\n+1.0,+3.0\n",["load"],[0,.5,1]),
    "spaces about": ("time (s) ,  load \n 0.0 ,  1.0 \n 0.5 ,  2.0\n 1.0 ,  3.0\n",["load"],[0,.5,1]),
    "blank lines between": ("time (s),load\n\n0,1\n\n1,2\n\n2,3\n\n",["load"],[0,1,2]),
    "off scale words": ("time (s),load\n0,1\n1,OL\n2,3\n",["load"],[0,1,2]),
    "under range": ("time (s),load\n0,1\n1,---\n2,3\n",["load"],[0,1,2]),
    "square brackets": ("time [s],load [N]\n0,1\n1,2\n2,3\n",["load"],[0,1,2]),
    "underscored unit": ("time_s,temp_C\n0,1\n1,2\n2,3\n",["temp_C"],[0,1,2]),
    "units after a slash": ("t/s;U/V\n0;1\n1;2\n2;3\n",["U"],[0,1,2]),
    "quoted with newline": ('"time (s)","load\n(raw)"\n0,1\n1,2\n2,3\n',["load"],[0,1,2]),
    "doubled quotes": ('"time (s)","the ""load"""\n0,1\n1,2\n2,3\n',['the "load"'],[0,1,2]),
    "text column": ("time (s),state,load\n0,ok,1\n1,ok,2\n2,warm,3\n",["state","load"],[0,1,2]),
    "stray column in one row": ("time (s),load\n0,1\n1,2,77\n2,3\n",["load"],[0,1,2]),
    "weekday before": ("when,load\nTue 24 Nov 2026 09:40:00,1\nTue 24 Nov 2026 09:40:20,2\nTue 24 Nov 2026 09:40:40,3\n",["load"],[0, 20, 40]),
    "month by name": ("date,time,load\n24-Nov-2026,09:40:00,1\n24-Nov-2026,09:40:20,2\n24-Nov-2026,09:40:40,3\n",["load"],[0, 20, 40]),
    "both marks": ("time (s);load;more\n0;1;1.234,5\n1;2;2.345,6\n2;3;12.345,5\n", ["load", "more"], [0, 1, 2]),
    "thousands parted": ("time (s);load\n0;1 000\n1;2 000\n2;3 000\n",["load"],[0,1,2]),
    "a total at the end": ("time (s),load\n0,1\n1,2\n2,3\nmean,2\n",["load"],[0,1,2]),
    "sep line": ("sep=;\ntime (s);load\n0;1\n1;2\n2;3\n",["load"],[0,1,2]),
    "compact stamps": ("stamp,load\n20261124T094000,1\n20261124T094020,2\n20261124T094040,3\n",["load"],[0, 20, 40]),
    "compact digits": ("stamp,load\n20261124094000,1\n20261124094020,2\n20261124094040,3\n",["load"],[0, 20, 40]),
    "elapsed clock": ("elapsed,load\n00:00:00,1\n00:00:20,2\n00:00:40,3\n",["load"],[0, 20, 40]),
    "elapsed over a day": ("elapsed,load\n23:59:50,1\n24:00:10,2\n24:00:30,3\n",["load"],[0, 20, 40]),
    "date once":("date,time,load\n24/11/2026,09:40:00,1\n,09:40:20,2\n,09:40:40,3\n",["load"],[0, 20, 40]),
    "form feeds": ("time (s),load\n0,1\n\x0c1,2\n2,3\n",["load"],[0,1,2]),
    "mixed ends": ("time (s),load\r\n0,1\n1,2\r2,3\r\n",["load"],[0,1,2]),
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
    if found.first is not None:
        assert found.first.year in (2026, 2025)
        assert (found.last - found.first).total_seconds() == pytest.approx(times[-1], abs=1e-5)
    values = numbers(logged, logged.names.index(next(name for name in names if name != "state")))
    assert np.isfinite(values[0])
    assert float(values[0]) in (1.0, 1.5, -1.5, 0.0, 1000.0)


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
    run, change, _ = lesson.bringing_in.bring(preview, preview.group)
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


def seconds_file(folder: Path, name: str, begin: int, count: int, head: str = "time (s),load") -> Path:
    rows = "".join(f"{begin + at},{at % 9}\n" for at in range(count))
    return written(folder, f"{head}\n{rows}", name)


def test_files_of_one_series_come_in_as_one_run_whatever_order_they_are_given_in(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    book = tmp_path / "b.benchbook"
    files = [seconds_file(tmp_path, f"LOG{number}.CSV", begin, 50) for number, begin in ((9, 0), (10, 60), (11, 110))]
    other = seconds_file(tmp_path, "LOG12.CSV", 0, 30)  # its clock began anew: no part of the series
    strange = seconds_file(tmp_path, "LOG13.CSV", 200, 30, "time (s),temp")
    given = [str(each) for each in (files[2], other, files[0], strange, files[1])]
    assert main(["import", str(book), *given, "--group", "Flint", "--json"]) == 0
    told = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert {Path(each["file"]).name: each["run"] for each in told} == {"LOG9.CSV": 1, "LOG10.CSV": 1, "LOG11.CSV": 1, "LOG12.CSV": 2, "LOG13.CSV": 3}  # fmt: skip
    assert all(each["rows"] == (50 if each["run"] == 1 else 30) for each in told)
    lesson = OpenLesson.open(book)
    run = lesson.store.runs()[0]
    replayed = lesson.working_up.replayed(run.id)
    assert len(replayed.t) == 150
    assert replayed.gaps == [(49.0, 60.0)], "where one ends and the next begins later, there is a gap"
    assert kept_file(lesson.book, run.session) == b"".join(each.read_bytes() for each in files)
    for each in files:
        assert lesson.bringing_in.look_at(each).again == "brought in before, as Flint run 1"
    more = seconds_file(tmp_path, "LOG14.CSV", 160, 20)
    (longer,) = lesson.bringing_in.look_at_all([*files, more])
    assert longer.again == "a longer version of what is Flint run 1"
    assert file_words(longer) == "LOG9.CSV to LOG14.CSV, joined"
    with pytest.raises(FileTrouble, match="as Flint run 1"):
        lesson.bringing_in.bring(longer, lesson.store.groups[0].id)
    assert lesson.book.check() == []
    lesson.close()


def test_several_kits_in_one_file_become_several_runs_each_of_its_group(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    book = tmp_path / "b.benchbook"
    OpenLesson.make(book, Plan("Pond"), "9B", ["Basalt", "Chalk", "Flint"]).close()
    rows = "".join(f"{at},{('chalk', 'Flint')[at % 2]},{at * 1.5},7\n" for at in range(60))
    path = written(tmp_path, f"time (s),station,level (cm),still\n{rows}", "pond.csv")
    assert main(["import", str(book), str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["rows"] == 60
    assert [(each["kit"], each["group"], each["run"], each["rows"]) for each in told["runs"]] == [("chalk", "Chalk", 1, 30), ("Flint", "Flint", 1, 30)]  # fmt: skip
    assert told["run"] == 1
    lesson = OpenLesson.open(book, readonly=True)
    for run, first in zip(lesson.store.runs(), (0.0, 1.5), strict=True):
        replayed = lesson.working_up.replayed(run.id)
        assert replayed.raw["level"].tolist() == [first + 3.0 * at for at in range(30)]
        assert replayed.gaps == []
    lesson.close()
    assert main(["import", str(book), str(path)]) == 2
    assert "brought in before, as Chalk run 1" in capsys.readouterr().err
    heads = '[{"bn":"urn:dev:Chalk:","n":"temp","u":"Cel","v":20,"t":0},{"bn":"urn:dev:Flint:","n":"temp","u":"Cel","v":10,"t":0}'
    rows = "".join(
        f',{{"bn":"urn:dev:{who}:","n":"temp","u":"Cel","v":{at},"t":{at}}}'
        for at in range(1, 9)
        for who in ("Chalk", "Flint")
    )
    packs, diary = written(tmp_path, f"{heads}{rows}]", "packs.senml"), written(tmp_path, "dear diary\n", "diary.txt")
    assert main(["import", str(book), str(diary), str(packs), "--json"]) == 2, "what can be read comes in all the same"
    out = capsys.readouterr()
    assert "diary.txt: no rows of numbers" in out.err
    told = json.loads(out.out)
    assert [(each["kit"], each["rows"]) for each in told["runs"]] == [("Chalk", 9), ("Flint", 9)]
    assert [(each["name"], each["unit"]) for each in told["columns"] if each["is"] == "channel"] == [("temp", "°C")]
    numbered = written(
        tmp_path, "time (s),node,level\n" + "".join(f"{at},{at % 3 + 1},{at}\n" for at in range(30)), "net.csv"
    )
    assert main(["import", str(book), str(numbered)]) == 2
    assert "net.csv, kit 1" in capsys.readouterr().err
    switch = written(
        tmp_path, "time (s),door,level\n" + "".join(f"{at},{at % 2},{at}\n" for at in range(30)), "door.csv"
    )
    lesson = OpenLesson.open(book)
    (whole,) = lesson.bringing_in.look_at_all([switch])
    assert whole.kit == "", "an on/off column tells no kits apart"
    lesson.close()


@pytest.mark.parametrize("where", ["name", "top", "beside", "kit"])
def test_whose_a_file_is_is_told_by_its_name_its_first_lines_or_settings_beside_it(where: str, tmp_path: Path) -> None:
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Basalt", "Chalk", "Flint"])
    chalk = lesson.store.groups[1].id
    top = "# bench: Chalk\n" if where == "top" else "# serial AX-0417\n" if where == "kit" else ""
    if where == "kit":
        kit = lesson.book.record("kit", identity="AX-0417", name="a kit", link="/dev/ttyX0", format="", asking="")
        row = next(row for row in lesson.book.rows("bench") if row["group"] == chalk)
        lesson.book.amend("bench", row["id"], kit=kit)
        lesson.store.refresh("kit", "bench")
    if where == "beside":
        (tmp_path / "settings.ini").write_text("rate = 1\ngroup = Chalk\n")
    path = written(tmp_path, f"{top}time (s),load\n0,1\n1,2\n2,3\n", "chalk_2.txt" if where == "name" else "log.txt")
    assert lesson.bringing_in.look_at(path).group == chalk
    if where == "name":
        other = written(tmp_path, "time,load\n0,1\n1,2\n", "Chalky.txt")
        assert lesson.bringing_in.look_at(other).group is None, "a name within another word is nobody's"
    lesson.close()


def test_columns_are_corrected_by_hand_and_wrong_corrections_are_refused(tmp_path: Path) -> None:
    lesson = OpenLesson.make(tmp_path / "b.benchbook", Plan("Pond"), "9B", ["Basalt"])
    path = written(tmp_path, "a,b,c,d\n" + "".join(f"{at % 5},{at * 0.5},{at * at},7\n" for at in range(20)))
    (found,) = lesson.bringing_in.look_at_all([path])
    assert [each.role for each in found.columns] == ["channel", "channel", "channel", "ignored"]
    told = {1: Correction("when", "s", "clock"), 0: Correction("speed", "m/s"), 2: Correction("c", "", "ignored"), 3: Correction("flag", "", "channel")}  # fmt: skip
    right = lesson.bringing_in.corrected(found, told)
    assert [(each.name, each.unit, each.role) for each in right.columns] == [("speed", "m/s", "channel"), ("when", "s", "clock"), ("c", "", "ignored"), ("flag", "", "channel")]  # fmt: skip
    assert right.times.t.tolist() == [0.5 * at for at in range(20)]
    for wrong in ({0: Correction("b", "")}, {0: Correction("", "")}, {0: Correction("a", "furlongs per")}, {at: Correction(name, "", "ignored") for at, name in enumerate("abcd")}):  # fmt: skip
        with pytest.raises(FileTrouble):
            lesson.bringing_in.corrected(found, wrong)
    run, *_ = lesson.bringing_in.bring(right, lesson.store.groups[0].id)
    replayed = lesson.working_up.replayed(run)
    assert set(replayed.raw) == {"speed", "flag"}
    assert replayed.t[-1] == pytest.approx(9.5)
    durations = lesson.bringing_in.corrected(lesson.bringing_in.look_at(seconds_file(tmp_path, "s.csv", 0, 9)), {0: Correction("time", "s", "channel")})  # fmt: skip
    assert durations.times.state == "counted", "what somebody calls a channel is no clock"
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


@pytest.mark.parametrize("every", [1, 60, 600])
@pytest.mark.parametrize(("night", "set_at", "by"), [("2026-10-25", "03:00", -1), ("2026-03-29", "02:00", 1), ("2026-11-01", "02:00", -1)])  # fmt: skip
def test_daylight_saving_inside_a_file_changes_no_duration(
    tmp_path: Path, every: int, night: str, set_at: str, by: int
) -> None:
    begin = datetime.fromisoformat(f"{night} {set_at}") - timedelta(seconds=20 * every)
    rows = []
    for at in range(50):
        wall = begin + timedelta(seconds=every * at) + (timedelta(hours=by) if at >= 20 else timedelta())
        rows.append(f"{wall:%Y-%m-%d %H:%M:%S},{at % 7}")
    times = times_of(logged_from(written(tmp_path, "\n".join(["when,load", *rows, ""]))))
    np.testing.assert_allclose(times.t, every * np.arange(50.0))
    assert any("daylight saving" in each for each in times.notes)
    assert times.breaks == ()
    weekday = [row.replace(night, f"{datetime.fromisoformat(night) + timedelta(days=2):%Y-%m-%d}") for row in rows]
    other = times_of(logged_from(written(tmp_path, "\n".join(["when,load", *weekday, ""]), "other.txt")))
    assert not any("daylight saving" in each for each in other.notes), "an hour on another day is no daylight saving"


def test_a_run_without_a_quantity_that_its_finding_rests_on_says_which(tmp_path: Path) -> None:
    sensors = tuple(
        SensorPlan(each, name, curve="as-it-comes") for each, name in (("scale", "mass"), ("hum", "humidity"))
    )
    lines = (
        "drying = mass fitted by dry + water * exp(-time / slow)",
        "start = water of drying / slow of drying",
        "damp = mean of humidity",
        "both = start * damp",
    )
    plan = Plan("Pond", sensors=sensors, workings=lines, findings=("both",))
    lesson = OpenLesson.make(tmp_path / "b.benchbook", plan, "9B", ["Flint"])
    for without, quantity in (("scale", "mass"), ("hum", "humidity")):
        kept = "hum" if without == "scale" else "scale"
        path = written(
            tmp_path,
            f"time (s),{kept}\n" + "".join(f"{at},{20 + 9 * 0.9**at:.3f}\n" for at in range(40)),
            f"{kept}.csv",
        )
        run, *_ = lesson.bringing_in.bring(lesson.bringing_in.look_at(path), lesson.store.groups[0].id)
        with pytest.raises(
            FindingTrouble, match=f"of “{quantity}” there is nothing in this run: no column is called “{without}”"
        ):
            lesson.working_up.worked_up(run, (0.0, 39.0))
    lesson.close()
